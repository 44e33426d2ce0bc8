package array

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

const gb = quantity.Bytes(1e9)

func disks(n int) Description {
	return Description{Members: []Group{{Count: n, Medium: HardDisk, Capacity: 1000 * gb}}, Layout: Layout{Level: Stripe}}
}

func ssds(n int, level Level) Description {
	return Description{Members: []Group{{Count: n, Medium: Flash, Capacity: 100 * gb}}, Layout: Layout{Level: level}}
}

func build(t testing.TB, d Description) *Array {
	t.Helper()
	a, err := New(d)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// result is what a closed loop came to.
type result struct {
	rate    float64 // a second
	latency float64 // mean, seconds
	count   int
	failed  int
}

// closed keeps depth operations in flight until count were answered; the
// first quarter is not counted.
func closed(a *Array, depth, count int, next func(i int) Request) result {
	start := make([]int64, depth)
	issued := 0
	issue := func(slot int) {
		r := next(issued)
		r.Tag = slot
		start[slot] = a.Now()
		issued++
		a.Submit(r)
	}
	for slot := range depth {
		issue(slot)
	}
	var r result
	var sum, from float64
	for answered := 0; answered < count; {
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		for _, done := range a.Done() {
			answered++
			if answered == count/4 {
				from = float64(a.Now())
			}
			if answered > count/4 {
				r.count++
				sum += float64(a.Now() - start[done.Tag])
			}
			if done.Failed {
				r.failed++
			}
			issue(done.Tag)
		}
		a.Forget()
	}
	r.rate = float64(r.count) / (float64(a.Now()) - from) * 1e9
	for answered := 0; answered < depth; { // what is in flight is nobody's any more
		a.Step(math.MaxInt64)
		answered += len(a.Done())
		a.Forget()
	}
	r.latency = sum / float64(r.count) / 1e9
	return r
}

func random(a *Array, seed uint64, length int, span quantity.Bytes, write bool) func(int) Request {
	source := rand.New(rand.NewPCG(seed, 1))
	if span == 0 {
		span = a.Size()
	}
	return func(int) Request {
		return Request{Write: write, Offset: source.Int64N(int64(span)/int64(length)) * int64(length), Length: length}
	}
}

func sequential(from int64, length int, write bool) func(int) Request {
	return func(i int) Request {
		return Request{Write: write, Offset: from + int64(i)*int64(length), Length: length}
	}
}

func within(t *testing.T, what string, got, want, tolerance float64) {
	t.Helper()
	if math.Abs(got-want) > want*tolerance {
		t.Errorf("%s: %.4g, expected %.4g within %g %%", what, got, want, tolerance*100)
	}
}

// Depth 1 over the full span: 1/(mean seek + half a turn + transfer +
// overhead), the textbook's sum (Hennessy and Patterson, storage chapter).
func TestHardDiskArithmetic(t *testing.T) {
	a := build(t, disks(1))
	g := disks(1).expandedMembers()[0]
	one := closed(a, 1, 20_000, random(a, 1, 4096, 0, false))
	transfer := 4096 / (float64(g.OuterRate+g.InnerRate) / 2)
	expected := 1 / (float64(g.SeekAverage) + 30/g.RPM + transfer + float64(g.Overhead))
	within(t, "random reads at depth 1", one.rate, expected, 0.05)

	deep := closed(build(t, disks(1)), 32, 20_000, random(a, 2, 4096, 0, false))
	if gain := deep.rate / one.rate; gain < 1.6 || gain > 2.5 {
		t.Errorf("depth 32 gives %.2f times depth 1, expected 1.6 to 2.5", gain)
	}
	near := closed(build(t, disks(1)), 1, 20_000, random(a, 3, 4096, a.Size()/10, false))
	if near.rate < one.rate*1.3 {
		t.Errorf("a tenth of the span gives %.0f a second against %.0f over all of it", near.rate, one.rate)
	}
	for name, c := range map[string]struct {
		from float64
		want quantity.ByteRate
	}{"outer": {0, g.OuterRate}, "inner": {0.98, g.InnerRate}} {
		a := build(t, disks(1))
		r := closed(a, 2, 2000, sequential(int64(c.from*float64(a.Size()))>>20<<20, 1<<20, false))
		within(t, name+" sequential rate", r.rate*(1<<20), float64(c.want), 0.03)
	}
	// Without a volatile cache and with nothing queued, each sequential write
	// misses its turn.
	single := closed(build(t, disks(1)), 1, 2000, sequential(0, 4096, true))
	within(t, "unqueued sequential writes", single.rate, g.RPM/60, 0.05)
}

// lambert is the principal branch of the Lambert function below zero, by
// Newton's method.
func lambert(x float64) float64 {
	w := 0.0
	if x < -0.3 {
		w = -0.5
	}
	for range 100 {
		e := math.Exp(w)
		w -= (w*e - x) / (e * (w + 1))
	}
	return w
}

// Desnoyers 2012: with first-in-first-out cleaning and uniform random writes
// A = a/(a + W(-a e^-a)), a = physical/logical capacity.
func TestWriteAmplificationFollowsDesnoyers(t *testing.T) {
	for _, spare := range []float64{0.07, 0.15, 0.28, 0.5} {
		d := Description{Layout: Layout{Level: Stripe}, Members: []Group{{
			Count: 1, Medium: Flash, Capacity: 256 * quantity.MiB, OverProvision: quantity.Share(spare), BlockPages: 64,
		}}}
		a := build(t, d)
		pages := int(a.Size() / 4096)
		f := a.members[0].flash
		source := rand.New(rand.NewPCG(7, uint64(spare*100)))
		for i := range pages { // every page is written once
			f.write(0, int64(i), f.nextDie(), 1, 1)
		}
		for range 6 * pages {
			f.write(0, int64(source.IntN(pages)), f.nextDie(), 1, 1)
		}
		f.hostPages, f.programmed = 0, 0
		for range 4 * pages {
			f.write(0, int64(source.IntN(pages)), f.nextDie(), 1, 1)
		}
		// What is always free is no room for stale pages.
		alpha := float64((f.blocks-spareBlocks)*64) / float64(pages)
		within(t, fmt.Sprintf("write amplification with %.0f %% spare", spare*100), a.WriteAmplification(0), alpha/(alpha+lambert(-alpha*math.Exp(-alpha))), 0.03)
	}
}

// What rests on a drive takes room that is missing for stale pages: of writes to a part of it the
// spare room is what all of it has, and what is empty is spare as well.
func TestWhatRestsTakesRoom(t *testing.T) {
	const spare, mib = 0.2, 256
	for _, c := range []struct{ empty, span float64 }{{0, 1}, {0, 0.25}, {0.5, 0.25}, {0.5, 0.5}, {1, 0.5}} {
		d := Description{Layout: Layout{Level: Stripe}, Empty: quantity.Share(c.empty), Members: []Group{{Count: 1, Medium: Flash, Capacity: mib * quantity.MiB, OverProvision: spare, BlockPages: 32}}}
		a := build(t, d)
		f := a.members[0].flash
		pages := float64(a.Size() / 4096)
		source := rand.New(rand.NewPCG(9, 9))
		write := func(times float64) {
			for range int(times * pages) {
				f.write(0, int64(source.IntN(int(c.span*pages))), f.nextDie(), 1, 1)
			}
		}
		write(8)
		f.hostPages, f.programmed = 0, 0
		write(4)
		physical := float64((f.blocks-spareBlocks)*32) - max(1-c.empty-c.span, 0)*pages
		alpha := physical / (c.span * pages)
		within(t, fmt.Sprintf("write amplification on %.0f %% of a drive of which %.0f %% are empty", c.span*100, c.empty*100), a.WriteAmplification(0), alpha/(alpha+lambert(-alpha*math.Exp(-alpha))), 0.03)
		explained := setup.Amplification(setup.Use{Span: a.Size() * quantity.Bytes(c.span*1000) / 1000}, c.span*pages, physical)
		within(t, "as explained", explained, a.WriteAmplification(0), 0.03)
	}
}

// What was never written asks no die: reads of it go at the rate of the line, those of what lies
// there at that of the dies; what was written since is read from them.
func TestEmptyFlashIsReadWithoutDies(t *testing.T) {
	for _, capacity := range []quantity.Bytes{4 * quantity.GiB, 2 * quantity.TiB} { // followed page by page, and not
		d := Description{Layout: Layout{Level: Stripe}, Empty: 0.5, Members: []Group{{Count: 1, Medium: Flash, Capacity: capacity, Dies: 2, ReadTime: 200e-6, Interface: 400e6}}}
		a := build(t, d)
		half := int64(a.Size()) / 2
		at := func(from int64) float64 {
			next := random(a, 1, 4096, quantity.Bytes(half/4), false)
			return closed(a, 32, 4000, func(i int) Request { r := next(i); r.Offset += from; return r }).rate
		}
		within(t, "what lies there", at(0), 2/200e-6, 0.05)
		within(t, "what is empty", at(half+half/2), 400e6/4096, 0.05)
		one(a, Request{Write: true, Offset: half + 8192, Length: 4096})
		busy := a.members[0].flash.busy
		one(a, Request{Offset: half + 8192, Length: 4096})
		if a.members[0].flash.busy == busy {
			t.Error("what was written is read without a die")
		}
	}
}

// A drive whose pages stand so many programs is worn by what is written, as often as that
// is programmed, over all that its pages stand.
func TestDrivesWear(t *testing.T) {
	d := Description{Layout: Layout{Level: Stripe}, Members: []Group{{Count: 1, Medium: Flash, Capacity: 64 * quantity.MiB, OverProvision: 0.25, BlockPages: 64, Cycles: 300}}}
	a := build(t, d)
	closed(a, 8, 100_000, random(a, 1, 4096, 0, true))
	for _, c := range a.Inside(Totals{At: -1, Lines: make([]float64, 1), Channels: make([]float64, 1), Busy: make([]float64, 1)}) {
		if c.Name == "most worn SSD" {
			f := a.members[0].flash
			within(t, "worn", c.Value, float64(f.hostPages)*a.WriteAmplification(0)*4096/(300*1.25*64*(1<<20)), 0.01)
			return
		}
	}
	t.Error("nothing is said of wear")
}

// A drive that compresses holds a share less, which is as if it had so much more spare,
// and programs a share less of each page: (1-c) A(a/(1-c)). Streams run so much faster,
// until the line is full.
func TestADriveThatCompresses(t *testing.T) {
	for _, c := range []float64{0, 0.3, 0.5} {
		d := Description{Layout: Layout{Level: Stripe}, Members: []Group{{
			Count: 1, Medium: Flash, Capacity: 256 * quantity.MiB, OverProvision: 0.15, BlockPages: 64, Compresses: true, Interface: 100e9,
		}}}
		a := build(t, d)
		a.Writes(c, 0)
		g := d.expandedMembers()[0]
		stream := closed(a, 256, 60_000, sequential(0, 4096, true))
		within(t, fmt.Sprintf("stream of what shrinks by %.0f %%", c*100), stream.rate, float64(g.Dies)/float64(g.ProgramTime)/(1-c), 0.05)
		pages := int(a.Size() / 4096)
		f := a.members[0].flash
		source := rand.New(rand.NewPCG(7, uint64(c*100)))
		for range 7 * pages {
			f.write(0, int64(source.IntN(pages)), f.nextDie(), 1-c, 1)
		}
		f.hostPages, f.programmed = 0, 0
		for range 4 * pages {
			f.write(0, int64(source.IntN(pages)), f.nextDie(), 1-c, 1)
		}
		alpha := float64((f.blocks-spareBlocks)*64) / float64(pages) / (1 - c)
		within(t, fmt.Sprintf("write amplification of what shrinks by %.0f %%", c*100), a.WriteAmplification(0), (1-c)*alpha/(alpha+lambert(-alpha*math.Exp(-alpha))), 0.03)
	}
}

func TestFastRegionFillsAndEmpties(t *testing.T) {
	d := ssds(1, Stripe)
	d.Members[0].FastRegion, d.Members[0].Interface = 64*quantity.MiB, 10e9
	a := build(t, d)
	g := d.expandedMembers()[0]
	rate := func(program quantity.Seconds) float64 { return float64(g.Dies) / float64(program) * 4096 }
	burst := closed(a, 64, 12_000, sequential(0, 4096, true))
	within(t, "into the fast region", burst.rate*4096, rate(g.FastProgram), 0.05)
	closed(a, 64, 12_000, sequential(1<<30, 4096, true))
	full := closed(a, 64, 12_000, sequential(2<<30, 4096, true))
	within(t, "when it is full", full.rate*4096, rate(g.ProgramTime), 0.05)
}

// Small-write costs in member operations: mirrors 2, RAID 5 four, RAID 6 six,
// none extra for full stripes (Chen et al. 1994).
func TestSmallWriteCosts(t *testing.T) {
	for _, c := range []struct {
		level   Level
		members int
		cost    float64
	}{{Stripe, 4, 1}, {Mirror, 2, 2}, {MirrorStripe, 8, 2}, {Parity, 5, 4}, {DoubleParity, 6, 6}} {
		d := ssds(c.members, c.level)
		d.Members[0].Medium, d.Members[0].Units, d.Members[0].Interface = LowLatency, 1, 100e9
		a := build(t, d)
		small := closed(a, 64*c.members, 60_000, random(a, 5, 4096, 0, true))
		within(t, string(c.level)+" member operations for each small write", float64(a.counters.memberOperations)/float64(a.counters.operations), c.cost, 0.02)
		member := 1 / float64(d.expandedMembers()[0].ProgramTime)
		within(t, string(c.level)+" random writes", small.rate, float64(c.members)*member/c.cost, 0.10)

		if a.layout.parity == 0 {
			continue
		}
		a = build(t, d)
		width := a.layout.data * int(a.layout.chunk)
		closed(a, 4, 1000, sequential(0, width, true))
		within(t, string(c.level)+" member operations for each full stripe", float64(a.counters.memberOperations)/float64(a.counters.operations), float64(c.members), 0.02)
	}
}

// Sequential reads give data members × media rate until a cap.
func TestSequentialRateOfAnArray(t *testing.T) {
	for level, n := range map[Level]int{Stripe: 4, Parity: 5} {
		d := disks(n)
		d.Layout.Level = level
		a := build(t, d)
		r := closed(a, 8, 3000, sequential(0, a.layout.data*int(a.layout.chunk)*4, false))
		// Reading round a parity layout skips the parity of each stripe, which
		// still passes under the heads.
		media := float64(d.expandedMembers()[0].OuterRate)
		got := r.rate * float64(a.layout.data*int(a.layout.chunk)*4)
		if got > media*float64(n)*1.01 || got < media*float64(a.layout.data)*0.5 {
			t.Errorf("%s of %d: %.0f MB/s, media give %.0f each", level, n, got/1e6, media/1e6)
		}
		d.Controller.Throughput = 150e6
		capped := closed(build(t, d), 8, 1000, sequential(0, 1<<20, false))
		within(t, string(level)+" behind a controller of 150 MB/s", capped.rate*(1<<20), 150e6, 0.03)
	}
}

// Brute force on tiny arrays: write bytes where the layout says with parity by
// hand, lose members, reconstruct, and compare.
func TestAddressingByBruteForce(t *testing.T) {
	const chunk = 1 // one byte stands for a chunk
	for _, c := range []struct {
		level   Level
		members int
		lose    int
	}{{Parity, 3, 1}, {Parity, 5, 1}, {DoubleParity, 4, 2}, {DoubleParity, 7, 2}, {MirrorStripe, 6, 1}, {Mirror, 3, 2}, {Stripe, 3, 0}} {
		members := Description{Members: []Group{{Count: c.members, Medium: LowLatency, Capacity: 64 * quantity.MiB}}}.expandedMembers()
		l := newLayout(Layout{Level: c.level, Chunk: 4096}, members, 0)
		l.chunk, l.shift = chunk, 0
		const stripes = 11
		held := make([][]byte, c.members)
		taken := make([][]bool, c.members)
		for m := range held {
			held[m], taken[m] = make([]byte, stripes*l.data+stripes), make([]bool, stripes*l.data+stripes)
		}
		value := func(at int64) byte { return byte(at*37 + 11) }
		size := int64(stripes * l.data)
		for at := range size {
			m, place := l.Place(at)
			for i := range l.copies() {
				if taken[m+i][place] {
					t.Fatalf("%s of %d: byte %d lies on another one", c.level, c.members, at)
				}
				taken[m+i][place] = true
				held[m+i][place] = value(at)
			}
		}
		for stripe := int64(0); l.parity > 0 && stripe < stripes; stripe++ {
			p, q := parities(l, held, stripe)
			first := l.parityMember(stripe)
			if taken[first][stripe] {
				t.Fatalf("%s: parity lies on data", c.level)
			}
			held[first][stripe] = p
			if l.parity == 2 {
				held[(first+1)%l.members][stripe] = q
			}
		}
		for lost := range subsets(c.members, c.lose) {
			for at := range size {
				if got, ok := readBack(l, held, lost, at); !ok || got != value(at) {
					t.Fatalf("%s of %d without %v: byte %d reads %d (%v), want %d", c.level, c.members, lost, at, got, ok, value(at))
				}
			}
		}
	}
}

// column is the member that holds data column i of a stripe.
func column(l *layout, stripe int64, i int) int {
	return (l.parityMember(stripe) + l.parity + i) % l.members
}

// parities are P, the exclusive or, and Q, weighted by powers of 2 in GF(2^8)
// (Anvin, The mathematics of RAID-6, 2004).
func parities(l *layout, held [][]byte, stripe int64) (p, q byte) {
	for i := l.data - 1; i >= 0; i-- {
		b := held[column(l, stripe, i)][stripe]
		p ^= b
		q = double(q) ^ b
	}
	return p, q
}

func double(b byte) byte {
	if b&0x80 != 0 {
		return b<<1 ^ 0x1d
	}
	return b << 1
}

// subsets yields every set of at most n members.
func subsets(members, n int) func(func(map[int]bool) bool) {
	return func(yield func(map[int]bool) bool) {
		for i := range members {
			for j := i; j < members; j++ {
				lost := map[int]bool{}
				if n >= 1 {
					lost[i] = true
				}
				if n >= 2 {
					lost[j] = true
				}
				if !yield(lost) {
					return
				}
			}
		}
	}
}

// readBack reads a byte from what is left, trying all values where parity has
// to tell: slow, and independent of any reconstruction formula.
func readBack(l *layout, held [][]byte, lost map[int]bool, at int64) (byte, bool) {
	m, place := l.Place(at)
	for i := range l.copies() {
		if !lost[m+i] {
			return held[m+i][place], true
		}
	}
	if l.parity == 0 {
		return 0, false
	}
	stripe := place
	var unknown []int
	for i := range l.data {
		if c := column(l, stripe, i); lost[c] {
			unknown = append(unknown, c)
		}
	}
	trial := make([][]byte, len(held))
	for i := range held {
		trial[i] = append([]byte(nil), held[i]...)
	}
	first, second := l.parityMember(stripe), (l.parityMember(stripe)+1)%l.members
	for guess := range 1 << (8 * len(unknown)) {
		for i, c := range unknown {
			trial[c][stripe] = byte(guess >> (8 * i))
		}
		p, q := parities(l, trial, stripe)
		if (lost[first] || p == held[first][stripe]) && (l.parity < 2 || lost[second] || q == held[second][stripe]) {
			return trial[m][stripe], true
		}
	}
	return 0, false
}

// With members missing everything is still answered, at the cost of reading
// the others; with one too many, it fails.
func TestDegraded(t *testing.T) {
	for level, tolerated := range map[Level]int{Parity: 1, DoubleParity: 2, MirrorStripe: 1, Stripe: 0} {
		for lost := range tolerated + 2 {
			if lost > 2 {
				continue
			}
			a := build(t, ssds(6, level))
			for m := range lost {
				a.members[m].failed = true // of a mirror stripe: both halves of one pair
			}
			for _, write := range []bool{false, true} {
				r := closed(a, 8, 2000, random(a, 9, 8192, 0, write))
				if (r.failed > 0) != (lost > tolerated) {
					t.Errorf("%s without %d, writes %v: %d of %d failed", level, lost, write, r.failed, r.count)
				}
			}
		}
	}
	a := build(t, ssds(5, Parity))
	a.members[2].failed = true
	r := closed(a, 1, 20_000, random(a, 9, 4096, 0, false))
	within(t, "member reads for each read without one of five", float64(a.counters.memberOperations)/float64(a.counters.operations), 0.8+0.2*4, 0.03)
	if r.failed > 0 {
		t.Errorf("%d reads failed", r.failed)
	}
}

func TestRebuildBringsTheMemberBackAndCompetes(t *testing.T) {
	d := disks(3)
	d.Layout.Level, d.Members[0].Capacity = Parity, gb
	quiet := closed(build(t, d), 4, 3000, random(build(t, d), 4, 65536, 0, false))
	d.Faults = []Fault{{Kind: MemberFails, At: 0, Member: 1}, {Kind: RebuildBegin, At: 0.001, Member: 1, Rate: 40e6}}
	a := build(t, d)
	busy := closed(a, 4, 3000, random(a, 4, 65536, 0, false))
	if busy.rate > quiet.rate*0.85 {
		t.Errorf("%.0f a second while it rebuilds, %.0f when it is well", busy.rate, quiet.rate)
	}
	for a.members[1].failed {
		a.Step(math.MaxInt64)
	}
	if a.layout.missing(a) != 0 || a.Now() < int64(1e9/40e6*1e9*0.9) {
		t.Errorf("%d members missing after %.1f s", a.layout.missing(a), float64(a.Now())/1e9)
	}
}

func cached(mode CacheMode, size quantity.Bytes) Description {
	d := disks(1)
	d.Caches = []Cache{{Name: "cache", Size: size, Block: 4096, Mode: mode, Protected: true}}
	return d
}

// Uniform reads over a working set W with a cache C settle at hit rate C/W,
// and the first pass covers 1-(1-1/W)^k of it after k reads.
func TestUniformHitRateAndWarmUp(t *testing.T) {
	const blocks = 20_000
	d := cached(ReadOnly, blocks/4*4096)
	d.Members[0].Medium = LowLatency
	a := build(t, d)
	next := random(a, 11, 4096, blocks*4096, false)
	closed(a, 8, 40_000, next)
	c := a.caches[0]
	c.hits, c.misses = 0, 0
	closed(a, 8, 100_000, next)
	if rate := float64(c.hits) / float64(c.hits+c.misses); math.Abs(rate-0.25) > 0.01 {
		t.Errorf("hit rate %.3f, C/W is 0.25", rate)
	}
	d.Caches[0].Size = 2 * blocks * 4096
	a = build(t, d)
	next = random(a, 12, 4096, blocks*4096, false)
	for _, k := range []int{5_000, 20_000, 60_000} {
		for int(a.counters.operations) < k {
			closed(a, 1, 1000, next)
		}
		expected := 1 - math.Pow(1-1.0/blocks, float64(a.counters.operations))
		within(t, fmt.Sprintf("coverage after %d reads", k), float64(len(a.caches[0].nodes))/blocks, expected, 0.02)
	}
}

// What is pinned is there after whatever else was read: a cache of C blocks of which P
// are pinned serves all of these, and of the others as one of C-P.
func TestWhatIsPinnedStays(t *testing.T) {
	d := cached(ReadOnly, 64*quantity.MiB)
	d.Caches[0].Pinned = 16 * quantity.MiB
	a := build(t, d)
	for at := int64(0); at < 16<<20; at += 4096 {
		one(a, Request{Offset: at, Length: 4096})
	}
	const span = 256 << 20
	next := random(a, 3, 4096, span, false)
	closed(a, 8, 200_000, next)
	c := a.caches[0]
	c.hits, c.misses = 0, 0
	closed(a, 8, 100_000, next)
	// A sixteenth of the reads hits what is pinned; of the rest 48 of 240 MiB are there.
	within(t, "hit rate beside what is pinned", ratio(float64(c.hits), float64(c.hits+c.misses)), 1.0/16+15.0/16*48/240, 0.02)
	c.hits, c.misses = 0, 0
	closed(a, 8, 4000, random(a, 4, 4096, 16<<20, false))
	if c.misses > 0 {
		t.Errorf("%d reads of what is pinned are not served", c.misses)
	}
	a.inject(Fault{Kind: CacheFails})
	a.inject(Fault{Kind: CacheReturns})
	if one(a, Request{Offset: 0, Length: 4096}); c.misses == 0 {
		t.Error("a cache that failed still serves what was pinned")
	}
}

// Zipf reads against Che's approximation: h = sum q (1-exp(-q T)), where T
// solves sum (1-exp(-q T)) = C (Che, Tung and Wang, 2002).
func TestZipfHitRateFollowsChe(t *testing.T) {
	const blocks, capacity, exponent = 10_000, 1_000, 0.9
	weights, total := make([]float64, blocks), 0.0
	for i := range weights {
		weights[i] = math.Pow(float64(i+1), -exponent)
		total += weights[i]
	}
	low, high := 0.0, 1e9
	for range 200 {
		sum, middle := 0.0, (low+high)/2
		for _, w := range weights {
			sum += 1 - math.Exp(-w/total*middle)
		}
		if sum < capacity {
			low = middle
		} else {
			high = middle
		}
	}
	expected, cumulative := 0.0, make([]float64, blocks)
	running := 0.0
	for i, w := range weights {
		expected += w / total * (1 - math.Exp(-w/total*low))
		running += w / total
		cumulative[i] = running
	}
	d := cached(ReadOnly, capacity*4096)
	d.Members[0].Medium = LowLatency
	a := build(t, d)
	source := rand.New(rand.NewPCG(3, 3))
	next := func(int) Request {
		u := source.Float64()
		i, j := 0, blocks-1
		for i < j {
			if m := (i + j) / 2; cumulative[m] < u {
				i = m + 1
			} else {
				j = m
			}
		}
		return Request{Offset: int64(i) * 4096, Length: 4096}
	}
	closed(a, 1, 30_000, next)
	c := a.caches[0]
	c.hits, c.misses = 0, 0
	closed(a, 1, 200_000, next)
	if rate := float64(c.hits) / float64(c.hits+c.misses); math.Abs(rate-expected) > 0.02 {
		t.Errorf("hit rate %.3f, Che's approximation says %.3f", rate, expected)
	}
}

// A burst is absorbed for dirty limit/(arrival - destage) seconds and then
// falls to the rate of the destage.
func TestWriteBackAbsorbsABurst(t *testing.T) {
	d := Description{
		Members: []Group{{Count: 1, Medium: LowLatency, Capacity: 10 * gb, Units: 1, ProgramTime: 100e-6, Interface: 10e9}},
		Layout:  Layout{Level: Stripe},
		Caches:  []Cache{{Name: "controller", Size: 64 * quantity.MiB, Block: 4096, Mode: WriteBack, Protected: true, DirtyLimit: 0.5, HitTime: 20e-6}},
	}
	a := build(t, d)
	const gap = 20_000 // nanoseconds: 50,000 writes of 4 KiB a second arrive, 10,000 are destaged
	absorbedUntil := int64(0)
	for i := range 40_000 {
		at := int64(i) * gap
		for a.Step(at) {
		}
		if len(a.caches[0].stalled) > 0 {
			absorbedUntil = at
			break
		}
		a.Submit(Request{Tag: i, Write: true, Offset: int64(i*7919%2_000_000) * 4096, Length: 4096})
		a.Forget()
	}
	within(t, "seconds until the cache is full", float64(absorbedUntil)/1e9, 8192/(50_000.0-10_000), 0.05)
	a.Forget()
	r := closed(build(t, d), 64, 60_000, random(a, 5, 4096, 8*gb, true))
	within(t, "writes a second with a full cache", r.rate, 10_000, 0.10)
}

// What a read finds in the cache is what was written, whatever is dirty,
// clean or on its way out: no block is lost or kept twice.
func TestCacheBookkeeping(t *testing.T) {
	d := cached(WriteBack, quantity.MiB)
	d.Caches[0].DirtyLimit = 0.6
	a := build(t, d)
	source := rand.New(rand.NewPCG(8, 8))
	closed(a, 16, 5000, func(int) Request {
		return Request{Write: source.IntN(2) == 0, Offset: source.Int64N(2000) * 2048, Length: 2048 << source.IntN(4)}
	})
	c := a.caches[0]
	seen, dirty, soiled := map[int64]bool{}, 0, int64(0)
	for _, n := range c.table {
		if n.node == 0 {
			continue
		}
		k := c.nodes[n.node-1]
		if seen[k.block] || c.find(k.block) != int32(n.node)-1 {
			t.Fatalf("block %d is kept twice or cannot be found", k.block)
		}
		seen[k.block] = true
		if !k.isClean() {
			dirty++
		}
		for part := range 64 { // each by itself
			soiled += int64(k.dirty>>part&1) << c.grain
		}
	}
	if soiled != c.soiled || soiled == 0 {
		t.Errorf("%d bytes are dirty, counted %d", soiled, c.soiled)
	}
	if dirty != c.unclean || len(seen)+len(c.spare) != len(c.nodes) || c.unclean > c.limit {
		t.Errorf("%d dirty, counted %d of at most %d; %d blocks and %d spare of %d nodes", dirty, c.unclean, c.limit, len(seen), len(c.spare), len(c.nodes))
	}
	count := 0
	for n := c.clean.first; n >= 0; n = c.nodes[n].next {
		count++
	}
	if count+dirty != len(seen) {
		t.Errorf("%d clean and %d dirty of %d", count, dirty, len(seen))
	}
}

func TestLinks(t *testing.T) {
	within(t, "payload at 1500", float64(setup.PayloadShare(1500)), 0.949, 0.001)
	within(t, "payload at 9000", float64(setup.PayloadShare(9000)), 0.991, 0.001)
	base := Description{
		Members: []Group{{Count: 8, Medium: LowLatency, Capacity: 100 * gb, Interface: 10e9}}, Layout: Layout{Level: Stripe},
		Link: Link{Rate: 125e6, MTU: [2]int{9000, 9000}, RoundTrip: 200e-6},
	}
	for name, c := range map[string]struct {
		change func(*Link)
		want   float64
	}{
		"jumbo frames":                        {func(*Link) {}, 125e6 * 0.991},
		"jumbo frames on one end":             {func(l *Link) { l.MTU[1] = 1500 }, 125e6 * 0.949},
		"two links, hashed":                   {func(l *Link) { l.Count = 2 }, 125e6 * 0.991},
		"two links, multipath":                {func(l *Link) { l.Count, l.Combined = 2, Multipath }, 250e6 * 0.991},
		"a transport that takes 10 ns a byte": {func(l *Link) { l.PerByte = 10e-9 }, 100e6},
	} {
		d := base
		c.change(&d.Link)
		a := build(t, d)
		r := closed(a, 32, 4000, sequential(0, 1<<18, false))
		within(t, name, r.rate*(1<<18), c.want, 0.01)
	}
	// One operation at a time waits the whole round trip.
	a := build(t, base)
	r := closed(a, 1, 2000, random(a, 1, 4096, 0, false))
	if r.latency < 200e-6+10e-6 {
		t.Errorf("latency %.0f µs over a round trip of 200 µs", r.latency*1e6)
	}
}

// A closed loop at depth q runs at q/latency, exact when nothing queues; light
// takes 4.9 µs a kilometre, there and back.
func TestReplicationOverADistance(t *testing.T) {
	d := Description{
		Members: []Group{{Count: 1, Medium: LowLatency, Capacity: 100 * gb, Units: 64, Interface: 1e15}}, Layout: Layout{Level: Stripe},
		Replica: &Replica{Kilometres: 50, Service: 300e-6},
	}
	for _, depth := range []int{1, 4, 16} {
		a := build(t, d)
		r := closed(a, depth, 4000, random(a, 1, 4096, 0, true))
		latency := 300e-6 + 2*50*4.9e-6 // the members' 10 µs pass meanwhile
		within(t, fmt.Sprintf("writes at depth %d over 50 km", depth), r.rate, float64(depth)/latency, 0.005)
	}
	a := build(t, d)
	within(t, "reads stay here", closed(a, 1, 1000, random(a, 1, 4096, 0, false)).rate, 1/10e-6, 0.001)
}

// anyArray draws a valid array.
func anyArray(source *rand.Rand) Description {
	pick := func(n int) int { return source.IntN(n) }
	levels := []Level{Concatenation, Stripe, Mirror, MirrorStripe, Parity, DoubleParity}
	d := Description{
		Members: []Group{{Count: []int{2, 4, 6, 8}[pick(4)], Medium: []Medium{HardDisk, Flash, LowLatency}[pick(3)], Capacity: quantity.Bytes(1+pick(40)) * gb}},
		Layout:  Layout{Level: levels[pick(6)], Chunk: 4096 << pick(6)},
	}
	if m := &d.Members[0]; (d.Layout.Level == Parity || d.Layout.Level == DoubleParity) && pick(3) == 0 {
		d.Layout.Stripe, d.Layout.Spares = 3+pick(3), pick(3)
		m.Count = d.Layout.Stripe*(2+pick(2)) + d.Layout.Spares
	} else if isParity := d.Layout.Level == Parity || d.Layout.Level == DoubleParity; isParity && pick(3) == 0 {
		d.Layout.Groups = 2
	}
	if pick(2) == 0 {
		d.Link = Link{Rate: quantity.ByteRate(1+pick(1000)) * 1e6, RoundTrip: quantity.Seconds(source.Float64() * 1e-3), Count: 1 + pick(3), Combined: []Combined{Bundle, Multipath}[pick(2)]}
		if pick(3) == 0 {
			d.Link.Connections, d.Link.Window, d.Link.Loss = 1+pick(4), []quantity.Bytes{0, 64 * quantity.KiB, quantity.MiB}[pick(3)], quantity.Share([]float64{0, 0, 1e-3}[pick(3)])
		}
	}
	if pick(6) == 0 {
		d.Empty = quantity.Share(source.Float64())
	}
	if pick(2) == 0 {
		d.Controller = Controller{Operations: quantity.OpRate(1000 + pick(100_000)), Throughput: quantity.ByteRate(1+pick(1000)) * 1e6}
	}
	if pick(3) == 0 {
		d.Replica = &Replica{Kilometres: source.Float64() * 100, Service: 100e-6}
		if pick(2) == 0 {
			d.Replica.Mode, d.Replica.Rate = []ReplicaMode{Synchronous, Asynchronous}[pick(2)], quantity.ByteRate(10e6+1e9*source.Float64())
			if d.Replica.Mode == Asynchronous {
				d.Replica.Journal = quantity.Bytes(pick(3)) * 8 * quantity.MiB
			}
		}
	}
	if pick(4) == 0 {
		d.Shelves = Shelves{Count: 1 + pick(2), Rate: quantity.ByteRate(20e6 + 2e9*source.Float64()), Dealt: []Dealt{InOrder, InTurn}[pick(2)]}
	}
	if pick(4) == 0 {
		d.Tier = &Tier{Members: Group{Count: 2 + 2*pick(2), Medium: Flash, Capacity: gb / 2}, Extent: quantity.MiB << pick(7), Every: quantity.Seconds(0.01 + source.Float64())}
		if pick(3) == 0 {
			d.Tier.Lower = []LowerTier{{Members: Group{Count: 2 + 2*pick(2), Medium: Flash, Capacity: gb / 2}}}
		}
	}
	if pick(3) == 0 {
		d.Caches = []Cache{{Name: "c", Size: quantity.Bytes(1+pick(64)) * quantity.MiB, Block: 4096 << pick(5), Mode: []CacheMode{ReadOnly, WriteBack, WriteThrough}[pick(3)], DirtyLimit: quantity.Share(source.Float64())}}
	}
	return d
}

// Denning and Buzen, The operational analysis of queueing network models,
// 1978: X <= min(N/R, 1/Dmax) in any closed network. Little's law gives the
// first bound with the measured R; stations with a known demand the second.
func TestNoArrayExceedsTheAsymptoticBounds(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(42, 1))
	tried := 0
	for range 300 {
		d := anyArray(source)
		if d.Validate() != nil {
			continue
		}
		tried++
		a := build(t, d)
		depth, length := 1+source.IntN(16), 4096<<source.IntN(5)
		write := source.IntN(2) == 0
		r := closed(a, depth, 600, random(a, source.Uint64(), length, 0, write))
		if limit := float64(depth) / r.latency; r.rate > limit*1.25 {
			t.Errorf("%+v: %.0f a second with %d in flight and %.6f s each", d, r.rate, depth, r.latency)
		}
		done := d.completed()
		bounds := map[string]float64{}
		if done.Controller.Operations > 0 {
			bounds["controller operations"] = float64(done.Controller.Operations)
		}
		if done.Controller.Throughput > 0 {
			bounds["controller throughput"] = float64(done.Controller.Throughput) / float64(length)
		}
		if done.Link.Rate > 0 {
			bounds["links"] = float64(done.Link.Rate) * float64(setup.PayloadShare(1500)) * float64(done.Link.Count) / float64(length)
		}
		for name, bound := range bounds {
			if r.rate > bound*1.05 {
				t.Errorf("%s: %.0f a second, at most %.0f: %+v", name, r.rate, bound, d)
			}
		}
	}
	if tried < 150 {
		t.Errorf("only %d arrays were possible", tried)
	}
}

func TestSameSeedSameHistory(t *testing.T) {
	history := func() (out []string) {
		source := rand.New(rand.NewPCG(5, 5))
		for range 10 {
			d := anyArray(source)
			if d.Validate() != nil {
				continue
			}
			a := build(t, d)
			r := closed(a, 8, 500, random(a, 3, 8192, 0, source.IntN(2) == 0))
			out = append(out, fmt.Sprint(r, a.Now(), a.Totals()))
		}
		return out
	}
	if a, b := fmt.Sprint(history()), fmt.Sprint(history()); a != b {
		t.Error("the same arrays and operations took another course")
	}
}

func TestImpossibleArrays(t *testing.T) {
	for field, change := range map[string]func(*Description){
		"layout.level":           func(d *Description) { d.Layout.Level, d.Members[0].Count = Parity, 2 },
		"members[0].capacity":    func(d *Description) { d.Members[0].Capacity = 0 },
		"members[0].medium":      func(d *Description) { d.Members[0].Medium = "paper" },
		"members[0].rpm":         func(d *Description) { d.Members[0].RPM = math.NaN() },
		"members[0].seekAverage": func(d *Description) { d.Members[0].SeekAverage, d.Members[0].SeekFull = 1, 0.018 },
		"layout.chunk":           func(d *Description) { d.Layout.Chunk = 1000 },
		"caches[0].protected":    func(d *Description) { d.Caches = []Cache{{Size: gb, Mode: WriteBack, Protected: true, Devices: 1}} },
		"caches[0].mode":         func(d *Description) { d.Caches = []Cache{{Size: gb}} },
		"link.rate":              func(d *Description) { d.Link.Count = 2 },
		"link.mtu":               func(d *Description) { d.Link = Link{Rate: 1e9, MTU: [2]int{9000, 10}} },
		"replica":                func(d *Description) { d.Replica = &Replica{Kilometres: -1} },
		"tier":                   func(d *Description) { d.Tier = &Tier{Members: Group{Count: 8, Medium: Flash, Capacity: 2000 * gb}} },
		"caches[0].block":        func(d *Description) { d.Caches = []Cache{{Size: 1 << 46, Block: 4096, Mode: ReadOnly}} },
		"tier.extent": func(d *Description) {
			d.Members[0].Capacity = 1 << 49
			d.Tier = &Tier{Members: Group{Count: 2, Medium: Flash, Capacity: gb}, Extent: quantity.MiB}
		},
		"tier.level":       func(d *Description) { d.Tier = &Tier{Members: Group{Count: 1, Medium: Flash, Capacity: gb}} },
		"faults[0].member": func(d *Description) { d.Faults = []Fault{{Kind: MemberFails, Member: 9}} },
		"faults[0].kind":   func(d *Description) { d.Faults = []Fault{{Kind: "gremlins"}} },
		"faults[0].cache":  func(d *Description) { d.Faults = []Fault{{Kind: CacheFails}} },
		"faults[0].for":    func(d *Description) { d.Faults = []Fault{{Kind: Spike, Extra: 1}} },
		"faults[0].share":  func(d *Description) { d.Faults = []Fault{{Kind: MemberErrors}} },
		"faults[0].path":   func(d *Description) { d.Link.Rate, d.Faults = 1e9, []Fault{{Kind: PathDrops, Path: 1}} },
		"faults[0].every":  func(d *Description) { d.Link.Rate, d.Faults = 1e9, []Fault{{Kind: PathDrops, Count: 3}} },
		"faults[0].rate":   func(d *Description) { d.Faults = []Fault{{Kind: RebuildBegin}} },
	} {
		d := disks(2)
		change(&d)
		var wrong *mistake.Error
		if _, err := New(d); !errors.As(err, &wrong) || wrong.Field != field || !errors.Is(err, ErrInvalid) {
			t.Errorf("%s: %v", field, err)
		}
	}
}

// tiered is four slow drives with a fast pair for what is hot.
func tiered() Description {
	return Description{
		Members: []Group{{Count: 3, Medium: LowLatency, Capacity: gb, Units: 1, ReadTime: 1e-3, ProgramTime: 1e-3}}, Layout: Layout{Level: Parity},
		Tier: &Tier{Members: Group{Count: 2, Medium: LowLatency, Capacity: 256 * quantity.MiB, Units: 4}, Extent: 8 * quantity.MiB, Every: 1, Rate: 400e6},
	}
}

// A tier of a quarter of what is used, with nine tenths of the accesses on a
// tenth of it: once relocation has found that tenth, the tier answers at least
// those nine tenths.
func TestTierFindsWhatIsHot(t *testing.T) {
	a := build(t, tiered())
	source := rand.New(rand.NewPCG(4, 2))
	const span, hot = 1024 << 20, 104 << 20
	next := func(int) Request {
		at := source.Int64N(span)
		if source.IntN(10) > 0 {
			at = span - 1 - source.Int64N(hot)
		}
		return Request{Offset: at / 4096 * 4096, Length: 4096}
	}
	cold := closed(a, 8, 4000, next)
	closed(a, 8, 40_000, next)
	a.tier.parts[0].answered, a.tier.passed = 0, 0
	warm := closed(a, 8, 20_000, next)
	share := float64(a.tier.parts[0].answered) / float64(a.tier.parts[0].answered+a.tier.passed)
	if share < 0.9 || warm.rate < 3*cold.rate {
		t.Errorf("the tier answers %.3f of the accesses; %.0f a second against %.0f at first", share, warm.rate, cold.rate)
	}
	slots := map[int32]bool{}
	for _, slot := range a.tier.place {
		if slot >= 0 && slots[slot] {
			t.Fatalf("two extents lie in slot %d", slot)
		}
		slots[slot] = slot >= 0
	}
}

func TestNewDataLandsOnTheTier(t *testing.T) {
	d := tiered()
	d.Empty = 1
	a := build(t, d)
	r := closed(a, 4, 2000, sequential(0, 64<<10, true)) // 125 MiB of 256
	if a.tier.passed > 0 || r.latency > 1e-3 {
		t.Errorf("%d of %d writes went past the tier, each took %.4f s", a.tier.passed, r.count, r.latency)
	}
	// What does not fit goes to the slow members.
	closed(a, 4, 6000, sequential(200<<20, 64<<10, true))
	if a.tier.passed == 0 {
		t.Error("a tier of 256 MiB took 500")
	}
}

// Losing power with unsafe write-back loses exactly the dirty bytes; with a
// protected cache none.
func TestPowerCut(t *testing.T) {
	for _, protected := range []bool{false, true} {
		d := cached(WriteBack, 64*quantity.MiB)
		d.Caches[0].Protected = protected
		a := build(t, d)
		for i := range 1000 {
			a.Submit(Request{Tag: i, Write: true, Offset: int64(i) * 1 << 20, Length: 4096})
		}
		for a.Step(5e6) { // 5 ms: all are taken, hardly any is destaged
		}
		c := a.caches[0]
		dirty := int64(c.dirty.count) * 4096
		a.inject(Fault{Kind: PowerCut})
		want := dirty
		if protected {
			want = 0
		}
		if dirty < 500*4096 || c.lost != want {
			t.Errorf("protected %v: %d bytes lost of %d dirty", protected, c.lost, dirty)
		}
		a.Forget()
		closed(a, 8, 3000, random(a, 3, 4096, 0, true)) // it works as before
	}
}

func BenchmarkMirrorStripeOfSSDs(b *testing.B) {
	d := ssds(8, MirrorStripe)
	a := build(b, d)
	next := random(a, 1, 4096, 1<<30, false)
	b.ResetTimer()
	closed(a, 64, b.N, next)
}

func BenchmarkDisksOrderedByPosition(b *testing.B) {
	a := build(b, disks(8))
	next := random(a, 1, 4096, 0, false)
	b.ResetTimer()
	closed(a, 256, b.N, next)
}

func BenchmarkSSDCache(b *testing.B) {
	d := disks(4)
	d.Caches = []Cache{{Name: "ssd", Size: 10_000_000 * 4096, Block: 4096, Mode: ReadOnly, Devices: 2}}
	a := build(b, d)
	c := a.caches[0]
	for i := range int64(10_000_000) {
		c.list(c.insert(i), inClean)
		c.nodes[i].valid = 0xff
	}
	next := random(a, 1, 4096, 10_000_000*4096, false)
	b.ResetTimer()
	closed(a, 64, b.N, next)
}

// Members that are alike are tried once: by hand, of eight disks, four SSDs, two more of the
// disks and a tier of two, numbers 0, 8 and 14.
func TestKindsOfMembers(t *testing.T) {
	disk, flash := Group{Count: 8, Medium: HardDisk, Capacity: quantity.TiB}, Group{Count: 4, Medium: Flash, Capacity: quantity.TiB}
	more := disk
	more.Count = 2
	d := Description{Members: []Group{disk, flash, more}, Tier: &Tier{Members: Group{Count: 2, Medium: Flash, Capacity: quantity.TiB}}}
	if got := d.Kinds(); !slices.Equal(got, []int{0, 8, 14}) {
		t.Errorf("%v", got)
	}
	late := disk
	late.Count, late.Slow = 1, 3
	if got := (Description{Members: []Group{disk, late}}).Kinds(); !slices.Equal(got, []int{0, 8}) {
		t.Errorf("with a slow one: %v", got)
	}
}
