// Package storage opens volumes by their locator and makes them ready to be
// measured.
//
// A locator names where I/O goes: a folder, a file, a block device,
// "array:FILE" for a simulated array, or "null:SIZE" for the null volume. The main type is Volume: what the load
// engine drives, plus the preparation around it. Each kind of volume has a
// package of its own.
package storage

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/localfile"
	"patientheron/storage/null"
	"patientheron/storage/simulated"
)

// ErrLocator is wrapped when a locator cannot be understood.
var ErrLocator = errors.New("not a locator")

// Kind is a kind of volume.
type Kind string

// The kinds of volume.
const (
	Null   Kind = "null"
	Folder Kind = "folder"
	File   Kind = "file"
	Device Kind = "device"
	Array  Kind = "array"
)

// Volume is a volume made ready for a run.
type Volume interface {
	// Use opens it the way one measurement asks for. The measurement closes
	// what it was given.
	Use(workload.Spec) (load.Volume, error)
	// Close gives everything back and removes what the preparation made.
	Close() error
}

// Progress is told how many bytes of a preparation are done.
type Progress = localfile.Progress

// Locator is a parsed locator.
type Locator struct {
	Kind Kind
	Path string         // absolute: of a folder, file, device or array file
	Size quantity.Bytes // of the null volume
}

// String is the locator as it is stored and shown.
func (l Locator) String() string {
	if l.Kind == Null {
		size, _ := l.Size.MarshalYAML()
		return "null:" + string(size)
	}
	if l.Kind == Array {
		return arrayPrefix + l.Path
	}
	return l.Path
}

const arrayPrefix = "array:"

// Parse reads a locator and looks at what a path names. It does not open it.
func Parse(text string) (Locator, error) {
	if size, found := strings.CutPrefix(text, "null:"); found || text == "null" {
		l := Locator{Kind: Null, Size: quantity.TiB}
		if size != "" && found {
			var err error
			if l.Size, err = quantity.ParseBytes(size); err != nil {
				return l, fmt.Errorf("%w: %w", ErrLocator, err)
			}
		}
		if l.Size < 1 {
			return l, fmt.Errorf("%w: a null volume of %s holds nothing; write null:1TiB", ErrLocator, l.Size)
		}
		return l, nil
	}
	if text == "" {
		return Locator{}, fmt.Errorf("%w: it is empty; name a folder, a file, a block device, array:FILE or null:1TiB", ErrLocator)
	}
	path, isArray := strings.CutPrefix(text, arrayPrefix)
	if isArray && filepath.IsAbs(path) {
		return Locator{Kind: Array, Path: filepath.Clean(path)}, nil
	}
	if scheme := Scheme(text); scheme != "" {
		return Locator{}, fmt.Errorf("%w: %s is not spoken yet; what is: absolute paths of folders, files and block devices, array:FILE and null:SIZE. Mount a share, or attach a volume as a block device, and name where it then is", ErrLocator, scheme)
	}
	if !filepath.IsAbs(text) {
		return Locator{}, fmt.Errorf("%w: %q is not an absolute path; the service does not know where you are", ErrLocator, text)
	}
	kind, err := localfile.KindOf(filepath.Clean(text))
	return Locator{Kind: Kind(kind), Path: filepath.Clean(text)}, err
}

// Scheme is what a locator begins with that is written like an address on a
// network, "iscsi" of "iscsi://host/name"; "" for all others.
func Scheme(text string) string {
	scheme, _, found := strings.Cut(text, "://")
	if !found || strings.ContainsFunc(scheme, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && !strings.ContainsRune("0123456789+-.", r)
	}) {
		return ""
	}
	return strings.ToLower(scheme)
}

// Claim states what a user agrees to lose.
type Claim = localfile.Claim

// Request says what a run will do to a volume.
type Request = localfile.Request

// Bounds say what of this host volumes may touch. Every access to a volume goes
// through them.
type Bounds struct {
	// Kept are folders that the service keeps for itself: nothing in them is
	// written over, and no test file is made there.
	Kept []string
	// Arrays are the folders in and below which array files are read.
	Arrays []string
	// Traces is where test files with a name are noted; nil when nobody does.
	Traces Traces
}

// Traces notes test files that have a name.
type Traces = localfile.Traces

// Way is how a folder takes a test file.
type Way = localfile.Way

// WayOf tells how a folder takes a test file, by making an empty one that is gone
// when it returns.
func (b Bounds) WayOf(l Locator) (Way, error) { return localfile.WayOf(l.Path) }

// Look tells what stands behind a locator without writing anything.
func (b Bounds) Look(l Locator) (setup.Facts, error) {
	switch l.Kind {
	case Null:
		return setup.Facts{Size: l.Size, Alignment: 1, Writable: true}, nil
	case Array:
		d, err := b.ReadArray(l)
		if err != nil {
			return setup.Facts{}, err
		}
		return setup.Facts{Size: d.Usable(), Alignment: 1, Writable: true}, nil
	}
	return localfile.Look(l.Path, string(l.Kind))
}

// Agree takes consent to overwrite a file or device, and gives the identity it
// is for.
func (b Bounds) Agree(l Locator, claim Claim) (setup.Identity, error) {
	return localfile.Agree(l.Path, string(l.Kind), claim, b.Kept)
}

// Check reports what would stop a run from being prepared, without writing
// anything.
func (b Bounds) Check(l Locator, request Request) error {
	switch l.Kind {
	case Null:
		return nil
	case Array:
		_, err := b.ReadArray(l)
		return err
	}
	request.Kept = b.Kept
	return localfile.Check(l.Path, string(l.Kind), request)
}

// Holds tells what is recognised on a file or device, and who uses it; both are
// empty when nothing is found.
func (b Bounds) Holds(l Locator) (holds, user string, err error) {
	return localfile.Holds(l.Path, string(l.Kind))
}

// ReadArray reads the description of a simulated array, from within the
// folders that array files are read in.
func (b Bounds) ReadArray(l Locator) (array.Description, error) {
	return simulated.ReadWithin(b.Arrays, l.Path)
}

// KeepArray keeps the text of an array file under a name in the first folder of
// array files, in place of what was there.
func (b Bounds) KeepArray(name string, text []byte) (Locator, error) {
	path, err := simulated.Keep(b.Arrays[0], name, text)
	return Locator{Kind: Array, Path: path}, err
}

// Prepare makes the volume ready for a run: a folder gets a test file filled
// with real data, which vanishes with Close, and with the process, however
// that ends.
func (b Bounds) Prepare(ctx context.Context, l Locator, request Request) (Volume, error) {
	switch l.Kind {
	case Null:
		return nullVolume{null.Volume{Size: l.Size}}, nil
	case Array:
		d, err := b.ReadArray(l)
		if err != nil {
			return nil, err
		}
		return simulated.New(d)
	}
	request.Kept, request.Traces = b.Kept, b.Traces
	return localfile.Prepare(ctx, l.Path, string(l.Kind), request)
}

type nullVolume struct{ null.Volume }

func (v nullVolume) Use(workload.Spec) (load.Volume, error) { return v, nil }
