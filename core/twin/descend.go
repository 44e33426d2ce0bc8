package twin

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/mat"
)

// place is a point with what the array does there.
type place struct {
	at   []float64
	logs []float64 // by row
	cost float64
}

func byCost(a, b place) int { return cmp.Compare(a.cost, b.cost) }

// placed works the cost of a point out: what the rows are off, in deviations, and the way from
// the guess, as squares; but an outlier costs less, after Cauchy. Of rows without a weight
// nothing is known; nil weighs all.
func (w *fitter) placed(at, logs, weights []float64) place {
	p := place{at, logs, math.Inf(1)}
	if logs == nil {
		return p
	}
	p.cost = 0
	for i, r := range w.rows {
		far := strayed / r.deviation
		off := (logs[i] - r.Log) / strayed
		p.cost += weight(weights, i) * far * far * math.Log1p(off*off)
	}
	for _, x := range at {
		p.cost += x * x / (guessed * guessed)
	}
	return p
}

// trusted are the weights of rows at a place: of an outlier less.
func (w *fitter) trusted(logs, weights []float64) []float64 {
	all := make([]float64, len(w.rows))
	for i, r := range w.rows {
		off := (logs[i] - r.Log) / strayed
		all[i] = weight(weights, i) / (1 + off*off)
	}
	return all
}

func weight(weights []float64, i int) float64 {
	if weights == nil {
		return 1
	}
	return weights[i]
}

// off is how far a place is off, as a share: by the root of the mean square of the logarithms,
// outliers aside.
func (w *fitter) off(logs []float64) float64 {
	return off(w.rows, logs, func(i int) bool { return math.Abs(logs[i]-w.rows[i].Log) > strayed })
}

func off(rows []row, logs []float64, outlier func(int) bool) float64 {
	squares, n := 0.0, 0.0
	for i, r := range rows {
		if !outlier(i) {
			squares += (logs[i] - r.Log) * (logs[i] - r.Log)
			n++
		}
	}
	if n == 0 { // nothing is near
		return off(rows, logs, func(int) bool { return false })
	}
	return math.Expm1(math.Sqrt(squares / n))
}

// fit finds the best place.
func (w *fitter) fit(ctx context.Context) (best place, err error) {
	w.report(func(h *HowNear) { h.Step = "searching around the first guess" })
	starts := w.starts()
	logs, err := w.evaluate(ctx, starts...)
	if err != nil {
		return best, err
	}
	if logs[0] == nil {
		return best, fmt.Errorf("%w: the first guess does nothing under one of the loads", ErrInvalid)
	}
	places := make([]place, len(starts))
	for i := range starts {
		places[i] = w.placed(starts[i], logs[i], nil)
	}
	slices.SortStableFunc(places, byCost)
	places = spread(places)
	for i := range places {
		w.report(func(h *HowNear) { h.Step = fmt.Sprintf("following start %d of %d", i+1, len(places)) })
		if places[i], err = w.improve(ctx, places[i], first); err != nil {
			return best, err
		}
	}
	slices.SortStableFunc(places, byCost)
	best = places[0]
	for _, p := range places[:min(toTheEnd, len(places))] {
		w.report(func(h *HowNear) { h.Step = "refining the best" })
		if p, err = w.improve(ctx, p, rounds); err != nil {
			return best, err
		}
		if p.cost < best.cost {
			best = p
		}
	}
	if best, err = w.again(ctx, best); err != nil {
		return best, err
	}
	w.report(func(h *HowNear) { h.Step = "refining with longer simulations" })
	guess, err := w.With(nil)
	if err != nil {
		return best, err
	}
	for i, o := range w.Observed {
		w.loads[i] = shortened(o, guess, longer)
	}
	if logs, err = w.evaluate(ctx, best.at); err != nil {
		return best, err
	}
	if logs[0] == nil {
		return best, fmt.Errorf("%w: the array does nothing under one of the loads", ErrInvalid)
	}
	return w.improve(ctx, w.placed(best.at, logs[0], nil), last)
}

// again looks around a place that does not do what was measured, which may lie in the wrong
// valley: from each parameter at twice and four times as much, and as little, the good ones are
// followed.
func (w *fitter) again(ctx context.Context, best place) (place, error) {
	for range returnsHome {
		if w.misfit(best) < poor {
			return best, nil
		}
		w.report(func(h *HowNear) { h.Step = "searching for another minimum" })
		var points [][]float64
		for i := range w.free {
			for _, way := range []float64{math.Log(2), -math.Log(2), math.Log(4), -math.Log(4)} {
				at := slices.Clone(best.at)
				at[i] = min(max(at[i]+way, -farthest), farthest)
				points = append(points, at)
			}
		}
		logs, err := w.evaluate(ctx, points...)
		if err != nil {
			return best, err
		}
		places := make([]place, len(points))
		for i := range points {
			places[i] = w.placed(points[i], logs[i], nil)
		}
		slices.SortStableFunc(places, byCost)
		if places[0].logs == nil {
			return best, nil
		}
		before, places := best.cost, spread(places)
		for i := range places {
			if places[i], err = w.improve(ctx, places[i], first); err != nil {
				return best, err
			}
		}
		p, err := w.improve(ctx, slices.MinFunc(places, byCost), rounds)
		if err != nil {
			return best, err
		}
		if p.cost < best.cost {
			best = p
		}
		if best.cost > before*(1-settled) {
			break
		}
	}
	return best, nil
}

// misfit is the mean square of what rows are off, in deviations, outliers counting less.
func (w *fitter) misfit(p place) (mean float64) {
	weights := w.trusted(p.logs, nil)
	for i, r := range w.rows {
		off := (p.logs[i] - r.Log) / r.deviation
		mean += weights[i] * off * off / float64(len(w.rows))
	}
	return mean
}

// spread are the best places that do not lie near each other.
func spread(sorted []place) (kept []place) {
	for _, p := range sorted {
		near := slices.ContainsFunc(kept, func(k place) bool { return distance(p.at, k.at) < apart })
		if len(kept) < followed && p.logs != nil && !near {
			kept = append(kept, p)
		}
	}
	return kept
}

func distance(a, b []float64) (d float64) {
	for i := range a {
		d = math.Hypot(d, a[i]-b[i])
	}
	return d
}

// starts are the guess, places around it along each parameter, and some that are drawn.
func (w *fitter) starts() (all [][]float64) {
	n := len(w.free)
	all = append(all, make([]float64, n))
	for i := range n {
		for _, way := range []float64{math.Log(3), -math.Log(3), math.Log(10), -math.Log(10)} {
			at := make([]float64, n)
			at[i] = way
			all = append(all, at)
		}
	}
	draw := rand.New(rand.NewPCG(w.Seed, 0x7477696e))
	for range drawn {
		at := make([]float64, n)
		for i := range at {
			at[i] = draw.NormFloat64()
		}
		all = append(all, at)
	}
	return all
}

const (
	// drawn is how many starting points are drawn, beside those around the guess; of all, so
	// many that lie so far from each other are followed a little, the best first, and the
	// best of these to the end.
	drawn    = 12
	followed = 5
	apart    = 1.0
	toTheEnd = 2
	// A place whose rows are off by more than this, as a mean square of deviations, is looked
	// around once more, and again from where that leads.
	poor        = 2.25
	returnsHome = 2
	// step is the logarithm of the change by which slopes are found: large beside what is drawn
	// anew in a simulation.
	step = 0.15

	first   = 2    // rounds of each start
	rounds  = 8    // of one that is followed to the end at most
	last    = 2    // at the end, with longer simulations
	longer  = 4    // times as long
	settled = 1e-2 // a round that improves the cost by less is the last
	leap    = 1.1  // largest step of one parameter, as a logarithm
)

// improve goes downhill from a place for some rounds at most, after Levenberg and Marquardt.
func (w *fitter) improve(ctx context.Context, from place, most int) (place, error) {
	if from.logs == nil {
		return from, nil
	}
	damping := 0.1
	for range most {
		slopes, err := w.slopes(ctx, from, false)
		if err != nil {
			return from, err
		}
		before := from.cost
		for tries := 0; tries < 4 && from.cost == before; tries++ {
			to := w.moved(from, slopes, nil, damping)
			logs, err := w.evaluate(ctx, to)
			if err != nil {
				return from, err
			}
			if p := w.placed(to, logs[0], nil); p.cost < from.cost {
				from = p
				damping /= 5
			} else {
				damping *= 5
			}
		}
		w.report(func(h *HowNear) {
			if off := w.off(from.logs); h.Off == 0 || off < h.Off {
				h.Off = off
			}
		})
		if before-from.cost < settled*before {
			break
		}
	}
	return from, nil
}

// slopes are how the logarithm of each row changes with that of each parameter, from both
// sides or from one.
func (w *fitter) slopes(ctx context.Context, from place, bothSides bool) (*mat.Dense, error) {
	var points [][]float64
	for i := range w.free {
		points = append(points, w.aside(from.at, i, 1))
		if bothSides {
			points = append(points, w.aside(from.at, i, -1))
		}
	}
	logs, err := w.evaluate(ctx, points...)
	if err != nil {
		return nil, err
	}
	return w.slopesOf(from, points, logs, bothSides), nil
}

// slopesOf works the slopes out of what arrays do at points aside from a place.
func (w *fitter) slopesOf(from place, points, logs [][]float64, bothSides bool) *mat.Dense {
	slopes := mat.NewDense(len(from.logs), len(w.free), nil)
	for i, p := range w.free {
		high, above := points[i], logs[i]
		low, below := from.at, from.logs
		if bothSides {
			high, above = points[2*i], logs[2*i]
			if logs[2*i+1] != nil {
				low, below = points[2*i+1], logs[2*i+1]
			}
			if above == nil {
				high, above = from.at, from.logs
			}
		}
		by := math.Log(value(p, high[i]) / value(p, low[i]))
		if above == nil || by == 0 {
			continue
		}
		for r := range above {
			slopes.Set(r, i, (above[r]-below[r])/by)
		}
	}
	return slopes
}

// aside is a point with one parameter changed a step; a whole number by one at least.
func (w *fitter) aside(at []float64, i int, way float64) []float64 {
	at = slices.Clone(at)
	now, p := value(w.free[i], at[i]), w.free[i]
	at[i] += way * step
	if p.Unit == "" && value(p, at[i]) == now {
		at[i] = math.Log(max(now+way, 1) / p.Value)
	}
	return at
}

// moved is the next point: where the rows would be right if slopes stayed as they are, held
// back by the damping and by the guess.
func (w *fitter) moved(from place, slopes *mat.Dense, weights []float64, damping float64) []float64 {
	n := len(w.free)
	weights = w.trusted(from.logs, weights)
	information, pull := w.information(slopes, weights, 1), mat.NewVecDense(n, nil)
	for i := range n {
		sum := -from.at[i] / (guessed * guessed)
		for r, of := range w.rows {
			sum -= weight(weights, r) * slopes.At(r, i) * (from.logs[r] - of.Log) / (of.deviation * of.deviation)
		}
		pull.SetVec(i, sum)
		information.SetSym(i, i, information.At(i, i)*(1+damping))
	}
	to := slices.Clone(from.at)
	var whole mat.Cholesky
	var by mat.VecDense
	if !whole.Factorize(information) || whole.SolveVecTo(&by, pull) != nil {
		return to
	}
	for i := range n {
		to[i] += min(max(by.AtVec(i), -leap), leap)
		to[i] = min(max(to[i], -farthest), farthest)
	}
	return to
}

// information is what rows and guess tell of the parameters: the inverse of its covariance.
// Deviations of rows are so many times as large as they were taken to be.
func (w *fitter) information(slopes *mat.Dense, weights []float64, larger float64) *mat.SymDense {
	n := len(w.free)
	all := mat.NewSymDense(n, nil)
	for i := range n {
		for j := i; j < n; j++ {
			sum := 0.0
			for r, of := range w.rows {
				sum += weight(weights, r) * slopes.At(r, i) * slopes.At(r, j) / (of.deviation * of.deviation)
			}
			sum /= larger * larger
			if i == j {
				sum += 1 / (guessed * guessed)
			}
			all.SetSym(i, j, sum)
		}
	}
	return all
}
