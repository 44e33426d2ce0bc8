package stores

import (
	"fmt"
	"math/rand/v2"

	"patientheron/core/logstore"
	"patientheron/core/measure"
	"patientheron/core/workload"
)

// storing is the work of one worker of a load of stores: every so many of them.
type storing struct {
	stores  []*logstore.Store
	bases   []int64
	numbers []int   // of the stores among all
	ready   []int32 // stores that have something to issue, in turn
	waits   []bool  // of each store, that it is among them
	content *workload.Content
	wholes  []workload.Whole
}

func newStoring(spec workload.Spec, worker int) (*storing, error) {
	f := Of(spec)
	room := f.room(spec.Span)
	w := &storing{content: workload.NewContent(spec, worker)}
	for n := worker; n < f.Count; n += spec.Workers {
		shape := f.shape(room)
		random := rand.NewPCG(spec.Seed, workload.Golden*uint64(n+1))
		shape.Ask, shape.Key = f.asking(random), f.picking(random, shape.Keys)
		store, err := logstore.New(shape, f.Value.Fixed == 0, workload.Mixed(spec.Seed^uint64(n)*workload.Golden))
		if err != nil {
			return nil, workload.Invalid("span", "%v", err)
		}
		w.stores, w.bases, w.numbers = append(w.stores, store), append(w.bases, int64(spec.Offset)+int64(n)*room), append(w.numbers, n)
		w.waits = append(w.waits, false)
		w.queue(len(w.stores) - 1)
	}
	return w, nil
}

// asking draws requests by their weights.
func (s Stores) asking(random *rand.PCG) func() logstore.Request {
	below, kinds, sum, running := []uint64{}, []logstore.Request{}, 0.0, 0.0
	for _, r := range s.Requests {
		sum += r.Weight
	}
	for _, r := range s.Requests {
		running += r.Weight / sum
		below = append(below, workload.Threshold(running))
		kinds = append(kinds, map[Request]logstore.Request{PutRequest: logstore.Put, GetRequest: logstore.Get, ScanRequest: logstore.Scan}[r.Request])
	}
	if len(kinds) == 1 {
		return func() logstore.Request { return kinds[0] }
	}
	return func() logstore.Request {
		draw := random.Uint64()
		for i := range kinds[:len(kinds)-1] {
			if draw < below[i] {
				return kinds[i]
			}
		}
		return kinds[len(kinds)-1]
	}
}

// picking draws keys: all alike, or by a Zipf law that scatters those that are asked for
// most.
func (s Stores) picking(random *rand.PCG, keys int64) func() uint32 {
	if s.Skew > 0 {
		z := workload.NewZipf(s.Skew, uint64(keys))
		return func() uint32 { return uint32(z.Scatter(z.Rank(random))) }
	}
	even := rand.New(random)
	return func() uint32 { return uint32(even.Int64N(keys)) }
}

// queue lets a store wait for its turn, if it has something to issue.
func (w *storing) queue(store int) {
	if !w.waits[store] && w.stores[store].Ready() {
		w.waits[store] = true
		w.ready = append(w.ready, int32(store))
	}
}

// Due is zero when a store has something to issue, and Never otherwise.
func (w *storing) Due() int64 {
	if len(w.ready) > 0 {
		return 0
	}
	return workload.Never
}

// Next gives the next operation of the store whose turn it is.
func (w *storing) Next(a *workload.Access) int64 {
	store := int(w.ready[0])
	w.ready = w.ready[:copy(w.ready, w.ready[1:])]
	w.waits[store] = false
	o := w.stores[store].Next()
	w.queue(store)
	*a = workload.Access{Object: store, Handle: o.Tag, Offset: w.bases[store] + o.Offset, Length: o.Length}
	switch o.Kind {
	case logstore.Read:
		a.Class = measure.Read
	case logstore.Write:
		a.Class = measure.Write
	case logstore.Sync:
		a.Class, a.Offset = measure.Flush, 0
	case logstore.Reset:
		a.Class = measure.Trim
	}
	return w.Due()
}

func (w *storing) Fill(buffer []byte) { w.content.Fill(buffer) }

// Completed tells the store, and gives the requests that ended with it.
func (w *storing) Completed(a *workload.Access, now int64, _ error) *workload.Whole {
	ended := w.stores[a.Object].Completed(a.Handle, now)
	w.queue(a.Object)
	if len(ended) == 0 {
		return nil
	}
	w.wholes = w.wholes[:0]
	for _, e := range ended {
		w.wholes = append(w.wholes, workload.Whole{Group: int(e.Request), Bytes: e.Bytes, Began: e.Began, Piece: true})
	}
	for i := range w.wholes[1:] {
		w.wholes[i].More = &w.wholes[i+1]
	}
	return &w.wholes[0]
}

// Words says what an operation is about.
func (w *storing) Words(a workload.Access) string {
	if a.Class == measure.Flush {
		return fmt.Sprintf("flush of store %d", w.numbers[a.Object]+1)
	}
	return fmt.Sprintf("%s of %d bytes at offset %d of store %d", a.Class.Verb(), a.Length, a.Offset-w.bases[a.Object], w.numbers[a.Object]+1)
}

func (w *storing) Over() bool { return false }

func (w *storing) Without(workload.Access, error) bool { return false }
