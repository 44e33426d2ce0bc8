// Package room watches the room that a data folder's file system has, and keeps
// a reserve of it, so that a run's end can be written when nothing else can.
package room

import (
	"errors"
	"fmt"
	"os"
	"sync"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
)

// Sizes of the reserve, of what has to be free before a run begins, and of what
// has to be free to take the reserve again.
const (
	reserve = 16 * quantity.MiB
	Floor   = 32 * quantity.MiB
	again   = 3 * reserve
)

// Reserve is a file that takes room until it is given up. It is safe for
// concurrent use.
type Reserve struct {
	path string
	mu   sync.Mutex
	held bool
}

// Hold takes the reserve, as far as there is room for it.
func Hold(path string) *Reserve {
	r := &Reserve{path: path}
	r.Restore()
	return r
}

// Free is the room that is left for the service.
func (r *Reserve) Free() (quantity.Bytes, error) {
	var stat unix.Statfs_t
	if err := unix.Statfs(r.path, &stat); err != nil {
		return 0, fmt.Errorf("look at the room of the data folder: %w", err)
	}
	return quantity.Bytes(int64(stat.Bavail) * stat.Bsize), nil
}

// Release gives the reserve up and reports whether there was one.
func (r *Reserve) Release() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	had := r.held
	r.held = false
	return os.Truncate(r.path, 0) == nil && had
}

// Restore takes the reserve where it is not held and there is room.
func (r *Reserve) Restore() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.held {
		return
	}
	file, err := os.OpenFile(r.path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return // without room there is none
	}
	defer file.Close()
	if free, err := r.Free(); err != nil || free < again {
		return
	}
	err = unix.Fallocate(int(file.Fd()), 0, 0, int64(reserve))
	if errors.Is(err, unix.EOPNOTSUPP) {
		_, err = file.WriteAt(make([]byte, reserve), 0)
	}
	r.held = err == nil
}
