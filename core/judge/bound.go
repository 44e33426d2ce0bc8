package judge

import (
	"math"

	"gonum.org/v1/gonum/stat"
)

// Outcome says how what was measured stands to what is asked.
type Outcome string

// The outcomes.
const (
	Meets       Outcome = "meets"
	FallsShort  Outcome = "falls short"
	Undecided   Outcome = "not shown"    // the interval lies across what is asked, or there is none
	NotMeasured Outcome = "not measured" // or not known
)

// Mean is what a side reaches if it is measured again: the mean of its values, the
// geometric one unless a value is zero, with Student's interval, to which the spread from
// run to run adds with the freedom it is known with (Satterthwaite 1946). The interval is
// not known of a single value, nor of values that are no numbers.
func (r Repetition) Mean() Mean {
	if len(r.Values) == 0 || !finite(r.Values) {
		return Mean{}
	}
	values, logarithmic := logs(r.Values)
	scale := 1.0
	if !logarithmic {
		if scale = average(r.Values); scale == 0 {
			return Mean{Known: len(r.Values) > 1} // nothing in any of them
		}
		values = scaled(r.Values, scale)
	}
	back := func(v float64) float64 {
		if logarithmic {
			return math.Exp(v)
		}
		return max(v*scale, 0)
	}
	mean, deviation := stat.MeanStdDev(values, nil)
	m := Mean{Mean: back(mean)}
	if len(values) < 2 {
		return m
	}
	n := float64(len(values))
	var sum pooled
	sum.add(deviation*deviation/n, n-1)
	spread := r.Spread.over(r.Runs)
	sum.add(spread.Deviation*spread.Deviation, spread.Freedom)
	freedom := n - 1
	if sum.doubt > 0 {
		freedom = sum.freedom()
	}
	half := quantile(freedom) * math.Sqrt(sum.variance)
	m.Low, m.High, m.Known = back(mean-half), back(mean+half), true
	return m
}

// Against says how a mean stands to a bound: most is the largest value that is allowed,
// otherwise the bound is the least. It is decided when the whole interval lies on one side.
func (e Mean) Against(bound float64, most bool) Outcome {
	low, high := e.Low, e.High
	if most { // the other way round
		low, high, bound = -high, -low, -bound
	}
	switch {
	case !e.Known:
		return Undecided
	case low >= bound:
		return Meets
	case high < bound:
		return FallsShort
	}
	return Undecided
}

// BetweenRuns is half of the 95 % interval, as a logarithm, that the spread from run to run
// alone gives what a side reaches; 0 where its values show that by themselves.
func (r Repetition) BetweenRuns() float64 {
	s := r.Spread.over(r.Runs)
	if !(s.Deviation > 0) {
		return 0
	}
	return quantile(s.Freedom) * s.Deviation
}
