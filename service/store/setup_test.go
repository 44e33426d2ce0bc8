package store

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"patientheron/core/setup"
	"patientheron/resource"
)

func told(t *testing.T, pairs ...string) (s setup.Setup) {
	t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		if err := s.Set(pairs[i], pairs[i+1], setup.Told, time.Now().UTC()); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

func keepSetup(t *testing.T, s *Store, volume int64, next setup.Setup) (resource.SetupVersion, error) {
	t.Helper()
	return s.ChangeSetup(t.Context(), volume, func(resource.SetupVersion) (setup.Setup, error) { return next, nil })
}

// Sixty who tell at once lose nothing: each finds what the one before kept.
func TestNothingToldAtOnceIsLost(t *testing.T) {
	s := open(t)
	var together sync.WaitGroup
	for i := range 60 {
		together.Go(func() {
			_, err := s.ChangeSetup(t.Context(), 5, func(now resource.SetupVersion) (setup.Setup, error) {
				next := now.Setup.Only(setup.Told)
				err := next.Set(fmt.Sprintf("media[%d].readRate", i), "1GB/s", setup.Told, time.Now().UTC())
				return next, err
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	together.Wait()
	latest, err := s.LatestSetup(t.Context(), 5)
	if err != nil || latest.Version != 60 || len(latest.Setup.Facts) != 60 {
		t.Errorf("version %d with %d facts (%v)", latest.Version, len(latest.Setup.Facts), err)
	}
	if _, err := s.ChangeSetup(t.Context(), 5, func(resource.SetupVersion) (setup.Setup, error) { return setup.Setup{}, ErrChanged }); !errors.Is(err, ErrChanged) {
		t.Errorf("a change that gives up: %v", err)
	}
}

func TestSetupsAreVersions(t *testing.T) {
	s := open(t)
	if latest, err := s.LatestSetup(t.Context(), 5); err != nil || latest.Version != 0 {
		t.Errorf("nothing kept: %+v, %v", latest, err)
	}
	for i, level := range []string{"raid5", "raid5", "raid6"} {
		version, err := keepSetup(t, s, 5, told(t, "layout.level", level))
		if want := []int{1, 1, 2}[i]; err != nil || version.Version != want {
			t.Errorf("%s became version %d, want %d (%v)", level, version.Version, want, err)
		}
	}
	versions, _, err := s.Setups(t.Context(), 5)
	if err != nil || len(versions) != 2 || versions[0].Version != 2 || !strings.Contains(versions[0].Changed.Words, "raid5 to raid6") {
		t.Errorf("versions %+v, %v", versions, err)
	}
	if other, _, err := s.Setups(t.Context(), 6); err != nil || len(other) != 0 {
		t.Errorf("another volume has %+v, %v", other, err)
	}
	v, err := s.AddVolume(t.Context(), resource.Volume{Name: "pool", Locator: "/srv/pool", Kind: "folder"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := keepSetup(t, s, v.ID, told(t, "layout.level", "raid1")); err != nil {
		t.Fatal(err)
	}
	if err := s.RemoveVolume(t.Context(), v.ID); err != nil {
		t.Fatal(err)
	}
	if left, _, err := s.Setups(t.Context(), v.ID); err != nil || len(left) != 0 {
		t.Errorf("a forgotten volume left %+v, %v", left, err)
	}
}

func TestWhatWasLookedAtStaysWithTheRun(t *testing.T) {
	s := open(t)
	run := addRun(t, s, resource.Running)
	checks := []setup.Check{{Name: "room", Result: setup.Caution, Sentence: "little", Next: "more"}}
	if err := s.KeepLook(t.Context(), run.ID, told(t, "layout.level", "raid1"), checks); err != nil {
		t.Fatal(err)
	}
	got, err := s.Run(t.Context(), run.ID)
	if err != nil || got.Setup.Text("layout.level") != "raid1" || len(got.Checks) != 1 || got.Checks[0] != checks[0] {
		t.Errorf("found %+v, %+v (%v)", got.Setup, got.Checks, err)
	}
	if err := s.KeepLook(t.Context(), 99, setup.Setup{}, nil); !errors.Is(err, ErrNotFound) {
		t.Errorf("a run that is not there: %v", err)
	}
	marker, err := s.AddMarker(t.Context(), resource.Marker{RunID: run.ID, MeasurementID: 4, At: 2.5, Name: "now"})
	if err != nil {
		t.Fatal(err)
	}
	markers, err := s.Markers(t.Context(), run.ID)
	if err != nil || len(markers) != 1 || markers[0].Name != "now" || markers[0].At != 2.5 || markers[0].ID != marker.ID {
		t.Errorf("markers %+v, %v", markers, err)
	}
	if err := s.RemoveRun(t.Context(), run.ID); err != nil {
		t.Fatal(err)
	}
	if left, err := s.Markers(t.Context(), run.ID); err != nil || len(left) != 0 {
		t.Errorf("a deleted run left %+v, %v", left, err)
	}
}

func TestComparisonsAreKept(t *testing.T) {
	s := open(t)
	question := resource.Comparison{Name: "caches", Noise: 0.03, Baseline: resource.Group{Runs: []int64{1, 2}}, Candidates: []resource.Group{{Name: "new", Runs: []int64{3}}}}
	kept, err := s.AddComparison(t.Context(), question)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.AddComparison(t.Context(), question); !errors.Is(err, ErrTaken) {
		t.Errorf("the same name again: %v", err)
	}
	got, err := s.Comparison(t.Context(), kept.ID)
	if err != nil || got.Name != "caches" || got.Noise != 0.03 || len(got.Baseline.Runs) != 2 || got.Candidates[0].Name != "new" {
		t.Errorf("found %+v, %v", got, err)
	}
	if list, _, err := s.Comparisons(t.Context()); err != nil || len(list) != 1 {
		t.Errorf("list %+v, %v", list, err)
	}
	if err := s.RemoveComparison(t.Context(), kept.ID); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Comparison(t.Context(), kept.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("a forgotten comparison: %v", err)
	}
}
