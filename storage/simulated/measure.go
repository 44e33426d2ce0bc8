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
// of operations is given, about so many are enough: its warm-up and its time are then as much
// shorter as the array is faster than that asks for; of several loads at once each does a
// number of its own.
func Measure(ctx context.Context, d array.Description, spec workload.Spec, enough int) (sum measure.Summary, err error) {
	v, err := New(d)
	if err != nil {
		return sum, err
	}
	if err := v.Ready(ctx, spec, nil); err != nil {
		return sum, err
	}
	if enough > 0 && spec.For > 0 && !spec.Traits().OnFiles {
		first := spec
		first.WarmUp, first.For = 0, min(glance, spec.For)
		seen, err := v.measure(ctx, first)
		if err != nil {
			return sum, err
		}
		time := max(timeFor(enough, seen.Total.Operations, first.For), timeForEach(spec, seen), glance)
		spec.WarmUp, spec.For = min(spec.WarmUp, warming*time), min(spec.For, time)
	}
	return v.measure(ctx, spec)
}

// timeFor is how long it takes to do so many operations where some were done in a time;
// longer than anything where none were.
func timeFor(enough int, done int64, within quantity.Seconds) quantity.Seconds {
	return quantity.Seconds(float64(enough) * float64(within) / float64(done))
}

// timeForEach is how long it takes until each of several loads at once has done enough of its
// own to be judged by; nothing of a load alone.
func timeForEach(spec workload.Spec, seen measure.Summary) (longest quantity.Seconds) {
	if !spec.Several() {
		return 0
	}
	for i := range spec.Together {
		_, own := spec.Part(i, &seen)
		done := int64(0)
		for _, g := range own.Groups {
			done += g.Operations
		}
		longest = max(longest, timeFor(enoughOfEach, done, seen.Measured))
	}
	return longest
}

// enoughOfEach is how many operations, pieces, requests or whole files of one of several loads
// say about how fast it is.
const enoughOfEach = 16

// glance is how long an array is measured to see how fast it is about, and warming how many
// times as long as it is then measured its warm-up may be: what a cache holds comes with it.
const (
	glance  quantity.Seconds = 0.05
	warming quantity.Seconds = 8
)

// measure measures the array as it stands.
func (v *Volume) measure(ctx context.Context, spec workload.Spec) (sum measure.Summary, err error) {
	opened, err := v.Use(ctx, spec)
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
