package demo

import (
	"strings"
	"testing"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/simulated"
	"patientheron/test/trials"
)

// Every setup does what its own explanation says: never more than its lowest ceiling, and
// where neither a cache nor a tier answers in the members' place, not much less.
func TestSetupsDoWhatTheirExplanationsSay(t *testing.T) {
	for i, name := range Setups {
		path, err := WriteSetup(t.TempDir(), name)
		if err != nil {
			t.Fatal(err)
		}
		d, err := simulated.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for j, use := range setup.Uses {
			if (i*len(setup.Uses)+j)%trials.Parts() != trials.Part() {
				continue
			}
			spec := workload.Default()
			spec.Blocks, spec.Reads, spec.Span = workload.Block(use.Block), use.Reads, d.Size()
			spec.Order, spec.Depth, spec.WarmUp, spec.For = workload.Random, 256, 3, 6
			if use.Sequential {
				spec.Order, spec.Depth = workload.Sequential, 64
			}
			use.Depth = spec.Depth
			v, err := simulated.New(d)
			if err != nil {
				t.Fatal(err)
			}
			used, err := v.Use(t.Context(), spec)
			if err != nil {
				t.Fatal(err)
			}
			outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: used, Observe: func(measure.Interval) {}})
			if err != nil {
				t.Fatal(err)
			}
			faster := d.Caches != nil || d.Tier != nil
			var limit setup.Hop
			for _, h := range d.Setup().Ceilings(use) {
				if h.Rate > 0 && (limit.Rate == 0 || h.Rate < limit.Rate) && !(faster && strings.HasPrefix(h.Station, "member")) {
					limit = h
				}
			}
			rate := outcome.Summary.Total.Rate
			share := float64(rate) / float64(limit.Rate)
			t.Logf("%s, %s: %s of %s (%q), %.2f", name, use.Name, use.Show(rate), use.Show(limit.Rate), limit.Name, share)
			least := 0.75
			if use.Reads == 0 && d.Layout.Level == array.Parity && d.Members[0].Medium == array.HardDisk {
				least = 0.6 // each writes where it has just read, and waits for a turn
			}
			if share > 1.05 || !faster && share < least {
				t.Errorf("%s, %s: %s measured, %s explained by %q: %s", name, use.Name, use.Show(rate), use.Show(limit.Rate), limit.Name, limit.Formula)
			}
		}
	}
}
