// Package storage opens volumes by their locator: it knows which kinds there are, and
// nothing about any of them.
//
// A locator names where I/O goes: the absolute path of a folder, a file or a block
// device, "array:FILE" for a simulated array, "iscsi://HOST/TARGET/LUN" for a logical unit
// over iSCSI, or "null:SIZE" for the null volume. A new kind is a package with a volume.Opener, and a line in kinds.
package storage

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/iscsi"
	"patientheron/storage/localfile"
	"patientheron/storage/null"
	"patientheron/storage/simulated"
	"patientheron/storage/volume"
)

// Bounds say what of this host volumes may touch. Every access to a volume goes
// through them.
type Bounds struct {
	// Kept are folders that the service keeps for itself: nothing in them is
	// written over, and no test file is made there.
	Kept []string
	// Arrays are the folders in and below which array files are read.
	Arrays []string
	// Shelf is the folder where array files are kept that are handed over.
	Shelf string
	// Traces is where test files with a name are noted; nil when nobody does.
	Traces volume.Traces
	// Secrets is the file of what users log in to targets with; it need not be there.
	Secrets string
}

// kinds make the opener of each kind of volume, by the scheme of its locators; "" is for paths.
var kinds = map[string]func(Bounds) volume.Opener{
	"":      func(b Bounds) volume.Opener { return localfile.Opener{Kept: b.Kept, Traces: b.Traces} },
	"array": func(b Bounds) volume.Opener { return simulated.Opener{Folders: b.Arrays} },
	"iscsi": func(b Bounds) volume.Opener { return iscsi.Opener{Secrets: b.Secrets} },
	"null":  func(Bounds) volume.Opener { return null.Opener{} },
}

// Register adds a kind of volume under a scheme, before anything is opened.
func Register(scheme string, open func(Bounds) volume.Opener) { kinds[scheme] = open }

// of finds the opener of a locator that Parse gave.
func (b Bounds) of(l volume.Locator) volume.Opener { return kinds[l.Scheme](b) }

// Parse reads a locator and looks at what a path names. It does not open it.
func Parse(text string) (volume.Locator, error) {
	scheme, name, found := strings.Cut(text, ":")
	if kind := kinds[scheme]; kind != nil && scheme != "" {
		return kind(Bounds{}).Parse(name)
	}
	if found && Scheme(text) != "" {
		return volume.Locator{}, fmt.Errorf("%w: %s is not spoken yet; what is: absolute paths of folders, files and block devices, and %s. Mount a share, or attach a volume as a block device, and name where it then is",
			volume.ErrLocator, Scheme(text), strings.Join(schemes(), ", "))
	}
	return kinds[""](Bounds{}).Parse(text)
}

func schemes() (names []string) {
	for _, scheme := range slices.Sorted(maps.Keys(kinds)) {
		if scheme != "" {
			names = append(names, scheme+":…")
		}
	}
	return names
}

// Scheme is what a locator begins with that is not a path: "null" of "null:1TiB",
// "nfs" of "nfs://host/name"; "" for all others.
func Scheme(text string) string {
	scheme, rest, found := strings.Cut(text, ":")
	known := kinds[scheme] != nil && scheme != ""
	if known && (found || text == scheme) {
		return scheme
	}
	if !found || !strings.HasPrefix(rest, "//") || strings.ContainsFunc(scheme, func(r rune) bool {
		return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && !strings.ContainsRune("0123456789+-.", r)
	}) {
		return ""
	}
	return strings.ToLower(scheme)
}

// TraitsOf are the traits of a kind of volume, as a record keeps it.
func TraitsOf(kind string) volume.Traits {
	for _, of := range kinds {
		if traits := of(Bounds{}).Traits(kind); traits != (volume.Traits{}) {
			return traits
		}
	}
	return volume.Traits{}
}

// Absolute turns what a user types into the locator a service knows it by: a path is relative
// to the present folder of the user, not of the service.
func Absolute(target string) (string, error) {
	if target == "" {
		return "", fmt.Errorf("the locator is empty; name a folder, a file, a block device, or one of %s (%w)", strings.Join(schemes(), ", "), volume.ErrLocator)
	}
	scheme, name := Scheme(target), target
	if scheme != "" {
		name = strings.TrimPrefix(strings.TrimPrefix(target, scheme), ":")
	}
	kind := kinds[scheme]
	if kind == nil {
		_, err := Parse(target) // which says what is spoken
		return "", err
	}
	relative, is := kind(Bounds{}).(volume.Relative)
	if !is {
		locator, err := Parse(target)
		return locator.String(), err
	}
	path, err := relative.Absolute(name)
	return volume.Locator{Scheme: scheme, Name: path}.String(), err
}

// NameOf is a name that a volume has of itself; "" where it has none.
func (b Bounds) NameOf(ctx context.Context, l volume.Locator) string {
	if named, is := b.of(l).(volume.Named); is {
		return named.NameOf(ctx, l)
	}
	return ""
}

// Look tells what stands behind a locator without writing anything.
func (b Bounds) Look(ctx context.Context, l volume.Locator) (setup.Facts, error) {
	return b.of(l).Look(ctx, l)
}

// ListSource lists the files of a folder of this host that a load puts.
func ListSource(ctx context.Context, folder string) (*fileset.Listed, error) {
	return localfile.ListSource(ctx, folder)
}

// CheckSource reports a folder that files cannot be put from.
func CheckSource(folder string) error { return localfile.CheckSource(folder) }

// OpenSource opens the folder that the files of a load come from, to measure it alone.
func OpenSource(spec workload.Spec) (load.Volume, error) { return localfile.OpenSource(spec) }

// Check reports what would stop a run from being prepared, without writing
// anything.
func (b Bounds) Check(ctx context.Context, l volume.Locator, request volume.Request) error {
	return b.of(l).Check(ctx, l, request)
}

// Prepare makes the volume ready for a run.
func (b Bounds) Prepare(ctx context.Context, l volume.Locator, request volume.Request) (volume.Volume, error) {
	return b.of(l).Prepare(ctx, l, request)
}

// With is a locator with some settings in place of those that it names, or that its file
// has. The error is about a volume that has no such settings.
func (b Bounds) With(l volume.Locator, settings []plan.Setting) (volume.Locator, error) {
	if len(settings) == 0 {
		return l, nil
	}
	if adjuster, is := b.of(l).(volume.Adjuster); is {
		return adjuster.Adjust(l, settings)
	}
	if !TraitsOf(l.Kind).Described {
		return l, fmt.Errorf("%w: the plan sets %s, and the volume is a %s; keys of an array file are for a volume array:FILE, and those of a session for one over iSCSI", volume.ErrNotDescribed, settings[0].Field, l.Kind)
	}
	l.With = settings
	return l, nil
}

// Adjustable are the settings of a volume that may matter to a load.
func (b Bounds) Adjustable(l volume.Locator, load workload.Spec) []volume.Adjustment {
	if adjuster, is := b.of(l).(volume.Adjuster); is {
		return adjuster.Adjustable(l, load)
	}
	return nil
}

// Agree takes consent to overwrite what a locator names, and gives the identity it
// is for.
func (b Bounds) Agree(ctx context.Context, l volume.Locator, claim volume.Claim) (setup.Identity, error) {
	consenter, is := b.of(l).(volume.Consenter)
	if !is {
		return setup.Identity{}, fmt.Errorf("%s is a %s: %w: consent to overwrite is about a file or a device; leave it out", l, l.Kind, volume.ErrConsent)
	}
	return consenter.Agree(ctx, l, claim)
}

// Holds tells what is recognised on what a load may overwrite, and who uses it; both
// are empty when nothing is found.
func (b Bounds) Holds(ctx context.Context, l volume.Locator) (holds, user string, err error) {
	if consenter, is := b.of(l).(volume.Consenter); is {
		return consenter.Holds(ctx, l)
	}
	return "", "", nil
}

// Readable reports why a volume that is already there cannot be read.
func (b Bounds) Readable(ctx context.Context, l volume.Locator) error {
	if consenter, is := b.of(l).(volume.Consenter); is {
		return consenter.Readable(ctx, l)
	}
	return nil
}

// Describe gives the setup and the layers of what describes itself; is reports
// whether the volume is of that kind.
func (b Bounds) Describe(ctx context.Context, l volume.Locator) (s setup.Setup, layer setup.Layer, is bool, err error) {
	describer, is := b.of(l).(volume.Describer)
	if !is {
		return s, layer, false, nil
	}
	s, layer, err = describer.Describe(ctx, l)
	return s, layer, true, err
}

// WayOf tells how a place takes a test file; "" where none is made.
func (b Bounds) WayOf(ctx context.Context, l volume.Locator) (volume.Way, error) {
	if maker, is := b.of(l).(volume.Maker); is && TraitsOf(l.Kind).Makes {
		return maker.WayOf(ctx, l)
	}
	return "", nil
}

// ReadArray reads the description of a simulated array, from within the
// folders that array files are read in.
func (b Bounds) ReadArray(l volume.Locator) (array.Description, error) {
	return simulated.ReadWithin(b.Arrays, l.Name, l.With...)
}

// ArrayText is the text of the array file that describes a simulated volume.
func (b Bounds) ArrayText(l volume.Locator) ([]byte, error) {
	return simulated.TextWithin(b.Arrays, l.Name, l.With...)
}

// KeepArray keeps the text of an array file under a name on the shelf, in place of what was there.
func (b Bounds) KeepArray(name string, text []byte) (volume.Locator, error) {
	path, err := simulated.Keep(b.Shelf, name, text)
	if err != nil {
		return volume.Locator{}, err
	}
	return simulated.Opener{}.Parse(path)
}
