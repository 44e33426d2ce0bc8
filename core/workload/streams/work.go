package streams

import (
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/workload"
)

// feeding is the work of one worker of a load of feeds: every so many of them, those that
// are due first in front.
type feeding struct {
	spec    workload.Spec
	every   int64 // nanoseconds between two units
	pieces  int64 // of a unit
	unit    int64 // bytes
	piece   int64
	buffer  int64 // nanoseconds
	feeds   []feed
	queue   []int32 // heap of feeds by when their next piece is due
	flying  []flyingPiece
	free    []int32
	content *workload.Content
	many    bool // groups are by what feeds do
	done    workload.Whole
}

// feed is one stream.
type feed struct {
	number int
	write  bool
	start  int64 // of its region
	length int64 // of it, in whole units
	offset int64 // in the region
	within int64 // pieces of the unit under way that were asked for
	due    int64

	// It stands still from when a piece is needed that is not there until that comes.
	stallStart, stallEnd int64
}

type flyingPiece struct {
	feed int32
	due  int64
}

func newFeeding(spec workload.Spec, worker int) (*feeding, error) {
	f := Of(spec)
	unit, every := f.unit()
	w := &feeding{
		spec: spec, every: f.everyNanoseconds(), pieces: f.pieces(), unit: int64(unit), piece: int64(f.Piece),
		buffer: int64(f.Buffer.Duration()), flying: make([]flyingPiece, spec.Depth), many: f.Count > workload.MostGroups,
	}
	if every*1e9 < 1 {
		return nil, workload.Invalid("feedRate", "%s comes to more than a piece every nanosecond; use larger pieces", f.EachRate())
	}
	for i := range w.flying {
		w.free = append(w.free, int32(i))
	}
	reading := f.reading(spec.Reads)
	region := workload.AlignDown(int64(spec.Span)/int64(f.Count), workload.Unit)
	for n := worker; n < f.Count; n += spec.Workers {
		one := feed{number: n, write: n >= reading, start: int64(spec.Offset) + int64(n)*region, length: region}
		one.due = f.begins(int64(n))
		w.feeds = append(w.feeds, one)
		w.queue = append(w.queue, int32(len(w.feeds)-1))
	}
	for i := len(w.queue)/2 - 1; i >= 0; i-- {
		w.sink(i)
	}
	if spec.Writes() {
		w.content = workload.NewContent(spec, worker)
	}
	return w, nil
}

func (w *feeding) before(a, b int32) bool {
	x, y := &w.feeds[a], &w.feeds[b]
	return x.due < y.due || x.due == y.due && x.number < y.number
}

// sink moves the feed at a place of the heap down to where it belongs.
func (w *feeding) sink(i int) {
	for {
		child := 2*i + 1
		if child+1 < len(w.queue) && w.before(w.queue[child+1], w.queue[child]) {
			child++
		}
		if child >= len(w.queue) || !w.before(w.queue[child], w.queue[i]) {
			return
		}
		w.queue[i], w.queue[child] = w.queue[child], w.queue[i]
		i = child
	}
}

// Due is when the next piece of any feed is asked for.
func (w *feeding) Due() int64 { return w.feeds[w.queue[0]].due }

// Next gives that piece.
func (w *feeding) Next(a *workload.Access) int64 {
	f := &w.feeds[w.queue[0]]
	slot := w.free[len(w.free)-1]
	w.free = w.free[:len(w.free)-1]
	w.flying[slot] = flyingPiece{w.queue[0], f.due}
	*a = workload.Access{Class: measure.Read, Handle: slot, Offset: f.start + f.offset, Length: int(w.piece)}
	if f.write {
		a.Class = measure.Write
	}
	if left := w.unit - f.within*w.piece; left < w.piece { // the last of a unit
		a.Length = int(workload.AlignUp(left, workload.Unit))
	}
	if f.within++; f.within == w.pieces {
		f.within = 0
		f.due += w.every
	}
	if f.offset += int64(a.Length); f.offset+w.piece > f.length {
		f.offset = 0
	}
	w.sink(0)
	return w.Due()
}

// Fill makes the bytes of a piece.
func (w *feeding) Fill(buffer []byte) { w.content.Fill(buffer) }

// Completed tells whether a piece came in time, and how long its feed has been standing.
func (w *feeding) Completed(a *workload.Access, now int64, err error) *workload.Whole {
	piece := w.flying[a.Handle]
	w.free = append(w.free, a.Handle)
	f := &w.feeds[piece.feed]
	w.done = workload.Whole{Group: f.number, Bytes: int64(a.Length), Began: piece.due, Piece: true}
	if w.many {
		w.done.Group = 0
		if f.write && Of(w.spec).reading(w.spec.Reads) > 0 {
			w.done.Group = 1
		}
	}
	if deadline := piece.due + w.buffer; now > deadline {
		if deadline > f.stallEnd { // another stall than the one before
			f.stallStart = deadline
		}
		f.stallStart, f.stallEnd = min(f.stallStart, deadline), max(f.stallEnd, now)
		w.done.Late, w.done.Stall = now-deadline, f.stallEnd-f.stallStart
	}
	if err != nil {
		return nil
	}
	return &w.done
}

// Words says what an operation is about.
func (w *feeding) Words(a workload.Access) string {
	return fmt.Sprintf("%s of %d bytes at offset %d of feed %d", a.Class.Verb(), a.Length, a.Offset, w.feeds[w.flying[a.Handle].feed].number+1)
}

func (w *feeding) Over() bool { return false }

func (w *feeding) Without(workload.Access, error) bool { return false }
