package twin

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/mat"

	"patientheron/core/figure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

const (
	mostNext = 2   // loads that are proposed
	worthIt  = 0.1 // of what is not known, a further load has to tell so much
)

// next are the loads that would tell most of what is not known.
func (w *fitter) next(ctx context.Context, best place, covariance *mat.SymDense, times float64) ([]Telling, error) {
	chosen := []Telling{}
	if known := w.unknown(covariance, times); known == 0 {
		return chosen, nil
	}
	loads := w.further()
	var rows []row
	for i, load := range loads {
		rows = append(rows, row{load: i, figure: figure.Of(figure.Main(load)), deviation: 2 * least})
	}
	points := [][]float64{best.at}
	for i := range w.free {
		points = append(points, w.aside(best.at, i, 1))
	}
	logs, err := w.simulate(ctx, w.arrays(points), loads, rows, enough)
	if err != nil || logs[0] == nil {
		return chosen, err
	}
	slopes := w.slopesOf(place{at: best.at, logs: logs[0]}, points[1:], logs[1:], false)
	for len(chosen) < mostNext {
		most, at := 0.0, -1
		now := w.unknown(covariance, times)
		for i := range loads {
			if slices.ContainsFunc(chosen, func(t Telling) bool { return plain(t.Load) == plain(loads[i]) }) {
				continue
			}
			if gain := now - w.unknown(after(covariance, slopes, i, rows[i].deviation), times); gain > most {
				most, at = gain, i
			}
		}
		if at < 0 || most < worthIt*now {
			break
		}
		then := after(covariance, slopes, at, rows[at].deviation)
		chosen = append(chosen, Telling{loads[at], w.gained(loads[at], covariance, then, times)})
		covariance = then
	}
	return chosen, nil
}

// unknown is how much is not known of the parameters in all, beyond what counts as well known.
func (w *fitter) unknown(covariance *mat.SymDense, times float64) (sum float64) {
	for i := range w.free {
		sum += max(times*math.Sqrt(covariance.At(i, i))-well, 0)
	}
	return sum
}

// after is what is left unknown when one more row was measured.
func after(covariance *mat.SymDense, slopes *mat.Dense, r int, deviation float64) *mat.SymDense {
	information := inverse(covariance)
	n := information.SymmetricDim()
	for i := range n {
		for j := i; j < n; j++ {
			information.SetSym(i, j, information.At(i, j)+slopes.At(r, i)*slopes.At(r, j)/(deviation*deviation))
		}
	}
	return inverse(information)
}

// gained says what a load would tell.
func (w *fitter) gained(load workload.Spec, before, then *mat.SymDense, times float64) string {
	type gain struct {
		words string
		by    float64
	}
	var gains []gain
	for i, p := range w.free {
		was, is := times*math.Sqrt(before.At(i, i)), times*math.Sqrt(then.At(i, i))
		if was > well && is < 0.8*was {
			gains = append(gains, gain{fmt.Sprintf("the %s %s instead of %s", p.Label, within(is), wide(was)), was - is})
		}
	}
	slices.SortStableFunc(gains, func(a, b gain) int { return cmp.Compare(b.by, a.by) })
	words := []string{}
	for _, g := range gains[:min(len(gains), 2)] {
		words = append(words, g.words)
	}
	if len(words) == 0 {
		return load.Describe() + ": narrows several parameters a little."
	}
	return load.Describe() + ": would tell " + strings.Join(words, ", and ") + "."
}

// further are loads that could be measured as well: plain ones, on the span of those that were.
func (w *fitter) further() (all []workload.Spec) {
	span, measured := quantity.Bytes(0), map[string]bool{}
	for _, o := range w.Observed {
		reach, _ := o.Load.Completed().Reach()
		span = max(span, reach)
		measured[plain(o.Load)] = true
	}
	for _, of := range []struct {
		block quantity.Bytes
		reads quantity.Share
		order workload.Order
		depth int
	}{
		{4 * quantity.KiB, 1, workload.Random, 1}, {4 * quantity.KiB, 1, workload.Random, 32}, {4 * quantity.KiB, 0, workload.Random, 1}, {4 * quantity.KiB, 0, workload.Random, 32},
		{64 * quantity.KiB, 1, workload.Random, 8}, {64 * quantity.KiB, 0, workload.Random, 8}, {4 * quantity.KiB, 1, workload.Sequential, 1},
		{quantity.MiB, 1, workload.Sequential, 8}, {quantity.MiB, 0, workload.Sequential, 8},
	} {
		load := workload.Default()
		load.Blocks, load.Reads, load.Order, load.Depth, load.Span = workload.Block(of.block), of.reads, of.order, of.depth, span
		load.WarmUp = 1
		if !measured[plain(load)] {
			all = append(all, load)
		}
	}
	return all
}

// plain names what a load does, for how long and where aside.
func plain(load workload.Spec) string {
	load.Ending, load.Offset = workload.Ending{}, 0
	return load.Key()
}
