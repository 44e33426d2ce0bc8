package load_test

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/null"
)

// device is a volume made of functions, for what storage does to an engine.
type device struct {
	facts   load.Facts
	answer  func(load.Operation) load.Completion // nil: succeed
	service time.Duration                        // one server, first come first served
	hang    func() bool                          // never answer from here on
	stuck   chan struct{}                        // Collect blocks until it is closed
	only    *atomic.Int64                        // of the queues, so many are stuck; nil for all
	held    *atomic.Bool                         // set when one is
	closed  *atomic.Int64                        // queues that were closed
	seen    *[]load.Operation
}

func (d *device) Close() error { return nil }

func (d *device) Facts() load.Facts { return d.facts }

func (d *device) Open(o load.QueueOptions) (load.Queue, error) {
	q := &deviceQueue{device: d, memory: make([]byte, o.Depth*o.LargestBlock), block: o.LargestBlock}
	q.sticks = d.stuck != nil && (d.only == nil || d.only.Add(-1) >= 0)
	return q, nil
}

type deviceQueue struct {
	*device
	sticks  bool
	memory  []byte
	block   int
	pending []load.Operation
	free    time.Time // when the server is free
	ready   []time.Time
}

func (q *deviceQueue) Buffer(slot int) []byte { return q.memory[slot*q.block : (slot+1)*q.block] }

func (q *deviceQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		if q.seen != nil {
			*q.seen = append(*q.seen, *o)
		}
		if now := time.Now(); q.free.Before(now) {
			q.free = now
		}
		q.free = q.free.Add(q.service)
		q.pending, q.ready = append(q.pending, *o), append(q.ready, q.free)
	}
	return nil
}

func (q *deviceQueue) Collect(into []load.Completion, wait time.Duration) (int, error) {
	if q.sticks {
		if q.held != nil {
			q.held.Store(true)
		}
		<-q.stuck
	}
	for end := time.Now().Add(wait); ; {
		n := 0
		for len(q.pending) > 0 && n < len(into) && !q.ready[0].After(time.Now()) && (q.hang == nil || !q.hang()) {
			into[n] = load.Completion{Slot: q.pending[0].Slot, Bytes: q.pending[0].Length}
			if q.answer != nil {
				into[n] = q.answer(q.pending[0])
			}
			q.pending, q.ready = q.pending[1:], q.ready[1:]
			n++
		}
		if n > 0 || !time.Now().Before(end) {
			return n, nil
		}
	}
}

func (q *deviceQueue) Interface() string { return "test" }

func (q *deviceQueue) Close(int) error {
	if q.closed != nil {
		q.closed.Add(1)
	}
	return nil
}

func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span, s.For, s.Interval = 64*quantity.MiB, 0.3, 0.1
	if change != nil {
		change(&s)
	}
	return s
}

func run(t *testing.T, v load.Volume, s workload.Spec) (*load.Outcome, []measure.Interval) {
	t.Helper()
	var series []measure.Interval
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: s, Volume: v, Clock: load.NewMonotonic(),
		Observe: func(i measure.Interval) { series = append(series, i) },
	})
	if err != nil {
		t.Fatal(err)
	}
	return outcome, series
}

var nullVolume = null.Volume{Size: quantity.TiB}

func TestSeriesAddsUpToTheSummary(t *testing.T) {
	outcome, series := run(t, nullVolume, spec(func(s *workload.Spec) { s.Reads, s.Workers, s.WarmUp = 0.5, 2, 0.15 }))
	var reads, writes int64
	var leading int
	for i, interval := range series {
		if interval.Index != i {
			t.Errorf("interval %d has index %d", i, interval.Index)
		}
		if interval.WarmUp {
			leading++
			continue
		}
		reads += interval.Classes[measure.Read].Operations
		writes += interval.Classes[measure.Write].Operations
	}
	sum := outcome.Summary
	if leading != 2 || len(series) != 5 {
		t.Errorf("%d warm-up intervals of %d, want 2 of 5", leading, len(series))
	}
	if reads != sum.Classes[measure.Read].Operations || writes != sum.Classes[measure.Write].Operations || reads == 0 || writes == 0 {
		t.Errorf("the series holds %d reads and %d writes, the summary %d and %d", reads, writes, sum.Classes[measure.Read].Operations, sum.Classes[measure.Write].Operations)
	}
	if sum.Total.Bytes != quantity.Bytes(reads+writes)*4096 || sum.Measured != 0.3 || sum.WarmUp != 0.15 || sum.Ending != measure.ByTime {
		t.Errorf("summary %+v", sum)
	}
	if sum.Classes[measure.Read].Latency.P50 <= 0 || sum.Classes[measure.Read].Latency.Max < sum.Classes[measure.Read].Latency.P99 {
		t.Errorf("latency %+v", sum.Classes[measure.Read].Latency)
	}
}

func TestAmountIsMovedExactly(t *testing.T) {
	for _, workers := range []int{1, 3} {
		outcome, _ := run(t, nullVolume, spec(func(s *workload.Spec) {
			s.For, s.Amount, s.Workers, s.Order, s.Reads = 0, 10*quantity.MiB, workers, workload.Sequential, 0
		}))
		sum := outcome.Summary
		// Each worker rounds its share up to a whole block.
		if sum.Ending != measure.ByAmount || sum.Total.Bytes < 10*quantity.MiB || sum.Total.Bytes > 10*quantity.MiB+quantity.Bytes(workers)*4096 {
			t.Errorf("%d workers moved %s and ended by %s", workers, sum.Total.Bytes, sum.Ending)
		}
	}
	// The same where phases are looked for, with a warm-up whose bytes do not count; it
	// lasted no longer than it took.
	began := time.Now()
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: spec(func(s *workload.Spec) { s.WarmUp, s.For, s.Amount = 0.1, 0, 200*quantity.MiB }),
		Volume:   nullVolume, Clock: load.NewMonotonic(), Watch: func([]measure.Pace, bool) measure.Stand { return measure.Stand{} },
	})
	if err != nil {
		t.Fatal(err)
	}
	if sum := outcome.Summary; sum.Ending != measure.ByAmount || float64(sum.Measured) > time.Since(began).Seconds() || sum.Total.Bytes < 200*quantity.MiB {
		t.Errorf("measured %s, %s moved, ended by %s", sum.Measured, sum.Total.Bytes, sum.Ending)
	}
}

func TestSameSeedIssuesTheSameOperations(t *testing.T) {
	record := func() []load.Operation {
		var seen []load.Operation
		v := &device{facts: load.Facts{Size: quantity.GiB, Alignment: 1}, seen: &seen}
		run(t, v, spec(func(s *workload.Spec) {
			s.Reads, s.SyncEvery, s.For, s.Amount, s.Depth = 0.5, 3, 0, 4*quantity.MiB, 1
		}))
		return seen
	}
	first, second := record(), record()
	if !slices.Equal(first, second) || len(first) < 1024 {
		t.Errorf("%d and %d operations, or they differ", len(first), len(second))
	}
	writes, syncs := 0, 0
	for _, o := range first {
		switch o.Class {
		case measure.Write:
			writes++
		case measure.Flush:
			syncs++
		}
	}
	if syncs != writes/3 && syncs != (writes-1)/3 {
		t.Errorf("%d flushes for %d writes, asked for one every 3", syncs, writes)
	}
}

// Two engines that each run a share of the workers issue together what one issues
// that runs all of them, and begin at the instant they were told.
func TestSharesMakeTheWhole(t *testing.T) {
	s := spec(func(s *workload.Spec) {
		s.Reads, s.For, s.Amount, s.Depth, s.Workers, s.Order, s.Streams = 0.5, 0, 4*quantity.MiB, 1, 4, workload.Sequential, 2
	})
	issued := func(here load.Share, start time.Time) map[load.Operation]int {
		var seen []load.Operation
		var mu sync.Mutex
		v := &device{facts: load.Facts{Size: quantity.GiB, Alignment: 1}, answer: func(o load.Operation) load.Completion {
			mu.Lock()
			defer mu.Unlock()
			seen = append(seen, o)
			return load.Completion{Slot: o.Slot, Bytes: o.Length}
		}}
		outcome, err := load.Run(t.Context(), load.Job{Workload: s, Volume: v, Clock: load.NewMonotonic(), Here: here, Start: func(context.Context) (time.Time, error) { return start, nil }})
		if err != nil || outcome.Failure != nil || time.Now().Before(start) {
			t.Fatal(err, outcome)
		}
		counts := map[load.Operation]int{}
		for _, o := range seen {
			counts[o]++
		}
		return counts
	}
	whole, parts := issued(load.Share{}, time.Time{}), map[load.Operation]int{}
	for _, here := range []load.Share{{First: 0, Count: 1}, {First: 1, Count: 3}} {
		for o, n := range issued(here, time.Now().Add(50*time.Millisecond)) {
			parts[o] += n
		}
	}
	if !maps.Equal(whole, parts) || len(whole) < 1000 {
		t.Errorf("%d kinds of operation as a whole, %d in parts, or they differ", len(whole), len(parts))
	}
	for _, wrong := range []load.Share{{First: -1, Count: 2}, {First: 3, Count: 2}, {First: 4}} {
		if _, err := load.Run(t.Context(), load.Job{Workload: s, Volume: nullVolume, Clock: load.NewMonotonic(), Here: wrong}); err == nil {
			t.Errorf("%+v of four workers ran", wrong)
		}
	}
}

// More than was asked for is never right. Less a busy machine may be the cause of, but
// hardly five times in a row.
func TestPacedWithinOnePercent(t *testing.T) {
	const asked, tries = 20_000, 5
	for _, arrivals := range []workload.Arrivals{workload.Constant, workload.Poisson} {
		tolerance := 0.01
		if arrivals == workload.Poisson {
			tolerance = 0.02 // four standard deviations of a count of 40,000
		}
		for try := 1; ; try++ {
			outcome, _ := run(t, nullVolume, spec(func(s *workload.Spec) {
				s.Rate, s.Arrivals, s.For, s.Workers = asked, arrivals, 2, 2
			}))
			if outcome.Summary.Service == nil || outcome.Summary.IssueLag == nil {
				t.Errorf("%s: no service time or issue lag beside the latency", arrivals)
			}
			off := float64(outcome.Summary.Total.Rate)/asked - 1
			if off > tolerance || off < -tolerance && try == tries {
				t.Errorf("%s: %.1f %% off what was asked for", arrivals, off*100)
			}
			if off >= -tolerance || try == tries {
				break
			}
		}
	}
}

// A server that takes 2 ms gets 1000 operations a second, one slot: by the
// arithmetic of a deterministic queue, operation n starts when its n
// predecessors are served, so its latency is (n+1)·2 ms − n·1 ms and grows to
// half the measured time, while service stays at 2 ms.
func TestLatencyUnderOverloadCountsFromTheIntendedStart(t *testing.T) {
	v := &device{facts: load.Facts{Size: quantity.GiB, Alignment: 1}, service: 2 * time.Millisecond}
	outcome, _ := run(t, v, spec(func(s *workload.Spec) { s.Rate, s.Depth, s.For = 1000, 1, 1 }))
	n := outcome.Summary.Total.Operations
	last := 2*float64(n)*1e-3 - float64(n-1)*1e-3
	if got := float64(outcome.Summary.Total.Latency.Max); got < last*0.98 {
		t.Errorf("the last of %d operations took %.3f s from its intended start, arithmetic says at least %.3f", n, got, last)
	}
	if service, latency := outcome.Summary.Service.P50, outcome.Summary.Total.Latency.P50; service < 0.002 || service > latency/10 {
		t.Errorf("service time %s should stay near 2 ms, latency %s far above it", service, latency)
	}
}

func TestThinkTimeBoundsTheRate(t *testing.T) {
	outcome, _ := run(t, nullVolume, spec(func(s *workload.Spec) { s.Think, s.Depth, s.For = 0.01, 4, 0.5 }))
	// Four slots that rest 10 ms after each operation issue at most 400 a second.
	if rate := outcome.Summary.Total.Rate; rate > 408 || rate < 40 {
		t.Errorf("%s with 4 slots resting 10 ms", rate)
	}
}

func TestFaultsAreCountedByKind(t *testing.T) {
	n := 0
	v := &device{facts: load.Facts{Size: quantity.GiB, Alignment: 1}, answer: func(o load.Operation) load.Completion {
		n++
		switch {
		case n%10 == 3:
			return load.Completion{Slot: o.Slot, Err: syscall.EIO}
		case n%10 == 5:
			return load.Completion{Slot: o.Slot}
		case n%10 == 7:
			return load.Completion{Slot: o.Slot, Err: syscall.EAGAIN}
		}
		return load.Completion{Slot: o.Slot, Bytes: o.Length}
	}}
	outcome, _ := run(t, v, spec(func(s *workload.Spec) { s.OnError = workload.Continue }))
	kinds := map[string]int64{}
	for _, f := range outcome.Summary.Faults {
		kinds[f.Kind] = f.Count
	}
	if outcome.Failure != nil || kinds["i/o error"] == 0 || kinds["short read"] == 0 || outcome.Summary.Retries == 0 || len(kinds) != 2 {
		t.Errorf("failure %v, faults %v, %d retries", outcome.Failure, kinds, outcome.Summary.Retries)
	}

	n = 0
	outcome, _ = run(t, v, spec(nil))
	if outcome.Failure == nil || outcome.Summary.Ending != measure.ByFailure {
		t.Errorf("with onError end: failure %v, ended by %s", outcome.Failure, outcome.Summary.Ending)
	}

	var seen []load.Operation
	handed := 0
	v.seen, n = &seen, 0
	v.answer = func(o load.Operation) load.Completion {
		if n++; n == 101 { // others are collected before and after it
			handed = len(seen)
			return load.Completion{Slot: o.Slot, Err: syscall.EIO}
		}
		return load.Completion{Slot: o.Slot, Bytes: o.Length}
	}
	outcome, _ = run(t, v, spec(func(s *workload.Spec) { s.Depth = 8 }))
	if outcome.Failure == nil || handed == 0 || len(seen) != handed || outcome.Summary.Unanswered != 0 {
		t.Errorf("%v: %d operations were handed over after a failure, %d without an answer", outcome.Failure, len(seen)-handed, outcome.Summary.Unanswered)
	}
	v.seen = nil

	v.answer = func(o load.Operation) load.Completion { return load.Completion{Slot: o.Slot, Err: syscall.ENODEV} }
	outcome, _ = run(t, v, spec(func(s *workload.Spec) { s.OnError, s.For = workload.Continue, 3600 }))
	if outcome.Failure == nil || outcome.Summary.Faults[0].Kind != "device gone" {
		t.Errorf("a device that is gone should end even a run told to continue: %v, %v", outcome.Failure, outcome.Summary.Faults)
	}
}

func TestAHungVolumeCannotHangAStop(t *testing.T) {
	var hung atomic.Bool
	release := make(chan struct{})
	defer close(release)
	for name, v := range map[string]*device{
		"no answer":       {facts: load.Facts{Size: quantity.GiB, Alignment: 1}, hang: hung.Load},
		"thread is stuck": {facts: load.Facts{Size: quantity.GiB, Alignment: 1}, stuck: release},
	} {
		hung.Store(true)
		ctx, cancel := context.WithCancel(t.Context())
		result := make(chan *load.Outcome, 1)
		first := make(chan struct{}, 100)
		go func() {
			outcome, err := load.Run(ctx, load.Job{
				Workload: spec(func(s *workload.Spec) { s.For, s.Workers, s.Depth = 3600, 2, 8 }), Volume: v, Clock: load.NewMonotonic(),
				Observe: func(measure.Interval) { first <- struct{}{} },
			})
			if err != nil {
				t.Error(err)
			}
			result <- outcome
		}()
		<-first // the live feed goes on although nothing answers
		cancel()
		select {
		case outcome := <-result:
			if outcome.Summary.Unanswered != 16 || outcome.Summary.Ending != measure.ByStop {
				t.Errorf("%s: %d unanswered, ended by %s", name, outcome.Summary.Unanswered, outcome.Summary.Ending)
			}
		case <-time.After(time.Minute):
			t.Fatalf("%s: the stop hangs", name)
		}
	}
}

func TestImpossibleOnThisVolume(t *testing.T) {
	small := &device{facts: load.Facts{Size: quantity.MiB, Alignment: 4096, ReadOnly: true}}
	for field, change := range map[string]func(*workload.Spec){
		"span":  nil,
		"reads": func(s *workload.Spec) { s.Span, s.Reads = quantity.MiB, 0.5 },
		"block": func(s *workload.Spec) { s.Span, s.Blocks = quantity.MiB, workload.Block(3000) },
		"align": func(s *workload.Spec) { s.Span, s.Offset = quantity.MiB/2, 512 },
	} {
		_, err := load.Run(t.Context(), load.Job{Workload: spec(change), Volume: small, Clock: load.NewMonotonic()})
		var wrong *mistake.Error
		if !errors.As(err, &wrong) || wrong.Field != field {
			t.Errorf("%s: %v", field, err)
		}
	}
}

func TestNothingIsAllocatedPerOperation(t *testing.T) {
	s := spec(func(s *workload.Spec) {
		s.Reads, s.For, s.Amount, s.Depth, s.Interval = 0.5, 0, 8*quantity.MiB, 32, 10
	})
	few := testing.AllocsPerRun(2, func() { run(t, nullVolume, s) })
	s.Amount *= 16
	many := testing.AllocsPerRun(2, func() { run(t, nullVolume, s) })
	// 2,048 and 32,768 operations: the difference is the extra intervals.
	if many-few > 1000 {
		t.Errorf("%.0f allocations for 2 thousand operations, %.0f for 33 thousand", few, many)
	}
}

func BenchmarkNullVolume(b *testing.B) {
	s := spec(func(s *workload.Spec) { s.For, s.Depth = 0, 32 })
	s.Amount = quantity.Bytes(b.N) * 4096
	if _, err := load.Run(b.Context(), load.Job{Workload: s, Volume: nullVolume, Clock: load.NewMonotonic()}); err != nil {
		b.Fatal(err)
	}
}

func BenchmarkNullVolumeDepthOne(b *testing.B) {
	s := spec(func(s *workload.Spec) { s.For, s.Depth = 0, 1 })
	s.Amount = quantity.Bytes(b.N) * 4096
	if _, err := load.Run(b.Context(), load.Job{Workload: s, Volume: nullVolume, Clock: load.NewMonotonic()}); err != nil {
		b.Fatal(err)
	}
}
