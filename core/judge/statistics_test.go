package judge

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// around makes values that follow each other with an autocorrelation of phi
// around 100, with a standard deviation of 1.
func around(random *rand.Rand, n int, phi float64) []float64 {
	values := make([]float64, n)
	step := math.Sqrt(1 - phi*phi)
	state := random.NormFloat64()
	for i := range values {
		values[i] = 100 + state
		state = phi*state + step*random.NormFloat64()
	}
	return values
}

func TestIntervalOfRepeatsCovers(t *testing.T) {
	random := rand.New(rand.NewPCG(1997, 5))
	covered := 0
	for range 4000 {
		if e := MeanOfRepeats(around(random, 5, 0)); e.Low <= 100 && 100 <= e.High {
			covered++
		}
	}
	if share := float64(covered) / 4000; share < 0.94 || share > 0.96 {
		t.Errorf("five repeats: %.3f covered", share)
	}
}

func TestQuantiles(t *testing.T) {
	for freedom := 1.0; freedom < 5000; freedom *= 1.003 {
		if got, want := quantile(freedom), quantileOf(freedom, 0.975); math.Abs(got/want-1) > 1e-4 {
			t.Errorf("%g degrees of freedom: %g, want %g", freedom, got, want)
		}
	}
}

func TestShortOrSticky(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	if MeanOfSeries(around(random, 6, 0)).Known || MeanOfSeries(around(random, 40, 0.98)).Known {
		t.Error("an interval was given for a series that is worth next to nothing")
	}
	if e := MeanOfSeries(slices.Repeat([]float64{7}, 20)); !e.Known || e.Low != 7 || e.High != 7 {
		t.Errorf("values that never change: %+v", e)
	}
	if e := MeanOfSeries(nil); e.Known || e.Mean != 0 {
		t.Errorf("nothing: %+v", e)
	}
	if worth := Worth(around(random, 10_000, 0.5)); worth > 3600 || worth < 2800 {
		t.Errorf("10 000 values with an autocorrelation of one half are worth %.0f; a third of them in theory", worth) // (1-phi)/(1+phi)
	}
}

// settling makes a series that starts off and comes to 100 with a time
// constant, with noise.
func settling(random *rand.Rand, n int, off, constant, noise float64) []float64 {
	values := make([]float64, n)
	for i := range values {
		values[i] = 100 + off*math.Exp(-float64(i)/constant) + noise*random.NormFloat64()
	}
	return values
}

func TestOddRepeats(t *testing.T) {
	for name, c := range map[string]struct {
		values []float64
		odd    []int
	}{
		"alike":                 {[]float64{100, 101, 99, 100.5, 99.5}, nil},
		"one far off":           {[]float64{100, 101, 55, 100.5, 99.5}, []int{2}},
		"too few to tell":       {[]float64{100, 101, 55}, nil},
		"all the same":          {[]float64{100, 100, 100, 100}, nil},
		"all the same but one":  {[]float64{100, 100, 100, 130}, []int{3}},
		"two hide each other":   {[]float64{100, 101, 55, 56, 99, 100.5, 99.5}, []int{2, 3}},
		"two groups":            {[]float64{100, 101, 99, 55, 56, 54}, nil},
		"apart by a thousandth": {[]float64{100, 100, 100, 100.1}, nil},
	} {
		got := Odd(c.values)
		if len(got) != len(c.odd) || len(got) > 0 && got[0] != c.odd[0] {
			t.Errorf("%s: %v, want %v", name, got, c.odd)
		}
	}
	random := rand.New(rand.NewPCG(9, 9))
	alarms := 0
	for range 2000 {
		if len(Odd(settling(random, 8, 0, 1, 5))) > 0 {
			alarms++
		}
	}
	t.Logf("%d of 2000 sets of eight like repeats have an odd one", alarms)
	if alarms > 40 {
		t.Errorf("%d of 2000 sets of like repeats have an odd one", alarms)
	}
}

// alone decides one ratio by itself.
func alone(r Ratio, noise quantity.Share, lower bool) Ratio {
	Decide([]Decided{{&r, lower, true}}, noise)
	return r
}

// repeats are so many values of a run, nothing else known of its spread.
func repeats(values ...float64) Repetition { return Repetition{Values: values, Runs: 1} }

func TestRatios(t *testing.T) {
	decide := func(a, b []float64, lower bool) Ratio {
		return alone(Compare(repeats(a...), repeats(b...), 0.05), 0.05, lower)
	}
	base := []float64{100, 101, 99, 100, 100}
	for name, c := range map[string]struct {
		values []float64
		lower  bool
		want   Verdict
	}{
		"doubled":                  {[]float64{200, 202, 199, 201, 200}, false, Better},
		"doubled where less is":    {[]float64{200, 202, 199, 201, 200}, true, Worse},
		"halved":                   {[]float64{50, 51, 49, 50, 50}, false, Worse},
		"the same":                 {[]float64{100, 100, 101, 99, 100}, false, Same},
		"3 % more, and sure of it": {[]float64{103, 103, 103, 103, 103.1}, false, Same},
		"all over the place":       {[]float64{60, 150, 90, 130, 75}, false, NotShown},
		"one repeat":               {[]float64{200}, false, Hint},
		"dead":                     {[]float64{0, 0, 0}, false, Worse},
		"three of five stalled":    {[]float64{100, 0, 0, 101, 0}, false, NotShown},
		"not a number":             {[]float64{math.NaN()}, false, Missing},
		"below zero":               {[]float64{-1, 100}, false, Missing},
		"nothing":                  {nil, false, Missing},
	} {
		if r := decide(base, c.values, c.lower); r.Verdict != c.want {
			t.Errorf("%s: %+v, want %s", name, r, c.want)
		}
	}
	if r := decide([]float64{0, 0, 0}, base, false); r.Verdict != Better || r.Value != 0 {
		t.Errorf("from nothing to something: %+v", r)
	}
	if r := decide([]float64{0, 0, 0}, []float64{0, 0}, false); r.Verdict != Same {
		t.Errorf("nothing on either side: %+v", r)
	}
	if r := decide([]float64{5, 5, 5}, []float64{5, 5, 5}, false); r.Verdict != Same || r.Value != 1 {
		t.Errorf("exactly the same: %+v", r)
	}
	if r := decide([]float64{5, 5, 5}, []float64{6, 6, 6}, false); r.Verdict != Better || math.Abs(r.Low-1.2) > 1e-6 {
		t.Errorf("exactly a fifth more: %+v", r)
	}
	// Welch (1947) by a worked example: means 20.82 and 23.00, t = -2.70 with
	// 27.8 degrees of freedom in the textbook's two samples of fifteen.
	a := []float64{27.5, 21.0, 19.0, 23.6, 17.0, 17.9, 16.9, 20.1, 21.9, 22.6, 23.1, 19.6, 19.0, 21.7, 21.4}
	b := []float64{27.1, 22.0, 20.8, 23.4, 23.4, 23.5, 25.8, 22.0, 24.8, 20.2, 21.9, 22.1, 22.9, 20.5, 24.4}
	exponential := func(values []float64) (e []float64) {
		for _, v := range values {
			e = append(e, math.Exp(v/10))
		}
		return e
	}
	if r := Compare(repeats(exponential(a)...), repeats(exponential(b)...), 0.05); math.Abs(r.Chance-0.021) > 0.001 {
		t.Errorf("chance %.4f, want 0.021", r.Chance)
	}
}

func TestHolm(t *testing.T) {
	// Holm's own procedure: 0.01 × 4, 0.02 × 3, 0.03 × 2 and never falling. What says
	// the same twice counts once.
	var ratios []Decided
	for i, chance := range []float64{0.03, 0.01, 0.5, 0.02, 0.02} {
		difference := float64(min(i, 3))
		ratios = append(ratios, Decided{Ratio: &Ratio{Chance: chance, difference: difference}})
	}
	if all, rest := holm(ratios, 0.05); all != 4 || rest != 3 {
		t.Errorf("%d different, %d left", all, rest)
	}
	for i, want := range []float64{0.06, 0.04, 0.5, 0.06, 0.06} {
		if math.Abs(ratios[i].Chance-want) > 1e-9 {
			t.Errorf("corrected chance %d is %g, want %g", i, ratios[i].Chance, want)
		}
	}
}

// Runs of the same whose means are known to spread by 3 % say so, however much their
// repeats vary; what other loads show counts little.
func TestSpreadIsLearned(t *testing.T) {
	if s, learned := Learn(nil).Under("x"); learned > 0 || s != Given(Unlearned) {
		t.Errorf("something was learned from nothing: %+v", s)
	}
	if _, learned := Learn([]Alike{{"x", [][]float64{{100, 101}}}}).Under("x"); learned > 0 {
		t.Error("something was learned from one run")
	}
	random := rand.New(rand.NewPCG(8, 3))
	runs := func(n int, between float64) (all [][]float64) {
		for range n {
			mean := 100 * math.Exp(between*random.NormFloat64())
			var run []float64
			for range 5 {
				run = append(run, mean*math.Exp(0.02*random.NormFloat64()))
			}
			all = append(all, run)
		}
		return all
	}
	many, _ := Learn([]Alike{{"x", runs(400, 0.03)}}).Under("x")
	if two, learned := Learn([]Alike{{"x", [][]float64{{100}, {150}}}}).Under("x"); learned != 1 || two.Deviation < 0.28 || two.Freedom < 100 {
		t.Errorf("two runs far apart: %+v", two)
	}
	if math.Abs(many.Deviation-0.03) > 0.004 || many.Freedom != 399 {
		t.Errorf("from 400 runs: %+v", many)
	}
	few, _ := Learn([]Alike{{"x", runs(6, 0)}, {"y", runs(400, 0.2)}, {"z", runs(400, 0.2)}}).Under("x")
	if few.Freedom != 9 || few.Deviation < 0.08 || few.Deviation > 0.17 {
		t.Errorf("what is steady on an unsteady volume: %+v", few)
	}
	steady, _ := Learn([]Alike{{"x", runs(8, 0.002)}}).Under("x")
	if steady.Deviation > 0.015 {
		t.Errorf("from eight steady runs: %+v", steady)
	}
}

// Passes whose shape is known.
func TestPasses(t *testing.T) {
	for name, c := range map[string]struct {
		values []float64
		want   PassShape
		warm   int
		going  bool
	}{
		"two":                        {[]float64{100, 500}, Level, 1, false},
		"alike":                      {[]float64{100, 101, 100, 102, 101}, Level, 1, false},
		"three, the first cold":      {[]float64{100, 300, 305}, FirstApart, 2, false},
		"a cache that halves":        {[]float64{300, 151, 149, 150}, FirstApart, 2, false},
		"full after two":             {[]float64{100, 101, 300, 303, 299, 301}, Step, 3, false},
		"it keeps falling":           {[]float64{318, 316, 290, 230, 150, 100, 74}, Curve, 6, true},
		"it keeps rising":            {[]float64{100, 200, 300, 400, 500}, Curve, 4, true},
		"it rises and levels":        {[]float64{100, 150, 210, 270, 300, 302, 299, 301}, Curve, 5, false},
		"the last apart":             {[]float64{100, 101, 99, 100, 60}, Level, 1, false},
		"one stalled":                {[]float64{100, 0, 100, 100}, Level, 1, false},
		"five alike, then a descent": {[]float64{318, 318, 318, 318, 318}, Level, 1, false},
	} {
		p := PassesOf(c.values, 0)
		if p.Shape != c.want || p.Warm != c.warm || p.Going != c.going {
			t.Errorf("%s: %+v, want %s, warm from %d, going %v", name, p, c.want, c.warm, c.going)
		}
	}
}

func TestScalingAndKnee(t *testing.T) {
	law := Scaling{One: 1000, Contention: 0.05, Crosstalk: 0.002}
	var spots []Spot
	random := rand.New(rand.NewPCG(5, 5))
	for _, n := range []float64{1, 2, 4, 8, 16, 32, 64} {
		rate := law.At(n) * (1 + 0.01*random.NormFloat64())
		spots = append(spots, Spot{At: n, Rate: rate, Latency: n / rate})
	}
	fit := FitScaling(spots)
	if fit == nil || math.Abs(fit.Contention-0.05) > 0.015 || math.Abs(fit.Crosstalk-0.002) > 0.0005 || math.Abs(fit.One/1000-1) > 0.03 || math.Abs(fit.Best/math.Sqrt(0.95/0.002)-1) > 0.1 || fit.Fit < 0.99 {
		t.Errorf("the fit is %+v, want %+v", fit, law)
	}
	if FitScaling(spots[:3]) != nil || FitScaling([]Spot{{At: 1}, {At: 2}, {At: 3}, {At: 4}}) != nil {
		t.Error("a fit of too little")
	}
	linear := []Spot{{1, 10, 1}, {2, 20, 1}, {4, 40, 1}, {8, 80, 1}}
	if fit := FitScaling(linear); fit == nil || fit.Contention > 0.001 || fit.Best != 0 && fit.Best < 100 {
		t.Errorf("a straight line: %+v", fit)
	}
	// A rate that saturates at 100 with a service time of 0.1: the knee of
	// rate over latency is where queueing begins, at 10.
	var saturating []Spot
	for _, n := range []float64{1, 2, 5, 10, 20, 50} {
		rate := min(n/0.1, 100)
		saturating = append(saturating, Spot{n, rate, n / rate})
	}
	if k := Knee(saturating); saturating[k].At != 10 {
		t.Errorf("the knee is at %g, want 10", saturating[k].At)
	}
	if k := Within(saturating, 0.25); saturating[k].At != 10 && saturating[k].At != 20 {
		t.Errorf("the largest rate within 0.25 is at %g", saturating[k].At)
	}
	if Knee(nil) != -1 || Knee([]Spot{{1, 0, 0}}) != -1 {
		t.Error("a knee of nothing")
	}
}

func TestIndexDoesNotDependOnTheBaseline(t *testing.T) {
	ratios := []float64{2, 0.5, 4}
	inverse := []float64{0.5, 2, 0.25}
	if a, b := Index(ratios), Index(inverse); math.Abs(a*b-1) > 1e-12 || math.Abs(a-math.Cbrt(4)) > 1e-12 {
		t.Errorf("index %g, of the inverse %g", a, b)
	}
	if Index([]float64{0, math.Inf(1)}) != 0 {
		t.Error("an index of nothing")
	}
}

// Whatever two sides are, a ratio can be written: an interval that would say nothing is none.
func TestEveryRatioCanBeWritten(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 6))
	for range 2000 {
		draw := func() (values []float64) {
			for range 1 + random.IntN(4) {
				values = append(values, math.Exp(30*random.NormFloat64()))
			}
			return values
		}
		var page []Decided
		for range 1 + random.IntN(40) {
			r := Compare(Repetition{Values: draw(), Runs: 1}, Repetition{Values: draw(), Runs: 1, Spread: Given(0.1)}, 0.05)
			page = append(page, Decided{Ratio: &r, Main: random.IntN(2) == 0})
		}
		Decide(page, 0.05)
		for _, r := range page {
			low, high := r.Interval(len(page))
			for _, v := range []float64{r.Value, r.Low, r.High, r.Chance, r.Deviation, low, high} {
				if math.IsInf(v, 0) || math.IsNaN(v) {
					t.Fatalf("%+v, %g to %g", *r.Ratio, low, high)
				}
			}
		}
	}
}
