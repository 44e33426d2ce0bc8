package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// thinly is a thin volume of which nothing was written.
func thinly(medium Medium, unit quantity.Bytes) Description {
	return Description{
		Members: []Group{{Count: 1, Medium: medium, Capacity: 4 * quantity.GiB}}, Layout: Layout{Level: Concatenation},
		Thin: &Thin{Unit: unit}, Empty: 1,
	}
}

// one answers a single operation, and whether it was well.
func one(a *Array, r Request) bool {
	a.Submit(r)
	for len(a.Done()) == 0 {
		a.Step(math.MaxInt64)
	}
	failed := a.Done()[0].Failed
	a.Forget()
	return !failed
}

// What is written first takes a unit, with zeros around it; what is written again takes
// nothing. What was never written is not read.
func TestAThinVolumeTakesRoomWhenItIsWritten(t *testing.T) {
	const unit, pages = 64 * quantity.KiB, 16
	a := build(t, thinly(Flash, unit))
	f := a.members[0].flash
	source := rand.New(rand.NewPCG(5, 5))
	units := int64(a.Size() / unit)
	written := map[int64]bool{}
	for range 20_000 {
		page := source.Int64N(int64(a.Size() / pageSize))
		one(a, Request{Write: true, Offset: page * pageSize, Length: pageSize})
		written[page/pages] = true
	}
	again := int64(20_000 - len(written))
	if want := int64(len(written))*pages + again; f.hostPages != want {
		t.Errorf("%d pages were programmed; %d units first and %d pages again are %d", f.hostPages, len(written), again, want)
	}
	// k draws of W units find W(1-(1-1/W)^k) of them.
	expected := float64(units) * (1 - math.Pow(1-1/float64(units), 20_000))
	within(t, "share of the pool in use", a.thin.used(), expected/float64(units), 0.01)
	busy := f.busy
	for unit := range units {
		if !written[unit] {
			one(a, Request{Offset: unit * pages * pageSize, Length: pageSize})
		}
	}
	if f.busy != busy {
		t.Error("reading what was never written keeps the drive busy")
	}
}

// Whatever comes first lies together: random first writes of whole units run at the
// rate of the media, and reading them in order does not any more.
func TestThinVolumesWriteInOrderAndReadScattered(t *testing.T) {
	d := thinly(HardDisk, quantity.MiB)
	d.Members[0].Capacity = 64 * quantity.GiB
	a := build(t, d)
	units := rand.New(rand.NewPCG(1, 2)).Perm(int(a.Size() / quantity.MiB))[:8000]
	placed := closed(a, 8, len(units)-8, func(i int) Request {
		return Request{Write: true, Offset: int64(units[i]) << 20, Length: 1 << 20}
	})
	outer := float64(d.expandedMembers()[0].OuterRate)
	within(t, "first writes at random", placed.rate*(1<<20), outer, 0.1)
	slices.Sort(units)
	read := closed(a, 1, 2000, func(i int) Request { return Request{Offset: int64(units[i]) << 20, Length: 1 << 20} })
	if read.rate*(1<<20) > 0.8*outer {
		t.Errorf("%.0f MB/s where every unit lies elsewhere", read.rate*(1<<20)/1e6)
	}
}

// After a snapshot each unit is copied when it is first written to, and not again; what
// goes with the snapshot is free again.
func TestSnapshotsCopyOnce(t *testing.T) {
	const unit = 64 * quantity.KiB
	d := thinly(LowLatency, unit)
	d.Empty, d.Thin.Size, d.Snapshots.Keep = 0, quantity.GiB, 2
	a := build(t, d)
	units := int64(d.Thin.Size / unit)
	source := rand.New(rand.NewPCG(3, 9))
	for round := range 4 {
		a.inject(Fault{Kind: Snapshot})
		before, copied, inUse := a.counters.memberOperations, a.thin.copied, a.thin.used()
		written := map[int64]bool{}
		for range 5000 {
			page := source.Int64N(int64(d.Thin.Size / pageSize))
			one(a, Request{Write: true, Offset: page * pageSize, Length: pageSize})
			written[page/16] = true
		}
		// Of each unit what the write leaves is read, one piece at either end of the unit
		// and two otherwise, and all of it is written once.
		first := int64(len(written))
		if got := a.thin.copied - copied; got != first*int64(unit) {
			t.Errorf("round %d: %d bytes copied, want those of %d units", round, got, first)
		}
		reads := a.counters.memberOperations - before - 5000
		within(t, "reads for each copy", float64(reads)/float64(first), 2-2.0/16, 0.02)
		if want := inUse + float64(first)/float64(a.thin.end); math.Abs(a.thin.used()-want) > 1e-9 {
			t.Errorf("round %d: %.4f of the pool is in use, want %.4f", round, a.thin.used(), want)
		}
	}
	a.inject(Fault{Kind: SnapshotGoes})
	a.inject(Fault{Kind: SnapshotGoes})
	if want := float64(units) / float64(a.thin.end); len(a.thin.held) > 0 || math.Abs(a.thin.used()-want) > 1e-9 {
		t.Errorf("without snapshots %d slots are held, and %.4f is in use, want %.4f", len(a.thin.held), a.thin.used(), want)
	}
}

// A pool that is full refuses what needs more room, and nothing else.
func TestAFullPoolRefusesWrites(t *testing.T) {
	const unit = quantity.MiB
	d := thinly(LowLatency, unit)
	d.Members[0].Capacity, d.Thin.Size = 64*quantity.MiB, 256*quantity.MiB
	a := build(t, d)
	for i := range int64(256) {
		if well := one(a, Request{Write: true, Offset: i << 20, Length: pageSize}); well != (i < 64) {
			t.Errorf("write to unit %d of a pool of 64: %v", i, well)
		}
	}
	if !one(a, Request{Write: true, Offset: 63<<20 + pageSize, Length: pageSize}) || !one(a, Request{Offset: 200 << 20, Length: pageSize}) {
		t.Error("what needs no room is refused")
	}
	one(a, Request{Trim: true, Offset: 10 << 20, Length: 2 << 20})
	if !one(a, Request{Write: true, Offset: 100 << 20, Length: pageSize}) || !one(a, Request{Write: true, Offset: 101 << 20, Length: 1 << 20}) || one(a, Request{Write: true, Offset: 102 << 20, Length: pageSize}) {
		t.Error("room that was given back is not used")
	}
	a.inject(Fault{Kind: Snapshot})
	if one(a, Request{Write: true, Offset: 0, Length: pageSize}) {
		t.Error("there was room for a copy in a full pool")
	}
	if a.thin.refused != 194 {
		t.Errorf("%d were refused", a.thin.refused)
	}
}

// What was given back through a layout is spare space of the drives: with half of the
// volume trimmed, writes to the other half are amplified as on drives twice as spare
// (Desnoyers 2012).
func TestTrimReachesTheDrives(t *testing.T) {
	for _, c := range []struct {
		level Level
		count int
		thin  bool
		tier  bool
	}{{Stripe, 2, false, false}, {Mirror, 2, false, false}, {Parity, 3, false, false}, {DoubleParity, 4, false, false}, {Stripe, 2, true, false}, {Stripe, 2, false, true}} {
		d := Description{Layout: Layout{Level: c.level}, Members: []Group{{Count: c.count, Medium: Flash, Capacity: 128 * quantity.MiB, BlockPages: 64, OverProvision: 0.2}}}
		if c.thin {
			d.Thin = &Thin{Unit: quantity.MiB}
		}
		if c.tier {
			d.Tier = &Tier{Members: Group{Count: 2, Medium: LowLatency, Capacity: 2 * quantity.MiB}, Extent: quantity.MiB, Every: 3600}
		}
		a := build(t, d)
		half := int64(a.Size()) / 2
		for at := int64(0); at < int64(a.Size()); at += 1 << 20 {
			one(a, Request{Write: true, Offset: at, Length: 1 << 20})
		}
		one(a, Request{Trim: true, Offset: half, Length: int(half)})
		closed(a, 8, int(half/pageSize)*10, random(a, 1, pageSize, quantity.Bytes(half), true))
		f := a.members[0].flash
		f.hostPages, f.programmed = 0, 0
		closed(a, 8, int(half/pageSize)*4, random(a, 2, pageSize, quantity.Bytes(half), true))
		alpha := float64((f.blocks-spareBlocks)*64) / float64(128*quantity.MiB/pageSize/2)
		want := alpha / (alpha + lambert(-alpha*math.Exp(-alpha)))
		within(t, fmt.Sprintf("write amplification of %s, thin %v, tier %v", c.level, c.thin, c.tier), a.WriteAmplification(0), want, 0.04)
	}
}
