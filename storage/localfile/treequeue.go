package localfile

import (
	"encoding/binary"
	"errors"
	"fmt"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/localfile/uring"
)

// woken is the token of the read that ends when a call that went aside is answered.
const woken = ^uint64(1)

// mostAside is how many calls at most go aside at a time.
const mostAside = 16

// treeRing is a queue for files on an io_uring. What the kernel's ring lacks goes aside,
// to goroutines that make plain calls; an event tells the ring when one of them is done.
type treeRing struct {
	*treeCalls
	ring        *uring.Ring
	table       bool // the ring has a table of open files
	read, write uring.Opcode
	name        string
	aside       [measure.Classes]bool
	began       bool // there are goroutines for what goes aside
	outside     int  // calls that are aside
	inside      int  // operations in the ring
	event       int
	armed       bool
	count       []byte     // what is read of the event
	under       []underWay // by slot
	copies      []copying  // by slot, where files come from a source
	followed    bool       // something for the ring followed an answer
}

// underWay is an operation that was not answered yet.
type underWay struct {
	*load.Operation
	copies bool // a piece of the source, or what opens and closes it there
}

// openTreeQueue makes an io_uring queue for files, or the portable one where the kernel
// refuses io_uring. The queue gives the names and the source back, also when it fails.
func openTreeQueue(names names, root int, direct bool, from *source, options load.QueueOptions) (load.Queue, error) {
	calls := newTreeCalls(names, buffers{}, root, direct, from, options)
	memory, err := mapBuffers(options)
	if err != nil {
		calls.free()
		return nil, err
	}
	calls.memory = memory
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0) // as in openQueue
	ring, err := uring.Open(options.Depth + 1)
	if errors.Is(err, uring.ErrUnavailable) {
		return openTreeThreads(calls, options.Depth), nil
	}
	if err != nil {
		calls.free()
		return nil, err
	}
	q := &treeRing{treeCalls: calls, ring: ring, read: uring.ReadPlain, write: uring.WritePlain, name: "io_uring", event: -1, under: make([]underWay, options.Depth)}
	if from != nil {
		q.copies = make([]copying, options.Depth)
	}
	q.choose()
	if q.table = q.tableWorks() && ring.RegisterHandles(len(calls.handles)) == nil; !q.table {
		q.name += " without registered files"
	}
	q.chooseHows()
	if ring.RegisterBuffers(memory.whole()) == nil {
		q.read, q.write = uring.ReadFixed, uring.WriteFixed
	}
	return q, nil
}

// choose finds what goes aside. A ring has no operation that lists a folder, and none
// that flushes a file system.
func (q *treeRing) choose() {
	for class, op := range map[measure.Class]uring.Opcode{
		measure.Open: uring.OnNames.Open, measure.Create: uring.OnNames.Open, measure.Close: uring.OnNames.Close,
		measure.Truncate: uring.OnNames.Truncate, measure.Attributes: uring.OnNames.Stat, measure.Rename: uring.OnNames.Rename,
		measure.Remove: uring.OnNames.Unlink, measure.MakeFolder: uring.OnNames.MakeDir,
	} {
		q.aside[class] = !q.ring.Offers(op)
	}
	q.aside[measure.List] = true
}

// tableWorks reports whether everything that is done with an open file is in the ring:
// what goes aside needs a descriptor. The kernels that rename in a ring have the table.
func (q *treeRing) tableWorks() bool {
	for _, class := range []measure.Class{measure.Open, measure.Close, measure.Truncate, measure.Rename} {
		if q.aside[class] {
			return false
		}
	}
	return true
}

func (q *treeRing) Buffer(slot int) []byte { return q.buffer(slot) }

// file is what the ring knows an open file by.
func (q *treeRing) file(handle int32) int {
	if q.table {
		return int(handle)
	}
	return q.handles[handle]
}

func (q *treeRing) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.under[o.Slot] = underWay{o, false}
		if q.aside[o.Class] || o.Class == measure.Flush && o.Object == loadfiles.Everything {
			if err := q.sendAside(*o); err != nil {
				return err
			}
			continue
		}
		q.inside++
		if q.source.before(o) {
			q.under[o.Slot].copies = true
			q.beginCopy(o)
			continue
		}
		q.prepare(o, uint64(o.Slot))
	}
	return nil
}

// hows are the ways that a ring opens files: to read, to make, and to read a source.
const (
	toRead = iota
	toMake
	toCopy
	hows
)

// chooseHows fills the ways in, outside of Go's heap.
func (q *treeRing) chooseHows() {
	*q.names.how(toRead) = q.ring.HowFor(q.flags(measure.Open), 0, resolveBeneath)
	*q.names.how(toMake) = q.ring.HowFor(q.flags(measure.Create), fileMode, resolveBeneath)
	if q.source != nil { // which is the user's own, and may have links and mounts in it
		*q.names.how(toCopy) = q.ring.HowFor(q.source.flags(q.direct), 0, unix.RESOLVE_NO_MAGICLINKS)
	}
}

// how is the way that an operation opens a file.
func (q *treeRing) how(class measure.Class) *uring.How {
	if class == measure.Create {
		return q.names.how(toMake)
	}
	return q.names.how(toRead)
}

func (q *treeRing) prepare(o *load.Operation, token uint64) {
	switch o.Class {
	case measure.Open, measure.Create:
		q.ring.OpenAt(q.root, q.names.file(o.Slot, o.Object, o.Beside), q.how(o.Class), int(o.Handle), token)
	case measure.Close:
		q.ring.CloseFile(q.file(o.Handle), token)
	case measure.Read:
		q.ring.Prepare(q.read, q.file(o.Handle), q.data(o), o.Offset, o.Slot, token)
	case measure.Write:
		q.ring.Prepare(q.write, q.file(o.Handle), q.data(o), o.Offset, o.Slot, token)
	case measure.Truncate:
		q.ring.Truncate(q.file(o.Handle), o.Offset, token)
	case measure.Flush:
		q.ring.PrepareFlush(q.file(o.Handle), token)
	case measure.Attributes:
		q.ring.StatAt(q.root, q.names.file(o.Slot, o.Object, false), wanted, q.names.attributes(o.Slot), token)
	case measure.Rename:
		q.ring.RenameAt(q.root, q.names.file(o.Slot, o.Object, true), q.names.file(o.Slot, o.Object, false), token)
	case measure.Remove:
		q.ring.UnlinkAt(q.root, q.names.file(o.Slot, o.Object, false), token)
	case measure.MakeFolder:
		q.ring.MakeDirAt(q.root, q.names.folder(o.Slot, o.Object), folderMode, token)
	}
}

// sendAside gives an operation to a goroutine, and lets the ring wait for the event.
func (q *treeRing) sendAside(o load.Operation) (err error) {
	if !q.began {
		if q.event, err = unix.Eventfd(0, unix.EFD_CLOEXEC); err != nil {
			return fmt.Errorf("get an event for what the ring lacks: %w", err)
		}
		q.began, q.count = true, q.names.mapped[len(q.names.mapped)-8:]
		q.start(min(cap(q.work), mostAside), func() {
			var one [8]byte
			binary.NativeEndian.PutUint64(one[:], 1)
			_, _ = unix.Write(q.event, one[:])
		})
	}
	q.outside++
	q.work <- o
	q.arm()
	return nil
}

func (q *treeRing) arm() {
	if !q.armed && q.outside > 0 {
		q.armed = true
		q.ring.ReadDescriptor(q.event, q.count, woken)
	}
}

func (q *treeRing) Collect(into []load.Completion, wait time.Duration) (n int, err error) {
	for {
		q.followed = false
		if err := q.ring.Enter(wait); err != nil {
			return 0, err
		}
		// What follows an answer about the source is handed over here, where nothing
		// else makes the worker come back at once.
		if n = q.take(into); n > 0 || !q.followed {
			return n, nil
		}
	}
}

// take gives the answers that are there.
func (q *treeRing) take(into []load.Completion) (n int) {
	for n < len(into) {
		token, result, ok := q.ring.Take()
		if !ok {
			break
		}
		if token == woken {
			q.armed = false
			continue
		}
		if under := &q.under[token]; !under.copies {
			into[n] = q.answer(under.Operation, result)
		} else {
			var over bool
			if into[n], over = q.copied(int(token), result); !over {
				continue
			}
		}
		q.inside--
		n++
	}
	for q.outside > 0 && n < len(into) {
		select {
		case into[n] = <-q.done:
			n++
			q.outside--
			continue
		default:
		}
		break
	}
	q.arm()
	return n
}

// answer turns a result of the ring into a completion.
func (q *treeRing) answer(o *load.Operation, result int32) load.Completion {
	c := load.Completion{Slot: o.Slot}
	if result >= 0 {
		c.Bytes = min(int(result), o.Length) // none where none were asked for
	} else if c.Err = syscall.Errno(-result); o.Class == measure.MakeFolder {
		c.Err = made(c.Err)
	}
	if !q.table {
		q.keep(o, result)
	}
	return c
}

// keep keeps the descriptor of a file that was opened, until it is closed.
func (q *treeRing) keep(o *load.Operation, result int32) {
	switch o.Class {
	case measure.Open, measure.Create:
		if result >= 0 {
			q.handles[o.Handle] = int(result)
		}
	case measure.Close:
		q.handles[o.Handle] = -1
	}
}

func (q *treeRing) Interface() string { return q.name }

// Close calls back what is in flight. Memory stays mapped while the kernel, or a call
// that went aside, may still use it.
func (q *treeRing) Close(unanswered int) error {
	left := q.inside
	if q.armed {
		left++
	}
	if left > 0 {
		left = q.ring.CallBack(left, callingBack)
	}
	err := q.ring.Close()
	close(q.work)
	if left == 0 && q.outside == 0 {
		q.over.Wait()
		q.closeAll()
		q.memory.unmap()
		q.names.unmap()
		if q.began {
			_ = unix.Close(q.event)
		}
	}
	return err
}
