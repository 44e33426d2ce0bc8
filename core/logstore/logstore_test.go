package logstore

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// shape is a small store of entries of one size, with requests drawn evenly.
func shape(random *rand.Rand, keys int64, change func(*Shape)) Shape {
	s := Shape{
		Keys: keys, Size: func(uint32) int64 { return 128 }, Largest: 128, Mean: 128,
		Memtable: 512 << 10, LevelRatio: 10, CompactAt: 4, FalsePositives: 0.01, Log: Asynchronous, Clients: 8, ScanKeys: 100,
	}
	s.Ask = func() Request { return Put }
	s.Key = func() uint32 { return uint32(random.Int64N(s.Keys)) }
	if change != nil {
		change(&s)
	}
	s.Room = s.Needs()
	return s
}

// device answers what is under way in a drawn order, and checks what is issued.
type device struct {
	t      *testing.T
	s      *Store
	random *rand.Rand
	under  []Op
	now    int64
	on     func(o Op, ended []Ended)

	zones    map[int64]int64 // bytes written of those that were reset
	open     map[int64]bool  // that are written in part
	mostOpen int
}

func (d *device) run(answers int) {
	d.t.Helper()
	for range answers {
		for d.s.Ready() {
			o := d.s.Next()
			if o.Kind == Reset {
				d.reset(o)
			} else if o.Kind != Sync && (o.Offset%Block != 0 || o.Length%Block != 0 || o.Length < 1 || o.Length > Piece || o.Offset+int64(o.Length) > d.s.Room) {
				d.t.Fatalf("%+v in a room of %d", o, d.s.Room)
			}
			if o.Kind == Write && d.s.Zone > 0 {
				d.inOrder(o)
			}
			d.under = append(d.under, o)
		}
		if len(d.under) == 0 {
			d.t.Fatal("nothing is under way, and nothing can be")
		}
		n := d.random.IntN(len(d.under))
		o := d.under[n]
		d.under[n] = d.under[len(d.under)-1]
		d.under = d.under[:len(d.under)-1]
		d.now++
		ended := d.s.Completed(o.Tag, d.now)
		if d.on != nil {
			d.on(o, ended)
		}
	}
}

// inOrder checks that a write goes on where its zone stands, within it, and that nothing
// else of that zone is under way.
func (d *device) inOrder(o Op) {
	d.t.Helper()
	zone := o.Offset / d.s.Zone
	at, reset := d.zones[zone]
	if !reset || o.Offset != zone*d.s.Zone+at || o.Offset+int64(o.Length) > (zone+1)*d.s.Zone {
		d.t.Fatalf("%+v: its zone stands at %d (reset: %t)", o, at, reset)
	}
	for _, other := range d.under {
		if other.Kind != Sync && other.Kind != Read && other.Offset/d.s.Zone == zone {
			d.t.Fatalf("%+v while %+v is under way", o, other)
		}
	}
	if d.zones[zone] += int64(o.Length); d.zones[zone] < d.s.Zone {
		d.open[zone] = true
		d.mostOpen = max(d.mostOpen, len(d.open))
	} else {
		delete(d.open, zone)
	}
}

// reset checks that whole zones are reset, and of tables none that is in use.
func (d *device) reset(o Op) {
	d.t.Helper()
	if o.Offset%d.s.Zone != 0 || int64(o.Length)%d.s.Zone != 0 {
		d.t.Fatalf("%+v in zones of %d", o, d.s.Zone)
	}
	for _, tables := range d.s.levels {
		for _, one := range tables {
			if one.at < o.Offset+int64(o.Length) && o.Offset < one.at+d.s.slot() {
				d.t.Fatalf("%+v, and a table lies at %d", o, one.at)
			}
		}
	}
	for zone := o.Offset / d.s.Zone; zone*d.s.Zone < o.Offset+int64(o.Length); zone++ {
		d.zones[zone] = 0
		delete(d.open, zone)
	}
}

// whole checks what has to hold between any two answers.
func (s *Store) whole() error {
	all := map[uint32]bool{}
	taken := map[int64]bool{}
	for _, at := range s.free {
		taken[at] = true
	}
	for level, tables := range s.levels {
		for i, t := range tables {
			if taken[t.at] {
				return fmt.Errorf("level %d: the slot at %d has two owners", level, t.at)
			}
			taken[t.at] = true
			if !slices.IsSorted(t.keys) || len(slices.Compact(slices.Clone(t.keys))) != len(t.keys) {
				return fmt.Errorf("level %d: a table is not sorted", level)
			}
			if level > 0 && i > 0 && tables[i-1].last() >= t.first() {
				return fmt.Errorf("level %d: tables overlap", level)
			}
			if t.start(len(t.keys)) != t.bytes || up(t.bytes) > s.slot() {
				return fmt.Errorf("level %d: %d bytes in a slot of %d", level, t.bytes, s.slot())
			}
			for _, key := range t.keys {
				all[key] = true
			}
		}
		if level > 0 && bytesOf(tables) != s.sizes[level] {
			return fmt.Errorf("level %d holds %d bytes, counted %d", level, bytesOf(tables), s.sizes[level])
		}
	}
	if int64(len(all)) != s.Keys {
		return fmt.Errorf("%d of %d keys are there", len(all), s.Keys)
	}
	return nil
}

// Whatever is asked for and in whatever order it is answered, no key is lost, no slot has
// two owners, tables of a level do not overlap, and the room that was worked out suffices;
// and in zones each is written in order, one piece after the other, after a reset that took
// nothing that is in use.
func TestNothingIsLostWhateverHappens(t *testing.T) {
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 7))
		varies := seed%2 == 1
		sh := shape(random, 30_000, func(s *Shape) {
			s.Log, s.LevelRatio, s.CompactAt, s.Clients = Log(seed%4), int64(2+random.IntN(9)), 1+random.IntN(5), 1+random.IntN(20)
			s.Memtable = int64(64+random.IntN(200)) << 10
			if seed >= 6 {
				s.Zone = int64(1+random.IntN(4)) * 256 << 10
			}
			s.Ask = func() Request { return []Request{Put, Put, Put, Get, Scan}[random.IntN(5)] }
			if varies {
				s.Size = func(key uint32) int64 { return 20 + int64(mixed(uint64(key))%300) }
				s.Largest, s.Mean = 319, 169.5
			}
		})
		s, err := New(sh, varies, seed)
		if err != nil {
			t.Fatal(err)
		}
		d := &device{t: t, s: s, random: random, zones: map[int64]int64{}, open: map[int64]bool{}}
		for round := 0; round < 60 || s.Written.Merged < 5<<20 && round < 1000; round++ {
			d.run(400)
			if err := s.whole(); round%10 == 0 && err != nil {
				t.Fatalf("seed %d: %v", seed, err)
			}
		}
		if d.s.Zone > 0 && (d.mostOpen == 0 || d.mostOpen > 3) { // of the log, a flush and a merge
			t.Errorf("seed %d: %d zones are written in part at a time", seed, d.mostOpen)
		}
		if s.Written.Merged == 0 || s.Written.Flushed == 0 || s.Written.Put == 0 {
			t.Errorf("seed %d: %+v", seed, s.Written)
		}
	}
}

// Every get reads the blocks of its key as a plain look through all tables finds them, the
// newest first, and of the last one those that hold the entry.
func TestGetsReadWhereTheirKeyIs(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 3))
	s, err := New(shape(random, 20_000, func(s *Shape) { s.FalsePositives, s.Memtable, s.Clients = 0, 128<<10, 1 }), false, 1)
	if err != nil {
		t.Fatal(err)
	}
	d := &device{t: t, s: s, random: random}
	for range 200 {
		d.run(20)
		c := client{request: Get, key: uint32(random.IntN(20_000))}
		s.plan(&c)
		_, inMemory := s.memory.entries[c.key]
		if s.old != nil && !inMemory {
			_, inMemory = s.old.entries[c.key]
		}
		var want []blocks
	levels:
		for _, tables := range s.levels {
			for _, one := range tables {
				if i := slices.Index(one.keys, c.key); i >= 0 && !inMemory {
					from, to := one.at+int64(i)*128/Block*Block, one.at+(int64(i+1)*128+Block-1)/Block*Block
					want = append(want, blocks{from, to - from})
					break levels
				}
			}
		}
		if !slices.Equal(c.reads, want) {
			t.Fatalf("key %d is read at %v, and lies at %v (in memory: %t)", c.key, c.reads, want, inMemory)
		}
	}
}

// A filter says yes without cause as often as it may, and a get then reads that much more.
func TestFiltersAreWrongAsOftenAsTheyMay(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 4))
	s, err := New(shape(random, 200_000, func(s *Shape) { s.FalsePositives, s.LevelRatio = 0.05, 4; s.Ask = func() Request { return Get } }), false, 1)
	if err != nil {
		t.Fatal(err)
	}
	wrong, asked := 0, 0
	for range 40_000 {
		key := uint32(random.IntN(200_000))
		for level := 1; level < len(s.levels)-1; level++ {
			for _, one := range s.candidates(level, key, key) {
				if _, there, maybe := s.maybe(one, key); !there {
					asked++
					if maybe {
						wrong++
					}
				}
			}
		}
	}
	if share := float64(wrong) / float64(asked); asked < 10_000 || math.Abs(share-0.05) > 4*math.Sqrt(0.05*0.95/float64(asked)) {
		t.Errorf("%d of %d, a share of %.4f", wrong, asked, share)
	}
}

// Write amplification in the steady state of even puts. A table that is merged
// down is the one that was longest not, where its level is twice as dense as on average, so
// that it lies above S(i+1)/(2 S(i)) times its size of the next level; the first level is
// merged with all of the next. Tables are merged as a whole: at the two edges of a table
// half of one lies beyond it, on average. A level holds half of what comes down to it at once beyond
// what it shall, on average, while that moves on. Entries that meet an older one of their
// key replace it.
func TestWriteAmplificationOfLevels(t *testing.T) {
	for _, c := range []struct {
		keys   int64
		growth int64
		first  int
	}{{500_000, 10, 4}, {400_000, 10, 2}, {300_000, 4, 4}} {
		random := rand.New(rand.NewPCG(1, uint64(c.growth)))
		sh := shape(random, c.keys, func(s *Shape) { s.LevelRatio, s.CompactAt, s.Memtable = c.growth, c.first, 256<<10 })
		s, err := New(sh, false, 1)
		if err != nil {
			t.Fatal(err)
		}
		d := &device{t: t, s: s, random: random}
		upper := int64(0)
		for level := 1; level < len(s.levels)-1; level++ {
			upper += s.capacity(level)
		}
		put := func(bytes int64) Written {
			before := s.Written
			for s.Written.Put-before.Put < bytes {
				d.run(1000)
			}
			w := s.Written
			return Written{Put: w.Put - before.Put, Log: w.Log - before.Log, Flushed: w.Flushed - before.Flushed, Merged: w.Merged - before.Merged}
		}
		put(2 * upper)
		w := put(3 * upper)
		got := float64(w.Log+w.Flushed+w.Merged) / float64(w.Put)

		data := float64(sh.Data())
		size := func(level int) float64 { return min(float64(sh.capacity(level)), data) }
		last := len(s.levels) - 1
		flow := float64(w.Flushed) / float64(w.Put)
		want := float64(w.Log)/float64(w.Put) + flow
		for level := range last {
			here, below := float64(sh.CompactAt)*float64(sh.Memtable)/2, size(level+1) // the first level is merged whole: as dense as it is
			switch level {
			case 0:
			case 1:
				here = size(1) + float64(sh.CompactAt)*float64(sh.Memtable)/2
			default:
				here = size(level) + float64(sh.Memtable)/2
			}
			if level+1 == last {
				below = data
			}
			edges := 1.0
			if level == 0 {
				edges = 0
			}
			fresh := 1 - below/data
			want += flow * (below/(2*here) + edges + fresh)
			flow *= fresh
		}
		t.Logf("%d keys, growth %d, first %d, %d levels: write amplification %.2f, by the growth of levels %.2f", c.keys, c.growth, c.first, len(s.levels), got, want)
		if math.Abs(got/want-1) > 0.1 {
			t.Errorf("growth %d: %.2f, want %.2f", c.growth, got, want)
		}
	}
}

// With each put flushed by itself there are as many flushes as puts; in groups as few as
// half of the clients allow; and without, none for the log.
func TestFlushesOfTheLog(t *testing.T) {
	for _, c := range []struct {
		log         Log
		least, most float64
	}{{NoLog, 0, 0.001}, {Asynchronous, 0, 0.001}, {FlushEach, 0.999, 1.05}, {FlushGroup, 1. / 16, 0.2}} {
		random := rand.New(rand.NewPCG(9, 9))
		s, err := New(shape(random, 100_000, func(s *Shape) { s.Log, s.Clients = c.log, 16 }), false, 1)
		if err != nil {
			t.Fatal(err)
		}
		syncs, puts := 0, 0
		d := &device{t: t, s: s, random: random, on: func(o Op, ended []Ended) {
			if o.Kind == Sync {
				syncs++
			}
			for _, e := range ended {
				if e.Request == Put {
					puts++
				}
			}
		}}
		d.run(12_000)
		if share := float64(syncs) / float64(puts); share < c.least || share > c.most {
			t.Errorf("log %d: %d flushes for %d puts", c.log, syncs, puts)
		}
	}
}

// When merging does not keep up, puts wait, and that is told.
func TestPutsWaitForMerging(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 2))
	s, err := New(shape(random, 300_000, func(s *Shape) { s.Log = NoLog }), false, 1)
	if err != nil {
		t.Fatal(err)
	}
	stalls, longest := 0, int64(0)
	d := &device{t: t, s: s, random: random}
	d.on = func(_ Op, ended []Ended) {
		for _, e := range ended {
			if e.Request == Stall {
				stalls++
				longest = max(longest, d.now-e.Began)
			}
		}
	}
	d.run(20_000)
	if stalls == 0 || longest < 10 || len(s.levels[0]) > s.StallAt()+1 { // one may have been under way
		t.Errorf("%d stalls, the longest of %d answers; %d tables in the first level", stalls, longest, len(s.levels[0]))
	}
}

func TestRoomThatIsTooSmall(t *testing.T) {
	sh := shape(rand.New(rand.NewPCG(1, 1)), 1000, nil)
	sh.Room--
	if _, err := New(sh, false, 1); !errors.Is(err, ErrRoom) {
		t.Error(err)
	}
}
