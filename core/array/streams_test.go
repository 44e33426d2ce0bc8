package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"patientheron/core/mechanics"
	"patientheron/core/quantity"
	"patientheron/test/trials"
)

// streamed is what several streams of reads came to.
type streamed struct {
	rate    float64 // bytes a second, of all
	slowest float64 // read, seconds
	passed  int     // most reads of one stream between two of another
}

// streams lets some streams, spread evenly over an array, each keep so many reads of a size in
// flight, one behind the other, for a time.
func streams(a *Array, count, depth, length int, seconds float64) (s streamed) {
	next, began := make([]int64, count), make([]int64, count*depth)
	for i := range next {
		next[i] = int64(a.Size()) / int64(count) * int64(i) / int64(length) * int64(length)
	}
	issue := func(tag int) {
		stream := tag / depth
		began[tag] = a.Now()
		a.Submit(Request{Tag: tag, Offset: next[stream], Length: length})
		next[stream] += int64(length)
	}
	for tag := range count * depth {
		issue(tag)
	}
	bytes, since := 0.0, make([]int, count)
	end := a.Now() + int64(seconds*1e9)
	warm := a.Now() + int64(seconds*1e9/4)
	for a.Now() < end {
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		for _, done := range a.Done() {
			stream := done.Tag / depth
			if a.Now() >= warm {
				bytes += float64(length)
				s.slowest = max(s.slowest, float64(a.Now()-began[done.Tag])/1e9)
				for other := range since {
					if since[other]++; other != stream {
						s.passed = max(s.passed, since[other])
					}
				}
				since[stream] = 0
			}
			issue(done.Tag)
		}
		a.Forget()
	}
	s.rate = bytes / (seconds * 3 / 4)
	return s
}

// single is one disk of 4 TB.
func single() Description {
	d := disks(1)
	d.Members[0].Capacity = 4000 * gb
	return d
}

// alternating is what streams at even distances come to that each have one read waiting, by a small
// program of its own: the head goes to the nearest of the others, by seek and turn, but to one that
// has waited for long before all; it reads what is lacking of what was asked for there, and then
// 2 MiB on, of which it answers what comes meanwhile.
func alternating(m *mechanics.Model, count, length int, r *rand.Rand) (rate, slowest float64) {
	const on = 2 << 20
	patience := 2 * float64(count-1) * (8.5e6 + m.Rotation)
	place, kept, since := make([]float64, count), make([]float64, count), make([]float64, count)
	for i := range place {
		place[i] = m.Radius(float64(i) / float64(count))
	}
	now, at, bytes := 0.0, 0, 0.0
	for now < 300e9 {
		best, least, oldest := -1, math.Inf(1), -1
		for i := range place {
			if i == at {
				continue
			}
			if cost := m.Seek(place[i]-place[at]) + r.Float64()*m.Rotation; cost < least {
				best, least = i, cost
			}
			if oldest < 0 || since[i] < since[oldest] {
				oldest = i
			}
		}
		if now-since[oldest] > patience {
			best, least = oldest, m.Seek(place[oldest]-place[at])+r.Float64()*m.Rotation
		}
		at = best
		lacking := float64(length) - kept[at]
		now += m.Overhead + least + lacking/m.Rate(place[at])
		slowest = max(slowest, now-since[at])
		more := math.Floor(on / float64(length))
		kept[at] = on - more*float64(length)
		bytes += (1 + more) * float64(length)
		since[at] = now + more*float64(length)/m.Rate(place[at])
		now += on / m.Rate(place[at])
	}
	return bytes / now * 1e9, slowest / 1e9
}

// Each change from one stream to another costs a seek and a turn, less where the disk can choose
// among several, and brings what was asked for and what is read on behind it. No read waits much
// longer than is bearable, however many streams there are, and larger reads bring more.
func TestStreamsOnADisk(t *testing.T) {
	m := mechanics.New(mechanics.Disk{Capacity: 4000 * gb}.Completed())
	r := rand.New(rand.NewPCG(1, 1))
	before := map[int]float64{}
	for _, length := range []int{64 << 10, 256 << 10, 1 << 20, 4 << 20} {
		alone := streams(build(t, single()), 1, 1, length, 20).rate
		within(t, fmt.Sprintf("one stream of %s", quantity.Bytes(length)), alone, media, 0.02)
		for _, count := range []int{2, 3, 4, 6, 8, 12, 16, 32, 64} {
			found := streams(build(t, single()), count, 1, length, 60)
			want, slowest := alternating(m, count, length, r)
			t.Logf("%d streams of %s: %.1f MB/s, %.1f worked out; slowest %.0f ms, %.0f", count, quantity.Bytes(length), found.rate/1e6, want/1e6, found.slowest*1e3, slowest*1e3)
			within(t, fmt.Sprintf("%d streams of %s", count, quantity.Bytes(length)), found.rate, want, 0.15)
			if found.slowest > 1.3*slowest || found.rate > alone {
				t.Errorf("%d streams of %s: the slowest read took %g s; together %.1f MB/s, alone %.1f", count, quantity.Bytes(length), found.slowest, found.rate/1e6, alone/1e6)
			}
			if found.rate < before[count]*0.98 {
				t.Errorf("%d streams of %s do %.1f MB/s, and %.1f with smaller reads", count, quantity.Bytes(length), found.rate/1e6, before[count]/1e6)
			}
			before[count] = found.rate
		}
	}
}

// Over a grid of streams, depth, block and level: larger reads bring no less; neither do deeper ones, as
// long as the drives' queues hold them all; from four streams on more of them change little; and
// the slowest read waits for no longer than twice what all that wait take one by one. What three
// streams on mirrored stripes come to hangs on which copy each of them falls to.
func TestStreamsAreMonotone(t *testing.T) {
	t.Parallel()
	type point struct{ count, depth, length int }
	arrays := []struct {
		level   Level
		members int
	}{{Stripe, 1}, {Stripe, 6}, {Mirror, 2}, {MirrorStripe, 6}, {Parity, 6}, {DoubleParity, 8}}
	for i := range trials.Of(len(arrays)) {
		l := arrays[i]
		rates := map[point]float64{}
		for _, length := range []int{64 << 10, 256 << 10, 1 << 20} {
			for _, depth := range []int{1, 2, 4} {
				before := 0.0
				for _, count := range []int{1, 2, 4, 8, 16, 32, 64} {
					s := streams(build(t, wide(l.members, l.level)), count, depth, length, 10)
					what := fmt.Sprintf("%s of %d: %d streams of %s, %d each", l.level, l.members, count, quantity.Bytes(length), depth)
					rates[point{count, depth, length}] = s.rate
					if smaller := rates[point{count, depth, length / 4}]; s.rate < 0.8*smaller {
						t.Errorf("%s do %.1f MB/s, and %.1f with smaller reads", what, s.rate/1e6, smaller/1e6)
					}
					least := 0.8
					if count*depth > 32 {
						least = 0.7 // some wait where the drives do not see them
					}
					if shallow := rates[point{count, depth / 2, length}]; s.rate < least*shallow {
						t.Errorf("%s do %.1f MB/s, and %.1f with half as many", what, s.rate/1e6, shallow/1e6)
					}
					if count > 4 && (s.rate < 0.7*before || s.rate > 1.5*before) {
						t.Errorf("%s do %.1f MB/s, and %.1f half as many streams", what, s.rate/1e6, before/1e6)
					}
					before = s.rate
					each := 8.5e-3 + 1/120.0 + (float64(length)+2<<20)/media
					if bound := 2*float64(count*depth)*each + 0.5; s.slowest > bound {
						t.Errorf("%s: the slowest read took %.2f s, all of them one by one %.2f", what, s.slowest, bound/2)
					}
				}
			}
		}
	}
}

// More of each stream in flight brings no less, but for how the turns of several platters meet.
func TestDeeperStreamsBringNoLess(t *testing.T) {
	t.Parallel()
	levels := []Level{Stripe, Parity, MirrorStripe}
	for i := range trials.Of(2 * len(levels)) {
		for _, length := range []int{64 << 10 << (4 * (i % 2))} {
			level := levels[i/2]
			for _, count := range []int{1, 2, 4, 8, 16} {
				before := 0.0
				for _, depth := range []int{1, 2, 4, 8} {
					found := streams(build(t, wide(6, level)), count, depth, length, 20)
					t.Logf("%s: %d streams of %s, %d each: %.1f MB/s, slowest %.0f ms", level, count, quantity.Bytes(length), depth, found.rate/1e6, found.slowest*1e3)
					if found.rate < before*0.85 {
						t.Errorf("%s: %d streams of %s do %.1f MB/s with %d each, and %.1f with half as many", level, count, quantity.Bytes(length), found.rate/1e6, depth, before/1e6)
					}
					before = found.rate
				}
			}
		}
	}
}

// Reads near each other are no stream: in a small region a random read takes no longer than in a
// large one, and no longer than a write there.
func TestPlacesNearEachOtherAreNoStream(t *testing.T) {
	rate := func(region quantity.Bytes, write bool) float64 {
		a := build(t, single())
		return closed(a, 4, 20_000, random(a, 3, 4096, region, write)).rate
	}
	small, writes, large := rate(64*quantity.MiB, false), rate(64*quantity.MiB, true), rate(64*quantity.GiB, false)
	t.Logf("4 KiB at random in 64 MiB: %.0f reads, %.0f writes a second; in 64 GiB %.0f reads", small, writes, large)
	if small < large || small < 0.95*writes {
		t.Errorf("4 KiB at random in 64 MiB: %.0f reads, %.0f writes a second; in 64 GiB %.0f reads", small, writes, large)
	}
}

// What a drive's memory answers goes over its line, and what it reads on counts as work.
func TestADrivesMemoryHasALine(t *testing.T) {
	a := build(t, single())
	closed(a, 1, 4, func(i int) Request { return Request{Offset: int64(i) << 20, Length: 1 << 20} })
	a.Step(a.Now() + 1e9) // it reads on
	again := closed(a, 1, 200, func(i int) Request { return Request{Offset: 3 << 20, Length: 1 << 20} })
	within(t, "one mebibyte again and again", again.rate*(1<<20), (1<<20)/(100e-6+(1<<20)/550e6), 0.01)

	for _, share := range []float64{0.1, 0.5, 0.82, 0.99} {
		a = build(t, single())
		before := a.Totals()
		every := int64((64 << 10) / (share * media) * 1e9)
		for i := range int64(10e9) / every {
			for a.Step(i * every) {
			}
			a.Forget()
			a.Submit(Request{Offset: i * (64 << 10), Length: 64 << 10})
		}
		after := a.Totals()
		busy := (after.Busy[0] - before.Busy[0]) / float64(after.At-before.At)
		t.Logf("64 KiB at %.2f of what the media give: busy for %.3f of the time", share, busy)
		if busy < share*0.97 || busy > 1 {
			t.Errorf("64 KiB at %.2f of what the media give: busy for %.3f of the time", share, busy)
		}
	}
}

// A stream among reads at random keeps its turn and they keep theirs: nobody waits for longer than
// all others twice, and the head never reads on behind what is no stream, however many other
// places were read since a stream was last seen.
func TestAStreamAmongPlaces(t *testing.T) {
	for _, others := range []int{0, 1, 4, 16, 31} {
		a := build(t, single())
		d := a.members[0].disk
		source := rand.New(rand.NewPCG(9, uint64(others)))
		began := make([]int64, others+1)
		next, streamed, random, slowest, read, ended := int64(0), 0, 0, 0.0, 0, false
		issue := func(tag int) {
			began[tag] = a.Now()
			r := Request{Tag: tag, Offset: source.Int64N(int64(a.Size())/4096) * 4096, Length: 4096}
			if tag == others && !ended {
				r.Offset, r.Length = next, 64<<10
				next += 64 << 10
			}
			a.Submit(r)
		}
		for tag := range began {
			issue(tag)
		}
		for a.Now() < 60e9 {
			ended = a.Now() > 30e9 // then it is one more place
			for len(a.Done()) == 0 {
				a.Step(math.MaxInt64)
			}
			if ended && a.Now() > 31e9 && d.current == readingAhead {
				read++
			}
			for _, done := range a.Done() {
				if slowest = max(slowest, float64(a.Now()-began[done.Tag])/1e9); !ended && done.Tag == others {
					streamed++
				} else if !ended {
					random++
				}
				issue(done.Tag)
			}
			a.Forget()
		}
		bearable := 2*float64(others+1)*(0.0085+d.model.Rotation/1e9) + 0.08
		t.Logf("%d others: %.1f MB/s of the stream, %d reads a second; slowest %.0f ms", others, float64(streamed)*65536/30e6, random/30, slowest*1e3)
		if slowest > bearable || read > 0 || streamed == 0 || others > 0 && random < 30*20 {
			t.Errorf("%d others: %d of the stream, %d others, the slowest took %g s; %d times it read on behind no stream", others, streamed, random, slowest, read)
		}
	}
}

// A disk that is slower than it should be reads on no faster than it reads, however its reads are
// paced: a stream that is held back on the way passes what its media give, and no more.
func TestASlowDiskReadsOnSlowly(t *testing.T) {
	for _, paced := range []quantity.ByteRate{0, 60e6, 80e6, 100e6} {
		d := disks(1)
		d.Members[0].Slow, d.Members[0].Capacity = 3, 4000*gb
		d.Controller.Throughput = paced
		a := build(t, d)
		want := media / 3
		if paced > 0 {
			want = min(want, float64(paced))
		}
		within(t, fmt.Sprintf("paced at %s", paced), closed(a, 4, 2000, sequential(0, 1<<20, false)).rate*(1<<20), want, 0.02)
	}
}
