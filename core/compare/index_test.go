package compare

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/judge"
)

// weighedSides are a baseline and a candidate with three stages, of which the candidate does 2,
// 0.5 and 1.1 times as much, with three repeats each that are a hundredth up and down.
func weighedSides() (baseline, candidate Side) {
	number := int64(0)
	for _, of := range []struct {
		stage string
		rate  float64
		gain  float64
	}{{"lookups", 1000, 2}, {"entries", 500, 0.5}, {"copies", 80, 1.1}} {
		for _, noise := range []float64{math.Exp(-0.01), 1, math.Exp(0.01)} {
			number++
			baseline.Samples = append(baseline.Samples, sample(number, of.stage, of.rate*noise))
			candidate.Samples = append(candidate.Samples, sample(number+100, of.stage, of.rate*of.gain*noise))
		}
	}
	baseline.Name, baseline.Runs, candidate.Name, candidate.Runs = "old", []int64{1}, "new", []int64{2}
	return baseline, candidate
}

// With weights of 3 and 1 the index is the fourth root of 2³ · ½, and half of its interval the root
// of (¾h)² + (¼h)², where h is half of that of a ratio of two means of three.
func TestAnIndexWithWeights(t *testing.T) {
	baseline, candidate := weighedSides()
	r := Sides(baseline, []Side{candidate}, 0)
	r.Weigh([]Weight{{"lookups", 3}, {"entries", 1}})
	w := r.Candidates[0].Weighed
	if w == nil || w.Refused != "" || len(w.Parts) != 2 {
		t.Fatalf("%+v", w)
	}
	if want := math.Pow(4, 0.25); math.Abs(w.Index.Mean/want-1) > 1e-9 {
		t.Errorf("index %g, not %g", w.Index.Mean, want)
	}
	ratio := r.Points[0].Row(r.Points[0].Main).Candidates[0].Ratio
	h := ratio.Half()
	if got, want := math.Log(w.Index.High/w.Index.Low)/2, math.Hypot(0.75*h, 0.25*h); !w.Index.Known || math.Abs(got/want-1) > 1e-6 {
		t.Errorf("half %g, not %g", got, want)
	}
	if p := w.Parts[0]; p.Share != 0.75 || math.Abs(p.Gain-2) > 1e-9 || math.Abs(p.Brings-math.Pow(2, 0.75)) > 1e-9 || p.Title != "lookups" {
		t.Errorf("%+v", p)
	}
	product := 1.0
	for _, p := range w.Parts {
		product *= p.Brings
	}
	if math.Abs(product/w.Index.Mean-1) > 1e-9 {
		t.Errorf("the parts make %g of %g", product, w.Index.Mean)
	}
	if !strings.HasPrefix(w.Words, "1.41 × the baseline (") || !strings.Contains(w.Words, "lookups 2.00 with 75 %") {
		t.Error(w.Words)
	}
	if r = Sides(baseline, []Side{candidate}, 0); true {
		if r.Weigh(nil); r.Candidates[0].Weighed != nil {
			t.Error("an index that nobody asked for")
		}
	}
}

// What was not measured on both, or is unreliable, is in no index: there is none then.
func TestNoIndexOfWhatWasNotMeasured(t *testing.T) {
	weights := []Weight{{"lookups", 1}, {"copies", 2}}
	for words, change := range map[string]func(b, c *Side){
		`of "copies" not measured on both`: func(_, c *Side) { c.Samples = c.Samples[:6] },
		`of "lookups" its figure is unreliable`: func(_, c *Side) {
			c.Samples[0].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "It was memory."}}
		},
		`of "copies" not measured on both sides, or not`: func(b, _ *Side) { b.Samples[6].Load.Depth, b.Samples[7].Load.Depth, b.Samples[8].Load.Depth = 9, 9, 9 },
	} {
		b, c := weighedSides()
		change(&b, &c)
		r := Sides(b, []Side{c}, 0)
		r.Weigh(weights)
		if w := r.Candidates[0].Weighed; w.Index.Mean != 0 || !strings.Contains(w.Refused, words) || !strings.HasPrefix(w.Words, "There is no index: ") {
			t.Errorf("%q: %+v", words, w)
		}
	}
	// One repeat gives an index without an interval.
	b, c := weighedSides()
	c.Samples = []Sample{c.Samples[1], c.Samples[7]}
	r := Sides(b, []Side{c}, 0)
	if r.Weigh(weights); r.Candidates[0].Weighed.Index.Known || math.Abs(r.Candidates[0].Weighed.Index.Mean-math.Cbrt(2*1.1*1.1)) > 1e-6 {
		t.Errorf("%+v", r.Candidates[0].Weighed)
	}
}

func TestImpossibleWeights(t *testing.T) {
	for words, weights := range map[string][]Weight{
		"has to be above 0":               {{"lookups", 0}},
		`the weight of "lookups" is NaN`:  {{"lookups", math.NaN()}},
		`the weight of "lookups" is +Inf`: {{"lookups", math.Inf(1)}},
		`"lookups" has two weights`:       {{"lookups", 1}, {"lookups", 2}},
		"65 stages have weights":          make([]Weight, 65),
	} {
		if err := CheckWeights(weights); !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), words) {
			t.Errorf("%v, not %q", err, words)
		}
	}
	b, c := weighedSides()
	r := Sides(b, []Side{c}, 0)
	if err := r.Stages([]Weight{{"lockups", 1}}); !errors.Is(err, ErrInvalid) || !strings.Contains(err.Error(), "there are copies, entries, lookups") {
		t.Error(err)
	}
	if err := r.Stages([]Weight{{"lookups", 1}}); err != nil {
		t.Error(err)
	}
}

// The interval of an index holds the truth: also on real storage, where a run differs from the
// next of the same in all of its figures at once.
func TestTheIntervalOfAnIndexHoldsTheTruth(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 22))
	for _, c := range []struct {
		real    bool
		between float64
	}{{false, 0}, {true, 0.1}, {true, 0.03}} {
		held, tries := 0, 400
		for range tries {
			run := func(name string, id int64, truth float64) (s Side) {
				s = Side{Name: name, Runs: []int64{id}, Real: c.real}
				level := truth * math.Exp(c.between*r.NormFloat64())
				for stage := range 10 {
					for range 3 {
						s.Samples = append(s.Samples, sample(id, fmt.Sprint("stage ", stage), level*float64(stage+1)*math.Exp(0.02*r.NormFloat64())))
					}
				}
				return s
			}
			result := Sides(run("a", 1, 100), []Side{run("b", 2, 130)}, 0.05)
			result.Weigh([]Weight{{"stage 1", 2}, {"stage 2", 1}, {"stage 7", 1}})
			if i := result.Candidates[0].Weighed.Index; i.Known && i.Low <= 1.3 && i.High >= 1.3 {
				held++
			}
		}
		if held < tries*92/100 {
			t.Errorf("%+v: it holds the truth in %d of %d", c, held, tries)
		}
	}
}
