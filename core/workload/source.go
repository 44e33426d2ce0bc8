package workload

import (
	"math"

	"patientheron/core/measure"
)

// Never is the due time of what does not come by itself.
const Never = math.MaxInt64

// Source is where the work of one worker comes from: what it issues next, and
// when. It is told what completed; it neither sleeps nor looks at a clock. All
// times are nanoseconds since the common start. It is used by one goroutine.
type Source interface {
	// Due is when the next operation shall start; zero for as soon as there is
	// room, Never while none comes before something completes.
	Due() int64
	// Next makes the operation that is due, moves on, and gives what Due is then.
	Next(*Access) (due int64)
	// Fill makes the bytes of the write that Next gave last: all of the buffer.
	Fill(buffer []byte)
	// Completed tells that an operation was answered, with nil or with what went wrong,
	// and gives the whole file that ended with it; nil for none, and otherwise valid
	// until the next call.
	Completed(a *Access, now int64, err error) *Whole
	// Words says what an operation is about, such as "write of 4096 bytes at offset 0".
	Words(a Access) string
	// Over reports that nothing more will come, whatever completes.
	Over() bool
	// Without reports whether the load goes on where the storage refused an operation
	// with this error.
	Without(a Access, err error) bool
}

// Access is one operation: what it does, where and how much.
type Access struct {
	Class     measure.Class
	Beside    bool  // it is about what stands beside the object until it takes its place
	MayBeGone bool  // it may be answered with there being no such object
	Handle    int32 // which of the queue's open files it uses or opens
	Object    int   // what of the volume it is about, as the kind of load numbers its own; 0 for the volume itself
	Offset    int64 // bytes from the start of the volume, or of the file; for a truncate its length
	Source    int64 // of a copy: where what is copied is, from the start of the volume
	Length    int   // bytes

	// Where it is in the engine, which the source leaves alone.
	Slot int // its data is in the queue's buffer of this slot, from From on
	From int // above zero when this is the rest of what was moved in part
}

// Whole is a file that was done with, or a piece of a feed that was asked for.
type Whole struct {
	Group int // of those that the body names
	Bytes int64
	Began int64 // nanoseconds since the common start
	Piece bool
	Late  int64  // of a piece: nanoseconds after it was needed; 0 for in time
	Stall int64  // of a late piece: since when its feed had been waiting for what was needed
	More  *Whole // another that ended at the same moment; nil for none
}

// Onward is a source that can make of an operation that was answered well the one that comes
// next, without more ado. Where GoesOn is false, Completed and Next are to be asked.
type Onward interface{ GoesOn(*Access) bool }

// NewSource prepares the work of a worker, 0 to spec.Workers-1. Workers share
// nothing, so that they may be on several hosts.
func NewSource(spec Spec, worker int) (Source, error) {
	spec = spec.Completed()
	if !spec.Several() { // each of which is looked at by itself
		if err := spec.Validate(); err != nil {
			return nil, err
		}
		if spec.Span == 0 {
			return nil, Invalid("span", "is not known")
		}
	}
	return spec.body().Source(spec, worker)
}
