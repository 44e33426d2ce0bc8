package localfile

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/identity"
)

// Unwritten is how much of the span of a load was never written, as the file systems tell on
// whose files it lies: what is read there is answered without the storage. It is nothing of a
// file that was made for the measurement, and of what lies on no file.
func (v *Volume) Unwritten(_ context.Context, spec workload.Spec) (unwritten quantity.Share, err error) {
	if v.file == nil || v.test != nil {
		return 0, nil
	}
	end, _ := spec.Reach()
	if end == 0 || end > v.size {
		end = v.size
	}
	if end <= spec.Offset {
		return 0, nil
	}
	bytes, err := holesOf(v.file, int64(spec.Offset), int64(end))
	return quantity.Share(float64(bytes) / float64(end-spec.Offset)), err
}

// unwrittenOf is how much of a file or device was never written; 0 where nobody can tell.
func unwrittenOf(path, kind string, size quantity.Bytes) quantity.Bytes {
	file, err := openToLook(path, kind)
	if err != nil {
		return 0
	}
	defer file.Close()
	bytes, err := holesOf(file, 0, int64(size))
	if err != nil {
		return 0
	}
	return quantity.Bytes(bytes)
}

// The limits of a look for holes: a file of very many extents is looked at only so far.
const (
	mostHoles    = 200_000
	holePatience = 2 * time.Second
)

// holesOf is how many bytes of a range of a file or device lie in holes of files.
func holesOf(file *os.File, from, to int64) (bytes int64, err error) {
	ranges, err := identity.This.FileRanges(file, from, to)
	if err != nil {
		return 0, err
	}
	end := time.Now().Add(holePatience)
	for _, r := range ranges {
		found, err := holesIn(r, end)
		if err != nil {
			return 0, err
		}
		bytes += found
	}
	return bytes, nil
}

// holesIn counts the bytes of a range that lie in holes of its file (lseek(2)). A file that is
// another by now, or that may not be looked at, has none.
func holesIn(r identity.FileRange, until time.Time) (bytes int64, err error) {
	fd, err := unix.Open(r.Path, unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return 0, nil
	}
	defer unix.Close(fd)
	var stat unix.Stat_t
	if err := unix.Fstat(fd, &stat); err != nil || !slices.Contains(r.Keys, identity.FileThing(identity.Pair(stat.Dev), stat.Ino)) || stat.Mode&unix.S_IFMT != unix.S_IFREG {
		return 0, nil
	}
	to := min(r.To, stat.Size)
	at := r.From
	for range mostHoles {
		if at >= to || time.Now().After(until) {
			break
		}
		hole, err := unix.Seek(fd, at, unix.SEEK_HOLE)
		if err != nil {
			return 0, fmt.Errorf("look for holes in %s: %w", r.Path, err)
		}
		if hole >= to {
			break
		}
		data, err := unix.Seek(fd, hole, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) { // to its end
			data, err = to, nil
		}
		if err != nil {
			return 0, fmt.Errorf("look for holes in %s: %w", r.Path, err)
		}
		at = min(data, to)
		bytes += at - hole
	}
	return bytes, nil
}
