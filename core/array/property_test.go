package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/test/trials"
)

// load is a closed loop as far as explanations know it.
type load struct {
	use  setup.Use
	seed uint64
}

func anyLoad(source *rand.Rand) load {
	pick := func(n int) int { return source.IntN(n) }
	u := setup.Use{
		Reads: []quantity.Share{1, 1, 0, 0, 0.7}[pick(5)], Block: []quantity.Bytes{4096, 4096, 16 * quantity.KiB, 64 * quantity.KiB, quantity.MiB}[pick(5)],
		Sequential: pick(3) == 0, Depth: []int{1, 4, 16, 64, 256}[pick(5)],
	}
	return load{use: u, seed: source.Uint64()}
}

// drive measures a load on an array. The first quarter is not counted.
func (l load) drive(a *Array, count int) (result, Totals) {
	source := rand.New(rand.NewPCG(l.seed, 17))
	block := int64(l.use.Block)
	at := int64(0)
	next := func(int) Request {
		offset := source.Int64N(int64(a.Size())/block) * block
		if l.use.Sequential {
			if at+block > int64(a.Size()) {
				at = 0
			}
			offset, at = at, at+block
		}
		return Request{Write: source.Float64() >= float64(l.use.Reads), Offset: offset, Length: int(block)}
	}
	closed(a, l.use.Depth, count/4+l.use.Depth, next)
	before := a.Totals()
	return closed(a, l.use.Depth, count, next), before
}

// busiest is the largest share of the time that any station was busy, by the name
// it has among the counters.
func busiest(a *Array, before Totals) (name string, share float64) {
	for _, c := range a.Inside(before) {
		if part, isBusy := strings.CutSuffix(c.Name, " busy"); isBusy && c.Value > share {
			name, share = part, c.Value
		}
	}
	return name, share
}

// Explained and measured are one truth: whatever the array and the load, nothing runs
// above what the explanation says; where a station is always busy that the
// explanation names, the rate is within a quarter of it (a third of small writes to
// parity on disks); and Little's law holds.
func TestMeasuredAndExplainedAgree(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(2026, 11+trials.Seed()))
	tried, near, lowest := 0, 0, 1.0
	for tried < draws(100) {
		d, l := anyArray(source), anyLoad(source)
		if source.IntN(4) > 0 {
			d.Caches, d.Tier = nil, nil
		}
		d.Members[0].WriteCaching = source.IntN(4) == 0
		if m := &d.Members[0]; m.Medium == Flash && source.IntN(2) == 0 {
			m.Channels, m.ChannelRate = 1+source.IntN(8), quantity.ByteRate(30e6+1e9*source.Float64())
		}
		if m := d.Members[0]; source.IntN(6) == 0 && m.Count >= 4 && d.Layout.Stripe == 0 {
			m.Count--
			late := m
			late.Count, late.Slow = 1, 2+7*source.Float64() // where all that waits gathers
			d.Members = []Group{m, late}
		}
		if source.IntN(6) == 0 {
			d.Limits = Limits{Operations: quantity.OpRate(50 + source.IntN(5000))}
		}
		if d.Link.Rate > 0 && source.IntN(3) == 0 {
			d.Link.Slot, d.Link.OwnDisk = quantity.ByteRate(50e6+2e9*source.Float64()), []quantity.ByteRate{0, 300e6}[source.IntN(2)]
		}
		if d.Validate() != nil {
			continue
		}
		tried++
		// The easy ones are served first, and the drives' own buffers are filled.
		count := max(1200, 60*l.use.Depth)
		if d.Members[0].WriteCaching && d.Members[0].Medium == HardDisk && l.use.Reads < 1 {
			count += mostRanges * d.Members[0].Count * 3 // their memory takes the first ones
		}
		if d.Members[0].Medium == Flash && l.use.Reads < 1 {
			count = max(count, int(200*quantity.MiB/l.use.Block))
		}
		a := build(t, d)
		r, before := l.drive(a, count)
		what := fmt.Sprintf("%s %v, %s, %d members of %s with chunks of %s, caches %+v, tier %v, link %+v, controller %+v",
			d.Layout.Level, d.Members[0].Medium, describe(l.use), d.Members[0].Count, d.Members[0].Capacity, d.Layout.Chunk, d.Caches, d.Tier != nil, d.Link, d.Controller)
		if inFlight := r.rate * r.latency; math.Abs(inFlight/float64(l.use.Depth)-1) > 0.25 {
			t.Errorf("%s: rate × latency is %.2f with %d in flight", what, inFlight, l.use.Depth)
		}
		hops := d.Setup().Ceilings(l.use)
		limit := setup.Hop{Rate: quantity.OpRate(math.Inf(1))}
		for _, h := range hops {
			if h.Rate > 0 && h.Rate < limit.Rate && (!h.Behind() || d.Caches == nil && d.Tier == nil) {
				limit = h
			}
		}
		if r.rate > float64(limit.Rate)*1.1 {
			t.Errorf("%s: %.0f a second, %q can pass %.0f (%s)", what, r.rate, limit.Name, float64(limit.Rate), limit.Formula)
		}
		if d.Caches != nil || d.Tier != nil || !exact(d, l.use) {
			continue
		}
		station, share := busiest(a, before)
		if share > 0.97 && strings.HasPrefix(station, limit.Station) {
			near++
			reached := r.rate / float64(limit.Long) // it may have begun to clean, or not yet
			lowest = min(lowest, reached)
			least := 0.75
			if d.Members[0].Medium == HardDisk && l.use.Reads < 1 && (d.Layout.Level == Parity || d.Layout.Level == DoubleParity) {
				least = 0.65 // each writes where it has just read, and waits for a turn
			}
			if reached < least {
				t.Errorf("%s: %.0f a second although %q was busy for %.3f of the time; %q can pass %.0f for long (%s, %s)", what, r.rate, station, share, limit.Name, float64(limit.Long), limit.Formula, limit.LongFormula)
			}
		}
	}
	t.Logf("%d arrays, %d of them with a station that was always busy, the lowest at %.2f of what was explained for long", tried, near, lowest)
	if near < 25/trials.Parts() {
		t.Error("hardly any station was ever busy")
	}
}

// exact reports whether the explanation says more than a bound. It says no more of
// streams that do not keep all disks at work, of operations on parity that fall into
// several parts on disks, which wait for each other, and of disks of which the drives'
// own memory holds a good part.
func exact(d Description, u setup.Use) bool {
	switch isParity := d.Layout.Level == Parity || d.Layout.Level == DoubleParity; {
	case len(d.Members) > 1 && d.Members[0].Medium == HardDisk: // one of them slow: all that is in flight gathers there, but for a few
		return d.Layout.Level == Stripe && !u.Sequential && u.Block <= d.Layout.Chunk && u.Depth >= 16
	case d.Members[0].Medium == LowLatency:
		return !u.Sequential || u.Block >= 64*quantity.KiB // its time for each is not a rate of streams
	case d.Members[0].Medium == Flash:
		return true
	case u.Sequential:
		isMirror := d.Layout.Level == Mirror || d.Layout.Level == MirrorStripe
		gathered := isParity && !d.Members[0].WriteCaching && quantity.Bytes(u.Depth)*u.Block >= 16*d.Layout.Chunk*quantity.Bytes(d.Members[0].Count)
		return u.Depth >= 16 && !isMirror && (u.Reads == 1 || u.Reads == 0 && gathered)
	case d.Members[0].WriteCaching && u.Reads < 1:
		return false // in which order it writes is its own affair
	case isParity:
		return u.Block <= d.Layout.Chunk && d.Members[0].Capacity > 2*gb
	}
	if parity := d.Layout.Level == Parity || d.Layout.Level == DoubleParity; !parity && u.Reads == 1 && u.Depth < 4*d.Members[0].Count {
		return false // what reads on is busy as well, and not all of them have something to do
	}
	return d.Members[0].Capacity > 2*gb
}

func describe(u setup.Use) string {
	order := "random"
	if u.Sequential {
		order = "sequential"
	}
	return fmt.Sprintf("%s reads %v %s depth %d", u.Block, u.Reads, order, u.Depth)
}
