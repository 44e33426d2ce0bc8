package load_test

import (
	"math"
	"strings"
	"testing"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/null"
)

// patient runs a load that is asked after each interval.
func patient(t *testing.T, s workload.Spec, watch load.Watch) (*load.Outcome, []measure.Interval) {
	t.Helper()
	var series []measure.Interval
	outcome, err := load.Run(t.Context(), load.Job{
		Workload: s, Volume: null.Volume{Size: quantity.GiB}, Clock: load.NewMonotonic(), Watch: watch,
		Observe: func(i measure.Interval) { series = append(series, i) },
	})
	if err != nil {
		t.Fatal(err)
	}
	return outcome, series
}

// The summary of a patient measurement is what the intervals after the cut
// counted, no more and no less, and nothing is passed on after it ended.
func TestPatientSummaryIsMadeOfIntervals(t *testing.T) {
	s := spec(func(s *workload.Spec) {
		s.Steady, s.For, s.WarmUp, s.Interval, s.Reads, s.Workers = true, 60, 0.2, 0.1, 0.5, 2
	})
	asked := 0
	outcome, series := patient(t, s, func(seen []measure.Pace, last bool) measure.Stand {
		if !last {
			asked++
		}
		return measure.Stand{Cut: 3, Enough: len(seen) >= 8, Patience: &measure.Patience{Steady: true, Words: "enough"}}
	})
	sum := outcome.Summary
	if sum.Ending != measure.ByPatience || sum.Patience == nil || sum.Patience.Words != "enough" || len(series) != 10 || asked != 8 {
		t.Fatalf("%d intervals, asked %d times, %+v", len(series), asked, sum)
	}
	var reads, writes int64
	length := quantity.Seconds(0)
	for _, i := range series[5:] { // two of warm-up, three cut
		reads, writes, length = reads+i.Classes[measure.Read].Operations, writes+i.Classes[measure.Write].Operations, length+i.Length
	}
	if sum.Classes[measure.Read].Operations != reads || sum.Classes[measure.Write].Operations != writes || outcome.Latencies[measure.Read].Count() != reads || outcome.Latencies[measure.Write].Count() != writes {
		t.Errorf("%d reads and %d writes, the intervals have %d and %d", sum.Classes[measure.Read].Operations, sum.Classes[measure.Write].Operations, reads, writes)
	}
	if math.Abs(float64(sum.Measured-length)) > 1e-9 || math.Abs(float64(sum.WarmUp)-0.5) > 1e-6 || math.Abs(float64(sum.Patience.Cut)-0.3) > 1e-6 {
		t.Errorf("measured %s, warm-up %s, cut %s", sum.Measured, sum.WarmUp, sum.Patience.Cut)
	}
	measure.CutWarmUp(series, sum.WarmUp)
	for i, interval := range series {
		if interval.WarmUp != (i < 5) {
			t.Errorf("interval %d: warm-up is %v", i, interval.WarmUp)
		}
	}
}

func TestPatienceThatIsNeverSatisfied(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Margin, s.For, s.Interval, s.SyncEvery, s.Reads = 0.01, 0.5, 0.1, 4, 0 })
	outcome, series := patient(t, s, func([]measure.Pace, bool) measure.Stand {
		return measure.Stand{Patience: &measure.Patience{Words: "never"}}
	})
	sum := outcome.Summary
	if sum.Ending != measure.ByTime || len(series) != 5 || sum.Patience.Words != "never" || math.Abs(float64(sum.Measured)-0.5) > 1e-6 || sum.Classes[measure.Flush].Operations == 0 {
		t.Errorf("%d intervals, %+v", len(series), sum)
	}
}

func TestPatienceAtASetRate(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Steady, s.For, s.Interval, s.Rate = true, 0.6, 0.1, 2000 })
	outcome, _ := patient(t, s, func(seen []measure.Pace, _ bool) measure.Stand {
		return measure.Stand{Cut: 1, Enough: len(seen) >= 4}
	})
	if sum := outcome.Summary; sum.Service == nil || sum.IssueLag == nil || sum.Service.Max <= 0 || sum.Total.Operations < 300 {
		t.Errorf("%+v", outcome.Summary)
	}
}

func TestPatientLoadNeedsAWatch(t *testing.T) {
	job := load.Job{Workload: spec(func(s *workload.Spec) { s.Steady = true }), Volume: null.Volume{Size: quantity.GiB}, Clock: load.NewMonotonic()}
	if _, err := load.Run(t.Context(), job); err == nil || !strings.Contains(err.Error(), "Watch") {
		t.Errorf("a patient load alone: %v", err)
	}
}

// A load that only lasts for its time is asked once, at the end; what is cut off is
// in no figure, and what came after the last whole interval still is.
func TestPhasesBeforeTheLastAreCutOff(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.For, s.WarmUp, s.Interval, s.Reads, s.Workers = 0.805, 0.1, 0.1, 0.5, 2 })
	var asked []int
	outcome, series := patient(t, s, func(seen []measure.Pace, last bool) measure.Stand {
		if !last {
			t.Error("asked before the end")
		}
		asked = append(asked, len(seen))
		return measure.Stand{Cut: 2, Phases: &measure.Phases{Words: "two", Fall: &measure.Fall{Bytes: 1}}}
	})
	sum := outcome.Summary
	if len(asked) != 1 || asked[0] < 8 || sum.Phases == nil || sum.Phases.Words != "two" || sum.Patience != nil || sum.Ending != measure.ByTime {
		t.Fatalf("asked with %v intervals: %+v", asked, sum)
	}
	if math.Abs(float64(sum.WarmUp)-0.3) > 1e-6 || math.Abs(float64(sum.Phases.Cut)-0.2) > 1e-6 || math.Abs(float64(sum.Measured)-0.605) > 1e-6 {
		t.Errorf("warm-up %s, cut %s, measured %s", sum.WarmUp, sum.Phases.Cut, sum.Measured)
	}
	if early := series[0].Moved().Bytes; early == 0 || sum.Phases.Fall.Bytes != early+1 {
		t.Errorf("%s until it fell, %s of them in the warm-up", sum.Phases.Fall.Bytes, early)
	}
	var cut, moved int64
	for n, i := range series {
		if n < 3 {
			cut += i.Moved().Operations
		} else {
			moved += i.Moved().Operations
		}
	}
	if rest := sum.Total.Operations - moved; rest < 0 || rest >= cut {
		t.Errorf("%d operations, the intervals have %d, and those that were cut off %d", sum.Total.Operations, moved, cut)
	}
}
