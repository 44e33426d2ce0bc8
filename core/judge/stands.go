package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// cutting is a series cut into pieces, and whether the last one stood still.
type cutting struct {
	bounds []int
	state  measure.State
	drift  *measure.Drift
}

func cutUp(level []float64, floor float64) cutting {
	c := cutting{bounds: withoutRamps(level, withoutSlope(level, pieces(level, floor), floor)), state: measure.NotKnown}
	c.bounds = withoutTails(level, c.bounds, floor)
	if len(level) < leastKnown {
		return c
	}
	last := level[c.bounds[len(c.bounds)-2]:]
	drift, stood, moved := stands(last, floor, driftLimit)
	c.drift = drift
	if !stood && drift != nil && (drift.Low > 0 || drift.High < 0) && len(last) >= leastKnown {
		if at, drift := leveled(last, floor); at > 0 {
			c.bounds = slices.Insert(c.bounds, len(c.bounds)-1, c.bounds[len(c.bounds)-2]+at)
			c.bounds = withoutRamps(level, c.bounds)
			c.state, c.drift = measure.Steady, drift
			return c
		}
	}
	switch {
	case moved, comesBack(level, c.bounds), len(last) < leastLast, float64(len(last)) < lastShare*float64(len(level)):
		c.state = measure.NotSteady
	case stood:
		c.state = measure.Steady
	}
	return c
}

// stands tells of one piece whether it stood still: stood when neither a step nor a
// drift that matters may hide in it, moved when it rose or fell. Neither is said when
// it is worth too few independent values.
func stands(values []float64, floor, limit float64) (drift *measure.Drift, stood, moved bool) {
	n := float64(len(values))
	mean := average(values)
	switch {
	case mean <= 0: // nothing moves any more
		return nil, false, true
	case n < 2*stepParts:
		return nil, false, false
	}
	slope, rest := line(values)
	around := noiseOf(rest, []int{0, len(rest)}, floor)
	worth := max(around.worth(len(values))-1, 4)
	// However much values stick, noise that hides a step must show as noise: none
	// of its means is further off than three times what the values vary by.
	most := 3 * stat.StdDev(rest, nil) / mean
	deviation := around.longRun() / mean
	// The slope over all values has a standard error of √12 times that of the mean.
	share, its := slope*n/mean, min(deviation*math.Sqrt(12/n), most)
	half := quantile(worth) * its
	drift = &measure.Drift{Share: quantity.Share(share), Low: quantity.Share(share - half), High: quantity.Share(share + half)}
	oneSided := quantileOf(worth, 0.95)
	moved = math.Abs(share) >= leastChange && math.Abs(share) > quantileOf(worth, 0.999)*its
	stood = math.Abs(share)+oneSided*its < limit
	before, part := 0.0, len(values)/stepParts
	for i, v := range values {
		if i >= part && i <= len(values)-part {
			left, right := before/float64(i), (mean*n-before)/(n-float64(i))
			step := math.Abs(left-right) / max(left, right)
			stood = stood && step+oneSided*min(deviation*math.Sqrt(1/float64(i)+1/(n-float64(i))), most) < stepLimit
		}
		before += v
	}
	return drift, stood && !moved, moved
}

// leveled is from where on the last piece of a series stood still although all of it
// did not: what glides to its level has no step. A drift over what is left is held
// against the limit for as long a part of a drift over all.
func leveled(values []float64, floor float64) (at int, drift *measure.Drift) {
	for eighths := 2; eighths <= 4; eighths++ {
		at := len(values) * eighths / 8
		left := float64(len(values)-at) / float64(len(values))
		before, after := average(values[:at]), average(values[at:])
		if drift, stood, _ := stands(values[at:], floor, driftLimit*left); stood && apart(before, after) > driftLimit/4 {
			return at, drift
		}
	}
	return 0, nil
}

// withoutRamps takes away the cuts between short pieces before the last, each lower
// than the one before, or each higher: a level that glides looks like many steps.
func withoutRamps(values []float64, bounds []int) []int {
	level := func(p int) float64 { return average(values[bounds[p]:bounds[p+1]]) }
	short := func(p int) bool { return bounds[p+1]-bounds[p] < len(values)/8 }
	for p := 1; p < len(bounds)-2; {
		if short(p-1) && short(p) && (level(p) < level(p-1)) == (level(p+1) < level(p)) {
			bounds = slices.Delete(bounds, p, p+1)
			continue
		}
		p++
	}
	return bounds
}

// withoutSlope takes a cut before the last piece away as long as a straight line
// over it and the piece before leaves squares about as small as the two levels: what
// drifts looks like steps, too. The levels have to be better by slopeGain times the
// variance of the noise.
func withoutSlope(values []float64, bounds []int, floor float64) []int {
	for len(bounds) > 2 {
		from, at := bounds[len(bounds)-3], bounds[len(bounds)-2]
		both, levels := values[from:], []int{0, at - from, len(values) - from}
		_, sloped := line(both)
		noise := noiseOf(both, levels, floor).longRun()
		if squares(sloped) > squares(residuals(both, levels))+slopeGain*noise*noise {
			break
		}
		bounds = slices.Delete(bounds, len(bounds)-2, len(bounds)-1)
	}
	return bounds
}

// withoutTails takes away the cuts that a few values far from the rest make: the values on
// both sides have to differ as a whole, by their ranks (Mann and Whitney 1947), beyond what
// the best of all places for a cut gives by chance; or, where one side is too short for that,
// by more than a quarter with no value of one side among the other.
func withoutTails(values []float64, bounds []int, floor float64) []int {
	around := noiseOf(values, bounds, floor)
	independent := around.worth(len(values)) / float64(len(values))
	limit := math.Sqrt(2*math.Log(float64(len(values)))) + 1
	for p := 1; p < len(bounds)-1; {
		a, b := values[bounds[p-1]:bounds[p]], values[bounds[p]:bounds[p+1]]
		above, errors := ranked(a, b)
		clear := (above == 0 || above == 1) && apart(median(a), median(b)) >= 0.25
		if !clear && math.Abs(errors)*math.Sqrt(independent) < limit {
			bounds = slices.Delete(bounds, p, p+1)
			p = max(p-1, 1)
			continue
		}
		p++
	}
	return bounds
}

// ranked compares two samples by their ranks: the share of pairs in which the value of the
// first is the higher one, and by how many standard errors that is off a half.
func ranked(a, b []float64) (above, errors float64) {
	first, second := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
	n, m := float64(len(a)), float64(len(b))
	sum, below, same := 0.0, 0, 0
	for _, v := range first {
		for below < len(second) && second[below] < v {
			below++
		}
		for same = max(same, below); same < len(second) && second[same] == v; same++ {
		}
		sum += float64(below) + float64(same-below)/2
	}
	return sum / (n * m), (sum - n*m/2) / math.Sqrt(n*m*(n+m+1)/12)
}

// comesBack reports a last level that was there before, for a tenth of the time, and was left
// in between: it goes up and down, and which of both lasts is not known.
func comesBack(values []float64, bounds []int) bool {
	level := func(p int) float64 { return average(values[bounds[p]:bounds[p+1]]) }
	last := len(bounds) - 2
	for p := range last - 1 {
		if (bounds[p+1]-bounds[p])*10 >= len(values) && apart(level(p), level(last)) < leastChange {
			return true
		}
	}
	return false
}

func squares(values []float64) (sum float64) {
	for _, v := range values {
		sum += v * v
	}
	return sum
}

// line fits a straight line and gives its slope per value, and what is left.
func line(values []float64) (slope float64, rest []float64) {
	n := float64(len(values))
	middle, mean := (n-1)/2, average(values)
	products, squares := 0.0, 0.0
	for i, v := range values {
		x := float64(i) - middle
		products += x * (v - mean)
		squares += x * x
	}
	slope = products / max(squares, 1)
	rest = make([]float64, len(values))
	for i, v := range values {
		rest[i] = v - mean - slope*(float64(i)-middle)
	}
	return slope, rest
}
