package load

import (
	"context"
	"math"
	"time"

	"patientheron/core/measure"
)

// Stepped is a volume in virtual time: one thread steps all workers and jumps
// from one event to the next, so a ten-minute measurement takes a fraction of
// a second and gives the same answer every time.
type Stepped interface {
	Volume
	Clock
	// Step moves the time on to the next event, at most to until, and reports
	// whether there was one.
	Step(until int64) bool
	// Inside tells what happened inside the volume since the call before.
	Inside() []measure.Counter
}

// stopCheck is how many steps pass between two looks at the context.
const stopCheck = 4096

// runStepped is Run in virtual time.
func runStepped(ctx context.Context, job Job, volume Stepped) (*Outcome, error) {
	r := &run{Job: job}
	r.Clock, r.Beside = volume, nil
	r.collect = newCollector(job.Workload, r.Job)
	r.collect.inside = volume.Inside
	count := job.Here.Count
	r.workers, r.broken = make([]*worker, count), make([]error, count)
	for number := range count {
		queue, err := volume.Open(queueOptions(job.Workload))
		if err != nil {
			return nil, err
		}
		defer func() { _ = queue.Close(0) }()
		if r.workers[number], err = newWorker(job.Workload, job.Here.First+number, queue, r.collect.add); err != nil {
			return nil, err
		}
	}
	volume.Inside() // the first call marks the start
	r.origin = volume.Now()
	if err := r.stepAll(ctx, volume); err != nil {
		return nil, err
	}
	back := make([]bool, count)
	for number, w := range r.workers {
		back[number] = true
		w.finish()
	}
	r.collect.passBoundaries(r.now(), r.inFlight)
	r.collect.last(r.now(), r.inFlight)
	return r.outcome(back), nil
}

// stepAll steps workers and volume until all workers finished.
func (r *run) stepAll(ctx context.Context, volume Stepped) error {
	completions := make([]Completion, r.Workload.Depth)
	began, clock, inFlight := time.Now(), r.now, r.inFlight
	for steps := 0; ; steps++ {
		held := r.hold(ctx, began)
		if (held || steps%stopCheck == 0) && ctx.Err() != nil && !r.stopped.Load() {
			r.stoppedAt = r.now()
			r.stopped.Store(true)
		}
		now, wake, working := r.now(), int64(math.MaxInt64), false
		for _, w := range r.workers {
			r.advance(w, now)
			if r.over() {
				w.end()
			}
			if err := w.issue(clock); err != nil {
				return err
			}
			if !w.finished() {
				working = true
			}
			if !w.ended {
				wake = min(wake, w.wake())
			}
		}
		if r.passed {
			r.passed = false
			r.collect.passBoundaries(now, inFlight)
		}
		if !working {
			return nil
		}
		until := int64(math.MaxInt64)
		if wake != math.MaxInt64 {
			until = r.origin + wake
		}
		if !volume.Step(until) && wake == math.MaxInt64 {
			return nil // nothing will ever answer: the rest stays unanswered
		}
		if err := r.reapAll(completions); err != nil {
			return err
		}
	}
}

// advance moves a worker to time now when its interval has ended, and notes that.
func (r *run) advance(w *worker, now int64) {
	if now >= w.boundary {
		r.passed = true
		w.advance(now)
	}
}

// hold sleeps while virtual time is ahead of its pace, and reports whether it
// did.
func (r *run) hold(ctx context.Context, began time.Time) bool {
	if r.Pace <= 0 {
		return false
	}
	ahead := time.Duration(float64(r.now())/r.Pace) - time.Since(began)
	if ahead < time.Millisecond {
		return false
	}
	timer := time.NewTimer(min(ahead, longestWait))
	defer timer.Stop()
	select {
	case <-ctx.Done():
	case <-timer.C:
	}
	return true
}

func (r *run) reapAll(completions []Completion) error {
	now := r.now()
	for _, w := range r.workers {
		n, err := w.queue.Collect(completions, 0)
		if err != nil {
			return err
		}
		if n == 0 {
			continue
		}
		r.advance(w, now)
		if err := w.reap(completions[:n], now); err != nil {
			return err
		}
		if w.failure != nil {
			r.failed.Store(true)
		}
	}
	return nil
}
