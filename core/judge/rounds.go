package judge

import (
	"math"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/quantity"
	"patientheron/core/statistics"
)

// Round is what one round of an experiment measured: the baseline some times, and each of
// several others once; NaN where there is no value.
type Round struct {
	Baseline []float64
	Others   []float64
}

// CompareRounds gives the ratio of each of the others to the baseline, of rounds in which
// each was measured in shuffled order, so that what drifts from round to round falls on
// all of them alike (a randomised block design: Fisher 1935). The error is what is left
// when values have an effect of their round and of what was measured, over all of them
// together; one that scatters clearly more than the rest is held to its own, and the rest
// to what they leave without it. Verdicts are left to Decide. Where a value is zero, shares
// of the baseline's mean are subtracted instead of logarithms.
func CompareRounds(rounds []Round, noise quantity.Share) []Ratio {
	if len(rounds) == 0 {
		return nil
	}
	ratios := make([]Ratio, len(rounds[0].Others))
	for i := range ratios {
		ratios[i] = Ratio{Verdict: Missing, Chance: 1, equal: 1}
	}
	logged, linear, fromNothing := scale(rounds)
	if logged == nil {
		return ratios
	}
	differences := make([][]float64, len(ratios))
	perBaseline := make([]float64, len(ratios)) // the sum of one over the baselines of its rounds
	for _, round := range logged {
		for i, v := range round.Others {
			if n := len(round.Baseline); n > 0 && !math.IsNaN(v) {
				differences[i] = append(differences[i], v-stat.Mean(round.Baseline, nil))
				perBaseline[i] += 1 / float64(n)
			}
		}
	}
	// Of the mean of n differences, each with the error of its own value and that of the
	// mean of the baselines of its round.
	ofMean := func(variance float64, i int) float64 {
		n := float64(len(differences[i]))
		return variance * (n + perBaseline[i]) / (n * n)
	}
	variance, freedom := left(logged, make([]bool, len(ratios)))
	// Those that scatter more are held to their own at the least sign of it, and left out of
	// what is held against the rest only where it is plain: to leave out what scatters the
	// most by chance would make the rest look better than it is.
	wild, plainly := make([]bool, len(ratios)), make([]bool, len(ratios))
	for i, d := range differences {
		n := float64(len(d))
		if n < 2 || freedom < 1 {
			continue
		}
		chance := statistics.FTail(stat.Variance(d, nil)/n/ofMean(variance, i), n-1, freedom)
		wild[i], plainly[i] = chance < signOfWild, chance < plainlyWild
	}
	if of, with := left(logged, plainly); with >= 1 {
		variance, freedom = of, with
	}
	for i, d := range differences {
		n := float64(len(d))
		if n == 0 {
			continue
		}
		r := Ratio{Chance: 1, equal: 1, Linear: linear, fromNothing: fromNothing, difference: stat.Mean(d, nil)}
		if r.Value = r.back(r.difference); fromNothing {
			r.Value = 0
		}
		switch {
		case freedom < 1:
			r.Verdict = Hint
		case wild[i]:
			r.Freedom = n - 1
			r = r.known(stat.Variance(d, nil)/n, noise)
		default:
			r.Freedom = freedom
			r = r.known(ofMean(variance, i), noise)
		}
		ratios[i] = r
	}
	return ratios
}

// signOfWild and plainlyWild are the chances of scattering as much more than the rest below
// which a value is held to its own, and below which it is left out of the rest.
const (
	signOfWild  = 0.2
	plainlyWild = 0.001
)

// scale puts the values of rounds on a scale on which ratios are differences: logarithms,
// or where a value is zero shares of the baseline's mean. It gives nothing where there is
// no baseline.
func scale(rounds []Round) (scaled []Round, linear, fromNothing bool) {
	var baseline, all []float64
	for _, round := range rounds {
		baseline = append(baseline, given(round.Baseline)...)
		all = append(all, given(round.Others)...)
	}
	if len(baseline) == 0 || !finite(baseline) || !finite(all) {
		return nil, false, false
	}
	all = append(all, baseline...)
	_, positive := logs(all)
	unit := average(baseline)
	fromNothing = unit == 0
	if fromNothing {
		if unit = average(all); unit == 0 {
			unit = 1
		}
	}
	put := func(v float64) float64 {
		if positive {
			return math.Log(v)
		}
		return v / unit
	}
	for _, round := range rounds {
		next := Round{Others: make([]float64, len(round.Others))}
		for _, v := range given(round.Baseline) {
			next.Baseline = append(next.Baseline, put(v))
		}
		for i, v := range round.Others {
			next.Others[i] = put(v)
		}
		scaled = append(scaled, next)
	}
	return scaled, !positive, fromNothing
}

// given are the values without those that are none.
func given(values []float64) (kept []float64) {
	for _, v := range values {
		if !math.IsNaN(v) {
			kept = append(kept, v)
		}
	}
	return kept
}

// left is the variance that is left in rounds when each value has an effect of its round
// and of what was measured, and with how many degrees of freedom. The two are found by
// taking the means of both away in turn until nothing changes, which is least squares, also
// where values are missing. Those that are out are left out.
func left(rounds []Round, out []bool) (variance, freedom float64) {
	type cell struct {
		value       float64
		round, what int // what is 0 for the baseline
	}
	var cells []cell
	for r, round := range rounds {
		for _, v := range round.Baseline {
			cells = append(cells, cell{v, r, 0})
		}
		for i, v := range round.Others {
			if !math.IsNaN(v) && !out[i] {
				cells = append(cells, cell{v, r, i + 1})
			}
		}
	}
	effects := 0
	sweep := func(n int, of func(cell) int) (moved float64) {
		sums, counts := make([]float64, n), make([]float64, n)
		for _, c := range cells {
			sums[of(c)] += c.value
			counts[of(c)]++
		}
		for i := range sums {
			if counts[i] > 0 {
				sums[i] /= counts[i]
				moved = max(moved, math.Abs(sums[i]))
			}
		}
		for i := range cells {
			cells[i].value -= sums[of(cells[i])]
		}
		for _, count := range counts {
			if count > 0 {
				effects++
			}
		}
		return moved
	}
	const most, enough = 200, 1e-12
	for range most {
		effects = 0
		moved := sweep(len(rounds), func(c cell) int { return c.round })
		if moved = max(moved, sweep(len(rounds[0].Others)+1, func(c cell) int { return c.what })); moved < enough {
			break
		}
	}
	sum := 0.0
	for _, c := range cells {
		sum += c.value * c.value
	}
	// One of the effects is the mean of all.
	freedom = float64(len(cells) - effects + 1)
	if freedom < 1 {
		return 0, 0
	}
	return sum / freedom, freedom
}

// Trend is how what stayed the same changed from its first measurement to its last.
type Trend struct {
	Share  quantity.Share `json:"share" doc:"By what share it was higher at the end than at the beginning, on the straight line through all; below zero when it was lower"`
	Chance float64        `json:"chance" doc:"Probability of such a drift if there were none"`
	Shown  bool           `json:"shown" doc:"It is more than chance"`
}

// TrendOf is the drift of values in the order in which they were measured, by the slope
// of their logarithms. It is none for fewer than four, or where a value is zero.
func TrendOf(values []float64) Trend {
	d := Trend{Chance: 1}
	ordinary, positive := logs(values)
	if len(values) < 4 || !positive {
		return d
	}
	slope, rest := line(ordinary)
	n := float64(len(ordinary))
	d.Share = quantity.Share(math.Expm1(slope * (n - 1)))
	deviation := math.Sqrt(squares(rest) / (n - 2) / (n * (n*n - 1) / 12))
	switch {
	case deviation > 0:
		d.Chance = 2 * statistics.StudentTail(math.Abs(slope)/deviation, n-2)
	case slope != 0:
		d.Chance = 0
	}
	d.Shown = d.Chance < level
	return d
}
