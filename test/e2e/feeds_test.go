package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/core/answer"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/streams"
	"patientheron/resource"
)

// feeds is a load of feeds at a rate each.
func feeds(rate quantity.ByteRate, change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.SetBody(&streams.Feeds{Count: 1, Rate: rate})
	change(&s)
	return s
}

// What is held to a rate carries as many feeds as go into it, and not one more: the
// kernel's own throttle, and a limit of a simulated volume.
func TestAsManyFeedsFitAsTheRateCarries(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "limited.yaml")
	ok(t, os.WriteFile(path, []byte("name: limited\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid10}\nlimits: {throughput: 107MB/s}\n"), 0o644))
	search := func(load workload.Spec, to, repeats int) plan.Plan {
		return plan.Plan{Stages: []plan.Stage{{Load: load, Repeats: repeats, Fit: &plan.Fit{Field: "feeds", From: 1, To: to}}}}
	}
	found := func(run resource.RunDetail) answer.Told {
		t.Helper()
		shape, err := s.Shape(t.Context(), run.ID, 0)
		if err != nil || len(shape.Answers) != 1 || shape.Answers[0].Kind != answer.Kept {
			t.Fatalf("%s %s: %+v (%v)", run.Status, run.Reason, shape.Answers, err)
		}
		return shape.Answers[0].Sides[0]
	}
	run := s.measured(s.volume("array:"+path, nil), search(feeds(3e6, func(l *workload.Spec) { l.Span, l.For = 100*quantity.GiB, 30 }), 400, 2))
	if f := found(run); f.Value != 35 || f.High != 36 || run.Progress.Step != len(run.Measurements) || run.Progress.Steps != len(run.Measurements) {
		t.Errorf("107 MB/s carry %+v feeds of 3 MB/s; %d measurements, %+v", f, len(run.Measurements), run.Progress)
	}
	if out, _, err := s.cli("run", "repeats", "1"); err != nil || !strings.Contains(out, "35 (36 is not)") {
		t.Errorf("%v: %s", err, out)
	}

	// A machine that is busy with other things reads late now and then: a buffer of a
	// second and a half carries that, and not a rate that is not there.
	device := quietDevice(t, 256<<20)
	throttled := serve(t, t.TempDir(), false)
	throttle(t, throttled, device, 8<<20)
	s = throttled
	real := feeds(1.9*(1<<20), func(l *workload.Spec) {
		l.Span, l.For, l.WarmUp, streams.Of(*l).Piece, streams.Of(*l).Buffer = 252<<20, 4, 0.5, 64<<10, 1.5
	})
	run = s.measured(s.volume(device, nil), search(real, 6, 1))
	if f := found(run); f.Value != 4 || f.High != 5 {
		t.Errorf("8 MiB/s carry %+v feeds of 1.9 MiB/s", f)
	}
}
