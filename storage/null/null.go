// Package null is the null volume: it answers every operation at once and
// moves nothing. What is measured on it is the cost of measuring.
package null

import (
	"time"

	"patientheron/core/load"
	"patientheron/core/quantity"
)

// Volume is a null volume of a size.
type Volume struct{ Size quantity.Bytes }

// Facts tells the size; any offset and length will do.
func (v Volume) Facts() load.Facts { return load.Facts{Size: v.Size, Alignment: 1} }

// Open makes a queue.
func (v Volume) Open(options load.QueueOptions) (load.Queue, error) {
	q := &queue{block: options.LargestBlock, memory: make([]byte, options.Depth*options.LargestBlock)}
	q.pending = make([]load.Completion, 0, options.Depth)
	return q, nil
}

// Close has nothing to do.
func (v Volume) Close() error { return nil }

type queue struct {
	block   int
	memory  []byte
	pending []load.Completion
}

func (q *queue) Buffer(slot int) []byte { return q.memory[slot*q.block : (slot+1)*q.block] }

func (q *queue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.pending = append(q.pending, load.Completion{Slot: o.Slot, Bytes: o.Length})
	}
	return nil
}

func (q *queue) Collect(into []load.Completion, wait time.Duration) (int, error) {
	n := copy(into, q.pending)
	q.pending = q.pending[:copy(q.pending, q.pending[n:])]
	if n == 0 && wait > 0 {
		time.Sleep(wait)
	}
	return n, nil
}

func (q *queue) Interface() string { return "none" }

func (q *queue) Close(int) error { return nil }
