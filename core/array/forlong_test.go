package array

import (
	"math"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/test/trials"
)

// draws is how many arrays are drawn: so many, or that times what HERON_DRAWS says.
func draws(count int) int {
	if times, err := strconv.Atoi(os.Getenv("HERON_DRAWS")); err == nil {
		count *= times
	}
	return trials.Number(count)
}

// agreement counts the arrays that were always busy, and how far what came for long was from what was
// explained.
type agreement struct {
	near  int
	worst float64 // the farthest, as a logarithm
}

// within counts one more, and reports whether what was reached of the explained is within a fifth.
func (g *agreement) within(reached float64) bool {
	g.near++
	g.worst = max(g.worst, math.Abs(math.Log(reached)))
	return reached >= 0.8 && reached <= 1.2
}

// enough says how many there were, of which there have to be so many where all is tried.
func (g *agreement) enough(t *testing.T, least int) {
	t.Helper()
	t.Logf("%d arrays that were always busy, at most %.0f %% off", g.near, (math.Exp(g.worst)-1)*100)
	if trials.Parts() == 1 && g.near < least {
		t.Error("hardly any was ever busy")
	}
}

// asUsed draws the operations of a use of an array.
func asUsed(a *Array, u setup.Use, source *rand.Rand) func(int) Request {
	all := int64(a.Size() / u.Block)
	hot := int64(float64(all) * float64(u.HotSpan))
	return func(int) Request {
		at := source.Int64N(all)
		if hot > 0 {
			if at = source.Int64N(hot); source.Float64() >= float64(u.HotAccesses) {
				at = hot + source.Int64N(all-hot)
			}
		}
		return Request{Write: source.Float64() >= float64(u.Reads), Offset: at * int64(u.Block), Length: int(u.Block)}
	}
}

// What is written to flash for long settles where the explanation says that it does, by spare
// room, fast region, channels and how uneven the writes are: within a fifth where members are
// always busy, and never above what a fresh array passes.
func TestForLongIsWhatComesForLong(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(12, 1+trials.Seed()))
	pick := func(n int) int { return source.IntN(n) }
	var found agreement
	for range draws(24) {
		d := Description{
			Members: []Group{{
				Count: []int{1, 2, 4, 6}[pick(4)], Medium: Flash, Capacity: quantity.Bytes(48+pick(48)) * quantity.MiB, Dies: 4 + pick(13),
				OverProvision: quantity.Share(0.05 + 0.5*source.Float64()), BlockPages: []int{32, 64, 128}[pick(3)], FastRegion: quantity.Bytes(pick(2)) * 16 * quantity.MiB, Interface: 2e9,
			}},
			Layout: Layout{Level: []Level{Stripe, Mirror, MirrorStripe, Parity, DoubleParity}[pick(5)], Chunk: 16 * quantity.KiB},
		}
		if pick(3) == 0 {
			d.Members[0].Channels, d.Members[0].ChannelRate = 1+pick(3), quantity.ByteRate(50e6+200e6*source.Float64())
		}
		u := setup.Use{Reads: []quantity.Share{0, 0, 0.5}[pick(3)], Block: []quantity.Bytes{4096, 8192}[pick(2)], Depth: 128}
		if pick(2) == 0 {
			u.HotAccesses, u.HotSpan = 0.8, 0.2
		}
		if d.Validate() != nil {
			continue
		}
		a := build(t, d)
		all, next := int64(a.Size()/u.Block), asUsed(a, u, source)
		at := int64(-1)
		closed(a, u.Depth, int(all), func(int) Request { // all of it is written once
			at++
			return Request{Write: true, Offset: at % all * int64(u.Block), Length: int(u.Block)}
		})
		count := int(4 * float64(all) / float64(1-u.Reads))
		closed(a, u.Depth, count, next)
		before := a.Totals()
		r := closed(a, u.Depth, count, next)
		limit := setup.ForLong(d.Setup().Ceilings(u))
		if limit == nil || limit.Long > limit.Rate {
			t.Fatalf("%+v: %+v", d.Members[0], limit)
		}
		if fresh := setup.Limit(d.Setup().Ceilings(u)); r.rate > float64(fresh.Rate)*1.1 {
			t.Errorf("%+v: %.0f a second, fresh it passes %.0f", d.Members[0], r.rate, float64(fresh.Rate))
		}
		if station, share := busiest(a, before); share < 0.97 || !strings.HasPrefix(station, limit.Station) {
			continue
		}
		if !found.within(r.rate / float64(limit.Long)) {
			t.Errorf("%s of %+v, %+v: %.0f a second for long, want %.0f (%s), fresh %.0f", d.Layout.Level, d.Members[0], u, r.rate, float64(limit.Long), limit.LongFormula, float64(limit.Rate))
		}
	}
	found.enough(t, 8)
}

// So does what comes for long when a cache stands in front: hits of reads, and writes to what is dirty
// already, keep the members free for the rest; neighbours that are passed on together are one
// command. Within a fifth where the members are always busy.
func TestForLongBehindCaches(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(77, 1+trials.Seed()))
	pick := func(n int) int { return source.IntN(n) }
	var found agreement
	for tried := 0; tried < draws(24); {
		g := Group{Count: []int{1, 2, 4}[pick(3)], Medium: []Medium{Flash, LowLatency}[pick(2)], Capacity: quantity.Bytes(32+pick(24)) * quantity.MiB, Interface: 2e9}
		if g.Medium == Flash {
			g.Dies, g.OverProvision, g.BlockPages = 4+pick(13), quantity.Share(0.1+0.5*source.Float64()), []int{32, 64, 128}[pick(3)]
		} else {
			g.Units, g.ReadTime, g.ProgramTime = 1+pick(8), 100e-6, 150e-6
		}
		d := Description{Members: []Group{g}, Layout: Layout{Level: []Level{Stripe, Mirror, MirrorStripe, Parity, DoubleParity}[pick(5)], Chunk: 16 * quantity.KiB}}
		u := setup.Use{Reads: []quantity.Share{0, 0.5, 1}[pick(3)], Block: []quantity.Bytes{4096, 8192}[pick(2)], Depth: 128}
		if pick(2) == 0 {
			u.HotAccesses, u.HotSpan = 0.8, 0.2
		}
		if d.Validate() != nil {
			continue
		}
		d.Caches = []Cache{{
			Name: "c", Size: d.Usable() / quantity.Bytes(2+pick(8)) / 8192 * 8192, Block: []quantity.Bytes{4096, u.Block}[pick(2)], Mode: []CacheMode{ReadOnly, WriteBack, WriteThrough}[pick(3)],
			DirtyLimit: quantity.Share(0.1 + 0.8*source.Float64()), HitTime: 5e-6, Throughput: 40e9,
		}}
		if d.Caches[0].Mode == ReadOnly {
			u.Reads = 1
		}
		tried++
		a := build(t, d)
		next := asUsed(a, u, source)
		count := int(4 * float64(a.Size()/u.Block) / max(float64(1-u.Reads), 0.5))
		closed(a, u.Depth, 2*count, next)
		before := a.Totals()
		r := closed(a, u.Depth, count, next)
		limit := setup.ForLong(d.Setup().Ceilings(u))
		if limit == nil || !strings.Contains(limit.LongFormula, "of the rest") {
			continue // the cache is not counted
		}
		if station, share := busiest(a, before); share < 0.97 || !strings.HasPrefix(station, "member") {
			continue
		}
		if !found.within(r.rate / float64(limit.Long)) {
			t.Errorf("%s of %+v, %+v, %+v: %.0f a second for long, want %.0f (%s)", d.Layout.Level, d.Members[0], d.Caches[0], u, r.rate, float64(limit.Long), limit.LongFormula)
		}
	}
	found.enough(t, 6)
}

// So does what comes for long on tiers, where what is used most has come to lie on the fastest: within
// a fifth where its members, or those of another tier, are always busy.
func TestForLongOnTiers(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(78, 1+trials.Seed()))
	pick := func(n int) int { return source.IntN(n) }
	const moving = 30 // seconds at the beginning in which extents are moved
	var found agreement
	for range draws(24) {
		fast := func(capacity int, slow float64) Group {
			time := quantity.Seconds(slow * (50e-6 + 100e-6*source.Float64()))
			return Group{Count: 2 + 2*pick(2), Medium: LowLatency, Capacity: quantity.Bytes(capacity) * quantity.MiB, Interface: 2e9, Units: 1 + pick(3), ReadTime: time, ProgramTime: time}
		}
		d := Description{
			Members: []Group{fast(64+pick(64), 4+4*source.Float64())}, Layout: Layout{Level: []Level{Mirror, MirrorStripe, Parity}[pick(3)], Chunk: 16 * quantity.KiB},
			Tier: &Tier{Members: fast(4+pick(12), 1), Extent: quantity.MiB, Every: 0.5, Rate: 1e9, Windows: []Window{{At: 0, For: moving, Every: 86400}}},
		}
		for range pick(3) {
			d.Tier.Lower = append(d.Tier.Lower, LowerTier{Members: fast(4+pick(12), 1.5+1.5*source.Float64())})
		}
		u := setup.Use{Reads: []quantity.Share{0, 0.5, 1}[pick(3)], Block: []quantity.Bytes{4096, 8192}[pick(2)], Depth: 256, HotAccesses: 0.8, HotSpan: quantity.Share(0.02 + 0.3*source.Float64())}
		if d.Validate() != nil {
			continue
		}
		a := build(t, d)
		next := asUsed(a, u, source)
		for a.Now() < moving*1e9 {
			closed(a, u.Depth, 20_000, next)
		}
		before := a.Totals()
		r := closed(a, u.Depth, 40_000, next)
		limit, fresh := setup.ForLong(d.Setup().Ceilings(u)), setup.Limit(d.Setup().Ceilings(u))
		if limit == nil || limit.Long > fresh.Rate || r.rate > float64(fresh.Rate)*1.1 {
			t.Fatalf("%+v: %.0f a second, for long %+v, fresh %+v", d.Tier, r.rate, limit, fresh)
		}
		slots := 0
		for i := range a.tier.parts {
			slots += a.tier.parts[i].slots
		}
		if _, share := busiest(a, before); share < 0.97 || a.tier.used() < slots { // not all has come to lie there yet
			continue
		}
		if !found.within(r.rate / float64(limit.Long)) {
			totals := a.Totals()
			t.Errorf("%s below, %s of %s at %s and %s, used as %+v: %.0f a second for long with %v of %d on tiers, want %.0f (%s)", d.Layout.Level, describe(u), asSold(d.Usable()), u.HotAccesses, u.HotSpan, d.tierWords(),
				r.rate, totals.Fast, before.Fast, float64(limit.Long), limit.LongFormula)
		}
	}
	found.enough(t, 8)
}
