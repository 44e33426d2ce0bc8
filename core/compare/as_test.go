package compare

import (
	"math"
	"testing"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// copying is a stage that brings so many bytes a second into place: read and written by the
// host, or copied by the storage.
func copying(run int64, stage string, byStorage bool, rates ...float64) (samples []Sample) {
	for _, rate := range rates {
		load := workload.Default()
		flow := func(perSecond float64) (f measure.Figures) {
			f.Operations, f.Bytes = int64(perSecond*60/4096), quantity.Bytes(perSecond*60)
			f.Rate, f.Throughput = measure.Per(f.Operations, int64(f.Bytes), 60)
			return f
		}
		sum := &measure.Summary{Measured: 60, Ending: measure.ByTime, Classes: map[measure.Class]measure.Figures{}}
		if byStorage {
			load.Copies, load.Reads = 1, 0
			sum.Classes[measure.Copy] = flow(rate)
			sum.Total = flow(rate)
		} else {
			load.Reads = 0.5
			sum.Classes[measure.Read], sum.Classes[measure.Write] = flow(rate), flow(rate)
			sum.Total = flow(2 * rate)
		}
		samples = append(samples, Sample{Run: run, Measurement: int64(len(samples)), Stage: stage, Load: load, Summary: sum})
	}
	return samples
}

// What is copied by the host moves each byte twice, and by the storage once: what counts is
// how much is brought into place.
func TestTheSameByOtherMeans(t *testing.T) {
	side := Side{Name: "array", Runs: []int64{1}}
	side.Samples = append(copying(1, "by host", false, 100e6, 101e6, 99e6, 100e6), copying(1, "by storage", true, 200e6, 202e6, 198e6, 200e6)...)
	base, candidate := side, side
	if c := Sides(base, []Side{candidate}, 0); len(c.Points) != 2 { // each with itself
		t.Fatalf("%+v", c)
	}
	base.Samples, candidate.Samples = side.Samples[:4], side.Samples[4:]
	if c := Sides(base, []Side{candidate}, 0); len(c.Points) != 0 {
		t.Fatalf("stages of other names were matched: %+v", c.Points)
	}
	candidate.As = []As{{"by host", "by storage"}}
	c := Sides(base, []Side{candidate}, 0)
	if len(c.Points) != 1 {
		t.Fatalf("%+v", c)
	}
	p := c.Points[0]
	o := p.Row(p.Main).Candidates[0]
	if p.Main != "placed" || p.As != "by storage" || p.Means == "" || math.Abs(o.Ratio.Value-2) > 1e-9 || o.Verdict != judge.Better {
		t.Errorf("%s, %q: %q: %+v", p.Main, p.As, p.Means, o)
	}
	if candidate.Samples[0].Stage != "by storage" {
		t.Error("the samples of the side were changed")
	}
	// The same load under another name is compared by what it is judged by.
	candidate.Samples = copying(2, "again", false, 100e6, 101e6, 99e6)
	candidate.As = []As{{"by host", "again"}}
	if c := Sides(base, []Side{candidate}, 0); len(c.Points) != 1 || c.Points[0].Main != "throughput" || c.Points[0].Means != "" {
		t.Errorf("%+v", c.Points)
	}
}
