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
	"errors"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
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
}

// QueueOptions say what one worker will ask of its queue.
type QueueOptions struct {
	Depth        int // operations in flight at most
	Slots        int // buffers, at least Depth; slots are 0 to Slots-1
	LargestBlock int // bytes of each slot's buffer
}

// Kind is what an operation does.
type Kind uint8

// The kinds of operation. Sync forces what was written to stable storage.
const (
	Read Kind = iota
	Write
	Sync
)

func (k Kind) String() string { return [...]string{"read", "write", "flush"}[k] }

// Operation is one I/O to be issued. Its data is in the queue's buffer of its
// slot.
type Operation struct {
	Offset int64
	Length int
	Slot   int
	Kind   Kind
}

// Completion is the answer to one operation.
type Completion struct {
	Slot  int
	Bytes int   // moved; may be fewer than asked
	Err   error // nil when it succeeded; syscall.Errno where the system answered
}

// Queue is an asynchronous path to a volume, used by one goroutine.
type Queue interface {
	// Buffer is the memory of a slot, LargestBlock bytes long. It belongs to
	// the volume while an operation of that slot is in flight.
	Buffer(slot int) []byte
	// Submit takes operations. It may hold them back until the next Collect.
	// An error is about the queue as a whole: nothing of it works any more.
	Submit([]Operation) error
	// Collect stores completions and returns how many. It waits up to wait for
	// the first one; at zero it only looks. Fewer than asked, even none after
	// waiting, is no error.
	Collect(into []Completion, wait time.Duration) (int, error)
	// Interface names how operations are handed over, for the record.
	Interface() string
	// Close frees what the queue holds. Unanswered is the number of operations
	// still in flight: their memory must stay valid.
	Close(unanswered int) error
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
	// Beside, when set, is called at the start and at the end of each interval
	// and tells what host and device did since the call before.
	Beside func() *measure.Beside
	// Pace, when above zero, holds virtual time to so many times the time of the
	// wall, so that people can watch; real volumes know no other pace than one.
	Pace float64
	// Patience, of a patient workload, is asked after each interval of the
	// measured time.
	Patience Patience
	// Observe, when set, is given each interval as it ends, in order, from one
	// goroutine. It should not block for long.
	Observe func(measure.Interval)
}

// Patience is given the intervals of the measured time so far. It says how many
// at the start are better cut off as lead-in, whether enough is known to end,
// and what to record of that. Last is set when the measurement has ended.
type Patience func(series []measure.Interval, last bool) (cut int, enough bool, record measure.Patience)

// Outcome is what a measurement came to.
type Outcome struct {
	Summary measure.Summary
	Reads   *measure.Histogram
	Writes  *measure.Histogram
	// Failure is set when Summary.Ending is ByFailure: the first fault, in
	// words.
	Failure error
}
