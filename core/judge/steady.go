package judge

import (
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

// measured is the series without its warm-up.
func measured(series []measure.Interval) []measure.Interval {
	for i, s := range series {
		if !s.WarmUp {
			return series[i:]
		}
	}
	return nil
}

// whole leaves out a last interval that was cut short.
func whole(series []measure.Interval) []measure.Interval {
	if n := len(series); n > 1 && cutShort(series[0].Length, series[n-1].Length) {
		return series[:n-1]
	}
	return series
}

// cutShort reports whether the last interval is shorter than the first.
func cutShort(first, last quantity.Seconds) bool { return last < first*0.99 }

// seconds joins paces until each is a second long, or a tenth of the time where that
// is less; what is left at the end is dropped.
func seconds(series []measure.Interval) (paces []measure.Pace) {
	all := quantity.Seconds(0)
	for _, i := range series {
		all += i.Length
	}
	least := min(1, all/10)
	var held measure.Pace
	for _, i := range series {
		p := i.Pace()
		held.Operations += p.Operations
		if held.Length += p.Length; held.Length > least*0.99 {
			paces = append(paces, held)
			held = measure.Pace{}
		}
	}
	return paces
}

// Steadiness says how even a rate was in time, by seconds, by tenths of a shorter time,
// or by intervals where the load asked for longer ones.
func Steadiness(series []measure.Interval) *measure.Steadiness {
	paces := seconds(whole(measured(series)))
	if len(paces) < 3 {
		return nil
	}
	rates := make([]float64, len(paces))
	for i, p := range paces {
		rates[i] = p.Rate()
	}
	mean, deviation := stat.MeanStdDev(rates, nil)
	if mean <= 0 {
		return nil
	}
	middle := median(rates)
	s := &measure.Steadiness{Intervals: len(rates), Interval: paces[0].Length, Variation: quantity.Share(deviation / mean), Worst: quantity.OpRate(slices.Min(rates))}
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

// Inside gives what a volume tells of its inside over the measured time, in the order in
// which it tells it: sums of what happened, means of all that they are of, and of levels the
// mean over time.
func Inside(series []measure.Interval) (all []measure.Counter) {
	places, weights, lengths := map[string]int{}, []float64{}, []float64{}
	levels := []float64{}
	for _, i := range measured(series) {
		for _, c := range i.Inside {
			at, known := places[c.Name]
			if !known {
				at = len(all)
				places[c.Name] = at
				all = append(all, measure.Counter{Name: c.Name, Unit: c.Unit, Over: c.Over})
				weights, lengths, levels = append(weights, 0), append(lengths, 0), append(levels, 0)
			}
			if c.Over == measure.Sums {
				all[at].Value += c.Value
				continue
			}
			all[at].Value += c.Of * c.Value
			weights[at] += c.Of
			levels[at] += float64(i.Length) * c.Value
			lengths[at] += float64(i.Length)
		}
	}
	for at := range all {
		switch {
		case all[at].Over == measure.Sums:
		case weights[at] > 0:
			all[at].Value, all[at].Of = all[at].Value/weights[at], weights[at]
		case lengths[at] > 0:
			all[at].Value = levels[at] / lengths[at]
		}
	}
	return all
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
