package array

import "fmt"

// counters count what has no better place.
type counters struct {
	operations       int64
	memberOperations int64
}

// Counter is one figure from inside the array.
type Counter struct {
	Name  string
	Unit  string // "share", "bytes" or "operations"
	Value float64
}

// Inside tells what happened inside since the counters of before, which is
// what Totals gave at the time then.
func (a *Array) Inside(before Totals) []Counter {
	now := a.Totals()
	over := float64(now.At - before.At)
	if over <= 0 {
		return nil
	}
	var list []Counter
	add := func(name, unit string, value float64) { list = append(list, Counter{name, unit, value}) }
	for i := range now.Busy {
		add(fmt.Sprintf("member %d busy", i), "share", min(max((now.Busy[i]-before.Busy[i])/over, 0), 1))
	}
	for i, c := range a.caches {
		name := c.spec.Name
		hits, misses := now.Hits[i]-before.Hits[i], now.Misses[i]-before.Misses[i]
		add(name+" hit rate", "share", ratio(float64(hits), float64(hits+misses)))
		add(name+" busy", "share", min((now.Caches[i]-before.Caches[i])/over, 1))
		add(name+" dirty", "bytes", float64(c.dirtyCount)*float64(int64(1)<<c.shift))
		add(name+" destaged", "bytes", float64(now.Written[i]-before.Written[i]))
		add(name+" stalled", "operations", float64(len(c.stalled)))
		if c.lost > 0 {
			add(name+" lost", "bytes", float64(c.lost))
		}
	}
	if t := a.tier; t != nil {
		add("tier in use", "share", float64(t.slots-len(t.spare))/float64(t.slots))
		add("tier answered", "share", ratio(float64(now.Fast-before.Fast), float64(now.Fast-before.Fast+now.Slow-before.Slow)))
		add("tier moved", "bytes", float64(now.Moved-before.Moved))
	}
	add("controller busy", "share", min((now.Controller-before.Controller)/over, 1))
	for i := range now.Links {
		in, out := now.Links[i][0]-before.Links[i][0], now.Links[i][1]-before.Links[i][1]
		add(fmt.Sprintf("link %d busy", i), "share", min(max(in, out)/over, 1))
	}
	return list
}

func ratio(part, whole float64) float64 {
	if whole == 0 {
		return 0
	}
	return part / whole
}

// Totals are running counters at one moment.
type Totals struct {
	At                    int64
	Busy                  []float64 // of each member, nanoseconds
	Hits, Misses, Written []int64   // of each cache; written out in bytes
	Fast, Slow, Moved     int64     // operations of the tier and past it; bytes it moved
	Caches                []float64 // of each cache, nanoseconds its own line was busy
	Controller            float64
	Links                 [][2]float64 // each direction of each
}

// Totals reads the running counters.
func (a *Array) Totals() Totals {
	t := Totals{At: a.now, Controller: a.control.busy}
	for _, m := range a.members {
		t.Busy = append(t.Busy, m.busyTime())
	}
	for _, c := range a.caches {
		t.Hits, t.Misses, t.Written = append(t.Hits, c.hits), append(t.Misses, c.misses), append(t.Written, c.written)
		t.Caches = append(t.Caches, c.server.busy)
	}
	if a.tier != nil {
		t.Fast, t.Slow, t.Moved = a.tier.answered, a.tier.passed, a.tier.movedBytes
	}
	for _, p := range a.paths {
		t.Links = append(t.Links, [2]float64{p.in.busy, p.out.busy})
	}
	return t
}

// WriteAmplification is what a member programmed for each page it was asked to
// write; zero when it is no SSD or was not written to.
func (a *Array) WriteAmplification(member int) float64 {
	f := a.members[member].flash
	if f == nil || f.hostPages == 0 {
		return 0
	}
	return float64(f.programmed) / float64(f.hostPages)
}
