package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// reducing is an empty volume on one SSD that stores less than is written.
func reducing(unit, size quantity.Bytes) Description {
	d := thinly(Flash, unit)
	d.Members[0].Capacity, d.Thin.Size, d.Thin.Compresses = quantity.GiB, size, true
	return d
}

// fillUnits writes all units in order until one fails, and gives how many did not.
func fillUnits(a *Array) (units int64) {
	unit := a.thin.unit
	for ; (units+1)*unit <= int64(a.Size()) && one(a, Request{Write: true, Offset: units * unit, Length: int(unit)}); units++ {
	}
	return units
}

// A unit of eight pages of which a share can be removed takes the pages that are left,
// begun ones whole: so much more fits, so much less is programmed.
func TestCompressedUnitsTakeTheirPages(t *testing.T) {
	const unit, pages = 32 * quantity.KiB, 8
	for _, compressible := range []float64{0, 0.1, 0.25, 0.5, 0.55, 0.9, 1} {
		a := build(t, reducing(unit, 10*quantity.GiB))
		a.Writes(compressible, 0)
		each := int64(max(math.Ceil(pages*(1-compressible)), 1))
		want := min(int64(quantity.GiB/pageSize)/each, int64(10*quantity.GiB/unit))
		if got := fillUnits(a); got != want {
			t.Errorf("%v: %d units fit, want %d of %d pages each", compressible, got, want, each)
		}
		if f := a.members[0].flash; f.hostPages != want*each {
			t.Errorf("%v: %d pages were programmed, want %d", compressible, f.hostPages, want*each)
		}
	}
}

// A small write to a compressed unit reads and writes all of what it takes, a small read
// reads that; of one that is stored as it is, a read needs only its own pages.
func TestSmallOperationsOnCompressedUnits(t *testing.T) {
	const unit, count = 32 * quantity.KiB, 500
	for compressible, takes := range map[float64]int64{0.5: 4, 0.75: 2, 0: 8} {
		a := build(t, reducing(unit, quantity.GiB/2))
		a.Writes(compressible, 0)
		fillUnits(a)
		f := a.members[0].flash
		programmed, read := f.hostPages, pagesRead(a)
		source := rand.New(rand.NewPCG(4, 4))
		for range count {
			one(a, Request{Write: true, Offset: source.Int64N(int64(a.Size()/pageSize)) * pageSize, Length: pageSize})
		}
		rest := takes // of a unit as it is, what the write leaves
		if compressible == 0 {
			rest = 7
		}
		if got := f.hostPages - programmed; got != count*takes {
			t.Errorf("%v: %d pages programmed, want %d", compressible, got, count*takes)
		}
		if got := pagesRead(a) - read; got != count*rest {
			t.Errorf("%v: %d pages read for writes, want %d", compressible, got, count*rest)
		}
		read = pagesRead(a)
		for range count {
			one(a, Request{Offset: source.Int64N(int64(a.Size()/pageSize)) * pageSize, Length: pageSize})
		}
		if want := int64(count); compressible == 0 && pagesRead(a)-read != want || compressible > 0 && pagesRead(a)-read != want*takes {
			t.Errorf("%v: %d pages read for reads", compressible, pagesRead(a)-read)
		}
	}
}

// pagesRead is how many pages the first SSD has read for others: by the time its dies
// spent, less what they spent programming without cleaning.
func pagesRead(a *Array) int64 {
	f := a.members[0].flash
	return int64(math.Round((f.busy - float64(f.hostPages)*float64(f.group.ProgramTime)*1e9) / (float64(f.group.ReadTime) * 1e9)))
}

// Of pages of which a share repeats one of sixteen, those that do not and the sixteen are
// stored; of units of two pages the share is its square, and they are 256.
func TestRepeatedUnitsAreStoredOnce(t *testing.T) {
	for pages, kinds := range map[int64]float64{1: 16, 2: 256} {
		for _, duplicate := range []float64{0, 0.3, 0.8} {
			d := reducing(quantity.Bytes(pages)*pageSize, quantity.GiB)
			d.Thin.Compresses, d.Thin.Deduplicates = false, true
			d.Thin.Size = 256 * quantity.MiB
			a := build(t, d)
			a.Writes(0, duplicate)
			units := float64(fillUnits(a))
			share := math.Pow(duplicate, float64(pages))
			within(t, fmt.Sprintf("units of %d pages stored, %v repeated", pages, duplicate), float64(a.thin.reduced.entries), units*(1-share)+min(kinds, units*share), 0.02)
			if used := float64(a.thin.reduced.entries*pages) / float64(a.thin.end); math.Abs(a.thin.used()-used) > 1e-9 {
				t.Errorf("%.4f of the pool is in use, want %.4f", a.thin.used(), used)
			}
			if want := a.thin.reduced.entries * pages; a.members[0].flash.hostPages != want {
				t.Errorf("%d pages programmed, want %d", a.members[0].flash.hostPages, want)
			}
		}
	}
}

// Of an index larger than its memory the rest is looked up on the members, before what
// is written is: the share 1 - memory/entries of the writes, as many reads of a page.
func TestAnIndexBeyondMemoryCostsReads(t *testing.T) {
	d := reducing(pageSize, 256*quantity.MiB)
	d.Thin.Compresses, d.Thin.Deduplicates = false, true
	units := int64(d.Thin.Size / pageSize)
	d.Thin.Index = quantity.Bytes(units) / 4 * indexEntry
	a := build(t, d)
	fillUnits(a)
	// While it grows to four times the memory, 1-1/x of the writes from x = 1 on.
	within(t, "looks while it grows", float64(a.thin.reduced.looked)/float64(units), 0.75-math.Log(4)/4, 0.01)
	looked, read := a.thin.reduced.looked, pagesRead(a)
	source := rand.New(rand.NewPCG(4, 5))
	const count = 20_000
	for range count {
		one(a, Request{Write: true, Offset: source.Int64N(units) * pageSize, Length: pageSize})
	}
	within(t, "looks afterwards", float64(a.thin.reduced.looked-looked)/count, 0.75, 0.01)
	if got := pagesRead(a) - read; got != a.thin.reduced.looked-looked {
		t.Errorf("%d pages read for %d looks", got, a.thin.reduced.looked-looked)
	}
}

// The processors pass what they can, of reads and writes together, and nobody waits for
// them who writes less.
func TestProcessorsThatReduce(t *testing.T) {
	d := thinly(LowLatency, 16*quantity.KiB)
	d.Members = []Group{{Count: 4, Medium: LowLatency, Capacity: quantity.GiB}}
	d.Layout.Level, d.Empty = Stripe, 0.5
	d.Thin.Compresses, d.Thin.Throughput = true, 400e6
	a := build(t, d)
	before := a.Totals()
	source := rand.New(rand.NewPCG(6, 6))
	r := closed(a, 64, 20_000, func(i int) Request {
		return Request{Write: i%2 == 0, Offset: source.Int64N(int64(a.Size())>>14) << 14, Length: 16 << 10}
	})
	within(t, "through the processors", r.rate*16384, 400e6, 0.01)
	if name, share := busiest(a, before); name != "reduction" || share < 0.97 {
		t.Errorf("%s was busy for %.3f", name, share)
	}
	if limit := setup.Limit(d.Setup().Ceilings(setup.Use{Block: 16 * quantity.KiB, Reads: 0.5, Depth: 64})); limit.Station != "reduction" || math.Abs(float64(limit.Rate)*16384/400e6-1) > 0.01 {
		t.Errorf("the explanation says %+v", limit)
	}
}

// Room is given in pieces; brute force over a map of grains finds none given twice, and
// none lost.
func TestRoomIsNeitherLostNorGivenTwice(t *testing.T) {
	source := rand.New(rand.NewPCG(8, 8))
	for range 200 {
		most := int32(1 + source.IntN(9))
		end := most * int32(1+source.IntN(20))
		r := newRoom(end, most)
		owned := make([]bool, end)
		type piece struct{ slot, grains int32 }
		var held []piece
		left := end
		for range 400 {
			if source.IntN(5) < 2 && len(held) > 0 {
				i := source.IntN(len(held))
				p := held[i]
				held = slices.Delete(held, i, i+1)
				for g := p.slot; g < p.slot+p.grains; g++ {
					owned[g] = false
				}
				left += p.grains
				r.push(p.slot, p.grains)
				continue
			}
			grains := 1 + source.Int32N(most)
			slot := r.take(grains)
			if slot < 0 {
				longest, run := int32(0), int32(0)
				for _, is := range owned {
					if run++; is {
						run = 0
					}
					longest = max(longest, run)
				}
				if longest >= grains {
					t.Fatalf("no room for %d grains, although %d lie together", grains, longest)
				}
				continue
			}
			for g := slot; g < slot+grains; g++ {
				if owned[g] {
					t.Fatalf("grain %d is given twice", g)
				}
				owned[g] = true
			}
			left -= grains
			held = append(held, piece{slot, grains})
		}
		if r.left != left {
			t.Fatalf("%d grains are left, want %d", r.left, left)
		}
	}
}
