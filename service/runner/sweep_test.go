package runner

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/core/workload/streams"
	"patientheron/resource"
	"patientheron/service/room"
	"patientheron/service/store"
	"patientheron/storage"
)

// startOnArrays starts a runner that reads array files in a folder.
func startOnArrays(t *testing.T, folder string) *Runner {
	t.Helper()
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
	return r
}

// onArrays gives what carries a plan out to its end, on array files in a folder.
func onArrays(t *testing.T, folder string) (*store.Store, func(resource.Volume, plan.Plan) (resource.Run, []resource.Measurement)) {
	t.Helper()
	r := startOnArrays(t, folder)
	return r.store, func(on resource.Volume, p plan.Plan) (resource.Run, []resource.Measurement) {
		t.Helper()
		run, err := submit(t, r, "x", on, p)
		if err != nil {
			t.Fatal(err)
		}
		_, _, last := watched(t, r, run.ID)
		measurements, _, err := r.store.Measurements(t.Context(), run.ID)
		if err != nil || last.Status != resource.Finished {
			t.Fatalf("%s: %s, %v", last.Status, last.Reason, err)
		}
		return last, measurements
	}
}

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
	s, measured := onArrays(t, folder)
	load := workload.Default()
	load.For, load.WarmUp, load.Span, load.Reads, load.Depth = 5, 1, 1<<32, 0.5, 16
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

// Points that are simulated beside each other end with their run: what was under way is kept as
// far as it came, nothing goes on, and no fault happens in an array that nobody records.
func TestASweepIsStopped(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "a.yaml")
	if err := os.WriteFile(path, []byte("members: {count: 2, medium: ssd, capacity: 10GB}\nlayout: {level: raid0}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r := startOnArrays(t, folder)
	load := workload.Default()
	load.For, load.Depth = 80_000, 32
	run, err := submit(t, r, "x", resource.Volume{ID: 1, Name: "a", Locator: "array:" + path, Kind: "array"}, plan.Plan{Stages: []plan.Stage{{Load: load, Sweep: []plan.Axis{{Field: "members.count", Values: []string{"2", "3", "4", "5", "6", "7", "8", "9"}}}}}})
	if err != nil {
		t.Fatal(err)
	}
	until(t, "intervals", func() bool { _, err := r.Mark(t.Context(), run.ID, "now"); return err == nil })
	if _, err := r.Inject(t.Context(), run.ID, "{kind: latency spike, for: 1s, extra: 1ms}"); !errors.Is(err, ErrNotFaulty) {
		t.Errorf("injected: %v", err)
	}
	if err := r.Stop(t.Context(), run.ID, false); err != nil {
		t.Fatal(err)
	}
	_, _, last := watched(t, r, run.ID)
	measurements, _, err := r.store.Measurements(t.Context(), run.ID)
	if err != nil || last.Status != resource.Stopped || len(measurements) != 1 || measurements[0].Summary == nil {
		t.Errorf("%s with %+v, %v", last.Status, measurements, err)
	}
	until(t, "nothing is simulated", func() bool { return r.simulating.Load() == 0 })
}

func written(t *testing.T, of ...any) string {
	text, err := json.Marshal(of)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

// A search measures what it needs and no more, one after the other between other stages;
// what fits is what goes into the rate that the volume is held to.
func TestSearchMeasuresWhatItNeeds(t *testing.T) {
	folder := t.TempDir()
	path := filepath.Join(folder, "limited.yaml")
	if err := os.WriteFile(path, []byte("members: {count: 2, medium: ssd, capacity: 100GB}\nlayout: {level: raid1}\nlimits: {throughput: 21MB/s}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	feeds, other := workload.Default(), workload.Default()
	feeds.SetBody(&streams.Feeds{Count: 1, Rate: 2e6, Piece: 256 << 10})
	feeds.For = 60
	other.For = 1
	p := plan.Plan{Stages: []plan.Stage{{Load: other}, {Load: feeds, Repeats: 2, Fit: &plan.Fit{Field: "feeds", From: 3, To: 50}}, {Load: other}}}
	_, measured := onArrays(t, folder)
	run, measurements := measured(resource.Volume{ID: 1, Name: "limited", Locator: "array:" + path, Kind: "array"}, p)
	var tried []string
	for i, m := range measurements {
		if m.Position != i+1 {
			t.Errorf("measurement %d has position %d", i+1, m.Position)
		}
		if m.Stage == 2 && m.Repeat == 1 {
			tried = append(tried, m.Point[0].Value)
		}
	}
	// Doubled from 3 until it is not kept, and then halved between 6 and 12.
	if want := []string{"3", "6", "12", "9", "10", "11"}; !slices.Equal(tried, want) || len(measurements) != 2+2*len(want) || run.Progress.Steps != len(measurements) {
		t.Errorf("tried %v in %d measurements, %+v", tried, len(measurements), run.Progress)
	}
}
