package simulated

import (
	"context"
	"fmt"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Measure measures a fresh array under a load, by itself and without a run. Where a number
// of operations is given, about so many are enough: its lead-in and its time are then as much
// shorter as the array is faster than that asks for.
func Measure(ctx context.Context, d array.Description, spec workload.Spec, enough int) (sum measure.Summary, err error) {
	v, err := New(d)
	if err != nil {
		return sum, err
	}
	if err := v.Ready(ctx, spec, nil); err != nil {
		return sum, err
	}
	if enough > 0 && spec.For > 0 && spec.Kind != workload.FilesKind {
		first := spec
		first.LeadIn, first.For = 0, min(glance, spec.For)
		seen, err := v.measure(ctx, first)
		if err != nil {
			return sum, err
		}
		if rate := float64(seen.Total.Operations) / float64(first.For); rate > 0 {
			time := max(quantity.Seconds(float64(enough)/rate), glance)
			spec.LeadIn, spec.For = min(spec.LeadIn, warming*time), min(spec.For, time)
		}
	}
	return v.measure(ctx, spec)
}

// glance is how long an array is measured to see how fast it is about, and warming how many
// times as long as it is then measured its lead-in may be: what a cache holds comes with it.
const (
	glance  quantity.Seconds = 0.05
	warming quantity.Seconds = 8
)

// measure measures the array as it stands.
func (v *Volume) measure(ctx context.Context, spec workload.Spec) (sum measure.Summary, err error) {
	opened, err := v.Use(spec)
	if err != nil {
		return sum, err
	}
	defer opened.Close()
	o, err := load.Run(ctx, load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	switch {
	case err != nil:
		return sum, err
	case ctx.Err() != nil:
		return sum, context.Cause(ctx)
	case o.Failure != nil:
		return sum, fmt.Errorf("measure: %w", o.Failure)
	}
	return o.Summary, nil
}
