package simulated

import (
	"context"
	"errors"
	"fmt"
	"math"
	"syscall"
	"time"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/filesystem"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

// files is a file system on an array, as a volume in virtual time.
type files struct {
	array  *Volume
	fs     *filesystem.FS
	shape  string // of the files that are on it
	whole  bool   // all of them are
	size   quantity.Bytes
	before filesystem.Counts

	queues   []*fileQueue
	answered []int
}

// Submit gives an operation of the file system to the array.
func (f *files) Submit(tag, host int, kind filesystem.Kind, offset int64, length int) {
	f.array.array.Submit(array.Request{Tag: tag, Host: host, Write: kind == filesystem.Write, Flush: kind == filesystem.Flush, Offset: offset, Length: length})
}

// Now is the virtual time.
func (f *files) Now() int64 { return f.array.array.Now() }

// Ready makes a file system with the files that a load finds: none where it puts them,
// otherwise all of them, written one after another.
func (v *Volume) Ready(ctx context.Context, spec workload.Spec, progress volume.Progress) error {
	if spec.Kind != workload.FilesKind {
		return nil
	}
	set, err := spec.Files.WorkedOut()
	if err != nil {
		return err
	}
	shape := spec.Files.Shape()
	v.array.Writes(contentOf(spec.Files.Set))
	if old := v.files; old != nil && old.shape == shape && !spec.Files.Starts() {
		if old.whole = old.whole || old.fs.Whole(); old.whole {
			return nil
		}
	}
	v.leaveFiles()
	f := &files{array: v, shape: shape, whole: !spec.Files.Starts(), size: set.Bytes()}
	if f.fs, err = filesystem.New(v.settings, v.array.Size(), set, f); err != nil {
		return noRoom(err, set)
	}
	v.files = f
	if spec.Files.Starts() {
		return nil
	}
	if err := f.lay(ctx, set, progress); err != nil {
		v.files = nil
		return noRoom(err, set)
	}
	return nil
}

// contentOf is how far the files of a set can be compressed and repeat, on average over
// their bytes as far as the classes say.
func contentOf(set fileset.Set) (compressible, duplicate float64) {
	weights := 0.0
	for _, c := range set.Classes {
		weight := float64(c.Total)
		if weight == 0 {
			weight = float64(c.Number) * float64(max(c.Size.At(0.5), 1))
		}
		compressible += weight * float64(c.Compressible)
		duplicate += weight * float64(c.Duplicate)
		weights += weight
	}
	if weights == 0 {
		return 0, 0
	}
	return compressible / weights, duplicate / weights
}

func noRoom(err error, set *fileset.Files) error {
	if errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%w: %d files of %s do not fit onto the array with what a file system needs beside them; use fewer or smaller files", volume.ErrNoSpace, set.Len(), set.Bytes())
	}
	return err
}

// laying is how many writes are under way while files are laid onto an array.
const laying = 64

// lay writes all files, as a copy that nobody measures.
func (f *files) lay(ctx context.Context, set *fileset.Files, progress volume.Progress) error {
	flying, written := 0, 0
	wait := func(most int) {
		for flying > most {
			f.array.array.Step(math.MaxInt64)
			flying -= len(f.array.array.Done())
			f.array.array.Forget()
		}
	}
	err := f.fs.Lay(func(offset int64, length int, done quantity.Bytes) bool {
		wait(laying - 1)
		f.Submit(0, 0, filesystem.Write, offset, length)
		flying++
		if written++; written%1024 == 0 && progress != nil {
			progress(done, set.Bytes())
		}
		return ctx.Err() == nil
	})
	wait(0)
	f.Submit(0, 0, filesystem.Flush, 0, 0)
	flying++
	wait(0)
	if err == nil {
		err = ctx.Err()
	}
	return err
}

// leaveFiles lets the file system end what it has begun, and forgets it.
func (v *Volume) leaveFiles() {
	if v.files != nil {
		v.files.calmDown()
		v.files = nil
	}
}

// calmDown waits until nothing of the file system is under way.
func (f *files) calmDown() {
	for !f.fs.Quiet() {
		f.step(f.Now() + int64(time.Second))
		f.fs.Forget()
	}
}

// useFiles gives the files as they stand to the next measurement.
func (v *Volume) useFiles(spec workload.Spec) (load.Volume, error) {
	f := v.files
	if f == nil {
		return nil, errors.New("the files were not made ready")
	}
	if spec.Files.Starts() || spec.Files.Does(workload.Put) || spec.Files.Does(workload.Save) || spec.Files.Does(workload.Remove) {
		f.whole = false
	}
	f.queues, f.answered = nil, nil
	f.fs.CloseQueues()
	return f, nil
}

// Facts tells what the files hold together.
func (f *files) Facts() load.Facts { return load.Facts{Size: f.size, Alignment: 1, Files: true} }

// Close lets what is under way end.
func (f *files) Close() error {
	f.calmDown()
	return nil
}

// Step moves the virtual time on until something was answered, at most to until.
func (f *files) Step(until int64) bool {
	for len(f.fs.Answers()) == 0 {
		if !f.step(until) {
			return false
		}
	}
	for _, a := range f.fs.Answers() {
		q := f.queues[a.Queue]
		c := load.Completion{Slot: a.Slot, Bytes: q.lengths[a.Slot], Err: a.Err}
		if a.Err != nil {
			c.Bytes = 0
		}
		if len(q.ready) == 0 {
			f.answered = append(f.answered, a.Queue)
		}
		q.ready = append(q.ready, c)
	}
	f.fs.Forget()
	return true
}

// step lets the next thing happen, in the array or in the file system, at most at until.
func (f *files) step(until int64) bool {
	if f.array.struck.Load() {
		f.array.takeStrikes()
	}
	timer := f.fs.Timer()
	happened := f.array.array.Step(min(until, timer))
	for _, answer := range f.array.array.Done() {
		f.fs.Done(answer.Tag, answer.Failed)
	}
	f.array.array.Forget()
	if !happened && timer <= until && timer != math.MaxInt64 {
		f.fs.Wake()
		return true
	}
	return happened
}

// Answered lists the queues with something to collect since the call before.
func (f *files) Answered() []int {
	list := f.answered
	f.answered = f.answered[:0]
	return list
}

// Inside tells what happened inside the array and the file system since the call before.
func (f *files) Inside() []measure.Counter {
	now := f.fs.Counts()
	counters := append(f.array.Inside(),
		measure.Counter{Name: "journal commits", Unit: "operations", Value: float64(now.Commits - f.before.Commits)},
		measure.Counter{Name: "metadata read", Unit: "bytes", Value: float64(now.Read - f.before.Read)},
		measure.Counter{Name: "metadata written", Unit: "bytes", Value: float64(now.Written - f.before.Written)},
	)
	f.before = now
	return counters
}

// Open makes a queue for one worker.
func (f *files) Open(options load.QueueOptions) (load.Queue, error) {
	q := &fileQueue{files: f, number: f.fs.Open(options.Handles), lengths: make([]int, options.Depth), ready: make([]load.Completion, 0, options.Depth)}
	f.queues = append(f.queues, q)
	return q, nil
}

type fileQueue struct {
	files   *files
	number  int
	lengths []int
	ready   []load.Completion
}

func (q *fileQueue) Buffer(int) []byte { return nil }

func (q *fileQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.lengths[o.Slot] = o.Length
		q.files.fs.Begin(q.number, o.Slot, filesystem.Operation{Class: o.Class, Object: o.Object, Handle: int(o.Handle), Beside: o.Beside, Offset: o.Offset, Length: o.Length})
	}
	return nil
}

func (q *fileQueue) Collect(into []load.Completion, _ time.Duration) (int, error) {
	n := copy(into, q.ready)
	q.ready = q.ready[:copy(q.ready, q.ready[n:])]
	return n, nil
}

func (q *fileQueue) Interface() string { return "simulated" }

func (q *fileQueue) Close(int) error { return nil }

var _ load.Stepped = (*files)(nil)
