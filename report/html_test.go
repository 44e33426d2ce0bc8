package report

import (
	"math"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

const hostile = `<script>alert("x")</script>`

// run makes a run of one stage with some rates, with names that want to be
// markup.
func run(id int64, rates ...float64) (resource.Export, compare.Side) {
	var s setup.Setup
	s.Know("media[0].model", hostile, setup.Read, time.Time{})
	e := resource.Export{Run: resource.Run{ID: id, Name: hostile, Volume: resource.Volume{Name: hostile}, Plan: plan.Plan{Why: hostile, Stages: []plan.Stage{{Load: workload.Default()}}}, Setup: s, Status: resource.Finished}}
	side := compare.Side{Name: hostile, Runs: []int64{id}, Setup: s}
	for i, rate := range rates {
		f := measure.Figures{Operations: 10, Rate: quantity.OpRate(rate), Throughput: quantity.ByteRate(rate * 4096), Latency: measure.Latency{Mean: 0.001, P99: 0.003}}
		m := resource.Measurement{
			ID: id*10 + int64(i), RunID: id, Name: hostile, Repeat: i + 1, Repeats: len(rates), Load: workload.Default(), Status: resource.Finished, Summary: &measure.Summary{Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}},
			Findings: []judge.Finding{{Kind: "above-ceiling", Weight: judge.Unreliable, Figure: "all", Sentence: "memory answered " + hostile}},
		}
		series := []measure.Interval{{Start: 0, Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Rate: quantity.OpRate(rate)}}}, {Start: 1, Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Rate: quantity.OpRate(rate)}}}}
		latency := resource.Distribution{Classes: map[measure.Class]resource.ClassLatency{measure.Read: {Bars: []measure.Bar{{From: 0.001, To: 0.002, Count: 5}, {From: 0.002, To: 0.004, Count: 5}}}}}
		e.Measurements = append(e.Measurements, resource.ExportedResult{Measurement: m, Series: series, Latency: latency})
		side.Samples = append(side.Samples, compare.Sample{Run: id, Measurement: m.ID, Stage: m.Name, Load: m.Load, Summary: m.Summary, Doubts: m.Findings})
	}
	return e, side
}

// checkPage makes sure that a page stands alone and hides nothing.
func checkPage(t *testing.T, page string, words ...string) {
	t.Helper()
	checkHTML(t, page, append(words, "unreliable", "<svg", "memory answered &lt;script&gt;")...)
}

// checkHTML checks a page that may have no chart, and nothing that is not to be trusted.
func checkHTML(t *testing.T, page string, words ...string) {
	t.Helper()
	for _, word := range append(words, "How to repeat it") {
		if !strings.Contains(page, word) {
			t.Errorf("the page does not say %q", word)
		}
	}
	if found := regexp.MustCompile(`(?i)<script|src=|href="http|url\(|@import|NaN|\+Inf|%!`).FindString(page); found != "" {
		t.Errorf("the page holds %q", found)
	}
	for _, tag := range []string{"table", "div", "p", "h2", "svg", "ul"} {
		if opened, closed := strings.Count(page, "<"+tag+">")+strings.Count(page, "<"+tag+" "), strings.Count(page, "</"+tag+">"); opened != closed {
			t.Errorf("%d <%s> are opened, %d closed", opened, tag, closed)
		}
	}
}

func TestRunAsAPage(t *testing.T) {
	e, side := run(1, 100, 101, 99, 150, 100)
	failed := e.Measurements[0]
	failed.ID, failed.Status, failed.Reason, failed.Summary = 99, resource.Failed, "no space left", nil
	e.Measurements = append(e.Measurements, failed)
	var b strings.Builder
	if err := WriteRun(&b, ResultsOf(e), resource.Shape{Points: compare.Points(side), Lines: compare.Lines(side, 0, nil)}); err != nil {
		t.Fatal(err)
	}
	checkPage(t, b.String(), "no space left", "repeat 4 is odd", "95 % interval")
}

func TestExperimentAsAPage(t *testing.T) {
	e, side := run(1, 100, 101, 99)
	e.Run.Plan.Stages[0].Tune = &plan.Tune{Rounds: 3, Parameters: []plan.Tried{{Axis: plan.Axis{Field: "ImmediateData", Values: []string{hostile}}}}}
	for i := range e.Measurements {
		e.Measurements[i].Stage = 1
	}
	tuned, err := resource.TunedOf(e.Run, measurementsOf(e), nil)
	if err != nil || len(tuned) != 1 {
		t.Fatalf("%+v (%v)", tuned, err)
	}
	var b strings.Builder
	if err := WriteRun(&b, ResultsOf(e), resource.Shape{Points: compare.Points(side), Tuned: tuned}); err != nil {
		t.Fatal(err)
	}
	checkPage(t, b.String(), "Effects", "For the record", "Settings to keep", "not measured yet")
}

func measurementsOf(e resource.Export) (all []resource.Measurement) {
	for _, m := range e.Measurements {
		all = append(all, m.Measurement)
	}
	return all
}

func TestComparisonAsAPage(t *testing.T) {
	base, a := run(1, 100, 101, 99)
	other, c := run(2, 200, 201, 199)
	broken, d := run(3, 0, math.NaN())
	result := compare.Sides(a, []compare.Side{c, d, {Name: "empty"}}, 0.05)
	runs := map[int64]resource.RunDetail{}
	histograms := map[int64]*measure.Histogram{}
	for _, e := range []resource.Export{base, other, broken} {
		detail := resource.RunDetail{Run: e.Run}
		for _, m := range e.Measurements {
			detail.Measurements = append(detail.Measurements, m.Measurement)
			h := measure.NewHistogram()
			h.Record(1e6)
			h.Record(3e6)
			histograms[m.ID] = h
		}
		runs[e.Run.ID] = detail
	}
	compared := resource.Compared{
		Comparison: resource.Comparison{Name: hostile, Noise: 0.05, Baseline: resource.Group{Runs: []int64{1}}, Candidates: []resource.Group{{Runs: []int64{2}}, {Runs: []int64{3}}, {}}},
		Result:     result, Figures: figure.All(),
	}
	var b strings.Builder
	if err := WriteComparison(&b, compared, runs, func(id int64) (*measure.Histogram, error) { return histograms[id], nil }); err != nil {
		t.Fatal(err)
	}
	checkPage(t, b.String(), "throughput doubled", "heron compare 1 2 3", "only in the baseline")
}

// Reads and writes that fell into the same bucket are one bar of the whole.
func TestClassesAreJoinedByTheirBuckets(t *testing.T) {
	d := resource.Distribution{Classes: map[measure.Class]resource.ClassLatency{
		measure.Read:  {Bars: []measure.Bar{{From: 1, To: 2, Count: 5}, {From: 4, To: 8, Count: 1}}},
		measure.Write: {Bars: []measure.Bar{{From: 1, To: 2, Count: 3}, {From: 2, To: 4, Count: 7}}},
		measure.Flush: {Bars: []measure.Bar{{From: 1, To: 2, Count: 100}}},
	}}
	want := []measure.Bar{{From: 1, To: 2, Count: 8}, {From: 2, To: 4, Count: 7}, {From: 4, To: 8, Count: 1}}
	if got := joined(d); !slices.Equal(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
}
