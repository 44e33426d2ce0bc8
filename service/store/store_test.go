package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/choose"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/twin"
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

func TestVolumes(t *testing.T) {
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
	if err := s.RemoveVolume(t.Context(), v.ID); err != nil {
		t.Errorf("removed: %v", err)
	}
	if err := s.RemoveVolume(t.Context(), v.ID); !errors.Is(err, ErrNotFound) {
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
	reads := measure.NewHistogram()
	reads.Record(1000)
	now := time.Now().UTC()
	m.Status, m.Ended, m.Summary = resource.Finished, &now, &measure.Summary{Measured: 1, Ending: measure.ByTime}
	m.Findings = []judge.Finding{{Kind: "k", Weight: judge.Caution, Evidence: []judge.Evidence{{Name: "n", Value: 1}}}}
	if err := s.EndMeasurement(t.Context(), m, map[measure.Class]*measure.Histogram{measure.Read: reads}); err != nil {
		t.Fatal(err)
	}
	if got, err := s.Measurement(t.Context(), m.ID); err != nil || !reflect.DeepEqual(got, m) {
		t.Errorf("kept\n%+v, found\n%+v (%v)", m, got, err)
	}
	if back, err := s.Histograms(t.Context(), m.ID); err != nil || len(back) != 1 || back[measure.Read].Count() != 1 {
		t.Errorf("histograms %v (%v)", back, err)
	}
	interval := measure.Interval{Index: 2, Start: 1, Length: 0.5, Beside: []measure.Beside{{Devices: []measure.Device{{Name: "sda"}}}}}
	if err := s.AddIntervals(t.Context(), m.ID, []measure.Interval{interval}); err != nil {
		t.Fatal(err)
	}
	if series, err := s.Intervals(t.Context(), m.ID); err != nil || len(series) != 1 || !reflect.DeepEqual(series[0], interval) {
		t.Errorf("series %+v (%v)", series, err)
	}
	if err := s.RemoveRun(t.Context(), run.ID); err != nil {
		t.Fatal(err)
	}
	if series, err := s.Intervals(t.Context(), m.ID); err != nil || len(series) != 0 {
		t.Errorf("a deleted run left %d intervals (%v)", len(series), err)
	}
	if _, err := s.Measurement(t.Context(), m.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("a deleted run left its measurement: %v", err)
	}
}

// When a run ends, nothing of it goes on, and what had ended stays as it was.
func TestNothingGoesOnAfterARunEnded(t *testing.T) {
	s := open(t)
	run := addRun(t, s, resource.Running)
	for i, status := range []resource.Status{resource.Finished, resource.Running} {
		if _, err := s.AddMeasurement(t.Context(), resource.Measurement{RunID: run.ID, Position: i, Status: status}); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now().UTC()
	run.Status, run.Reason, run.Ended = resource.Failed, "no room", &now
	if err := s.EndRun(t.Context(), run); err != nil {
		t.Fatal(err)
	}
	measurements, _, err := s.Measurements(t.Context(), run.ID)
	if err != nil || measurements[0].Status != resource.Finished || measurements[1].Status != resource.Failed || measurements[1].Reason != "no room" || measurements[1].Ended == nil {
		t.Errorf("%+v (%v)", measurements, err)
	}
	if got, err := s.Run(t.Context(), run.ID); err != nil || got.Status != resource.Failed {
		t.Errorf("%+v (%v)", got, err)
	}
	run.ID = 99
	if err := s.EndRun(t.Context(), run); !errors.Is(err, ErrNotFound) {
		t.Errorf("a run that is not there: %v", err)
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
		page, _, err := s.Runs(t.Context(), RunFilter{Before: before, Limit: 500})
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

// One record that cannot be read does not hide the others: it is named.
func TestUnreadableRecordsAreNamed(t *testing.T) {
	s := open(t)
	var runs []resource.Run
	for range 3 {
		runs = append(runs, addRun(t, s, resource.Queued))
	}
	for i := range 3 {
		name := fmt.Sprint(i)
		if _, err := s.AddVolume(t.Context(), resource.Volume{Name: name, Locator: "/" + name, Kind: "folder", Consent: &resource.Consent{}}); err != nil {
			t.Fatal(err)
		}
		if _, err := s.AddComparison(t.Context(), resource.Comparison{Name: name}); err != nil {
			t.Fatal(err)
		}
		m := resource.Measurement{RunID: runs[0].ID, Position: i, Status: resource.Running}
		if m, err := s.AddMeasurement(t.Context(), m); err != nil || s.AddIntervals(t.Context(), m.ID, []measure.Interval{{Index: 0}, {Index: 1}, {Index: 2}}) != nil {
			t.Fatal(err)
		}
		if _, err := keepSetup(t, s, 1, told(t, "layout.level", []string{"raid1", "raid5", "raid6"}[i])); err != nil {
			t.Fatal(err)
		}
	}
	counts := map[string]func() (int, []resource.Unreadable, error){
		"runs": func() (int, []resource.Unreadable, error) {
			l, u, err := s.Runs(t.Context(), RunFilter{Limit: 9})
			return len(l), u, err
		},
		"queued": func() (int, []resource.Unreadable, error) {
			l, u, err := s.RunsWithStatus(t.Context(), resource.Queued)
			return len(l), u, err
		},
		"volumes": func() (int, []resource.Unreadable, error) { l, u, err := s.Volumes(t.Context()); return len(l), u, err },
		"comparisons": func() (int, []resource.Unreadable, error) {
			l, u, err := s.Comparisons(t.Context())
			return len(l), u, err
		},
		"measurements": func() (int, []resource.Unreadable, error) {
			l, u, err := s.Measurements(t.Context(), runs[0].ID)
			return len(l), u, err
		},
		"setups": func() (int, []resource.Unreadable, error) {
			l, u, err := s.Setups(t.Context(), 1)
			return len(l), u, err
		},
	}
	for _, damage := range []string{
		`UPDATE runs SET plan = '{"stages": 7' WHERE id = 2`, `UPDATE volumes SET consent = '[]' WHERE id = 2`,
		`UPDATE comparisons SET created = 'last summer' WHERE id = 2`, `UPDATE measurements SET load = '' WHERE id = 2`, `UPDATE setups SET format = 99 WHERE version = 2`,
		`UPDATE intervals SET data = 'x' WHERE measurement_id = 1 AND position = 1`,
	} {
		if _, err := s.db.ExecContext(t.Context(), damage); err != nil {
			t.Fatal(err)
		}
	}
	for name, count := range counts {
		if n, unreadable, err := count(); err != nil || n != 2 || len(unreadable) != 1 || unreadable[0].ID != 2 || !strings.HasPrefix(unreadable[0].Reason, "its ") {
			t.Errorf("%s: %d readable, %+v (%v)", name, n, unreadable, err)
		}
	}
	// Alone it is told of in plain words, and can be removed.
	if _, err := s.Run(t.Context(), 2); !errors.Is(err, ErrUnreadable) || strings.Contains(err.Error(), "sql:") || !strings.Contains(err.Error(), "plan") {
		t.Errorf("a run that cannot be read: %v", err)
	}
	if status, err := s.RunStatus(t.Context(), 2); err != nil || status == "" {
		t.Errorf("its status: %q (%v)", status, err)
	}
	if err := errors.Join(s.RemoveRun(t.Context(), 2), s.RemoveVolume(t.Context(), 2)); err != nil {
		t.Errorf("it cannot be removed: %v", err)
	}
	n := 0
	unreadable, err := s.EachInterval(t.Context(), 1, 0, func(measure.Interval) error { n++; return nil })
	if err != nil || n != 2 || unreadable != 1 {
		t.Errorf("%d intervals, %d unreadable (%v)", n, unreadable, err)
	}
	if _, err := s.Intervals(t.Context(), 1); err == nil {
		t.Error("a series with a hole was given as a whole one")
	}
}

// A long series in outline is what a thinner makes of the whole of it.
func TestOutline(t *testing.T) {
	s := open(t)
	run := addRun(t, s, resource.Running)
	m, err := s.AddMeasurement(t.Context(), resource.Measurement{RunID: run.ID, Position: 1, Status: resource.Running})
	if err != nil {
		t.Fatal(err)
	}
	var all []measure.Interval
	for i := range 1000 {
		flow := measure.Flow{Operations: int64(i), Rate: quantity.OpRate(i * 7919 % 1000), Max: quantity.Seconds(i * 31 % 997)}
		all = append(all, measure.Interval{Index: i, Classes: map[measure.Class]measure.Flow{measure.Read: flow, measure.Write: {Rate: 1}}, Spread: []measure.Cell{{Tenth: 50, Count: 3}}})
	}
	if err := s.AddIntervals(t.Context(), m.ID, all); err != nil {
		t.Fatal(err)
	}
	thin := measure.NewThinner(len(all), 60)
	for _, i := range all {
		thin.Add(i)
	}
	kept, total, unreadable, err := s.Outline(t.Context(), m.ID, 60)
	if err != nil || total != 1000 || unreadable != 0 || !reflect.DeepEqual(kept, thin.Kept()) {
		t.Errorf("%d of %d kept, %d unreadable (%v)", len(kept), total, unreadable, err)
	}
	if kept, _, _, err := s.Outline(t.Context(), m.ID, 1000); err != nil || !reflect.DeepEqual(kept, all) {
		t.Errorf("a series that fits: %d kept (%v)", len(kept), err)
	}
}

// A store that a newer heron has written is neither read nor changed.
func TestANewerStoreIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "heron.sqlite")
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.ExecContext(t.Context(), `INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`); err != nil {
		t.Fatal(err)
	}
	s.Close()
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(t.Context(), path); !errors.Is(err, ErrNewer) {
		t.Errorf("opened: %v", err)
	}
	if after, err := os.ReadFile(path); err != nil || !bytes.Equal(before, after) {
		t.Errorf("it was written to (%v)", err)
	}
}

// The store of an earlier schema, made by the heron of that time, is opened and
// holds what it held.
func TestGoldenStoreOfAnEarlierSchema(t *testing.T) {
	s := golden(t, "schema-2")
	runs, unreadable, err := s.Runs(t.Context(), RunFilter{Limit: 10})
	if err != nil || len(runs) != 3 || len(unreadable) != 0 || runs[0].Name != "cache mix" {
		t.Fatalf("runs %+v, %+v (%v)", runs, unreadable, err)
	}
	measurements, unreadable, err := s.Measurements(t.Context(), 1)
	if err != nil || len(measurements) != 3 || len(unreadable) != 0 {
		t.Fatalf("%d measurements, %+v (%v)", len(measurements), unreadable, err)
	}
	for _, m := range measurements {
		series, err := s.Intervals(t.Context(), m.ID)
		if err != nil || len(series) != 12 {
			t.Errorf("measurement %d has %d intervals (%v)", m.ID, len(series), err)
		}
		var operations int64
		for _, i := range series {
			operations += i.Moved().Operations
		}
		histograms, err := s.Histograms(t.Context(), m.ID)
		kept := int64(0)
		for class, h := range histograms {
			if h.Count() != m.Summary.Classes[class].Operations {
				t.Errorf("measurement %d: %d %s in its summary, %d in their histogram", m.ID, m.Summary.Classes[class].Operations, class, h.Count())
			}
			kept += h.Count()
		}
		if total := m.Summary.Total.Operations; err != nil || operations != total || kept != total {
			t.Errorf("measurement %d: %d operations in its series, %d in its summary, %d in its histograms (%v)", m.ID, operations, total, kept, err)
		}
	}
	volume, err := s.Volume(t.Context(), runs[2].VolumeID)
	if err != nil || volume.Kind != "array" {
		t.Errorf("%+v (%v)", volume, err)
	}
	if latest, err := s.LatestSetup(t.Context(), volume.ID); err != nil || latest.Setup.Text("link[0].rate") != "1250MB/s" {
		t.Errorf("setup %+v (%v)", latest.Setup, err)
	}
	if kept, _, err := s.Comparisons(t.Context()); err != nil || len(kept) != 1 || kept[0].Name != "cache or not" {
		t.Errorf("comparisons %+v (%v)", kept, err)
	}
}

// golden opens a copy of a store that an earlier program has written.
func golden(t *testing.T, schema string) *Store {
	t.Helper()
	kept, err := os.ReadFile("testdata/" + schema + ".sqlite")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "heron.sqlite")
	if err := os.WriteFile(path, kept, 0o600); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// A store of schema 3 kept reads, writes and flushes apart by the names of members,
// in format 1. The figures are those that the program of that time exported.
func TestStoreOfSchema3(t *testing.T) {
	s := golden(t, "schema-3")
	mixed, err := s.Measurement(t.Context(), 1)
	if err != nil {
		t.Fatal(err)
	}
	sum := mixed.Summary
	if sum.Total.Operations != 114446 || len(sum.Classes) != 3 || sum.Classes[measure.Read].Operations != 68631 || sum.Classes[measure.Write].Operations != 45815 {
		t.Errorf("%+v", sum)
	}
	if f := sum.Classes[measure.Flush]; f.Operations != 4582 || f.Rate != 916.4 || f.Latency.P99 != 0.000117823 {
		t.Errorf("flushes %+v", f)
	}
	series, err := s.Intervals(t.Context(), 1)
	if err != nil || len(series) != 6 || series[2].Classes[measure.Read].Operations != 13794 || series[2].Classes[measure.Read].P99 != 0.000778239 {
		t.Errorf("%d intervals (%v)", len(series), err)
	}
	histograms, err := s.Histograms(t.Context(), 1)
	if err != nil || len(histograms) != 2 || histograms[measure.Read].Count() != 68631 || histograms[measure.Write].Count() != 45815 {
		t.Errorf("histograms %v (%v)", histograms, err)
	}
	writes, err := s.Measurement(t.Context(), 2)
	if _, reads := writes.Summary.Classes[measure.Read]; err != nil || reads || writes.Summary.Classes[measure.Write].Operations != writes.Summary.Total.Operations {
		t.Errorf("writes alone: %+v (%v)", writes.Summary.Classes, err)
	}
	if kept, total, _, err := s.Outline(t.Context(), 1, 3); err != nil || total != 6 || len(kept) == 0 || kept[0].Moved().Rate == 0 {
		t.Errorf("outline %+v of %d (%v)", kept, total, err)
	}
}

// What an earlier version wrote under other names is read under those of today.
func TestRecordsUnderOldNames(t *testing.T) {
	s := golden(t, "schema-3")
	const load = `{"blocks":[{"sizeBytes":4096,"weight":1}],"readShare":1,"order":"random","depth":8,"workers":1,"forSeconds":10,"leadInSeconds":2,"settled":true,"within":0.02}`
	if _, err := s.db.ExecContext(t.Context(), `UPDATE measurements SET load = ? WHERE id = 1`, load); err != nil {
		t.Fatal(err)
	}
	m, err := s.Measurement(t.Context(), 1)
	if err != nil || m.Load.WarmUp != 2 || !m.Load.Steady || m.Load.Margin != 0.02 {
		t.Errorf("%+v (%v)", m.Load, err)
	}
	if _, err := s.db.ExecContext(t.Context(), `UPDATE intervals SET data = json_set(data, '$.leadIn', json('true')) WHERE measurement_id = 1 AND position = 4`); err != nil {
		t.Fatal(err)
	}
	if series, err := s.Intervals(t.Context(), 1); err != nil || len(series) < 5 || !series[4].WarmUp || series[5].WarmUp {
		t.Errorf("the warm-up of a series: %+v (%v)", series[4:], err)
	}
}

// Consent is renewed for who gave it, and for nobody else.
func TestConsentInTheStore(t *testing.T) {
	s := open(t)
	given := time.Now().UTC()
	v, err := s.AddVolume(t.Context(), resource.Volume{Name: "spare", Locator: "/dev/spare", Kind: "device", Consent: &resource.Consent{Size: 5, Given: given}})
	if err != nil {
		t.Fatal(err)
	}
	consent := func() *resource.Consent {
		t.Helper()
		v, err := s.Volume(t.Context(), v.ID)
		if err != nil {
			t.Fatal(err)
		}
		return v.Consent
	}
	for _, err := range []error{
		s.RenewConsent(t.Context(), v.ID, given.Add(-time.Second), setup.Identity{Head: "another's"}),
		s.RenewConsent(t.Context(), v.ID, given, setup.Identity{Head: "ours"}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if c := consent(); c.Identity == nil || c.Identity.Head != "ours" {
		t.Errorf("renewed: %+v", c)
	}
	if err := errors.Join(s.LapseConsent(t.Context(), v.ID, "it changed"), s.LapseConsent(t.Context(), v.ID, "and again"), s.RenewConsent(t.Context(), v.ID, given, setup.Identity{Head: "late"})); err != nil {
		t.Fatal(err)
	}
	if c := consent(); c.Lapsed != "it changed" || c.Identity.Head != "ours" {
		t.Errorf("lapsed: %+v", c)
	}
	if err := s.ChangeConsent(t.Context(), v.ID, func(*resource.Consent) *resource.Consent { return nil }); err != nil || consent() != nil {
		t.Errorf("withdrawn: %+v (%v)", consent(), err)
	}
	if err := s.LapseConsent(t.Context(), 99, "x"); !errors.Is(err, ErrNotFound) {
		t.Errorf("of no volume: %v", err)
	}
}

// What stood beside an interval was one host's in format 1; it is read as the only
// one.
func TestHostsOfAllFormats(t *testing.T) {
	for text, want := range map[string]int{
		`{"index":3,"reads":{"operations":5},"beside":{"cpuShares":[0.5,0.25],"devices":[{"name":"sda"}]}}`:                          1,
		`{"index":3,"classes":{"reads":{"operations":5}},"beside":[{"host":"a","cpuShares":[0.5]},{"host":"b","cpuShares":[0.25]}]}`: 2,
		`{"index":3,"classes":{"reads":{"operations":5}}}`:                                                                           0,
		`{"index":3,"classes":{"reads":{"operations":5}},"beside":null}`:                                                             0,
	} {
		var point document[interval]
		if err := point.Scan(text); err != nil {
			t.Fatal(err)
		}
		i := point.value.now()
		if len(i.Beside) != want || i.Moved().Operations != 5 || want > 0 && len(i.Cores()) != 2 {
			t.Errorf("%s is read as %+v", text, i)
		}
	}
}

// Need sheets are kept as they were written, under one name each.
func TestNeeds(t *testing.T) {
	s := open(t)
	first, err := s.AddNeed(t.Context(), resource.NeedSheet{Name: "station", Text: "name: station # kept\n"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddNeed(t.Context(), resource.NeedSheet{Name: "station", Text: "x"}); !errors.Is(err, ErrTaken) {
		t.Errorf("the same name: %v", err)
	}
	other, err := s.AddNeed(t.Context(), resource.NeedSheet{Name: "archive", Text: "name: archive\n"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.ChangeNeed(t.Context(), resource.NeedSheet{ID: other.ID, Name: "station", Text: "x"}); !errors.Is(err, ErrTaken) {
		t.Errorf("the name of another: %v", err)
	}
	if changed, err := s.ChangeNeed(t.Context(), resource.NeedSheet{ID: first.ID, Name: "harbour", Text: "name: harbour\n"}); err != nil || changed.Name != "harbour" || !changed.Created.Equal(first.Created) {
		t.Errorf("%+v (%v)", changed, err)
	}
	if _, err := s.ChangeNeed(t.Context(), resource.NeedSheet{ID: 99, Name: "x"}); !errors.Is(err, ErrNotFound) {
		t.Errorf("one that there is not: %v", err)
	}
	needs, unreadable, err := s.Needs(t.Context())
	if err != nil || len(unreadable) > 0 || len(needs) != 2 || needs[0].Name != "archive" || needs[1].Text != "name: harbour\n" {
		t.Errorf("%+v %+v (%v)", needs, unreadable, err)
	}
	if err := s.RemoveNeed(t.Context(), first.ID); err != nil {
		t.Error(err)
	}
	if _, err := s.Need(t.Context(), first.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("after it was forgotten: %v", err)
	}
}

// What a newer version wrote is named and not misread, whichever kind of record it is; it can be
// removed.
func TestRecordsOfANewerVersionAreNamed(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	kept, err := s.AddTwin(ctx, resource.Twin{Name: "pool", Text: "members: {}", Fitted: &twin.Fitted{}})
	if err != nil {
		t.Fatal(err)
	}
	predicted, err := s.AddPrediction(ctx, kept.ID, resource.Prediction{Volume: "pool"})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.KeepSearch(ctx, resource.Search{Aside: resource.Aside{ID: 4}, Need: "ledger", Chosen: &choose.Chosen{}}); err != nil {
		t.Fatal(err)
	}
	counts := func() (twins, predictions, searches int, unreadable []resource.Unreadable) {
		a, u1, err1 := s.Twins(ctx)
		b, u2, err2 := s.Predictions(ctx, kept.ID)
		c, u3, err3 := s.Searches(ctx)
		if err := errors.Join(err1, err2, err3); err != nil {
			t.Fatal(err)
		}
		return len(a), len(b), len(c), slices.Concat(u1, u2, u3)
	}
	if a, b, c, u := counts(); a+b+c != 3 || len(u) > 0 {
		t.Fatalf("%d, %d, %d: %+v", a, b, c, u)
	}
	for _, table := range []string{"twins", "predictions", "searches"} {
		if _, err := s.db.ExecContext(ctx, "UPDATE "+table+" SET format = 99"); err != nil {
			t.Fatal(err)
		}
	}
	a, b, c, u := counts()
	if a+b+c != 0 || len(u) != 3 {
		t.Errorf("%d, %d, %d: %+v", a, b, c, u)
	}
	for _, one := range u {
		if !strings.Contains(one.Reason, "a newer heron has written it") {
			t.Errorf("%+v", one)
		}
	}
	if _, err := s.Twin(ctx, kept.ID); !errors.Is(err, ErrUnreadable) {
		t.Errorf("a twin: %v", err)
	}
	if _, err := s.Search(ctx, 4); !errors.Is(err, ErrUnreadable) {
		t.Errorf("a search: %v", err)
	}
	if err := errors.Join(s.RemovePrediction(ctx, kept.ID, predicted.ID), s.RemoveTwin(ctx, kept.ID), s.RemoveSearch(ctx, 4)); err != nil {
		t.Error(err)
	}
}
