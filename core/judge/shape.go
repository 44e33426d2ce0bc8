package judge

import (
	"math"

	"gonum.org/v1/gonum/optimize"

	"patientheron/core/quantity"
)

// Spot is one point of a line: what was asked, and what came of it.
type Spot struct {
	At      float64 // the swept value
	Rate    float64 // operations per second
	Latency float64 // seconds
}

// Knee is the place in spots with the largest rate for its latency, "power" in
// the words of Kleinrock (1979); -1 when no spot has both. Beyond it more load
// buys more waiting than work.
func Knee(spots []Spot) int {
	best, at := 0.0, -1
	for i, s := range spots {
		if s.Rate > 0 && s.Latency > 0 && s.Rate/s.Latency > best {
			best, at = s.Rate/s.Latency, i
		}
	}
	return at
}

// Within is the place in spots with the largest rate whose latency is at most
// the wanted one; -1 when none is.
func Within(spots []Spot, wanted float64) int {
	best, at := 0.0, -1
	for i, s := range spots {
		if s.Latency > 0 && s.Latency <= wanted && s.Rate > best {
			best, at = s.Rate, i
		}
	}
	return at
}

// Brings says whether what is had grows by more than its price, both in times: what is had
// by from low to high, zeros where that is not known.
func Brings(price, low, high float64) string {
	switch {
	case low > price:
		return "more than the price grows"
	case high > 0 && high < price:
		return "less than the price grows"
	}
	return "whether that is more than the price grows is not shown"
}

// Scaling is how a rate grows with the number of workers, members or whatever
// is swept: X(N) = one × N / (1 + contention × (N-1) + crosstalk × N × (N-1)),
// the universal scalability law (Gunther 1993).
type Scaling struct {
	One        float64        `json:"one" doc:"Rate of one alone"`
	Contention float64        `json:"contention" doc:"Share of the work that waits for something shared"`
	Crosstalk  float64        `json:"crosstalk" doc:"Cost of each pair's keeping in step"`
	Best       float64        `json:"best,omitempty" doc:"Number at which the rate is highest; absent when it keeps growing"`
	Fit        quantity.Share `json:"fit" doc:"Share of the variation that the law explains"`
}

// At is the rate the law gives for n.
func (s Scaling) At(n float64) float64 {
	return s.One * n / (1 + s.Contention*(n-1) + s.Crosstalk*n*(n-1))
}

// FitScaling fits the law to spots by least squares of relative errors. It
// gives nil for fewer than four spots, values below one, or a fit that explains
// less than half.
func FitScaling(spots []Spot) *Scaling {
	if len(spots) < 4 {
		return nil
	}
	for _, s := range spots {
		if s.At < 1 || s.Rate <= 0 {
			return nil
		}
	}
	// The logarithm of the first keeps it above zero, squares keep the others so.
	law := func(x []float64) Scaling {
		return Scaling{One: math.Exp(x[0]), Contention: x[1] * x[1], Crosstalk: x[2] * x[2]}
	}
	errors := func(x []float64) (sum float64) {
		l := law(x)
		for _, s := range spots {
			e := math.Log(l.At(s.At) / s.Rate)
			sum += e * e
		}
		return sum
	}
	first := math.Log(spots[0].Rate / spots[0].At)
	var best *optimize.Result
	for _, start := range [][]float64{{first, 0.2, 0.01}, {first, 0.7, 0.001}, {first, 0.05, 0.1}} {
		result, err := optimize.Minimize(optimize.Problem{Func: errors}, start, nil, &optimize.NelderMead{})
		if err == nil && (best == nil || result.F < best.F) {
			best = result
		}
	}
	if best == nil {
		return nil
	}
	mean, around := 0.0, 0.0
	for _, s := range spots {
		mean += math.Log(s.Rate) / float64(len(spots))
	}
	for _, s := range spots {
		around += (math.Log(s.Rate) - mean) * (math.Log(s.Rate) - mean)
	}
	l := law(best.X)
	if l.Fit = 1; around > 1e-12 {
		l.Fit = quantity.Share(1 - best.F/around)
	}
	if l.Fit < 0.5 {
		return nil
	}
	if l.Crosstalk > 1e-9 && l.Contention < 1 {
		l.Best = math.Sqrt((1 - l.Contention) / l.Crosstalk)
	}
	return &l
}

// Index is the geometric mean of ratios, the only mean that does not depend on
// which side is the baseline (Fleming and Wallace 1986). Ratios that are not
// above zero are left out; it gives 0 when none is left.
func Index(ratios []float64) float64 {
	sum, n := 0.0, 0
	for _, r := range ratios {
		if r > 0 && !math.IsInf(r, 0) {
			sum, n = sum+math.Log(r), n+1
		}
	}
	if n == 0 {
		return 0
	}
	return math.Exp(sum / float64(n))
}
