package main

import (
	"context"
	"time"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/twin"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/storage/simulated"
)

// fitting times a twin of six parameters that is fitted to thirty measurements of an array that
// is not its guess.
func fitting() error {
	const guess = "members: {count: 4, medium: ssd, capacity: 2TB}\nlayout: {level: raid0}\nlink: {rate: 3GB/s, roundTrip: 100us}\n"
	with := func(settings []plan.Setting) (array.Description, error) {
		return arrayfile.ReadWith([]byte(guess), settings)
	}
	real, err := with([]plan.Setting{
		{Field: "link.rate", Value: "1.2GB/s"}, {Field: "link.roundTrip", Value: "180us"}, {Field: "members.dies", Value: "24"},
		{Field: "members.readTime", Value: "55us"}, {Field: "members.programTime", Value: "900us"}, {Field: "members.interface", Value: "400MB/s"},
	})
	if err != nil {
		return err
	}
	ctx := context.Background()
	var samples []twin.Sample
	for _, block := range []quantity.Bytes{4 * quantity.KiB, 16 * quantity.KiB, 64 * quantity.KiB, 256 * quantity.KiB, quantity.MiB} {
		for _, reads := range []quantity.Share{1, 0} {
			for _, depth := range []int{1, 8, 64} {
				load := workload.Default()
				load.Blocks, load.Reads, load.Depth, load.Span = workload.Block(block), reads, depth, 64*quantity.GiB
				sum, err := simulated.Measure(ctx, real, load, 10_000)
				if err != nil {
					return err
				}
				samples = append(samples, twin.Sample{Name: load.Describe(), Load: load, Summary: &sum})
			}
		}
	}
	observed, _ := twin.Observe(samples)
	began := time.Now()
	fitted, err := twin.Fit{With: with, Observed: observed, Measure: simulated.Measure}.Run(ctx)
	if err != nil {
		return err
	}
	row("a twin of six parameters from thirty measurements, on all cores", "under 60 s", "%.0f s, %d simulations, off by %.2f %%", time.Since(began).Seconds(), fitted.Tried, fitted.Off*100)
	return nil
}
