package e2e

import (
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/core/answer"
	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

// What people come for is among the figures: how much is kept, where two meet, from where on more
// is no help; and it is the same in the API, on the command line and in the report.
func TestAnswersAsFigures(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	array := func(name, text string) resource.Volume {
		path := filepath.Join(t.TempDir(), name+".yaml")
		ok(t, os.WriteFile(path, []byte(text), 0o644))
		return s.volume("array:"+path, nil)
	}
	// Small operations hang on how long one takes, large ones on what passes: they meet between.
	far := array("far", "name: far\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid0}\nlink: {count: 1, rate: 25Gb/s, roundTrip: 2ms}\n")
	near := array("near", "name: near\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid0}\nlimits: {throughput: 50MB/s, operations: 2000}\n")
	load := func(change func(*workload.Spec)) workload.Spec {
		return spec(func(w *workload.Spec) { w.Span, w.For, w.Workers, w.Depth = 10<<30, 20, 1, 1; change(w) })
	}
	p := plan.Plan{Stages: []plan.Stage{
		{Name: "rates", Load: load(func(w *workload.Spec) { w.Depth = 32; w.Rate = 100 }), Sweep: []plan.Axis{{Field: "rate", Values: []string{"500", "1k", "1900", "4k", "8k"}}}, Repeats: 3},
		{Name: "blocks", Load: load(func(*workload.Spec) {}), Sweep: []plan.Axis{{Field: "block", Values: []string{"4KiB", "16KiB", "64KiB", "256KiB", "1MiB"}}}, Repeats: 3},
		{Name: "by host", Load: load(func(w *workload.Spec) { w.Reads = 0.5 }), Repeats: 3},
		{Name: "by host, deeper", Load: load(func(w *workload.Spec) { w.Reads, w.Depth = 0.5, 8 }), Repeats: 3},
	}}
	a, b := s.measured(far, p), s.measured(near, p)
	compared, err := s.Compare(t.Context(), resource.NewComparison{Baseline: resource.Group{Runs: []int64{a.ID}}, Candidates: []resource.Group{{Runs: []int64{b.ID}}}})
	ok(t, err)
	var kept, meet answer.Conclusion
	for _, c := range compared.Answers {
		switch {
		case c.Kind == answer.Kept && c.Stage == "rates":
			kept = c
		case c.Kind == answer.Meet && c.Stage == "blocks":
			meet = c
		}
	}
	if len(kept.Sides) != 2 || kept.Sides[1].Value != 1900 || kept.Sides[1].High != 4000 || kept.Ratios[0].Verdict != judge.Worse {
		t.Errorf("near does 2000 a second: %+v", kept)
	}
	if len(meet.Ratios) != 1 || len(meet.Ratios[0].Meets) != 1 {
		t.Errorf("they meet once: %+v", meet)
	}
	out, _, err := s.cli("compare", "1", "2")
	if err != nil || !strings.Contains(out, kept.Title) || !strings.Contains(out, "the crossover is between") {
		t.Errorf("%v: %s", err, out)
	}
	var page strings.Builder
	ok(t, s.ReportComparison(t.Context(), resource.NewComparison{Baseline: resource.Group{Runs: []int64{1}}, Candidates: []resource.Group{{Runs: []int64{2}}}}, &page))
	if !strings.Contains(page.String(), "1900") || !strings.Contains(page.String(), "the crossover is between") {
		t.Error("the report does not tell what is kept and where they meet")
	}

	// A run beside itself, stage against stage, and kept so.
	as := []compare.As{{Baseline: "by host", Candidate: "by host, deeper"}}
	keeping := resource.NewComparison{Name: "deeper", Keep: true, Baseline: resource.Group{Runs: []int64{2}}, Candidates: []resource.Group{{Runs: []int64{2}}}, Asked: resource.Asked{As: as}}
	_, err = s.Compare(t.Context(), keeping)
	ok(t, err)
	again, err := s.Comparison(t.Context(), 1)
	if err != nil || len(again.Result.Points) != 1 || again.Result.Points[0].As != "by host, deeper" || !strings.Contains(again.Result.Points[0].Means, "depth is 8 there and 1") {
		t.Errorf("%+v (%v)", again.Result.Points, err)
	}
	for _, wrong := range [][]string{{"compare", "2", "2"}, {"compare", "2", "2", "--match", "by host=no such stage"}, {"compare", "2", "2", "--match", "by host"}, {"compare", "2", "2", "--match", "by host=by host"}, {"compare", "2", "2", "--match", "by host=rates", "--match", "by host=blocks"}, {"compare", "2", "2@after:x"}, {"compare", "2@between:x", "2"}, {"compare", "2@before:no such marker", "2"}} {
		if _, trouble, err := s.cli(wrong...); err == nil || trouble == "" {
			t.Errorf("%v: possible", wrong)
		}
	}
}

// Before and after what happened to an array are two sides, measurement by measurement.
func TestBeforeAgainstAfter(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "fails.yaml")
	// Four alike, each broken at the same time of its own measurement.
	ok(t, os.WriteFile(path, []byte("name: fails\nmembers: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid6}\nfaults: [{kind: member slows, member: 2, at: 20s, factor: 4, for: 20s}, {kind: member slows, member: 2, at: 60s, factor: 4, for: 20s}, {kind: member slows, member: 2, at: 100s, factor: 4, for: 20s}]\n"), 0o644))
	run := s.measured(s.volume("array:"+path, nil), plan.Plan{Stages: []plan.Stage{{Name: "lookups", Repeats: 3, Load: spec(func(w *workload.Spec) { w.Span, w.For, w.Interval, w.Depth = 20<<30, 40, 0.5, 16 })}}})
	if len(run.Markers) < 3 {
		t.Fatalf("%+v", run.Markers)
	}
	name := run.Markers[0].Name
	compared, err := s.Compare(t.Context(), resource.NewComparison{Baseline: resource.Group{Runs: []int64{1}, Marker: name, Half: resource.Before}, Candidates: []resource.Group{{Runs: []int64{1}, Marker: name, Half: resource.After}}})
	ok(t, err)
	o := compared.Result.Points[0].Row("iops").Candidates[0]
	if o.Verdict != judge.Worse || o.Pairs != 3 || math.IsNaN(o.Ratio.Value) || o.Ratio.Value > 0.8 {
		t.Errorf("%+v", o)
	}
	if out, _, err := s.cli("compare", "1@before:"+name, "1@after:"+name); err != nil || !strings.Contains(out, "worse") {
		t.Errorf("%v: %s", err, out)
	}
	if out, _, err := s.cli("run", "rejudge", "1"); err != nil || !strings.Contains(out, "Run 1 is judged") {
		t.Errorf("%v: %s", err, out)
	}
}
