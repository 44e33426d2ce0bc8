package simulated

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func description() array.Description {
	return array.Description{
		Members: []array.Group{{Count: 4, Medium: array.HardDisk, Capacity: 100 * quantity.GiB}}, Layout: array.Layout{Level: array.Parity},
		Caches: []array.Cache{{Name: "memory", Size: 64 * quantity.MiB, Block: 4096, Mode: array.WriteBack, Protected: true}},
	}
}

func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span, s.For, s.WarmUp, s.Reads = quantity.GiB, 20, 2, 0.7
	if change != nil {
		change(&s)
	}
	return s
}

func run(t testing.TB, ctx context.Context, v *Volume, s workload.Spec) (*load.Outcome, []measure.Interval) {
	t.Helper()
	used, err := v.Use(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	var series []measure.Interval
	outcome, err := load.Run(ctx, load.Job{Workload: s, Volume: used, Observe: func(i measure.Interval) { series = append(series, i) }})
	if err != nil {
		t.Fatal(err)
	}
	return outcome, series
}

func build(t testing.TB, d array.Description) *Volume {
	t.Helper()
	v, err := New(d)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// The same array and seed give the same bytes, on one worker or sixteen.
func TestSameSeedSameBytes(t *testing.T) {
	for _, workers := range []int{1, 16} {
		record := func() string {
			outcome, series := run(t, t.Context(), build(t, description()), spec(func(s *workload.Spec) { s.Workers, s.SyncEvery = workers, 50 }))
			text, err := json.Marshal([]any{outcome.Summary, series, outcome.Latencies[measure.Read].Bars(0), outcome.Latencies[measure.Write].Bars(0)})
			if err != nil {
				t.Fatal(err)
			}
			return string(text)
		}
		if first, second := record(), record(); first != second {
			t.Errorf("%d workers: two runs differ", workers)
		}
	}
}

func TestSeriesAndSummaryAgree(t *testing.T) {
	s := spec(func(s *workload.Spec) { s.Interval = 0.5 })
	outcome, series := run(t, t.Context(), build(t, description()), s)
	var operations int64
	for i, interval := range series {
		if interval.Index != i || len(interval.Inside) == 0 || len(interval.Beside) > 0 {
			t.Fatalf("interval %d: %+v", i, interval)
		}
		if !interval.WarmUp {
			operations += interval.Classes[measure.Read].Operations + interval.Classes[measure.Write].Operations
		}
		for _, c := range interval.Inside {
			if c.Unit == "share" && !(c.Value >= 0 && c.Value <= 1) {
				t.Errorf("interval %d: %s is %g", i, c.Name, c.Value)
			}
		}
	}
	sum := outcome.Summary
	if len(series) != 44 || operations != sum.Total.Operations || sum.Measured != 20 || sum.Interface != "simulated" {
		t.Errorf("%d intervals with %d operations; %+v", len(series), operations, sum)
	}
	// Little's law: what is in flight is rate × latency.
	if inFlight := float64(sum.Total.Rate) * float64(sum.Total.Latency.Mean); math.Abs(inFlight-8) > 0.4 {
		t.Errorf("%.2f in flight, asked for 8", inFlight)
	}
}

func TestPacedInVirtualTime(t *testing.T) {
	outcome, _ := run(t, t.Context(), build(t, description()), spec(func(s *workload.Spec) { s.Rate, s.Reads, s.Depth = 50, 1, 16 }))
	if rate := float64(outcome.Summary.Total.Rate); math.Abs(rate-50) > 0.5 || *outcome.Summary.IssueLag != 0 {
		t.Errorf("%.1f a second, issue lag %v", rate, outcome.Summary.IssueLag)
	}
}

// A cache stays warm from one measurement to the next, and a rest lets it
// write out what is dirty.
func TestTheArrayRemembers(t *testing.T) {
	v := build(t, description())
	pass := spec(func(s *workload.Spec) {
		s.Reads, s.Span, s.WarmUp, s.For, s.Amount = 1, 16*quantity.MiB, 0, 0, 16*quantity.MiB
	})
	cold, _ := run(t, t.Context(), v, pass)
	for seed := range uint64(6) { // every pass finds what is left
		pass.Seed = seed + 2
		run(t, t.Context(), v, pass)
	}
	warm, _ := run(t, t.Context(), v, pass)
	if warm.Summary.Total.Rate < 10*cold.Summary.Total.Rate {
		t.Errorf("warm %s, cold %s", warm.Summary.Total.Rate, cold.Summary.Total.Rate)
	}
	run(t, t.Context(), v, spec(func(s *workload.Spec) { s.Reads = 0 }))
	dirty := func() float64 {
		for _, c := range v.Inside() {
			if c.Name == "memory dirty" {
				return c.Value
			}
		}
		return -1
	}
	v.Rest(0.001)
	before := dirty()
	v.Rest(600)
	if after := dirty(); before <= 0 || after != 0 {
		t.Errorf("%.0f bytes dirty before the rest, %.0f after it", before, after)
	}
}

func TestStopAndFailure(t *testing.T) {
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	outcome, _ := run(t, ended, build(t, description()), spec(func(s *workload.Spec) { s.For = 1e6 }))
	if outcome.Summary.Ending != measure.ByStop {
		t.Errorf("ended by %s", outcome.Summary.Ending)
	}
	d := description()
	d.Caches = nil
	d.Faults = []array.Fault{{Kind: array.MemberFails, At: 5, Member: 0}, {Kind: array.MemberFails, At: 8, Member: 1}}
	outcome, _ = run(t, t.Context(), build(t, d), spec(nil))
	if outcome.Failure == nil || outcome.Summary.Faults[0].Kind != "i/o error" || outcome.Summary.Measured < 5 {
		t.Errorf("two of four members missing: %v, %+v", outcome.Failure, outcome.Summary)
	}
}

// Cost grows linearly with simulated operations.
func BenchmarkOperations(b *testing.B) {
	d := array.Description{Members: []array.Group{{Count: 8, Medium: array.Flash, Capacity: 100 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}}
	v := build(b, d)
	s := spec(func(s *workload.Spec) {
		s.Reads, s.Depth, s.WarmUp, s.For, s.Amount = 1, 64, 0, 0, quantity.Bytes(b.N)*4096
	})
	b.ResetTimer()
	run(b, b.Context(), v, s)
}

// As many workers as operations in flight cost about what one worker with all of them
// costs.
func BenchmarkWorkers(b *testing.B) {
	d := array.Description{Members: []array.Group{{Count: 8, Medium: array.Flash, Capacity: 100 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}}
	for _, workers := range []int{1, 256} {
		b.Run(fmt.Sprint(workers), func(b *testing.B) {
			v := build(b, d)
			s := spec(func(s *workload.Spec) {
				s.Reads, s.Workers, s.Depth, s.WarmUp, s.For, s.Amount = 1, workers, 256/workers, 0, 0, quantity.Bytes(b.N)*4096
			})
			b.ResetTimer()
			run(b, b.Context(), v, s)
		})
	}
}

// A fault by call happens while somebody else drives the array, and is refused when the
// array cannot have it.
func TestFaultInjectedBesideARun(t *testing.T) {
	v := build(t, description())
	ctx, stop := context.WithCancel(t.Context())
	over := make(chan *load.Outcome)
	go func() {
		outcome, err := load.Run(ctx, load.Job{Workload: spec(func(s *workload.Spec) { s.For, s.Reads = 1e6, 1 }), Volume: v, Observe: func(measure.Interval) {}})
		if err != nil {
			t.Error(err)
		}
		over <- outcome
	}()
	words, err := v.Inject(t.Context(), "{kind: member fails, member: 2}")
	if err != nil || words != "member fails (member 2)" {
		t.Errorf("%q, %v", words, err)
	}
	for text, want := range map[string]string{"{kind: member fails, member: 9}": "members 0 to 3", "{kind: path drops}": "no link", "nothing": "fault", "{kind: rebuild, member: 1, rate: 1MB/s}": "nothing to rebuild"} {
		if _, err := v.Inject(t.Context(), text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
	stop()
	if outcome := <-over; outcome.Failure != nil {
		t.Error(outcome.Failure)
	}
	waiting, done := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer done()
	if _, err := v.Inject(waiting, "{kind: power cut}"); err == nil || !strings.Contains(err.Error(), "nobody drives") {
		t.Errorf("when nobody drives it: %v", err)
	}
}
