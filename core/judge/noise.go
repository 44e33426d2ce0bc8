package judge

import (
	"math"

	"gonum.org/v1/gonum/stat"
)

// noise is what values that follow each other in time vary by where their level
// stands still: an autoregressive process of the first order.
type noise struct {
	step   float64 // standard deviation of what is new in each value
	sticks float64 // autocorrelation from one value to the next, an upper estimate
}

// longRun is the standard deviation that values without memory would need for
// means as uncertain as those of these values.
func (n noise) longRun() float64 { return n.step / (1 - n.sticks) }

// worth is how many values without memory so many of these are worth.
func (n noise) worth(values int) float64 {
	return float64(values) * (1 - n.sticks) / (1 + n.sticks)
}

// mostSticky is the most that an autocorrelation is taken for: beyond it a series
// is a walk. stickyMargin is by how many standard errors it is taken higher than it
// was found: too little of it finds changes that are none, too much finds none.
const (
	mostSticky   = 0.98
	stickyMargin = 1.3
)

// noiseOf estimates the noise of values from what is left of them when the mean of
// each piece is taken away; bounds are where the pieces begin, and the end. What is
// left resembles itself less than the noise does, the more so the more means were
// taken: about by (1 + 3 φ) ÷ n for each of them (Kendall 1954). The noise is at
// least floor, for counts that cannot vary by less.
func noiseOf(values []float64, bounds []int, floor float64) noise {
	rest := residuals(values, bounds)
	n, pieces := float64(len(rest)), float64(len(bounds)-1)
	if n <= 3*pieces+2 {
		return noise{math.Inf(1), 0}
	}
	squares, products := 0.0, 0.0
	for i, r := range rest {
		squares += r * r
		if i > 0 {
			products += rest[i-1] * r
		}
	}
	if squares <= n*floor*floor {
		return noise{floor, 0}
	}
	sticks := (products/squares + pieces/n) / (1 - 3*pieces/n)
	sticks += stickyMargin * math.Sqrt(max(1-sticks*sticks, 0.1)/n)
	sticks = min(max(sticks, 0), mostSticky)
	fresh := 0.0
	for i := 1; i < len(rest); i++ {
		d := rest[i] - sticks*rest[i-1]
		fresh += d * d
	}
	return noise{max(math.Sqrt(fresh/(n-1-pieces)), floor), sticks}
}

// residuals are the values less the mean of their piece.
func residuals(values []float64, bounds []int) []float64 {
	rest := make([]float64, 0, len(values))
	for p := range len(bounds) - 1 {
		piece := values[bounds[p]:bounds[p+1]]
		mean := average(piece)
		for _, v := range piece {
			rest = append(rest, v-mean)
		}
	}
	return rest
}

// average is the mean, 0 of nothing.
func average(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	return stat.Mean(values, nil)
}
