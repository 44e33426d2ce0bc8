package array

import (
	"math"

	"patientheron/core/quantity"
)

// server is a station that serves one operation after the other, in the order in
// which they come. Whoever is not there yet holds nobody up: pass is called when an
// operation arrives, never for a time to come, but for one that follows another
// server in the same order.
type server struct {
	perOperation, perByte float64 // nanoseconds
	freeAt                float64
	busy                  float64 // nanoseconds spent serving
}

// pass is when an operation that arrives at a time leaves the station.
func (s *server) pass(arrival int64, bytes int) int64 {
	service := s.perOperation + s.perByte*float64(bytes)
	if service == 0 {
		return arrival
	}
	s.freeAt = max(s.freeAt, float64(arrival)) + service
	s.busy += service
	return int64(math.Ceil(s.freeAt))
}

// allowance is a limit that saves up what is not used: a server that may have been
// free for a time in advance (a token bucket: Turner, New directions in communications,
// 1986).
type allowance struct {
	server
	saved float64 // nanoseconds that it may have been free at most
}

// pass is when an operation that arrives at a time is allowed.
func (l *allowance) pass(arrival int64, bytes int) int64 {
	service := l.perOperation + l.perByte*float64(bytes)
	if service == 0 {
		return arrival
	}
	l.freeAt = max(l.freeAt, float64(arrival)-l.saved-service) + service
	l.busy += service
	return max(arrival, int64(math.Ceil(l.freeAt)))
}

// allowances are the limits of a volume: on all operations, and on reads and writes by themselves.
type allowances struct{ all, reads, writes [2]allowance }

func newAllowances(l Limits) allowances {
	of := func(operations quantity.OpRate, throughput quantity.ByteRate) [2]allowance {
		saved := float64(l.Burst) * 1e9
		return [2]allowance{{server{perOperation: perSecond(float64(operations))}, saved}, {server{perByte: perSecond(float64(throughput))}, saved}}
	}
	return allowances{of(l.Operations, l.Throughput), of(l.Reads, l.ReadRate), of(l.Writes, l.WrittenRate)}
}

// pass is when an operation that arrives at a time is allowed by all that are about it.
func (l *allowances) pass(k kind, arrival int64, bytes int) int64 {
	at := max(l.all[0].pass(arrival, bytes), l.all[1].pass(arrival, bytes))
	switch k {
	case reads:
		at = max(at, l.reads[0].pass(arrival, bytes), l.reads[1].pass(arrival, bytes))
	case writes:
		at = max(at, l.writes[0].pass(arrival, bytes), l.writes[1].pass(arrival, bytes))
	}
	return at
}

// busyUntil is the longest time that one of them held back up to now.
func (l *allowances) busyUntil(now int64) (busy float64) {
	for _, of := range [...]*[2]allowance{&l.all, &l.reads, &l.writes} {
		busy = max(busy, of[0].busyUntil(now), of[1].busyUntil(now))
	}
	return busy
}

// behind is how long an operation that arrives now has to wait.
func (s *server) behind(now int64) float64 { return max(s.freeAt-float64(now), 0) }

// busyUntil is the time it spent serving up to now: what it has taken on beyond
// that is not yet spent.
func (s *server) busyUntil(now int64) float64 { return s.busy - s.behind(now) }

// perSecond is the nanoseconds one unit takes at a rate; zero for no limit.
func perSecond(rate float64) float64 {
	if rate <= 0 {
		return 0
	}
	return 1e9 / rate
}
