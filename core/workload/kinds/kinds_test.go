package kinds_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"testing"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds"
	"patientheron/format/arrayfile"
	"patientheron/format/planfile"
	"patientheron/storage/simulated"
)

// lookups is a kind of load that nothing but this file knows: an index block is read, and then the
// block that it points at. A further kind of load is a folder with what stands here, and a line in
// package kinds.
type lookups struct {
	Index quantity.Bytes `json:"indexBytes"`
}

const lookupsKind workload.Kind = "lookups"

func init() {
	change := func(s *workload.Spec, how func(*lookups)) {
		l := lookups{}
		if of := ofLookups(*s); of != nil {
			l = *of
		}
		how(&l)
		s.SetBody(&l)
	}
	workload.Register(lookupsKind, workload.Registration{
		New: func() workload.Body { return &lookups{} }, Words: "The body of a load of lookups", Heading: "Lookups", Takes: []string{"span", "offset"},
		Fields: []workload.Field{workload.OwnField("lookups", "lookups", "size of the index that each lookup reads a block of", quantity.ParseBytes, func(l *lookups) *quantity.Bytes { return &l.Index }, change, ofLookups)},
	})
	figure.Register(lookupsKind, []figure.Figure{{Key: "lookups", Label: "lookups", Unit: "per second", Value: func(s *measure.Summary) float64 { return float64(s.Groups[0].Rate) }}}, nil, nil)
}

func ofLookups(s workload.Spec) *lookups {
	l, _ := s.Body.(*lookups)
	return l
}

func (*lookups) Kind() workload.Kind { return lookupsKind }
func (*lookups) Complete(s *workload.Spec) {
	s.Blocks, s.Reads, s.Order = workload.Block(4096), 1, workload.Random
}
func (*lookups) Classes(workload.Spec) []measure.Class { return []measure.Class{measure.Read} }
func (*lookups) Groups(workload.Spec) []string         { return []string{"lookups"} }
func (l *lookups) Describe(workload.Spec) string {
	return fmt.Sprintf("lookups in an index of %s", l.Index)
}
func (*lookups) Traits(workload.Spec) workload.Traits {
	return workload.Traits{Main: "lookups", Done: "lookups"}
}
func (l *lookups) Validate(s workload.Spec) error {
	if l.Index < 4096 || l.Index >= s.Span {
		return workload.Invalid("lookups", "%s; at least 4 KiB, and less than the span", l.Index)
	}
	return nil
}

func (l *lookups) Source(s workload.Spec, worker int) (workload.Source, error) {
	w := &lookingUp{random: rand.New(rand.NewPCG(s.Seed, uint64(worker))), index: int64(l.Index), span: int64(s.Span), began: make([]int64, s.Depth)}
	for slot := range s.Depth {
		w.ready = append(w.ready, int32(slot))
	}
	w.pointed = make([]bool, s.Depth)
	return w, nil
}

// lookingUp is the work of one worker.
type lookingUp struct {
	random      *rand.Rand
	index, span int64
	ready       []int32
	pointed     []bool // the index was read
	began       []int64
	whole       workload.Whole
}

func (w *lookingUp) Due() int64 {
	if len(w.ready) > 0 {
		return 0
	}
	return workload.Never
}

func (w *lookingUp) Next(a *workload.Access) int64 {
	slot := w.ready[0]
	w.ready = w.ready[1:]
	from, to := int64(0), w.index
	if w.pointed[slot] {
		from, to = w.index, w.span
	}
	*a = workload.Access{Class: measure.Read, Handle: slot, Offset: from + w.random.Int64N((to-from)/4096)*4096, Length: 4096}
	return w.Due()
}

func (w *lookingUp) Completed(a *workload.Access, now int64, _ error) *workload.Whole {
	slot := a.Handle
	w.ready = append(w.ready, slot)
	if w.pointed[slot] = !w.pointed[slot]; w.pointed[slot] {
		return nil
	}
	w.whole = workload.Whole{Bytes: 8192, Began: w.began[slot], Piece: true}
	w.began[slot] = now
	return &w.whole
}

func (w *lookingUp) Fill([]byte)                         {}
func (w *lookingUp) Words(a workload.Access) string      { return fmt.Sprintf("lookup at %d", a.Offset) }
func (w *lookingUp) Over() bool                          { return false }
func (w *lookingUp) Without(workload.Access, error) bool { return false }

// A kind of load that nobody was told of is read from a plan, written again, measured, judged by
// its own figure, and stored as others are.
func TestAFurtherKindIsOneFolder(t *testing.T) {
	const text = "name: finding\nstages:\n  - load: {lookups: 1MiB, span: 64MiB, depth: 4, workers: 2, for: 5s}\n"
	p, err := planfile.Read([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	load := p.Stages[0].Load
	if load.Kind != lookupsKind || ofLookups(load).Index != quantity.MiB {
		t.Fatalf("read as %+v", load)
	}
	again, err := planfile.Read([]byte(planfile.Write(p)))
	if err != nil || !reflect.DeepEqual(again, p) {
		t.Errorf("written as %s (%v)", planfile.Write(p), err)
	}
	stored, err := json.Marshal(load)
	if err != nil {
		t.Fatal(err)
	}
	var back workload.Spec
	if err := json.Unmarshal(stored, &back); err != nil || !reflect.DeepEqual(back, load) {
		t.Errorf("stored as %s (%v)", stored, err)
	}
	if _, err := planfile.Read([]byte("stages:\n  - load: {lookups: 1MiB, feeds: 3, span: 64MiB, for: 5s}\n")); !errors.Is(err, workload.ErrInvalid) {
		t.Errorf("of two kinds: %v", err)
	}

	few, err := arrayfile.Read([]byte("name: few\nmembers: {count: 4, medium: ssd, capacity: 100GB}\nlayout: {level: raid10}\n"))
	if err != nil {
		t.Fatal(err)
	}
	sum, err := simulated.Measure(t.Context(), few, load, 0)
	if err != nil {
		t.Fatal(err)
	}
	// Each lookup is two reads, one after the other, and as many are under way as there are slots.
	done := sum.Groups[0]
	if reads := sum.Classes[measure.Read].Operations; done.Operations == 0 || math.Abs(float64(reads-2*done.Operations)) > 2*8 {
		t.Errorf("%d lookups of %d reads", done.Operations, reads)
	}
	if under := float64(done.Rate) * float64(done.Latency.Mean); math.Abs(under/8-1) > 0.02 {
		t.Errorf("%.2f lookups are under way on average, not 8", under)
	}
	of := figure.For(load)
	has := func(key string) bool {
		return slices.ContainsFunc(of, func(f figure.Figure) bool { return f.Key == key })
	}
	if figure.Main(load) != "lookups" || !has("lookups") || has("iops") || has("requests") {
		t.Errorf("judged by %s of %v", figure.Main(load), of)
	}
	for _, f := range judge.Findings(judge.Observed{Load: load, Summary: sum}) {
		if f.Sentence == "" {
			t.Errorf("%+v", f)
		}
	}
	if field, err := workload.Lookup("lookups"); err != nil || field.Group() != "Lookups" || field.Of(workload.BlockKind) || field.Get(load) != strconv.Itoa(1)+"MiB" {
		t.Errorf("%+v (%v)", field, err)
	}
	if wrong := (workload.Spec{Kind: "sightseeing"}); wrong.Validate() == nil {
		t.Error("a kind that nobody registered is taken")
	}
}
