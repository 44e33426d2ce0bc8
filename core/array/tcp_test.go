package array

import (
	"math"
	"testing"

	"patientheron/core/quantity"
)

// far is storage that takes no time behind a long line.
func far(trip quantity.Seconds, change func(*Link)) Description {
	d := Description{Members: []Group{{Count: 8, Medium: LowLatency, Capacity: gb, ReadTime: 1e-6, ProgramTime: 1e-6, Interface: 100e9}}, Layout: Layout{Level: Stripe}}
	d.Link = Link{Rate: 1250e6, RoundTrip: trip}
	change(&d.Link)
	return d
}

// What a connection passes is its window for each round trip, whatever the line could carry, and
// several connections pass so many of them; in both directions.
func TestWindowsOverRoundTrips(t *testing.T) {
	const window, trip = 256 * quantity.KiB, 0.05
	for _, connections := range []int{1, 4} {
		for _, isWrite := range []bool{false, true} {
			a := build(t, far(trip, func(l *Link) { l.Window, l.Connections = window, connections }))
			closed(a, 16, 64, random(a, 1, 1<<20, 0, isWrite))
			r := closed(a, 16, 400, random(a, 2, 1<<20, 0, isWrite))
			within(t, "windows over round trips", r.rate*(1<<20), float64(connections)*float64(window)/trip, 0.02)
		}
	}
	// Of one operation the first window goes at once, and each other one a round trip later.
	a := build(t, far(trip, func(l *Link) { l.Window = window }))
	r := closed(a, 1, 1, random(a, 1, 1<<20, 0, false))
	within(t, "one operation of four windows", r.latency, 3*trip+trip, 0.02)
	// A window that the line does not fill changes nothing.
	open, wide := build(t, far(trip, func(*Link) {})), build(t, far(trip, func(l *Link) { l.Window = 1 << 30 }))
	if o, w := closed(open, 4, 100, random(open, 3, 1<<20, 0, false)), closed(wide, 4, 100, random(wide, 3, 1<<20, 0, false)); o.rate != w.rate {
		t.Errorf("%.3f a second without a window, %.3f with a large one", o.rate, w.rate)
	}
}

// A connection that loses segments carries segment / round trip × √(3/2p) (Mathis et al., 1997),
// and each operation of which one is lost takes a round trip more.
func TestLostSegments(t *testing.T) {
	const trip, loss = 0.01, 1e-3
	a := build(t, far(trip, func(l *Link) { l.Loss = loss }))
	closed(a, 16, 64, random(a, 1, 1<<20, 0, false))
	r := closed(a, 16, 400, random(a, 2, 1<<20, 0, false))
	within(t, "a stream of a lossy connection", r.rate*(1<<20), 1460/trip*math.Sqrt(1.5/loss), 0.02)

	const more = 0.02
	a = build(t, far(trip, func(*Link) {}))
	before := closed(a, 1, 5000, random(a, 1, 4096, 0, false))
	a = build(t, far(trip, func(l *Link) { l.Loss = more }))
	after := closed(a, 1, 5000, random(a, 1, 4096, 0, false))
	lost := more + 1 - math.Pow(1-more, 3) // one segment there, three back
	within(t, "a lost segment costs a round trip", after.latency-before.latency, lost*trip, 0.05)
}

// A path that loses segments for a time is slower for that time.
func TestAPathThatLosesForATime(t *testing.T) {
	d := far(0.01, func(*Link) {})
	d.Faults = []Fault{{Kind: PathLoses, At: 1, For: 190, Share: 0.01}}
	a := build(t, d)
	var rates, windows [3]float64
	for i := range rates {
		for at := int64(i*i) * 50e9; a.Now() < at; {
			a.Step(at)
		}
		before := a.Totals()
		rates[i] = closed(a, 4, 100, random(a, uint64(i), 1<<20, 0, false)).rate
		for _, c := range a.Inside(before) {
			if c.Name == "window 0 busy" {
				windows[i] = c.Value
			}
		}
	}
	if windows[0] != 0 || windows[1] < 0.9 || windows[2] > 0.1 {
		t.Errorf("the window is busy for %.2f, %.2f and %.2f of the time before, while and after segments are lost", windows[0], windows[1], windows[2])
	}
	within(t, "while segments are lost", rates[1]*(1<<20), 1460/0.01*math.Sqrt(1.5/0.01), 0.1)
	within(t, "and afterwards", rates[2], rates[0], 0.01)
}
