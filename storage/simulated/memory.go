package simulated

import (
	"cmp"
	"context"
	"errors"
	"math"

	"patientheron/core/array"
	"patientheron/core/filesystem"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/pagecache"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

// useMemory lets a load go through the host's memory, or around it. What goes around it finds
// all on the array that was written before; and where that writes, nothing in memory
// afterwards.
func (v *Volume) useMemory(spec workload.Spec) error {
	v.cached, v.due = spec.Cached, v.due[:0]
	switch {
	case v.memory == nil && !v.cached:
		return nil
	case v.memory == nil:
		v.memory = pagecache.New(v.remember, memoryDevice{v})
	case !v.cached:
		if !v.memory.Settled() {
			return errors.New("what is in the host's memory was not written before a load that goes around it")
		}
		if spec.Writes() {
			v.memory.Drop(v.everything())
		}
	}
	for _, f := range v.systems {
		f.fs.Remember(memoryOf{f})
	}
	return nil
}

// settle writes what is dirty in the host's memory before a load that goes around it.
func (v *Volume) settle(ctx context.Context, spec workload.Spec, progress volume.Progress) error {
	if spec.Cached || v.memory == nil || v.memory.Settled() {
		return nil
	}
	v.queues, v.answered = nil, nil
	dirty := v.memory.Counts().Dirty
	v.memory.Flush(nobody, v.everything())
	for steps := 1; !v.memory.Settled() && v.step(math.MaxInt64); steps++ {
		v.hand()
		if steps%4096 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if steps%4096 == 0 && progress != nil {
			progress(dirty-v.memory.Counts().Dirty, dirty)
		}
	}
	return nil
}

func (v *Volume) everything() pagecache.Range { return pagecache.Range{Length: int64(v.array.Size())} }

// nobody is the tag of what nobody waits for.
const nobody = -1

// memoryDevice is the array, to the host's memory.
type memoryDevice struct{ *Volume }

func (d memoryDevice) Submit(tag, host int, write bool, offset int64, length int) {
	d.array.Submit(array.Request{Tag: ofMemory*tagsOfOwner + tag, Host: host, Write: write, Offset: offset, Length: length})
}

// memoryOf is the host's memory, to a file system.
type memoryOf struct{ *files }

func (m memoryOf) waiter(tag int) int { return m.owner*tagsOfOwner + tag }

func (m memoryOf) place(part pagecache.Range) pagecache.Range {
	return pagecache.Range{Offset: int64(m.at) + part.Offset, Length: part.Length}
}

func (m memoryOf) Read(tag, host int, by *pagecache.Reader, part pagecache.Range, end int64) (waits int) {
	return m.array.memory.Read(m.waiter(tag), m.hosts+host, by, m.place(part), int64(m.at)+end)
}

func (m memoryOf) Write(tag, host int, part pagecache.Range) (waits int) {
	return m.array.memory.Write(m.waiter(tag), m.hosts+host, m.place(part), true)
}

func (m memoryOf) Flush(tag int, parts ...pagecache.Range) (waits int) {
	placed := make([]pagecache.Range, len(parts))
	for i, part := range parts {
		placed[i] = m.place(part)
	}
	return m.array.memory.Flush(m.waiter(tag), placed...)
}

func (m memoryOf) Drop(part pagecache.Range) { m.array.memory.Drop(m.place(part)) }

func (m memoryOf) CopyTime(length int) int64 { return m.array.memory.CopyTime(length) }

var _ filesystem.Memory = memoryOf{}

// cachedQueue is a queue of operations on blocks that go through the host's memory. What a
// thread does for each takes it time.
type cachedQueue struct {
	*queue
	busy   int64 // until when its thread works
	reader *pagecache.Reader
	slots  []cachedSlot
}

type cachedSlot struct {
	class   measure.Class
	part    pagecache.Range
	waits   int
	err     error
	flushed bool // the data has left the memory; the array is flushed
}

// inOrder is how many who read in order are noticed in a queue at a time.
const inOrder = 16

func newCachedQueue(q *queue, depth int) *cachedQueue {
	return &cachedQueue{queue: q, reader: pagecache.NewReader(0, inOrder), slots: make([]cachedSlot, depth)}
}

func (q *cachedQueue) tag(slot int) int { return q.number*slotsOfQueue + slot }

func (q *cachedQueue) Submit(operations []*load.Operation) error {
	v := q.volume
	call := int64(v.settings.Completed(v.array.Size()).Call.Duration())
	for _, o := range operations {
		q.lengths[o.Slot] = o.Length
		q.slots[o.Slot] = cachedSlot{class: o.Class, part: pagecache.Range{Offset: o.Offset, Length: int64(o.Length)}}
		q.busy = max(q.busy, v.Now()) + call
		if o.Class == measure.Read || o.Class == measure.Write {
			q.busy += v.memory.CopyTime(o.Length)
		}
		v.due.Add(q.busy, q.tag(o.Slot))
	}
	return nil
}

// cachedBlocks are the cached operations on blocks whose host does its part.
type cachedBlocks struct{ *Volume }

// Timer is when the first of them goes on.
func (b cachedBlocks) Timer() int64 { return b.due.Next() }

// Wake lets those go on whose time has come.
func (b cachedBlocks) Wake() {
	for now := b.Now(); b.due.Next() <= now; {
		tag := b.due.Take()
		b.queues[tag/slotsOfQueue].cached.begin(tag % slotsOfQueue)
	}
}

func (q *cachedQueue) begin(slot int) {
	s, v, tag := &q.slots[slot], q.volume, q.tag(slot)
	s.waits = 1 // until all was asked for
	switch s.class {
	case measure.Read:
		s.waits += v.memory.Read(tag, q.number, q.reader, s.part, int64(v.array.Size()))
	case measure.Write:
		s.waits += v.memory.Write(tag, q.number, s.part, false)
	case measure.Flush:
		s.waits += v.memory.Flush(tag, v.everything())
	case measure.Trim:
		v.memory.Drop(s.part)
		s.waits++
		v.array.Submit(array.Request{Tag: tag, Host: q.number, Trim: true, Offset: s.part.Offset, Length: int(s.part.Length)})
	}
	q.went(load.Completion{Slot: slot})
}

// went is called when something came that an operation waits for: it is answered when
// that was all.
func (q *cachedQueue) went(c load.Completion) {
	s := &q.slots[c.Slot]
	s.err = cmp.Or(s.err, c.Err)
	if s.waits--; s.waits > 0 {
		return
	}
	if s.class == measure.Flush && !s.flushed {
		s.flushed = true
		s.waits++
		q.volume.array.Submit(array.Request{Tag: q.tag(c.Slot), Host: q.number, Flush: true})
		return
	}
	q.answer(load.Completion{Slot: c.Slot, Err: s.err})
}

// insideMemory tells what happened in the host's memory since the call before.
func (v *Volume) insideMemory() []measure.Counter {
	if v.memory == nil {
		return nil
	}
	now := v.memory.Counts()
	hits, misses := now.Hits-v.recalled.Hits, now.Misses-v.recalled.Misses
	v.recalled = now
	if !v.cached {
		return nil
	}
	counters := []measure.Counter{{Name: "page cache dirty", Unit: "bytes", Value: float64(now.Dirty)}}
	if hits+misses > 0 {
		counters = append(counters, measure.Counter{Name: "page cache hit rate", Unit: "share", Value: float64(hits) / float64(hits+misses), Over: measure.Means, Of: float64(hits + misses)})
	}
	return counters
}
