// Package leftover keeps account of test files that have a name, so that what is
// left behind when the service is killed is found at the next start, and removed
// when the user says so.
//
// Most folders take a test file without a name, which is gone with the process; it
// is the others that need this. The main type is Keeper.
package leftover

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage/localfile"
)

// looking is how long a look at a file may take: its storage may be gone.
const looking = 2 * time.Second

// Keeper notes test files in the store. It is safe for concurrent use.
type Keeper struct {
	store *store.Store
	mu    sync.Mutex
	ours  map[string]bool // that a run of this process works on
}

// New makes a keeper.
func New(s *store.Store) *Keeper { return &Keeper{store: s, ours: map[string]bool{}} }

// Note notes a file that is about to be made.
func (k *Keeper) Note(path, nonce string) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	if err := k.store.AddTestFile(ctx, path, nonce); err != nil {
		return err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.ours[path] = true
	return nil
}

// Forget removes a file that is gone. When that cannot be written now, the next
// List finds that it is gone.
func (k *Keeper) Forget(path string) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	_ = k.store.RemoveTestFile(ctx, path)
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.ours, path)
}

// Left tells that a file stays although the run that made it is over: it is listed, and
// can be removed.
func (k *Keeper) Left(path string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.ours, path)
}

// List gives the files that were left behind. What is gone by now is forgotten.
func (k *Keeper) List(ctx context.Context) ([]resource.LeftBehind, error) {
	noted, err := k.store.TestFiles(ctx)
	if err != nil {
		return nil, err
	}
	left := []resource.LeftBehind{}
	for _, f := range noted {
		if k.worksOn(f.Path) {
			continue
		}
		type found struct {
			resource.LeftBehind
			is bool
		}
		asking, cancel := context.WithTimeout(ctx, looking)
		now, err := patient.Ask(asking, f.Path, "left behind", func(context.Context) (n found, err error) {
			n.Size, n.is, err = localfile.LeftBehind(f.Path, f.Nonce)
			return n, err
		})
		cancel()
		switch {
		case err != nil:
			f.Trouble = err.Error()
		case !now.is:
			if err := k.store.RemoveTestFile(ctx, f.Path); err != nil && !errors.Is(err, store.ErrNotFound) {
				return nil, err
			}
			continue
		}
		f.Size = now.Size
		left = append(left, f)
	}
	return left, nil
}

func (k *Keeper) worksOn(path string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.ours[path]
}

// ErrInUse is given when a file is to be removed that a run works on.
var ErrInUse = errors.New("a run works on it")

// Remove removes a file that was left behind.
func (k *Keeper) Remove(ctx context.Context, id int64) error {
	f, err := k.store.TestFile(ctx, id)
	if err != nil {
		return err
	}
	if k.worksOn(f.Path) {
		return fmt.Errorf("test file %s: %w; it is removed when the run ends", f.Path, ErrInUse)
	}
	asking, cancel := context.WithTimeout(ctx, 10*looking)
	defer cancel()
	if _, err := patient.Ask(asking, f.Path, "remove", func(context.Context) (any, error) { return nil, localfile.RemoveLeft(f.Path, f.Nonce) }); err != nil {
		return err
	}
	return k.store.RemoveTestFile(ctx, f.Path)
}
