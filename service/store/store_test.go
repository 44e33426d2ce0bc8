package store

import (
	"context"
	"errors"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

func open(t *testing.T) *Store {
	t.Helper()
	s, err := Open(t.Context(), filepath.Join(t.TempDir(), "odd name?#%.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func addRun(t *testing.T, s *Store, status resource.Status) resource.Run {
	t.Helper()
	r, err := s.AddRun(t.Context(), resource.Run{
		Name: "run", VolumeID: 3, Volume: resource.Volume{Name: "pool"}, Status: status,
		Plan: plan.Plan{Stages: []plan.Stage{{Load: workload.Default()}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestVolumesAndWorkloads(t *testing.T) {
	s := open(t)
	consent := &resource.Consent{Size: 5, Serial: "S", Given: time.Now().UTC()}
	v, err := s.AddVolume(t.Context(), resource.Volume{Name: "pool", Locator: "/srv/pool", Kind: "folder", Consent: consent})
	if err != nil {
		t.Fatal(err)
	}
	got, err := s.Volume(t.Context(), v.ID)
	if err != nil || !reflect.DeepEqual(got, v) {
		t.Errorf("kept %+v, found %+v (%v)", v, got, err)
	}
	for _, twin := range []resource.Volume{{Name: "pool", Locator: "/other"}, {Name: "other", Locator: "/srv/pool"}} {
		if _, err := s.AddVolume(t.Context(), twin); !errors.Is(err, ErrTaken) {
			t.Errorf("%+v: %v", twin, err)
		}
	}
	w, err := s.AddWorkload(t.Context(), resource.Workload{Name: "ledger", Load: workload.Default()})
	if err != nil {
		t.Fatal(err)
	}
	if list, err := s.Workloads(t.Context()); err != nil || len(list) != 1 || !reflect.DeepEqual(list[0], w) {
		t.Errorf("kept %+v, listed %+v (%v)", w, list, err)
	}
	for name, err := range map[string]error{
		"volume": s.ForgetVolume(t.Context(), v.ID), "workload": s.ForgetWorkload(t.Context(), w.ID),
	} {
		if err != nil {
			t.Errorf("forget the %s: %v", name, err)
		}
	}
	if err := s.ForgetVolume(t.Context(), v.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("forgotten twice: %v", err)
	}
}

func TestResultsComeBackAsTheyWere(t *testing.T) {
	s := open(t)
	run := addRun(t, s, resource.Running)
	m, err := s.AddMeasurement(t.Context(), resource.Measurement{
		RunID: run.ID, Position: 1, Stage: 1, Name: "stage", Point: []plan.Setting{{Field: "depth", Value: "4"}},
		Repeat: 1, Repeats: 2, Load: workload.Default(), Status: resource.Running,
	})
	if err != nil {
		t.Fatal(err)
	}
	reads := measure.NewHistogram(3)
	reads.Record(1000)
	now := time.Now().UTC()
	m.Status, m.Ended, m.Summary = resource.Finished, &now, &measure.Summary{Measured: 1, Ending: measure.ByTime}
	m.Findings = []judge.Finding{{Kind: "k", Weight: judge.Caution, Evidence: []judge.Evidence{{Name: "n", Value: 1}}}}
	if err := s.EndMeasurement(t.Context(), m, reads, nil); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Measurement(t.Context(), m.ID); err != nil || !reflect.DeepEqual(got, m) {
		t.Errorf("kept\n%+v, found\n%+v (%v)", m, got, err)
	}
	back, none, err := s.Histograms(t.Context(), m.ID)
	if err != nil || back.Count() != 1 || none.Count() != 0 {
		t.Errorf("%d reads, %d writes (%v)", back.Count(), none.Count(), err)
	}
	interval := measure.Interval{Index: 2, Start: 1, Length: 0.5, Beside: &measure.Beside{Devices: []measure.Device{{Name: "sda"}}}}
	if err := s.AddInterval(t.Context(), m.ID, interval); err != nil {
		t.Fatal(err)
	}
	if series, err := s.Intervals(t.Context(), m.ID); err != nil || len(series) != 1 || !reflect.DeepEqual(series[0], interval) {
		t.Errorf("series %+v (%v)", series, err)
	}
	if err := s.DeleteRun(t.Context(), run.ID); err != nil {
		t.Fatal(err)
	}
	if series, err := s.Intervals(t.Context(), m.ID); err != nil || len(series) != 0 {
		t.Errorf("a deleted run left %d intervals (%v)", len(series), err)
	}
	if _, err := s.Measurement(t.Context(), m.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("a deleted run left its measurement: %v", err)
	}
}

func TestInterruptUnfinished(t *testing.T) {
	s := open(t)
	under, queued, done := addRun(t, s, resource.Running), addRun(t, s, resource.Queued), addRun(t, s, resource.Finished)
	if n, err := s.InterruptUnfinished(t.Context(), "why"); err != nil || n != 1 {
		t.Errorf("%d runs interrupted (%v)", n, err)
	}
	for id, want := range map[int64]resource.Status{under.ID: resource.Interrupted, queued.ID: resource.Queued, done.ID: resource.Finished} {
		if got, err := s.Run(t.Context(), id); err != nil || got.Status != want {
			t.Errorf("run %d is %s, want %s (%v)", id, got.Status, want, err)
		}
	}
}

// With ten thousand runs each page is found by its key, none is lost and none
// comes twice.
func TestTenThousandRunsInPages(t *testing.T) {
	s := open(t)
	tx, err := s.db.BeginTxx(t.Context(), nil)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 10_000 {
		_, err := tx.Exec(`INSERT INTO runs (name, volume_id, volume, plan, estimate, progress, status, created) VALUES ('r', ?, '{}', '{}', '{}', '{}', 'finished', ?)`, i%7, time.Now())
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := tx.Commit(); err != nil {
		t.Fatal(err)
	}
	seen, before := 0, int64(0)
	for {
		page, err := s.Runs(t.Context(), RunFilter{Before: before, Limit: 500})
		if err != nil {
			t.Fatal(err)
		}
		if len(page) == 0 {
			break
		}
		for _, r := range page {
			if before != 0 && r.ID >= before {
				t.Fatalf("run %d after run %d", r.ID, before)
			}
			before = r.ID
			seen++
		}
	}
	if total, err := s.CountRuns(t.Context(), 0); err != nil || seen != 10_000 || total != 10_000 {
		t.Errorf("%d runs in pages, %d counted (%v)", seen, total, err)
	}
	if of, err := s.CountRuns(t.Context(), 3); err != nil || of != 1429 {
		t.Errorf("%d runs of volume 3 (%v)", of, err)
	}
}

func TestOpenTwiceAndGarbage(t *testing.T) {
	path := filepath.Join(t.TempDir(), "heron.sqlite")
	for range 2 {
		s, err := Open(t.Context(), path)
		if err != nil {
			t.Fatal(err)
		}
		s.Close()
	}
	if _, err := Open(t.Context(), filepath.Join(t.TempDir(), "missing", "heron.sqlite")); err == nil {
		t.Error("a database in a missing folder was opened")
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Open(ended, filepath.Join(t.TempDir(), "x.sqlite")); err == nil {
		t.Error("opened although the context had ended")
	}
}
