package localfile

import (
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/wall"
)

// threadQueue is the portable queue: as many goroutines as the queue is deep,
// each making one plain system call at a time.
type threadQueue struct {
	memory buffers
	work   chan load.Operation
	done   chan load.Completion
	timer  *time.Timer
}

func openThreads(fd int, memory buffers, depth int) *threadQueue {
	q := &threadQueue{
		memory: memory, work: make(chan load.Operation, depth), done: make(chan load.Completion, depth),
		timer: time.NewTimer(time.Hour),
	}
	for range depth {
		go func() {
			for o := range q.work {
				q.done <- walled(o, func() load.Completion { return q.perform(fd, o) })
			}
		}()
	}
	return q
}

// walled answers an operation whose calls panicked.
func walled(o load.Operation, perform func() load.Completion) (c load.Completion) {
	if err := wall.Do(func() error { c = perform(); return nil }); err != nil {
		return load.Completion{Slot: o.Slot, Err: err}
	}
	return c
}

func (q *threadQueue) perform(fd int, o load.Operation) load.Completion {
	c := load.Completion{Slot: o.Slot}
	switch o.Class {
	case measure.Read:
		c.Bytes, c.Err = unix.Pread(fd, q.memory.slots[o.Slot][o.From:o.From+o.Length], o.Offset)
	case measure.Write:
		c.Bytes, c.Err = unix.Pwrite(fd, q.memory.slots[o.Slot][o.From:o.From+o.Length], o.Offset)
	case measure.Trim:
		c.Err = trim(fd, o.Offset, int64(o.Length))
	case measure.Zero:
		if c.Err = zero(fd, o.Offset, int64(o.Length)); c.Err == nil {
			c.Bytes = o.Length
		}
	case measure.Flush:
		c.Err = unix.Fdatasync(fd)
	}
	c.Bytes = max(c.Bytes, 0)
	return c
}

func (q *threadQueue) Buffer(slot int) []byte { return q.memory.slots[slot] }

func (q *threadQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.work <- *o
	}
	return nil
}

func (q *threadQueue) Collect(into []load.Completion, wait time.Duration) (int, error) {
	return collect(q.done, q.timer, into, wait)
}

// collect takes what is done, and waits for the first of it.
func collect(done <-chan load.Completion, timer *time.Timer, into []load.Completion, wait time.Duration) (int, error) {
	n := ready(done, into, 0)
	if n > 0 || wait <= 0 {
		return n, nil
	}
	timer.Reset(wait)
	select {
	case into[0] = <-done:
		return ready(done, into, 1), nil
	case <-timer.C:
		return 0, nil
	}
}

func ready(done <-chan load.Completion, into []load.Completion, n int) int {
	for n < len(into) {
		select {
		case into[n] = <-done:
			n++
		default:
			return n
		}
	}
	return n
}

func (q *threadQueue) Interface() string { return "threads" }

func (q *threadQueue) Close(unanswered int) error {
	close(q.work)
	if unanswered == 0 {
		q.memory.unmap()
	}
	return nil
}
