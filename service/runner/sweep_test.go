package runner

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"testing"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service/room"
	"patientheron/service/store"
	"patientheron/storage"
)

// Each point of a sweep over an array is what the array measures whose file says so.
func TestSweptArraysAreThoseOfTheirFiles(t *testing.T) {
	folder := t.TempDir()
	write := func(name string, disks int, cache string) resource.Volume {
		path := filepath.Join(folder, name)
		text := fmt.Sprintf("members: {count: %d, medium: hard disk, capacity: 1TB}\nlayout: {level: raid0}\ncaches: {size: %s, mode: write-back}\n", disks, cache)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return resource.Volume{ID: 1, Name: name, Locator: "array:" + path, Kind: "array"}
	}
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "heron.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	r, err := Start(t.Context(), Options{
		Store: s, Room: room.Hold(filepath.Join(t.TempDir(), "reserve")), Log: slog.New(slog.DiscardHandler), Version: "test", Bounds: storage.Bounds{Arrays: []string{folder}},
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close(); s.Close() })
	measured := func(on resource.Volume, p plan.Plan) (resource.Run, []resource.Measurement) {
		run, err := r.Submit(t.Context(), "x", on, p, 0, nil)
		if err != nil {
			t.Fatal(err)
		}
		_, _, last := watched(t, r, run.ID)
		measurements, _, err := s.Measurements(t.Context(), run.ID)
		if err != nil || last.Status != resource.Finished {
			t.Fatalf("%s: %s, %v", last.Status, last.Reason, err)
		}
		return last, measurements
	}
	load := workload.Default()
	load.For, load.LeadIn, load.Span, load.Reads, load.Depth = 5, 1, 1<<32, 0.5, 16
	base := write("swept.yaml", 3, "64MiB")
	swept, points := measured(base, plan.Plan{Stages: []plan.Stage{
		{Load: load},
		{Load: load, Sweep: []plan.Axis{{Field: "members.count", Values: []string{"2", "8"}}, {Field: "caches[0].size", Values: []string{"16MiB", "1GiB"}}}},
		{Load: load},
	}})
	variants, err := s.Variants(t.Context(), swept.ID)
	if err != nil || len(variants) != 4 {
		t.Fatalf("%d variants, %v", len(variants), err)
	}
	detail := resource.RunDetail{Run: swept, Variants: variants}
	seen := map[string]bool{}
	for i, c := range []struct {
		disks int
		cache string
	}{{3, "64MiB"}, {2, "16MiB"}, {2, "1GiB"}, {8, "16MiB"}, {8, "1GiB"}, {3, "64MiB"}} {
		alone, single := measured(write(fmt.Sprintf("%d.yaml", i), c.disks, c.cache), plan.Plan{Stages: []plan.Stage{{Load: load}}})
		got, want := written(t, points[i].Summary, points[i].Findings), written(t, single[0].Summary, single[0].Findings)
		if got != want {
			t.Errorf("point %d, %v:\n%s\nalone:\n%s", i+1, points[i].Point, got, want)
		}
		seen[got] = true
		if d := detail.SetupOf(points[i]); !d.Same(alone.Setup) {
			t.Errorf("point %d: setup %+v, alone %+v", i+1, d, alone.Setup)
		}
	}
	if len(seen) != 5 {
		t.Errorf("%d different results of 5 arrays", len(seen))
	}
}

func written(t *testing.T, of ...any) string {
	text, err := json.Marshal(of)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
