package workload

import (
	"fmt"
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

// Work is the work of one worker. It is a Source that knows which kind it is of: a call that
// finds its way through an interface takes as long as a tenth of an operation in the engine.
type Work struct {
	Source
	blocks *blocks
	files  *fileWork
}

// NewSource prepares the work of a worker, 0 to spec.Workers-1. Workers share
// nothing, so that they may be on several hosts.
func NewSource(spec Spec, worker int) (*Work, error) {
	source, err := spec.Body().Source(spec, worker)
	if err != nil {
		return nil, err
	}
	w := &Work{Source: source}
	w.blocks, _ = source.(*blocks)
	w.files, _ = source.(*fileWork)
	return w, nil
}

// Due is that of the source.
func (w *Work) Due() int64 {
	switch {
	case w.blocks != nil:
		return w.blocks.Due()
	case w.files != nil:
		return w.files.Due()
	}
	return w.Source.Due()
}

// Next is that of the source.
func (w *Work) Next(a *Access) (due int64) {
	switch {
	case w.blocks != nil:
		return w.blocks.Next(a)
	case w.files != nil:
		return w.files.Next(a)
	}
	return w.Source.Next(a)
}

// GoesOn makes of an operation that was answered well the one that comes next, where the
// source can tell that without more ado. Where it is false, Completed and Next are to be asked.
func (w *Work) GoesOn(a *Access) bool { return w.files != nil && w.files.goesOn(a) }

// Completed is that of the source.
func (w *Work) Completed(a *Access, now int64, err error) *Whole {
	switch {
	case w.blocks != nil:
		return w.blocks.Completed(a, now, err)
	case w.files != nil:
		return w.files.Completed(a, now, err)
	}
	return w.Source.Completed(a, now, err)
}

// Source prepares the blocks of one worker.
func (Pattern) Source(spec Spec, worker int) (Source, error) {
	generator, err := NewGenerator(spec, worker)
	if err != nil {
		return nil, err
	}
	p := &blocks{Generator: generator, Schedule: NewSchedule(spec, worker), syncEvery: spec.SyncEvery}
	if spec.Writes() {
		p.content = NewContent(spec, worker)
	}
	if spec.Think > 0 {
		p.think = int64(spec.Think.Duration())
		p.ready, p.thinking = spec.Depth, make([]int64, spec.Depth)
	}
	return p, nil
}

// blocks issues blocks: at a set rate, or as fast as they complete, with a time
// to think after each.
type blocks struct {
	*Generator
	*Schedule // nil in a closed loop
	content   *Content

	syncEvery int // writes between two flushes
	unsynced  int // writes completed since the last

	think    int64   // nanoseconds
	ready    int     // slots that have not worked yet
	thinking []int64 // when slots that think are done with it, a ring in order
	first    int     // of the ring
	count    int     // in the ring
}

func (p *blocks) Due() int64 {
	switch {
	case p.Schedule != nil:
		return p.Peek()
	case p.think == 0 || p.ready > 0:
		return 0
	case p.count > 0:
		return p.thinking[p.first]
	}
	return Never
}

func (p *blocks) Next(a *Access) int64 {
	switch {
	case p.Schedule != nil:
		p.Advance()
	case p.think == 0:
	case p.ready > 0:
		p.ready--
	default:
		p.first = (p.first + 1) % len(p.thinking)
		p.count--
	}
	if p.syncEvery > 0 && p.unsynced >= p.syncEvery {
		p.unsynced = 0
		*a = Access{Class: measure.Flush}
	} else {
		p.Generator.Next(a)
	}
	return p.Due()
}

func (p *blocks) Fill(buffer []byte) { p.content.Fill(buffer) }

func (p *blocks) Words(a Access) string {
	if !a.Class.Moves() {
		return a.Class.Verb()
	}
	return fmt.Sprintf("%s of %d bytes at offset %d", a.Class.Verb(), a.Length, a.Offset)
}

func (p *blocks) Over() bool { return false }

func (p *blocks) Without(Access, error) bool { return false }

func (p *blocks) Completed(a *Access, now int64, _ error) *Whole {
	if a.Class == measure.Write {
		p.unsynced++
	}
	if p.think > 0 {
		p.thinking[(p.first+p.count)%len(p.thinking)] = now + p.think
		p.count++
	}
	return nil
}
