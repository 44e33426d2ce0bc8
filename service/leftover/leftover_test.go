package leftover

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"patientheron/service/store"
)

func keeper(t *testing.T) *Keeper {
	t.Helper()
	s, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "heron.sqlite"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return New(s)
}

const named = ".patient-heron-ABCDEFGHIJKLMNOPQRSTUVWX23"

func write(t *testing.T, path string) {
	t.Helper()
	if err := os.WriteFile(path, []byte("twelve bytes"), 0o600); err != nil {
		t.Fatal(err)
	}
}

// A file that a run works on is not left behind; the same file after the process was
// killed is, until it is removed.
func TestWhatAKilledProcessLeaves(t *testing.T) {
	k := keeper(t)
	path := filepath.Join(t.TempDir(), named)
	if err := k.Note(path, ""); err != nil {
		t.Fatal(err)
	}
	write(t, path)
	if left, err := k.List(t.Context()); err != nil || len(left) != 0 {
		t.Errorf("a file at work: %+v (%v)", left, err)
	}
	if err := k.Remove(t.Context(), 1); !errors.Is(err, ErrInUse) {
		t.Errorf("a file at work was removed: %v", err)
	}
	next := New(k.store) // the process that comes after
	left, err := next.List(t.Context())
	if err != nil || len(left) != 1 || left[0].Path != path || left[0].Size != 12 {
		t.Fatalf("%+v (%v)", left, err)
	}
	if err := next.Remove(t.Context(), left[0].ID); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(path); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("it is still there: %v", err)
	}
	if err := next.Remove(t.Context(), left[0].ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("removed twice: %v", err)
	}
}

// Nothing is removed but a file of ours under a name of ours.
func TestNothingElseIsRemoved(t *testing.T) {
	k := keeper(t)
	folder := t.TempDir()
	precious := filepath.Join(folder, "ledger")
	write(t, precious)
	for _, place := range []func(path string) error{
		func(path string) error { return os.Symlink(precious, path) },
		func(path string) error { return os.Mkdir(path, 0o700) },
	} {
		path := filepath.Join(t.TempDir(), named)
		if err := k.store.AddTestFile(t.Context(), path, ""); err != nil {
			t.Fatal(err)
		}
		if err := place(path); err != nil {
			t.Fatal(err)
		}
		noted, err := k.store.TestFiles(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if err := k.Remove(t.Context(), noted[len(noted)-1].ID); err != nil {
			t.Error(err)
		}
		if _, err := os.Lstat(path); err != nil {
			t.Errorf("what took its place is gone: %v", err)
		}
	}
	if err := k.store.AddTestFile(t.Context(), precious, ""); err != nil { // as a store that was tampered with might say
		t.Fatal(err)
	}
	if left, err := k.List(t.Context()); err != nil || len(left) != 0 {
		t.Errorf("%+v (%v)", left, err)
	}
	if _, err := os.Stat(precious); err != nil {
		t.Errorf("the ledger is gone: %v", err)
	}
}
