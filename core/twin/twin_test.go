package twin_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/twin"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/storage/simulated"
)

// reader gives an array file with some keys at other values.
func reader(text string) twin.With {
	return func(settings []plan.Setting) (array.Description, error) {
		return arrayfile.ReadWith([]byte(text), settings)
	}
}

// load is a plain load.
func load(block quantity.Bytes, reads quantity.Share, order workload.Order, depth int) workload.Spec {
	l := workload.Default()
	l.Blocks, l.Reads, l.Order, l.Depth = workload.Block(block), reads, order, depth
	l.Span, l.For, l.LeadIn = 64*quantity.GiB, 20, 0.5
	return l
}

// many are loads that move everything a plain array has.
func many() []workload.Spec {
	const kib, mib = quantity.KiB, quantity.MiB
	return []workload.Spec{
		load(4*kib, 1, workload.Random, 1), load(4*kib, 1, workload.Random, 8), load(4*kib, 1, workload.Random, 64),
		load(4*kib, 0, workload.Random, 1), load(4*kib, 0, workload.Random, 8), load(4*kib, 0, workload.Random, 64),
		load(64*kib, 1, workload.Random, 4), load(64*kib, 0, workload.Random, 16), load(16*kib, 0.7, workload.Random, 16),
		load(mib, 1, workload.Sequential, 1), load(mib, 1, workload.Sequential, 16), load(mib, 0, workload.Sequential, 16),
	}
}

// observed measures an array under loads, so often, with another seed each time.
func observed(t *testing.T, d array.Description, loads []workload.Spec, repeats int) []twin.Observed {
	t.Helper()
	var samples []twin.Sample
	for i, l := range loads {
		for repeat := range repeats {
			l.Seed = uint64(1000 + 17*i + repeat)
			sum, err := simulated.Measure(t.Context(), d, l, 20_000)
			if err != nil {
				t.Fatal(err)
			}
			samples = append(samples, twin.Sample{Name: l.Describe(), Load: l, Summary: &sum})
		}
	}
	all, left := twin.Observe(samples)
	if len(left) > 0 {
		t.Fatal(left)
	}
	return all
}

func fitted(t *testing.T, f twin.Fit) twin.Fitted {
	t.Helper()
	f.Measure = simulated.Measure
	r, err := f.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// Arrays that are hidden behind a seed are found again: what the measurements tell well is
// right within a tenth, and loads that the twin was not shown are told within 15 %.
func TestHiddenArraysAreFound(t *testing.T) {
	for name, guess := range map[string]string{
		"a stripe of SSDs over a link":      "members: {count: 4, medium: ssd, capacity: 2TB}\nlayout: {level: raid0}\nlink: {rate: 3GB/s, roundTrip: 100us}\n",
		"a mirror stripe of disks":          "members: {count: 8, medium: hard disk, capacity: 4TB}\nlayout: {level: raid10}\n",
		"single parity behind a bottleneck": "members: {count: 5, medium: ssd, capacity: 1TB}\nlayout: {level: raid5}\ncontroller: {operations: 80000, throughput: 2GB/s}\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			with := reader(guess)
			d, err := with(nil)
			if err != nil {
				t.Fatal(err)
			}
			draw := rand.New(rand.NewPCG(7, uint64(len(name))))
			truth := map[string]float64{}
			var settings []plan.Setting
			for _, p := range d.Parameters() {
				times := math.Exp(draw.NormFloat64() * 0.5)
				for _, a := range append([]array.Along{{Key: p.Key, Times: 1}}, p.Along...) {
					v := p.Value * times * a.Times
					text := map[string]string{"": fmt.Sprintf("%.0f", v), array.InSeconds: fmt.Sprintf("%.9fs", v), array.InBytesPerSecond: fmt.Sprintf("%.0fB/s", v), array.PerSecond: fmt.Sprintf("%.0f", v)}[p.Unit]
					settings = append(settings, plan.Setting{Field: a.Key, Value: text})
				}
				truth[p.Key] = p.Value * times
			}
			hidden, err := with(settings)
			if err != nil {
				t.Fatal(err)
			}
			r := fitted(t, twin.Fit{With: with, Observed: observed(t, hidden, many(), 2)})
			t.Logf("%s\n%d simulations", strings.Join(r.Words, "\n"), r.Tried)
			told := 0
			for _, p := range r.Parameters {
				t.Logf("%-28s guess %-12.5g truth %-12.5g twin %-12.5g %s, %s", p.Key, p.Guess, truth[p.Key], p.Value, p.Spread, p.Known)
				if p.Known != twin.Well {
					continue
				}
				told++
				if off := p.Value/truth[p.Key] - 1; math.Abs(off) > 0.1 {
					t.Errorf("%s is off by %+.1f %%, and said to be known well", p.Key, off*100)
				}
			}
			if told < 2 {
				t.Errorf("only %d parameters are told", told)
			}
			for _, n := range r.Next {
				t.Log(n.Words)
			}
			made, err := with(r.Settings())
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range []workload.Spec{load(8*quantity.KiB, 0.5, workload.Random, 32), load(128*quantity.KiB, 1, workload.Random, 8), load(256*quantity.KiB, 0, workload.Sequential, 4)} {
				real, err := simulated.Measure(t.Context(), hidden, l, 20_000)
				if err != nil {
					t.Fatal(err)
				}
				told, err := simulated.Measure(t.Context(), made, l, 20_000)
				if err != nil {
					t.Fatal(err)
				}
				off := float64(told.Total.Rate/real.Total.Rate) - 1
				t.Logf("%s: %+.1f %%", l.Describe(), off*100)
				if math.Abs(off) > 0.15 {
					t.Errorf("%s is off by %+.1f %%", l.Describe(), off*100)
				}
			}
		})
	}
}

var _ = slices.Index[[]int]
var _ = errors.New
var _ context.Context
