package judge

import (
	"math"
	"slices"
	"sync"

	"gonum.org/v1/gonum/stat"

	"patientheron/core/measure"
	"patientheron/core/statistics"
)

// confidence is the level of all intervals.
const confidence = 0.95

// Mean is a mean with its interval.
type Mean struct {
	Mean  float64 `json:"mean"`
	Low   float64 `json:"low,omitempty" doc:"Lower end of the 95 % interval of the mean"`
	High  float64 `json:"high,omitempty" doc:"Upper end"`
	Known bool    `json:"known" doc:"The interval is known: there was enough to tell"`
}

// Half is half the width of the interval as a share of the mean; not a number
// when it is not known.
func (e Mean) Half() float64 {
	if !e.Known || e.Mean == 0 {
		return math.NaN()
	}
	return (e.High - e.Low) / 2 / e.Mean
}

// HalfOfLog is half of the interval on a logarithmic scale; not a number when it is not known.
func (e Mean) HalfOfLog() float64 {
	if !e.Known || e.Low <= 0 {
		return math.NaN()
	}
	return math.Log(e.High/e.Low) / 2
}

// WithinLog is a mean whose interval is so wide on either side on a logarithmic scale; not
// known where that is not a number.
func WithinLog(mean, half float64) Mean {
	if math.IsNaN(half) {
		return Mean{Mean: mean}
	}
	return Mean{Mean: mean, Low: mean * math.Exp(-half), High: mean * math.Exp(half), Known: true}
}

// Over is the ratio of two means that were measured apart.
func (e Mean) Over(other Mean) Mean {
	return WithinLog(e.Mean/other.Mean, math.Hypot(e.HalfOfLog(), other.HalfOfLog()))
}

// enough is how many independent values a series must be worth for its mean to
// have an interval.
const enough = 12

// MeanOfSeries is the mean of values that follow each other in time. What
// follows a value closely resembles it, so that n values are worth fewer: the fewer
// of what the initial monotone positive sequence of their autocorrelation says
// (Geyer 1992) and what an autoregressive process does whose autocorrelation is
// corrected for the bias of short series and taken on the safe side (noiseOf). The
// interval is Student's with that many values. It is not known when the series is
// worth fewer than twelve.
func MeanOfSeries(values []float64) Mean {
	n := float64(len(values))
	if n == 0 {
		return Mean{}
	}
	e := Mean{Mean: stat.Mean(values, nil)}
	deviation, worth := independent(values)
	if worth < enough {
		return e
	}
	half := deviation / math.Sqrt(worth-1) * quantile(worth-1)
	e.Low, e.High, e.Known = e.Mean-half, e.Mean+half, true
	return e
}

// Worth is how many independent values a series is worth.
func Worth(values []float64) float64 {
	_, worth := independent(values)
	return worth
}

// independent gives the standard deviation of values and how many independent
// ones they are worth: at most as many as there are.
func independent(values []float64) (deviation, worth float64) {
	n := len(values)
	if n < 4 {
		return 0, 0
	}
	mean := stat.Mean(values, nil)
	centred := make([]float64, n)
	for i, v := range values {
		centred[i] = v - mean
	}
	together := func(lag int) (sum float64) {
		for i := range n - lag {
			sum += centred[i] * centred[i+lag]
		}
		return sum / float64(n)
	}
	variance := together(0)
	if variance <= mean*mean*1e-18 {
		return 0, float64(n)
	}
	sum, last := -variance, math.Inf(1)
	for lag := 0; lag+1 < n/2; lag += 2 {
		pair := together(lag) + together(lag+1)
		if pair <= 0 {
			break
		}
		last = min(last, pair)
		sum += 2 * last
	}
	worth = float64(n) / max(sum/variance, 1)
	return math.Sqrt(variance), min(worth, noiseOf(values, []int{0, n}, 0).worth(n))
}

// quantileOf is a quantile of Student's distribution.
func quantileOf(freedom, share float64) float64 {
	return statistics.StudentQuantile(share, freedom)
}

// shareBelow is the share of Student's distribution below t.
func shareBelow(freedom, t float64) float64 {
	return statistics.StudentBelow(t, freedom)
}

// quantile is the two-sided 95 % quantile of Student's distribution.
func quantile(freedom float64) float64 { return usual.quantile(freedom) }

// usual are the quantiles of intervals that hold by themselves.
var usual = quantilesAt(1 - confidence)

// quantiles are those of Student's distribution that both tails beyond have a chance together,
// by degrees of freedom. Comparisons ask for them by the ten thousand: those of few whole
// degrees of freedom are kept, and those between go along lines over one by their number,
// within a thousandth.
type quantiles struct{ whole, between []func() float64 }

func quantilesAt(chance float64) quantiles {
	lazily := func(count int, freedom func(n int) float64) []func() float64 {
		values := make([]func() float64, count)
		for n := range values {
			values[n] = sync.OnceValue(func() float64 { return quantileOf(freedom(n), 1-chance/2) })
		}
		return values
	}
	return quantiles{
		whole:   lazily(64, func(n int) float64 { return float64(max(n, 1)) }),
		between: lazily(257, func(n int) float64 { return 256 / max(float64(n), 1e-9) }),
	}
}

func (q quantiles) quantile(freedom float64) float64 {
	freedom = max(freedom, 1)
	if n := int(freedom); float64(n) == freedom && n < len(q.whole) {
		return q.whole[n]()
	}
	at := float64(len(q.between)-1) / freedom
	low := min(int(at), len(q.between)-2)
	share := at - float64(low)
	return q.between[low]()*(1-share) + q.between[low+1]()*share
}

// Rate is the mean rate of a measurement with its interval, from its series.
func Rate(series []measure.Interval) Mean {
	return MeanOfSeries(Rates(whole(measured(series))))
}

// MeanOfRepeats is the mean of values that do not depend on each other, with
// Student's interval. It is not known for fewer than two. Of values none of which is
// below zero, the mean is not either.
func MeanOfRepeats(values []float64) Mean {
	e := meanOf(values)
	if e.Known && slices.Min(values) >= 0 {
		e.Low = max(e.Low, 0)
	}
	return e
}

func meanOf(values []float64) Mean {
	if len(values) == 0 {
		return Mean{}
	}
	if len(values) < 2 {
		return Mean{Mean: values[0]}
	}
	mean, deviation := stat.MeanStdDev(values, nil)
	half := quantile(float64(len(values)-1)) * deviation / math.Sqrt(float64(len(values)))
	return Mean{Mean: mean, Low: mean - half, High: mean + half, Known: true}
}

func median(values []float64) float64 {
	if len(values) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(values))
	middle := len(sorted) / 2
	if len(sorted)%2 == 1 {
		return sorted[middle]
	}
	return (sorted[middle-1] + sorted[middle]) / 2
}
