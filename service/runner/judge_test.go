package runner

import (
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"testing"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

// What was measured is judged again as it was judged at first, what could not be judged is then
// finished, and a run that goes on is left alone. A fault of the array's file is a marker.
func TestJudgedAgain(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "fails.yaml")
	if err := os.WriteFile(path, []byte("members: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid6}\nfaults: [{kind: member fails, member: 2, at: 20s}]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s, measured := onArrays(t, folder)
	load := workload.Default()
	load.For, load.Interval = 40, 0.5
	run, measurements := measured(resource.Volume{ID: 1, Name: "fails", Locator: "array:" + path, Kind: "array"}, plan.Plan{Stages: []plan.Stage{{Load: load, Repeats: 2}}})
	markers, err := s.Markers(t.Context(), run.ID)
	if err != nil || len(markers) != 1 || markers[0].At != 20 || markers[0].MeasurementID != measurements[0].ID {
		t.Errorf("%+v (%v)", markers, err)
	}
	spoiled := slices.Clone(measurements)
	for _, m := range spoiled {
		sum := *m.Summary
		m.Summary, m.Findings, m.Status, m.Reason = &sum, nil, resource.Failed, notJudged+": the disk was full"
		sum.Inside, sum.Steadiness = nil, nil
		if err := s.EndMeasurement(t.Context(), m, nil); err != nil {
			t.Fatal(err)
		}
	}
	spoiled, _, err = s.Measurements(t.Context(), run.ID)
	if err != nil {
		t.Fatal(err)
	}
	again := &Runner{store: s}
	if n, err := again.JudgeAgain(t.Context(), resource.RunDetail{Run: run, Measurements: spoiled}); n != 2 || err != nil {
		t.Fatalf("%d, %v", n, err)
	}
	if now, _, err := s.Measurements(t.Context(), run.ID); err != nil || !reflect.DeepEqual(now, measurements) {
		t.Errorf("%v:\n%+v\nwas\n%+v", err, now, measurements)
	}
	run.Status = resource.Running
	if _, err := again.JudgeAgain(t.Context(), resource.RunDetail{Run: run, Measurements: spoiled}); !errors.Is(err, ErrNotEnded) {
		t.Error(err)
	}
}
