package workload

import (
	"math"
	"math/rand/v2"
)

// Schedule yields the intended start times of one worker's operations in an
// open loop.
type Schedule struct {
	gap    float64 // mean nanoseconds between arrivals of this worker
	next   float64 // nanoseconds since the start
	random *rand.Rand
}

// NewSchedule prepares the arrivals of worker: every worker carries an equal
// part of the rate, and constant arrivals of different workers interleave.
// It returns nil for a closed loop.
func NewSchedule(spec Spec, worker int) *Schedule {
	spec = spec.Completed()
	if !spec.Open() {
		return nil
	}
	s := &Schedule{gap: 1e9 * float64(spec.Workers) / float64(spec.Arriving())}
	if spec.Arrivals == Poisson {
		s.random = rand.New(rand.NewPCG(spec.Seed^0xa5a5a5a5, uint64(worker)+1))
		s.next = s.random.ExpFloat64() * s.gap
	} else {
		s.next = s.gap * float64(worker) / float64(spec.Workers)
	}
	return s
}

// Peek is the intended start of the next operation, in nanoseconds since the
// start of the measurement.
func (s *Schedule) Peek() int64 {
	if s.next >= math.MaxInt64 {
		return math.MaxInt64
	}
	return int64(s.next)
}

// Advance moves on to the operation after.
func (s *Schedule) Advance() {
	if s.random != nil {
		s.next += s.random.ExpFloat64() * s.gap
		return
	}
	s.next += s.gap
}

// Threshold turns a probability into the bound below which a uniform 64-bit
// draw counts as a hit.
func Threshold(p float64) uint64 {
	if p >= 1 {
		return ^uint64(0)
	}
	return uint64(p * (1 << 63) * 2)
}

// AlignDown is the multiple of a size at or below a place; -1 for a place below zero.
func AlignDown(at, align int64) int64 {
	if at < 0 {
		return -1
	}
	return at / align * align
}

// AlignUp is the multiple of a size at or above a place.
func AlignUp(at, align int64) int64 { return (at + align - 1) / align * align }
