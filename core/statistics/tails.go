// Package statistics holds what is known of chance: numbers in, numbers out, and nothing of
// storage.
//
// The tails of distributions here take any number. Rounding turns a difference of sums of
// squares that is nothing into one a little below nothing, and a deviation of nothing into a
// division by it; a library that panics there ends whatever it is part of.
package statistics

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// FTail is the chance that a ratio of two estimates of the same variance, with so many
// degrees of freedom above and below, is at least ratio (Fisher's F distribution). Where there
// is nothing to be told it is 1.
func FTail(ratio, above, below float64) float64 {
	if !(above > 0) || !(below > 0) || !(ratio > 0) {
		return 1
	}
	return chance(distuv.F{D1: min(above, most), D2: min(below, most)}.Survival(min(ratio, largest)))
}

// StudentTail is the chance that a value of Student's distribution is at least t. With less
// than one degree of freedom it is that with one.
func StudentTail(t, freedom float64) float64 {
	switch {
	case math.IsNaN(t):
		return 1
	case math.IsInf(t, 0):
		return map[bool]float64{true: 0, false: 1}[t > 0]
	}
	return chance(student(freedom).Survival(t))
}

// StudentBelow is the chance that a value of Student's distribution is below t.
func StudentBelow(t, freedom float64) float64 { return StudentTail(-t, freedom) }

// StudentQuantile is the value of Student's distribution that a share of all is below. The
// share lies between 0 and 1; at these it is infinite.
func StudentQuantile(share, freedom float64) float64 {
	switch {
	case !(share > 0):
		return math.Inf(-1)
	case share >= 1:
		return math.Inf(1)
	}
	return student(freedom).Quantile(share)
}

// PoissonBelow is the chance that of something that happens usually so often, so much or
// less happens (Poisson's distribution).
func PoissonBelow(count, usually float64) float64 {
	switch {
	case math.IsNaN(count) || math.IsNaN(usually) || math.IsInf(count, 1) || usually <= 0:
		return 1
	case count < 0:
		return 0
	case usually > normalFrom:
		// It is near enough to the normal distribution, with half a step added.
		return chance(distuv.UnitNormal.CDF((count + 0.5 - usually) / math.Sqrt(usually)))
	}
	return chance(distuv.Poisson{Lambda: usually}.CDF(count))
}

const (
	// most is how many degrees of freedom count: more make no difference.
	most = 1e9
	// largest is a ratio that can still be multiplied with them.
	largest = 1e290
	// normalFrom is from where on Poisson's distribution is taken for the normal one: it
	// differs by less than 1 in 10,000 there (Berry and Esseen: 0.5/√λ at most).
	normalFrom = 1e8
)

func student(freedom float64) distuv.StudentsT {
	if !(freedom > 1) {
		freedom = 1
	}
	return distuv.StudentsT{Sigma: 1, Nu: min(freedom, most)}
}

// chance is a probability that rounding did not carry out of its bounds.
func chance(p float64) float64 {
	if math.IsNaN(p) {
		return 1
	}
	return min(max(p, 0), 1)
}
