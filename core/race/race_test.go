package race

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
)

// series is so many bytes in each second.
func series(bytes ...float64) (s []measure.Interval) {
	for i, b := range bytes {
		s = append(s, measure.Interval{Index: i, Start: quantity.Seconds(i), Length: 1, Classes: map[measure.Class]measure.Flow{
			measure.Read: {Operations: int64(b), Bytes: quantity.Bytes(b), Rate: quantity.OpRate(b)},
		}})
	}
	return s
}

// repeated is a rate for so many seconds, after what came before.
func repeated(before []float64, rate float64, seconds int) []float64 {
	return append(slices.Clone(before), slices.Repeat([]float64{rate}, seconds)...)
}

func timed() workload.Spec {
	load := workload.Default()
	load.For, load.WarmUp = 20, 0
	return load
}

// One goes 100 a second; the other 50 for ten seconds, then 200. They meet at 15 s, and at
// 20 s have done 2000 and 2500: a fifth less, which the one ahead had done at 17.5 s.
func TestTheLeadChangesWhereLinesCross(t *testing.T) {
	even := Racer{Name: "even", Run: 1, Load: timed(), Ended: true, Series: series(repeated(nil, 100, 20)...)}
	late := Racer{Name: "late", Run: 2, Load: timed(), Ended: true, Series: series(repeated(repeated(nil, 50, 10), 200, 10)...)}
	r := Of([]Racer{even, late})
	if r.Changes != 1 || len(r.Leads) != 3 || r.Leads[0].Racer != 0 || r.Leads[1].Racer != -1 || r.Leads[2].Racer != 1 {
		t.Fatalf("%+v", r.Leads)
	}
	end := r.Leads[2]
	if r.Leads[0].To != 14 || r.Leads[1].To != 15 || end.To != 20 || math.Abs(float64(end.Gap)-0.2) > 1e-9 || math.Abs(float64(end.Early)-2.5) > 1e-9 {
		t.Errorf("%+v", r.Leads)
	}
	if want := "late is ahead at the end, after 20.0 s: the next one has done 20 % less, what it had done 2.50 s before; the lead changed once."; r.Words != want {
		t.Errorf("%s\nwant %s", r.Words, want)
	}
	if r.Racers[0].Done != 2000 || r.Racers[1].Done != 2500 || r.Racers[0].Finished || len(r.Racers[0].Line) != 21 {
		t.Errorf("%+v", r.Racers)
	}
	if m, n := r.Racers[0].Line[10], r.Racers[1].Line[20]; m != (Mark{10, 1000, 500}) || n != (Mark{20, 2500, 500}) {
		t.Errorf("%+v %+v", m, n)
	}
}

// Against a plain reading of the lines at every moment, whatever the rates.
func TestLeadsAgainstBruteForce(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		racers := make([]Racer, 2+random.IntN(3))
		rates := make([][]float64, len(racers))
		for i := range racers {
			for range 40 {
				rates[i] = append(rates[i], float64(50+random.IntN(100)))
			}
			racers[i] = Racer{Load: timed(), Series: series(rates[i]...)}
		}
		r := Of(racers)
		at := quantity.Seconds(0)
		for _, lead := range r.Leads {
			if lead.From != at {
				t.Fatalf("a lead from %v after one to %v", lead.From, at)
			}
			for at = lead.From + 1; at <= lead.To; at++ {
				sums := make([]float64, len(racers))
				for i := range racers {
					for _, rate := range rates[i][:int(at)] {
						sums[i] += rate
					}
				}
				best := slices.Index(sums, slices.Max(sums))
				sorted := slices.Sorted(slices.Values(sums))
				gap := 1 - sorted[len(sorted)-2]/sorted[len(sorted)-1]
				if gap > level && lead.Racer != best {
					t.Fatalf("at %v racer %d is ahead by %.3f, said is %d", at, best, gap, lead.Racer)
				}
				if at == lead.To && math.Abs(float64(lead.Gap)-gap) > 1e-9 {
					t.Fatalf("at %v a gap of %.4f, said is %.4f", at, gap, float64(lead.Gap))
				}
			}
			at = lead.To
		}
	}
}

// Who races against itself does not win.
func TestNobodyWinsAgainstItself(t *testing.T) {
	one := Racer{Name: "one", Load: timed(), Ended: true, Series: series(90, 110, 100, 95, 105, 100, 99, 101, 100, 103)}
	r := Of([]Racer{one, one, one})
	if r.Changes != 0 || len(r.Leads) != 1 || r.Leads[0].Racer != -1 || !strings.HasPrefix(r.Words, "Nobody is ahead") || slices.ContainsFunc(r.Racers, func(s RacerResult) bool { return s.Steadiest }) {
		t.Errorf("%+v", r)
	}
	random, called := rand.New(rand.NewPCG(5, 5)), 0
	for range 500 {
		noisy := func() (rates []float64) {
			for range 60 {
				rates = append(rates, 1000*(1+0.05*random.NormFloat64()))
			}
			return rates
		}
		for _, s := range Of([]Racer{{Load: timed(), Series: series(noisy()...)}, {Load: timed(), Series: series(noisy()...)}}).Racers {
			if s.Steadiest {
				called++
			}
		}
	}
	if called > 15 { // one in a hundred, and three standard deviations
		t.Errorf("of 500 pairs that are as steady, %d have a steadiest", called)
	}
	calm, wild := one, one
	calm.Series, wild.Series = series(slices.Repeat([]float64{100, 101, 99, 101, 99}, 6)...), series(slices.Repeat([]float64{100, 130, 80, 70, 120}, 6)...)
	if r := Of([]Racer{wild, calm}); !r.Racers[1].Steadiest || r.Racers[0].Steadiest {
		t.Errorf("%+v", r.Racers)
	}
}

// With an amount to do, who has done it first is first, however far the other comes.
func TestFinishing(t *testing.T) {
	load := timed()
	load.For, load.Amount = 0, 1000
	quick := Racer{Name: "quick", Load: load, Ended: true, Series: series(repeated(nil, 100, 10)...)}
	slow := Racer{Name: "slow", Load: load, Ended: true, Series: series(repeated(nil, 80, 12)...)}
	slow.Series = append(slow.Series, measure.Interval{Index: 12, Start: 12, Length: 0.5, Classes: map[measure.Class]measure.Flow{measure.Read: {Bytes: 40, Operations: 40, Rate: 80}}})
	r := Of([]Racer{slow, quick})
	if want := "quick is done first, after 10.0 s; slow follows 2.50 s later."; r.Words != want {
		t.Errorf("%s\nwant %s", r.Words, want)
	}
	if !r.Racers[0].Finished || r.Racers[0].Time != 12.5 || r.Leads[len(r.Leads)-1].Racer != 1 {
		t.Errorf("%+v %+v", r.Racers, r.Leads)
	}
	far := slow // of the first two, one is ahead however long a third takes
	far.Name, far.Series = "far", series(repeated(nil, 1, 1000)...)
	if r := Of([]Racer{far, slow, quick}); r.Leads[len(r.Leads)-1].Racer != 2 || !strings.HasPrefix(r.Words, "quick is done first") {
		t.Errorf("%s %+v", r.Words, r.Leads)
	}
	slow.Failed, slow.Series = "the share is gone", slow.Series[:5]
	if r := Of([]Racer{slow, quick}); r.Words != "quick is done after 10.0 s, and no other is; slow did not get to the end: the share is gone." {
		t.Error(r.Words)
	}
	quick.Ended, quick.Series = false, quick.Series[:3] // while they race
	if r := Of([]Racer{{Name: "slow", Load: load, Series: slow.Series[:3]}, quick}); r.Leads[0].Racer != 1 || r.Racers[1].Finished || !strings.HasPrefix(r.Words, "quick is ahead so far, after 3 s: ") {
		t.Errorf("%+v", r)
	}
	for _, none := range [][]Racer{nil, {{}}, {{Load: load}, {Load: load}}} {
		if r := Of(none); len(r.Leads) > 0 {
			t.Errorf("%+v", r)
		}
	}
}

// What several share is named, with what it had to do; what is simulated shares nothing.
func TestWhatRacersShare(t *testing.T) {
	on := func(name, device, address string, read float64) Racer {
		r := Racer{Name: name, Load: timed(), Facts: &setup.Facts{Devices: []string{device}}, Series: series(repeated(nil, read, 10)...)}
		for i := range r.Series {
			r.Series[i].Beside = []measure.Beside{{CPU: []quantity.Share{0.99, 0.97}, WorkerWaits: 0.3, Devices: []measure.Device{{Name: device, Busy: 0.95}}}}
		}
		for key, value := range map[string]string{"transport.address": address, "link[0].interface": "eth0", "link[0].rate": "1000B/s", "link[0].mtuHere": "1500"} {
			if err := r.Setup.Set(key, value, setup.Told, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
		return r
	}
	has := func(cautions []string, words ...string) {
		t.Helper()
		all := strings.Join(cautions, "\n")
		for _, w := range words {
			if !strings.Contains(all, w) {
				t.Errorf("no %q in:\n%s", w, all)
			}
		}
	}
	a, b, c := on("a", "sda", "10.0.0.1", 450), on("b", "sda", "10.0.0.1", 450), on("c", "sdb", "10.0.0.2", 10)
	has(Of([]Racer{a, b, c}).Cautions,
		"a and b lie on the same device sda, which was busy for 95 % of the time: what one got",
		"a, b and c are reached through the same interface eth0, and had 910 B/s of its 949 B/s together: it held them up",
		"a and b are on the same storage, 10.0.0.1",
		"The processors of this host, from which all are driven, were busy for 98 % of the time, and 0.900 of the workers' threads waited")
	b.Virtual, c.Virtual = true, true
	if cautions := Of([]Racer{a, b, c}).Cautions; cautions != nil {
		t.Errorf("simulated: %v", cautions)
	}
}

// Of files bytes are counted where any are moved, since files differ in size, and whole
// files where none are.
func TestWhatOfFilesIsCounted(t *testing.T) {
	load := timed()
	files.Use(&load, fileset.Set{Classes: []fileset.Class{{Name: "letters", Number: 70, Size: fileset.Sizes{Fixed: 4096}}}})
	asked := []measure.Interval{{Length: 1, Classes: map[measure.Class]measure.Flow{measure.File: {Operations: 70}}}}
	if r := Of([]Racer{{Load: load, Series: asked}, {Load: load, Series: asked}}); r.Counts != "files" || r.Racers[0].Done != 70 {
		t.Errorf("%+v", r)
	}
	copied := []measure.Interval{{Length: 1, Classes: map[measure.Class]measure.Flow{measure.File: {Operations: 1}, measure.Write: {Bytes: 5000}}}}
	if r := Of([]Racer{{Load: load, Series: copied}, {Load: load, Series: asked}}); r.Counts != "bytes" || r.Racers[0].Done != 5000 {
		t.Errorf("%+v", r)
	}
}

// A racer that is slower from some moment on fell back then, one that paused was back, and one
// that varies by chance did neither; what was marked and what filled is said with it.
func TestWhenAndWhyARacerFellBack(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	drawn := func(rate func(second int) float64) []measure.Interval {
		var rates []float64
		for second := range 60 {
			expected := rate(second)
			rates = append(rates, math.Max(math.Round(expected+math.Sqrt(expected)*random.NormFloat64()), 0))
		}
		return series(rates...)
	}
	wrong := 0
	for range 200 {
		at, back := 15+random.IntN(30), 3+random.IntN(5)
		steady := Racer{Name: "steady", Load: timed(), Ended: true, Series: drawn(func(int) float64 { return 400 })}
		paused := Racer{Name: "paused", Load: timed(), Ended: true, Moments: []Moment{{quantity.Seconds(at) + 0.2, "path drops"}}, Series: drawn(func(second int) float64 {
			if second >= at && second < at+back {
				return 20
			}
			return 400
		})}
		slower := Racer{Name: "slower", Load: timed(), Ended: true, Series: drawn(func(second int) float64 {
			if second >= at {
				return 250
			}
			return 400
		})}
		slower.Phases = &measure.Phases{List: []measure.Phase{{Kind: measure.Burst, Start: 0, Length: quantity.Seconds(at)}, {Kind: measure.Sustained, Start: quantity.Seconds(at), Length: quantity.Seconds(60 - at)}}}
		full := slices.Clone(slower.Series)
		for i := range full {
			full[i].Inside = []measure.Counter{{Name: "front in use", Unit: "bytes", Value: 1e6 * float64(min(i, at))}, {Name: "back busy", Unit: "share", Value: map[bool]float64{true: 0.97, false: 0.3}[i >= at]}}
		}
		slower.Look = func(from, to int) []measure.Interval { return full[from:to] }
		r := Of([]Racer{steady, paused, slower})
		p, s := r.Racers[1].Falls, r.Racers[2].Falls
		switch {
		case len(r.Racers[0].Falls) > 0,
			len(p) != 1 || p[0].At != quantity.Seconds(at) || p[0].Until != quantity.Seconds(at+back) || !strings.Contains(p[0].Why, `"path drops" was then`),
			len(s) != 1 || s[0].At != quantity.Seconds(at) || s[0].Until != 0 || !strings.Contains(s[0].Why, "front in use stopped growing") || !strings.Contains(s[0].Why, "back busy went from 30 % to 97 %"):
			wrong++
			t.Logf("at %d for %d: %+v", at, back, r.Racers)
		}
		if !strings.Contains(r.Words, "slower fell back at") || !strings.Contains(r.Words, "and was back") {
			t.Fatal(r.Words)
		}
	}
	if wrong > 2 {
		t.Errorf("%d of 200 wrong", wrong)
	}
}
