package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// What administrators would notice, each with the arithmetic that it has to follow.

// wide are disks in one layout, of which everything lies on the outermost tracks.
func wide(n int, level Level) Description {
	d := disks(n)
	d.Members[0].Capacity, d.Layout.Level = 4000*gb, level
	return d
}

const media = 220e6 // what the outermost tracks give by default

// An operation that is late at a station holds up none that is there before: reads
// beside writes to a far copy take what they take without it.
func TestWritesToAFarCopyDoNotHoldReadsUp(t *testing.T) {
	slowest := func(far *Replica) int64 {
		d := ssds(4, MirrorStripe)
		d.Link, d.Replica = Link{Rate: 1250e6, RoundTrip: 100e-6}, far
		a := build(t, d)
		next, start := random(a, 1, 4096, 0, false), map[int]int64{}
		var reads []int64
		for i := range 40_000 {
			at := int64(i) * 50_000 // 20,000 a second, every tenth a write
			for a.Step(at) {
			}
			for _, done := range a.Done() {
				if done.Tag%10 > 0 {
					reads = append(reads, a.Now()-start[done.Tag])
				}
			}
			a.Forget()
			r := next(i)
			r.Tag, r.Write = i, i%10 == 0
			start[i] = a.Now()
			a.Submit(r)
		}
		slices.Sort(reads)
		return reads[len(reads)*99/100]
	}
	if near, far := slowest(nil), slowest(&Replica{Kilometres: 300, Service: 300e-6}); far > near*11/10 {
		t.Errorf("99 %% of reads within %d µs, with a copy 300 km away within %d", near/1000, far/1000)
	}
}

// 32 dies of which each is asked at random while 32 are in flight: with D dies and n
// in flight the closed network of equal stations gives n/(n+D-1) of them busy (mean
// value analysis; service times here are constant, which waits less: within 20 %).
// The same holds for hits, whose time is a way and not a station.
func TestNothingThrottlesBesideTheDies(t *testing.T) {
	d := ssds(1, Stripe)
	d.Members[0].Interface = 100e9
	a := build(t, d)
	r := closed(a, 32, 100_000, random(a, 1, 4096, 0, false))
	most := 32 / 70e-6
	if bound := most * 32 / 63; r.rate < bound || r.rate > bound*1.25 {
		t.Errorf("%.0f a second, a network of 32 dies with 32 in flight gives %.0f", r.rate, bound)
	}
	d.Caches = []Cache{{Name: "c", Size: quantity.GiB, Mode: ReadOnly, HitTime: 2e-3, Block: 4096}}
	a = build(t, d)
	closed(a, 16, 4096, sequential(0, 4096, false))
	hits := closed(a, 64, 20_000, random(a, 1, 4096, 4096*4096, false))
	within(t, "hits of 2 ms, 64 at a time", hits.rate, 64/2e-3, 0.01)
}

// A cache answers what it was given: pages of 4 KiB that were each read once in
// blocks of 64 KiB are no hits, and a page beside one that was written is none.
func TestCachesHoldNoMoreThanTheyWereGiven(t *testing.T) {
	d := cached(ReadOnly, 128*quantity.MiB)
	d.Members[0].Medium, d.Caches[0].Block = LowLatency, 64*quantity.KiB
	a := build(t, d)
	order := rand.New(rand.NewPCG(1, 1)).Perm(16384)
	closed(a, 4, len(order)-4, func(i int) Request { return Request{Offset: int64(order[i]) * 4096, Length: 4096} })
	if a.caches[0].hits != 0 {
		t.Errorf("%d hits of pages that were read for the first time", a.caches[0].hits)
	}
	// Fetching whole blocks pays for them: fifteen of sixteen are hits, and sixteen
	// times the bytes are read.
	d.Caches[0].Fetch = FetchBlocks
	a = build(t, d)
	var seen []piece
	a.watch = pieces{&seen}
	closed(a, 1, len(order)-1, func(i int) Request { return Request{Offset: int64(order[i]) * 4096, Length: 4096} })
	bytes := 0
	for _, p := range seen {
		bytes += p.length
	}
	if hits := a.caches[0].hits; hits != 16384-1024 || bytes != 64<<20 {
		t.Errorf("%d hits, %d bytes read; want %d and %d", hits, bytes, 16384-1024, 64<<20)
	}
	d.Caches[0].Fetch = FetchParts
	d.Caches[0].Mode = WriteBack
	a = build(t, d)
	closed(a, 1, 1, func(i int) Request {
		if i == 0 {
			return Request{Write: true, Length: 4096}
		}
		return Request{Offset: 8 * 4096, Length: 4096}
	})
	if a.caches[0].hits != 0 {
		t.Error("a page that was never there was a hit")
	}
	// Written out is what was written: the first and the last page of a block.
	a = build(t, d)
	closed(a, 1, 2, func(i int) Request { return Request{Write: true, Offset: int64(i%2) * 15 * 4096, Length: 4096} })
	for a.Step(1e12) {
	}
	if a.caches[0].written > 4*4096 {
		t.Errorf("%d bytes were written out for three writes of 4 KiB", a.caches[0].written)
	}
}

// What was flushed survives the power cut, in every memory on the way; what was not is
// lost, and all of it.
func TestAFlushReachesEveryVolatileMemory(t *testing.T) {
	for _, where := range []string{"cache", "drives"} {
		d := wide(4, Stripe)
		if where == "cache" {
			d.Caches = []Cache{{Name: "memory", Size: quantity.GiB, Block: 4096, Mode: WriteBack}}
		} else {
			d.Members[0].WriteCaching = true
		}
		a := build(t, d)
		lost := func() (sum int64) {
			for _, c := range a.caches {
				sum += c.lost
			}
			for _, m := range a.members {
				if m.disk.cache != nil {
					sum += m.disk.cache.lost
				}
			}
			return sum
		}
		write := func(count int) {
			for i := range count {
				a.Submit(Request{Write: true, Offset: int64(i) * 1 << 20, Length: 4096})
			}
			for len(a.Done()) < count {
				a.Step(math.MaxInt64)
			}
			a.Forget()
		}
		write(500)
		began := a.Now()
		a.Submit(Request{Flush: true})
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		a.Forget()
		if took := a.Now() - began; took < 100e6 { // 125 places of each disk, never below a millisecond
			t.Errorf("%s: a flush of 500 scattered writes took %d µs", where, took/1000)
		}
		a.inject(Fault{Kind: PowerCut})
		if lost() != 0 {
			t.Errorf("%s: %d bytes lost that were flushed", where, lost())
		}
		write(100)
		a.inject(Fault{Kind: PowerCut})
		if lost() < 50*4096 || lost() > 100*4096 {
			t.Errorf("%s: %d bytes lost of 100 writes of 4 KiB", where, lost())
		}
	}
}

// A write-back cache is never slower than none in the long run.
func TestWriteBackIsNotSlowerThanNone(t *testing.T) {
	for name, c := range map[string]struct {
		level Level
		depth int
		count int
		next  func(a *Array) func(int) Request
		size  float64
	}{
		"whole stripes of RAID 5":          {Parity, 8, 4000, func(*Array) func(int) Request { return sequential(0, 1280<<10, true) }, 1280 << 10},
		"sequential 64 KiB to RAID 6":      {DoubleParity, 8, 60_000, func(*Array) func(int) Request { return sequential(0, 64<<10, true) }, 64 << 10},
		"random 4 KiB to RAID 5 depth 256": {Parity, 256, 40_000, func(a *Array) func(int) Request { return random(a, 2, 4096, 0, true) }, 4096},
	} {
		d := wide(6, c.level)
		without := build(t, d)
		plain := closed(without, c.depth, c.count/4, c.next(without))
		d.Caches = []Cache{{Name: "memory", Size: 256 * quantity.MiB, Block: 16 * quantity.KiB, Mode: WriteBack, Protected: true}}
		with := build(t, d)
		cached := closed(with, c.depth, c.count, c.next(with))
		if cached.rate < plain.rate*0.99 {
			t.Errorf("%s: %.1f MB/s with a write-back cache, %.1f without", name, cached.rate*c.size/1e6, plain.rate*c.size/1e6)
		}
		if strings.HasPrefix(name, "sequential") { // gathered to whole stripes, it is the media's rate
			within(t, name, cached.rate*c.size, 4*media, 0.03)
		}
	}
}

// Streams run at the rate of the media wherever they lie, one at a time in flight or
// many: a mirror reads as one disk, stripes as all that hold data.
func TestStreamsRunAtTheRateOfTheMedia(t *testing.T) {
	for _, c := range []struct {
		d     Description
		depth int
		want  float64
	}{
		{wide(1, Stripe), 1, media}, {wide(2, Mirror), 1, media}, {wide(2, Mirror), 16, media},
		{wide(6, Parity), 16, 5 * media}, {wide(6, DoubleParity), 16, 4 * media}, {wide(6, Stripe), 16, 6 * media},
		// One at a time takes the overhead of a command each, and the drive's line.
		{wide(6, Parity), 1, 65536 / (100e-6 + 65536/550e6)},
	} {
		a := build(t, c.d)
		r := closed(a, c.depth, 20_000, sequential(0, 64<<10, false))
		within(t, fmt.Sprintf("%s of %d at depth %d", c.d.Layout.Level, c.d.Members[0].Count, c.depth), r.rate*65536, c.want, 0.02)
	}
	// Eight streams on one disk: each time it goes to one it reads half a mebibyte
	// more than asked, so that eight reads cost one seek: about a third of the media
	// rate, and far above eight seeks.
	a := build(t, wide(1, Stripe))
	r := closed(a, 8, 20_000, func(i int) Request { return Request{Offset: int64(i%8)<<36 + int64(i/8)*65536, Length: 65536} })
	if got := r.rate * 65536; got < 60e6 || got > media {
		t.Errorf("eight streams on one disk: %.1f MB/s", got/1e6)
	}
}

// Without one of six, whole stripes are read from the five others once each.
func TestDegradedReadsFetchNothingTwice(t *testing.T) {
	a := build(t, wide(6, Parity))
	a.members[2].failed = true
	count := 0
	for i := range 6 { // all rotations of the parity
		a.Submit(Request{Offset: int64(i) * 5 * 65536, Length: 5 * 65536})
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		a.Forget()
		count++
	}
	if got := a.counters.memberOperations; got != 30 {
		t.Errorf("%d member reads for 6 whole stripes, 30 suffice", got)
	}
	r := closed(a, 8, 4000, sequential(0, 1280<<10, false))
	within(t, "whole stripes without one", r.rate*1280*1024, 5*media, 0.02)
}

// Less than a stripe is written by what costs less: of eight members, one chunk by the
// old data and parity (2 reads), six of seven by the one that stays (1 read); a range
// over a chunk's edge touches no more than it is long.
func TestPartialStripesCostTheLeast(t *testing.T) {
	for name, c := range map[string]struct {
		offset, length  int64
		reads, writes   int
		bytesForOneByte float64
	}{
		"one chunk":            {0, 65536, 2, 2, 4},
		"six of seven":         {0, 6 * 65536, 1, 7, 8.0 / 6},
		"over the edge":        {65536 - 4096, 8192, 3, 3, 2*3.0/2 + 1}, // two places of parity on one member
		"all":                  {0, 7 * 65536, 0, 8, 8.0 / 7},
		"half of every column": {0, 7*65536 - 32768, 1, 8, 0},
	} {
		d := ssds(8, Parity)
		a := build(t, d)
		var seen []piece
		a.watch = pieces{&seen}
		a.Submit(Request{Write: true, Offset: c.offset, Length: int(c.length)})
		members, bytes := map[string]bool{}, int64(0)
		reads, writes := 0, 0
		for _, p := range seen {
			key := fmt.Sprint(p.member, p.write)
			if !members[key] && p.write {
				writes++
			} else if !members[key] {
				reads++
			}
			members[key] = true
			bytes += int64(p.length)
		}
		if reads != c.reads || writes != c.writes {
			t.Errorf("%s: %d members read and %d written, want %d and %d", name, reads, writes, c.reads, c.writes)
		}
		if got := float64(bytes) / float64(c.length); c.bytesForOneByte > 0 && math.Abs(got-c.bytesForOneByte) > 1.01 {
			t.Errorf("%s: %.2f bytes moved for each, want %.2f", name, got, c.bytesForOneByte)
		}
	}
}

// pieces notes what is planned.
type pieces struct{ seen *[]piece }

func (p pieces) planned(_ int32, _ *layout, _ kind, _, _ int64, _ int, first, second []piece) {
	*p.seen = append(append(*p.seen, first...), second...)
}
func (pieces) born(int32, int32)                 {}
func (pieces) kept(int, int32, int64, int)       {}
func (pieces) served(int, int32, int64, int)     {}
func (pieces) forgot(int, int64, int)            {}
func (pieces) leaving(int, int32, int64, int)    {}
func (pieces) copied(int32, int32, int64)        {}
func (pieces) packed(int32, int32, unitPart)     {}
func (pieces) unpacked(int32, int32, unitPart)   {}
func (pieces) same(int32, unitPart)              {}
func (pieces) landed(int32)                      {}
func (pieces) gathered(int32, int32, int64, int) {}
func (pieces) zeroed(*layout, int, int64, int64) {}
func (pieces) moved(*layout, int64, int, int, int64, int64) {
}
func (pieces) reached(int, int64, int64)         {}
func (pieces) remade(*layout, int, int64, int64) {}

// More of anything is never slower: members, links, depth, cache. There are three
// exceptions: how many whole stripes large writes to parity are depends on the width,
// one at a time or at random places; a stream of writes to disks without a cache
// loses a turn wherever a queue runs dry; and a stream of reads of mirrored disks gains
// from the other copy at some depths, and at others only passes what that one reads.
func TestMoreIsNeverSlower(t *testing.T) {
	t.Parallel()
	rate := func(d Description, depth, size int, write bool) float64 {
		a := build(t, d)
		return closed(a, depth, 3000, sequential(0, size, write)).rate
	}
	for _, level := range []Level{Stripe, Parity} {
		last := 0.0
		for n := 3; n <= 12; n++ {
			d := wide(n, level)
			d.Link = Link{Rate: 1250e6, RoundTrip: 100e-6}
			got := rate(d, 4, 1<<20, false)
			if got < last*0.99 {
				t.Errorf("%s of %d disks behind a link: %.0f a second, with one less %.0f", level, n, got, last)
			}
			last = got
		}
	}
	source := rand.New(rand.NewPCG(9, 9))
	tried := 0
	for tried < 50 {
		d, l := anyArray(source), anyLoad(source)
		d.Tier = nil
		if l.use.Sequential && d.Members[0].Medium == HardDisk && (d.Layout.Level == Mirror || d.Layout.Level == MirrorStripe) {
			continue
		}
		if l.use.Sequential && l.use.Reads < 1 && d.Members[0].Medium == HardDisk {
			continue
		}
		more, what := d, ""
		switch source.IntN(4) {
		case 0:
			what = "twice the members"
			more.Members = slices.Clone(d.Members)
			more.Members[0].Count *= 2
			if l.use.Reads < 1 && (d.Layout.Level == Parity || d.Layout.Level == DoubleParity || d.Layout.Level == Mirror) {
				continue // wider stripes, and more copies to write
			}
		case 1:
			what = "twice the links"
			if d.Link.Rate == 0 {
				continue
			}
			more.Link.Count, more.Link.Combined = max(d.Link.Count, 1)*2, Multipath
		case 2:
			what = "four times as many in flight"
		default:
			what = "a read cache"
			more.Caches = append(slices.Clone(d.Caches), Cache{Name: "more", Size: 64 * quantity.MiB, Mode: ReadOnly})
		}
		if d.Validate() != nil || more.Validate() != nil {
			continue
		}
		tried++
		count := max(1500, 30*l.use.Depth)
		if d.Members[0].Medium == Flash && l.use.Reads < 1 {
			count = max(count, int(200*quantity.MiB/l.use.Block))
		}
		many := l
		if what == "four times as many in flight" {
			many.use.Depth *= 4
		}
		// As many for both, which reach the same places and fill the same caches.
		count = max(count, 30*many.use.Depth)
		before, _ := l.drive(build(t, d), count)
		after, _ := many.drive(build(t, more), count)
		if after.rate < before.rate*0.93 {
			t.Errorf("%s: %.0f a second instead of %.0f; %s on %s of %d %s, chunk %s, link %+v, caches %+v", what, after.rate, before.rate,
				describe(l.use), d.Layout.Level, d.Members[0].Count, d.Members[0].Medium, d.Layout.Chunk, d.Link, d.Caches)
		}
	}
}

// Every nanosecond of every operation is spent somewhere: the parts add up to the
// latency that the initiator sees.
func TestAllTimeIsAccountedFor(t *testing.T) {
	source := rand.New(rand.NewPCG(12, 1))
	tried := 0
	for tried < 100 {
		d := anyArray(source)
		if d.Validate() != nil {
			continue
		}
		tried++
		a := build(t, d)
		next := random(a, source.Uint64(), 8192, 0, false)
		start, latency := map[int]int64{}, int64(0)
		reap := func() {
			for _, done := range a.Done() {
				latency += a.Now() - start[done.Tag]
				delete(start, done.Tag)
			}
			a.Forget()
		}
		for i := range 400 {
			r := next(i)
			r.Tag, r.Write = i, source.IntN(2) == 0
			start[i] = a.Now()
			a.Submit(r)
			for until := a.Now() + source.Int64N(2e6); a.Step(until); {
				reap()
			}
		}
		for len(start) > 0 {
			a.Step(math.MaxInt64)
			reap()
		}
		total := a.Totals()
		sum := int64(0)
		for kind := range total.Spent {
			for _, spent := range total.Spent[kind] {
				sum += spent
			}
		}
		if sum != latency {
			t.Fatalf("%+v: %d ns of %d are accounted for", d, sum, latency)
		}
	}
	// A far copy 50 km away: of each write 790 µs less what the members take.
	d := Description{
		Members: []Group{{Count: 1, Medium: LowLatency, Capacity: 100 * gb, Units: 64, Interface: 1e15}}, Layout: Layout{Level: Stripe},
		Replica: &Replica{Kilometres: 50, Service: 300e-6}, Link: Link{Rate: 1e15, RoundTrip: 200e-6},
	}
	a := build(t, d)
	before := a.Totals()
	closed(a, 1, 1000, random(a, 1, 4096, 0, true))
	found := map[string]float64{}
	for _, c := range a.Inside(before) {
		found[c.Name] = c.Value
	}
	within(t, "under way", found["writes under way"], 200e-6, 0.001)
	if found["writes held back"] != 0 {
		t.Error("held back by a limit that is not there")
	}
	within(t, "on the members", found["writes on the members"], 10e-6, 0.001)
	within(t, "on the far copy", found["writes on the far copy"], 780e-6, 0.001)
}

// What a volume is allowed holds for long; after a pause the work of a burst goes through
// at once.
func TestLimitsOfAVolume(t *testing.T) {
	d := ssds(4, Stripe)
	d.Limits = Limits{Operations: 2000, Burst: 3}
	a := build(t, d)
	for a.Step(10e9) {
	}
	// With 6000 saved up, T seconds let 6000 + 2000 T through.
	began := a.Now()
	closed(a, 8, 6000+2000, random(a, 1, 4096, 0, false))
	within(t, "seconds for 8000 operations", float64(a.Now()-began)/1e9, 1, 0.02)
	r := closed(a, 8, 4000, random(a, 2, 4096, 0, false))
	within(t, "operations a second for long", r.rate, 2000, 0.01)
	d.Limits = Limits{Throughput: 50e6}
	large := closed(build(t, d), 8, 400, sequential(0, 1<<20, false))
	within(t, "bytes a second", large.rate*(1<<20), 50e6, 0.01)
}

// Limits of reads and of writes apart: of a mix the side that reaches its own first limits, whatever
// the other is allowed, and the formula says which.
func TestLimitsOfReadsAndWritesApart(t *testing.T) {
	for what, c := range map[string]struct {
		limits Limits
		want   float64 // a second, of 70 % reads
	}{
		"reads":           {Limits{Reads: 1400, Writes: 900}, 2000},
		"writes":          {Limits{Reads: 7000, Writes: 600}, 2000},
		"bytes written":   {Limits{ReadRate: 100e6, WrittenRate: 4096 * 450}, 1500},
		"both at once":    {Limits{Operations: 1000, Reads: 1400}, 1000},
		"bytes of either": {Limits{Throughput: 4096 * 800, WrittenRate: 100e6}, 800},
	} {
		d := ssds(4, Stripe)
		d.Limits = c.limits
		a := build(t, d)
		source := rand.New(rand.NewPCG(3, 3))
		count := int(c.want * 10)
		mix := func(int) Request {
			return Request{Write: source.Float64() < 0.3, Offset: source.Int64N(int64(a.Size())/4096) * 4096, Length: 4096}
		}
		closed(a, 16, count/4+16, mix)
		within(t, what, closed(a, 16, count, mix).rate, c.want, 0.05)
		limit := setup.Limit(d.Setup().Ceilings(setup.Use{Reads: 0.7, Block: 4096, Depth: 16}))
		within(t, what+", explained", float64(limit.Rate), c.want, 1e-6)
	}
}

// Each host has links of its own.
func TestHostsHaveTheirOwnLinks(t *testing.T) {
	d := ssds(8, Stripe)
	d.Link = Link{Rate: 125e6, Hosts: 3}
	a := build(t, d)
	next := sequential(0, 1<<20, false)
	r := closed(a, 24, 2000, func(i int) Request { q := next(i); q.Host = i % 3; return q })
	within(t, "three hosts with one gigabit each", r.rate*(1<<20), 3*125e6*1460/1538, 0.02)
	one := closed(build(t, d), 24, 1000, next)
	within(t, "one of them", one.rate*(1<<20), 125e6*1460/1538, 0.02)
}

// A cache that reads ahead carries several streams on the same disks: each visit of a
// disk brings four mebibytes, so that a seek is an eighth of the time. Nothing is
// fetched twice.
func TestACacheReadsAheadOfSeveralStreams(t *testing.T) {
	d := wide(6, Parity)
	streams := func(i int) Request {
		return Request{Offset: int64(i%16)<<36 + int64(i/16)*65536, Length: 65536}
	}
	plain := closed(build(t, d), 16, 40_000, streams)
	d.Caches = []Cache{{Name: "memory", Size: quantity.GiB, Mode: ReadOnly, ReadAhead: 16 * quantity.MiB}}
	a := build(t, d)
	r := closed(a, 16, 40_000, streams)
	if got := r.rate * 65536; got < 700e6 || got > 5*media {
		t.Errorf("sixteen streams: %.0f MB/s with read-ahead, %.0f without", got/1e6, plain.rate*65536/1e6)
	}
	var seen []piece
	a = build(t, d)
	a.watch = pieces{&seen}
	closed(a, 4, 4000-4, sequential(0, 65536, false))
	bytes := int64(0)
	for _, p := range seen {
		bytes += int64(p.length)
	}
	if most := int64(4000*65536+32<<20) * 6 / 5 * 21 / 20; bytes > most {
		t.Errorf("%d bytes were read of the members for %d, at most %d with the parity between", bytes, 4000*65536, most)
	}
	// What is not a stream is left alone.
	a = build(t, d)
	closed(a, 16, 4000, random(a, 1, 4096, 0, false))
	if a.counters.memberOperations > 4200 {
		t.Errorf("%d member reads for 4000 at random", a.counters.memberOperations)
	}
}

// With a log a flush takes what was written since the last one over its rate, and its
// time, instead of the disks'; a power cut then loses exactly what came after it.
func TestALogKeepsWhatWasFlushed(t *testing.T) {
	d := cached(WriteBack, 256*quantity.MiB)
	d.Caches[0].Protected, d.Caches[0].DirtyLimit = false, 1
	d.Caches[0].Log = &Log{Throughput: 100e6, Time: 50e-6}
	a := build(t, d)
	source := rand.New(rand.NewPCG(8, 8))
	flushed := func(count int) (seconds float64) {
		for range count {
			one(a, Request{Write: true, Offset: source.Int64N(int64(a.Size())/4096) * 4096, Length: 4096})
		}
		began := a.Now()
		one(a, Request{Flush: true})
		return float64(a.Now()-began) / 1e9
	}
	for _, count := range []int{1, 10, 300} {
		within(t, fmt.Sprintf("flush of %d writes", count), flushed(count), float64(count)*4096/100e6+50e-6, 0.001)
	}
	for range 70 {
		one(a, Request{Write: true, Offset: source.Int64N(int64(a.Size())/4096) * 4096, Length: 4096})
	}
	c := a.caches[0]
	after := int64(0) // dirty since the flush
	for i := range c.nodes {
		if k := &c.nodes[i]; k.dirty != 0 && k.stamp > c.logged {
			after += 4096
		}
	}
	a.inject(Fault{Kind: PowerCut})
	if c.lost != after || after == 0 || c.dirty.count == 0 {
		t.Errorf("%d bytes were lost, %d were dirty and not flushed; %d blocks are still to be written", c.lost, after, c.dirty.count)
	}
	plain := d
	plain.Caches = []Cache{d.Caches[0]}
	plain.Caches[0].Log = nil
	a = build(t, plain)
	if took := flushed(10); took < 10*0.003 {
		t.Errorf("without a log a flush of ten writes to a disk takes %g s", took)
	}
}

// What all links of a host share holds it, however many links there are; its own disk
// does for both directions together.
func TestWhatLinksShare(t *testing.T) {
	d := wide(8, Stripe)
	d.Members[0].Medium, d.Members[0].Interface = LowLatency, 100e9
	d.Link = Link{Rate: 1250e6, Count: 4, Hosts: 2, Combined: Multipath, Slot: 985e6, RoundTrip: 50e-6}
	mixed := func(a *Array, reads int) func(int) Request {
		next := random(a, 1, 256<<10, 0, true)
		return func(i int) Request {
			r := next(i)
			r.Host, r.Write = i%2, i/2%10 >= reads
			return r
		}
	}
	a := build(t, d)
	within(t, "writes through two slots", closed(a, 128, 8000, mixed(a, 0)).rate*(256<<10), 2*985e6, 0.03)
	a = build(t, d)
	within(t, "half of them reads", closed(a, 128, 8000, mixed(a, 5)).rate*(256<<10), 4*985e6, 0.06)
	d.Link.OwnDisk = 400e6
	for _, reads := range []int{0, 5, 10} {
		a = build(t, d)
		within(t, fmt.Sprintf("%d of ten reads, with a disk on either side", reads), closed(a, 128, 4000, mixed(a, reads)).rate*(256<<10), 2*400e6, 0.03)
	}
	// One at a time pays for both on its way.
	a = build(t, d)
	a.hosts = a.hosts[:1]
	alone := closed(a, 1, 200, sequential(0, 1<<20, true)).latency
	d.Link.Slot, d.Link.OwnDisk = 0, 0
	a = build(t, d)
	plain := closed(a, 1, 200, sequential(0, 1<<20, true)).latency
	within(t, "added to a write of a mebibyte", alone-plain, (1<<20)/985e6+(1<<20)/400e6, 0.01)
}
