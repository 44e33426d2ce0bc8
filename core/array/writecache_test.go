package array

import (
	"math"
	"math/rand/v2"
	"testing"

	"patientheron/core/quantity"
)

// cachingDisks are disks with volatile memory for writes.
func cachingDisks(level Level, count int) Description {
	return Description{Members: []Group{{Count: count, Medium: HardDisk, Capacity: 8 * quantity.MiB, WriteCaching: true}}, Layout: Layout{Level: level}}
}

// What a cache tells to be dirty are the bytes that were written and are not passed on, and not the
// blocks that they lie in: each counted by itself.
func TestDirtyIsWhatWasWritten(t *testing.T) {
	d := disks(4)
	d.Caches = []Cache{{Name: "memory", Size: 64 * quantity.MiB, Mode: WriteBack, Protected: true}}
	a := build(t, d)
	before, source := a.Totals(), rand.New(rand.NewPCG(1, 5))
	written := map[int64]bool{}
	closed(a, 1, 200, func(int) Request {
		at := source.Int64N(1<<20) * 4096
		written[at] = true
		return Request{Write: true, Offset: at, Length: 4096}
	})
	told := -1.0
	for _, c := range a.Inside(before) {
		if c.Name == "memory dirty" {
			told = c.Value
		}
	}
	c := a.caches[0]
	passed := c.written - c.passing // which neighbours may have been written with
	if most := float64(int64(len(written)) * 4096); told > most || told < most-float64(passed) || told == 0 {
		t.Errorf("%.0f bytes are told to be dirty of %.0f that were written; %d were passed on", told, most, passed)
	}
}

// held is what the drives' own memories hold.
func held(a *Array) (bytes int64) {
	for _, m := range a.members {
		if m.disk != nil && m.disk.cache != nil {
			bytes += m.disk.cache.held
		}
	}
	return bytes
}

// What the array moves or makes anew of its own accord had to last before, so that it is
// never in a drive's volatile memory alone.
func TestTheArraysOwnWorkLasts(t *testing.T) {
	tiered := cachingDisks(Stripe, 2)
	tiered.Empty = 1
	tiered.Tier = &Tier{Members: Group{Count: 2, Medium: Flash, Capacity: 8 * quantity.MiB}, Extent: quantity.MiB, Every: 0.01, Rate: 1e9}
	for name, c := range map[string]struct {
		d      Description
		before func(*Array)
		done   func(*Array) bool
	}{
		"rebuild": {cachingDisks(Mirror, 2), func(a *Array) {
			a.inject(Fault{Kind: MemberFails, Member: 1})
			a.inject(Fault{Kind: RebuildBegin, Member: 1, Rate: 1e9})
		}, func(a *Array) bool { return !a.members[1].failed }},
		"relocation": {tiered, func(a *Array) {
			for at := int64(0); at < 8<<20; at += 1 << 20 {
				one(a, Request{Write: true, Offset: at, Length: 1 << 20})
			}
			a.inject(Fault{Kind: TierLeaves})
		}, func(a *Array) bool { return a.tier.used() == 0 }},
		"scrub": {cachingDisks(Mirror, 2), func(a *Array) {
			a.inject(Fault{Kind: BitsRot, Member: 1, Count: 20})
			a.inject(Fault{Kind: Scrub, Rate: 1e9})
		}, func(a *Array) bool { return a.counters.rotRepaired == 20 }},
	} {
		a := build(t, c.d)
		c.before(a)
		for steps := 0; !c.done(a); steps++ {
			if !a.Step(math.MaxInt64) || steps > 1e6 {
				t.Fatalf("%s: it does not come to an end", name)
			}
			if bytes := held(a); bytes > 0 {
				t.Fatalf("%s: %d bytes are in the drives' memories at %d", name, bytes, a.Now())
			}
		}
	}
}

// Ranges of a drive's memory against a plain set of sectors.
func TestRangesOfADrivesMemory(t *testing.T) {
	source := rand.New(rand.NewPCG(2, 2))
	const sectors = 300
	c := newWriteCache(1 << 30)
	var set [sectors]bool
	for range 20_000 {
		from := source.Int64N(sectors)
		to := from + 1 + source.Int64N(min(sectors-from, 40))
		put := source.IntN(2) == 0
		if put {
			c.put(from*sector, to*sector)
		} else {
			c.drop(from*sector, to*sector)
		}
		if source.IntN(10) == 0 {
			c.epoch++
		}
		count := int64(0)
		for s := range int64(sectors) {
			if s >= from && s < to {
				set[s] = put
			}
			if set[s] {
				count++
			}
			if c.holds(s*sector, (s+1)*sector) != set[s] {
				t.Fatalf("sector %d is held: %v", s, !set[s])
			}
		}
		if c.held != count*sector {
			t.Fatalf("%d bytes are held, want %d", c.held, count*sector)
		}
	}
}

// Writes that wait for room when the power is cut are taken when it is back.
func TestWritesThatWaitAreTakenAfterAPowerCut(t *testing.T) {
	d := cachingDisks(Concatenation, 1)
	d.Members[0].WriteBuffer = 64 * quantity.KiB
	a := build(t, d)
	a.Submit(Request{Offset: 7 << 20, Length: 1 << 20})
	for i := range 19 {
		a.Submit(Request{Tag: i, Write: true, Offset: int64(i) << 18, Length: 32 << 10})
	}
	for len(a.members[0].disk.cache.waiting) == 0 && a.Step(math.MaxInt64) {
	}
	if a.members[0].disk.current < 0 {
		t.Fatal("the head does not read")
	}
	a.inject(Fault{Kind: PowerCut})
	for a.Step(math.MaxInt64) {
	}
	if len(a.Done()) != 20 {
		t.Errorf("%d of 20 writes are answered", len(a.Done()))
	}
}

// What has to last goes past a drive's memory, and takes the place of what that holds.
func TestWhatHasToLastGoesPastTheDrivesMemory(t *testing.T) {
	d := cachingDisks(Concatenation, 1)
	d.Caches = []Cache{{Name: "memory", Size: quantity.MiB, Mode: WriteBack, Protected: true, Bypass: 64 * quantity.KiB}}
	a := build(t, d)
	for i := range 40 { // what it holds waits behind them
		a.Submit(Request{Offset: 4<<20 + int64(i)<<16, Length: 4096})
	}
	until := func(bytes int64) bool {
		for held(a) != bytes {
			if !a.Step(math.MaxInt64) {
				return false
			}
		}
		return true
	}
	a.Submit(Request{Write: true, Length: 64 << 10}) // past the protected memory
	if !until(64 << 10) {
		t.Fatal("the drive keeps nothing")
	}
	a.Submit(Request{Write: true, Offset: 8192, Length: 4096})
	if !until(60 << 10) {
		t.Error("what was written out of protected memory is kept in that of the drive")
	}
}

// A flush that a log answers for what a cache holds goes on to the drives, for what went
// past the cache.
func TestAFlushWithALogReachesTheDrives(t *testing.T) {
	d := cachingDisks(Concatenation, 1)
	d.Caches = []Cache{{Name: "memory", Size: quantity.MiB, Mode: WriteBack, Bypass: 64 * quantity.KiB, Log: &Log{}}}
	a := build(t, d)
	for i := range 40 { // what the drive holds waits behind them
		a.Submit(Request{Tag: i, Offset: 4<<20 + int64(i)<<16, Length: 4096})
	}
	a.Submit(Request{Tag: 100, Write: true, Offset: 1 << 20, Length: 4096}) // into the memory
	a.Submit(Request{Tag: 101, Write: true, Length: 64 << 10})              // past it
	for held(a) < 64<<10 && a.Step(math.MaxInt64) {
	}
	a.Submit(Request{Tag: 102, Flush: true})
	for a.Step(math.MaxInt64) {
		for _, done := range a.Done() {
			if done.Tag == 102 && held(a) > 0 {
				t.Errorf("%d bytes are in the drive's memory when the flush is answered", held(a))
			}
		}
		a.Forget()
	}
}

// A write that takes the place of what is safe, and goes past, has to last: a power cut
// would leave what was there before both.
func TestWhatTakesThePlaceOfWhatIsSafeLasts(t *testing.T) {
	d := cachingDisks(Parity, 3)
	d.Caches = []Cache{{Name: "memory", Size: quantity.MiB, Mode: WriteBack, Protected: true, Bypass: 64 * quantity.KiB}}
	for offset, lasts := range map[int64]bool{0: true, 4 << 20: false} {
		a := build(t, d)
		one(a, Request{Write: true, Offset: 8192, Length: 4096}) // dirty until its stripe is complete, or for a while
		a.Submit(Request{Write: true, Offset: offset, Length: 64 << 10})
		most := int64(0)
		for len(a.Done()) == 0 && a.Step(math.MaxInt64) {
			most = max(most, held(a))
		}
		if lasts != (most == 0) {
			t.Errorf("a write at %d: up to %d bytes were in the drives' memories", offset, most)
		}
	}
}
