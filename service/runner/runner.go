// Package runner carries runs out: one at a time, so that none pollutes
// another, each with its preparation, its measurements one after the other,
// and its end, whatever way it comes.
//
// The main type is Runner. What it records goes to the store at once and to
// everyone who watches; a run that was under way when the service was killed
// is marked as interrupted at the next start.
package runner

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"

	"patientheron/core/plan"
	"patientheron/resource"
	"patientheron/service/room"
	"patientheron/service/store"
	"patientheron/storage"
)

// ErrFinal is given when a run that has ended is asked to stop.
var ErrFinal = errors.New("the run has already ended")

// errStopped is the cause of a context cancelled by the user.
var errStopped = errors.New("stopped by the user")

// errShutdown is the cause of a context cancelled by the end of the service.
var errShutdown = errors.New("the service was stopped while this ran; start it again and repeat the run")

// Runner carries out runs. It is safe for concurrent use.
type Runner struct {
	store   *store.Store
	bounds  storage.Bounds
	room    *room.Reserve
	log     *slog.Logger
	version string
	host    string
	feed    *feed

	queue chan struct{} // a token for "look for queued runs"
	done  chan struct{}
	close context.CancelCauseFunc
	ended <-chan struct{} // closed when the runner is being closed

	mu      sync.Mutex
	asked   map[int64]bool // runs asked of this runner, when it carries out no others; otherwise nil
	trouble string         // what keeps runs from going on
	record  *recorder      // of the measurement under way
	place   place          // where the measurement under way stands
	current int64          // id of the run under way, 0 for none
	stop    context.CancelCauseFunc
	after   bool // end the run after the measurement under way
}

// Options say what a runner works with.
type Options struct {
	Store   *store.Store
	Bounds  storage.Bounds
	Room    *room.Reserve // of the data folder
	Log     *slog.Logger
	Version string
	// Alone leaves runs that wait in the store where they are: it carries out
	// those it is asked for, and no others.
	Alone bool
}

// Start makes a runner, marks what an earlier service left unfinished, and
// begins with what is queued. Stop it with Close.
func Start(ctx context.Context, o Options) (*Runner, error) {
	s, log := o.Store, o.Log
	interrupted, err := s.InterruptUnfinished(ctx, "the service ended while this ran; repeat the run")
	if err != nil {
		return nil, err
	}
	if interrupted > 0 {
		log.Warn("an earlier service ended in mid-run", "runs", interrupted)
	}
	host, err := os.Hostname()
	if err != nil {
		host = "unknown"
	}
	r := &Runner{
		store: s, bounds: o.Bounds, room: o.Room, log: log, version: o.Version, host: host,
		feed: newFeed(), queue: make(chan struct{}, 1), done: make(chan struct{}),
	}
	if o.Alone {
		r.asked = map[int64]bool{}
	}
	work, cancel := context.WithCancelCause(context.WithoutCancel(ctx))
	r.close, r.ended = cancel, work.Done()
	go r.loop(work)
	r.look()
	return r, nil
}

// Close stops the run under way, marks it as interrupted and returns when
// that is recorded, within about two seconds. Queued runs stay queued.
func (r *Runner) Close() {
	r.close(errShutdown)
	<-r.done
}

// Host is the name of this host.
func (r *Runner) Host() string { return r.host }

// Submit queues a run of a plan on a volume. Pace is for simulated arrays; at
// zero they run as fast as they can.
// Overrides name failed checks that shall not stop it.
func (r *Runner) Submit(ctx context.Context, name string, volume resource.Volume, p plan.Plan, pace float64, overrides []string) (resource.Run, error) {
	estimate, err := p.Estimate()
	if err != nil {
		return resource.Run{}, err
	}
	run, err := r.store.AddRun(ctx, resource.Run{
		Name: name, VolumeID: volume.ID, Volume: volume, Plan: p, Estimate: estimate, Pace: pace, Status: resource.Queued, Overrides: overrides,
		Progress: resource.Progress{Steps: estimate.Measurements}, Host: r.host, Version: r.version,
	})
	if err != nil {
		return run, err
	}
	r.mu.Lock()
	if r.asked != nil {
		r.asked[run.ID] = true
	}
	r.mu.Unlock()
	r.look()
	return run, nil
}

// Trouble is what keeps runs from going on, in words; "" for nothing.
func (r *Runner) Trouble() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.trouble
}

// troubled notes what keeps runs from going on, and says it once.
func (r *Runner) troubled(words string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.trouble == "" && words != "" {
		r.log.Error(words)
	}
	r.trouble = words
}

// Waiting is the number of runs that wait for their turn.
func (r *Runner) Waiting(ctx context.Context) (int, error) {
	runs, _, err := r.store.RunsWithStatus(ctx, resource.Queued)
	return len(runs), err
}

// Stop ends a run: at once, or after the measurement under way. It gives
// ErrFinal when the run has ended.
func (r *Runner) Stop(ctx context.Context, id int64, afterMeasurement bool) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	run, err := r.store.Run(ctx, id)
	switch {
	case err != nil:
		return err
	case run.Status.Final():
		return fmt.Errorf("run %d: %w: it is %s", id, ErrFinal, run.Status)
	case r.current == id && afterMeasurement:
		r.after = true
	case r.current == id:
		r.stop(errStopped)
	default: // still queued
		now := time.Now().UTC()
		run.Status, run.Reason, run.Ended = resource.Stopped, "it was taken out of the queue", &now
		if err := r.store.UpdateRun(ctx, run); err != nil {
			return err
		}
		r.feed.send(id, run)
	}
	return nil
}

// look makes the loop look for queued runs.
func (r *Runner) look() {
	select {
	case r.queue <- struct{}{}:
	default:
	}
}

// loop carries out queued runs in order until ctx ends.
func (r *Runner) loop(ctx context.Context) {
	defer close(r.done)
	for {
		run, err := r.next(ctx)
		var later <-chan time.Time // when to look again by itself
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			r.troubled(fmt.Sprintf("Runs wait: %v.", err))
			later = time.After(lastPause)
		default:
			r.troubled("")
		}
		if run == nil {
			select {
			case <-ctx.Done():
				return
			case <-r.queue:
			case <-later:
			}
			continue
		}
		r.carryOut(ctx, *run)
		r.mu.Lock()
		r.current, r.stop, r.after = 0, nil, false
		r.mu.Unlock()
	}
}

// next takes the oldest queued run, or nil. From here on Stop reaches it.
func (r *Runner) next(ctx context.Context) (*resource.Run, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	queued, _, err := r.store.RunsWithStatus(ctx, resource.Queued)
	if err != nil {
		return nil, err
	}
	for _, run := range queued {
		if r.asked != nil && !r.asked[run.ID] {
			continue
		}
		r.room.Restore()
		if free, err := r.room.Free(); err == nil && free < room.Floor {
			return nil, fmt.Errorf("%w for results: %s is free, and a run wants at least %s; make room on its file system", store.ErrFull, free, room.Floor)
		}
		r.current = run.ID
		return &run, nil
	}
	return nil, nil
}

// carryOut makes one run from its beginning to a final status.
func (r *Runner) carryOut(service context.Context, run resource.Run) {
	ctx, stop := context.WithCancelCause(service)
	defer stop(nil)
	r.mu.Lock()
	r.stop = stop
	r.mu.Unlock()

	e := &execution{Runner: r, run: run}
	now := time.Now().UTC()
	err := e.begin(&now)
	if err == nil {
		err = e.prepareAndMeasure(ctx)
	}

	status, reason := verdict(ctx, err)
	switch {
	case status != resource.Finished:
	case e.cutShort:
		status, reason = resource.Stopped, "it was stopped after the measurement that was under way"
	case e.failed > 0 && e.failed == run.Progress.Steps:
		status, reason = resource.Failed, e.lastFailure
	case e.failed > 0:
		reason = fmt.Sprintf("%d of %d measurements failed; each says why", e.failed, run.Progress.Steps)
	}
	ended := time.Now().UTC()
	e.finish(service, func(r *resource.Run) { r.Status, r.Reason, r.Ended = status, reason, &ended })
	r.log.Info("run ended", "run", run.ID, "status", status, "reason", reason)
}

// verdict turns the error a run or measurement ended with into its status.
func verdict(ctx context.Context, err error) (resource.Status, string) {
	switch cause := context.Cause(ctx); {
	case errors.Is(cause, errStopped):
		return resource.Stopped, "it was stopped by the user"
	case errors.Is(cause, errShutdown):
		return resource.Interrupted, errShutdown.Error()
	case err != nil:
		return resource.Failed, err.Error()
	}
	return resource.Finished, ""
}
