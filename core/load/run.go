package load

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

const (
	// longestWait bounds one wait for completions, so that a stop is seen.
	longestWait = 50 * time.Millisecond
	// drainAfterEnd is how long operations in flight at the end of the
	// measured time may take before they are reported as unanswered.
	drainAfterEnd = 5 * time.Second
	// drainAfterStop is the same after a stop: the whole run ends within a
	// second, whatever the device does.
	drainAfterStop = 500 * time.Millisecond
	// abandon is how long after that a thread stuck in the kernel is left
	// behind.
	abandon = 300 * time.Millisecond
	// sharp is the part of a wait for an intended start that is spent
	// looking instead of sleeping, because sleepers wake late.
	sharp = 60 * time.Microsecond
)

// Run makes one measurement and blocks until it is over. Cancelling ctx stops
// it within a second, even when the volume does not answer. The error is about
// a measurement that could not start; whatever happened after the start is in
// the outcome.
func Run(ctx context.Context, job Job) (*Outcome, error) {
	spec, err := fit(job.Workload, job.Volume.Facts())
	if err != nil {
		return nil, err
	}
	job.Workload = spec
	if spec.Patient() != (job.Patience != nil) {
		return nil, errors.New("a patient workload needs a Patience, and only that one")
	}
	if volume, ok := job.Volume.(Stepped); ok {
		return runStepped(ctx, job, volume)
	}
	r := &run{Job: job, started: make(chan struct{}), done: make(chan int, spec.Workers)}
	r.collect = newCollector(spec, job)
	if err := r.open(ctx); err != nil {
		return nil, err
	}
	return r.measure(ctx), nil
}

// fit completes a workload with what the volume says and refuses what the
// volume cannot do.
func fit(spec workload.Spec, facts Facts) (workload.Spec, error) {
	spec = spec.Completed()
	if spec.Span == 0 && facts.Size > spec.Offset {
		spec.Span = facts.Size - spec.Offset
	}
	if err := spec.Validate(); err != nil {
		return spec, err
	}
	if spec.Offset+spec.Span > facts.Size {
		return spec, &workload.FieldError{Field: "span", Reason: fmt.Sprintf(
			"offset and span reach to %s, past the end of the volume at %s; use a smaller span", spec.Offset+spec.Span, facts.Size)}
	}
	if facts.ReadOnly && spec.Writes() {
		return spec, &workload.FieldError{Field: "reads", Reason: fmt.Sprintf(
			"%s of operations write, but the volume is read-only; use reads 100%%", 1-spec.Reads)}
	}
	if a := facts.Alignment; a > 1 && !spec.Cached {
		for _, b := range spec.Blocks {
			if b.Size%a != 0 {
				return spec, &workload.FieldError{Field: "block", Reason: fmt.Sprintf(
					"%d bytes is not a multiple of the %d bytes this volume needs for uncached access; use a multiple, or --cached", b.Size, a)}
			}
		}
		if spec.Align%a != 0 || spec.Offset%a != 0 || spec.Stride%a != 0 {
			return spec, &workload.FieldError{Field: "align", Reason: fmt.Sprintf(
				"align, offset and stride must be multiples of the %d bytes this volume needs for uncached access", a)}
		}
	}
	return spec, nil
}

// run is one measurement under way.
type run struct {
	Job
	collect   *collector
	workers   []*worker
	origin    int64         // clock time of the common start
	started   chan struct{} // closed at the common start
	stopped   atomic.Bool   // the user asked to stop
	stoppedAt int64         // when
	failed    atomic.Bool   // a worker failed: the others end
	done      chan int      // numbers of workers that returned
	broken    []error       // of each worker: its queue as a whole failed
	passed    bool          // in virtual time: a worker moved past the end of an interval
}

// over reports whether workers shall end before the time is over.
func (r *run) over() bool { return r.stopped.Load() || r.failed.Load() || r.collect.enough.Load() }

func (r *run) now() int64 { return r.Clock.Now() - r.origin }

// open starts a thread for every worker and waits until all have their queue.
func (r *run) open(ctx context.Context) error {
	count := r.Workload.Workers
	r.workers, r.broken = make([]*worker, count), make([]error, count)
	ready := make(chan error, count)
	abort := make(chan struct{})
	for number := range count {
		go r.thread(number, ready, abort)
	}
	var failed error
	for range count {
		select {
		case err := <-ready:
			if err != nil && (failed == nil || !strings.Contains(failed.Error(), err.Error())) {
				failed = errors.Join(failed, err) // what many say is said once
			}
		case <-ctx.Done():
			close(abort)
			return fmt.Errorf("open a queue: %w", ctx.Err())
		}
	}
	if failed != nil {
		close(abort)
	}
	return failed
}

// thread is the life of one worker.
func (r *run) thread(number int, ready chan<- error, abort <-chan struct{}) {
	runtime.LockOSThread() // never unlocked: the thread ends with the worker
	queue, err := r.Volume.Open(queueOptions(r.Workload))
	if err != nil {
		ready <- err
		return
	}
	w, err := newWorker(r.Workload, number, queue, func(index int, p *part) *part { return r.collect.take(number, index, p) })
	r.workers[number] = w
	ready <- err
	if err != nil {
		_ = queue.Close(0)
		return
	}
	select {
	case <-r.started:
	case <-abort:
		_ = queue.Close(0)
		return
	}
	if err := r.drive(w); err != nil {
		r.broken[number] = err
		r.failed.Store(true)
	}
	w.finish()
	_ = queue.Close(int(w.inFlight.Load()))
	r.done <- number
}

// queueOptions says what a worker of this workload asks of its queue. A load
// that both reads and writes gets some spare buffers, so that most writes find
// one that still holds content and need not make it anew after a read.
func queueOptions(spec workload.Spec) QueueOptions {
	o := QueueOptions{Depth: spec.Depth, Slots: spec.Depth, LargestBlock: int(spec.LargestBlock())}
	if spec.Reads > 0 && spec.Reads < 1 {
		o.Slots += min(spec.Depth, 16)
	}
	return o
}

// Memory is what the buffers of a workload take, all workers together.
func Memory(spec workload.Spec) quantity.Bytes {
	const page = 4096
	o := queueOptions(spec)
	block := (quantity.Bytes(o.LargestBlock) + page - 1) / page * page
	return quantity.Bytes(spec.Workers) * quantity.Bytes(o.Slots) * block
}

// drive steps one worker on the real clock until it finished or gave up
// waiting.
func (r *run) drive(w *worker) error {
	completions := make([]Completion, r.Workload.Depth)
	clock := r.now
	giveUp := int64(0)
	for now := clock(); ; {
		w.advance(now)
		if r.over() {
			w.end()
		}
		if w.finished() {
			return nil
		}
		if w.ended {
			if giveUp == 0 {
				giveUp = now + int64(drainAfterEnd)
			}
			if r.stopped.Load() {
				giveUp = min(giveUp, now+int64(drainAfterStop))
			}
			if now >= giveUp {
				return nil
			}
		}
		if err := w.issue(clock); err != nil {
			return err
		}
		n, err := w.queue.Collect(completions, r.patience(w, now))
		if err != nil {
			return err
		}
		now = clock()
		w.advance(now)
		if err := w.reap(completions[:n], now); err != nil {
			return err
		}
		if w.failure != nil {
			r.failed.Store(true)
		}
	}
}

// patience is how long the worker may wait for a completion. Before an
// intended start it looks instead of sleeping.
func (r *run) patience(w *worker, now int64) time.Duration {
	left := time.Duration(w.wake() - now)
	if w.schedule != nil || w.rests > 0 {
		left -= sharp
	}
	return min(max(left, 0), longestWait)
}

// measure lets the workers go, waits for them and adds up.
func (r *run) measure(ctx context.Context) *Outcome {
	if r.Beside != nil {
		r.Beside() // the first call marks the start
	}
	r.origin = r.Clock.Now()
	close(r.started)
	go r.collect.run(r.now, r.inFlight)

	back := make([]bool, len(r.workers))
	r.wait(ctx, back)
	return r.outcome(back, r.collect.finish(r.now()))
}

func (r *run) inFlight() (sum int) {
	for _, w := range r.workers {
		sum += int(w.inFlight.Load())
	}
	return sum
}

// wait returns when all workers are back or those that are not were given
// up.
func (r *run) wait(ctx context.Context, back []bool) {
	missing := len(back)
	stop := ctx.Done()
	var deadline <-chan time.Time
	if end := newTimeline(r.Workload).end; r.Workload.For > 0 {
		timer := time.NewTimer(time.Duration(end) + drainAfterEnd + abandon)
		defer timer.Stop()
		deadline = timer.C
	}
	for missing > 0 {
		select {
		case number := <-r.done:
			back[number] = true
			missing--
		case <-stop:
			stop = nil
			r.stoppedAt = r.now()
			r.stopped.Store(true)
			deadline = time.After(drainAfterStop + abandon)
		case <-deadline:
			return
		}
	}
}

// outcome merges what the workers counted. A worker that is not back is stuck
// in the kernel: its own totals may not be read, only the intervals it handed
// over.
func (r *run) outcome(back []bool, stuck []*part) *Outcome {
	total := newTotals(r.Workload.Open())
	o := &Outcome{}
	summary := &o.Summary
	for number, w := range r.workers {
		if !back[number] {
			summary.Unanswered += max(w.inFlight.Load(), 1)
			total.reads.merge(&stuck[number].reads)
			total.writes.merge(&stuck[number].writes)
			continue
		}
		summary.Unanswered += w.inFlight.Load()
		summary.Interface = w.queue.Interface()
		total.merge(w.total)
		if o.Failure == nil {
			o.Failure = errors.Join(r.broken[number], w.failure)
		}
	}
	r.times(summary, total, o.Failure)
	if r.Patience != nil && len(r.collect.series) > 0 {
		length, cut, record := r.collect.patient(total)
		summary.Measured, summary.LeadIn, summary.Patience = length, summary.LeadIn+cut, &record
	}
	summary.Reads = total.reads.figures(summary.Measured)
	summary.Writes = total.writes.figures(summary.Measured)
	both := &counted{latency: measure.NewHistogram(3)}
	both.merge(&total.reads)
	both.merge(&total.writes)
	summary.Total = both.figures(summary.Measured)
	if r.Workload.SyncEvery > 0 {
		syncs := total.syncs.figures(summary.Measured)
		summary.Syncs = &syncs
	}
	if total.service != nil {
		service := total.service.Latency()
		summary.Service = &service
		if n := total.service.Count(); n > 0 {
			lag := quantity.Seconds(float64(total.late) / float64(n) / 1e9)
			summary.IssueLag = &lag
		}
	}
	summary.Faults, summary.Retries = total.faults, total.retries
	o.Reads, o.Writes = total.reads.latency, total.writes.latency
	return o
}

// times says how long was measured and why it ended.
func (r *run) times(summary *measure.Summary, total *totals, failure error) {
	line := newTimeline(r.Workload)
	end := line.end
	switch {
	case failure != nil:
		summary.Ending, end = measure.ByFailure, total.lastDone
	case r.stopped.Load():
		summary.Ending, end = measure.ByStop, max(total.lastDone, r.stoppedAt)
	case r.collect.enough.Load():
		summary.Ending = measure.ByPatience
	case r.Workload.Amount > 0 && total.reads.bytes+total.writes.bytes >= int64(r.Workload.Amount):
		summary.Ending, end = measure.ByAmount, total.lastDone
	default:
		summary.Ending = measure.ByTime
	}
	end = min(end, line.end)
	summary.LeadIn = quantity.Seconds(min(line.leadIn, max(end, 0))) / 1e9
	summary.Measured = quantity.Seconds(max(end-line.leadIn, 0)) / 1e9
}

func (t *totals) merge(other *totals) {
	t.reads.merge(&other.reads)
	t.writes.merge(&other.writes)
	t.syncs.merge(&other.syncs)
	if t.service != nil {
		t.service.Merge(other.service)
	}
	t.late += other.late
	t.retries += other.retries
	t.lastDone = max(t.lastDone, other.lastDone)
	for _, f := range other.faults {
		t.faults = addFault(t.faults, f)
	}
}

func (c *counted) figures(over quantity.Seconds) measure.Figures {
	f := measure.Figures{Operations: c.operations, Bytes: quantity.Bytes(c.bytes), Latency: c.latency.Latency()}
	f.Rate, f.Throughput = measure.Per(c.operations, c.bytes, over)
	return f
}
