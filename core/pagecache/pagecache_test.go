package pagecache

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

const (
	us  = int64(1e3)
	sec = int64(1e9)
)

// device answers one operation after the other, each after a time of its own. It holds
// what was written to it: of each page the version that it had when the write began.
type device struct {
	t       *testing.T
	cache   *Cache
	now     int64
	takes   func(write bool, offset int64, length int) int64
	idle    int64 // since when nothing is under way
	flying  []flight
	log     []flight
	version map[int64]int // of pages in memory, counted by the test
	holds   map[int64]int
	fails   bool
	wakes   map[int]int // by waiter
	failed  map[int]bool
}

type flight struct {
	tag    int
	write  bool
	offset int64
	length int
	end    int64
	pages  map[int64]int
}

func (d *device) Submit(tag, _ int, write bool, offset int64, length int) {
	if length <= 0 || length > largest*page || offset%page != 0 || length%page != 0 {
		d.t.Fatalf("%d bytes at %d", length, offset)
	}
	d.idle = max(d.idle, d.now) + d.takes(write, offset, length)
	f := flight{tag: tag, write: write, offset: offset, length: length, end: d.idle}
	if write && d.version != nil {
		f.pages = map[int64]int{}
		for p := offset / page; p < (offset+int64(length))/page; p++ {
			f.pages[p] = d.version[p]
		}
	}
	d.flying, d.log = append(d.flying, f), append(d.log, f)
}

func (d *device) Now() int64 { return d.now }

// step lets the next thing happen.
func (d *device) step() bool {
	timer := d.cache.Timer()
	switch {
	case len(d.flying) > 0 && d.flying[0].end <= timer:
		f := d.flying[0]
		d.flying = d.flying[1:]
		d.now = max(d.now, f.end)
		if !d.fails {
			for p, version := range f.pages {
				d.holds[p] = version
			}
		}
		d.cache.Done(f.tag, d.fails)
	case timer != math.MaxInt64:
		d.now = max(d.now, timer)
		d.cache.Wake()
	default:
		return false
	}
	d.look()
	return true
}

func (d *device) look() {
	for _, w := range d.cache.Woken() {
		d.wakes[w.Waiter]--
		d.failed[w.Waiter] = d.failed[w.Waiter] || w.Failed
	}
	d.cache.Forget()
}

// until steps until a waiter waits for nothing.
func (d *device) until(waiter, waits int) (failed bool) {
	d.t.Helper()
	d.wakes[waiter] += waits
	d.look()
	for d.wakes[waiter] > 0 {
		if !d.step() {
			d.t.Fatalf("waiter %d is never woken", waiter)
		}
	}
	failed = d.failed[waiter]
	delete(d.failed, waiter)
	return failed
}

// at a rate in bytes a second.
func at(rate float64) func(bool, int64, int) int64 {
	return func(_ bool, _ int64, length int) int64 { return int64(float64(length) / rate * 1e9) }
}

func made(t *testing.T, s Settings, takes func(bool, int64, int) int64) (*Cache, *device) {
	t.Helper()
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	d := &device{t: t, takes: takes, holds: map[int64]int{}, wakes: map[int]int{}, failed: map[int]bool{}}
	d.cache = New(s, d)
	return d.cache, d
}

// Whatever is read, written, flushed and dropped in whatever order: what a flush was asked
// for is on the device when it ends, as it was written before or later; nothing dropped is
// written once it is gone; and all waiters are woken.
func TestWhatIsFlushedIsThere(t *testing.T) {
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(seed, 1))
		c, d := made(t, Settings{Size: quantity.MiB, Dirty: 0.3, Age: 0.001, Ahead: 16 * quantity.KiB}, func(bool, int64, int) int64 { return 1 + random.Int64N(200*us) })
		d.version = map[int64]int{}
		const pages = 600 // and 256 fit
		by := NewReader(0, 4)
		type promise struct {
			waiter int
			holds  map[int64]int
		}
		var promises []promise
		check := func() {
			promises = slices.DeleteFunc(promises, func(p promise) bool {
				if d.wakes[p.waiter] > 0 {
					return false
				}
				for page, version := range p.holds {
					if d.holds[page] < version {
						t.Fatalf("seed %d: page %d is there as written %d times, not %d", seed, page, d.holds[page], version)
					}
				}
				return true
			})
		}
		dirty := map[int64]bool{}
		for waiter := 1; waiter < 400; waiter++ {
			first := random.Int64N(pages)
			part := Range{first * page, min(1+random.Int64N(40), pages-first) * page}
			switch random.IntN(8) {
			case 0, 1, 2:
				inPart := random.IntN(2) == 0
				if inPart {
					part.Offset, part.Length = part.Offset+100, part.Length-200
				}
				a, b := part.pages()
				for p := a; p < b; p++ {
					d.version[p]++
					dirty[p] = true
				}
				d.wakes[waiter] += c.Write(waiter, 0, part, false)
			case 3, 4:
				d.wakes[waiter] += c.Read(waiter, 0, by, part, pages*page)
			case 5:
				p := promise{waiter, map[int64]int{}}
				a, b := part.pages()
				for n := a; n < b; n++ {
					if dirty[n] {
						p.holds[n] = d.version[n]
					}
				}
				d.wakes[waiter] += c.Flush(waiter, part)
				promises = append(promises, p)
			case 6:
				if len(promises) > 0 || random.IntN(3) > 0 {
					continue
				}
				c.Drop(part)
				before := len(d.log)
				a, b := part.pages()
				for p := a; p < b; p++ {
					delete(dirty, p)
				}
				d.step()
				for _, f := range d.log[before:] {
					for p := range f.pages {
						if p >= a && p < b {
							t.Fatalf("seed %d: page %d was dropped, and is written", seed, p)
						}
					}
				}
			}
			d.look()
			for range random.IntN(6) {
				d.step()
				check()
			}
		}
		for d.step() {
		}
		check()
		for waiter, waits := range d.wakes {
			if waits != 0 {
				t.Fatalf("seed %d: waiter %d waits for %d more", seed, waiter, waits)
			}
		}
		if !c.Settled() || len(promises) > 0 {
			t.Fatalf("seed %d: %d dirty, %d flushes do not end", seed, c.dirty, len(promises))
		}
		for p := range dirty {
			if d.holds[p] != d.version[p] {
				t.Fatalf("seed %d: page %d was not written in the end", seed, p)
			}
		}
		if len(c.slots)-len(c.unused) != len(c.at) || len(c.at) > c.most {
			t.Fatalf("seed %d: %d slots, %d unused, %d pages", seed, len(c.slots), len(c.unused), len(c.at))
		}
	}
}

// Reads at random places of what is four times as large as the memory hit a quarter of the
// time; what fits is read once; of what is read from one end to the other again and again,
// and is larger, nothing is there when it is needed; and what is read ahead of who reads in
// order is no hit.
func TestHits(t *testing.T) {
	for what, c := range map[string]struct {
		pages  int64
		random bool
		share  float64
	}{
		"a quarter at random": {1024, true, 0.25},
		"what fits":           {200, true, 1},
		"backwards, and fits": {200, false, 1},
		"backwards, and not":  {1024, false, 0},
	} {
		cache, d := made(t, Settings{Size: quantity.MiB, Ahead: page}, at(1e9))
		random := rand.New(rand.NewPCG(1, 1))
		by := NewReader(-1, 1)
		read := func(count int64) {
			for n := range count {
				p := c.pages - 1 - n%c.pages
				if c.random {
					p = random.Int64N(c.pages)
				}
				d.until(1, cache.Read(1, 0, by, Range{p * page, page}, c.pages*page))
			}
		}
		read(20 * c.pages)
		warm := cache.Counts()
		read(20 * c.pages)
		hits, misses := float64(cache.Counts().Hits-warm.Hits), float64(cache.Counts().Misses-warm.Misses)
		if share := hits / (hits + misses); math.Abs(share-c.share) > 0.02 {
			t.Errorf("%s: %.3f hit, not %.3f", what, share, c.share)
		}
		if reads := float64(len(d.log)); c.share == 1 && reads != float64(c.pages) {
			t.Errorf("%s: %v reads of the device", what, reads)
		}
	}
}

// What is larger than the memory passes through it, and leaves no more than fits.
func TestLargerThanTheMemory(t *testing.T) {
	cache, d := made(t, Settings{Size: quantity.MiB}, at(1e9))
	for range 3 {
		d.until(1, cache.Read(1, 0, NewReader(0, 1), Range{0, 64 << 20}, 128<<20))
		d.until(1, cache.Write(1, 0, Range{64 << 20, 64 << 20}, true))
		d.until(1, cache.Flush(1, Range{0, 128 << 20}))
	}
	read, written := 0, 0
	for _, f := range d.log {
		if f.write {
			written += f.length
		} else {
			read += f.length
		}
	}
	if held := len(cache.at); held > 256 || written != 3*64<<20 || read < 3*63<<20 {
		t.Errorf("%d pages are there; %d MB were read and %d written", held, read/1e6, written/1e6)
	}
}

// Who reads 4 KiB after 4 KiB of a device that takes 100 µs for whatever is asked waits
// for the first piece alone, where the piece that was read ahead is there in time; who
// reads at random waits each time. What is behind the end is not read.
func TestReadAhead(t *testing.T) {
	const pages = 1000
	each := func(program int64, next func(n int64) int64) (waited int64, d *device) {
		cache, d := made(t, Settings{Size: 64 * quantity.MiB}, func(bool, int64, int) int64 { return 100 * us })
		by := NewReader(0, 1)
		for n := range int64(pages) {
			before := d.now
			d.until(1, cache.Read(1, 0, by, Range{next(n) * page, page}, pages*page))
			waited += d.now - before
			for end := d.now + program; d.now < end; { // the program works on it
				if len(d.flying) == 0 || d.flying[0].end > end {
					d.now = end
				} else {
					d.step()
				}
			}
		}
		return waited, d
	}
	waited, d := each(10*us, func(n int64) int64 { return n }) // a piece ahead lasts for 320 µs
	if waited != 100*us {
		t.Errorf("in order it waits for %d µs", waited/us)
	}
	if reads := len(d.log); reads != 32 { // a page with what is ahead of it, and 967 more
		t.Errorf("%d reads of the device for %d pages, 32 at a time", reads, pages)
	}
	if hits := d.cache.Counts().Hits; hits != 0 {
		t.Errorf("%d hits", hits)
	}
	if last := d.log[len(d.log)-1]; last.offset+int64(last.length) != pages*page {
		t.Errorf("the last read ends at %d", last.offset+int64(last.length))
	}
	if waited, _ := each(10*us, func(n int64) int64 { return n * 7 % pages }); waited < 900*100*us {
		t.Errorf("out of order it waits for %d µs", waited/us)
	}
}

// A kernel (Linux 6.18) that read 64 MiB of a block device in order, with 128 KiB of
// read-ahead, asked the device 518 times where pieces were of 4 KiB, 513 times where they
// were of 64 KiB, and 66 times where they were of 1 MiB.
func TestAsOftenAsAKernelAsks(t *testing.T) {
	for piece, kernel := range map[int64]int{4 << 10: 518, 64 << 10: 513, 1 << 20: 66} {
		cache, d := made(t, Settings{Size: 256 * quantity.MiB}, at(1e9))
		by := NewReader(0, 1)
		for offset := int64(0); offset < 64<<20; offset += piece {
			d.until(1, cache.Read(1, 0, by, Range{offset, piece}, 128<<20))
		}
		if asked := len(d.log); math.Abs(float64(asked)/float64(kernel)-1) > 0.02 {
			t.Errorf("in pieces of %d KiB the device is asked %d times, not %d", piece>>10, asked, kernel)
		}
	}
}

// Who writes faster than the device goes on at the rate of the device once a fifth of the
// memory is dirty: of 256 MiB of memory, 51 MiB.
func TestWritersWait(t *testing.T) {
	cache, d := made(t, Settings{Size: 256 * quantity.MiB}, at(100<<20))
	const total = 400 << 20
	for offset := int64(0); offset < total; offset += 64 << 10 {
		d.until(1, cache.Write(1, 0, Range{offset, 64 << 10}, false))
		d.now += us
	}
	limit := 0.2 * 256
	want := (400 - limit) / 100
	if took := float64(d.now) / 1e9; math.Abs(took/want-1) > 0.03 {
		t.Errorf("it took %.2f s, not %.2f", took, want)
	}
	if dirty := float64(cache.Counts().Dirty) / (1 << 20); dirty > limit+0.1 || dirty < limit-1 {
		t.Errorf("%.1f MiB are dirty", dirty)
	}
}

// A little that is dirty is written when it is 30 s old, all that is as old then, in the
// order of its places and neighbours together; more than a tenth of the memory at once,
// down to that.
func TestWhatIsWrittenUnasked(t *testing.T) {
	cache, d := made(t, Settings{Size: 64 * quantity.MiB}, at(1e9))
	for _, p := range []int64{9, 3, 4, 100, 5, 8} {
		d.until(1, cache.Write(1, 0, Range{p * page, page}, false))
	}
	d.now += sec
	d.until(1, cache.Write(1, 0, Range{50 * page, page}, false))
	if !d.step() || d.now != 30*sec {
		t.Fatalf("at %d", d.now)
	}
	var offsets []int64
	for _, f := range d.log {
		offsets = append(offsets, f.offset/page, int64(f.length/page))
	}
	if want := []int64{3, 3, 8, 2, 100, 1}; !slices.Equal(offsets, want) {
		t.Errorf("it writes %v", offsets)
	}
	for d.step() {
	}
	if last := d.log[len(d.log)-1]; len(d.log) != 4 || last.offset != 50*page || d.now < 31*sec || d.now > 31*sec+sec/100 {
		t.Errorf("then %+v at %d", last, d.now)
	}

	cache, d = made(t, Settings{Size: 64 * quantity.MiB}, at(1e9))
	d.until(1, cache.Write(1, 0, Range{0, 8 << 20}, false))
	for len(d.flying) > 0 {
		d.step()
	}
	if dirty, tenth := cache.Counts().Dirty, 6.4*float64(quantity.MiB); float64(dirty) > tenth || float64(dirty) < tenth-float64(quantity.MiB) || d.now > sec {
		t.Errorf("%s are dirty after %d ms", dirty, d.now/1e6)
	}
}

// What could not be written is told to whoever flushes it, or flushes next.
func TestLostWritesAreTold(t *testing.T) {
	cache, d := made(t, Settings{Size: quantity.MiB}, at(1e9))
	d.fails = true
	d.until(1, cache.Write(1, 0, Range{0, page}, false))
	if !d.until(2, cache.Flush(2, Range{0, page})) {
		t.Error("a flush of what was lost goes well")
	}
	d.until(1, cache.Write(1, 0, Range{0, page}, false))
	for d.step() { // until it is old
	}
	d.fails = false
	if !d.until(2, cache.Flush(2, Range{0, 10 * page})) || d.until(2, cache.Flush(2, Range{0, 10 * page})) {
		t.Error("what was lost is told once")
	}
	d.fails = true
	if !d.until(3, cache.Read(3, 0, NewReader(0, 1), Range{50 * page, page}, 51*page)) || cache.has(50) {
		t.Error("a read that failed")
	}
}

func TestSettings(t *testing.T) {
	for _, wrong := range []Settings{
		{Size: 1000}, {Size: quantity.TiB}, {Throughput: quantity.ByteRate(math.Inf(1))}, {Throughput: 1}, {Dirty: 2}, {Dirty: -1}, {Background: 0.3}, {Age: -1}, {Age: 1e9}, {Ahead: 5}, {Ahead: quantity.GiB},
	} {
		if wrong.Validate() == nil {
			t.Errorf("%+v", wrong)
		}
	}
	if err := (Settings{}).Validate(); err != nil {
		t.Error(err)
	}
}
