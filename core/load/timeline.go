package load

import (
	"math"

	"patientheron/core/workload"
)

// timeline cuts the time of a measurement into intervals. No interval lies on
// both sides of the end of the warm-up.
type timeline struct {
	length  int64 // of an interval, nanoseconds
	warmUp  int64 // end of the warm-up
	leading int   // number of warm-up intervals
	end     int64 // of the measured time; MaxInt64 when only an amount ends it
}

func newTimeline(spec workload.Spec) timeline {
	t := timeline{
		length: int64(spec.Interval.Duration()),
		warmUp: int64(spec.WarmUp.Duration()),
		end:    math.MaxInt64,
	}
	t.leading = int((t.warmUp + t.length - 1) / t.length)
	if spec.For > 0 {
		t.end = t.warmUp + int64(spec.For.Duration())
	}
	return t
}

// boundary is the time at which interval index ends.
func (t timeline) boundary(index int) int64 {
	if index < t.leading {
		return min(int64(index+1)*t.length, t.warmUp)
	}
	return min(t.warmUp+int64(index-t.leading+1)*t.length, t.end)
}

// start is the time at which interval index begins.
func (t timeline) start(index int) int64 {
	if index == 0 {
		return 0
	}
	return t.boundary(index - 1)
}

func (t timeline) isWarmUp(index int) bool { return index < t.leading }
