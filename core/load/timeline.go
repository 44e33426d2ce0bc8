package load

import (
	"math"

	"patientheron/core/workload"
)

// timeline cuts the time of a measurement into intervals. No interval lies on
// both sides of the end of the lead-in.
type timeline struct {
	length  int64 // of an interval, nanoseconds
	leadIn  int64 // end of the lead-in
	leading int   // number of lead-in intervals
	end     int64 // of the measured time; MaxInt64 when only an amount ends it
}

func newTimeline(spec workload.Spec) timeline {
	t := timeline{
		length: int64(spec.Interval.Duration()),
		leadIn: int64(spec.LeadIn.Duration()),
		end:    math.MaxInt64,
	}
	t.leading = int((t.leadIn + t.length - 1) / t.length)
	if spec.For > 0 {
		t.end = t.leadIn + int64(spec.For.Duration())
	}
	return t
}

// boundary is the time at which interval index ends.
func (t timeline) boundary(index int) int64 {
	if index < t.leading {
		return min(int64(index+1)*t.length, t.leadIn)
	}
	return min(t.leadIn+int64(index-t.leading+1)*t.length, t.end)
}

// start is the time at which interval index begins.
func (t timeline) start(index int) int64 {
	if index == 0 {
		return 0
	}
	return t.boundary(index - 1)
}

func (t timeline) isLeadIn(index int) bool { return index < t.leading }
