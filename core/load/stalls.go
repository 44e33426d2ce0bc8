package load

import (
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// longStall is how late the engine may look at the clock before it counts as not having
// run: a busy host keeps a thread waiting for some hundredths of a second.
const longStall = 500 * time.Millisecond

// stalls notes when the engine itself did not run, by how late it wakes up after the moment
// that it asked to be woken at, and by how long the host was suspended, which the clock of
// measurements does not count.
type stalls struct {
	asleep func() int64 // how long the host was suspended since it was started; nil where nobody knows
	slept  int64
	looked bool

	at, worst, total int64
}

// late notes that the engine was woken at now in place of due.
func (s *stalls) late(now, due int64) {
	if by := now - due; by > int64(longStall) {
		s.add(due, by)
	}
}

// look asks how long the host was suspended since the look before.
func (s *stalls) look(now int64) {
	if s.asleep == nil {
		return
	}
	slept := s.asleep()
	if by := slept - s.slept; s.looked && by > int64(longStall) {
		s.add(now, by)
	}
	s.slept, s.looked = slept, true
}

func (s *stalls) add(at, by int64) {
	s.total += by
	if by > s.worst {
		s.at, s.worst = at, by
	}
}

// told is what came of it; nil for nothing.
func (s *stalls) told() *measure.StoodStill {
	if s.total == 0 {
		return nil
	}
	seconds := func(n int64) quantity.Seconds { return quantity.Seconds(n) / 1e9 }
	return &measure.StoodStill{At: seconds(max(s.at, 0)), Worst: seconds(s.worst), Total: seconds(s.total)}
}
