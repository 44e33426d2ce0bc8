package localfile

import (
	"errors"
	"fmt"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/storage/localfile/uring"
)

// pageSize is what each slot's buffer is aligned to: enough for any device.
const pageSize = 4096

// openQueue makes an io_uring queue, or the portable one where the kernel
// refuses io_uring.
func openQueue(fd int, options load.QueueOptions) (load.Queue, error) {
	memory, err := mapBuffers(options)
	if err != nil {
		return nil, err
	}
	// Sleeps of this thread end on time, not up to 50 µs late; what it costs
	// without is only precision.
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0)
	ring, err := uring.Open(options.Depth)
	if errors.Is(err, uring.ErrUnavailable) {
		return openThreads(fd, memory, options.Depth), nil
	}
	if err != nil {
		memory.unmap()
		return nil, err
	}
	q := &ringQueue{ring: ring, fd: fd, memory: memory, read: uring.ReadFixed, write: uring.WriteFixed}
	if ring.RegisterFile(fd) == nil {
		q.fd = 0 // its index
	}
	if ring.RegisterBuffers(memory.slots) != nil {
		q.read, q.write = uring.ReadPlain, uring.WritePlain
	}
	var lacks []string
	if f := ring.Features(); !f.Buffers {
		lacks = append(lacks, "buffers")
	}
	if f := ring.Features(); !f.Files {
		lacks = append(lacks, "file")
	}
	q.name = "io_uring"
	if len(lacks) > 0 {
		q.name += " without registered " + strings.Join(lacks, " and ")
	}
	return q, nil
}

// buffers is the memory of a queue's slots, outside of Go's heap so that the
// kernel may keep on using it whatever happens to the queue.
type buffers struct {
	mapped []byte
	slots  [][]byte
}

func mapBuffers(options load.QueueOptions) (buffers, error) {
	stride := (options.LargestBlock + pageSize - 1) / pageSize * pageSize
	mapped, err := unix.Mmap(-1, 0, stride*options.Depth, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return buffers{}, fmt.Errorf("get %d buffers of %d bytes: %w", options.Depth, options.LargestBlock, err)
	}
	b := buffers{mapped: mapped, slots: make([][]byte, options.Depth)}
	for i := range b.slots {
		b.slots[i] = mapped[i*stride : i*stride+options.LargestBlock : (i+1)*stride]
	}
	return b, nil
}

// whole are the slots with all that whole pages have room for.
func (b buffers) whole() [][]byte {
	slots := make([][]byte, len(b.slots))
	for i, s := range b.slots {
		slots[i] = s[:cap(s)]
	}
	return slots
}

func (b buffers) unmap() { _ = unix.Munmap(b.mapped) }

// ringQueue is a queue on an io_uring.
type ringQueue struct {
	ring        *uring.Ring
	fd          int
	memory      buffers
	read, write uring.Opcode
	name        string
}

func (q *ringQueue) Buffer(slot int) []byte { return q.memory.slots[slot] }

func (q *ringQueue) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		data := q.memory.slots[o.Slot][o.From : o.From+o.Length]
		switch o.Class {
		case measure.Read:
			q.ring.Prepare(q.read, q.fd, data, o.Offset, o.Slot, uint64(o.Slot))
		case measure.Write:
			q.ring.Prepare(q.write, q.fd, data, o.Offset, o.Slot, uint64(o.Slot))
		case measure.Trim:
			q.ring.PrepareAllocate(q.fd, givesBack, o.Offset, o.Length, uint64(o.Slot))
		case measure.Zero:
			// The kernel does not say how much it zeroed: it is all of it, or none.
			q.ring.PrepareAllocate(q.fd, zeroes, o.Offset, o.Length, uint64(o.Slot)|uint64(o.Length)<<32)
		case measure.Flush:
			q.ring.Prepare(uring.Fsync, q.fd, nil, 0, 0, uint64(o.Slot))
		}
	}
	return nil
}

func (q *ringQueue) Collect(into []load.Completion, wait time.Duration) (int, error) {
	if err := q.ring.Enter(wait); err != nil {
		return 0, err
	}
	n := 0
	for n < len(into) {
		token, result, ok := q.ring.Take()
		if !ok {
			break
		}
		into[n] = load.Completion{Slot: int(uint32(token)), Bytes: int(max(result, 0))}
		if zeroed := token >> 32; result == 0 {
			into[n].Bytes = int(zeroed)
		}
		if result < 0 {
			into[n].Err = syscall.Errno(-result)
		}
		n++
	}
	return n, nil
}

func (q *ringQueue) Interface() string { return q.name }

// callingBack is how long the kernel may take to give up what is in flight.
const callingBack = 100 * time.Millisecond

// Close calls back what is in flight. It leaves the buffers mapped while the
// kernel may still write to them.
func (q *ringQueue) Close(unanswered int) error {
	if unanswered > 0 {
		unanswered = q.ring.CallBack(unanswered, callingBack)
	}
	err := q.ring.Close()
	if unanswered == 0 {
		q.memory.unmap()
	}
	return err
}
