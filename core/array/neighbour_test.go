package array

import (
	"strings"
	"testing"

	"patientheron/core/quantity"
)

// shared is an array that a controller limits, with a neighbour.
func shared(n Neighbour) Description {
	n.Name, n.Size = "mail", gb
	return Description{
		Members: []Group{{Count: 4, Medium: LowLatency, Capacity: gb, ReadTime: 1e-6, ProgramTime: 1e-6, Interface: 100e9}}, Layout: Layout{Level: Stripe},
		Controller: Controller{Operations: 10_000}, Neighbours: []Neighbour{n},
	}
}

// did is how many operations the first neighbour was answered since before.
func did(a *Array, before Totals) float64 {
	return float64(a.Totals().Neighbours[0].Answered - before.Neighbours[0].Answered)
}

// A station that serves in the order of arrival shares itself out by what each has in flight; a
// neighbour of a rate takes that, and leaves the rest.
func TestNeighboursShareAStation(t *testing.T) {
	for _, c := range []struct {
		n          Neighbour
		mine, next float64
	}{
		{Neighbour{Depth: 24}, 2500, 7500}, {Neighbour{Depth: 8}, 5000, 5000}, {Neighbour{Depth: 1, Writes: 1, Order: Sequential}, 10_000 * 8 / 9.0, 10_000 / 9.0},
		{Neighbour{Rate: 4000}, 6000, 4000},
	} {
		a := build(t, shared(c.n))
		next := random(a, 1, 8192, 0, false)
		closed(a, 8, 2000, next)
		before := a.Totals()
		r := closed(a, 8, 20_000, next)
		over := float64(a.Totals().At-before.At) / 1e9
		within(t, "measured", r.rate, c.mine, 0.02)
		within(t, "the neighbour", did(a, before)/over, c.next, 0.03)
		// Little's law of the neighbour.
		if c.n.Depth > 0 {
			took := (a.Totals().Neighbours[0].Took - before.Neighbours[0].Took) / 1e9
			within(t, "in flight", took/over, float64(c.n.Depth), 0.02)
		}
	}
}

// A neighbour begins and ends when it is said to.
func TestANeighbourComesAndGoes(t *testing.T) {
	a := build(t, shared(Neighbour{Depth: 8, At: 2, For: 2}))
	next := random(a, 1, 8192, 0, false)
	for i, want := range []float64{10_000, 5000, 10_000} {
		for at := int64(2*i)*1e9 + 1e8; a.Step(at); {
		}
		within(t, "measured", closed(a, 8, 8000, next).rate, want, 0.02)
	}
}

// What another controller owns leaves this one's to the volume, until that controller fails: then
// both share the one that is left.
func TestNeighboursOfAnotherController(t *testing.T) {
	d := shared(Neighbour{Depth: 8, Owner: 1})
	d.Controller = Controller{Operations: 10_000, Count: 2, Takeover: 1}
	d.Faults = []Fault{{Kind: ControllerFails, Controller: 1, At: 2}}
	a := build(t, d)
	next := random(a, 1, 8192, 0, false)
	for i, want := range []float64{10_000, 5000} {
		for at := int64(4*i) * 1e9; a.Step(at); {
		}
		before := a.Totals()
		within(t, "measured", closed(a, 8, 10_000, next).rate, want, 0.02)
		within(t, "the neighbour", did(a, before)/float64(a.Totals().At-before.At)*1e9, want, 0.03)
	}
}

// A neighbour lies behind the volume: it takes its room, and what it writes lies elsewhere.
func TestANeighbourHasRoomOfItsOwn(t *testing.T) {
	d := shared(Neighbour{Depth: 4, Writes: 1})
	alone := d
	alone.Neighbours = nil
	if d.Size() != alone.Size()-gb {
		t.Errorf("%s beside a neighbour of 1 GB, %s without", d.Size(), alone.Size())
	}
	a := build(t, d)
	w := &places{least: 1 << 62}
	a.watch = w
	for at := int64(1e9); a.Step(at); {
	}
	if end := int64(d.Usable()); w.count < 1000 || w.least < int64(a.Size()) || w.most > end {
		t.Errorf("%d writes from %d to %d, beside a volume of %d with %d in all", w.count, w.least, w.most, a.Size(), end)
	}
	if words := strings.Join(d.Words(), " "); !strings.Contains(words, "Beside it lies mail of 1 GB: random of 8 KiB, 100 % writes, 4 at a time.") {
		t.Error(words)
	}
	for why, change := range map[string]func(*Description){
		"leave nothing": func(d *Description) { d.Neighbours[0].Size = 100 * gb }, "one of its own": func(d *Description) { d.Neighbours = append(d.Neighbours, d.Neighbours[0]) },
		"leave out thin": func(d *Description) { d.Thin = &Thin{} }, "one of them": func(d *Description) { d.Neighbours[0].Rate = 5 }, "controllers": func(d *Description) { d.Neighbours[0].Owner = 1 },
		"leave out empty": func(d *Description) { d.Empty = 0.5 }, "not more than its size": func(d *Description) { d.Neighbours[0].Size, d.Neighbours[0].Block = quantity.MiB, 2*quantity.MiB },
	} {
		bad := shared(Neighbour{Depth: 4, Writes: 1})
		change(&bad)
		if err := bad.Validate(); err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %v", why, err)
		}
	}
}

// places watches where members are written.
type places struct {
	watcher
	least, most int64
	count       int
}

func (p *places) born(int32, int32) {}
func (p *places) planned(_ int32, _ *layout, _ kind, volume, _ int64, length int, _, _ []piece) {
	p.least, p.most, p.count = min(p.least, volume), max(p.most, volume+int64(length)), p.count+1
}
