package twin

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/array"
	"patientheron/core/figure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

const (
	// A first guess is taken to be right within a factor of e, in two of three cases: what the
	// measurements do not tell stays near it.
	guessed = 1.0
	// No figure is taken to be known better than this, whatever its repeats say: a simulation
	// is no better.
	least = 0.02
	// strayed is the logarithm of how far off a row is that counts half: beyond, it is rather the
	// array that has something the guess lacks, and must not bend the rest.
	strayed = 0.15
	// farthest is the largest logarithm of how far a parameter may go from its guess.
	farthest = 4.6
	// step is the logarithm of the change by which slopes are found: large beside what is drawn
	// anew in a simulation.
	step = 0.15
	// enough operations for one simulation; of large ones, which are many pieces each, fewer.
	// A quarter as long before it is lead-in, and up to eight times as long where the array has
	// something that fills.
	enough  = 4_000
	piece   = 16 * quantity.KiB
	fewOps  = 400
	begins  = 0.25
	filling = 8
	// patience is how many times as long it is simulated where it does nothing.
	patience = 200
	// drawn is how many starting points are drawn, beside those around the guess; of all, so
	// many that lie so far from each other are followed a little, the best first, and the
	// best of these to the end.
	drawn    = 12
	followed = 5
	apart    = 1.0
	toTheEnd = 2
	// mostLoads and mostFree bound the work.
	mostLoads = 200
	mostFree  = 12
)

// fitter is a Fit under way. A point is the logarithm of each free parameter over its guess.
type fitter struct {
	Fit
	free  []array.Parameter
	loads []workload.Spec // as they are simulated
	rows  []row
	mutex sync.Mutex
	far   HowNear
}

// row is one figure under one load.
type row struct {
	load   int // in Observed
	figure figure.Figure
	Value
	deviation float64 // that it is weighed by
}

// Run carries the fit out. It ends early when ctx does. The same measurements, guess and seed
// give the same twin, however many cores there are.
func (f Fit) Run(ctx context.Context) (Fitted, error) {
	w, err := f.prepare()
	if err != nil {
		return Fitted{}, err
	}
	at, err := w.fit(ctx)
	if err != nil {
		return Fitted{}, err
	}
	return w.tell(ctx, at)
}

// Check reports what cannot be of a fit, before anything is simulated.
func (f Fit) Check() error {
	_, err := f.prepare()
	return err
}

func (f Fit) prepare() (*fitter, error) {
	f.Seed = cmp.Or(f.Seed, 1)
	w := &fitter{Fit: f}
	guess, err := f.With(nil)
	if err != nil {
		return nil, err
	}
	if w.free, err = choice(guess.Parameters(), f.Free); err != nil {
		return nil, err
	}
	for i, o := range f.Observed {
		if reach, _ := o.Load.Completed().Body().Reach(); reach > guess.Size() {
			return nil, fmt.Errorf("%w: %q works on %s, and the guess has %s; give its members the capacity they have", ErrInvalid, o.Name, reach, guess.Size())
		}
		w.loads = append(w.loads, shortened(o, guess, 1))
		for _, v := range o.Figures {
			w.rows = append(w.rows, row{i, figure.Of(v.Figure), v, max(v.Deviation, least)})
		}
	}
	switch {
	case len(f.Observed) == 0:
		return nil, fmt.Errorf("%w: there is no measurement to fit it to", ErrInvalid)
	case len(f.Observed) > mostLoads:
		return nil, fmt.Errorf("%w: it would be fitted to %d loads; %d at most", ErrInvalid, len(f.Observed), mostLoads)
	}
	return w, nil
}

// shortened is a load as it is simulated: for about as long as the real array took for enough
// operations, or so many times as long.
func shortened(o Observed, guess array.Description, times float64) workload.Spec {
	load := o.Load
	load.Settled, load.Within, load.Interval = false, 0, 0
	if load.Kind == workload.FilesKind || load.For == 0 || o.Rate <= 0 {
		return load
	}
	whole := load.Completed()
	operations := max(enough/max(whole.MeanBlock()/float64(piece), 1), fewOps, 16*float64(whole.Depth*whole.Workers))
	time := quantity.Seconds(operations / o.Rate * times)
	load.For = min(load.For, time)
	if guess.Fills() {
		load.LeadIn = min(max(load.LeadIn, time*begins), time*filling)
	} else {
		load.LeadIn = time * begins
	}
	return load
}

// choice are the parameters that are fitted.
func choice(all []array.Parameter, keys []string) (free []array.Parameter, err error) {
	names := make([]string, len(all))
	for i, p := range all {
		names[i] = p.Key
	}
	if len(keys) == 0 {
		free = all
	}
	for _, key := range keys {
		i := slices.Index(names, key)
		switch {
		case i < 0:
			return nil, fmt.Errorf("%w: %q cannot be fitted; of this guess %s can", ErrInvalid, key, strings.Join(names, ", "))
		case slices.ContainsFunc(free, func(p array.Parameter) bool { return p.Key == key }):
			return nil, fmt.Errorf("%w: %q is named twice", ErrInvalid, key)
		}
		free = append(free, all[i])
	}
	if len(free) == 0 {
		return nil, fmt.Errorf("%w: the guess has nothing that could be fitted", ErrInvalid)
	}
	if len(free) > mostFree {
		return nil, fmt.Errorf("%w: %d parameters would be fitted, %d at most; say which, out of %s", ErrInvalid, len(free), mostFree, strings.Join(names, ", "))
	}
	return free, nil
}

// value is what a parameter has at a place.
func value(p array.Parameter, at float64) float64 {
	v := p.Value * math.Exp(at)
	if p.Unit == "" {
		return max(math.Round(v), 1)
	}
	digits := math.Pow(10, 3-math.Floor(math.Log10(v))) // four of them
	return math.Round(v*digits) / digits
}

// settings are the keys of an array file that give a parameter a value.
func settings(p array.Parameter, v float64) []plan.Setting {
	all := []plan.Setting{{Field: p.Key, Value: written(p.Unit, v)}}
	for _, a := range p.Along {
		all = append(all, plan.Setting{Field: a.Key, Value: written(p.Unit, v*a.Times)})
	}
	return all
}

// written is a value as array files have it.
func written(unit string, v float64) string {
	var text []byte
	switch unit {
	case array.InSeconds:
		if v < 1e-6 { // finer than the nanoseconds that times are written in
			return strconv.FormatFloat(v*1e9, 'g', 4, 64) + "ns"
		}
		text, _ = quantity.Seconds(v).MarshalYAML()
	case array.InBytesPerSecond:
		text, _ = quantity.ByteRate(math.Round(v)).MarshalYAML()
	case array.PerSecond:
		text, _ = quantity.OpRate(v).MarshalYAML()
	default:
		text = strconv.AppendFloat(nil, v, 'f', -1, 64)
	}
	return string(text)
}

// described is the array at a point.
func (w *fitter) described(at []float64) (array.Description, error) {
	var all []plan.Setting
	for i, p := range w.free {
		all = append(all, settings(p, value(p, at[i]))...)
	}
	return w.With(all)
}

// evaluate simulates all loads at several points, on all cores: the logarithm of each row's
// figure, or nothing where an array is impossible or does nothing.
func (w *fitter) evaluate(ctx context.Context, points ...[]float64) ([][]float64, error) {
	descriptions := make([]*array.Description, len(points))
	for i, at := range points {
		if d, err := w.described(at); err == nil {
			descriptions[i] = &d
		}
	}
	return w.simulate(ctx, descriptions, w.loads, w.rows, 0)
}

// simulate measures arrays under loads: the logarithms of what the rows read of them.
func (w *fitter) simulate(ctx context.Context, arrays []*array.Description, loads []workload.Spec, rows []row, enough int) ([][]float64, error) {
	logs := make([][]float64, len(arrays))
	for i := range arrays {
		if arrays[i] != nil {
			logs[i] = make([]float64, len(rows))
		}
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	type job struct{ array, load int }
	jobs := make(chan job)
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			for j := range jobs {
				if err := w.one(ctx, *arrays[j.array], loads[j.load], j.load, rows, enough, logs[j.array]); err != nil {
					cancel(err)
					return
				}
			}
		})
	}
feeding:
	for i, d := range arrays {
		for load := range loads {
			if d == nil {
				continue
			}
			select {
			case jobs <- job{i, load}:
			case <-ctx.Done():
				break feeding
			}
		}
	}
	close(jobs)
	workers.Wait()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	for i, of := range logs {
		if slices.ContainsFunc(of, func(l float64) bool { return math.IsNaN(l) || math.IsInf(l, 0) }) {
			logs[i] = nil
		}
	}
	return logs, nil
}

// one simulates one load, and fills in its rows.
func (w *fitter) one(ctx context.Context, d array.Description, load workload.Spec, number int, rows []row, enough int, logs []float64) (err error) {
	defer func() {
		if failed := recover(); failed != nil {
			err = fmt.Errorf("the simulation of %q failed: %v", load.Describe(), failed)
		}
	}()
	load.Seed = w.Seed
	sum, err := w.Measure(ctx, d, load, enough)
	if err == nil && sum.Total.Operations == 0 && load.For > 0 {
		// It is so much slower than what was measured that its time is over before it begins.
		load.For, load.LeadIn = load.For*patience, 0
		sum, err = w.Measure(ctx, d, load, enough)
	}
	if err != nil {
		return err
	}
	for i, r := range rows {
		if r.load == number {
			logs[i] = math.Log(r.figure.Value(&sum))
		}
	}
	w.report(func(h *HowNear) { h.Tried++ })
	return nil
}

func (w *fitter) report(change func(*HowNear)) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	change(&w.far)
	if w.Progress != nil {
		w.Progress(w.far)
	}
}

// place is a point with what the array does there.
type place struct {
	at   []float64
	logs []float64 // by row
	cost float64
}

// placed works the cost of a point out: what the rows are off, in deviations, and the way from
// the guess, as squares; but what strays costs less, after Cauchy. Of rows without a weight
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

// trusted are the weights of rows at a place: of one that strays less.
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
// those that stray aside.
func (w *fitter) off(logs []float64) float64 {
	return off(w.rows, logs, func(i int) bool { return math.Abs(logs[i]-w.rows[i].Log) > strayed })
}

func off(rows []row, logs []float64, astray func(int) bool) float64 {
	squares, n := 0.0, 0.0
	for i, r := range rows {
		if !astray(i) {
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
	w.report(func(h *HowNear) { h.Step = "looking around the first guess" })
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
	byCost := func(a, b place) int { return cmp.Compare(a.cost, b.cost) }
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
		w.report(func(h *HowNear) { h.Step = "following the best of them" })
		if p, err = w.improve(ctx, p, rounds); err != nil {
			return best, err
		}
		if p.cost < best.cost {
			best = p
		}
	}
	w.report(func(h *HowNear) { h.Step = "settling with longer simulations" })
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
