package load

import (
	"errors"
	"fmt"
	"math"
	"sync/atomic"
	"syscall"

	"patientheron/core/measure"
	"patientheron/core/workload"
)

// hopeless is the number of failures in a row after which a worker that was
// told to continue ends all the same: nothing works any more.
const hopeless = 10_000

// worker is the state machine of one worker. All its times are nanoseconds
// since the common start. Everything but inFlight and issued belongs to the
// goroutine that steps it.
type worker struct {
	spec     workload.Spec
	line     timeline
	generate *workload.Generator
	content  *workload.Content
	schedule *workload.Schedule
	queue    Queue

	slots   []slot
	filled  []int     // idle slots whose buffer holds content to write, used as a stack
	blank   []int     // the other idle slots
	resting []resting // slots in think time, a ring in order of wake-up
	restAt  int
	rests   int
	batch   []Operation

	issued   int64 // bytes issued after the lead-in
	share    int64 // of an amount: bytes this worker moves; 0 without an amount
	unsynced int   // writes completed since the last flush
	ended    bool  // nothing more is issued
	failure  error
	failing  int   // failures in a row
	freedAt  int64 // when a slot last became free after none was

	index    int // current interval
	boundary int64
	part     *part // what the current interval counted
	hand     func(index int, done *part) *part
	total    *totals

	inFlight atomic.Int64
}

// slot is one operation in flight.
type slot struct {
	operation Operation
	due       int64 // when it should have started: latency counts from here
	sent      int64 // when it did
	filled    bool  // its buffer holds content
}

type resting struct {
	slot int
	wake int64
}

// part is what one worker counted in one interval. Flushes and the service
// time are counted only when the summary is made of parts.
type part struct {
	reads, writes, syncs counted
	service              *measure.Histogram
	late, failed         int64
}

// counted is one kind of operation in a part.
type counted struct {
	operations, bytes int64
	latency           *measure.Histogram
}

// newPart makes an empty part. A patient workload's summary is made of parts,
// because it is known only at the end which of them count.
func newPart(spec workload.Spec) *part {
	digits := 2
	if spec.Patient() {
		digits = 3
	}
	p := &part{}
	for _, c := range []*counted{&p.reads, &p.writes} {
		c.latency = measure.NewHistogram(digits)
	}
	if spec.Patient() {
		p.syncs.latency = measure.NewHistogram(digits)
		p.service = measure.NewHistogram(digits)
	}
	return p
}

func (p *part) reset() {
	for _, c := range []*counted{&p.reads, &p.writes, &p.syncs} {
		c.operations, c.bytes = 0, 0
		if c.latency != nil {
			c.latency.Reset()
		}
	}
	if p.service != nil {
		p.service.Reset()
	}
	p.late, p.failed = 0, 0
}

func (p *part) merge(other *part) {
	p.reads.merge(&other.reads)
	p.writes.merge(&other.writes)
	if p.service != nil && other.service != nil {
		p.syncs.merge(&other.syncs)
		p.service.Merge(other.service)
	}
	p.late += other.late
	p.failed += other.failed
}

func (c *counted) merge(other *counted) {
	c.operations += other.operations
	c.bytes += other.bytes
	c.latency.Merge(other.latency)
}

// totals is what one worker counted in the measured time.
type totals struct {
	reads, writes, syncs counted
	service              *measure.Histogram
	late                 int64 // nanoseconds by which operations went out late with a slot free
	retries              int64
	faults               []measure.Fault
	lastDone             int64 // time of the last completion
}

func newTotals(open bool) *totals {
	t := &totals{}
	for _, c := range []*counted{&t.reads, &t.writes, &t.syncs} {
		c.latency = measure.NewHistogram(3)
	}
	if open {
		t.service = measure.NewHistogram(3)
	}
	return t
}

func newWorker(spec workload.Spec, number int, queue Queue, hand func(int, *part) *part) (*worker, error) {
	generator, err := workload.NewGenerator(spec, number)
	if err != nil {
		return nil, err
	}
	w := &worker{
		spec: spec, line: newTimeline(spec), generate: generator, queue: queue,
		schedule: workload.NewSchedule(spec, number),
		slots:    make([]slot, queueOptions(spec).Slots),
		resting:  make([]resting, spec.Depth),
		batch:    make([]Operation, 0, spec.Depth),
		part:     newPart(spec), total: newTotals(spec.Open()), hand: hand,
	}
	if spec.Writes() {
		w.content = workload.NewContent(spec, number)
	}
	w.filled, w.blank = make([]int, 0, len(w.slots)), make([]int, 0, len(w.slots))
	for i := range w.slots {
		w.blank = append(w.blank, len(w.slots)-1-i)
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

// flying is the number of operations in flight.
func (w *worker) flying() int { return len(w.slots) - len(w.filled) - len(w.blank) - w.rests }

// mayIssue reports whether there is room for one more operation.
func (w *worker) mayIssue() bool { return !w.ended && w.flying()+w.rests < w.spec.Depth }

// end makes the worker issue nothing more.
func (w *worker) end() { w.ended = true }

// advance moves the worker to time now: it hands over the intervals that
// ended and ends at the end of the measured time.
func (w *worker) advance(now int64) {
	for now >= w.boundary && w.boundary <= w.line.end {
		w.part = w.hand(w.index, w.part)
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
	for w.rests > 0 && w.resting[w.restAt].wake <= now {
		w.idle(w.resting[w.restAt].slot)
		w.restAt = (w.restAt + 1) % len(w.resting)
		w.rests--
	}
}

// finish hands over the interval that was under way when the worker ended.
func (w *worker) finish() {
	if w.boundary != math.MaxInt64 {
		w.hand(w.index, w.part)
	}
	w.hand(workerDone, nil)
}

// issue builds the operations that are due and hands them to the queue. The
// clock is read once more so that building does not count as latency.
func (w *worker) issue(clock func() int64) error {
	if !w.mayIssue() {
		return nil
	}
	w.batch = w.batch[:0]
	if w.schedule == nil {
		for w.mayIssue() {
			w.add(0)
		}
	} else {
		for now := clock(); w.mayIssue() && w.schedule.Peek() <= now; w.schedule.Advance() {
			w.add(w.schedule.Peek())
		}
	}
	if len(w.batch) == 0 {
		return nil
	}
	now := clock()
	for i := range w.batch {
		s := &w.slots[w.batch[i].Slot]
		s.sent = now
		if w.schedule == nil {
			s.due = now
		} else {
			w.total.late += now - max(s.due, w.freedAt)
			w.part.late += now - max(s.due, w.freedAt)
		}
	}
	w.inFlight.Store(int64(w.flying()))
	return w.queue.Submit(w.batch)
}

// add puts the next operation into the batch.
func (w *worker) add(due int64) {
	if w.spec.SyncEvery > 0 && w.unsynced >= w.spec.SyncEvery {
		w.unsynced = 0
		number := w.take(&w.blank, &w.filled)
		s := &w.slots[number]
		s.due, s.operation = due, Operation{Kind: Sync, Slot: number}
		w.batch = append(w.batch, s.operation)
		return
	}
	access := w.generate.Next()
	var s *slot
	if access.Read {
		number := w.take(&w.blank, &w.filled)
		s = &w.slots[number]
		s.filled = false // the read will overwrite the content
		s.operation = Operation{Kind: Read, Offset: access.Offset, Length: access.Length, Slot: number}
	} else {
		number := w.take(&w.filled, &w.blank)
		s = &w.slots[number]
		if buffer := w.queue.Buffer(number); s.filled {
			w.content.Refresh(buffer[:access.Length])
		} else {
			w.content.Fill(buffer)
			s.filled = true
		}
		s.operation = Operation{Kind: Write, Offset: access.Offset, Length: access.Length, Slot: number}
	}
	s.due = due
	w.batch = append(w.batch, s.operation)
	if w.share > 0 && !w.line.isLeadIn(w.index) {
		if w.issued += int64(access.Length); w.issued >= w.share {
			w.ended = true
		}
	}
}

// take pops an idle slot, of the better kind if there is one.
func (w *worker) take(better, other *[]int) int {
	from := better
	if len(*from) == 0 {
		from = other
	}
	number := (*from)[len(*from)-1]
	*from = (*from)[:len(*from)-1]
	return number
}

// idle gives a slot back.
func (w *worker) idle(number int) {
	if w.slots[number].filled {
		w.filled = append(w.filled, number)
	} else {
		w.blank = append(w.blank, number)
	}
}

// reap takes completions that were collected at time now. It returns
// operations the system asked to be issued again through the queue.
func (w *worker) reap(completions []Completion, now int64) error {
	w.batch = w.batch[:0]
	for i := range completions {
		c := &completions[i]
		s := &w.slots[c.Slot]
		if c.Err != nil || (c.Bytes != s.operation.Length && s.operation.Kind != Sync) {
			if errors.Is(c.Err, syscall.EAGAIN) || errors.Is(c.Err, syscall.EINTR) {
				w.total.retries++
				w.batch = append(w.batch, s.operation)
				continue
			}
			w.fail(s.operation, c)
			w.release(c.Slot, now)
			continue
		}
		w.failing = 0
		w.record(s, now)
		w.release(c.Slot, now)
	}
	w.inFlight.Store(int64(w.flying()))
	if len(w.batch) > 0 {
		return w.queue.Submit(w.batch)
	}
	return nil
}

// record counts a success. What completes after the measured time is over
// counts nowhere, so that rate × time is what was moved within it.
func (w *worker) record(s *slot, now int64) {
	latency := now - s.due
	inPart, inTotal := &w.part.reads, &w.total.reads
	switch s.operation.Kind {
	case Write:
		inPart, inTotal = &w.part.writes, &w.total.writes
		w.unsynced++
	case Sync:
		inPart, inTotal = &w.part.syncs, &w.total.syncs
	}
	if now > w.line.end {
		return
	}
	if inPart.latency != nil {
		inPart.operations++
		inPart.bytes += int64(s.operation.Length)
		inPart.latency.Record(latency)
	}
	if w.line.isLeadIn(w.index) {
		return
	}
	w.total.lastDone = now
	inTotal.operations++
	inTotal.bytes += int64(s.operation.Length)
	inTotal.latency.Record(latency)
	if w.total.service != nil {
		w.total.service.Record(now - s.sent)
		if w.part.service != nil {
			w.part.service.Record(now - s.sent)
		}
	}
}

// release frees a slot, or lets it rest for the think time.
func (w *worker) release(number int, now int64) {
	if w.spec.Think == 0 {
		if !w.mayIssue() {
			w.freedAt = now
		}
		w.idle(number)
		return
	}
	at := (w.restAt + w.rests) % len(w.resting)
	w.resting[at] = resting{slot: number, wake: now + int64(w.spec.Think.Duration())}
	w.rests++
}

// fail counts a failure and ends the worker when the workload says so.
func (w *worker) fail(o Operation, c *Completion) {
	w.part.failed++
	w.failing++
	kind, cause := faultKind(o, c)
	first := fmt.Sprintf("%s of %d bytes at offset %d: %v", o.Kind, o.Length, o.Offset, cause)
	if o.Kind == Sync {
		first = fmt.Sprintf("flush: %v", cause)
	}
	w.total.faults = addFault(w.total.faults, measure.Fault{Kind: kind, Count: 1, First: first})
	if w.failure == nil && (w.spec.OnError != workload.Continue || w.failing >= hopeless) {
		w.failure = errors.New(first)
		w.ended = true
	}
}

// addFault adds f to the fault of its kind.
func addFault(faults []measure.Fault, f measure.Fault) []measure.Fault {
	for i := range faults {
		if faults[i].Kind == f.Kind {
			faults[i].Count += f.Count
			return faults
		}
	}
	return append(faults, f)
}

// faultKind sorts a failed completion into the words of the trade.
func faultKind(o Operation, c *Completion) (string, error) {
	if c.Err == nil {
		return "short " + o.Kind.String(), fmt.Errorf("only %d of %d bytes were moved", c.Bytes, o.Length)
	}
	for _, known := range []struct {
		errno syscall.Errno
		kind  string
	}{
		{syscall.EIO, "i/o error"}, {syscall.ENOSPC, "no space"}, {syscall.EDQUOT, "quota exceeded"},
		{syscall.EOPNOTSUPP, "not supported"}, {syscall.ENODEV, "device gone"}, {syscall.ENXIO, "device gone"},
		{syscall.EINVAL, "refused as invalid (often: misaligned)"}, {syscall.EROFS, "read-only"},
		{syscall.EBADF, "not opened for this"}, {syscall.ETIMEDOUT, "timed out"}, {syscall.EPERM, "not permitted"},
	} {
		if errors.Is(c.Err, known.errno) {
			return known.kind, c.Err
		}
	}
	return "other", c.Err
}

// wake is the time at which the worker has something to do although nothing
// completed.
func (w *worker) wake() int64 {
	at := min(w.boundary, w.line.end)
	if w.rests > 0 {
		at = min(at, w.resting[w.restAt].wake)
	}
	if w.schedule != nil && w.mayIssue() {
		at = min(at, w.schedule.Peek())
	}
	return at
}
