package load_test

import (
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// ticking is a volume in virtual time that answers each operation after exactly a
// millisecond.
type ticking struct {
	now    int64
	queues []*tickingQueue
}

type tickingQueue struct {
	of    *ticking
	slots []int
	ready []int64
}

func (v *ticking) Facts() load.Facts         { return load.Facts{Size: quantity.GiB, Alignment: 1} }
func (v *ticking) Close() error              { return nil }
func (v *ticking) Now() int64                { return v.now }
func (v *ticking) Inside() []measure.Counter { return nil }

func (v *ticking) Open(load.QueueOptions) (load.Queue, error) {
	q := &tickingQueue{of: v}
	v.queues = append(v.queues, q)
	return q, nil
}

func (v *ticking) Step(until int64) bool {
	next := int64(1) << 62
	for _, q := range v.queues {
		if len(q.ready) > 0 {
			next = min(next, q.ready[0])
		}
	}
	if next > until {
		v.now = max(v.now, until)
		return false
	}
	v.now = max(v.now, next)
	return true
}

func (v *ticking) Answered() (numbers []int) {
	for i, q := range v.queues {
		if len(q.ready) > 0 && q.ready[0] <= v.now {
			numbers = append(numbers, i)
		}
	}
	return numbers
}

func (q *tickingQueue) Buffer(int) []byte { return nil }
func (q *tickingQueue) Interface() string { return "ticking" }
func (q *tickingQueue) Close(int) error   { return nil }

func (q *tickingQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.slots, q.ready = append(q.slots, o.Slot), append(q.ready, q.of.now+1e6)
	}
	return nil
}

func (q *tickingQueue) Collect(into []load.Completion, _ time.Duration) (n int, err error) {
	for n < len(into) && len(q.ready) > 0 && q.ready[0] <= q.of.now {
		into[n] = load.Completion{Slot: q.slots[0], Bytes: 4096}
		q.slots, q.ready = q.slots[1:], q.ready[1:]
		n++
	}
	return n, nil
}

// In virtual time every count is exact: three workers at depth four with a
// millisecond each complete 12,000 a second, to the operation, in every interval.
func TestCountsInVirtualTimeAreExact(t *testing.T) {
	var series []measure.Interval
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: spec(func(s *workload.Spec) { s.Workers, s.Depth, s.For, s.WarmUp = 3, 4, 2, 0.35 }), Volume: &ticking{}, Clock: load.NewMonotonic(),
		Observe: func(i measure.Interval) { series = append(series, i) },
	})
	if err != nil {
		t.Fatal(err)
	}
	for i, interval := range series {
		// What completes at the end of an interval is counted in the next, so that
		// the first has one round less; the third of the warm-up is a half long.
		want := int64(1200)
		switch i {
		case 0:
			want -= 12
		case 3:
			want /= 2
		}
		if got := interval.Moved().Operations; got != want || interval.Classes[measure.Read].P99 != 0.001 {
			t.Errorf("interval %d: %d operations of %d, p99 %s", i, got, want, interval.Classes[measure.Read].P99)
		}
	}
	sum := outcome.Summary
	if len(series) != 24 || sum.Total.Operations != 24_000 || sum.Total.Latency.Min != 0.001 || sum.Total.Latency.Max != 0.001 {
		t.Errorf("%d intervals, %d operations, latency %+v", len(series), sum.Total.Operations, sum.Total.Latency)
	}
}
