package iscsi

import (
	"fmt"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/array"
)

// Disk says when operations are done. What they read and write is kept beside it.
type Disk interface {
	// Size is the number of bytes.
	Size() int64
	// Begin takes an operation, and calls its Done at once or later, from any goroutine.
	Begin(*Operation)
	// Close ends it; what is under way is not answered any more.
	Close()
}

// Kind is what an operation does.
type Kind uint8

// The kinds.
const (
	Read Kind = iota
	Write
	Flush
	Trim

	kinds
)

// Operation is one on a disk. It belongs to the disk until it is done.
type Operation struct {
	Kind   Kind
	Host   int // number of the session it came over
	Offset int64
	Length int
	Done   func(failed bool)
}

// Instant is a disk that does everything at once.
type Instant int64

// Size is the number of bytes.
func (d Instant) Size() int64 { return int64(d) }

// Begin is done at once.
func (d Instant) Begin(o *Operation) { o.Done(false) }

// Close has nothing to end.
func (d Instant) Close() {}

// Paced is a simulated array whose virtual time is held to that of the wall: an operation
// is done when the array would have done it.
type Paced struct {
	caches []string // their names

	mutex  sync.Mutex
	array  *array.Array
	began  time.Time
	under  []*Operation // by their tags
	free   []int        // tags
	spare  [][]ended    // lists to be used again
	wake   int          // descriptor of an event
	closed bool
	over   sync.WaitGroup
}

// NewPaced begins the time of an array.
func NewPaced(d array.Description) (*Paced, error) {
	a, err := array.New(d)
	if err != nil {
		return nil, err
	}
	p := &Paced{caches: make([]string, len(d.Caches)), array: a, began: time.Now()}
	if p.wake, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		return nil, fmt.Errorf("get an event: %w", err)
	}
	for i, c := range d.Caches {
		p.caches[i] = c.Name
	}
	p.over.Go(p.run)
	return p, nil
}

// Size is the number of bytes.
func (p *Paced) Size() int64 { return int64(p.array.Size()) }

// Totals are the array's running counters now.
func (p *Paced) Totals() array.Totals {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.array.Totals()
}

// Caches are what the array's caches are called.
func (p *Paced) Caches() []string { return p.caches }

// Begin hands an operation to the array at the present time.
func (p *Paced) Begin(o *Operation) {
	p.mutex.Lock()
	p.catchUp()
	if len(p.free) == 0 {
		p.free = append(p.free, len(p.under))
		p.under = append(p.under, nil)
	}
	tag := p.free[len(p.free)-1]
	p.free = p.free[:len(p.free)-1]
	p.under[tag] = o
	p.array.Submit(array.Request{Tag: tag, Host: o.Host, Write: o.Kind == Write, Flush: o.Kind == Flush, Trim: o.Kind == Trim, Offset: o.Offset, Length: o.Length})
	done := p.answered()
	p.mutex.Unlock()
	p.finish(done)
	p.rouse()
}

// catchUp lets happen what should have happened by now.
func (p *Paced) catchUp() {
	for until := int64(time.Since(p.began)); p.array.Step(until); {
	}
}

// ended is an operation that the array has answered.
type ended struct {
	*Operation
	failed bool
}

// answered are the operations that the array has answered, for finish; nil for none.
func (p *Paced) answered() (all []ended) {
	answers := p.array.Done()
	if len(answers) == 0 {
		return nil
	}
	if n := len(p.spare); n > 0 {
		all, p.spare = p.spare[n-1][:0], p.spare[:n-1]
	}
	for _, a := range answers {
		all = append(all, ended{p.under[a.Tag], a.Failed})
		p.under[a.Tag] = nil
		p.free = append(p.free, a.Tag)
	}
	p.array.Forget()
	return all
}

// finish tells whoever waits for operations, who may ask for others meanwhile.
func (p *Paced) finish(all []ended) {
	if all == nil {
		return
	}
	for _, e := range all {
		e.Done(e.failed)
	}
	p.mutex.Lock()
	p.spare = append(p.spare, all)
	p.mutex.Unlock()
}

// run answers operations when their time has come. Its thread sleeps by itself: timers of
// the runtime can be a millisecond late.
func (p *Paced) run() {
	runtime.LockOSThread()
	_ = unix.Prctl(unix.PR_SET_TIMERSLACK, 1, 0, 0, 0)
	// What is handed to the kernel is on the heap: made once.
	polled := []unix.PollFd{{Fd: int32(p.wake), Events: unix.POLLIN}}
	timeout, count := new(unix.Timespec), make([]byte, 8)
	for {
		p.mutex.Lock()
		p.catchUp()
		done := p.answered()
		at, some := p.array.Next()
		over := p.closed
		p.mutex.Unlock()
		if over {
			return
		}
		p.finish(done)
		left := time.Hour
		if some {
			left = max(time.Duration(at)-time.Since(p.began), 0)
		}
		*timeout = unix.NsecToTimespec(int64(left))
		if n, err := unix.Ppoll(polled, timeout, nil); err == nil && n > 0 {
			_, _ = unix.Read(p.wake, count)
		}
	}
}

// rouse wakes the thread, which may have to wake earlier than it was to.
func (p *Paced) rouse() { _, _ = unix.Write(p.wake, one) }

// one is what rouses who waits for an event.
var one = []byte{1, 0, 0, 0, 0, 0, 0, 0}

// Close ends it.
func (p *Paced) Close() {
	p.mutex.Lock()
	p.closed = true
	p.mutex.Unlock()
	p.rouse()
	p.over.Wait()
	_ = unix.Close(p.wake)
}
