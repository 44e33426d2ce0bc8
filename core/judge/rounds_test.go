package judge

import (
	"math"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/mat"
)

// drawn are rounds whose values have an effect of the round, and scatter.
func drawn(random *rand.Rand, rounds, baselines int, effects, scatter []float64) []Round {
	made := make([]Round, rounds)
	for r := range made {
		drift := random.NormFloat64() * 0.2
		for range baselines {
			made[r].Baseline = append(made[r].Baseline, 1000*math.Exp(drift+scatter[0]*random.NormFloat64()))
		}
		for i, effect := range effects {
			made[r].Others = append(made[r].Others, 1000*math.Exp(drift+effect+scatter[i+1]*random.NormFloat64()))
		}
	}
	return made
}

func alike(n int, value float64) []float64 {
	values := make([]float64, n)
	for i := range values {
		values[i] = value
	}
	return values
}

// What is left of rounds is held to a regression on one column for each round and each
// thing measured, solved by decomposition.
func TestWhatIsLeftOfRoundsIsThatOfARegression(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 40 {
		rounds, others := 2+random.IntN(5), 1+random.IntN(6)
		made := drawn(random, rounds, 1+random.IntN(3), alike(others, 0.1), alike(others+1, 0.05))
		for range random.IntN(4) { // some values are missing
			made[random.IntN(rounds)].Others[random.IntN(others)] = math.NaN()
		}
		scaled, _, _ := scale(made)
		var rows, values []float64
		count, columns := 0, rounds+others
		add := func(round, what int, value float64) {
			row := make([]float64, columns)
			row[round] = 1
			if what > 0 {
				row[rounds+what-1] = 1
			}
			rows, values, count = append(rows, row...), append(values, value), count+1
		}
		for r, round := range scaled {
			for _, v := range round.Baseline {
				add(r, 0, v)
			}
			for i, v := range round.Others {
				if !math.IsNaN(v) {
					add(r, i+1, v)
				}
			}
		}
		var decomposed mat.SVD
		design := mat.NewDense(count, columns, rows)
		if !decomposed.Factorize(design, mat.SVDThin) {
			t.Fatal("no decomposition")
		}
		rank := decomposed.Rank(1e-9)
		var solved, fitted mat.Dense
		decomposed.SolveTo(&solved, mat.NewDense(count, 1, values), rank)
		fitted.Mul(design, &solved)
		sum := 0.0
		for i, v := range values {
			sum += (v - fitted.At(i, 0)) * (v - fitted.At(i, 0))
		}
		variance, freedom := left(scaled, make([]bool, others))
		want := float64(count - rank)
		if want < 1 {
			continue
		}
		if freedom != want || math.Abs(variance-sum/want) > 1e-9*sum/want+1e-15 {
			t.Errorf("%d rounds of %d: left %g with %g degrees of freedom, by regression %g with %g", rounds, others, variance, freedom, sum/want, want)
		}
	}
}

// In experiments without any effect a single better or worse appears in at most one of
// twenty, also where one of the values scatters four times as much as the others; and the
// intervals hold the truth as often as they say.
func TestRoundsWithoutAnEffectShowNone(t *testing.T) {
	for name, wild := range map[string]float64{"alike": 1, "one scatters more": 4} {
		t.Run(name, func(t *testing.T) {
			random := rand.New(rand.NewPCG(3, 4))
			const experiments, others = 2000, 12
			wrong, held, intervals := 0, 0, 0
			scatter := alike(others+1, 0.04)
			scatter[5] *= wild
			for range experiments {
				ratios := CompareRounds(drawn(random, 5, 3, alike(others, 0), scatter), 0.01)
				decided := make([]Decided, others)
				for i := range ratios {
					decided[i] = Decided{Ratio: &ratios[i], Main: true}
					if intervals++; ratios[i].Low <= 1 && ratios[i].High >= 1 {
						held++
					}
				}
				Decide(decided, 0.01)
				for _, r := range ratios {
					if r.Verdict == Better || r.Verdict == Worse {
						wrong++
						break
					}
				}
			}
			if share := float64(wrong) / experiments; share > 0.06 {
				t.Errorf("%.1f %% of experiments without an effect show one", 100*share)
			}
			if share := float64(held) / float64(intervals); share < 0.94 || share > 0.98 {
				t.Errorf("%.1f %% of intervals hold the truth", 100*share)
			}
		})
	}
}

func TestRoundsShowWhatThereIs(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	effects := []float64{0, math.Log(1.2), math.Log(0.8), 0}
	ratios := CompareRounds(drawn(random, 6, 2, effects, alike(5, 0.01)), 0.05)
	decided := make([]Decided, len(ratios))
	for i := range ratios {
		decided[i] = Decided{Ratio: &ratios[i], Main: true}
	}
	Decide(decided, 0.05)
	for i, want := range []Verdict{Same, Better, Worse, Same} {
		if ratios[i].Verdict != want || math.Abs(math.Log(ratios[i].Value)-effects[i]) > 0.03 {
			t.Errorf("an effect of %.2f: %+v", math.Exp(effects[i]), ratios[i])
		}
	}
}

func TestRoundsThatLackMuch(t *testing.T) {
	none := math.NaN()
	for name, c := range map[string]struct {
		rounds []Round
		want   Verdict
	}{
		"no baseline":          {[]Round{{Others: []float64{3}}, {Others: []float64{4}}}, Missing},
		"no value":             {[]Round{{Baseline: []float64{3, 4}, Others: []float64{none}}}, Missing},
		"one of each":          {[]Round{{Baseline: []float64{3}, Others: []float64{4}}}, Hint},
		"what is not a number": {[]Round{{Baseline: []float64{3}, Others: []float64{math.Inf(1)}}}, Missing},
	} {
		if got := CompareRounds(c.rounds, 0.05); len(got) != 1 || got[0].Verdict != c.want {
			t.Errorf("%s: %+v", name, got)
		}
	}
	// A share of late pieces may be none at all in the baseline.
	zero := CompareRounds([]Round{{[]float64{0, 0}, []float64{0.1}}, {[]float64{0, 0}, []float64{0.12}}, {[]float64{0, 0}, []float64{0.11}}}, 0.05)
	if zero[0].Verdict != "" || !zero[0].Linear || zero[0].Alone > 0.01 {
		t.Errorf("from nothing: %+v", zero[0])
	}
}

func TestTrendOf(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	shown := 0
	for range 1000 {
		values := make([]float64, 12)
		for i := range values {
			values[i] = 100 * math.Exp(0.02*random.NormFloat64())
		}
		if TrendOf(values).Shown {
			shown++
		}
	}
	if shown < 30 || shown > 70 { // of a thousand, at 5 %
		t.Errorf("a drift is shown in %d of 1000 without one", shown)
	}
	values := make([]float64, 11)
	for i := range values {
		values[i] = 100 * math.Pow(1.2, float64(i)/10)
	}
	if d := TrendOf(values); !d.Shown || math.Abs(float64(d.Share)-0.2) > 1e-9 {
		t.Errorf("20 %% higher at the end: %+v", d)
	}
}
