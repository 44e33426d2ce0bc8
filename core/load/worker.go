package load

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"syscall"
	"time"

	"patientheron/core/measure"
	"patientheron/core/workload"
)

const (
	// hopeless is the number of failures in a row after which a worker that was
	// told to continue ends all the same: nothing works any more.
	hopeless = 10_000
	// An operation that the system asks to issue again is issued again after a
	// pause that doubles, at most so many times in a row, which take about a
	// second together.
	mostRetries = 20
	firstRetry  = time.Microsecond
	lastRetry   = 100 * time.Millisecond
)

// worker is the state machine of one worker. All its times are nanoseconds
// since the common start. Everything but inFlight belongs to the goroutine that
// steps it.
type worker struct {
	spec   workload.Spec
	open   bool // operations arrive at a set rate
	number int  // among all workers of the measurement
	line   timeline
	source workload.Source
	onward workload.Onward // the source, where it can say what comes next by itself
	queue  Queue

	slots     []slot
	idle      []int        // free slots, used as a stack
	sent      []int64      // by slot, when its operation started; nil where nobody asks
	retries   []retry      // by slot; nil while none was ever to be issued again
	postponed []int        // slots whose operation is to be issued again
	batch     []*Operation // to be handed over
	again     []*Operation // to be handed over once more

	issued  int64 // bytes issued after the warm-up
	share   int64 // of an amount: bytes this worker moves; 0 without an amount
	ended   bool  // nothing more is issued
	through bool  // because nothing more came from the source
	left    bool  // in virtual time: it has finished, and nobody waits for it
	failure error
	failing int   // failures in a row
	freedAt int64 // when a slot last became free after none was

	index    int // current interval
	boundary int64
	counted  *measure.Tally         // in the current interval
	shared   *sharedTally           // that is of all workers; nil for one of its own
	alike    [measure.Classes]alike // that are not counted yet
	waiting  []measure.Class        // those that have some
	wholes   alikeWholes            // that are not counted yet
	hand     func(measure.Part)
	use      func() ThreadUse // of this worker's thread; nil where there is none
	used     ThreadUse        // at the last look

	groups int // that whole files are sorted into
	group  int // that all its operations belong to; -1 for none

	inFlight atomic.Int64
	told     int // that inFlight is
}

// alike are successes of one class that took equally long, as those do that are issued
// together and collected together.
type alike struct{ operations, bytes, latency int64 }

// alikeWholes are whole files of a group that began at the same time and are collected
// together.
type alikeWholes struct {
	group               int
	files, bytes, began int64
}

// slot is one operation in flight. It fits in a line of the processor's cache.
type slot struct {
	operation Operation // what of it is still to be done
	due       int64     // when it should have started: latency counts from here
}

// retry is an operation that the system asks to issue again.
type retry struct {
	times int   // in a row
	at    int64 // when it is issued next
}

func newWorker(spec workload.Spec, number int, queue Queue, hand func(measure.Part)) (*worker, error) {
	source, err := workload.NewSource(spec, number)
	if err != nil {
		return nil, err
	}
	own, _, group := spec.Of(number)
	onward, _ := source.(workload.Onward)
	w := &worker{
		spec: own, open: own.Open(), number: number, line: newTimeline(spec), source: source, onward: onward, queue: queue, group: group,
		slots: make([]slot, own.Depth), idle: make([]int, own.Depth),
		batch:   make([]*Operation, 0, own.Depth),
		counted: measure.NewTally(spec.Open(), own.Classes()...), hand: hand, groups: len(spec.Groups()),
	}
	for i := range w.idle {
		w.idle[i] = own.Depth - 1 - i
	}
	if w.counted.Service != nil {
		w.sent = make([]int64, own.Depth)
	}
	if spec.Amount > 0 {
		w.share = int64(spec.Amount) / int64(spec.Workers)
		if number == spec.Workers-1 {
			w.share += int64(spec.Amount) % int64(spec.Workers)
		}
	}
	w.boundary = w.line.boundary(0)
	return w, nil
}

// finished reports whether the worker has nothing in flight and will issue
// nothing more.
func (w *worker) finished() bool { return w.ended && w.flying() == 0 }

// flying is the number of operations without an answer.
func (w *worker) flying() int { return len(w.slots) - len(w.idle) }

// tellFlying shows others how many there are. Most often they are as many as before, and a
// store that others see makes the processor wait.
func (w *worker) tellFlying() {
	if now := w.flying(); now != w.told {
		w.told = now
		w.inFlight.Store(int64(now))
	}
}

// mayIssue reports whether there is room for one more operation.
func (w *worker) mayIssue() bool { return !w.ended && len(w.idle) > 0 }

// end makes the worker issue nothing more: what was to follow and is not handed over yet
// is taken back.
func (w *worker) end() {
	w.ended = true
	for _, o := range w.batch {
		w.idle = append(w.idle, o.Slot)
	}
	w.batch = w.batch[:0]
	w.tellFlying()
}

// advance moves the worker to time now: it hands over the intervals that
// ended and ends at the end of the measured time.
func (w *worker) advance(now int64) {
	for now >= w.boundary && w.boundary <= w.line.end {
		w.handOver()
		w.index++
		next := w.line.boundary(w.index)
		if next == w.boundary { // the measured time is over
			w.boundary = math.MaxInt64
			break
		}
		w.boundary = next
	}
	if now >= w.line.end {
		w.ended = true
	}
}

// handOver gives away what was counted in the current interval.
func (w *worker) handOver() {
	if w.use != nil {
		now := w.use()
		w.counted.CPU, w.counted.Waited = int64(now.CPU-w.used.CPU), int64(now.Waited-w.used.Waited)
		w.used = now
	}
	if w.shared != nil && !w.shared.mayTake(w.index) { // another worker has given it away
		w.hand(measure.Part{Worker: w.number, Index: w.index})
		return
	}
	w.hand(w.counted.Take(w.number, w.index))
}

// finish hands over the interval that was under way when the worker ended.
func (w *worker) finish() {
	if w.boundary != math.MaxInt64 {
		w.handOver()
	}
	w.hand(measure.Part{Worker: w.number, Index: workerDone})
}

// issue builds the operations that are due and hands them to the queue. The
// clock is read once more so that building does not count as latency.
func (w *worker) issue(clock func() int64) error {
	if len(w.postponed) > 0 {
		if err := w.issueAgain(clock()); err != nil {
			return err
		}
	}
	if w.mayIssue() {
		if w.source.Over() {
			w.ended, w.through = true, true
		}
		for now, due := int64(-1), w.source.Due(); w.mayIssue(); {
			if due > 0 && now < 0 {
				now = clock()
			}
			if due > max(now, 0) {
				break
			}
			number := w.idle[len(w.idle)-1]
			w.idle = w.idle[:len(w.idle)-1]
			due = w.add(number, due)
		}
	}
	if len(w.batch) == 0 {
		return nil
	}
	now := clock()
	for _, o := range w.batch {
		s := &w.slots[o.Slot]
		if w.sent != nil {
			w.sent[o.Slot] = now
		}
		if w.open {
			w.counted.Late += now - max(s.due, w.freedAt)
		} else {
			s.due = now
		}
	}
	w.tellFlying()
	err := w.queue.Submit(w.batch)
	w.batch = w.batch[:0]
	return err
}

// issueAgain hands over the postponed operations whose time has come.
func (w *worker) issueAgain(now int64) error {
	left := w.postponed[:0]
	for _, number := range w.postponed {
		if w.retries[number].at <= now {
			w.again = append(w.again, &w.slots[number].operation)
		} else {
			left = append(left, number)
		}
	}
	w.postponed = left
	return w.submitAgain()
}

// submitAgain hands over what goes through the queue once more.
func (w *worker) submitAgain() error {
	if len(w.again) == 0 {
		return nil
	}
	err := w.queue.Submit(w.again)
	w.again = w.again[:0]
	return err
}

// add puts the next operation into a slot and the batch, and says when the one after it is
// due.
func (w *worker) add(number int, due int64) (next int64) {
	s := &w.slots[number]
	o := &s.operation
	next = w.source.Next(o)
	o.Slot = number
	if o.Class == measure.Write {
		if buffer := w.queue.Buffer(number); buffer != nil {
			w.source.Fill(buffer[:o.Length])
		}
	}
	w.put(s, due)
	return next
}

// put puts the operation of a slot into the batch.
func (w *worker) put(s *slot, due int64) {
	o := &s.operation
	s.due = due
	w.forgetRetries(o.Slot)
	w.batch = append(w.batch, o)
	if w.share > 0 && o.Class.Moves() && !w.line.isWarmUp(w.index) {
		if w.issued += int64(o.Length); w.issued >= w.share {
			w.ended = true
		}
	}
}

// reap takes completions that were collected at time now. What the system asks
// to issue again, and the rest of what it moved in part, goes through the queue
// once more.
func (w *worker) reap(completions []Completion, now int64) error {
	for i := range completions {
		c := &completions[i]
		s := &w.slots[c.Slot]
		o := &s.operation
		switch {
		case c.Err == nil && (c.Bytes == o.Length || !o.Class.Moves()):
			w.failing = 0
			s.makeWhole()
			w.record(s, now)
			if w.onward != nil && !w.ended && w.onward.GoesOn(o) {
				w.put(s, 0)
				continue
			}
			w.release(c.Slot, now, nil)
		case o.MayBeGone && errors.Is(c.Err, syscall.ENOENT): // which is an answer
			w.failing = 0
			w.record(s, now)
			w.release(c.Slot, now, c.Err)
		case c.Err == nil && c.Bytes > 0:
			if o.From == 0 {
				w.counted.Pieces++
			}
			o.From += c.Bytes
			o.Offset += int64(c.Bytes)
			o.Length -= c.Bytes
			w.forgetRetries(c.Slot)
			w.again = append(w.again, o)
		case w.postpone(c, now):
		default:
			w.release(c.Slot, now, w.fail(s, c))
		}
	}
	w.countAlike(now)
	if w.failure != nil {
		w.end()
	}
	w.tellFlying()
	return w.submitAgain()
}

// makeWhole makes the operation what it was before some of it was moved.
func (s *slot) makeWhole() {
	if o := &s.operation; o.From > 0 {
		o.Offset, o.Length, o.From = o.Offset-int64(o.From), o.Length+o.From, 0
	}
}

// postpone has an operation issued again after a pause, where the system asks for that and
// has not asked too often.
func (w *worker) postpone(c *Completion, now int64) bool {
	if !errors.Is(c.Err, syscall.EAGAIN) && !errors.Is(c.Err, syscall.EINTR) {
		return false
	}
	if w.retries == nil {
		w.retries = make([]retry, len(w.slots))
	}
	r := &w.retries[c.Slot]
	if r.times >= mostRetries {
		return false
	}
	r.at = now + int64(min(firstRetry<<r.times, lastRetry))
	r.times++
	w.counted.Retries++
	w.postponed = append(w.postponed, c.Slot)
	return true
}

func (w *worker) forgetRetries(number int) {
	if w.retries != nil {
		w.retries[number] = retry{}
	}
}

// record counts a success. What completes when the measured time is over counts
// nowhere, so that rate × time is what was moved within it.
func (w *worker) record(s *slot, now int64) {
	if now >= w.line.end {
		return
	}
	class, bytes, latency := s.operation.Class, int64(s.operation.Length), now-s.due
	a := &w.alike[class]
	if a.latency != latency && a.operations > 0 {
		w.counted.RecordAlike(class, a.operations, a.bytes, a.latency)
		a.operations, a.bytes = 0, 0
	} else if a.operations == 0 {
		w.waiting = append(w.waiting, class)
	}
	a.operations++
	a.bytes += bytes
	a.latency = latency
	if w.group >= 0 && s.operation.Class.Moves() {
		w.recordWhole(w.group, int64(s.operation.Length), s.due, now)
	}
	w.counted.LastDone = now
	if service := w.counted.Service; service != nil {
		service.Record(now - w.sent[s.operation.Slot])
	}
}

// recordWhole counts a whole file that ended now.
func (w *worker) recordWhole(group int, bytes, began, now int64) {
	if a := &w.wholes; a.group != group || a.began != began {
		w.countWholes(now)
		a.group, a.began = group, began
	}
	w.wholes.files++
	w.wholes.bytes += bytes
}

func (w *worker) countWholes(now int64) {
	if a := &w.wholes; a.files > 0 {
		w.counted.RecordFiles(a.group, a.files, a.bytes, a.began, now)
		a.files, a.bytes = 0, 0
	}
}

// countAlike counts what was collected now and is not counted yet.
func (w *worker) countAlike(now int64) {
	for _, class := range w.waiting {
		a := &w.alike[class]
		w.counted.RecordAlike(class, a.operations, a.bytes, a.latency)
		*a = alike{}
	}
	w.waiting = w.waiting[:0]
	w.countWholes(now)
}

// release tells the source, and frees the slot unless what is due goes into it at once. A
// whole file that ended with the operation is counted like one.
func (w *worker) release(number int, now int64, err error) {
	whole := w.source.Completed(&w.slots[number].operation, now, err)
	for ; whole != nil && now < w.line.end; whole = whole.More {
		if whole.Piece {
			w.counted.RecordPiece(whole.Group, whole.Bytes, whole.Began, now, whole.Late, whole.Stall)
		} else {
			w.recordWhole(whole.Group, whole.Bytes, whole.Began, now)
		}
	}
	if !w.open && !w.ended && w.source.Due() == 0 {
		w.add(number, 0)
		return
	}
	if len(w.idle) == 0 {
		w.freedAt = now
	}
	w.idle = append(w.idle, number)
}

// fail counts a failure, ends the worker when the workload says so, and gives the cause.
func (w *worker) fail(s *slot, c *Completion) error {
	w.counted.Failed++
	w.failing++
	moved := s.operation.From + c.Bytes
	s.makeWhole()
	kind, cause := faultKind(&s.operation, c, moved)
	fault := measure.Fault{Kind: kind, Count: 1}
	first := fmt.Sprintf("%s: %v", w.source.Words(s.operation), cause)
	if fault.First = first; w.groups > 0 {
		fault.Of = s.operation.Class.String()
	}
	w.counted.AddFault(fault)
	ends := w.spec.OnError != workload.Continue && !w.source.Without(s.operation, cause)
	if w.failure == nil && (ends || w.failing >= hopeless) {
		w.failure = errors.New(first)
		w.ended = true
	}
	return cause
}

// faultKind sorts a failed completion of an operation, of which so many bytes were moved,
// into the words of the trade.
func faultKind(o *Operation, c *Completion, moved int) (string, error) {
	if c.Err == nil {
		return "short " + o.Class.Verb(), fmt.Errorf("only %d of %d bytes were moved", moved, o.Length)
	}
	for _, known := range []struct {
		errno syscall.Errno
		kind  string
	}{
		{syscall.EIO, "i/o error"}, {syscall.ENOSPC, "no space"}, {syscall.EDQUOT, "quota exceeded"},
		{syscall.EOPNOTSUPP, "not supported"}, {syscall.ENODEV, "device gone"}, {syscall.ENXIO, "device gone"},
		{syscall.EINVAL, "refused as invalid (often: misaligned)"}, {syscall.EROFS, "read-only"},
		{syscall.ENOSYS, "not supported"}, {syscall.ENOENT, "not there"}, {syscall.EEXIST, "there already"}, {syscall.EXDEV, "not across file systems"},
		{syscall.EFBIG, "file too large"}, {syscall.EMFILE, "too many open files"}, {syscall.ENAMETOOLONG, "name too long"}, {syscall.ESTALE, "gone from the server"}, {syscall.ENOTCONN, "connection lost"}, {syscall.ECONNABORTED, "connection lost"}, {syscall.ECONNRESET, "connection lost"}, {syscall.EREMOTEIO, "connection lost"},
		{syscall.EBADF, "not opened for this"}, {syscall.ETIMEDOUT, "timed out"}, {syscall.EPERM, "not permitted"},
		{syscall.EAGAIN, "busy, however often it was asked again"}, {syscall.EINTR, "interrupted, however often it was asked again"},
	} {
		if errors.Is(c.Err, known.errno) {
			return known.kind, c.Err
		}
	}
	return "other", c.Err
}

// due is when the worker wants to issue something, or math.MaxInt64.
func (w *worker) due() int64 {
	at := int64(math.MaxInt64)
	if w.mayIssue() {
		at = w.source.Due()
	}
	for _, number := range w.postponed {
		at = min(at, w.retries[number].at)
	}
	return at
}

// wake is the time at which the worker has something to do although nothing
// completed.
func (w *worker) wake() int64 { return min(w.boundary, w.line.end, w.due()) }
