package array

import (
	"testing"

	"patientheron/core/quantity"
)

// An SSD whose memory is not protected answers for pages before they are on a die: a flush waits
// for the program of what came before, and a power cut loses what is on no die yet. With one die
// and 600 µs a page the arithmetic is by hand.
func TestAnUnprotectedSSDFlushesAndLoses(t *testing.T) {
	d := Description{Members: []Group{{Count: 1, Medium: Flash, Capacity: 64 * quantity.MiB, Dies: 1, ProgramTime: 600e-6, WriteCaching: true}}, Layout: Layout{Level: Concatenation}}
	protected := d
	protected.Members = []Group{d.Members[0]}
	protected.Members[0].WriteCaching = false
	for _, c := range []struct {
		d     Description
		flush float64 // nanoseconds at least
		lost  int64   // bytes of three pages
	}{{d, 2.9 * 600e3, 3 * pageSize}, {protected, 0, 0}} {
		a := build(t, c.d)
		at := func(r Request) int64 {
			if !one(a, r) {
				t.Errorf("%+v failed", r)
			}
			return a.now
		}
		write := func() (end int64) {
			for i := range 3 {
				end = at(Request{Write: true, Offset: int64(i) * pageSize, Length: pageSize})
			}
			return end
		}
		begun := a.now
		answered := write()
		flushed := at(Request{Flush: true})
		if took := float64(flushed - begun); answered-begun > 600e3 || took < c.flush || took > c.flush+700e3 {
			t.Errorf("volatile %v: three pages were answered after %d ns, and a flush after %.0f", c.d.Members[0].WriteCaching, answered-begun, took)
		}
		if again := at(Request{Flush: true}); again-flushed > 50e3 {
			t.Errorf("a flush of nothing took %d ns", again-flushed)
		}
		write()
		a.inject(Fault{Kind: PowerCut})
		lost := int64(0)
		if v := a.members[0].flash.volatile; v != nil {
			lost = v.lost
		}
		if lost != c.lost {
			t.Errorf("volatile %v: %d bytes were lost, want %d", c.d.Members[0].WriteCaching, lost, c.lost)
		}
		at(Request{Flush: true}) // once the power is back
	}
}
