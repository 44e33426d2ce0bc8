package compare

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"patientheron/core/judge"
)

// together are two sides measured in turn in runs first and first + 1: both go up and
// down by so much from one pair to the next, and differ by a gain.
func together(first int64, pairs int, wave, gain float64) (a, b Side) {
	a, b = Side{Name: "a", Runs: []int64{first}}, Side{Name: "b", Runs: []int64{first + 1}}
	for i := range pairs {
		level := 1000 * math.Exp(wave*math.Sin(float64(2*i+1)))
		for run, side := range []*Side{&a, &b} {
			s := sample(first+int64(run), "lookups", level*math.Pow(gain, float64(run))*(1+0.002*float64((i*7+run*3)%5)))
			s.Measurement, s.Joint, s.Position = first*100+int64(2*i+run), first, i+1
			side.Samples = append(side.Samples, s)
		}
	}
	return a, b
}

func main(c Result) Outcome { return c.Points[0].Row("throughput").Candidates[0] }

// What goes up and down for both hides a tenth from repeats, and not from pairs.
func TestPairsSeeThroughWhatBothShare(t *testing.T) {
	a, b := together(1, 6, 0.3, 1.1)
	c := Sides(a, []Side{b}, 0)
	o := main(c)
	if o.Verdict != judge.Better || o.Pairs != 6 || math.Abs(o.Ratio.Value-1.1) > 0.005 || o.Narrower < 10 {
		t.Errorf("%+v", o.Ratio)
	}
	if !strings.Contains(c.Candidates[0].Paired, "6 pairs per point: pairing narrows ") {
		t.Error(c.Candidates[0].Paired)
	}
	for i := range b.Samples { // the same values, of runs that were made apart
		b.Samples[i].Joint = 7
	}
	if c := Sides(a, []Side{b}, 0); main(c).Verdict != judge.NotShown || main(c).Pairs != 0 || c.Candidates[0].Paired != "" {
		t.Errorf("apart: %+v", main(c).Ratio)
	}
	a, b = together(1, 6, 0.3, 1)
	if o := main(Sides(a, []Side{b}, 0)); o.Verdict != judge.Same {
		t.Errorf("against itself: %+v", o.Ratio)
	}
}

// A measurement that failed leaves its pair out, and no other. One that was made alone
// makes all of them repeats.
func TestPairsThatAreNotWhole(t *testing.T) {
	a, b := together(1, 6, 0.3, 1.1)
	b.Samples[2].Summary, b.Samples[2].Reason = nil, "it failed"
	if o := main(Sides(a, []Side{b}, 0)); o.Pairs != 5 || o.Verdict != judge.Better {
		t.Errorf("one failed: %+v", o.Ratio)
	}
	b.Samples[2] = sample(2, "lookups", 1000)
	if o := main(Sides(a, []Side{b}, 0)); o.Pairs != 0 {
		t.Errorf("one was made alone: %+v", o.Ratio)
	}
}

// Three joints or more: each counts once, with the means of its runs, and shows by itself
// by how much joints differ.
func TestPairsOfSeveralJoints(t *testing.T) {
	var a, b Side
	for i, gain := range []float64{1.19, 1.21, 1.20} {
		x, y := together(int64(10*i+1), 4, 0.3, gain)
		a.Runs, a.Samples = append(a.Runs, x.Runs...), append(a.Samples, x.Samples...)
		b.Runs, b.Samples = append(b.Runs, y.Runs...), append(b.Samples, y.Samples...)
	}
	a.Real, b.Real = true, true
	o := main(Sides(a, []Side{b}, 0))
	// By the three logarithms alone: standard deviation 0.0084, Student's 4.303 of two.
	if half := 4.303 * 0.0084 / math.Sqrt(3); o.Pairs != 3 || math.Abs(o.Half()/half-1) > 0.1 || o.Verdict != judge.Better {
		t.Errorf("%+v, half %.4f, want %.4f", o.Ratio, o.Half(), half)
	}
}

// One joint on real storage cannot show what stays throughout its runs.
func TestPairsOnRealStorage(t *testing.T) {
	a, b := together(1, 8, 0.3, 1)
	a.Real, b.Real = true, true
	o := main(Sides(a, []Side{b}, 0))
	if half := 1.96 * judge.InPlace * math.Sqrt2; o.Half() < half || o.Half() > 1.2*half {
		t.Errorf("half of the interval %.4f, at least %.4f", o.Half(), half)
	}
	if words := Sides(a, []Side{b}, 0).Candidates[0].Paired; !strings.Contains(words, "8 pairs") {
		t.Error(words)
	}
	if o := main(Sides(a, []Side{b}, 0)); fmt.Sprint(o.Verdict) != "same" {
		t.Errorf("%+v", o.Ratio)
	}
}
