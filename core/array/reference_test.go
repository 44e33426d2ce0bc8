package array

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// Small simulations of the same things, as plain as can be.

// naiveFlash keeps its log as a queue of blocks, and looks everything up.
type naiveFlash struct {
	perBlock, most int
	blocks         [][]int // logical pages, oldest block first; the last one is filled
	programmed     int
}

func (f *naiveFlash) current(page int) (block, at int) {
	for b := len(f.blocks) - 1; b >= 0; b-- {
		for i := len(f.blocks[b]) - 1; i >= 0; i-- {
			if f.blocks[b][i] == page {
				return b, i
			}
		}
	}
	return -1, -1
}

func (f *naiveFlash) trim(page int) {
	if b, i := f.current(page); b >= 0 {
		f.blocks[b][i] = -1
	}
}

func (f *naiveFlash) program(page int) {
	f.trim(page)
	if len(f.blocks) == 0 || len(f.blocks[len(f.blocks)-1]) == f.perBlock {
		f.blocks = append(f.blocks, nil)
	}
	last := len(f.blocks) - 1
	f.blocks[last] = append(f.blocks[last], page)
	f.programmed++
}

func (f *naiveFlash) write(page int) {
	f.program(page)
	for len(f.blocks) > f.most {
		for _, held := range slices.Clone(f.blocks[0]) {
			if held >= 0 {
				f.program(held)
			}
		}
		f.blocks = f.blocks[1:]
	}
}

func TestFlashAgainstAPlainOne(t *testing.T) {
	g := Group{Medium: Flash, Capacity: 300 * pageSize, OverProvision: 0.2, BlockPages: 16}.completed()
	f := newFlash(g, 1)
	plain := &naiveFlash{perBlock: 16, most: f.blocks - spareBlocks}
	source := rand.New(rand.NewPCG(6, 6))
	for i := range 20_000 {
		page := source.IntN(300)
		if source.IntN(3) > 0 {
			page = source.IntN(40)
		}
		if source.IntN(8) == 0 {
			f.trim(int64(page))
			plain.trim(page)
			continue
		}
		f.write(0, int64(page), f.nextDie(), 1, 1)
		plain.write(page)
		if f.programmed != int64(plain.programmed) {
			t.Fatalf("after %d operations %d pages were programmed, plainly %d", i, f.programmed, plain.programmed)
		}
	}
	if plain.programmed < 20_000 {
		t.Error("nothing was ever cleaned")
	}
}

// One page that stands for eight has the write amplification and the rate of all
// eight, and takes an eighth of the memory.
func TestAFollowedPageStandsForItsGroup(t *testing.T) {
	g := Group{Medium: Flash, Capacity: quantity.GiB, OverProvision: 0.15, BlockPages: 64}.completed()
	var amplification, took, busy [2]float64
	for i, scale := range []int{1, 8} {
		f := newFlash(g, scale)
		pages := int(g.Capacity / pageSize)
		source := rand.New(rand.NewPCG(5, 5))
		at := 0.0
		write := func(count int, page func(int) int) {
			for k := range count {
				counts, _ := f.write(at, int64(page(k)), f.nextDie(), 1, 1)
				at = max(at, counts-buffered*600e3)
			}
		}
		write(pages, func(k int) int { return k })
		write(3*pages, func(int) int { return source.IntN(pages) })
		f.hostPages, f.programmed = 0, 0
		began, worked := slices.Max(f.dies), f.busy
		write(2*pages, func(int) int { return source.IntN(pages) })
		amplification[i] = float64(f.programmed) / float64(f.hostPages)
		took[i], busy[i] = slices.Max(f.dies)-began, (f.busy-worked)/float64(len(f.dies))
	}
	within(t, "write amplification", amplification[1], amplification[0], 0.03)
	within(t, "work of two drives' worth of writes", busy[1], busy[0], 0.03)
	within(t, "time of two drives' worth of writes", took[1], took[0], 0.03)

	d := Description{Members: []Group{{Count: 24, Medium: Flash, Capacity: 5000 * gb}}, Layout: Layout{Level: DoubleParity}}
	if d.Usable() < 100e12 || d.Memory() > 2*quantity.GiB || d.Validate() != nil {
		t.Errorf("%s of flash take %s, %v", d.Usable(), d.Memory(), d.Validate())
	}
}

// The cache against a list in order of use.
func TestCacheAgainstAPlainList(t *testing.T) {
	d := cached(ReadOnly, 64*64*quantity.KiB)
	d.Members[0].Medium, d.Caches[0].Block = LowLatency, 64*quantity.KiB
	a := build(t, d)
	source := rand.New(rand.NewPCG(2, 9))
	type part struct{ block, page int64 }
	var order []int64 // blocks, least recently used first
	held := map[part]bool{}
	hits := int64(0)
	closed(a, 1, 20_000, func(i int) Request {
		if i == 20_000 {
			return Request{Offset: 0, Length: 4096}
		}
		block, first, count := source.Int64N(100), source.Int64N(16), int64(1)
		if source.IntN(3) == 0 {
			count = 1 + source.Int64N(16-first)
		}
		r := Request{Offset: block<<16 + first*4096, Length: int(count) * 4096, Write: source.IntN(4) == 0}
		at := slices.Index(order, block)
		if r.Write { // goes past, and what is there is dropped
			left := false
			for p := range int64(16) {
				if p >= first && p < first+count {
					delete(held, part{block, p})
				}
				left = left || held[part{block, p}]
			}
			if at >= 0 && !left {
				order = slices.Delete(order, at, at+1)
			}
			return r
		}
		all, some := true, false
		for p := first; p < first+count; p++ {
			all = all && held[part{block, p}]
			some = some || held[part{block, p}]
		}
		if all {
			hits++
		} else {
			if at < 0 && len(order) == 64 {
				for p := range int64(16) {
					delete(held, part{order[0], p})
				}
				order = order[1:]
			}
			for p := first; p < first+count; p++ {
				held[part{block, p}] = true
			}
		}
		if at := slices.Index(order, block); at >= 0 {
			order = slices.Delete(order, at, at+1)
		}
		order = append(order, block)
		_ = some
		return r
	})
	if got := a.caches[0].hits; got != hits {
		t.Errorf("%d hits, a plain list has %d", got, hits)
	}
	if hits < 1000 {
		t.Errorf("only %d hits", hits)
	}
}

// Relocation against sorting by heat: after each look every slot holds one extent, is promised to one
// or free, and in the end what is hottest lies on the tier and what comes next on those between.
func TestTiersAgainstSorting(t *testing.T) {
	lower := func(size quantity.Bytes) LowerTier {
		return LowerTier{Members: Group{Count: 2, Medium: LowLatency, Capacity: size, Units: 4}}
	}
	for name, between := range map[string][]LowerTier{
		"one tier": nil, "two tiers": {lower(128 * quantity.MiB)}, "three tiers": {lower(64 * quantity.MiB), lower(200 * quantity.MiB)},
	} {
		t.Run(name, func(t *testing.T) {
			d := tiered()
			d.Tier.Rate, d.Tier.Every, d.Tier.Lower = 1e12, 0.5, between
			a := build(t, d)
			source := rand.New(rand.NewPCG(3, 1))
			round := func(round int, hot func(round int) int) {
				for until := int64(float64(round+1) * 0.5e9); a.Now() < until-20e6; {
					at := int64(hot(round))*a.tier.extent + source.Int64N(a.tier.extent/4096)*4096
					if at+4096 > a.size {
						continue
					}
					a.Submit(Request{Offset: at, Length: 4096, Write: source.IntN(3) == 0})
					for len(a.Done()) == 0 {
						a.Step(math.MaxInt64)
					}
					a.Forget()
				}
				for a.Step(int64(float64(round+1) * 0.5e9)) {
				}
				allSlotsAreKept(t, a)
			}
			all := len(a.tier.place)
			for i := range 12 { // what is hot moves on
				round(i, func(i int) int {
					if source.IntN(4) == 0 {
						return source.IntN(all)
					}
					return (i/4*37 + source.IntN(24)) % all
				})
			}
			// Each extent of the first rank is asked for thrice as often as one of the next, and so on.
			ranks := []int{0}
			for i := range a.tier.parts {
				ranks = append(ranks, ranks[i]+a.tier.parts[i].slots*3/4)
			}
			for i := range 16 {
				round(12+i, func(int) int {
					rank, weight := 0, source.IntN(1<<(2*len(ranks)))
					for rank < len(a.tier.parts)-1 && weight < 1<<(2*(len(ranks)-1-rank)) {
						rank++
					}
					return ranks[rank] + source.IntN(ranks[rank+1]-ranks[rank])
				})
			}
			type warm struct {
				extent int
				heat   float64
			}
			var list []warm
			for extent, h := range a.tier.heat {
				list = append(list, warm{extent, h})
			}
			slices.SortFunc(list, func(x, y warm) int { return cmp.Compare(y.heat, x.heat) })
			at := 0
			for i := range a.tier.parts {
				p := &a.tier.parts[i]
				wrong, most := 0, p.slots/2
				for _, w := range list[at : at+most] {
					if place := a.tier.place[w.extent]; place < 0 || place >= p.first+int32(p.slots) {
						wrong++
					}
				}
				if wrong > 1+most/20 { // one may just be on its way
					t.Errorf("%d of %d extents that should lie on tier %d or above lie below it", wrong, most, i)
				}
				at += p.slots
			}
		})
	}
}

// allSlotsAreKept holds that each slot is taken once, promised or free.
func allSlotsAreKept(t *testing.T, a *Array) {
	t.Helper()
	taken, promised, slots, free := map[int32]bool{}, map[int32]bool{}, 0, 0
	for _, place := range a.tier.place {
		if place >= 0 && taken[place] {
			t.Fatalf("two extents in slot %d", place)
		}
		taken[place] = place >= 0
	}
	delete(taken, -1)
	for _, m := range a.tier.plans {
		if m.slot >= 0 && !taken[m.slot] {
			promised[m.slot] = true
		}
	}
	for i := range a.tier.parts {
		p := &a.tier.parts[i]
		slots += p.slots
		for _, slot := range p.spare {
			if taken[slot] || promised[slot] || a.tier.part(slot) != p {
				t.Fatalf("slot %d is free, and taken or of another tier", slot)
			}
			free++
		}
	}
	if got := len(taken) + len(promised) + free; got != slots {
		t.Fatalf("%d slots are taken, %d promised and %d free of %d", len(taken), len(promised), free, slots)
	}
}

// A rebuild takes the rate that was asked for, uses what is done at once, shows how
// far it is, and survives a further failure that the layout survives.
func TestRebuild(t *testing.T) {
	d := wide(6, DoubleParity)
	d.Members[0].Capacity = 4 * gb
	d.Faults = []Fault{{Kind: MemberFails, Member: 1}, {Kind: RebuildBegin, Member: 1, Rate: 150e6}}
	a := build(t, d)
	for a.Step(13e9) {
	}
	m := a.members[1]
	within(t, "bytes made anew in 13 s at 150 MB/s", float64(m.upTo), 13*150e6, 0.03)
	shown := map[string]float64{}
	for _, c := range a.Inside(Totals{Busy: make([]float64, 6), Lines: make([]float64, 6), Rebuilt: make([]int64, 6)}) {
		shown[c.Name] = c.Value
	}
	within(t, "progress", shown["member 1 rebuilt"], float64(m.upTo)/4e9, 0.001)
	within(t, "rate of the rebuild", shown["member 1 rebuild"], 150e6, 0.03)
	// Behind the frontier a read costs four others, before it one.
	cost := func(at int64) float64 {
		before := a.counters.memberOperations
		for i := range int64(24) {
			a.Submit(Request{Offset: at + i*65536, Length: 4096})
		}
		for len(a.Done()) < 24 {
			a.Step(math.MaxInt64)
		}
		a.Forget()
		return float64(a.counters.memberOperations-before) / 24
	}
	a.rebuilds[0].gap = 1e6 // it stands still meanwhile
	a.rebuilds[0].due = 1e15
	for until := a.Now() + 1e9; a.Step(until); {
	}
	ready, lacking := cost(0), cost(a.size*9/10)
	within(t, "members read where it is done", ready, 1, 0.001)
	if lacking < 1.3 {
		t.Errorf("%.2f members read where it is not done", lacking)
	}
	a.rebuilds[0].gap, a.rebuilds[0].due = perSecond(150e6), 0
	a.events.add(a.Now(), rebuildOn, 0)
	a.inject(Fault{Kind: MemberFails, Member: 4})
	a.inject(Fault{Kind: RebuildBegin, Member: 4, Rate: 150e6})
	for a.members[1].failed || a.members[4].failed {
		if !a.Step(math.MaxInt64) {
			t.Fatal(fmt.Sprint("the rebuilds stopped at ", a.members[1].upTo, a.members[4].upTo))
		}
	}
}
