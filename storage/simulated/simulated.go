// Package simulated makes a simulated array a volume: it reads an array file
// and lets the load engine drive the array in virtual time.
//
// One Volume is one array for the length of a run: caches stay warm and fast
// regions stay full from one measurement to the next.
package simulated

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync/atomic"
	"syscall"
	"time"

	"patientheron/core/agenda"
	"patientheron/core/array"
	"patientheron/core/filesystem"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/storage/volume"
)

// Volume is a simulated array at work.
type Volume struct {
	array   *array.Array
	before  array.Totals
	queues  []*queue
	systems []*files // the file systems that are on it

	settings filesystem.Settings
	remember pagecache.Settings
	memory   *pagecache.Cache // of the host, for data; nil while nothing went through it
	recalled pagecache.Counts // what it had done before
	cached   bool             // what is measured goes through it
	due      agenda.Agenda    // cached operations on blocks whose host computes, by their tags

	began    int64 // when what is measured began
	answered []int // queues that have something to collect

	pause func() // called every so many steps; nil for never
	steps int    // since it was

	injected   atomic.Bool // something is in injections
	injections chan injection
}

// injection is a fault that somebody else asks for, to whom it is answered.
type injection struct {
	fault  array.Fault
	answer chan<- error
}

// New builds an array from its description.
func New(d array.Description) (*Volume, error) {
	a, err := array.New(d)
	if err != nil {
		return nil, err
	}
	return &Volume{array: a, settings: d.FileSystem, remember: d.PageCache, before: a.Totals(), injections: make(chan injection, 16)}, nil
}

// Use gives the array as it stands to the next measurement.
func (v *Volume) Use(_ context.Context, spec workload.Spec) (load.Volume, error) {
	v.queues, v.answered = nil, nil
	v.began = v.array.Now()
	v.array.Happened() // before this measurement
	spec = spec.Completed()
	for _, p := range spec.Parts() {
		if p.Zeroes+p.Swaps > 0 {
			return nil, fmt.Errorf("%w: a simulated array has offloaded copies, but no zeroing and no compare-and-write; leave zeroes and swaps out, or serve it (heron array serve) and measure it over iSCSI, where it reads and writes for them", load.ErrUnsupported)
		}
	}
	if spec.Cached && slices.ContainsFunc(spec.Parts(), func(p workload.Spec) bool { return p.Copies > 0 }) {
		return nil, fmt.Errorf("%w: data in the page cache are not where the array would copy them from; leave copies or cached out", load.ErrUnsupported)
	}
	if err := v.useMemory(spec); err != nil {
		return nil, err
	}
	if ofFiles, _ := spec.OfFiles(); len(ofFiles) > 0 {
		return v.useFiles(spec)
	}
	v.leaveFiles()
	v.array.Writes(contentOf(spec))
	return v, nil
}

// contentOf is how far what a load writes can be compressed and repeats: of several at once
// on average over the bytes that each has in flight.
func contentOf(spec workload.Spec) (compressible, duplicate float64) {
	weights := 0.0
	for _, p := range spec.Parts() {
		c, d := float64(p.Compressible), float64(p.Duplicate)
		if own := p.Traits().Content; own != nil {
			c, d = own.Compressible, own.Duplicate
		}
		weight := 1e-9 + float64(p.Depth*p.Workers)*float64(1-p.Reads)*p.MeanBlock()
		compressible, duplicate, weights = compressible+weight*c, duplicate+weight*d, weights+weight
	}
	return compressible / weights, duplicate / weights
}

// Rest lets virtual time pass in which nothing is asked of the array.
func (v *Volume) Rest(pause quantity.Seconds) {
	until := v.array.Now() + int64(pause.Duration())
	for v.step(until) {
		v.hand()
	}
}

// Facts tells the size; any offset and length will do.
func (v *Volume) Facts() load.Facts { return load.Facts{Size: v.array.Size(), Alignment: 1} }

// Close has nothing to do.
func (v *Volume) Close() error { return nil }

// Now is the virtual time.
func (v *Volume) Now() int64 { return v.array.Now() }

// Step moves the virtual time on until something was answered, at most to
// until.
func (v *Volume) Step(until int64) bool {
	if v.injected.Load() {
		v.takeInjected()
	}
	v.mayPause()
	for len(v.systems) == 0 && !v.cached && len(v.array.Done()) == 0 { // nobody but queues waits for answers
		if !v.array.Step(until) {
			return false
		}
	}
	for !v.hand() {
		if !v.step(until) {
			return false
		}
	}
	return true
}

// pauseEvery is how many steps pass between two looks at whether to pause.
const pauseEvery = 1024

// mayPause pauses where somebody else wants the host to himself.
func (v *Volume) mayPause() {
	if v.steps++; v.pause != nil && v.steps >= pauseEvery {
		v.steps = 0
		v.pause()
	}
}

// step lets the next thing happen, in the array, in a file system or in the host's memory, at
// most at until.
func (v *Volume) step(until int64) bool {
	if v.injected.Load() {
		v.takeInjected()
	}
	v.mayPause()
	var next timed // that goes on by itself before anything else
	for _, f := range v.systems {
		if at := f.fs.Timer(); at <= until && at != math.MaxInt64 {
			until, next = at, f.fs
		}
	}
	if v.memory != nil {
		for _, t := range [...]timed{v.memory, cachedBlocks{v}} {
			if at := t.Timer(); at <= until && at != math.MaxInt64 {
				until, next = at, t
			}
		}
	}
	if v.array.Step(until) {
		return true
	}
	if next != nil {
		next.Wake()
	}
	return next != nil
}

// timed is what goes on by itself when a time has come.
type timed interface {
	Timer() int64 // math.MaxInt64 for never
	Wake()
}

// hand gives answers to those who wait for them, and reports whether a queue has something
// to collect.
func (v *Volume) hand() bool {
	for _, answer := range v.array.Done() {
		v.deliver(answer.Tag, answer.Failed, answer.Refusal)
	}
	v.array.Forget()
	if v.memory != nil {
		for i := 0; i < len(v.memory.Woken()); i++ { // more may come meanwhile
			w := v.memory.Woken()[i]
			v.deliver(w.Waiter, w.Failed, 0)
		}
		v.memory.Forget()
	}
	for _, f := range v.systems {
		f.hand()
	}
	return len(v.answered) > 0
}

// deliver gives an answer to whom its tag belongs to.
func (v *Volume) deliver(tag int, failed bool, refusal array.Refusal) {
	switch owner := tag / tagsOfOwner; {
	case tag == nobody:
	case owner == ofMemory:
		v.memory.Done(tag%tagsOfOwner, failed)
	case owner > 0:
		v.systems[owner-1].fs.Done(tag%tagsOfOwner, failed)
	default:
		q, c := v.queues[tag/slotsOfQueue], load.Completion{Slot: tag % slotsOfQueue}
		if failed {
			c.Err = failure(refusal)
		}
		if q.cached != nil {
			q.cached.went(c)
		} else {
			q.answer(c)
		}
	}
}

// failure is the error of an operation that failed.
func failure(refusal array.Refusal) error {
	if refusal == 0 {
		return syscall.EIO
	}
	return fmt.Errorf("%w: a zone of the media refused it: %s; write within zones (set zone in a load of stores), or use media without zones", syscall.EIO, refusal)
}

// Inject makes a fault happen at the present moment, between two steps of whoever
// drives the array.
func (v *Volume) Inject(ctx context.Context, text string) (words string, err error) {
	fault, err := arrayfile.ReadFault([]byte(text))
	if err != nil {
		return "", err
	}
	answer := make(chan error, 1)
	select {
	case v.injections <- injection{fault, answer}:
	default:
		return "", errors.New("more faults at a time than are taken; wait for those before")
	}
	v.injected.Store(true)
	select {
	case err := <-answer:
		if err != nil {
			return "", err
		}
		return v.array.Words(fault), nil
	case <-ctx.Done():
		return "", fmt.Errorf("nobody drives the array at the moment: %w", ctx.Err())
	}
}

// Happened are the faults of the array's description that came while it was measured. What it
// had from the beginning is none.
func (v *Volume) Happened() (moments []volume.Moment) {
	for _, h := range v.array.Happened() {
		if at := h.At - quantity.Of(time.Duration(v.began)); at > 0 {
			moments = append(moments, volume.Moment{At: at, Name: h.Words})
		}
	}
	return moments
}

// takeInjected lets happen what others asked for.
func (v *Volume) takeInjected() {
	v.injected.Store(false)
	for {
		select {
		case s := <-v.injections:
			s.answer <- v.array.Inject(s.fault)
		default:
			return
		}
	}
}

// Answered lists the queues with something to collect since the call before.
func (v *Volume) Answered() []int {
	list := v.answered
	v.answered = v.answered[:0]
	return list
}

// Zones is how full the zones of the members are.
func (v *Volume) Zones() string { return v.array.ZoneMap() }

// Inside tells what happened inside the array since the call before.
func (v *Volume) Inside() []measure.Counter {
	counters := v.array.Inside(v.before)
	v.before = v.array.Totals()
	inside := make([]measure.Counter, len(counters))
	for i, c := range counters {
		inside[i] = measure.Counter{Name: c.Name, Unit: c.Unit, Value: c.Value, Of: c.Of}
		switch {
		case c.Sum:
			inside[i].Over = measure.Sums
		case c.Of > 0:
			inside[i].Over = measure.Means
		}
	}
	return append(inside, v.insideMemory()...)
}

// Tags are those of a queue's slots, or of a file system's own, that of its number from 1 on,
// or of the host's memory.
const (
	slotsOfQueue = 1 << 16
	tagsOfOwner  = 1 << 40
	ofMemory     = 1 << 20
)

// Open makes a queue for one worker. Writes carry no data: the array keeps
// none.
func (v *Volume) Open(options load.QueueOptions) (load.Queue, error) {
	return v.addBlocks(options), nil
}

// addBlocks makes a queue of operations on blocks.
func (v *Volume) addBlocks(options load.QueueOptions) load.Queue {
	q := v.addQueue(options)
	if !v.cached {
		return q
	}
	q.cached = newCachedQueue(q, options.Depth)
	return q.cached
}

func (v *Volume) addQueue(options load.QueueOptions) *queue {
	q := &queue{
		volume: v, number: len(v.queues),
		lengths: make([]int, options.Depth), ready: make([]load.Completion, 0, options.Depth),
	}
	v.queues = append(v.queues, q)
	return q
}

type queue struct {
	volume  *Volume
	number  int
	lengths []int
	ready   []load.Completion
	cached  *cachedQueue // what its operations go through; nil for the array itself
}

// answer takes the answer to an operation, which moved all of its bytes unless it failed.
func (q *queue) answer(c load.Completion) {
	if c.Err == nil {
		c.Bytes = q.lengths[c.Slot]
	}
	if len(q.ready) == 0 {
		q.volume.answered = append(q.volume.answered, q.number)
	}
	q.ready = append(q.ready, c)
}

func (q *queue) Buffer(int) []byte { return nil }

func (q *queue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.lengths[o.Slot] = o.Length
		q.volume.array.Submit(array.Request{
			Tag: q.number*slotsOfQueue + o.Slot, Host: q.number, Write: o.Class == measure.Write, Flush: o.Class == measure.Flush, Trim: o.Class == measure.Trim, Copy: o.Class == measure.Copy, Source: o.Source, Offset: o.Offset, Length: o.Length,
		})
	}
	return nil
}

func (q *queue) Collect(into []load.Completion, _ time.Duration) (int, error) {
	n := copy(into, q.ready)
	q.ready = q.ready[:copy(q.ready, q.ready[n:])]
	return n, nil
}

func (q *queue) Interface() string { return "simulated" }

func (q *queue) Close(int) error { return nil }

var _ load.Stepped = (*Volume)(nil)
