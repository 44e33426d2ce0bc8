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

	now func() time.Time

	mu      sync.Mutex      // never held while the store or a volume is asked
	asked   map[int64]bool  // runs asked of this runner, when it carries out no others; otherwise nil
	trouble string          // what keeps runs from going on
	under   *execution      // the run under way; nil for none
	leaving []chan struct{} // closed when a volume was given back that took longer than its run
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
	// Now is the wall's clock; nil for the real one.
	Now func() time.Time
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
		feed: newFeed(), queue: make(chan struct{}, 1), done: make(chan struct{}), now: o.Now,
	}
	if r.now == nil {
		r.now = time.Now
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

// execution is the run under way, if it is the one of that id.
func (r *Runner) execution(id int64) *execution {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.under != nil && r.under.id == id {
		return r.under
	}
	return nil
}

// Stop ends a run: at once, or after the measurement under way. It gives
// ErrFinal when the run has ended.
func (r *Runner) Stop(ctx context.Context, id int64, afterMeasurement bool) error {
	if e := r.execution(id); e != nil {
		e.askToEnd(afterMeasurement)
		return nil
	}
	run, err := r.store.Run(ctx, id)
	switch {
	case err != nil:
		return err
	case run.Status.Final():
		return fmt.Errorf("run %d: %w: it is %s", id, ErrFinal, run.Status)
	}
	now := r.now().UTC()
	run.Status, run.Reason, run.Ended = resource.Stopped, "it was taken out of the queue", &now
	taken, err := r.store.ChangeQueued(ctx, run)
	if err != nil {
		return err
	}
	if taken {
		r.feed.send(id, run)
		return nil
	}
	// It has begun meanwhile, or ended, or this runner has.
	if e := r.execution(id); e != nil {
		e.askToEnd(afterMeasurement)
		return nil
	}
	if run, err = r.store.Run(ctx, id); err != nil {
		return err
	}
	return fmt.Errorf("run %d: %w: it is %s, and nobody carries it out", id, ErrFinal, run.Status)
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
		e, err := r.next(ctx)
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
		if e == nil {
			select {
			case <-ctx.Done():
				return
			case <-r.queue:
			case <-later:
			}
			continue
		}
		e.carryOut(ctx)
		r.mu.Lock()
		r.under = nil
		r.mu.Unlock()
		e.stop(nil)
	}
}

// next makes the execution of the oldest queued run, or nil. From here on Stop
// reaches it.
func (r *Runner) next(ctx context.Context) (*execution, error) {
	queued, _, err := r.store.RunsWithStatus(ctx, resource.Queued)
	if err != nil {
		return nil, err
	}
	for _, run := range queued {
		if !r.isAsked(run.ID) {
			continue
		}
		r.room.Restore()
		if free, err := r.room.Free(); err == nil && free < room.Floor {
			return nil, fmt.Errorf("%w for results: %s is free, and a run wants at least %s; make room on its file system", store.ErrFull, free, room.Floor)
		}
		e := newExecution(ctx, r, run)
		r.mu.Lock()
		r.under = e
		r.mu.Unlock()
		return e, nil
	}
	return nil, nil
}

// isAsked reports whether a run is one that this runner carries out.
func (r *Runner) isAsked(id int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.asked == nil || r.asked[id]
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
