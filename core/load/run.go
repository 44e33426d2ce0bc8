package load

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/wall"
	"patientheron/core/workload"
)

const (
	// longestWait bounds one wait for completions, so that a stop is seen.
	longestWait = 50 * time.Millisecond
	// drainAfterEnd is how long operations in flight when a measurement is over
	// may take before they are reported as unanswered: at the end of its time,
	// after a failure, or when enough is known.
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
	if job.Here.Count == 0 {
		job.Here.Count = spec.Workers - job.Here.First
	}
	if first, count := job.Here.First, job.Here.Count; first < 0 || count < 1 || first+count > spec.Workers {
		return nil, fmt.Errorf("workers %d to %d of %d are none of them", first, first+count-1, spec.Workers)
	}
	if spec.Patient() && job.Watch == nil {
		return nil, errors.New("a patient workload needs a Watch")
	}
	if volume, ok := job.Volume.(Stepped); ok {
		return runStepped(ctx, job, volume)
	}
	r := &run{Job: job, started: make(chan struct{}), cut: make(chan struct{}), done: make(chan int, job.Here.Count)}
	r.collect = newCollector(spec, job)
	r.collect.satisfy = r.cutShort
	defer holdProcessors(job.Here.Count)()
	abort, err := r.open(ctx)
	if err == nil {
		if err = r.waitForStart(ctx); err != nil {
			close(abort)
		}
	}
	if err != nil {
		return nil, err
	}
	return r.measure(ctx), nil
}

// fit completes a workload with what the volume says and refuses what the
// volume cannot do.
func fit(spec workload.Spec, facts Facts) (workload.Spec, error) {
	spec = spec.Completed()
	files, blocks := spec.OfFiles()
	if len(files) > 0 != facts.Files {
		return spec, &mistake.Error{Of: workload.ErrInvalid, Field: "kind", Reason: "the volume was made ready for another kind of load"}
	}
	if spec.Span == 0 && facts.Size > spec.Offset {
		spec.Span = facts.Size - spec.Offset
	}
	if err := spec.Validate(); err != nil {
		return spec, err
	}
	if !blocks {
		return spec, nil // room was looked at when the files were made ready
	}
	if spec.Offset+spec.Span > facts.Size {
		return spec, &mistake.Error{Of: workload.ErrInvalid, Field: "span", Reason: fmt.Sprintf(
			"offset and span reach to %s, past the end of the volume at %s; use a smaller span", spec.Offset+spec.Span, facts.Size)}
	}
	if _, writes := spec.Reach(); facts.ReadOnly && writes {
		return spec, &mistake.Error{Of: workload.ErrInvalid, Field: "reads", Reason: fmt.Sprintf(
			"%s of operations write, but the volume is read-only; use reads 100%%", 1-spec.Reads)}
	}
	if facts.Alignment > 1 && !spec.Cached {
		for _, part := range spec.Parts() {
			if part.Traits().OnFiles {
				continue // whose pieces are aligned anyway
			}
			if err := aligned(part, facts.Alignment); err != nil {
				return spec, err
			}
		}
	}
	return spec, nil
}

// aligned refuses what a volume cannot do uncached that needs multiples of some bytes.
func aligned(spec workload.Spec, a quantity.Bytes) error {
	for _, b := range spec.Blocks {
		if b.Size%a != 0 {
			return &mistake.Error{Of: workload.ErrInvalid, Field: "block", Reason: fmt.Sprintf(
				"%d bytes is not a multiple of the %d bytes this volume needs for uncached access; use a multiple, or --cached", b.Size, a)}
		}
	}
	if spec.Align%a != 0 || spec.Offset%a != 0 || spec.Stride%a != 0 {
		return &mistake.Error{Of: workload.ErrInvalid, Field: "align", Reason: fmt.Sprintf(
			"align, offset and stride must be multiples of the %d bytes this volume needs for uncached access", a)}
	}
	return nil
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
	cut       chan struct{} // closed when it is over before its time, by failure or because enough is known
	cutOnce   sync.Once
	done      chan int // numbers of workers that returned
	broken    []error  // of each worker: its queue as a whole failed
	passed    bool     // in virtual time: a worker moved past the end of an interval
}

// over reports whether workers shall end before the time is over.
func (r *run) over() bool { return r.stopped.Load() || r.failed.Load() || r.collect.enough.Load() }

func (r *run) cutShort() { r.cutOnce.Do(func() { close(r.cut) }) }

func (r *run) now() int64 { return r.Clock.Now() - r.origin }

// open starts a thread for every worker and waits until all have their queue.
func (r *run) open(ctx context.Context) (abort chan struct{}, err error) {
	count := r.Here.Count
	r.workers, r.broken = make([]*worker, count), make([]error, count)
	ready := make(chan error, count)
	abort = make(chan struct{})
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
			return abort, fmt.Errorf("open a queue: %w", ctx.Err())
		}
	}
	if failed != nil {
		close(abort)
	}
	return abort, failed
}

// waitForStart waits for the instant at which all engines begin.
func (r *run) waitForStart(ctx context.Context) error {
	if r.Start == nil {
		return nil
	}
	at, err := r.Start(ctx)
	if err == nil {
		timer := time.NewTimer(time.Until(at))
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-ctx.Done():
			err = ctx.Err()
		}
	}
	if err != nil {
		return fmt.Errorf("wait for the start: %w", err)
	}
	return nil
}

// thread is the life of one worker.
func (r *run) thread(number int, ready chan<- error, abort <-chan struct{}) {
	runtime.LockOSThread() // never unlocked: the thread ends with the worker
	w, queue, err := r.begin(number)
	r.workers[number] = w
	ready <- err
	if err != nil {
		return
	}
	select {
	case <-r.started:
	case <-abort:
		_ = queue.Close(0)
		return
	}
	if w.use = r.Thread; w.use != nil {
		w.used = w.use()
	}
	if err := wall.Do(func() error { return r.drive(w) }); err != nil {
		r.broken[number] = err
		r.failed.Store(true)
	}
	if losable, is := queue.(Losable); is && r.broken[number] == nil {
		if err := losable.Lost(); err != nil {
			r.broken[number] = fmt.Errorf("%w: %w", ErrLost, err)
		}
	}
	if err := wall.Do(func() error { w.finish(); return nil }); err != nil && r.broken[number] == nil {
		r.broken[number] = err
	}
	_ = queue.Close(int(w.inFlight.Load()))
	r.done <- number
}

// begin makes a worker with its queue.
func (r *run) begin(number int) (w *worker, queue Queue, err error) {
	defer wall.Guard(&err)
	if queue, err = r.Volume.Open(queueOptions(r.Workload, r.Here.First+number)); err != nil {
		return nil, nil, err
	}
	if w, err = newWorker(r.Workload, r.Here.First+number, queue, r.collect.arrivals.put); err != nil {
		_ = queue.Close(0)
	}
	return w, queue, err
}

// queueOptions says what a worker of this workload asks of its queue.
func queueOptions(spec workload.Spec, worker int) QueueOptions {
	own, number, _ := spec.Of(worker)
	o := QueueOptions{Depth: own.Depth, LargestBlock: int(own.LargestBlock()), Part: number, Handles: own.Traits().Handles}
	return o
}

// Memory is what the buffers of a completed workload take, all workers together.
func Memory(spec workload.Spec) (sum quantity.Bytes) {
	const page = 4096
	for _, own := range spec.Parts() {
		block := (own.LargestBlock() + page - 1) / page * page
		sum += quantity.Bytes(own.Workers) * quantity.Bytes(own.Depth) * block
	}
	return sum
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
			r.cutShort()
		}
	}
}

// patience is how long the worker may wait for a completion. Before an
// intended start it looks instead of sleeping.
func (r *run) patience(w *worker, now int64) time.Duration {
	left := time.Duration(w.wake() - now)
	if w.due() < math.MaxInt64 {
		left -= sharp
	}
	return min(max(left, 0), longestWait)
}

// measure lets the workers go, waits for them and adds up.
func (r *run) measure(ctx context.Context) *Outcome {
	if r.Beside != nil {
		r.Beside() // the first call marks the start
	}
	if r.Inside != nil {
		r.Inside()
	}
	r.origin = r.Clock.Now()
	close(r.started)
	go r.collect.run(r.now, r.inFlight)

	back := make([]bool, len(r.workers))
	r.wait(ctx, back)
	r.collect.finish(r.now())
	return r.outcome(back)
}

func (r *run) inFlight() (sum int) {
	for _, w := range r.workers {
		sum += int(w.inFlight.Load())
	}
	return sum
}

// wait returns when all workers are back or those that are not were given up:
// there is one deadline, which comes nearer whenever the measurement is over
// earlier than it was to be.
func (r *run) wait(ctx context.Context, back []bool) {
	missing := len(back)
	stop, cut := ctx.Done(), r.cut
	deadline, at := time.NewTimer(math.MaxInt64), time.Time{}
	defer deadline.Stop()
	within := func(left time.Duration) {
		if sooner := time.Now().Add(left + abandon); at.IsZero() || sooner.Before(at) {
			at = sooner
			deadline.Reset(time.Until(at))
		}
	}
	if r.Workload.For > 0 {
		within(time.Duration(newTimeline(r.Workload).end) + drainAfterEnd)
	}
	for missing > 0 {
		select {
		case number := <-r.done:
			back[number] = true
			missing--
			if r.broken[number] != nil {
				r.cutShort()
			}
		case <-stop:
			stop = nil
			r.stoppedAt = r.now()
			r.stopped.Store(true)
			within(drainAfterStop)
		case <-cut:
			cut = nil
			within(drainAfterEnd)
		case <-deadline.C:
			return
		}
	}
}

// outcome makes the summary of what was handed over. A worker that is not back
// is stuck in the kernel: what it counted since it last handed over is not known.
func (r *run) outcome(back []bool) *Outcome {
	total := r.collect.total
	o := &Outcome{}
	summary := &o.Summary
	for number, w := range r.workers {
		if !back[number] {
			summary.Unanswered += max(w.inFlight.Load(), 1)
			continue
		}
		summary.Unanswered += w.inFlight.Load()
		summary.Interface = w.queue.Interface()
		if n, is := w.queue.(Negotiated); is {
			summary.Sessions = measure.JoinSessions(summary.Sessions, n.Sessions())
		}
		if o.Failure == nil {
			o.Failure = errors.Join(r.broken[number], w.failure)
		}
	}
	o.Failure = errors.Join(o.Failure, r.collect.broken, r.collect.unseen)
	if o.Failure == nil && !r.stopped.Load() {
		o.Failure = r.silence(total, summary.Unanswered)
	}
	r.times(summary, total, o.Failure, back)
	summary.StoodStill = r.collect.stood.told()
	switch {
	case o.Failure != nil && len(r.collect.kept.paces) > 0:
		r.collect.kept.after(0, total) // everything up to the failure, and no phase of it alone
	case r.Watch != nil && len(r.collect.kept.paces) > 0:
		length, cut, stand := r.collect.sustained()
		summary.Phases, summary.Patience = stand.Phases, stand.Patience
		if summary.WarmUp += cut; cut > 0 || r.Workload.Patient() {
			summary.Measured = length
		}
	}
	summary.Classes, summary.Total = total.Figures(summary.Measured)
	over := summary.Measured
	if summary.Ending == measure.ByPasses || len(r.Workload.PassGroups()) > 0 {
		over = 0 // each class and pass over its own time: listed files go class by class
	}
	summary.Groups = total.GroupFigures(r.Workload.Groups(), over)
	if total.Service != nil {
		service := total.Service.Latency()
		summary.Service = &service
		if n := total.Service.Count(); n > 0 {
			lag := quantity.Seconds(float64(total.Late) / float64(n) / 1e9)
			summary.IssueLag = &lag
		}
	}
	summary.Faults, summary.Retries, summary.Pieces = total.Faults, total.Retries, total.Pieces
	if n := summary.Total.Operations; n > 0 && total.CPU > 0 {
		summary.WorkerCPUPerOp = quantity.Seconds(float64(total.CPU) / float64(n) / 1e9)
	}
	r.Workload.Summarize(summary)
	if all := float64(summary.Measured) * float64(len(r.workers)); all > 0 {
		summary.CoreWait = quantity.Share(min(float64(total.Waited)/1e9/all, 1))
	}
	o.Latencies = total.Latencies()
	return o
}

// through reports whether all workers had nothing more to do.
func (r *run) through(back []bool) bool {
	for number, w := range r.workers {
		if !back[number] || !w.through {
			return false
		}
	}
	return true
}

// silence is the failure of storage that stopped to answer: operations are still under way
// after they were waited for, and nothing was answered for the last quarter of the time, or
// at all.
func (r *run) silence(total *measure.Tally, unanswered int64) error {
	end := newTimeline(r.Workload).end
	if unanswered == 0 || end == math.MaxInt64 || total.LastDone > end/4*3 {
		return nil
	}
	if total.LastDone == 0 {
		return fmt.Errorf("%w: no operation was answered, and %d are under way", ErrLost, unanswered)
	}
	return fmt.Errorf("%w: nothing was answered after %s, and %d operations are under way", ErrLost, quantity.Seconds(total.LastDone)/1e9, unanswered)
}

// times says how long was measured and why it ended.
func (r *run) times(summary *measure.Summary, total *measure.Tally, failure error, back []bool) {
	line := newTimeline(r.Workload)
	end := line.end
	switch {
	case failure != nil:
		summary.Ending, end = measure.ByFailure, total.LastDone
	case r.stopped.Load():
		summary.Ending, end = measure.ByStop, max(total.LastDone, r.stoppedAt)
	case r.collect.enough.Load():
		summary.Ending = measure.ByPatience
	case r.Workload.Amount > 0 && r.collect.moved >= int64(r.Workload.Amount):
		summary.Ending, end = measure.ByAmount, total.LastDone
	case r.through(back):
		summary.Ending, end = measure.ByPasses, total.LastDone
	default:
		summary.Ending = measure.ByTime
	}
	end = min(end, line.end)
	summary.WarmUp = quantity.Seconds(min(line.warmUp, max(end, 0))) / 1e9
	summary.Measured = quantity.Seconds(max(end-line.warmUp, 0)) / 1e9
}
