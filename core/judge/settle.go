package judge

import (
	"math"
	"slices"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// Rates is the rate of all operations in each interval, in order. Throughput
// says the same for a load of one block size; operations are what was counted.
func Rates(series []measure.Interval) []float64 {
	rates := make([]float64, len(series))
	for i, s := range series {
		rates[i] = s.Pace().Rate()
	}
	return rates
}

// measured is the series without its lead-in.
func measured(series []measure.Interval) []measure.Interval {
	for i, s := range series {
		if !s.LeadIn {
			return series[i:]
		}
	}
	return nil
}

// LeadIn is the number of values at the start that are better left out: those
// before the cut at which the standard error of the rest is smallest, over
// means of five values, of one where there are fewer than fifty (MSER-5: White
// 1997). The second half is never cut.
func LeadIn(values []float64) int {
	batch := 5
	if len(values) < 50 {
		batch = 1
	}
	n := len(values) / batch
	if n < 4 {
		return 0
	}
	means := make([]float64, n)
	for i := range means {
		means[i] = stat.Mean(values[i*batch:(i+1)*batch], nil)
	}
	// From the end, so that each cut costs one step.
	sum, squares := 0.0, 0.0
	best, cut := math.Inf(1), 0
	for i := n - 1; i >= 0; i-- {
		sum += means[i]
		squares += means[i] * means[i]
		left := float64(n - i)
		if i > n/2 {
			continue
		}
		// At equal error the longer rest is better, hence <=.
		if e := max(squares-sum*sum/left, 0) / (left * left); e <= best {
			best, cut = e, i
		}
	}
	return cut * batch
}

// Settling says whether a rate stood still, and from when.
type Settling struct {
	Known   bool           `json:"known" doc:"There were enough intervals to tell: ten after the lead-in"`
	Settled bool           `json:"settled"`
	Cut     int            `json:"cutIntervals" doc:"Intervals at the start of what was measured that belong to the lead-in"`
	Range   quantity.Share `json:"range" doc:"Largest less smallest of five windows, as a share of their mean"`
	Slope   quantity.Share `json:"slope" doc:"Rise or fall of a line fitted across the five windows, as a share of their mean"`
}

// The limits of a steady state, as in the open solid-state performance test
// specification.
const (
	windows    = 5
	rangeLimit = 0.20
	slopeLimit = 0.10
)

// Settle tells whether values settled: after the lead-in is cut, the means of
// five equal windows lie within 20 % of their mean, and a line fitted across
// them rises or falls by at most 10 % of it.
func Settle(values []float64) Settling {
	s := Settling{Cut: LeadIn(values)}
	rest := values[s.Cut:]
	if len(rest) < 2*windows {
		return s
	}
	s.Known = true
	x, y := make([]float64, windows), make([]float64, windows)
	low, high := math.Inf(1), math.Inf(-1)
	for i := range windows {
		window := rest[i*len(rest)/windows : (i+1)*len(rest)/windows]
		x[i], y[i] = float64(i), stat.Mean(window, nil)
		low, high = min(low, y[i]), max(high, y[i])
	}
	mean := stat.Mean(y, nil)
	if mean <= 0 {
		s.Known = false
		return s
	}
	_, slope := stat.LinearRegression(x, y, nil, false)
	s.Range = quantity.Share((high - low) / mean)
	s.Slope = quantity.Share(slope * (windows - 1) / mean)
	s.Settled = s.Range <= rangeLimit && math.Abs(float64(s.Slope)) <= slopeLimit
	return s
}

// Settled says whether the rate of a measurement stood still, of all that
// came after the lead-in that was asked for.
func Settled(series []measure.Interval) Settling { return Settle(Rates(whole(measured(series)))) }

// whole leaves out a last interval that was cut short.
func whole(series []measure.Interval) []measure.Interval {
	if n := len(series); n > 1 && cutShort(series[0].Length, series[n-1].Length) {
		return series[:n-1]
	}
	return series
}

// cutShort reports whether the last interval is shorter than the first.
func cutShort(first, last quantity.Seconds) bool { return last < first*0.99 }

// Steadiness says how even a rate was in time, from intervals of a second or
// whatever the load asked for.
func Steadiness(series []measure.Interval) *measure.Steadiness {
	kept := whole(measured(series))
	rates := Rates(kept)
	if len(rates) < 3 {
		return nil
	}
	mean, deviation := stat.MeanStdDev(rates, nil)
	if mean <= 0 {
		return nil
	}
	middle := median(rates)
	s := &measure.Steadiness{Intervals: len(rates), Interval: kept[0].Length, Variation: quantity.Share(deviation / mean), Worst: quantity.OpRate(slices.Min(rates))}
	if middle > 0 {
		s.WorstShare = quantity.Share(float64(s.Worst) / middle)
	}
	for _, r := range rates {
		if r < middle/2 {
			s.Slow++
		}
	}
	return s
}

// Stolen is the share of the hosts' CPU time that a hypervisor gave to others
// meanwhile.
func Stolen(series []measure.Interval) (share quantity.Share) {
	length := quantity.Seconds(0)
	for _, i := range measured(series) {
		for _, b := range i.Beside {
			share += b.Stolen * quantity.Share(i.Length)
			length += i.Length
		}
	}
	if length == 0 {
		return 0
	}
	return share / quantity.Share(length)
}

// CPUPerOperation is the CPU time that the hosts used for each operation, of
// all processes together; 0 when the host did not work or was not watched.
func CPUPerOperation(series []measure.Interval) quantity.Seconds {
	used, operations := 0.0, 0.0
	for _, i := range measured(series) {
		if len(i.Beside) == 0 {
			continue
		}
		operations += float64(i.Moved().Operations)
		for _, core := range i.Cores() {
			used += float64(core) * float64(i.Length)
		}
	}
	if operations == 0 {
		return 0
	}
	return quantity.Seconds(used / operations)
}
