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
	"sync/atomic"
	"syscall"
	"time"

	"patientheron/core/array"
	"patientheron/core/filesystem"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
)

// Volume is a simulated array at work.
type Volume struct {
	array  *array.Array
	before array.Totals
	queues []*queue

	settings filesystem.Settings
	files    *files // the file system that is on it; nil for none

	answered []int // queues that have something to collect

	struck  atomic.Bool // something is in strikes
	strikes chan strike
}

// strike is a fault that somebody else asks for, to whom it is answered.
type strike struct {
	fault  array.Fault
	answer chan<- error
}

// New builds an array from its description.
func New(d array.Description) (*Volume, error) {
	a, err := array.New(d)
	if err != nil {
		return nil, err
	}
	return &Volume{array: a, settings: d.FileSystem, before: a.Totals(), strikes: make(chan strike, 16)}, nil
}

// Use gives the array as it stands to the next measurement.
func (v *Volume) Use(spec workload.Spec) (load.Volume, error) {
	v.queues = nil
	if spec.Kind == workload.FilesKind {
		return v.useFiles(spec)
	}
	if spec.ByStorage() > 0 {
		return nil, fmt.Errorf("%w: what a simulated array does by itself is not modelled; leave zeroes, copies and swaps out, or serve it (heron array serve) and measure it over iSCSI, where it reads and writes for them", load.ErrUnsupported)
	}
	v.leaveFiles()
	v.array.Writes(float64(spec.Compressible), float64(spec.Duplicate))
	return v, nil
}

// Rest lets virtual time pass in which nothing is asked of the array.
func (v *Volume) Rest(pause quantity.Seconds) {
	until := v.array.Now() + int64(pause.Duration())
	if v.files != nil {
		for v.files.step(until) {
		}
		return
	}
	for v.array.Step(until) {
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
	if v.struck.Load() {
		v.takeStrikes()
	}
	for len(v.array.Done()) == 0 {
		if !v.array.Step(until) {
			return false
		}
	}
	for _, answer := range v.array.Done() {
		q := v.queues[answer.Tag/slotsOfQueue]
		slot := answer.Tag % slotsOfQueue
		c := load.Completion{Slot: slot, Bytes: q.lengths[slot]}
		if answer.Failed {
			c = load.Completion{Slot: slot, Err: failure(answer.Refusal)}
		}
		if len(q.ready) == 0 {
			v.answered = append(v.answered, q.number)
		}
		q.ready = append(q.ready, c)
	}
	v.array.Forget()
	return true
}

// failure is the error of an operation that failed.
func failure(refusal array.Refusal) error {
	if refusal == 0 {
		return syscall.EIO
	}
	return fmt.Errorf("%w: a zone of the media refused it: %s; keep to zones (loads of stores have a zone), or use media without", syscall.EIO, refusal)
}

// Strike makes a fault happen at the present moment, between two steps of whoever
// drives the array.
func (v *Volume) Strike(ctx context.Context, text string) (words string, err error) {
	fault, err := arrayfile.ReadFault([]byte(text))
	if err != nil {
		return "", err
	}
	answer := make(chan error, 1)
	select {
	case v.strikes <- strike{fault, answer}:
	default:
		return "", errors.New("more faults at a time than are taken; wait for those before")
	}
	v.struck.Store(true)
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

// takeStrikes lets happen what others asked for.
func (v *Volume) takeStrikes() {
	v.struck.Store(false)
	for {
		select {
		case s := <-v.strikes:
			s.answer <- v.array.Strike(s.fault)
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
		inside[i] = measure.Counter{Name: c.Name, Unit: c.Unit, Value: c.Value}
	}
	return inside
}

// slotsOfQueue separates the tags of the queues.
const slotsOfQueue = 1 << 16

// Open makes a queue for one worker. Writes carry no data: the array keeps
// none.
func (v *Volume) Open(options load.QueueOptions) (load.Queue, error) {
	q := &queue{
		volume: v, number: len(v.queues),
		lengths: make([]int, options.Depth), ready: make([]load.Completion, 0, options.Depth),
	}
	v.queues = append(v.queues, q)
	return q, nil
}

type queue struct {
	volume  *Volume
	number  int
	lengths []int
	ready   []load.Completion
}

func (q *queue) Buffer(int) []byte { return nil }

func (q *queue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.lengths[o.Slot] = o.Length
		q.volume.array.Submit(array.Request{
			Tag: q.number*slotsOfQueue + o.Slot, Host: q.number, Write: o.Class == measure.Write, Flush: o.Class == measure.Flush, Trim: o.Class == measure.Trim, Offset: o.Offset, Length: o.Length,
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
