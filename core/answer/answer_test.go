package answer

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// swept is a side that measured a stage along a field, so many times at each value, under a
// load; rate is what is done there.
func swept(name string, run int64, field string, values []float64, repeats int, load func(at float64) workload.Spec, rate func(at float64) float64) compare.Side {
	s := compare.Side{Name: name, Runs: []int64{run}}
	for range repeats {
		for _, at := range values {
			spec := load(at)
			done := rate(at)
			f := measure.Figures{Operations: int64(done * 60), Rate: quantity.OpRate(done), Throughput: quantity.ByteRate(done * 4096), Latency: measure.Latency{Mean: quantity.Seconds(1 / done), P99: quantity.Seconds(3 / done)}}
			s.Samples = append(s.Samples, compare.Sample{Run: run, Measurement: int64(len(s.Samples)), Stage: "shape", Load: spec, Point: []plan.Setting{{Field: field, Value: fmt.Sprint(at)}},
				Summary: &measure.Summary{Measured: 60, Ending: measure.ByTime, Interface: "io_uring", Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}})
		}
	}
	return s
}

// atRate is a load that arrives at a rate.
func atRate(at float64) workload.Spec {
	s := workload.Default()
	s.Rate, s.For = quantity.OpRate(at), 60
	return s
}

// closed is a load that waits for answers.
func closed(float64) workload.Spec { return workload.Default() }

// one is the only answer of a kind.
func one(t *testing.T, answers []Conclusion, kind Kind) Conclusion {
	t.Helper()
	var found []Conclusion
	for _, a := range answers {
		if a.Kind == kind {
			found = append(found, a)
		}
	}
	if len(found) != 1 {
		t.Fatalf("%d answers are %s: %+v", len(found), kind, answers)
	}
	return found[0]
}

var doubling = []float64{100, 200, 400, 800, 1600, 3200}

// What can be done lies between what is kept and what is not, wherever it lies; and where it
// lies beyond what was tried, that is said.
func TestTheLargestThatIsKept(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 300 {
		can := 30 * math.Exp(r.Float64()*math.Log(300))
		side := swept("a", 1, "rate", doubling, 1+r.IntN(3), atRate, func(at float64) float64 { return min(at, can) })
		a := one(t, Of([]compare.Side{side}, nil, Asked{}), Kept)
		told := a.Sides[0]
		if told.Low*0.96 > can || told.High > 0 && told.High < can { // a little short counts as kept
			t.Fatalf("can do %g: %+v", can, told)
		}
		switch {
		case can < 98 && (told.Value != 0 || told.Shown != "none" || !strings.Contains(a.Words, "not even rate 100")):
			t.Errorf("can do %g: %s", can, a.Words)
		case can > 3200 && told.Shown != "3200 or more":
			t.Errorf("can do %g: %s", can, a.Words)
		}
	}
}

// Where repeats do not agree the range is wider.
func TestRepeatsThatDoNotAgree(t *testing.T) {
	e := edgeOf([]trial{{1, true}, {2, true}, {4, true}, {4, false}, {8, false}, {2, true}, {8, false}})
	if e.carries != 2 || e.fails != 8 || e.least != 1 {
		t.Errorf("%+v", e)
	}
	// What is kept above a value that was not makes it less sure.
	if e := edgeOf([]trial{{1, true}, {2, false}, {4, true}, {8, false}}); e.carries != 1 || e.fails != 8 {
		t.Errorf("%+v", e)
	}
	if e := edgeOf([]trial{{1, true}, {2, false}, {2, true}}); e.carries != 1 || e.fails != 0 {
		t.Errorf("%+v", e)
	}
}

// By how much one keeps more: the truth lies within what is said in 95 of 100 pairs of runs that
// differ by themselves, and a difference that is none is called one in no more than 5.
func TestWhoKeepsMore(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	for _, truth := range []float64{1, 1.3, 2.5} {
		outside, wrong, said := 0, 0, 0
		const pairs = 200
		for range pairs {
			base := 150 + 1200*r.Float64()
			can := []float64{base * math.Exp(r.NormFloat64()*0.05), base * truth * math.Exp(r.NormFloat64()*0.05)}
			var sides []compare.Side
			for i, c := range can {
				side := swept([]string{"a", "b"}[i], int64(i+1), "rate", []float64{100, 125, 160, 200, 250, 320, 400, 500, 640, 800, 1000, 1250, 1600, 2000, 2500, 3200}, 1, atRate, func(at float64) float64 { return min(at, c) })
				side.Real = true
				sides = append(sides, side)
			}
			result := compare.Sides(sides[0], sides[1:], 0)
			ratio := one(t, Of(sides, &result, Asked{}), Kept).Ratios[0]
			if ratio.Low > truth || ratio.High > 0 && ratio.High < truth {
				outside++
			}
			switch {
			case truth == 1 && (ratio.Verdict == judge.Better || ratio.Verdict == judge.Worse), truth > 1 && ratio.Verdict == judge.Worse:
				wrong++
			case truth > 1 && ratio.Verdict == judge.Better:
				said++
			}
		}
		t.Logf("%g times as much: %d of %d outside, %d false, %d shown", truth, outside, pairs, wrong, said)
		if outside > pairs*5/100 || wrong > pairs*5/100 || truth == 2.5 && said < pairs*8/10 {
			t.Errorf("%g times as much: %d of %d outside, %d false, %d shown", truth, outside, pairs, wrong, said)
		}
	}
}

// Two lines that cross do so where their formulas say, and lines that do not are not said to.
func TestWhereTwoMeet(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	values := []float64{1, 2, 4, 8, 16, 32, 64}
	found, false_ := 0, 0
	for range 120 {
		cross := math.Exp2(0.5 + 5*r.Float64())
		slope := 0.3 + 0.7*r.Float64()
		noisy := func(of func(at float64) float64) func(float64) float64 {
			return func(at float64) float64 { return of(at) * math.Exp(r.NormFloat64()*0.01) }
		}
		base := swept("old", 1, "depth", values, 4, closed, noisy(func(at float64) float64 { return 1000 * math.Pow(at, 0.5) }))
		other := swept("new", 2, "depth", values, 4, closed, noisy(func(at float64) float64 { return 1000 * math.Pow(at, 0.5) * math.Pow(at/cross, slope) }))
		alike := swept("alike", 3, "depth", values, 4, closed, noisy(func(at float64) float64 { return 1000 * math.Pow(at, 0.5) }))
		result := compare.Sides(base, []compare.Side{other, alike}, 0)
		a := one(t, Of([]compare.Side{base, other, alike}, &result, Asked{}), Meet)
		m := a.Ratios[0]
		if len(m.Meets) != 1 || m.Meets[0].From > cross || m.Meets[0].To < cross || math.Abs(math.Log(m.Meets[0].About/cross)) > 0.35 {
			t.Logf("at %g with slope %g: %+v", cross, slope, m)
		} else {
			found++
		}
		if a.Ratios[1].Verdict == judge.Better || a.Ratios[1].Verdict == judge.Worse || len(a.Ratios[1].Meets) > 0 {
			false_++
		}
	}
	if found < 114 || false_ > 6 {
		t.Errorf("%d of 120 crossings were found, and %d alike said to differ", found, false_)
	}
}

func TestWordsOfMeetings(t *testing.T) {
	line := func(verdicts ...judge.Verdict) (line []meeting) {
		for i, v := range verdicts {
			gain := map[judge.Verdict]float64{judge.Better: 2, judge.Worse: 0.5, judge.Same: 1, judge.NotShown: 1.02}[v]
			line = append(line, meeting{float64(int(1) << i), fmt.Sprint(1 << i), gain, v})
		}
		return line
	}
	b, w, s, n := judge.Better, judge.Worse, judge.Same, judge.NotShown
	for _, c := range []struct {
		line  []meeting
		words string
	}{
		{line(b, b, b), "new is ahead from 1 to 4; there is no crossover in the measured range"},
		{line(b, n, b), "new is ahead from 1 to 4 (not shown at 2); there is no crossover in the measured range"},
		{line(w, w, b), "old is ahead from 1 to 2; the crossover is between 2 and 4, at about 2.83; new is ahead at 4"},
		{line(w, n, n, b), "old is ahead at 1; the crossover is between 1 and 8, at about 1.96; new is ahead at 8"},
		{line(s, s, s), "they are the same from 1 to 4"},
		{line(s, n, s), "no difference is shown from 1 to 4"},
		{line(b, b, s), "new is ahead from 1 to 2; there is no crossover in the measured range; no difference is shown at 4"},
	} {
		if r := met(c.line, "new", "old", quantity.Digits); r.Words != c.words {
			t.Errorf("%v:\n%s\n%s", c.line, r.Words, c.words)
		}
	}
}

// From where on more gains little: the truth, by going through all pairs of the formula, lies in
// the range in 92 of 100 sweeps at least.
func TestTheSmallestThatIsEnough(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	values := []float64{1, 2, 4, 8, 16, 32, 64}
	for _, noise := range []float64{0.005, 0.02, 0.05} {
		outside, known, wide := 0, 0, 0
		const sweeps = 200
		for range sweeps {
			half := math.Exp2(-2 + 7*r.Float64())
			rate := func(at float64) float64 { return 5000 * at * at / (at*at + half*half) }
			side := swept("a", 1, "caches[0].size", values, 3+r.IntN(3), closed, func(at float64) float64 { return rate(at) * math.Exp(r.NormFloat64()*noise) })
			told := one(t, Of([]compare.Side{side}, nil, Asked{}), Enough).Sides[0]
			truth := 0.0
			for i := len(values) - 2; i >= 0 && rate(values[len(values)-1])/rate(values[i]) < 1.05; i-- { // it never falls
				truth = values[i]
			}
			if told.Low == 0 && told.Value == 0 {
				if truth > 0 && noise < 0.01 && rate(64)/rate(32) < 1.04 {
					t.Errorf("half at %g: %+v", half, told)
				}
				continue
			}
			known++
			if truth > 0 && (told.Low > truth || told.High > 0 && told.High < truth) || truth == 0 && told.High > 0 {
				outside++
			}
			if told.High == 0 || told.High > 2*told.Low {
				wide++
			}
		}
		t.Logf("%g %% of noise: %d of %d outside, %d wide", noise*100, outside, known, wide)
		if outside > known*8/100 || known < sweeps/2 || noise < 0.01 && wide > known/2 {
			t.Errorf("%g %% of noise: %d of %d outside, %d wide", noise*100, outside, known, wide)
		}
	}
}

// A cache that is not at rest yet says nothing of larger ones.
func TestNothingIsEnoughThatWasNotAtRest(t *testing.T) {
	side := swept("a", 1, "caches[0].size", []float64{1, 2, 4, 8}, 3, closed, func(at float64) float64 { return 1000 })
	if told := one(t, Of([]compare.Side{side}, nil, Asked{}), Enough).Sides[0]; told.Value != 1 {
		t.Errorf("level: %+v", told)
	}
	for i := range side.Samples {
		if side.Samples[i].Point[0].Value == "8" {
			side.Samples[i].Doubts = []judge.Finding{{Kind: "still-moving", Weight: judge.Caution, Figure: "all", Sentence: "It fills."}}
		}
	}
	if told := one(t, Of([]compare.Side{side}, nil, Asked{}), Enough).Sides[0]; told.Value != 0 || !strings.Contains(told.Reason, "at 8 it was not in steady state") {
		t.Errorf("%+v", told)
	}
}

// Work that has an end takes as long as it takes, and one operation at a time tells how long one
// does.
func TestTimes(t *testing.T) {
	amount := func(name string, run int64, seconds ...float64) compare.Side {
		side := swept(name, run, "depth", []float64{1}, len(seconds), func(float64) workload.Spec {
			s := workload.Default()
			s.Amount, s.For, s.Workers, s.Depth = 1<<30, 0, 1, 1
			return s
		}, func(float64) float64 { return 200 })
		for i := range side.Samples {
			side.Samples[i].Point = nil
			side.Samples[i].Summary.Ending, side.Samples[i].Summary.Measured = measure.ByAmount, quantity.Seconds(seconds[i])
		}
		return side
	}
	a, b := amount("a", 1, 100, 101, 99, 100), amount("b", 2, 50, 50.5, 49.5, 50)
	result := compare.Sides(a, []compare.Side{b}, 0)
	answers := Of([]compare.Side{a, b}, &result, Asked{})
	finish := one(t, answers, Finish)
	if finish.Sides[0].Value < 99 || finish.Sides[0].Value > 101 || finish.Ratios[0].Verdict != judge.Better || math.Abs(finish.Ratios[0].Times-0.5) > 0.02 {
		t.Errorf("%+v", finish)
	}
	if alone := one(t, answers, Alone); math.Abs(alone.Sides[0].Value-0.005) > 1e-9 {
		t.Errorf("%+v", alone)
	}
	if answers := Of([]compare.Side{swept("a", 1, "depth", []float64{1}, 3, closed, func(float64) float64 { return 100 })}, nil, Asked{}); len(answers) != 0 {
		t.Errorf("a load without an end, and with many at a time: %+v", answers)
	}
}

// What failed altogether has no answer, and nothing else does.
func TestAnswersOfFailures(t *testing.T) {
	side := swept("a", 1, "depth", []float64{1, 2, 4}, 2, closed, func(float64) float64 { return 100 })
	for i := range side.Samples {
		side.Samples[i].Summary, side.Samples[i].Reason = nil, "it failed"
	}
	whole := swept("b", 2, "depth", []float64{1, 2, 4}, 2, closed, func(float64) float64 { return 100 })
	for _, sides := range [][]compare.Side{{side, whole}, {whole, side}, {side, side}} {
		result := compare.Sides(sides[0], sides[1:], 0)
		_ = Of(sides, &result, Asked{Within: 1})
		_ = Of(sides[:1], nil, Asked{Within: 1})
	}
}
