package array

import (
	"math"
	"math/rand/v2"
	"testing"

	"patientheron/core/quantity"
)

func shingledDisk() Description {
	d := disks(1)
	g := &d.Members[0]
	g.Capacity, g.Shingled, g.Band, g.Region = 64*quantity.GiB, true, 64*quantity.MiB, quantity.GiB
	return d
}

// naiveRegion is a region as a list of what it holds, by band.
type naiveRegion struct {
	lists [][2]int64 // band and bytes, in the order of arrival
	bands int        // that were moved home
}

func (r *naiveRegion) sum() (bytes int64) {
	for _, l := range r.lists {
		bytes += l[1]
	}
	return bytes
}

func (r *naiveRegion) write(band, bytes, size int64) {
	for len(r.lists) > 0 && r.sum()+bytes > size {
		oldest := r.lists[0][0]
		var left [][2]int64
		for _, l := range r.lists {
			if l[0] != oldest {
				left = append(left, l)
			}
		}
		r.lists = left
		r.bands++
	}
	r.lists = append(r.lists, [2]int64{band, bytes})
}

// Writes at random places land in the region until it is full, and then each waits for
// bands to be moved home: as many as a plain list says, each for reading and writing it
// whole.
func TestShingledDisksCollapseWhenTheRegionIsFull(t *testing.T) {
	d := shingledDisk()
	a := build(t, d)
	const block = 1 << 20
	source := rand.New(rand.NewPCG(4, 2))
	plain := &naiveRegion{}
	write := func() float64 {
		at := (source.Int64N(int64(a.Size())/block-1))*block + 4096 // never where a band begins
		began := a.Now()
		one(a, Request{Write: true, Offset: at / block * block, Length: block})
		if at/block*block%int64(d.Members[0].Band) == 0 {
			return 0
		}
		plain.write(at/block*block/int64(d.Members[0].Band), block, int64(d.Members[0].Region))
		return float64(a.Now()-began) / 1e9
	}
	s := a.members[0].disk.shingled
	burst, began := 0, a.Now()
	for s.movedHome == 0 && len(s.waiting) == 0 && burst < 1200 {
		if write() > 1 {
			break
		}
		burst++
	}
	if burst < 1000 || burst > 1060 { // 1024 of them fill a gibibyte
		t.Errorf("%d writes of 1 MiB went into a region of 1 GiB", burst)
	}
	// One at a time each loses a turn.
	within(t, "seconds for each write into the region", float64(a.Now()-began)/1e9/float64(burst), block/220e6+60.0/7200, 0.1)
	for range 400 {
		write()
	}
	home, at := s.movedHome, a.Now()
	for range 300 {
		write()
	}
	if int(s.movedHome) != plain.bands {
		t.Errorf("%d bands were moved home, by a plain list %d", s.movedHome, plain.bands)
	}
	// From the outer to the inner tracks the rate falls from 220 to 110 MB/s, by which a
	// byte takes ln 2/110 µs on average; and there is a seek and half a turn at either end
	// and for the write itself.
	band := 2*float64(d.Members[0].Band)*math.Ln2/110e6 + 3*(0.0085+30.0/7200)
	within(t, "seconds for each band", float64(a.Now()-at)/1e9/float64(s.movedHome-home), band, 0.05)
}

// Streams go in place at the rate of the media, however long; what was left in the
// region goes home when nothing is asked.
func TestShingledDisksStreamAndRest(t *testing.T) {
	a := build(t, shingledDisk())
	r := closed(a, 8, 4000, sequential(0, 1<<20, true))
	within(t, "stream of writes", r.rate*(1<<20)/1e6, 220, 0.05)
	s := a.members[0].disk.shingled
	if s.sum > 0 {
		t.Errorf("a stream left %d bytes in the region", s.sum)
	}
	for i := range int64(20) {
		one(a, Request{Write: true, Offset: i<<30 + 8192, Length: 4096})
	}
	if s.sum != 20*4096 || s.movedHome > 0 {
		t.Fatalf("%d bytes are in the region, %d bands were moved", s.sum, s.movedHome)
	}
	until := a.Now() + 40e9 // twenty bands of 0.64 s, and a second until the first
	for a.Step(until) {
	}
	if s.sum != 0 || s.movedHome != 20 {
		t.Errorf("after a rest %d bytes are in the region, %d bands were moved", s.sum, s.movedHome)
	}
	if began := a.Now(); !one(a, Request{Offset: 5 << 30, Length: 4096}) || a.Now()-began > 40e6 {
		t.Errorf("a read after a rest takes %d ns", a.Now()-began)
	}
}

// A read that comes while bands are moved home waits for a step or two of that.
func TestReadsComeBetweenTheStepsHome(t *testing.T) {
	a := build(t, shingledDisk())
	s := a.members[0].disk.shingled
	s.size = 1 << 20
	for i := range int64(40) {
		a.Submit(Request{Tag: 1, Write: true, Offset: i<<29 + 8192, Length: 512 << 10})
	}
	for i := range int64(20) {
		began := a.Now()
		a.Submit(Request{Tag: 2, Offset: i << 28, Length: 4096})
		for done := false; !done; {
			a.Step(1 << 62)
			for _, answer := range a.Done() {
				done = done || answer.Tag == 2
			}
			a.Forget()
		}
		// 8 MiB take 40 ms, and there and back again a seek each.
		if took := a.Now() - began; took > 150e6 {
			t.Errorf("read %d takes %d ms", i, took/1e6)
		}
	}
}
