package judge

import (
	"gonum.org/v1/gonum/stat"

	"patientheron/core/quantity"
)

// InPlace is by how much a run differs from another of the same on real storage by what
// stays throughout it, such as where its test file lies: no pair shows that, whereas what the
// machine does meanwhile falls on both (docs/judgement.md).
const InPlace = 0.01

// ComparePairs gives the ratio of repeats that were made in pairs, in turn or at the same
// moment, so that what drifts or disturbs falls on both of a pair: by the differences of
// their logarithms (Student 1908). Value i of one side belongs to value i of the other.
// The spread of each side is what no pair shows; it adds as in Compare. Where a value is
// zero, shares of the baseline's mean are subtracted instead.
func ComparePairs(baseline, candidate Repetition, noise quantity.Share) Ratio {
	r, a, b := ratioOf(baseline.Values, candidate.Values)
	if r.Verdict == Missing || r.Verdict == Same {
		return r
	}
	r.Pairs = len(a)
	if r.Verdict != "" {
		return r
	}
	differences := make([]float64, len(a))
	for i := range a {
		differences[i] = b[i] - a[i]
	}
	found := pooled{}
	found.add(stat.Variance(differences, nil)/float64(len(a)), float64(len(a)-1))
	for _, side := range []Repetition{baseline, candidate} {
		spread := side.Spread.over(side.Runs)
		found.add(spread.Deviation*spread.Deviation, spread.Freedom)
	}
	r.Freedom = float64(len(a) - 1)
	if found.doubt > 0 {
		r.Freedom = found.freedom()
	}
	return r.known(found.variance, noise)
}

// Half is the half of the interval, as a difference of logarithms.
func (r Ratio) Half() float64 {
	if !r.Known() {
		return 0
	}
	return quantile(r.Freedom) * r.Deviation
}
