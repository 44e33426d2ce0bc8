// Package load is the load engine: it drives the queues of a volume with a
// workload on a given clock and measures what comes back.
//
// It knows storage only through the interfaces Volume and Queue, and time
// only through Clock, so the same engine runs on files, devices, network
// storage and simulated arrays. Each worker is a state machine that says what
// to issue next and takes what completed; it neither sleeps nor looks at the
// wall. Nothing on the way of an operation allocates or takes a lock.
//
//	outcome, err := load.Run(ctx, load.Job{Workload: spec, Volume: volume, Clock: clock})
package load

import (
	"context"
	"errors"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds" // any of which may be asked for
)

// ErrUnsupported is wrapped by a volume's answer to what it cannot do at all.
var ErrUnsupported = errors.New("not supported by this volume")

// Volume is storage that takes reads and writes, opened for one measurement.
type Volume interface {
	// Facts tells what the volume is. It never blocks.
	Facts() Facts
	// Open makes a queue for one worker. It is called on the goroutine, locked
	// to its thread, that will use the queue.
	Open(QueueOptions) (Queue, error)
	// Close gives back what opening took.
	Close() error
}

// Facts are what the engine needs to know of a volume.
type Facts struct {
	Size      quantity.Bytes // bytes that can be addressed
	Alignment quantity.Bytes // offsets and lengths must be multiples of this; 1 for any
	ReadOnly  bool
	Files     bool // it was opened for files as well, whose objects are those of a load's set
}

// QueueOptions say what one worker will ask of its queue.
type QueueOptions struct {
	Depth        int // operations in flight at most, each with a buffer: slots are 0 to Depth-1
	LargestBlock int // bytes of each slot's buffer
	Handles      int // files that are open at a time at most, numbered from 0
	Part         int // number of the load that the worker belongs to, where several are at once
}

// Operation is one I/O to be issued: an access of the load, with its slot.
type Operation = workload.Access

// Completion is the answer to one operation.
type Completion struct {
	Slot  int
	Bytes int   // moved; may be fewer than asked
	Err   error // nil when it succeeded; syscall.Errno where the system answered
}

// Queue is an asynchronous path to a volume, used by one goroutine.
type Queue interface {
	// Buffer is the memory of a slot, LargestBlock bytes long; nil where the
	// volume keeps no data. It belongs to the volume while an operation of that
	// slot is in flight.
	Buffer(slot int) []byte
	// Submit takes operations, which stay as they are until they are answered. It may
	// hold them back until the next Collect. An error is about the queue as a whole:
	// nothing of it works any more.
	Submit([]*Operation) error
	// Collect stores completions and returns how many. It waits up to wait for
	// the first one; at zero it only looks. Fewer than asked, even none after
	// waiting, is no error.
	Collect(into []Completion, wait time.Duration) (int, error)
	// Interface names how operations are handed over, for the record, with
	// whatever of it was not to be had.
	Interface() string
	// Close frees what the queue holds. Unanswered is the number of operations
	// still in flight: they are called back where that is possible, and the
	// memory of those that are not must stay valid.
	Close(unanswered int) error
}

// ErrLost is wrapped by the failure of a measurement whose storage went away, or never
// answered.
var ErrLost = errors.New("the storage was lost")

// Losable is a queue that knows when its storage cannot be reached any more.
type Losable interface {
	// Lost says why it cannot be reached now, way by way; nil when it can. It is asked by
	// the goroutine that uses the queue.
	Lost() error
}

// Negotiated is a queue over sessions of which the two sides agree on something.
type Negotiated interface {
	// Sessions tells what, also when the queue is closed.
	Sessions() []measure.Session
}

// Clock tells time in nanoseconds since an arbitrary start; it never goes
// back.
type Clock interface {
	Now() int64
}

// Monotonic is the clock of real volumes.
type Monotonic struct{ start time.Time }

// NewMonotonic starts a monotonic clock at zero.
func NewMonotonic() Monotonic { return Monotonic{time.Now()} }

// Now is the time since the clock was made.
func (m Monotonic) Now() int64 { return int64(time.Since(m.start)) }

// Job is one measurement to make.
type Job struct {
	Workload workload.Spec
	Volume   Volume
	Clock    Clock
	// Here says which of the workload's workers this engine runs, when others run
	// elsewhere; the zero Share is all of them. Numbers, seeds, regions and shares of
	// rate and amount are those of the whole.
	Here Share
	// Start, when set, is called once all queues are open, and says when the workers
	// begin, together with those of other engines: it may wait for them. A time that is
	// past is at once; an error, or an end of the context, is that of Run.
	Start func(context.Context) (time.Time, error)
	// Beside, when set, is called at the start and at the end of each interval
	// and tells what host and device did since the call before.
	Beside func() *measure.Beside
	// Inside, when set, is called like Beside, and tells what a volume in real time, or
	// who stands for it, tells of its inside.
	Inside func() []measure.Counter
	// Pace, when above zero, holds virtual time to so many times the time of the
	// wall, so that people can watch; real volumes know no other pace than one.
	Pace float64
	// Watch, when set, is asked for the phases of the measured time: at its end,
	// and of a patient workload, which needs it, after its intervals.
	Watch Watch
	// Observe, when set, is given each interval as it ends, in order, from one
	// goroutine. However long it takes, the load never waits for it; Run returns
	// when it was given all of them.
	Observe func(measure.Interval)
	// Thread, when set, is called on the thread of each worker at the start and
	// at the end of each interval, and tells what that thread used so far.
	Thread func() ThreadUse
}

// Share is some of the workers of a workload: Count of them, from First on.
type Share struct{ First, Count int }

// ThreadUse is what the system counted of a thread since it began.
type ThreadUse struct {
	CPU    time.Duration // it ran
	Waited time.Duration // it was ready to run, and no core ran it
}

// Watch is given the paces of the measured time so far and says what they show: the
// phases, how many intervals at the start the summary of what lasts leaves out, and
// whether a patient workload may end. Last is set when the measurement has ended.
type Watch func(paces []measure.Pace, last bool) measure.Stand

// Outcome is what a measurement came to.
type Outcome struct {
	Summary measure.Summary
	// Latencies are the histograms of the classes of which something completed.
	Latencies map[measure.Class]*measure.Histogram
	// Failure is set when Summary.Ending is ByFailure: the first fault, in
	// words.
	Failure error
}
