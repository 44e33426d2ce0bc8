package array

import (
	"math"
	"math/rand/v2"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// What members pass together is what the expanders carry, in each direction: what is read comes,
// what is written goes, with all copies and parity.
func TestShelvesShareAWidth(t *testing.T) {
	const width = 300e6
	for _, c := range []struct {
		level Level
		write bool
		block int
		bytes float64 // in the busier direction, for each byte
	}{
		{Stripe, false, 1 << 20, 1}, {Stripe, true, 1 << 20, 1}, {MirrorStripe, false, 1 << 20, 1}, {MirrorStripe, true, 1 << 20, 2},
		{Parity, true, 4096, 2}, {DoubleParity, true, 4096, 3},
	} {
		for _, dealt := range []Dealt{InOrder, InTurn} {
			d := Description{Members: []Group{{Count: 8, Medium: LowLatency, Capacity: gb, ReadTime: 1e-6, ProgramTime: 1e-6, Interface: 100e9}}, Layout: Layout{Level: c.level}}
			d.Shelves = Shelves{Count: 2, Rate: width, Dealt: dealt}
			a := build(t, d)
			next := random(a, 1, c.block, 0, c.write)
			closed(a, 128, 500, next)
			got := closed(a, 128, 3000, next).rate * float64(c.block)
			within(t, string(c.level), got, 2*width/c.bytes, 0.05)
			explained := setup.Limit(d.Setup().Ceilings(setup.Use{Reads: quantity.Share(1 - bit(c.write)), Block: quantity.Bytes(c.block)}))
			if explained == nil || explained.Name != "shelves" || math.Abs(float64(explained.Rate)*float64(c.block)/(2*width/c.bytes)-1) > 0.001 {
				t.Errorf("%s: explained as %+v", c.level, explained)
			}
		}
	}
}

// Whether data survive the loss of any shelf is what the simulation finds when it reads everything
// without each of them.
func TestTheLossOfAShelf(t *testing.T) {
	source := rand.New(rand.NewPCG(3, 3))
	survived := 0
	for range 200 {
		d := anyArray(source)
		members := len(d.expandedMembers())
		d.Members[0].Medium, d.Members[0].Capacity = LowLatency, 8*quantity.MiB
		d.Caches, d.Tier, d.Link, d.Replica, d.Controller = nil, nil, Link{}, nil, Controller{}
		d.Layout.Chunk = min(d.Layout.Chunk, 64*quantity.KiB)
		d.Shelves = Shelves{Count: 1 + source.IntN(members), Dealt: []Dealt{InOrder, InTurn}[source.IntN(2)]}
		if d.Validate() != nil {
			continue
		}
		want := setup.Yes
		for shelf := range d.Shelves.Count {
			a := build(t, d)
			if err := a.Inject(Fault{Kind: ShelfFails, Shelf: shelf}); err != nil {
				t.Fatal(err)
			}
			count := int(int64(a.Size()) / (64 << 10))
			if closed(a, 1, count, sequential(0, 64<<10, false)).failed > 0 {
				want = setup.No
			}
		}
		after := d.Setup().After(setup.AShelf)
		if after.Survives != want && d.Layout.Stripe == 0 {
			t.Errorf("%+v of %d members in %+v: %s (%s), found %s", d.Layout, members, d.Shelves, after.Survives, after.Words, want)
		} else if after.Survives == setup.Yes && want == setup.No {
			t.Errorf("%+v of %d members in %+v is said to survive", d.Layout, members, d.Shelves)
		}
		survived += bit(want == setup.Yes)
	}
	if survived < 20 {
		t.Errorf("%d survived", survived)
	}
}
