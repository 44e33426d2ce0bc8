package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"patientheron/test/trials"
	"slices"
	"strings"
	"sync"
	"testing"
)

// Student (1908), the hours of sleep that two drugs brought ten patients: the mean of the
// differences is 1.58 hours, t = 4.062 with 9 degrees of freedom, p = 0.00283.
func TestPairsOfStudent(t *testing.T) {
	first := []float64{0.7, -1.6, -0.2, -1.2, -0.1, 3.4, 3.7, 0.8, 0.0, 2.0}
	second := []float64{1.9, 0.8, 1.1, 0.1, -0.1, 4.4, 5.5, 1.6, 4.6, 3.4}
	for i := range first { // hours become logarithms
		first[i], second[i] = math.Exp(first[i]), math.Exp(second[i])
	}
	r := ComparePairs(repeats(first...), repeats(second...), 0.05)
	if math.Abs(math.Log(r.Value)-1.58) > 1e-9 || math.Abs(r.Chance-0.00283) > 0.00001 || r.Freedom != 9 || r.Pairs != 10 {
		t.Errorf("%+v, log of the ratio %.3f", r, math.Log(r.Value))
	}
	// 95 %: 1.58 ± 2.262 × 0.389.
	if low, high := math.Log(r.Low), math.Log(r.High); math.Abs(low-0.70) > 0.005 || math.Abs(high-2.46) > 0.005 {
		t.Errorf("from %.3f to %.3f", low, high)
	}
}

func TestPairsAtTheirEdges(t *testing.T) {
	decide := func(a, b []float64) Ratio {
		return alone(ComparePairs(repeats(a...), repeats(b...), 0.05), 0.05, false)
	}
	for name, c := range map[string]struct {
		a, b []float64
		want Verdict
	}{
		"one pair":           {[]float64{1}, []float64{2}, Hint},
		"nothing moved":      {[]float64{0, 0}, []float64{0, 0}, Same},
		"dead":               {[]float64{5, 6, 5}, []float64{0, 0, 0}, Worse},
		"from nothing":       {[]float64{0, 0, 0}, []float64{5, 5, 5}, Better},
		"none":               {nil, nil, Missing},
		"itself":             {[]float64{5, 50, 500}, []float64{5, 50, 500}, Same},
		"a tenth, each time": {[]float64{5, 50, 500}, []float64{5.5, 55.1, 549}, Better},
		"up and down":        {[]float64{5, 5, 5}, []float64{7, 4, 6}, NotShown},
	} {
		if r := decide(c.a, c.b); r.Verdict != c.want {
			t.Errorf("%s: %+v, want %s", name, r, c.want)
		}
	}
	// What no pair shows widens the interval, and is known with a freedom of its own.
	narrow := ComparePairs(repeats(10, 11, 12, 10), repeats(10, 11, 12, 10.01), 0.05)
	spread := Spread{0.03, 1000}
	wide := ComparePairs(Repetition{[]float64{10, 11, 12, 10}, 1, spread}, Repetition{[]float64{10, 11, 12, 10.01}, 1, spread}, 0.05)
	if half := 1.96 * 0.03 * math.Sqrt2; narrow.Half() > 0.01 || math.Abs(wide.Half()-half) > half*0.02 {
		t.Errorf("halves %g and %g, want %g", narrow.Half(), wide.Half(), half)
	}
}

// How often measurements in turn say better or worse where there is no difference, or the
// same where there is one of 10 %, and what they gain, when what they are made on drifts:
// beside repeats of one made after those of the other.
func TestTruthOfPairs(t *testing.T) {
	tries := trials.Number(800)
	table := []string{"| what drifts meanwhile | pairs | in turn: false better or worse | the same, of 10 % | 10 % found | intervals as wide without the pairs | one after the other: false better or worse |", "|---|---|---|---|---|---|---|"}
	for _, drift := range []struct {
		name string
		at   func(*rand.Rand, int) []float64
	}{
		{"nothing", func(_ *rand.Rand, n int) []float64 { return make([]float64, n) }},
		{"waves of 5 %", func(random *rand.Rand, n int) []float64 {
			values := sticky(random, n, 0.9)
			for i := range values {
				values[i] *= 0.05
			}
			return values
		}},
		{"waves of 40 %", func(random *rand.Rand, n int) []float64 {
			values := sticky(random, n, 0.9)
			for i := range values {
				values[i] *= 0.4
			}
			return values
		}},
		{"20 % down, steadily", func(_ *rand.Rand, n int) []float64 {
			values := make([]float64, n)
			for i := range values {
				values[i] = -0.2 * float64(i) / float64(n)
			}
			return values
		}},
		{"a step of 20 %", func(random *rand.Rand, n int) []float64 {
			values := make([]float64, n)
			for i := random.IntN(n); i < n; i++ {
				values[i] = 0.2
			}
			return values
		}},
	} {
		for _, pairs := range []int{3, 5, 10} {
			var narrower []float64
			var lock sync.Mutex
			counts := each(tries, uint64(pairs)*7, func(random *rand.Rand, add func(string)) {
				turns := func(gain float64) Ratio {
					at := drift.at(random, 2*pairs)
					a, b := make([]float64, pairs), make([]float64, pairs)
					for i := range pairs { // A B, B A, A B: as the runner makes them
						first, second := at[2*i], at[2*i+1]
						if i%2 == 1 {
							first, second = second, first
						}
						a[i] = 1000 * math.Exp(first+0.01*random.NormFloat64())
						b[i] = gain * 1000 * math.Exp(second+0.01*random.NormFloat64())
					}
					r := alone(ComparePairs(repeats(a...), repeats(b...), 0.05), 0.05, false)
					lock.Lock()
					narrower = append(narrower, Compare(repeats(a...), repeats(b...), 0.05).Half()/r.Half())
					lock.Unlock()
					return r
				}
				if v := turns(1).Verdict; v == Better || v == Worse {
					add("false")
				}
				switch turns(1.1).Verdict {
				case Same:
					add("same")
				case Better:
					add("found")
				}
				var after [2][]float64
				for i, level := range drift.at(random, 2*pairs) {
					after[i/pairs] = append(after[i/pairs], math.Exp(level+0.01*random.NormFloat64()))
				}
				if v := alone(Compare(repeats(after[0]...), repeats(after[1]...), 0.05), 0.05, false).Verdict; v == Better || v == Worse {
					add("false after")
				}
			})
			slices.Sort(narrower)
			name := fmt.Sprintf("%s, %d pairs: ", drift.name, pairs)
			atMost(t, name+"false", counts["false"], tries, 0.05)
			atMost(t, name+"the same where there is 10 %", counts["same"], tries, 0.05)
			if drift.name == "nothing" && pairs >= 5 {
				atMost(t, name+"10 % not found", tries-counts["found"], tries, 0.05)
			}
			table = append(table, fmt.Sprintf("| %s | %d | %s | %s | %s | %.1f | %s |", drift.name, pairs, percent(counts["false"], tries), percent(counts["same"], tries), percent(counts["found"], tries), narrower[len(narrower)/2], percent(counts["false after"], tries)))
		}
	}
	t.Logf("pairs, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}
