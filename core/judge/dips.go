package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// reaches are how many neighbours on each side of an interval say what is usual
// around it: near ones for single dips, far ones for stalls of several intervals.
var reaches = []int{3, 15}

// withoutDips puts in the place of each value that lies far below those around it
// their median: below 60 % of it, and further away than five times 1.4826 times the
// median of all such distances, which chance does not do (Hampel's filter). What is
// low at the start or at the end is no dip: it did not come from, or go back to,
// anything.
func withoutDips(values []float64, paces []measure.Pace) (level []float64, dips []int) {
	level = slices.Clone(values)
	low := make([]bool, len(values))
	for _, reach := range reaches {
		if len(values) < 4*reach {
			break
		}
		middles := runningMedian(level, reach)
		distances := make([]float64, len(level))
		for i, v := range level {
			distances[i] = math.Abs(v - middles[i])
		}
		far := 5 * 1.4826 * median(distances)
		for i, v := range values {
			if !low[i] && v < 0.6*middles[i] && middles[i]-v > far && !byChance(paces[i], v, middles[i]) {
				low[i], level[i] = true, middles[i]
			}
		}
		for from := 0; from < len(low); from++ {
			to := from
			for to < len(low) && low[to] {
				to++
			}
			if from == 0 || to == len(low) || to-from > reach {
				clear(low[from:to])
				copy(level[from:to], values[from:to])
			}
			from = to
		}
	}
	for i, is := range low {
		if is {
			dips = append(dips, i)
		}
	}
	return level, dips
}

// runningMedian is the median of each value and so many on each side, at either end
// of as many values that are there. The window is kept in order from one value to the
// next.
func runningMedian(values []float64, reach int) []float64 {
	size := 2*reach + 1
	middles, window := make([]float64, len(values)), slices.Sorted(slices.Values(values[:size]))
	for i := range values {
		if in := i + reach; i > reach && in < len(values) {
			at, _ := slices.BinarySearch(window, values[in-size])
			window = slices.Delete(window, at, at+1)
			at, _ = slices.BinarySearch(window, values[in])
			window = slices.Insert(window, at, values[in])
		}
		middles[i] = window[reach]
	}
	return middles
}

// byChance tells whether an interval may have so few operations where others have
// as many as the usual value says: within four standard deviations of such a count.
func byChance(p measure.Pace, value, usual float64) bool {
	count := float64(p.Operations)
	if value > 0 {
		usual *= count / value
	} else {
		usual *= float64(p.Length)
	}
	return usual-count <= 4*math.Sqrt(usual)
}

// dipsIn says how often and how far; dips that follow each other at once are one.
func dipsIn(paces []measure.Pace, values, level []float64, dips []int) *measure.Dips {
	if len(dips) == 0 {
		return nil
	}
	d := measure.Dips{}
	var begins []float64
	for i, at := range dips {
		d.Depth += quantity.Share((1 - values[at]/level[at]) / float64(len(dips)))
		d.Length += paces[at].Length
		if i == 0 || at > dips[i-1]+1 {
			begins = append(begins, float64(paces[at].Start))
		}
	}
	if d.Count = len(begins); d.Count >= 4 {
		gaps := make([]float64, d.Count-1)
		for i := range gaps {
			gaps[i] = begins[i+1] - begins[i]
		}
		// Gaps of what comes by chance vary as much as they are long.
		if mean, deviation := stat.MeanStdDev(gaps, nil); deviation < 0.35*mean {
			d.Every = quantity.Seconds(mean)
		}
	}
	return &d
}

// pauseIn finds a piece that is a pause of one level: far below the pieces on both sides,
// which are alike, and shorter than both together.
func pauseIn(level []float64, bounds []int) (at int, found bool) {
	mean := func(p int) float64 { return average(level[bounds[p]:bounds[p+1]]) }
	for p := 1; p < len(bounds)-2; p++ {
		before, after := mean(p-1), mean(p+1)
		short := bounds[p+1]-bounds[p] < bounds[p]-bounds[p-1]+bounds[p+2]-bounds[p+1]
		if short && mean(p) < 0.6*min(before, after) && apart(before, after) < stepLimit {
			return p, true
		}
	}
	return 0, false
}

// filled puts the level around a pause in its place, and adds its values to the dips.
func filled(level []float64, bounds []int, at int, dips []int) []int {
	around := slices.Concat(level[bounds[at-1]:bounds[at]], level[bounds[at+1]:bounds[at+2]])
	usual := median(around)
	for i := bounds[at]; i < bounds[at+1]; i++ {
		level[i] = usual
		if !slices.Contains(dips, i) {
			dips = append(dips, i)
		}
	}
	slices.Sort(dips)
	return dips
}
