package array

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// What is written to flash for long settles where the explanation says that it does, by spare
// room, fast region, channels and how uneven the writes are: within a fifth where members are
// always busy, and never above what a fresh array passes.
func TestForLongIsWhatComesForLong(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(12, 1))
	pick := func(n int) int { return source.IntN(n) }
	tried, worst := 0, 1.0
	for range 60 {
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
		places := a.Size() / quantity.Bytes(u.Block)
		next := func(int) Request {
			at := source.Int64N(int64(places))
			if u.HotSpan > 0 {
				hot := int64(float64(places) * float64(u.HotSpan))
				if source.Float64() < float64(u.HotAccesses) {
					at = source.Int64N(hot)
				} else {
					at = hot + source.Int64N(int64(places)-hot)
				}
			}
			return Request{Write: source.Float64() >= float64(u.Reads), Offset: at * int64(u.Block), Length: int(u.Block)}
		}
		at := int64(-1)
		closed(a, u.Depth, int(places), func(int) Request { // all of it is written once
			at++
			return Request{Write: true, Offset: at % int64(places) * int64(u.Block), Length: int(u.Block)}
		})
		count := int(4 * float64(places) / float64(1-u.Reads))
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
		tried++
		reached := r.rate / float64(limit.Long)
		worst = math.Exp(max(math.Abs(math.Log(worst)), math.Abs(math.Log(reached))))
		if reached < 0.8 || reached > 1.2 {
			t.Errorf("%s of %+v, %+v: %.0f a second for long, want %.0f (%s), fresh %.0f", d.Layout.Level, d.Members[0], u, r.rate, float64(limit.Long), limit.LongFormula, float64(limit.Rate))
		}
	}
	t.Logf("%d arrays that were always busy, at most %.0f %% off", tried, (worst-1)*100)
	if tried < 20 {
		t.Error("hardly any was ever busy")
	}
}
