package localfile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// ListSource lists the files of a folder that shall be put somewhere. Nothing of it is
// opened but folders, and a piece of some files, as describing them does. What loads of
// the heron made in it is left out.
func ListSource(ctx context.Context, path string) (*fileset.Listed, error) {
	if err := CheckSource(path); err != nil {
		return nil, err
	}
	listed, err := fileset.List(ctx, os.DirFS(path), fileset.Look{Elsewhere: func(entry fs.DirEntry) bool {
		return strings.HasPrefix(entry.Name(), treePrefix)
	}})
	if err != nil {
		return nil, fmt.Errorf("list the files of %s: %w", path, err)
	}
	if listed.Unreadable > 0 {
		return nil, fmt.Errorf("list the files of %s: %w: %d files or folders in it cannot be looked at; grant the user of the service the right to read them, or name a folder below", path, volume.ErrNotPermitted, listed.Unreadable)
	}
	return listed, nil
}

// CheckSource reports what is no folder that can be listed.
func CheckSource(path string) error {
	kind, err := kindOf(path)
	if err != nil {
		return err
	}
	if kind != "folder" {
		return fmt.Errorf("%s is a %s; files are put from a folder", path, kind)
	}
	if unix.Access(path, unix.R_OK|unix.X_OK) != nil {
		return fmt.Errorf("%s: %w: the service may not read there; grant its user the right, or name another folder", path, volume.ErrNotPermitted)
	}
	return nil
}

// source is where the files come from that a queue puts: they are opened, read and closed,
// and nothing else.
type source struct {
	root  int
	names names
	first int // handle of the first of its open files
}

// openSource gets memory for the names of a source; nil where the load makes its files.
func openSource(listed *fileset.Listed, root int, options load.QueueOptions) (*source, error) {
	if listed == nil {
		return nil, nil
	}
	names, err := mapNames(ofSource{listed}, options.Depth)
	if err != nil {
		return nil, err
	}
	return &source{root: root, names: names, first: options.Handles}, nil
}

// handles is how many open files there are at most, of so many that are put.
func (s *source) handles(count int) int {
	if s == nil {
		return count
	}
	return 2 * count
}

// twin is the handle of the source of an open file.
func (s *source) twin(handle int32) int32 { return handle + int32(s.first) }

// flags are those that a file of the source is opened with. What became a pipe meanwhile
// does not hang it.
func (s *source) flags(direct bool) int {
	flags := unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NOFOLLOW | unix.O_NONBLOCK
	if direct {
		flags |= unix.O_DIRECT
	}
	return flags
}

// before reports whether something is done with the source before an operation: a file is
// opened there before its copy is made, a piece read before it is written, and both are
// closed. The rest of a piece that was written in part was read.
func (s *source) before(o *load.Operation) bool {
	if s == nil {
		return false
	}
	return o.Class == measure.Create || o.Class == measure.Close || o.Class == measure.Write && o.From == 0
}

// errShorter is given when a file of the source ends before the size that it was listed
// with.
var errShorter = errors.New("it is shorter than it was when it was listed")

// ofTheSource says of an error that it came from the source.
func ofTheSource(err error) error { return fmt.Errorf("read the file it comes from: %w", err) }

// enough reports a piece of the source that is shorter than it was, or cannot be read.
func enough(n int, o *load.Operation, err error) error {
	switch {
	case err != nil:
		return ofTheSource(err)
	case n < o.Length:
		return ofTheSource(errShorter)
	}
	return nil
}

// openedSource is a source opened for a measurement of it alone.
type openedSource struct {
	root   *os.File
	listed *fileset.Listed
	direct bool
}

// OpenSource opens the folder that the files of a load come from, to measure how fast they
// can be read. It takes loads that fetch, and never writes.
func OpenSource(spec workload.Spec) (load.Volume, error) {
	listed := loadfiles.Of(spec).Listed()
	if listed == nil || !loadfiles.ReadsSource(spec) {
		return nil, fmt.Errorf("%s: %w: its files were not listed", loadfiles.FromFolder(spec), volume.ErrNotStorage)
	}
	root, err := os.Open(loadfiles.FromFolder(spec))
	if err != nil {
		return nil, explain(err, loadfiles.FromFolder(spec))
	}
	return &openedSource{root, listed, !spec.Cached}, nil
}

func (o *openedSource) Facts() load.Facts {
	return load.Facts{Size: o.listed.Numbered().Bytes(), Alignment: 1, Files: true, ReadOnly: true}
}

func (o *openedSource) Close() error { return o.root.Close() }

func (o *openedSource) Open(options load.QueueOptions) (load.Queue, error) {
	names, err := mapNames(ofSource{o.listed}, options.Depth)
	if err != nil {
		return nil, err
	}
	return openTreeQueue(names, int(o.root.Fd()), o.direct, nil, options)
}
