// Package simulated makes a simulated array a volume: it reads an array file
// and lets the load engine drive the array in virtual time.
//
// One Volume is one array for the length of a run: caches stay warm and fast
// regions stay full from one measurement to the next.
package simulated

import (
	"syscall"
	"time"

	"patientheron/core/array"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Volume is a simulated array at work.
type Volume struct {
	array  *array.Array
	before array.Totals
	queues []*queue
}

// New builds an array from its description.
func New(d array.Description) (*Volume, error) {
	a, err := array.New(d)
	if err != nil {
		return nil, err
	}
	return &Volume{array: a, before: a.Totals()}, nil
}

// Use gives the array as it stands to the next measurement.
func (v *Volume) Use(workload.Spec) (load.Volume, error) {
	v.queues = nil
	return v, nil
}

// Rest lets virtual time pass in which nothing is asked of the array.
func (v *Volume) Rest(pause quantity.Seconds) {
	until := v.array.Now() + int64(pause.Duration())
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
			c = load.Completion{Slot: slot, Err: syscall.EIO}
		}
		q.ready = append(q.ready, c)
	}
	v.array.Forget()
	return true
}

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

func (q *queue) Submit(operations []load.Operation) error {
	for i := range operations {
		o := &operations[i]
		q.lengths[o.Slot] = o.Length
		q.volume.array.Submit(array.Request{
			Tag: q.number*slotsOfQueue + o.Slot, Write: o.Class == measure.Write, Flush: o.Class == measure.Flush, Offset: o.Offset, Length: o.Length,
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
