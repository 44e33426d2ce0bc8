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
	if !filepath.IsAbs(text) {
		return Locator{}, fmt.Errorf("%w: %q is not an absolute path; the service does not know where you are", ErrLocator, text)
	}
	kind, err := localfile.KindOf(filepath.Clean(text))
	return Locator{Kind: Kind(kind), Path: filepath.Clean(text)}, err
}

// Look tells what stands behind a locator without writing anything.
func Look(l Locator) (setup.Facts, error) {
	if l.Kind == Null {
		return setup.Facts{Size: l.Size, Alignment: 1, Writable: true}, nil
	}
	if l.Kind == Array {
		d, err := simulated.ReadFile(l.Path)
		if err != nil {
			return setup.Facts{}, err
		}
		return setup.Facts{Size: d.Usable(), Alignment: 1, Writable: true}, nil
	}
	return localfile.Look(l.Path, string(l.Kind))
}

// Claim states what a user agrees to lose.
type Claim = localfile.Claim

// CheckClaim reports why consent to overwrite may not be taken.
func CheckClaim(l Locator, claim Claim) error {
	return localfile.CheckClaim(l.Path, string(l.Kind), claim)
}

// Check reports what would stop a run from being prepared, without writing
// anything.
func Check(l Locator, request Request) error {
	if l.Kind == Null {
		return nil
	}
	if l.Kind == Array {
		_, err := simulated.ReadFile(l.Path)
		return err
	}
	return localfile.Check(l.Path, string(l.Kind), request)
}

// Holds tells what is recognised on a device, and who uses it; both are empty
// when nothing is found.
func Holds(l Locator) (signature, user string, err error) {
	return localfile.Holds(l.Path, string(l.Kind))
}

// ReadArray reads the description of a simulated array.
func ReadArray(l Locator) (array.Description, error) { return simulated.ReadFile(l.Path) }

// Request says what a run will do to a volume.
type Request = localfile.Request

// Prepare makes the volume ready for a run: a folder gets a test file filled
// with real data, which vanishes with Close, and with the process, however
// that ends.
func Prepare(ctx context.Context, l Locator, request Request) (Volume, error) {
	if l.Kind == Null {
		return nullVolume{null.Volume{Size: l.Size}}, nil
	}
	if l.Kind == Array {
		return simulated.Prepare(l.Path)
	}
	return localfile.Prepare(ctx, l.Path, string(l.Kind), request)
}

type nullVolume struct{ null.Volume }

func (v nullVolume) Use(workload.Spec) (load.Volume, error) { return v, nil }
