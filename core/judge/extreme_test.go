package judge

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// seriesOf are intervals of a second with so many operations each, at a depth of eight.
func seriesOf(counts []float64) (series []measure.Interval, paces []measure.Pace) {
	for i, c := range counts {
		n := int64(min(c, 1e15))
		flow := measure.Flow{Operations: n, Bytes: quantity.Bytes(min(n, 1<<50) * 4096)}
		interval := measure.Interval{Index: i, Start: quantity.Seconds(i), Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: flow}, InFlight: 8}
		series = append(series, interval)
		pace := interval.Pace()
		pace.Waited = quantity.Seconds(8)
		paces = append(paces, pace)
	}
	return series, paces
}

// Whatever a series is like, it is judged: constant, almost constant, huge, tiny, empty.
func TestAnySeriesIsJudged(t *testing.T) {
	shapes := map[string]func(i, n int, level float64, r *rand.Rand) float64{
		"constant":            func(_, _ int, level float64, _ *rand.Rand) float64 { return level },
		"one more in the end": func(i, n int, level float64, _ *rand.Rand) float64 { return level + float64((i+1)/n) },
		"one more here and there": func(_, _ int, level float64, r *rand.Rand) float64 {
			return level + float64(r.IntN(20)/19)
		},
		"two in turn":          func(i, _ int, level float64, _ *rand.Rand) float64 { return level * float64(1+i%2) },
		"nothing in turn":      func(i, _ int, level float64, _ *rand.Rand) float64 { return level * float64(i%2) },
		"a slope":              func(i, n int, level float64, _ *rand.Rand) float64 { return level * float64(i) / float64(n) },
		"nothing but the last": func(i, n int, level float64, _ *rand.Rand) float64 { return level * float64((i+1)/n) },
		"nothing but the first": func(i, _ int, level float64, _ *rand.Rand) float64 {
			return level * float64(1/(i+1))
		},
		"all sizes": func(_, _ int, level float64, r *rand.Rand) float64 { return level * math.Exp(10*r.NormFloat64()) },
	}
	loads := map[string]workload.Spec{}
	for name, change := range map[string]func(*workload.Spec){
		"for a time": func(s *workload.Spec) { s.For = 60 }, "until settled": func(s *workload.Spec) { s.Steady, s.For = true, 60 },
		"until known": func(s *workload.Spec) { s.Margin, s.For = 0.01, 60 }, "at a rate": func(s *workload.Spec) { s.Rate, s.For = 1000, 60 },
	} {
		s := workload.Default()
		change(&s)
		loads[name] = s.Completed()
	}
	random := rand.New(rand.NewPCG(1, 2))
	for name, shape := range shapes {
		for _, n := range []int{0, 1, 2, 3, 4, 5, 9, 30, 60, 61, 300} {
			for _, level := range []float64{0, 1, 2, 166, 52_000, 3e6, 1e12, 1e15} {
				counts := make([]float64, n)
				for i := range counts {
					counts[i] = shape(i, n, level, random)
				}
				series, paces := seriesOf(counts)
				for ending, load := range loads {
					judged := func(what string, judge func()) {
						defer func() {
							if failed := recover(); failed != nil {
								t.Errorf("%s of %d intervals of %g that is %s, %s: %v", what, n, level, name, ending, failed)
							}
						}()
						judge()
					}
					judged("a watch", func() {
						for _, last := range []bool{false, true} {
							if stand := Watch(load)(paces, last); stand.Cut < 0 || stand.Cut > n {
								t.Errorf("%d of %d intervals are cut off", stand.Cut, n)
							}
						}
					})
					judged("findings", func() {
						phases, _ := Phases(load, paces)
						sum := measure.Summary{Measured: quantity.Seconds(n), Phases: &phases, Steadiness: Steadiness(series)}
						Findings(Observed{Load: load, Summary: sum, Series: series})
					})
				}
				if n > 0 {
					repeats := make([]float64, min(n, 9))
					for i := range repeats {
						repeats[i] = shape(i, len(repeats), level, random)
					}
					judged := map[string]func(){
						"trend": func() { TrendOf(repeats) }, "repeats": func() { Repeats(repeats) }, "odd": func() { Odd(repeats) }, "passes": func() { PassesOf(repeats, 0.05) },
						"mean": func() { MeanOfRepeats(repeats); MeanOfSeries(counts) },
						"comparison": func() {
							for _, other := range [][]float64{repeats, repeats[:1], {0, 0, 0}, {1e300, 1e300}} {
								Compare(Repetition{Values: repeats}, Repetition{Values: other}, 0.05)
							}
							turned := slices.Clone(repeats)
							slices.Reverse(turned)
							ComparePairs(Repetition{Values: repeats}, Repetition{Values: repeats}, 0.05)
							ComparePairs(Repetition{Values: repeats}, Repetition{Values: turned}, 0.05)
						},
						"scaling": func() {
							var spots []Spot
							for i, v := range repeats {
								spots = append(spots, Spot{At: float64(i), Rate: v, Latency: v})
							}
							FitScaling(spots)
							Knee(spots)
						},
					}
					for what, judge := range judged {
						func() {
							defer func() {
								if failed := recover(); failed != nil {
									t.Errorf("%s of %v: %v", what, repeats, failed)
								}
							}()
							judge()
						}()
					}
				}
			}
		}
	}
}

// Where values are the same but for rounding, sums of squares are off by less than nothing.
func TestRoundingIsNoChange(t *testing.T) {
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 1))
		level := []float64{0.1, 1, 166, 5e4, 1.66e8, 1048576 * 632}[r.IntN(6)]
		values := make([]float64, 20+r.IntN(80))
		for i := range values {
			values[i] = level * (1 + 1e-15*float64(r.IntN(3)))
		}
		for _, floor := range []float64{0, 1e-9, 1, level} {
			if bounds := changes(values, floor); floor == level && len(bounds) != 2 {
				t.Fatalf("seed %d: changes of %g are seen at %v", seed, level, bounds)
			}
		}
	}
}
