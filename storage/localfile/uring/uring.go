// Package uring is a small binding of Linux's io_uring: a ring of submissions
// and a ring of completions shared with the kernel, for reads, writes and
// flushes on registered files and buffers.
//
// A Ring belongs to one goroutine locked to its thread. Prepare fills a
// submission, Enter hands all prepared ones over and waits, Completions takes
// the answers. None of them allocates.
//
// Source of structures and constants: the kernel's user interface header
// linux/io_uring.h; behaviour: io_uring_setup(2), io_uring_enter(2),
// io_uring_register(2).
package uring

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// ErrUnavailable is wrapped when this kernel or its policy refuses io_uring.
var ErrUnavailable = errors.New("io_uring is not available")

// Opcode is what a submission does.
type Opcode uint8

// The opcodes used here.
const (
	Nop        Opcode = 0
	Fsync      Opcode = 3
	ReadFixed  Opcode = 4
	WriteFixed Opcode = 5
	ReadPlain  Opcode = 22
	WritePlain Opcode = 23

	Allocate Opcode = 17

	cancel Opcode = 14
)

// calledBack is the token of the request that cancels others.
const calledBack = ^uint64(0)

const (
	setupCoopTaskrun  = 1 << 8
	setupSingleIssuer = 1 << 12
	setupDeferTaskrun = 1 << 13

	featSingleMmap = 1 << 0
	featNoDrop     = 1 << 1
	featExtArg     = 1 << 8

	enterGetEvents      = 1 << 0
	enterExtArg         = 1 << 3
	enterRegisteredRing = 1 << 4

	registerBuffers = 0
	registerFiles   = 2
	registerProbe   = 8
	registerRings   = 20
	unregisterRings = 21

	offsetSubmissions = 0x10000000

	fixedFile = 1 << 0

	fsyncDataOnly = 1 << 0

	cancelAll = 1 << 0
	cancelAny = 1 << 2
)

type params struct {
	sqEntries, cqEntries, flags, threadCPU, threadIdle, features, workFD uint32
	reserved                                                             [3]uint32
	sq                                                                   submissionOffsets
	cq                                                                   completionOffsets
}

type submissionOffsets struct {
	head, tail, ringMask, ringEntries, flags, dropped, array, reserved uint32
	userAddress                                                        uint64
}

type completionOffsets struct {
	head, tail, ringMask, ringEntries, overflow, entries, flags, reserved uint32
	userAddress                                                           uint64
}

type submission struct {
	opcode      Opcode
	flags       uint8
	priority    uint16
	fd          int32
	offset      uint64
	address     uint64
	length      uint32
	opFlags     uint32
	userData    uint64
	buffer      uint16
	personality uint16
	fileIndex   uint32
	_           [4]uint32
}

type completion struct {
	userData uint64
	result   int32
	flags    uint32
}

// resourceUpdate is struct io_uring_rsrc_update.
type resourceUpdate struct {
	offset uint32
	_      uint32
	data   uint64
}

// getEvents is struct io_uring_getevents_arg.
type getEvents struct {
	mask     uint64
	maskSize uint32
	_        uint32
	timeout  uint64
}

// Features says what the kernel offers and what the ring uses.
type Features struct {
	DeferredWork bool // completions are produced only when this thread asks
	Buffers      bool // buffers are registered
	Files        bool // the file is registered
}

// opcodes is how many opcodes are asked about.
const opcodes = 64

// Ring is one io_uring.
type Ring struct {
	fd       int
	features Features
	offers   [opcodes]bool

	enterFD    int // that the ring is entered by: its number among the thread's own rings, or fd
	enterFlags uintptr

	ring, entries []byte // mapped memory
	submissions   []submission
	sqTail        *uint32
	sqMask        uint32
	array         []uint32
	prepared      uint32 // tail as we see it
	handed        uint32 // tail as the kernel knows it

	completions []completion
	taken       uint32 // head as we see it; the kernel is told when it is entered
	cqHead      *uint32
	cqTail      *uint32
	cqMask      uint32

	argument getEvents
	timeout  unix.Timespec
	vain     uint // times in a row that nothing was ready without waiting
	skip     int  // waits before that is tried again
}

// Open makes a ring with room for entries submissions, on a thread that will
// be its only user. It wraps ErrUnavailable when the kernel refuses.
func Open(entries int) (*Ring, error) {
	var p params
	var fd uintptr
	var errno syscall.Errno
	// Newer kernels do the least work with deferred completion; older ones
	// refuse the flags they do not know with EINVAL.
	for _, flags := range []uint32{setupSingleIssuer | setupDeferTaskrun, setupCoopTaskrun, 0} {
		p = params{flags: flags}
		fd, _, errno = unix.Syscall(unix.SYS_IO_URING_SETUP, uintptr(entries), uintptr(unsafe.Pointer(&p)), 0)
		if errno != unix.EINVAL {
			break
		}
	}
	if errno != 0 {
		return nil, fmt.Errorf("%w: set up a ring of %d entries: %w", ErrUnavailable, entries, errno)
	}
	r := &Ring{fd: int(fd), enterFD: int(fd)}
	r.features.DeferredWork = p.flags&setupDeferTaskrun != 0
	if needed := uint32(featSingleMmap | featNoDrop | featExtArg); p.features&needed != needed {
		_ = r.Close()
		return nil, fmt.Errorf("%w: this kernel's version of it is too old (5.11 is needed)", ErrUnavailable)
	}
	if err := r.mapMemory(&p); err != nil {
		_ = r.Close()
		return nil, fmt.Errorf("%w: map its rings: %w", ErrUnavailable, err)
	}
	if err := r.probe(); err != nil {
		_ = r.Close()
		return nil, err
	}
	r.registerSelf()
	return r, nil
}

// registerSelf spares the kernel to look the ring up whenever it is entered, which in a
// process of many threads takes as long as some operations. Kernels before 5.18 refuse it.
func (r *Ring) registerSelf() {
	update := resourceUpdate{offset: math.MaxUint32, data: uint64(r.fd)} // wherever there is room
	if r.register(registerRings, unsafe.Pointer(&update), 1) == nil {
		r.enterFD, r.enterFlags = int(update.offset), enterRegisteredRing
	}
}

// unregisterSelf takes the thread's own reference to the ring away.
func (r *Ring) unregisterSelf() {
	if r.enterFlags == enterRegisteredRing {
		_ = r.register(unregisterRings, unsafe.Pointer(&resourceUpdate{offset: uint32(r.enterFD)}), 1)
	}
}

func (r *Ring) mapMemory(p *params) (err error) {
	size := max(int(p.sq.array+p.sqEntries*4), int(p.cq.entries)+int(p.cqEntries)*int(unsafe.Sizeof(completion{})))
	const access, how = unix.PROT_READ | unix.PROT_WRITE, unix.MAP_SHARED | unix.MAP_POPULATE
	if r.ring, err = unix.Mmap(r.fd, 0, size, access, how); err != nil {
		return err
	}
	if r.entries, err = unix.Mmap(r.fd, offsetSubmissions, int(p.sqEntries)*int(unsafe.Sizeof(submission{})), access, how); err != nil {
		return err
	}
	word := func(offset uint32) *uint32 { return (*uint32)(unsafe.Pointer(&r.ring[offset])) }
	r.submissions = unsafe.Slice((*submission)(unsafe.Pointer(&r.entries[0])), p.sqEntries)
	r.sqTail, r.sqMask = word(p.sq.tail), *word(p.sq.ringMask)
	r.array = unsafe.Slice(word(p.sq.array), p.sqEntries)
	for i := range r.array {
		r.array[i] = uint32(i)
	}
	r.completions = unsafe.Slice((*completion)(unsafe.Pointer(&r.ring[p.cq.entries])), p.cqEntries)
	r.cqHead, r.cqTail, r.cqMask = word(p.cq.head), word(p.cq.tail), *word(p.cq.ringMask)
	r.prepared, r.taken = *r.sqTail, *r.cqHead
	r.handed = r.prepared
	r.argument.timeout = uint64(uintptr(unsafe.Pointer(&r.timeout)))
	return nil
}

// probe asks which opcodes the kernel offers.
func (r *Ring) probe() error {
	const last = opcodes
	var answer struct {
		lastOp, count uint8
		_             uint16
		_             [3]uint32
		ops           [last]struct {
			op    uint8
			_     uint8
			flags uint16
			_     uint32
		}
	}
	if err := r.register(registerProbe, unsafe.Pointer(&answer), last); err != nil {
		return fmt.Errorf("%w: ask for its operations: %w", ErrUnavailable, err)
	}
	for op := range answer.ops {
		if op <= int(answer.lastOp) && answer.ops[op].flags&1 != 0 {
			r.offers[op] = true
		}
	}
	for _, op := range []Opcode{Fsync, ReadFixed, WriteFixed, ReadPlain, WritePlain, Allocate} {
		if !r.Offers(op) {
			return fmt.Errorf("%w: it lacks operation %d", ErrUnavailable, op)
		}
	}
	return nil
}

func (r *Ring) register(what int, argument unsafe.Pointer, count int) error {
	if _, _, errno := unix.Syscall6(unix.SYS_IO_URING_REGISTER, uintptr(r.fd), uintptr(what), uintptr(argument), uintptr(count), 0, 0); errno != 0 {
		return errno
	}
	return nil
}

// RegisterBuffers pins buffers so that ReadFixed and WriteFixed can use them
// by index. A user's limit on locked memory can refuse it.
func (r *Ring) RegisterBuffers(buffers [][]byte) error {
	vectors := make([]unix.Iovec, len(buffers))
	for i, b := range buffers {
		vectors[i].Base = &b[0]
		vectors[i].SetLen(len(b))
	}
	err := r.register(registerBuffers, unsafe.Pointer(&vectors[0]), len(vectors))
	r.features.Buffers = err == nil
	return err
}

// Offers reports whether the kernel has an opcode.
func (r *Ring) Offers(op Opcode) bool { return r.offers[op] }

// RegisterHandles makes a table of so many files, all of them empty, which OpenAt fills.
func (r *Ring) RegisterHandles(count int) error {
	fds := make([]int32, count)
	for i := range fds {
		fds[i] = -1
	}
	err := r.register(registerFiles, unsafe.Pointer(&fds[0]), count)
	r.features.Files = err == nil
	return err
}

// RegisterFile makes fd the file that operations on a registered file use.
func (r *Ring) RegisterFile(fd int) error {
	fds := []int32{int32(fd)}
	err := r.register(registerFiles, unsafe.Pointer(&fds[0]), 1)
	r.features.Files = err == nil
	return err
}

// Features says what the ring uses.
func (r *Ring) Features() Features { return r.features }

// next is the next submission, empty but for what all have.
func (r *Ring) next(op Opcode, fd int, token uint64) *submission {
	s := &r.submissions[r.prepared&r.sqMask]
	*s = submission{}
	s.opcode, s.fd, s.userData = op, int32(fd), token
	r.prepared++
	return s
}

// Prepare fills the next submission. The caller keeps the number in flight
// within the entries the ring was opened with. With a registered file, fd is
// its index, zero; buffer is the index of a registered buffer for the fixed
// opcodes. Token comes back with the completion.
func (r *Ring) Prepare(op Opcode, fd int, data []byte, offset int64, buffer int, token uint64) {
	s := r.next(op, fd, token)
	s.offset, s.length, s.buffer = uint64(offset), uint32(len(data)), uint16(buffer)
	if len(data) > 0 {
		s.address = uint64(uintptr(unsafe.Pointer(&data[0])))
	}
	if r.features.Files {
		s.flags = fixedFile
	}
	if op == Fsync {
		s.offset, s.opFlags = 0, fsyncDataOnly
	}
}

// PrepareFlush fills the next submission with a flush of a file and all that is known of
// it, its length included. The limits are those of Prepare.
func (r *Ring) PrepareFlush(fd int, token uint64) {
	r.Prepare(Fsync, fd, nil, 0, 0, token)
	r.submissions[(r.prepared-1)&r.sqMask].opFlags = 0
}

// PrepareAllocate fills the next submission with what fallocate does to a range in a mode,
// such as giving it back. The limits are those of Prepare.
func (r *Ring) PrepareAllocate(fd int, mode uint32, offset int64, length int, token uint64) {
	r.Prepare(Allocate, fd, nil, offset, 0, token)
	s := &r.submissions[(r.prepared-1)&r.sqMask]
	s.address, s.length = uint64(length), mode
}

// CallBack asks the kernel to give up whatever is in flight, waits for the
// answers and says how many operations are still without one. What a device has
// begun cannot be called back, and kernels before 5.19 call nothing back.
func (r *Ring) CallBack(inFlight int, within time.Duration) (left int) {
	r.next(cancel, 0, calledBack).opFlags = cancelAll | cancelAny
	for end := time.Now().Add(within); inFlight > 0; {
		wait := time.Until(end)
		if r.Enter(max(wait, 0)) != nil {
			break
		}
		for {
			token, _, ok := r.Take()
			if !ok {
				break
			}
			if token != calledBack {
				inFlight--
			}
		}
		if wait <= 0 {
			break
		}
	}
	return inFlight
}

// Ready reports how many completions can be taken without asking the kernel.
func (r *Ring) Ready() int { return int(atomic.LoadUint32(r.cqTail) - r.taken) }

// mostVain bounds how rarely Enter tries whether something is ready without waiting: after
// so many times in vain at one of 2^mostVain waits.
const mostVain = 8

// Enter hands over what was prepared and, when nothing is ready after that,
// waits for a completion up to wait: in one call of the kernel where it takes all at
// once. To say how long to wait costs the kernel as much as an operation that it answers
// at once; so where it is used to answer at once, that is said only when it did not.
func (r *Ring) Enter(wait time.Duration) error {
	if wait <= 0 || r.Ready() > 0 {
		return r.handOver()
	}
	if r.skip == 0 {
		if err := r.handOver(); err != nil || r.Ready() > 0 {
			r.vain = 0
			return err
		}
		r.vain = min(r.vain+1, mostVain)
		r.skip = 1<<r.vain - 2
	} else {
		r.skip--
	}
	r.tell()
	r.timeout = unix.NsecToTimespec(int64(wait))
	taken, _, errno := unix.Syscall6(unix.SYS_IO_URING_ENTER, uintptr(r.enterFD), uintptr(r.prepared-r.handed), 1, enterGetEvents|enterExtArg|r.enterFlags,
		uintptr(unsafe.Pointer(&r.argument)), unsafe.Sizeof(r.argument))
	switch errno {
	case 0:
		if r.handed += uint32(taken); r.handed != r.prepared { // it did not wait
			return r.handOver()
		}
		return nil
	case unix.ETIME, unix.EINTR, unix.EAGAIN, unix.EBUSY: // of the last two see handOver
		return nil
	}
	return fmt.Errorf("hand over %d operations and wait: %w", r.prepared-r.handed, errno)
}

// tell shows the kernel what was prepared and what was taken.
func (r *Ring) tell() {
	*r.sqTail = r.prepared // which it reads in the call that follows, on this thread
	if r.features.DeferredWork {
		*r.cqHead = r.taken // like this, since it produces completions only there
	} else {
		atomic.StoreUint32(r.cqHead, r.taken)
	}
}

// handOver makes the kernel take the prepared submissions and produce the
// completions that are due. It is not meant to block, but a file system may do its
// work within it and never answer. So the runtime is told: otherwise its garbage
// collector would wait for this thread, and the whole process with it.
func (r *Ring) handOver() error {
	r.tell()
	for {
		taken, _, errno := unix.Syscall6(unix.SYS_IO_URING_ENTER, uintptr(r.enterFD), uintptr(r.prepared-r.handed), 0, enterGetEvents|r.enterFlags, 0, 0)
		switch errno {
		case 0:
			r.handed += uint32(taken)
			if r.handed == r.prepared {
				return nil
			}
		case unix.EINTR:
		case unix.EAGAIN, unix.EBUSY:
			// The kernel is short of memory or of room for completions: what
			// is ready must be taken first, the rest goes at the next Enter.
			return nil
		default:
			return fmt.Errorf("hand over %d operations: %w", r.prepared-r.handed, errno)
		}
	}
}

// Take stores the token and the result of the next completion; ok is false
// when none is ready. A negative result is an error number.
func (r *Ring) Take() (token uint64, result int32, ok bool) {
	if r.taken == atomic.LoadUint32(r.cqTail) {
		return 0, 0, false
	}
	c := &r.completions[r.taken&r.cqMask]
	r.taken++
	return c.userData, c.result, true
}

// Close frees the ring, on the thread that used it. Operations in flight go on and their
// memory must stay valid.
func (r *Ring) Close() error {
	var errs []error
	if r.ring != nil {
		errs = append(errs, unix.Munmap(r.ring))
	}
	if r.entries != nil {
		errs = append(errs, unix.Munmap(r.entries))
	}
	r.ring, r.entries, r.submissions, r.completions = nil, nil, nil, nil
	r.unregisterSelf()
	return errors.Join(append(errs, unix.Close(r.fd))...)
}
