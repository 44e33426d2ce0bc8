package twin

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

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
	// enough operations for one simulation; of large ones, which are many pieces each, fewer.
	// A quarter as long before it is warm-up, and up to eight times as long where the array has
	// something that fills.
	enough  = 4_000
	piece   = 16 * quantity.KiB
	fewOps  = 400
	begins  = 0.25
	filling = 8
	// patience is how many times as long it is simulated where it does nothing.
	patience = 200
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
		if reach, _ := o.Load.Completed().Reach(); reach > guess.Size() {
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
	load.Steady, load.Margin, load.Interval = false, 0, 0
	if load.Traits().OnFiles || o.Rate <= 0 {
		return load
	}
	whole := load.Completed()
	operations := max(enough/max(whole.MeanBlock()/float64(piece), 1), fewOps, 16*float64(whole.Depth*whole.Workers))
	time := quantity.Seconds(operations / o.Rate * times)
	if load.Amount > 0 || load.For == 0 { // which a rate does not hang on
		load.Amount, load.For = 0, max(load.For, time)
	}
	load.For = min(load.For, time)
	if guess.Fills() {
		load.WarmUp = min(max(load.WarmUp, time*begins), time*filling)
	} else {
		load.WarmUp = time * begins
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
