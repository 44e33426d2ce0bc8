// Package volume says what a kind of volume is: how it is named, looked at, checked
// and made ready for a run, and what it refuses with.
//
// Each kind has a package of its own beside this one with an Opener; package storage
// registers it under the scheme that its locators begin with. What only some kinds
// can do is an interface of its own: Consenter, Describer, Maker.
package volume

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"patientheron/core/load"
	"patientheron/core/mistake"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Errors that callers branch on.
var (
	ErrLocator      = errors.New("not a locator")
	ErrNoSpace      = errors.New("not enough free space")
	ErrNotPermitted = errors.New("not permitted")
	ErrMemory       = errors.New("not enough memory")
	ErrLimit        = errors.New("a limit of this host stands against it")
	ErrConsent      = errors.New("writing was not agreed to")
	ErrInUse        = errors.New("in use")
	ErrNotStorage   = errors.New("not a folder, a file or a block device")
	ErrUnreachable  = errors.New("the storage cannot be reached, or does not answer as it should; look whether it is up, and named rightly")
	ErrNotDescribed = errors.New("not described by an array file")
)

// Locator names where I/O goes.
type Locator struct {
	Scheme string // of the opener that understands it; "" for a path of this host
	Kind   string // what it leads to, such as "folder"
	Name   string // what comes after the scheme: an absolute path, or whatever the opener reads

	// With are keys of what describes it, at other values than it gives them; only
	// kinds that are Described have them.
	With []plan.Setting
}

// String is the locator as it is stored and shown.
func (l Locator) String() string {
	name := l.Name
	if l.Scheme != "" {
		name = l.Scheme + ":" + l.Name
	}
	if len(l.With) > 0 {
		name += " with " + plan.Describe(l.With)
	}
	return name
}

// Traits are what others need to know of a kind.
type Traits = setup.Traits

// Volume is a volume made ready for a run. What its measurements need of the
// storage, such as a session, belongs to what Use gives, and is shared by the queues
// of all workers.
type Volume interface {
	// Use opens it the way one measurement asks for. The measurement closes
	// what it was given.
	Use(context.Context, workload.Spec) (load.Volume, error)
	// Close gives everything back and removes what the preparation made.
	Close() error
}

// Readier is a volume that has to be brought into the state in which a load finds it,
// such as with all files of its set. It is called before Use, and may take long.
type Readier interface {
	Ready(context.Context, workload.Spec, Progress) error
}

// Happening is what can happen to a volume while it is used.
type Happening string

// The happenings.
const (
	Lost Happening = "lost" // it cannot be reached
	Back Happening = "back" // it can be reached again
)

// Happened reports whether a marker is of an event, and not of a change that somebody made.
func Happened(name string) bool {
	what, _, _ := strings.Cut(name, ":")
	return Happening(what) == Lost || Happening(what) == Back
}

// Event is something that happened to a volume, or to one of the ways to it.
type Event struct {
	What  Happening
	Words string // such as "the path over 192.0.2.1"
}

// Eventful is a volume that tells what happens to it, from when it was prepared until
// it is closed. Nobody need listen: it never waits for anybody.
type Eventful interface {
	Events() <-chan Event
}

// Moment is something that was to happen to a volume, and did.
type Moment struct {
	At   quantity.Seconds // since the measurement began
	Name string
}

// Identified is a volume whose content was agreed to be lost.
type Identified interface {
	// Identity tells what it is after what the run wrote. What others changed meanwhile, or
	// other storage in its place, ends the consent with a LapsedError.
	Identity(context.Context) (setup.Identity, error)
}

// Sparse is a volume of which a part may never have been written.
type Sparse interface {
	// Unwritten is which share of the span of a load was never written.
	Unwritten(context.Context, workload.Spec) (quantity.Share, error)
}

// Resting is a volume in a time of its own, which passes when it is told to.
type Resting interface {
	// Rest lets time pass without any load.
	Rest(quantity.Seconds)
}

// Chronicle is a volume to which things happen at set times of a measurement.
type Chronicle interface {
	// Happened are those of the last measurement, in order.
	Happened() []Moment
}

// Faulty is a volume that something can be made to go wrong with while it is used.
type Faulty interface {
	// Inject makes what a text describes happen at its present moment, and tells in
	// words what that is. It may be called beside the queues; ctx bounds the wait for
	// the moment.
	Inject(ctx context.Context, text string) (words string, err error)
}

// Progress is told how much of a preparation is done.
type Progress func(done, of quantity.Bytes)

// Request says what a run will do.
type Request struct {
	Size     quantity.Bytes  // the largest offset + span; 0 for all of what has a size
	Files    []workload.Spec // the loads that work on files, beside others or not
	NoBlocks bool            // nothing else is worked on
	Writes   bool            // whether anything is written
	Cached   bool            // whether anything goes through the host's memory
	Content  workload.Spec   // whose content a test file is filled with
	Consent  *Claim          // what the user agreed to lose; nil for nothing
	Memory   quantity.Bytes  // that may be taken for it; 0 for any
	Progress Progress        // may be nil
	Pause    func()          // of a volume in virtual time: called now and then, and returns when it may go on; nil for at once
}

// NoFiles is the answer of what loads of files cannot work on.
func NoFiles(l Locator) error {
	return &mistake.Error{Of: workload.ErrInvalid, Field: "files", Reason: fmt.Sprintf("%s is a %s, and files are made in a folder; name a folder of a file system that is on it", l, l.Kind)}
}

// Claim states what a user agrees to lose: first in the user's words, which
// must match what is found; from then on by the identity that was found.
type Claim struct {
	Size     quantity.Bytes
	Serial   string
	Holds    string          // what is recognised, as a refusal named it
	Identity *setup.Identity // nil while the consent is being given
	Lapsed   string          // why it no longer holds; "" when it does
}

// LapsedError is given when consent no longer holds.
type LapsedError struct {
	Path string
	Why  string
}

func (e *LapsedError) Error() string {
	return fmt.Sprintf("%s: %v: the consent no longer holds: %s; nothing was written. Look at what is there now, and if that may be lost, give consent anew (heron volume consent)", e.Path, ErrConsent, e.Why)
}

// Unwrap gives ErrConsent.
func (e *LapsedError) Unwrap() error { return ErrConsent }

// Opener is one kind of volume, or several that share a scheme. Everything but Parse
// and Traits may touch storage that never answers: callers wait with package patient, and
// what can be broken off when its context ends is.
type Opener interface {
	// Parse reads what comes after the scheme and says what it leads to.
	Parse(name string) (Locator, error)
	// Traits of a kind that Parse gives.
	Traits(kind string) Traits
	// Look tells what stands behind a locator without writing anything.
	Look(context.Context, Locator) (setup.Facts, error)
	// Check reports what would stop a run from being prepared, without writing
	// anything.
	Check(context.Context, Locator, Request) error
	// Prepare makes it ready for a run.
	Prepare(context.Context, Locator, Request) (Volume, error)
}

// Consenter is an opener of what a load may overwrite.
type Consenter interface {
	// Agree takes consent to overwrite, and gives the identity it is for.
	Agree(context.Context, Locator, Claim) (setup.Identity, error)
	// Holds tells what is recognised there, and who uses it; both are empty when
	// nothing is found.
	Holds(context.Context, Locator) (holds, user string, err error)
	// Readable reports why it cannot be read; nil when it can.
	Readable(context.Context, Locator) error
}

// Describer is an opener of what describes itself, because nothing of this host
// stands below it.
type Describer interface {
	Describe(context.Context, Locator) (setup.Setup, setup.Layer, error)
}

// Relative is an opener whose locators are paths after their scheme.
type Relative interface {
	// Absolute is a path as it is typed, from where the caller is.
	Absolute(name string) (string, error)
}

// Named is an opener of what has a name of its own.
type Named interface {
	// NameOf is that name, as text of any kind; "" where it cannot be told.
	NameOf(context.Context, Locator) string
}

// Adjuster is an opener of what is reached in more than one way, with settings that its
// locators name.
type Adjuster interface {
	// Adjust gives the locator with some settings in place of its own, and reports those
	// that there are not. It touches nothing.
	Adjust(Locator, []plan.Setting) (Locator, error)
	// Adjustable are the settings that may matter to a load, with values that are worth
	// trying beside those of the locator.
	Adjustable(Locator, workload.Spec) []Adjustment
}

// Adjustment is a setting that can be tried at other values.
type Adjustment struct {
	plan.Axis
	Now string // its value as the volume is named
	Of  string // what it is about, in words
}

// Way is how a place takes what is made there, in words.
type Way string

// Maker is an opener of places where what is measured is made.
type Maker interface {
	// WayOf tells how a place takes a test file, by making an empty one that is
	// gone when it returns.
	WayOf(context.Context, Locator) (Way, error)
}

// Traces notes test files that have a name, so that one which is left behind when
// the process is killed can be found.
type Traces interface {
	// Note is called before a file is made under path, or a folder that bears a nonce. When
	// it fails none is made.
	Note(path, nonce string) error
	// Forget is called when path is gone.
	Forget(path string)
	// Left is called when path could not be removed: nobody works on it any more.
	Left(path string)
}
