package judge

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/measure"
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

func TestWarming(t *testing.T) {
	// Exact chances of Kendall's statistic (Kendall 1975, table 1).
	for _, c := range []struct {
		n, more int
		chance  float64
	}{{4, 6, 1.0 / 24}, {5, 10, 1.0 / 120}, {5, 8, 5.0 / 120}, {10, 21, 0.036}, {8, 0, 0.548}} {
		if got := inversionChance(c.n, c.more); math.Abs(got-c.chance) > 0.0006 {
			t.Errorf("%d values, %d more: %.4f, want %.4f", c.n, c.more, got, c.chance)
		}
	}
	passes := make([]float64, 8)
	for i := range passes {
		passes[i] = 1000 - 700*math.Exp(-float64(i)/2)
	}
	r := Repeats(passes)
	if r.Trend.Direction != 1 || r.Cold != 300 || r.Warm < 900 || r.Plateau == nil || len(r.Odd) > 0 {
		t.Fatalf("a warming cache: %+v", r)
	}
	// 1000 - 700 e^(-p/2) = 950 at p = 2 ln 14.
	if math.Abs(r.Plateau.Value-1000) > 15 || math.Abs(r.Plateau.Passes-2*math.Log(14)) > 0.3 {
		t.Errorf("plateau %+v, want 1000 after %.2f passes", r.Plateau, 2*math.Log(14))
	}
	if r := Repeats([]float64{100, 101, 100, 102, 101}); r.Trend.Direction != 0 || r.Plateau != nil {
		t.Errorf("steady repeats are warming: %+v", r.Trend)
	}
	if r := Repeats([]float64{100, 200, 300, 400, 500}); r.Trend.Direction != 1 || r.Plateau != nil {
		t.Errorf("a straight rise: %+v, plateau %+v", r.Trend, r.Plateau)
	}
	random := rand.New(rand.NewPCG(2, 3))
	alarms := 0
	for range 2000 {
		if Repeats(settling(random, 6, 0, 1, 5)).Trend.Direction != 0 {
			alarms++
		}
	}
	if share := float64(alarms) / 2000; share > 0.10 { // 5 % each way
		t.Errorf("%.3f of steady repeats are said to warm or to fall", share)
	}
	if r := Repeats([]float64{math.NaN(), math.Inf(1), 5}); len(r.Values) != 1 || r.Mean.Known {
		t.Errorf("what is no number: %+v", r)
	}
}

func TestNoVerdictsWithoutADifference(t *testing.T) {
	random := rand.New(rand.NewPCG(2000, 2))
	const experiments, points = 2000, 10
	wrong, found, right := 0, 0, 0
	repeats := func(truth, spread float64) []float64 {
		values := make([]float64, 5)
		for i := range values {
			values[i] = truth * math.Exp(spread*random.NormFloat64())
		}
		return values
	}
	for range experiments {
		var ratios []*Ratio
		for range points {
			r := Compare(repeats(1000, 0.06), repeats(1000, 0.06), 0.05, 0)
			ratios = append(ratios, &r)
		}
		Decide(ratios, 0.05, false)
		for _, r := range ratios {
			if r.Verdict == Better || r.Verdict == Worse {
				wrong++
				break
			}
		}
		// A true 10 % at the spread that repeats on quiet storage have.
		r := Compare(repeats(1000, 0.03), repeats(1100, 0.03), 0.05, 0)
		Decide([]*Ratio{&r}, 0.05, false)
		if r.Verdict == Better {
			found++
		}
		// No difference at the same spread is told to be the same.
		same := Compare(repeats(1000, 0.015), repeats(1000, 0.015), 0.05, 0)
		Decide([]*Ratio{&same}, 0.05, false)
		if same.Verdict == Same {
			right++
		}
	}
	t.Logf("of %d comparisons of ten points without a difference %.2f %% had a better or worse", experiments, float64(wrong)/experiments*100)
	t.Logf("a true 10 %% at 3 %% spread and five repeats was found in %.1f %%", float64(found)/experiments*100)
	t.Logf("no difference at 1.5 %% spread was called the same in %.1f %%", float64(right)/experiments*100)
	if wrong > experiments*5/100 {
		t.Errorf("%d of %d comparisons without a difference had a better or worse", wrong, experiments)
	}
	if found < experiments*95/100 {
		t.Errorf("a true 10 %% was found in only %d of %d", found, experiments)
	}
	if right < experiments*90/100 {
		t.Errorf("the same was called so in only %d of %d", right, experiments)
	}
}

// Runs that differ by themselves, each with repeats that agree: without the
// allowance that would be called a difference most of the time.
func TestAllowanceForRunToRun(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	run := func(truth float64) []float64 {
		mean := truth * math.Exp(RunToRun*random.NormFloat64())
		values := make([]float64, 5)
		for i := range values {
			values[i] = mean * math.Exp(0.005*random.NormFloat64())
		}
		return values
	}
	const tries = 2000
	wrong, without, found := 0, 0, 0
	for range tries {
		a, b, c := run(1000), run(1000), run(1100)
		for allowance, count := range map[float64]*int{math.Sqrt2 * RunToRun: &wrong, 0: &without} {
			r := Compare(a, b, 0.001, allowance)
			if Decide([]*Ratio{&r}, 0.001, false); r.Verdict == Better || r.Verdict == Worse {
				*count++
			}
		}
		r := Compare(a, c, 0.05, math.Sqrt2*RunToRun)
		if Decide([]*Ratio{&r}, 0.05, false); r.Verdict == Better {
			found++
		}
	}
	t.Logf("runs that differ by themselves: %.1f %% false verdicts with the allowance, %.1f %% without; 10 %% found in %.1f %%",
		float64(wrong)/tries*100, float64(without)/tries*100, float64(found)/tries*100)
	if wrong > tries*7/100 || without < tries/2 || found < tries*85/100 {
		t.Errorf("%d with, %d without, %d found of %d", wrong, without, found, tries)
	}
}

func TestRatios(t *testing.T) {
	decide := func(a, b []float64, lower bool) Ratio {
		r := Compare(a, b, 0.05, 0)
		Decide([]*Ratio{&r}, 0.05, lower)
		return r
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
		"zero":                     {[]float64{0, 100}, false, Missing},
		"not a number":             {[]float64{math.NaN()}, false, Missing},
		"nothing":                  {nil, false, Missing},
	} {
		if r := decide(base, c.values, c.lower); r.Verdict != c.want {
			t.Errorf("%s: %+v, want %s", name, r, c.want)
		}
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
	if r := Compare(exponential(a), exponential(b), 0.05, 0); math.Abs(r.Chance-0.021) > 0.001 {
		t.Errorf("chance %.4f, want 0.021", r.Chance)
	}
}

func TestHolm(t *testing.T) {
	// Holm's own procedure: 0.01 × 4, 0.02 × 3, 0.03 × 2 and never falling.
	ratios := []*Ratio{{Chance: 0.03}, {Chance: 0.01}, {Chance: 0.5}, {Chance: 0.02}}
	holm(ratios, func(r *Ratio) *float64 { return &r.Chance })
	for i, want := range []float64{0.06, 0.04, 0.5, 0.06} {
		if math.Abs(ratios[i].Chance-want) > 1e-12 {
			t.Errorf("corrected chance %d is %g, want %g", i, ratios[i].Chance, want)
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

func TestPercentileIntervalCovers(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	covered := 0
	const tries = 400
	for range tries {
		h := measure.NewHistogram()
		for range 2000 {
			h.Record(int64(1e6 * random.ExpFloat64()))
		}
		low, high := PercentileInterval(h, 0.99, 0)
		if truth := 1e-3 * math.Log(100); float64(low) <= truth && truth <= float64(high) {
			covered++
		}
	}
	if share := float64(covered) / tries; share < 0.92 || share > 0.98 {
		t.Errorf("%.3f covered", share)
	}
	if low, high := PercentileInterval(measure.NewHistogram(), 0.5, 0); low != 0 || high != 0 {
		t.Error("an interval of nothing")
	}
}
