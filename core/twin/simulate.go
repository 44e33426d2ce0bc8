package twin

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/core/wall"
	"patientheron/core/workload"
)

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
	return w.simulate(ctx, w.arrays(points), w.loads, w.rows, 0)
}

// arrays are those at points; nil where one is impossible.
func (w *fitter) arrays(points [][]float64) []*array.Description {
	all := make([]*array.Description, len(points))
	for i, at := range points {
		if d, err := w.described(at); err == nil {
			all[i] = &d
		}
	}
	return all
}

// simulate measures arrays under loads: the logarithms of what the rows read of them.
func (w *fitter) simulate(ctx context.Context, arrays []*array.Description, loads []workload.Spec, rows []row, enough int) ([][]float64, error) {
	logs := make([][]float64, len(arrays))
	for i := range arrays {
		if arrays[i] != nil {
			logs[i] = make([]float64, len(rows))
		}
	}
	together, within := errgroup.WithContext(ctx)
	together.SetLimit(runtime.GOMAXPROCS(0))
	for i, d := range arrays {
		for number, load := range loads {
			if d != nil && within.Err() == nil {
				together.Go(func() error { return w.one(within, *d, load, number, rows, enough, logs[i]) })
			}
		}
	}
	err := together.Wait()
	if ctx.Err() != nil {
		return nil, context.Cause(ctx)
	}
	if err != nil {
		return nil, err
	}
	for i, of := range logs {
		if slices.ContainsFunc(of, func(l float64) bool { return math.IsNaN(l) || math.IsInf(l, 0) }) {
			logs[i] = nil
		}
	}
	return logs, nil
}

// one simulates one load, and fills in its rows.
func (w *fitter) one(ctx context.Context, d array.Description, load workload.Spec, number int, rows []row, enough int, logs []float64) error {
	err := wall.Do(func() error { return w.simulateOne(ctx, d, load, number, rows, enough, logs) })
	if wall.StackOf(err) != "" {
		err = fmt.Errorf("the simulation of %q failed: %w", load.Describe(), err)
	}
	return err
}

func (w *fitter) simulateOne(ctx context.Context, d array.Description, load workload.Spec, number int, rows []row, enough int, logs []float64) error {
	load.Seed = w.Seed
	sum, err := w.Measure(ctx, d, load, enough)
	if err == nil && sum.Total.Operations == 0 && load.For > 0 {
		// It is so much slower than what was measured that its time is over before it begins.
		load.For, load.WarmUp = load.For*patience, 0
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
