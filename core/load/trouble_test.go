package load_test

import (
	"bytes"
	"errors"
	"math"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// eventually waits for what other goroutines are about to do.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); !is(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%s: not after two minutes", what)
		}
	}
}

// Whoever is given the intervals may take as long as he likes: the load goes on, also
// while he sleeps, and he is given all intervals in the end.
func TestASlowObserverNeverReachesTheLoad(t *testing.T) {
	var series []measure.Interval
	s := spec(func(s *workload.Spec) { s.Workers, s.For = 2, 1.5 })
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: s, Volume: nullVolume, Clock: load.NewMonotonic(),
		Observe: func(i measure.Interval) {
			if len(series) == 1 {
				time.Sleep(2 * time.Second)
			}
			series = append(series, i)
		},
	})
	if err != nil || outcome.Failure != nil {
		t.Fatal(err, outcome.Failure)
	}
	sum, empty := int64(0), 0
	for i, interval := range series {
		moved := interval.Moved().Operations
		if sum += moved; interval.Index != i {
			t.Errorf("interval %d has index %d", i, interval.Index)
		}
		if moved == 0 { // on a busy machine one or the other may be
			empty++
		}
	}
	if len(series) != 15 || sum != outcome.Summary.Total.Operations || empty > 5 {
		t.Errorf("%d intervals of 15, %d of them empty, with %d of %d operations", len(series), empty, sum, outcome.Summary.Total.Operations)
	}
}

// A failure ends the measurement, also beside a thread that never comes back: not
// the time that was asked for, but the time that operations get to be answered.
func TestAFailureBesideAStuckThread(t *testing.T) {
	release := make(chan struct{})
	var one, closed atomic.Int64
	var held atomic.Bool
	one.Store(1)
	v := &device{
		facts: load.Facts{Size: quantity.GiB, Alignment: 1}, stuck: release, only: &one, held: &held, closed: &closed,
		answer: func(o load.Operation) load.Completion {
			eventually(t, "the other thread is stuck", held.Load)
			return load.Completion{Slot: o.Slot, Err: syscall.EIO}
		},
	}
	before := runtime.NumGoroutine()
	ended := make(chan *load.Outcome, 1)
	go func() {
		outcome, err := load.Run(t.Context(), load.Job{
			Workload: spec(func(s *workload.Spec) { s.For, s.Workers, s.Depth = 3600, 2, 4 }), Volume: v, Clock: load.NewMonotonic(),
		})
		if err != nil {
			t.Error(err)
		}
		ended <- outcome
	}()
	select {
	case outcome := <-ended:
		if outcome.Failure == nil || outcome.Summary.Ending != measure.ByFailure || outcome.Summary.Unanswered != 4 {
			t.Errorf("failure %v, ended by %s, %d unanswered", outcome.Failure, outcome.Summary.Ending, outcome.Summary.Unanswered)
		}
	case <-time.After(2 * time.Minute):
		t.Fatal("it waits for the thread")
	}
	// When the thread comes back after all, it leaves nothing behind.
	close(release)
	eventually(t, "queues and goroutines are given back", func() bool { return closed.Load() == 2 && runtime.NumGoroutine() <= before })
}

// What the system moves in part is continued, and what it asks to issue again is,
// for as long as that makes sense; the data ends up where it belongs.
func TestPiecesAndRetries(t *testing.T) {
	disk := make([]byte, quantity.MiB)
	asked := map[int64]int{}
	var q *deviceQueue
	v := &device{facts: load.Facts{Size: quantity.MiB, Alignment: 1}}
	v.answer = func(o load.Operation) load.Completion {
		asked[o.Offset]++
		switch {
		case o.From == 0 && asked[o.Offset]%3 != 0:
			return load.Completion{Slot: o.Slot, Err: []error{syscall.EAGAIN, syscall.EINTR}[asked[o.Offset]%2]}
		case o.Length > 1000:
			o.Length = 1000
		}
		copy(disk[o.Offset:], q.Buffer(o.Slot)[o.From:o.From+o.Length])
		return load.Completion{Slot: o.Slot, Bytes: o.Length}
	}
	s := spec(func(s *workload.Spec) {
		s.Reads, s.Order, s.Span, s.For, s.Amount = 0, workload.Sequential, quantity.MiB, 0, quantity.MiB
	})
	outcome, _ := run(t, watched{v, &q}, s)
	sum := outcome.Summary
	if outcome.Failure != nil || len(sum.Faults) != 0 || sum.Total.Operations != 256 || sum.Pieces != 256 || sum.Retries != 512 {
		t.Errorf("failure %v, %d operations, %d in pieces, %d retries, faults %v", outcome.Failure, sum.Total.Operations, sum.Pieces, sum.Retries, sum.Faults)
	}
	want := make([]byte, quantity.MiB)
	content := workload.NewContent(s, 0)
	for at := 0; at < len(want); at += 4096 {
		content.Fill(want[at : at+4096])
	}
	if !bytes.Equal(disk, want) {
		t.Error("the pieces were not put together as they were written")
	}

	v.answer = func(o load.Operation) load.Completion { return load.Completion{Slot: o.Slot, Err: syscall.EAGAIN} }
	outcome, _ = run(t, v, spec(func(s *workload.Spec) { s.For, s.Depth, s.Span = 3600, 1, quantity.MiB }))
	if f := outcome.Summary.Faults; outcome.Failure == nil || len(f) != 1 || f[0].Kind != "busy, however often it was asked again" || outcome.Summary.Retries != 20 {
		t.Errorf("always busy: failure %v, faults %v, %d retries", outcome.Failure, f, outcome.Summary.Retries)
	}
}

// watched tells which queue was opened.
type watched struct {
	*device
	queue **deviceQueue
}

func (w watched) Open(o load.QueueOptions) (load.Queue, error) {
	q, err := w.device.Open(o)
	*w.queue = q.(*deviceQueue)
	return q, err
}

// While storage is measured each worker has a processor of its own, and afterwards
// the process is as it was.
func TestEveryWorkerHasAProcessor(t *testing.T) {
	before := runtime.GOMAXPROCS(0)
	meanwhile := 0
	_, err := load.Run(t.Context(), load.Job{
		Workload: spec(func(s *workload.Spec) { s.Workers = 5 }), Volume: nullVolume, Clock: load.NewMonotonic(),
		Observe: func(measure.Interval) { meanwhile = runtime.GOMAXPROCS(0) },
	})
	if after := runtime.GOMAXPROCS(0); err != nil || meanwhile != before+5 || after != before {
		t.Errorf("%d processors before, %d while five workers measured, %d after (%v)", before, meanwhile, after, err)
	}
}

// The threads of the workers are counted apart from the rest of the host.
func TestThreadsAreCounted(t *testing.T) {
	var threads atomic.Int64
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: spec(func(s *workload.Spec) { s.Workers, s.For, s.WarmUp = 2, 0.4, 0.1 }), Volume: nullVolume, Clock: load.NewMonotonic(),
		// Every look says that 20 ms of work and 30 ms of waiting have passed.
		Thread: func() load.ThreadUse {
			n := time.Duration(threads.Add(1))
			return load.ThreadUse{CPU: n * 10 * time.Millisecond, Waited: n * 15 * time.Millisecond}
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	// Two workers look at the start and at the end of five intervals, the first of which is
	// warm-up; between its looks the other has looked as well, unless it had no core for long.
	sum := outcome.Summary
	work, waited := float64(sum.WorkerCPUPerOp)*float64(sum.Total.Operations), float64(sum.CoreWait)*2*float64(sum.Measured)
	if work < 0.03 || work > 0.19 || math.Abs(waited/work-1.5) > 0.05 {
		t.Errorf("%.3f s of CPU time and a wait of %.3f s", work, waited)
	}
}

// Beside the buffers 256 workers take what they count, and that is bounded.
func TestMemoryOfManyWorkers(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Workers, s.Depth, s.Reads, s.SyncEvery, s.Rate = 256, 1, 0.5, 2, 100_000 })
	var before, most runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	_, err := load.Run(t.Context(), load.Job{
		Workload: s, Volume: nullVolume, Clock: load.NewMonotonic(),
		Observe: func(measure.Interval) {
			var now runtime.MemStats
			if runtime.ReadMemStats(&now); now.HeapAlloc > most.HeapAlloc {
				most = now
			}
		},
	})
	if took := quantity.Bytes(most.HeapAlloc - before.HeapAlloc); err != nil || took > 400*quantity.MiB {
		t.Errorf("256 workers took %s (%v)", took, err)
	}
}

// Storage that never answers, or stops to answer, was lost: that is a failure, and the figures
// are of what came before.
func TestStorageThatIsLost(t *testing.T) {
	for name, c := range map[string]struct {
		answers int64 // before it hangs
		words   string
	}{"never": {0, "no operation was answered, and 4 are under way"}, "from then on": {100, "nothing was answered after"}} {
		var answered atomic.Int64
		v := &device{facts: load.Facts{Size: quantity.GiB, Alignment: 1}, hang: func() bool { return answered.Load() >= c.answers }, answer: func(o load.Operation) load.Completion {
			answered.Add(1)
			return load.Completion{Slot: o.Slot, Bytes: o.Length}
		}}
		outcome, err := load.Run(t.Context(), load.Job{
			Workload: spec(func(s *workload.Spec) { s.For, s.Interval, s.Workers, s.Depth = 1, 0.1, 1, 4 }), Volume: v, Clock: load.NewMonotonic(),
			Watch: func(paces []measure.Pace, last bool) measure.Stand { return measure.Stand{Cut: len(paces) - 1} },
		})
		if err != nil {
			t.Fatal(err)
		}
		s := outcome.Summary
		if !errors.Is(outcome.Failure, load.ErrLost) || !strings.Contains(outcome.Failure.Error(), c.words) || s.Ending != measure.ByFailure || s.Unanswered != 4 {
			t.Errorf("%s: %v, ended by %s, %d unanswered", name, outcome.Failure, s.Ending, s.Unanswered)
		}
		if s.Total.Operations != answered.Load() || c.answers > 0 && s.Measured > 0.9 {
			t.Errorf("%s: %d of %d operations are in the figures, over %s", name, s.Total.Operations, answered.Load(), s.Measured)
		}
	}
}
