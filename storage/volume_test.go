package storage

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
)

// Every kind of volume passes the suite, through the way that runs take.
func TestEveryKindKeepsTheContract(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "ledger")
	if err := os.WriteFile(file, make([]byte, 2<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	arrays := filepath.Join(folder, "pair.yaml")
	if err := os.WriteFile(arrays, []byte("members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	bounds := Bounds{Arrays: []string{folder}}
	spec := workload.Default()
	spec.Reads = 0.5
	for text, keepsNothing := range map[string]bool{"null:1GiB": true, "array:" + arrays: true, folder: false, file: false} {
		l, err := Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		if got := TraitsOf(l.Kind); got.KeepsNothing != keepsNothing || got == (volume.Traits{}) {
			t.Errorf("%s: %+v", l.Kind, got)
		}
		spec, byStorage := spec, []measure.Class(nil)
		if TraitsOf(l.Kind).OnHost {
			spec.Zeroes, byStorage = 0.1, []measure.Class{measure.Zero}
		}
		open := func(t *testing.T) load.Volume {
			request := volume.Request{Size: 2 << 20, Writes: true, Content: spec}
			if TraitsOf(l.Kind).Overwritten {
				claim := volume.Claim{Size: 2 << 20, Holds: holds(t, bounds, l)}
				identity, err := bounds.Agree(t.Context(), l, claim)
				if err != nil {
					t.Fatal(err)
				}
				claim.Identity = &identity
				request.Consent = &claim
			}
			prepared, err := bounds.Prepare(t.Context(), l, request)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = prepared.Close() })
			v, err := prepared.Use(t.Context(), spec)
			if errors.Is(err, load.ErrUnsupported) && os.Getenv("CI") == "" {
				t.Skipf("temporary files lie where a part cannot be tested: %v", err)
			}
			if err != nil {
				t.Fatal(err)
			}
			return v
		}
		t.Run(l.Kind, func(t *testing.T) {
			volumetest.Run(t, volumetest.Kind{Open: open, KeepsNothing: keepsNothing, ByStorage: byStorage})
		})
	}
}

func holds(t *testing.T, b Bounds, l volume.Locator) string {
	t.Helper()
	holds, user, err := b.Holds(t.Context(), l)
	if err != nil || user != "" {
		t.Fatalf("held by %q (%v)", user, err)
	}
	return holds
}
