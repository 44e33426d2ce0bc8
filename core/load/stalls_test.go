package load

import (
	"testing"
	"time"
)

// How late the engine is woken counts from where a busy host cannot be the reason; so does
// how long the host slept.
func TestStandingStill(t *testing.T) {
	s := stalls{}
	for _, late := range []time.Duration{0, time.Millisecond, longStall} {
		s.late(int64(time.Second+late), int64(time.Second))
	}
	if told := s.told(); told != nil {
		t.Errorf("a busy host: %+v", told)
	}
	s.late(int64(7*time.Second), int64(2*time.Second))
	s.late(int64(9*time.Second), int64(8*time.Second))
	if told := s.told(); told == nil || told.At != 2 || told.Worst != 5 || told.Total != 6 {
		t.Errorf("stopped for five seconds and for one: %+v", told)
	}
	slept := int64(time.Hour)
	s = stalls{asleep: func() int64 { return slept }}
	s.look(0) // what the host slept before is nothing to us
	slept += int64(3 * time.Second)
	s.look(int64(time.Second))
	s.look(int64(2 * time.Second))
	if told := s.told(); told == nil || told.At != 1 || told.Worst != 3 || told.Total != 3 {
		t.Errorf("a host that slept: %+v", told)
	}
	if asleep() < 0 || asleep() > int64(100*365*24*time.Hour) {
		t.Errorf("this host slept for %s", time.Duration(asleep()))
	}
}
