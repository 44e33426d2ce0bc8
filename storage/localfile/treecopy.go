package localfile

import (
	"syscall"

	"patientheron/core/load"
	"patientheron/core/measure"
)

// copying is an operation of which something is done at the source first, and how far it
// is.
type copying struct {
	operation *load.Operation
	phase     phase
	failed    error // why it is given up
}

// phase is a part of an operation that takes more than one of the ring.
type phase uint8

const (
	atSource phase = iota // a file is opened, a piece read, or a file closed there
	here                  // then the copy is made, the piece written, the copy closed
	givingUp              // or the source is closed, because no copy could be made
)

// beginCopy prepares what is done at the source before an operation.
func (q *treeRing) beginCopy(o *load.Operation) {
	q.copies[o.Slot] = copying{operation: o}
	twin, token := q.source.twin(o.Handle), uint64(o.Slot)
	switch o.Class {
	case measure.Create:
		q.ring.OpenAt(q.source.root, q.source.names.file(o.Slot, o.Object, false), q.names.how(toCopy), int(twin), token)
	case measure.Write:
		q.ring.Prepare(q.read, q.file(twin), q.data(o), o.Offset, o.Slot, token)
	case measure.Close:
		q.ring.CloseFile(q.file(twin), token)
	}
}

// copied takes an answer of the ring, and goes on with the operation or is over with it.
func (q *treeRing) copied(slot int, result int32) (c load.Completion, over bool) {
	copies := &q.copies[slot]
	o := copies.operation
	twin := q.source.twin(o.Handle)
	switch copies.phase {
	case atSource:
		if err := q.fromSource(o, twin, result); err != nil {
			return load.Completion{Slot: slot, Err: err}, true
		}
		copies.phase = here
		q.prepare(o, uint64(slot))
	case here:
		c = q.answer(o, result)
		if c.Err == nil || o.Class != measure.Create {
			return c, true
		}
		copies.phase, copies.failed = givingUp, c.Err
		q.ring.CloseFile(q.file(twin), uint64(slot))
	case givingUp:
		q.handles[twin] = -1
		return load.Completion{Slot: slot, Err: copies.failed}, true
	}
	q.followed = true
	return c, false
}

// fromSource notes what came of an operation at the source; one that failed there is over.
func (q *treeRing) fromSource(o *load.Operation, twin int32, result int32) (err error) {
	if result < 0 {
		err = syscall.Errno(-result)
	}
	switch {
	case o.Class == measure.Write:
		return enough(int(result), o, err)
	case o.Class == measure.Close:
		q.handles[twin] = -1
	case err != nil:
		return ofTheSource(err)
	case !q.table:
		q.handles[twin] = int(result)
	}
	return nil
}
