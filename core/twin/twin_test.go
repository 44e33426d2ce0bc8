package twin_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"testing"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/array"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/twin"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/storage/simulated"
)

// reader gives an array file with some keys at other values.
func reader(text string) twin.With {
	return func(settings []plan.Setting) (array.Description, error) {
		return arrayfile.ReadWith([]byte(text), settings)
	}
}

// load is a plain load.
func load(block quantity.Bytes, reads quantity.Share, order workload.Order, depth int) workload.Spec {
	l := workload.Default()
	l.Blocks, l.Reads, l.Order, l.Depth = workload.Block(block), reads, order, depth
	l.Span, l.For, l.WarmUp = 64*quantity.GiB, 20, 0.5
	return l
}

const (
	kib = quantity.KiB
	mib = quantity.MiB
)

// observed measures an array under loads, so often, with another seed each time.
func observed(t *testing.T, measure twin.Measure, d array.Description, loads []workload.Spec, repeats int) []twin.Observed {
	t.Helper()
	var samples []twin.Sample
	for i, l := range loads {
		for repeat := range repeats {
			l.Seed = uint64(1000 + 17*i + repeat)
			sum, err := measure(t.Context(), d, l, 20_000)
			if err != nil {
				t.Fatal(err)
			}
			samples = append(samples, twin.Sample{Name: l.Describe(), Load: l, Summary: &sum})
		}
	}
	all, left := twin.Observe(samples)
	if len(left) > 0 {
		t.Fatal(left)
	}
	return all
}

func fitted(t *testing.T, f twin.Fit) twin.Fitted {
	t.Helper()
	r, err := f.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// hidden draws an array within a factor of its guess, and gives it with its parameters.
func hidden(t *testing.T, with twin.With, seed uint64) (array.Description, map[string]float64) {
	t.Helper()
	guess, err := with(nil)
	if err != nil {
		t.Fatal(err)
	}
	draw := rand.New(rand.NewPCG(7, seed))
	truth := map[string]float64{}
	var settings []plan.Setting
	for _, p := range guess.Parameters() {
		times := math.Exp(draw.NormFloat64() * 0.5)
		for _, a := range append([]array.Along{{Key: p.Key, Times: 1}}, p.Along...) {
			v := p.Value * times * a.Times
			text := map[string]string{"": "%.0f", array.InSeconds: "%.9fs", array.InBytesPerSecond: "%.0fB/s", array.PerSecond: "%.0f"}[p.Unit]
			settings = append(settings, plan.Setting{Field: a.Key, Value: fmt.Sprintf(text, v)})
		}
		truth[p.Key] = p.Value * times
	}
	d, err := with(settings)
	if err != nil {
		t.Fatal(err)
	}
	return d, truth
}

// Simulated arrays that are hidden behind a seed are found again: what the measurements tell
// well is right within a tenth, and loads that the twin was not shown are told within 15 %.
func TestHiddenArraysAreFound(t *testing.T) {
	for name, guess := range map[string]string{
		"a stripe of SSDs over a link": "members: {count: 4, medium: ssd, capacity: 2TB}\nlayout: {level: raid0}\nlink: {rate: 3GB/s, roundTrip: 100us}\n",
		"a mirror stripe of disks":     "members: {count: 8, medium: hard disk, capacity: 4TB}\nlayout: {level: raid10}\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			with := reader(guess)
			d, truth := hidden(t, with, uint64(len(name)))
			shown := []workload.Spec{
				load(4*kib, 1, workload.Random, 1), load(4*kib, 1, workload.Random, 64), load(4*kib, 0, workload.Random, 1), load(4*kib, 0, workload.Random, 64),
				load(64*kib, 1, workload.Random, 4), load(16*kib, 0.7, workload.Random, 16), load(mib, 1, workload.Sequential, 1), load(mib, 1, workload.Sequential, 16),
			}
			r := fitted(t, twin.Fit{With: with, Observed: observed(t, simulated.Measure, d, shown, 1), Measure: simulated.Measure})
			well := 0
			for _, p := range r.Parameters {
				t.Logf("%-24s guess %-10.4g truth %-10.4g twin %-10.4g %s, %s", p.Key, p.Guess, truth[p.Key], p.Value, p.Spread, p.Known)
				most := map[twin.Knowledge]float64{twin.Well: 0.1, twin.Roughly: 0.5, twin.Hardly: math.Inf(1)}[p.Known]
				if off := p.Value/truth[p.Key] - 1; math.Abs(off) > most {
					t.Errorf("%s is off by %+.1f %%, and said to be known %s", p.Key, off*100, p.Known)
				}
				if p.Known == twin.Well {
					well++
				}
			}
			if well == 0 {
				t.Error("nothing is known well")
			}
			made, err := with(r.Settings())
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range []workload.Spec{load(8*kib, 0.5, workload.Random, 32), load(128*kib, 1, workload.Random, 8), load(256*kib, 0, workload.Sequential, 4)} {
				rates := [2]float64{}
				for i, d := range []array.Description{d, made} {
					sum, err := simulated.Measure(t.Context(), d, l, 10_000)
					if err != nil {
						t.Fatal(err)
					}
					rates[i] = float64(sum.Total.Rate)
				}
				if off := rates[1]/rates[0] - 1; math.Abs(off) > 0.15 {
					t.Errorf("%s is off by %+.1f %%", l.Describe(), off*100)
				}
			}
		})
	}
}

// oneDisk is a disk so plain that what it does is a formula: each operation takes its overhead,
// a seek where it is a random one, and its bytes at the rate of the outer tracks.
func oneDisk(_ context.Context, d array.Description, load workload.Spec, _ int) (measure.Summary, error) {
	var overhead, seek, rate float64
	for _, p := range d.Parameters() {
		switch p.Key {
		case "members[0].overhead":
			overhead = p.Value
		case "members[0].seekAverage":
			seek = p.Value
		case "members[0].outerRate":
			rate = p.Value
		}
	}
	parts := timeOf(load, overhead, seek, rate)
	time := parts[0] + parts[1] + parts[2]
	var s measure.Summary
	s.Total.Rate = quantity.OpRate(1 / time)
	s.Total.Throughput = quantity.ByteRate(load.MeanBlock() / time)
	s.Total.Operations = 1000
	return s, nil
}

// timeOf are the times of an operation: for its overhead, its seek, and its bytes.
func timeOf(load workload.Spec, overhead, seek, rate float64) [3]float64 {
	if load.Order == workload.Sequential {
		seek = 0
	}
	return [3]float64{overhead, seek, load.MeanBlock() / rate}
}

const plainDisk = "members: {medium: hard disk, capacity: 4TB}\nlayout: {level: concatenation}\n"

// exact is such a disk, away from its guess.
func exact(t *testing.T) (array.Description, map[string]float64) {
	t.Helper()
	d, err := reader(plainDisk)([]plan.Setting{
		{Field: "members[0].seekAverage", Value: "12ms"}, {Field: "members[0].seekTrack", Value: "1ms"}, {Field: "members[0].seekFull", Value: "25ms"},
		{Field: "members[0].outerRate", Value: "150MB/s"}, {Field: "members[0].innerRate", Value: "70MB/s"}, {Field: "members[0].overhead", Value: "300us"},
	})
	if err != nil {
		t.Fatal(err)
	}
	return d, map[string]float64{"members[0].seekAverage": 0.012, "members[0].outerRate": 150e6, "members[0].overhead": 300e-6}
}

var tellingAll = []workload.Spec{
	load(4*kib, 1, workload.Random, 1), load(4*kib, 1, workload.Sequential, 1), load(mib, 1, workload.Sequential, 1),
	load(64*kib, 1, workload.Random, 1), load(16*kib, 1, workload.Sequential, 1), load(256*kib, 1, workload.Random, 1),
}

// Where the array is a formula, its parameters are found, and what is said of how well they are
// known is what least squares say: the inverse of the sum of the outer products of the slopes,
// which are known in closed form, and of the guess.
func TestAFormulaIsFoundAndSoIsItsCovariance(t *testing.T) {
	d, truth := exact(t)
	r := fitted(t, twin.Fit{With: reader(plainDisk), Observed: observed(t, oneDisk, d, tellingAll, 2), Measure: oneDisk})
	information := mat.NewDense(3, 3, []float64{1, 0, 0, 0, 1, 0, 0, 0, 1}) // a factor of e, for the guess
	place := map[string]int{"members[0].overhead": 0, "members[0].seekAverage": 1, "members[0].outerRate": 2}
	for _, l := range tellingAll {
		parts := timeOf(l, 300e-6, 0.012, 150e6)
		sum := parts[0] + parts[1] + parts[2]
		slopes := [3]float64{-parts[0] / sum, -parts[1] / sum, parts[2] / sum}
		for i := range 3 {
			for j := range 3 {
				information.Set(i, j, information.At(i, j)+slopes[i]*slopes[j]/(0.02*0.02))
			}
		}
	}
	var covariance mat.Dense
	if err := covariance.Inverse(information); err != nil {
		t.Fatal(err)
	}
	for i, p := range r.Parameters {
		if off := p.Value/truth[p.Key] - 1; math.Abs(off) > 0.005 {
			t.Errorf("%s is %g, off by %+.2f %%", p.Key, p.Value, off*100)
		}
		for j, other := range r.Parameters {
			want := covariance.At(place[p.Key], place[other.Key])
			scale := math.Sqrt(covariance.At(place[p.Key], place[p.Key]) * covariance.At(place[other.Key], place[other.Key]))
			if got := r.Covariance[i][j]; math.Abs(got-want) > 0.05*scale {
				t.Errorf("the covariance of %s and %s is %g, not %g", p.Key, other.Key, got, want)
			}
		}
		if p.Low > truth[p.Key] || p.High < truth[p.Key] {
			t.Errorf("%s: %g to %g", p.Key, p.Low, p.High)
		}
	}
	if r.Off > 0.002 || r.Unseen == nil || *r.Unseen > 0.02 || len(r.Correlated) > 0 {
		t.Errorf("off by %g and %v, correlated %v", r.Off, r.Unseen, r.Correlated)
	}
	if !strings.HasPrefix(r.Words[0], "The error is ") {
		t.Error(r.Words)
	}
}

// Of small random operations alone only the sum of overhead and seek shows: of a disk that does
// not order them that cannot be told apart, and the rate stays at its guess. The load that would
// tell most is one without seeks.
func TestWhatCannotBeToldApartIsSaid(t *testing.T) {
	guess := "members: {medium: hard disk, capacity: 4TB, overhead: 8ms}\nlayout: {level: concatenation}\n"
	d, err := reader(guess)([]plan.Setting{{Field: "members[0].seekAverage", Value: "12ms"}, {Field: "members[0].seekFull", Value: "25ms"}})
	if err != nil {
		t.Fatal(err)
	}
	small := []workload.Spec{load(4*kib, 1, workload.Random, 1), load(8*kib, 1, workload.Random, 1), load(512, 1, workload.Random, 1)}
	r := fitted(t, twin.Fit{With: reader(guess), Observed: observed(t, oneDisk, d, small, 2), Measure: oneDisk})
	of := map[string]twin.FittedParameter{}
	for _, p := range r.Parameters {
		of[p.Key] = p
	}
	sum := of["members[0].seekAverage"].Value + of["members[0].overhead"].Value
	if math.Abs(sum/0.020-1) > 0.01 {
		t.Errorf("the sum is %g, not 20 ms", sum)
	}
	if rate := of["members[0].outerRate"]; rate.Known != twin.Hardly || math.Abs(rate.Value/rate.Guess-1) > 0.05 {
		t.Errorf("nothing tells the rate: %+v", rate)
	}
	if len(r.Correlated) != 1 || !slices.Contains(r.Correlated[0].Keys[:], "members[0].overhead") || !slices.Contains(r.Correlated[0].Keys[:], "members[0].seekAverage") || !strings.Contains(r.Correlated[0].Words, "their product") {
		t.Errorf("%+v", r.Correlated)
	}
	if len(r.Next) == 0 || r.Next[0].Load.Order != workload.Sequential {
		t.Errorf("%+v", r.Next)
	}
}

// A measurement in which the array has something that the guess lacks is named, and does not
// bend the rest.
func TestOutliersDoNotBendTheRest(t *testing.T) {
	d, truth := exact(t)
	seen := observed(t, oneDisk, d, tellingAll, 2)
	seen[3].Figures[0].Log -= math.Log(40) // a fortieth of what it does
	r := fitted(t, twin.Fit{With: reader(plainDisk), Observed: seen, Measure: oneDisk})
	for _, p := range r.Parameters {
		if off := p.Value/truth[p.Key] - 1; math.Abs(off) > 0.05 {
			t.Errorf("%s is off by %+.1f %%", p.Key, off*100)
		}
	}
	for i, l := range r.Loads {
		if l.Outlier != (i == 3) {
			t.Errorf("%+v", l)
		}
	}
	if r.Off > 0.05 || !strings.HasPrefix(r.Words[0], "The error is ") || !strings.Contains(r.Words[1], "Outliers: the throughput under") {
		t.Errorf("off by %g: %v", r.Off, r.Words)
	}
}

// What no array that is made like the guess could do has no twin, and that is said: here at a
// hundred thousand times the rates of disks and more, in other proportions.
func TestWhatIsNoTwinIsSaid(t *testing.T) {
	d, _ := exact(t)
	seen := observed(t, oneDisk, d, tellingAll, 2)
	for i := range seen {
		for j := range seen[i].Figures {
			seen[i].Figures[j].Log += math.Log(1e5 * float64(1+i*i))
		}
	}
	r := fitted(t, twin.Fit{With: reader(plainDisk), Observed: seen, Measure: oneDisk})
	if !strings.HasPrefix(r.Words[0], "The fit failed: ") || !strings.Contains(r.Words[0], "correct the structure in the guess") || len(r.Next) > 0 {
		t.Errorf("%q, next %v", r.Words, r.Next)
	}
}

// The same measurements, guess and seed give the same twin, however many cores there are.
func TestTheSameTwinOnAnyNumberOfCores(t *testing.T) {
	d, _ := exact(t)
	seen := observed(t, simulated.Measure, d, tellingAll[:3], 1)
	var texts []string
	for _, cores := range []int{1, 4} {
		before := runtime.GOMAXPROCS(cores)
		r := fitted(t, twin.Fit{With: reader(plainDisk), Free: []string{"members[0].outerRate"}, Observed: seen, Measure: simulated.Measure})
		runtime.GOMAXPROCS(before)
		text, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(text))
	}
	if texts[0] != texts[1] {
		t.Errorf("%s\n%s", texts[0], texts[1])
	}
}

func TestImpossibleFits(t *testing.T) {
	d, _ := exact(t)
	seen := observed(t, oneDisk, d, tellingAll, 1)
	large := load(4*kib, 1, workload.Random, 1)
	large.Span = 5e12
	for want, f := range map[string]twin.Fit{
		"there is no measurement":                   {With: reader(plainDisk)},
		`"members[0].dies" cannot be fitted`:        {With: reader(plainDisk), Free: []string{"members[0].dies"}, Observed: seen},
		`"members[0].overhead" is named twice`:      {With: reader(plainDisk), Free: []string{"members[0].overhead", "members[0].overhead"}, Observed: seen},
		"works on 5 TB, and the guess has 3.64 TiB": {With: reader(plainDisk), Observed: observed(t, oneDisk, d, []workload.Spec{large}, 1)},
		"needs at least 3":                          {With: reader("members: {medium: ssd, count: 2, capacity: 1TB}\nlayout: {level: raid5}\n"), Observed: seen},
	} {
		if err := f.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, not %q", err, want)
		}
	}
	broken := errors.New("broken")
	for name, failing := range map[string]twin.Measure{
		"broken": func(context.Context, array.Description, workload.Spec, int) (measure.Summary, error) {
			return measure.Summary{}, broken
		},
		"the simulation of": func(context.Context, array.Description, workload.Spec, int) (measure.Summary, error) {
			panic("out of range")
		},
		"does nothing": func(context.Context, array.Description, workload.Spec, int) (measure.Summary, error) {
			return measure.Summary{}, nil
		},
	} {
		if _, err := (twin.Fit{With: reader(plainDisk), Observed: seen, Measure: failing}).Run(t.Context()); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%v, not %q", err, name)
		}
	}
	stopped, stop := context.WithCancel(t.Context())
	stop()
	if _, err := (twin.Fit{With: reader(plainDisk), Observed: seen, Measure: oneDisk}).Run(stopped); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}

// What cannot be used is left out with its reason; the rest is put together by its load.
func TestWhatIsObserved(t *testing.T) {
	sum := func(rate quantity.ByteRate) *measure.Summary {
		var s measure.Summary
		s.Total.Throughput, s.Total.Rate = rate, quantity.OpRate(rate/4096)
		return &s
	}
	plain, cached, copies := load(4*kib, 1, workload.Random, 8), load(4*kib, 1, workload.Random, 8), load(4*kib, 0, workload.Random, 8)
	cached.Cached, copies.Copies = true, 0.5
	other := plain
	other.Seed, other.Name = 9, "again"
	all, left := twin.Observe([]twin.Sample{
		{Name: "a", Load: plain, Summary: sum(1e6)}, {Name: "a", Load: other, Summary: sum(4e6)},
		{Name: "b", Load: plain}, {Name: "c", Load: plain, Summary: sum(1), Doubt: "it was cut."}, {Name: "d", Load: cached, Summary: sum(1)}, {Name: "e", Load: copies, Summary: sum(1)},
	})
	if len(all) != 1 || len(all[0].Figures) != 1 {
		t.Fatalf("%+v", all)
	}
	// Of 1 and 4 MB/s the geometric mean is 2, and the deviation of their logarithms, each log 2
	// away, is log 2 times the root of two; that of the mean is log 2.
	if v := all[0].Figures[0]; math.Abs(v.Log-math.Log(2e6)) > 1e-9 || math.Abs(v.Deviation-math.Ln2) > 1e-9 || v.Count != 2 {
		t.Errorf("%+v", v)
	}
	deeper := plain
	deeper.Depth = 9
	if all, _ := twin.Observe([]twin.Sample{{Name: "a", Load: plain, Summary: sum(1e6)}, {Name: "a", Load: deeper, Summary: sum(1e6)}}); len(all) != 2 || all[0].Name == all[1].Name || !strings.HasPrefix(all[1].Name, "a (4 KiB") {
		t.Errorf("%+v", all)
	}
	for i, want := range []string{"b: there is no result", "c: it is unreliable: it was cut.", "d: the page cache may", "e: simulated arrays have no"} {
		if len(left) != 4 || !strings.HasPrefix(left[i], want) {
			t.Errorf("%q", left)
		}
	}
}
