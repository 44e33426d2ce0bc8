package twin

import (
	"context"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/statistics"
)

// known is how well the parameters are known at the best place.
type known struct {
	best       place
	slopes     *mat.Dense
	covariance *mat.SymDense
	times      float64 // so many deviations are half of an interval
}

const (
	normal  = 1.96 // two-sided 95 % quantile
	better  = 0.5  // a place that costs so much less is gone to
	returns = 3    // how often
	flat    = 25   // times as flat as its slopes say is taken to be as flat as it can be
)

// known works out of the slopes how well the parameters are known, and looks whether that is so:
// at both ends of the interval of each, with the others as they follow it, the cost has to be
// higher by as much as the slopes say. Where it is less, the valley is flatter and the interval
// wider; where it is lower than at the best place, the way goes on from there.
func (w *fitter) known(ctx context.Context, best place) (k known, err error) {
	for returned := 0; ; returned++ {
		k = known{best: best, times: normal}
		if k.slopes, err = w.slopes(ctx, best, true); err != nil {
			return k, err
		}
		larger, freedom := w.scatter(best, k.slopes)
		k.covariance = inverse(w.information(k.slopes, w.trusted(best.logs, nil), larger))
		if larger > 1 { // by as much as they themselves show
			k.times = student(freedom)
		}
		ends, err := w.ends(ctx, k)
		if err != nil {
			return k, err
		}
		cheapest := slices.MinFunc(ends, byCost)
		if cheapest.cost > best.cost-better || returned == returns {
			k.widen(ends, math.Pow(k.times*larger, 2))
			return k, nil
		}
		if best, err = w.improve(ctx, cheapest, last); err != nil {
			return k, err
		}
	}
}

// ends are the places at the ends of the intervals: of each parameter the upper and the lower.
func (w *fitter) ends(ctx context.Context, k known) ([]place, error) {
	var points [][]float64
	for i := range w.free {
		for _, way := range []float64{1, -1} {
			at := slices.Clone(k.best.at)
			for j := range at {
				at[j] += way * k.times * k.covariance.At(i, j) / math.Sqrt(k.covariance.At(i, i))
				at[j] = min(max(at[j], -farthest), farthest)
			}
			points = append(points, at)
		}
	}
	logs, err := w.evaluate(ctx, points...)
	if err != nil {
		return nil, err
	}
	places := make([]place, len(points))
	for i := range points {
		places[i] = w.placed(points[i], logs[i], nil)
	}
	return places, nil
}

// widen makes the deviation of each parameter as much larger as the cost at the ends of its
// interval is lower than it should be.
func (k *known) widen(ends []place, should float64) {
	n := k.covariance.SymmetricDim()
	larger := make([]float64, n)
	for i := range n {
		least := min(ends[2*i].cost, ends[2*i+1].cost) - k.best.cost
		most := guessed / math.Sqrt(k.covariance.At(i, i)) // no less is known than was guessed
		larger[i] = max(min(math.Sqrt(should/max(least, should/flat)), most), 1)
	}
	wider := mat.NewSymDense(n, nil)
	for i := range n {
		for j := i; j < n; j++ {
			wider.SetSym(i, j, k.covariance.At(i, j)*larger[i]*larger[j])
		}
	}
	k.covariance = wider
}

// scatter is by how much rows are farther off than they were taken to be, at least 1, and the
// degrees of freedom that this rests on.
func (w *fitter) scatter(at place, slopes *mat.Dense) (larger, freedom float64) {
	weights, squares := w.trusted(at.logs, nil), 0.0
	for i, r := range w.rows {
		off := (at.logs[i] - r.Log) / r.deviation
		squares += weights[i] * off * off
		freedom += weights[i]
	}
	covariance := inverse(w.information(slopes, weights, 1))
	for i := range w.free { // less for a parameter that the rows tell, not at all for one that the guess tells
		freedom -= 1 - covariance.At(i, i)/(guessed*guessed)
	}
	if freedom < 0.5 {
		return 1, max(freedom, 0)
	}
	return math.Sqrt(max(squares/freedom, 1)), freedom
}

// student is the two-sided 95 % quantile of Student's distribution.
func student(freedom float64) float64 {
	return statistics.StudentQuantile(0.975, freedom)
}

// inverse is that of a matrix that the guess keeps from being singular.
func inverse(of *mat.SymDense) *mat.SymDense {
	var whole mat.Cholesky
	var inverted mat.SymDense
	if !whole.Factorize(of) || whole.InverseTo(&inverted) != nil {
		n := of.SymmetricDim()
		inverted = *mat.NewSymDense(n, nil)
		for i := range n {
			inverted.SetSym(i, i, guessed*guessed)
		}
	}
	return &inverted
}
