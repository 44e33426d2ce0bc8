package simulated

import (
	"context"
	"errors"
	"fmt"
	"math"
	"syscall"

	"patientheron/core/array"
	"patientheron/core/filesystem"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// files is a file system in a region of an array.
type files struct {
	array *Volume
	owner int // number among the file systems, from 1
	fs    *filesystem.FS
	shape string // of the files that are on it
	whole bool   // all of them are
	held  quantity.Bytes
	region
	before filesystem.Counts

	queues []*queue // by their number in the file system
	hosts  int      // of the array that come before its own
}

// region is where a file system lies on an array.
type region struct{ at, size quantity.Bytes }

// Submit gives an operation of the file system to the array.
func (f *files) Submit(tag, host int, kind filesystem.Kind, offset int64, length int) {
	f.array.array.Submit(array.Request{Tag: f.owner*tagsOfOwner + tag, Host: f.hosts + host, Write: kind == filesystem.Write, Flush: kind == filesystem.Flush, Offset: int64(f.at) + offset, Length: length})
}

// Now is the virtual time.
func (f *files) Now() int64 { return f.array.array.Now() }

// regions are where the file systems of a load lie: one on all of the array, or several
// behind what is worked on as blocks, each with room by what its files hold.
func (v *Volume) regions(spec workload.Spec) ([]region, error) {
	ofFiles, _ := spec.OfFiles()
	held, sum := make([]float64, len(ofFiles)), 0.0
	for i, p := range ofFiles {
		set, err := loadfiles.Of(p).WorkedOut()
		if err != nil {
			return nil, err
		}
		held[i] = float64(set.Bytes() + quantity.Bytes(set.Len())*bytesOfFile)
		sum += held[i]
	}
	first := blocksEnd(spec)
	room := max(float64(v.array.Size()-first), 0)
	regions := make([]region, len(ofFiles))
	for i := range regions {
		size := quantity.Bytes(room*held[i]/max(sum, 1)) / quantity.MiB * quantity.MiB
		if len(regions) == 1 {
			size = quantity.Bytes(room)
		}
		regions[i] = region{first, size}
		first += size
	}
	return regions, nil
}

// bytesOfFile is about what a file takes beside its bytes.
const bytesOfFile = 4096

// blocksEnd is where what a load works on as blocks ends, in whole MiB.
func blocksEnd(spec workload.Spec) quantity.Bytes {
	if !spec.Several() {
		return 0
	}
	return (spec.Offset + spec.Span + quantity.MiB - 1) / quantity.MiB * quantity.MiB
}

// Ready makes a file system with the files that a load finds: none where it puts them,
// otherwise all of them, written one after another. Of loads at once each has its own. Before
// a load that goes around the host's memory what is dirty there is written.
func (v *Volume) Ready(ctx context.Context, spec workload.Spec, progress volume.Progress) error {
	spec = spec.Completed()
	if err := v.settle(ctx, spec, progress); err != nil {
		return err
	}
	ofFiles, _ := spec.OfFiles()
	if len(ofFiles) == 0 {
		return nil
	}
	regions, err := v.regions(spec)
	if err != nil {
		return err
	}
	before := v.systems
	v.leaveFiles()
	for i, p := range ofFiles {
		f := keptOf(before, loadfiles.Of(p), regions[i])
		if f == nil {
			if f, err = v.newFiles(loadfiles.Of(p), regions[i]); err != nil {
				return err
			}
		}
		v.systems = append(v.systems, f)
		f.owner = len(v.systems)
		if f.whole || loadfiles.Of(p).Starts() {
			continue
		}
		v.array.Writes(contentOf(p))
		if err := f.lay(ctx, progress); err != nil {
			v.leaveFiles()
			return noRoom(err, loadfiles.Of(p))
		}
		f.whole = true
	}
	return nil
}

// keptOf finds the file system among those before that has all files of a load where they
// would be made; nil for none.
func keptOf(before []*files, of *loadfiles.Files, at region) *files {
	for _, f := range before {
		if f.region == at && !of.Starts() && f.shape == of.Shape() {
			if f.whole = f.whole || f.fs.Whole(); f.whole {
				return f
			}
		}
	}
	return nil
}

// newFiles makes a file system without files.
func (v *Volume) newFiles(of *loadfiles.Files, at region) (*files, error) {
	set, err := of.WorkedOut()
	if err != nil {
		return nil, err
	}
	f := &files{array: v, shape: of.Shape(), held: set.Bytes(), region: at}
	if f.fs, err = filesystem.New(v.settings, at.size, set, f); err != nil {
		return nil, noRoom(err, of)
	}
	if v.memory != nil { // of what was there before
		v.memory.Drop(pagecache.Range{Offset: int64(at.at), Length: int64(at.size)})
	}
	return f, nil
}

func noRoom(err error, of *loadfiles.Files) error {
	if held, known := of.Holds(); known && errors.Is(err, syscall.ENOSPC) {
		return fmt.Errorf("%w: %d files, %s in all, do not fit onto the array with what a file system needs beside them; use fewer or smaller files", volume.ErrNoSpace, held.Files, held.Bytes)
	}
	return err
}

// laying is how many writes are under way while files are laid onto an array.
const laying = 64

// lay writes all files, as a copy that nobody measures: nothing else is under way then.
func (f *files) lay(ctx context.Context, progress volume.Progress) error {
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
			progress(done, f.held)
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

// leaveFiles lets the file systems end what they have begun, and forgets them.
func (v *Volume) leaveFiles() {
	v.calmDown()
	v.systems = nil
}

// calmDown waits until nothing of the file systems is under way.
func (v *Volume) calmDown() {
	for _, f := range v.systems {
		for !f.fs.Quiet() && v.step(math.MaxInt64) {
			v.hand()
		}
	}
}

// opened are files, and blocks beside them, opened for one measurement.
type opened struct {
	*Volume
	parts []*files // by the number of the load; nil for one of blocks
	size  quantity.Bytes
}

// useFiles gives the files as they stand to the next measurement.
func (v *Volume) useFiles(spec workload.Spec) (load.Volume, error) {
	ofFiles, blocks := spec.OfFiles()
	if len(v.systems) != len(ofFiles) {
		return nil, errors.New("the files were not made ready")
	}
	v.array.Writes(contentOf(spec))
	o := &opened{Volume: v}
	for _, p := range spec.Parts() {
		if loadfiles.Of(p) == nil {
			o.parts = append(o.parts, nil)
			continue
		}
		f := v.systems[len(v.systems)-len(ofFiles)]
		ofFiles = ofFiles[1:]
		if f.shape != loadfiles.Of(p).Shape() {
			return nil, errors.New("other files were made ready")
		}
		if loadfiles.Of(p).Starts() || loadfiles.Of(p).Does(loadfiles.Put) || loadfiles.Of(p).Does(loadfiles.Save) || loadfiles.Of(p).Does(loadfiles.Remove) {
			f.whole = false
		}
		f.queues, f.hosts = nil, 0
		f.fs.CloseQueues()
		o.parts = append(o.parts, f)
		o.size += f.held
	}
	if blocks {
		o.size = v.array.Size()
	}
	return o, nil
}

// Facts tells what the files hold together, or how large the array is.
func (o *opened) Facts() load.Facts { return load.Facts{Size: o.size, Alignment: 1, Files: true} }

// Close lets what is under way end.
func (o *opened) Close() error {
	o.calmDown()
	return nil
}

// hand gives answers of the file system to its queues.
func (f *files) hand() {
	for _, a := range f.fs.Answers() {
		if a.Queue < len(f.queues) { // and not of a measurement before
			f.queues[a.Queue].answer(load.Completion{Slot: a.Slot, Err: a.Err})
		}
	}
	f.fs.Forget()
}

// Inside tells what happened inside the array and the file systems since the call before.
func (o *opened) Inside() []measure.Counter {
	var commits, read, written int64
	for _, f := range o.systems {
		now := f.fs.Counts()
		commits, read, written = commits+now.Commits-f.before.Commits, read+now.Read-f.before.Read, written+now.Written-f.before.Written
		f.before = now
	}
	return append(o.Volume.Inside(),
		measure.Counter{Name: "journal commits", Unit: "operations", Value: float64(commits), Over: measure.Sums},
		measure.Counter{Name: "metadata read", Unit: "bytes", Value: float64(read), Over: measure.Sums},
		measure.Counter{Name: "metadata written", Unit: "bytes", Value: float64(written), Over: measure.Sums},
	)
}

// Open makes a queue for one worker.
func (o *opened) Open(options load.QueueOptions) (load.Queue, error) {
	f := o.parts[options.Part]
	if f == nil {
		return o.addBlocks(options), nil
	}
	q := o.addQueue(options)
	if len(f.queues) == 0 {
		f.hosts = q.number
	}
	f.queues = append(f.queues, q)
	return &fileQueue{q, f, f.fs.Open(options.Handles, o.cached)}, nil
}

// fileQueue is a queue of operations on files.
type fileQueue struct {
	*queue
	files *files
	own   int // its number in the file system
}

func (q *fileQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.lengths[o.Slot] = o.Length
		q.files.fs.Begin(q.own, o.Slot, filesystem.Operation{Class: o.Class, Object: o.Object, Handle: int(o.Handle), Beside: o.Beside, Offset: o.Offset, Length: o.Length})
	}
	return nil
}

var _ load.Stepped = (*opened)(nil)
