package streams

import (
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func feedLoad(change func(*workload.Spec, *Feeds)) workload.Spec {
	s := workload.Default()
	s.SetBody(&Feeds{Count: 7, Rate: 8_000_000})
	s.Span, s.For = 10*quantity.GiB, 60
	change(&s, Of(s))
	return s
}

// asked is what a feed asked for.
type asked struct {
	due, came int64
	offset    int64
	length    int
	write     bool
}

// feedsOf lets all workers of a load ask for what is due until a time. What is asked for
// comes after a delay that is drawn, one after the other in each feed.
func feedsOf(t *testing.T, s workload.Spec, until int64, delay func() int64) (by map[int][]asked, wholes []workload.Whole) {
	t.Helper()
	by = map[int][]asked{}
	s = s.Completed()
	region := int64(s.Span) / int64(Of(s).Count) / 4096 * 4096
	type flight struct {
		access workload.Access
		feed   int
		number int
		at     int64
	}
	for worker := range s.Workers {
		source, err := workload.NewSource(s, worker)
		if err != nil {
			t.Fatal(err)
		}
		var flying []flight
		last := map[int]int64{}
		for now := int64(0); ; {
			next := source.Due()
			first := -1
			for i, f := range flying {
				if first < 0 || f.at < flying[first].at {
					first = i
				}
			}
			if first >= 0 && (flying[first].at <= next || len(flying) == s.Depth) {
				f := flying[first]
				flying = slices.Delete(flying, first, first+1)
				now = max(now, f.at)
				by[f.feed][f.number].came = now
				if whole := source.Completed(&f.access, now, nil); whole != nil {
					wholes = append(wholes, *whole)
				}
				continue
			}
			if next > until {
				if first < 0 {
					break
				}
				flying[first].at = min(flying[first].at, next)
				f := flying[first]
				flying = slices.Delete(flying, first, first+1)
				now = max(now, f.at)
				by[f.feed][f.number].came = now
				if whole := source.Completed(&f.access, now, nil); whole != nil {
					wholes = append(wholes, *whole)
				}
				continue
			}
			now = max(now, next)
			var a workload.Access
			source.Next(&a)
			feed := int((a.Offset - int64(s.Offset)) / region)
			by[feed] = append(by[feed], asked{due: next, offset: a.Offset, length: a.Length, write: a.Class == measure.Write})
			last[feed] = max(last[feed], now+delay())
			flying = append(flying, flight{a, feed, len(by[feed]) - 1, last[feed]})
		}
	}
	return by, wholes
}

// Every feed asks for one piece after the other, in order, as often as its rate says, in
// a region of its own, whatever the number of workers.
func TestFeedsAskAtTheirRate(t *testing.T) {
	for n, change := range []func(*workload.Spec, *Feeds){
		func(*workload.Spec, *Feeds) {},
		func(s *workload.Spec, f *Feeds) { s.Workers, f.Count, f.Piece = 3, 100, 256*quantity.KiB },
		func(s *workload.Spec, f *Feeds) { s.Reads, f.Rate, f.Frame, f.FrameRate = 0.5, 0, 5_184_000, 25 }, // hd1080, 20 bits
		func(s *workload.Spec, f *Feeds) {
			s.Reads, f.Rate, f.Frame, f.FrameRate, f.Piece = 0, 0, 10_000, 50, 4096
		},
	} {
		s := feedLoad(change)
		const seconds = 20
		by, _ := feedsOf(t, s, seconds*1e9, func() int64 { return 1000 })
		if len(by) != Of(s).Count {
			t.Errorf("%d: %d of %d feeds ask", n, len(by), Of(s).Count)
		}
		writing := 0
		for feed, list := range by {
			bytes := 0.0
			for i, a := range list {
				bytes += float64(a.length)
				if i > 0 && (a.due < list[i-1].due || a.offset != list[i-1].offset+int64(list[i-1].length) && a.offset > list[i-1].offset) {
					t.Fatalf("%d: feed %d asks for %+v after %+v", n, feed, a, list[i-1])
				}
				if a.write != list[0].write || a.length%workload.Unit != 0 {
					t.Fatalf("%d: feed %d asks for %+v", n, feed, a)
				}
			}
			if list[0].write {
				writing++
			}
			// Frames are rounded up to whole units.
			each := float64(Of(s).EachRate())
			if Of(s).Frame > 0 {
				each = float64(workload.AlignUp(int64(Of(s).Frame), workload.Unit)) * Of(s).FrameRate
			}
			if math.Abs(bytes/seconds/each-1) > 0.02 {
				t.Errorf("%d: feed %d asks for %.0f bytes a second, not %.0f", n, feed, bytes/seconds, each)
			}
		}
		if want := Of(s).Count - int(math.Round(float64(Of(s).Count)*float64(s.Reads))); writing != want {
			t.Errorf("%d: %d feeds write, not %d", n, writing, want)
		}
	}
}

// What is late, by how much, and how long a feed stands still, is what a list of all
// times says: it stands still while something is needed that is not there.
func TestLateness(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	s := feedLoad(func(s *workload.Spec, f *Feeds) { f.Count, f.Buffer = 3, 0.2 })
	by, wholes := feedsOf(t, s, 200e9, func() int64 {
		if random.IntN(40) == 0 {
			return int64(random.ExpFloat64() * 600e6)
		}
		return random.Int64N(150e6)
	})
	late, worst, stall := make([]int64, 3), make([]int64, 3), make([]int64, 3)
	for _, w := range wholes {
		if w.Late > 0 {
			late[w.Group]++
			worst[w.Group], stall[w.Group] = max(worst[w.Group], w.Late), max(stall[w.Group], w.Stall)
		}
	}
	for feed, list := range by {
		var count, most, longest, from, to int64
		for _, a := range list {
			deadline := a.due + 200e6
			if a.came <= deadline {
				continue
			}
			count++
			most = max(most, a.came-deadline)
			if deadline > to { // it stood still before, and went on
				from = deadline
			}
			to = max(to, a.came)
			longest = max(longest, to-from)
		}
		if count == 0 || late[feed] != count || worst[feed] != most || stall[feed] != longest {
			t.Errorf("feed %d: %d late by up to %d, standing for %d; counted %d, %d, %d", feed, count, most, longest, late[feed], worst[feed], stall[feed])
		}
	}
}

// Frames are as large as raster and bits say.
func TestFrames(t *testing.T) {
	for text, want := range map[string]float64{
		"hd1080/20@25":     1920 * 1080 * 20 / 8 * 25,
		"uhd2160/30@50":    3840 * 2160 * 30 / 8 * 50,
		"1000x10/12@1":     15_000,
		"cinema2160/36@24": 4096 * 2160 * 36 / 8 * 24,
		"8MiB@24":          8 << 20 * 24,
	} {
		bytes, rate, err := parseFrames(text)
		if err != nil || float64(bytes)*rate != want {
			t.Errorf("%s: %d bytes %g times a second (%v)", text, bytes, rate, err)
		}
	}
	for _, text := range []string{"", "hd1080", "hd1080/20", "hd999/20@25", "1x/20@25", "hd1080/x@25", "hd1080/20@often", "hd1080/0@25"} {
		if _, _, err := parseFrames(text); err == nil {
			t.Errorf("%q was read", text)
		}
	}
}

func TestFeedLoadsAreRefused(t *testing.T) {
	for field, change := range map[string]func(*workload.Spec, *Feeds){
		"feeds":    func(_ *workload.Spec, f *Feeds) { f.Count = 0 },
		"feedRate": func(_ *workload.Spec, f *Feeds) { f.Rate = 0 },
		"frames":   func(_ *workload.Spec, f *Feeds) { f.Rate, f.Frame = 0, 4096 },
		"piece":    func(_ *workload.Spec, f *Feeds) { f.Piece = 1000 },
		"buffer":   func(_ *workload.Spec, f *Feeds) { f.Buffer = -1 },
		"workers":  func(s *workload.Spec, _ *Feeds) { s.Workers = 8 },
		"for":      func(s *workload.Spec, _ *Feeds) { s.For = 0 },
		"span":     func(s *workload.Spec, _ *Feeds) { s.Span = 2 * quantity.MiB },
		"passes":   func(s *workload.Spec, _ *Feeds) { s.Passes = 2 },
		"kind":     func(s *workload.Spec, _ *Feeds) { s.Kind = workload.BlockKind },
	} {
		var wrong *mistake.Error
		if err := feedLoad(change).Validate(); !errors.As(err, &wrong) || wrong.Field != field {
			t.Errorf("%s: got %v", field, err)
		}
	}
	good := feedLoad(func(*workload.Spec, *Feeds) {})
	if err := good.Validate(); err != nil || !good.Completed().Open() || good.Completed().Arriving() <= 0 {
		t.Errorf("%v, %+v", err, good.Completed().Pace)
	}
	if len(feedLoad(func(_ *workload.Spec, f *Feeds) { f.Count = 1000 }).Groups()) != 1 || len(good.Groups()) != 7 {
		t.Errorf("groups %q", good.Groups())
	}
}
