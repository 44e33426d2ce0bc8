package judge

import (
	"math"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// The limits of a wave: values resemble those a period before at least so much, and
// there are so many periods.
const (
	waveLikeness = 0.5
	wavePeriods  = 3
	mostWaved    = 3600 // values of a series in which one is looked for
)

// cycle is what repeats itself in a series.
type cycle struct {
	period    float64 // in values
	low, high float64 // of the means over all periods of each place in them
}

// withoutWave takes what repeats itself out of the values: the mean of each place in
// the period, over all periods. The period is where the autocorrelation, once down
// below zero, is highest again; values a period apart must be alike over at least
// three of them. It gives nil when nothing repeats itself.
func withoutWave(values []float64) ([]float64, *cycle) {
	_, rest := line(values)
	all := squares(rest)
	if len(values) < leastKnown {
		return nil, nil
	}
	lag, likeness := 0, 0.0
	below := false
	for at := 1; at <= len(rest)/wavePeriods; at++ {
		sum := 0.0
		for i := at; i < len(rest); i++ {
			sum += rest[i] * rest[i-at]
		}
		like := sum / all * float64(len(rest)) / float64(len(rest)-at)
		below = below || like < 0
		// Chance gives up to three times one over the root of the pairs. Twice a period
		// is a period, too, and hardly more alike.
		if below && like > max(waveLikeness, 3/math.Sqrt(float64(len(rest)-at))) && like > likeness*1.1 {
			lag, likeness = at, like
		}
	}
	if lag < 3 || all <= 0 {
		return nil, nil
	}
	var level []float64
	var found *cycle
	left := math.Inf(1)
	for try := -10; try <= 10; try++ { // a period is no whole number of values
		period := float64(lag) + float64(try)/20
		flat, c := folded(values, period)
		if _, rest := line(flat); squares(rest) < left {
			left, level, found = squares(rest), flat, &c
		}
	}
	if left > all/2 {
		return nil, nil
	}
	return level, found
}

// folded takes the mean of each place in a period out of the values.
func folded(values []float64, period float64) ([]float64, cycle) {
	places := int(period)
	sums, counts := make([]float64, places), make([]float64, places)
	place := func(i int) int {
		_, part := math.Modf(float64(i) / period)
		return min(int(part*float64(places)), places-1)
	}
	for i, v := range values {
		sums[place(i)] += v
		counts[place(i)]++
	}
	mean, flat := average(values), make([]float64, len(values))
	c := cycle{period, math.Inf(1), math.Inf(-1)}
	for i, v := range values {
		usual := sums[place(i)] / counts[place(i)]
		flat[i] = v - usual + mean
		c.low, c.high = min(c.low, usual), max(c.high, usual)
	}
	return flat, c
}

// waveOf puts a cycle of the level in terms of throughput and time.
func waveOf(paces []measure.Pace, level []float64, c cycle) *measure.Wave {
	all, mean := phase(paces), average(level)
	return &measure.Wave{
		Low: all.Throughput * quantity.ByteRate(c.low/mean), High: all.Throughput * quantity.ByteRate(c.high/mean),
		Every: quantity.Seconds(c.period) * all.Length / quantity.Seconds(len(paces)),
	}
}
