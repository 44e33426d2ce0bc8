// Package runner carries runs out: those on real storage one at a time, so that none
// pollutes another, those on simulated arrays beside each other. Each has its preparation,
// its measurements one after the other, and its end, whatever way it comes. Runs of a joint
// are under way together and take turns, or race.
//
// The main type is Runner. What it records goes to the store at once and to
// everyone who watches; a run that was under way when the service was killed
// is marked as interrupted at the next start.
package runner

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"patientheron/core/plan"
	"patientheron/patient"
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

	now  func() time.Time
	gate gate // of simulated runs

	mu         sync.Mutex     // never held while the store or a volume is asked
	asked      map[int64]bool // runs asked of this runner, when it carries out no others; otherwise nil
	trouble    string         // what keeps runs from going on
	turns      turns          // who is under way
	simulating atomic.Int32   // how many cores something is simulated on
	leaving    []leaving      // what took longer to be given back than its run
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

// leaving is something that a run has left to be given back.
type leaving struct {
	run  int64
	what string
	over <-chan struct{}
}

// Close stops the run under way, marks it as interrupted and returns when that is recorded,
// and when what it made is removed: of files that may take long, and is shown in the log.
// Queued runs stay queued.
func (r *Runner) Close() {
	r.close(errShutdown)
	<-r.done
	r.mu.Lock()
	all := r.leaving
	r.mu.Unlock()
	for _, l := range all {
		r.waitFor(l)
	}
}

// mostHanging is how long a stop waits for a volume that does not answer: it may never.
const mostHanging = 5 * time.Minute

// waitFor waits until something is given back, and says so every few seconds.
func (r *Runner) waitFor(l leaving) {
	for began := time.Now(); ; {
		select {
		case <-l.over:
			if took := time.Since(began); took > 2*time.Second {
				r.log.Warn("what a run made is removed", "run", l.run, "volume", l.what)
			}
			return
		case <-time.After(2 * time.Second):
			if time.Since(began) > mostHanging {
				r.log.Warn("what a run made stays; 'heron leftover' lists and removes it later", "run", l.run, "volume", l.what)
				return
			}
			r.log.Warn("what a run made is being removed; a second signal leaves it there, and 'heron leftover' lists and removes it later", "run", l.run, "volume", l.what)
		}
	}
}

// leaves notes what is given back later, where an error says that nobody waited for it.
func (e *execution) leaves(err error) {
	left, is := err.(*patient.LeftError)
	if !is {
		return
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.leaving = append(e.leaving, leaving{e.id, e.run.Volume.Locator, left.Over})
}

// Host is the name of this host.
func (r *Runner) Host() string { return r.host }

// Order is a plan to carry out.
type Order struct {
	Name      string
	Plan      plan.Plan
	Pace      float64  // of simulated arrays; at zero they run as fast as they can
	Overrides []string // failed checks that shall not stop it
}

// Submit queues an order on a volume, or on several together, and gives the run of each.
func (r *Runner) Submit(ctx context.Context, o Order, on ...resource.Volume) ([]resource.Run, error) {
	estimate, err := o.Plan.Estimate()
	if err != nil {
		return nil, err
	}
	runs := make([]resource.Run, len(on))
	for i, volume := range on {
		volume.Traits = nil // of its kind, not of this run
		runs[i] = resource.Run{
			Name: o.Name, VolumeID: volume.ID, Volume: volume, Plan: o.Plan, Estimate: estimate, Pace: o.Pace, Status: resource.Queued, Overrides: o.Overrides,
			Progress: resource.Progress{Steps: estimate.Measurements}, Host: r.host, Version: r.version,
		}
	}
	if runs, err = r.store.AddRuns(ctx, runs, cmp.Or(o.Plan.Beside, plan.InTurn)); err != nil {
		return nil, err
	}
	r.mu.Lock()
	for _, run := range runs {
		if r.asked != nil {
			r.asked[run.ID] = true
		}
	}
	r.mu.Unlock()
	r.look()
	return runs, nil
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

// execution is the run of that id, if it is under way.
func (r *Runner) execution(id int64) *execution {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range r.turns.under() {
		if e.id == id {
			return e
		}
	}
	return nil
}

// Stop ends a run, and those that are made together with it: at once, or after the
// measurement under way. It gives ErrFinal when the run has ended.
func (r *Runner) Stop(ctx context.Context, id int64, afterMeasurement bool) error {
	run, err := r.store.Run(ctx, id)
	if err == nil && run.Joint != nil {
		for _, other := range run.Joint.Runs {
			if other == id {
				continue
			}
			if err := r.stop(ctx, other, afterMeasurement); err != nil && !errors.Is(err, ErrFinal) && !errors.Is(err, store.ErrNotFound) {
				return err
			}
		}
	}
	return r.stop(ctx, id, afterMeasurement)
}

func (r *Runner) stop(ctx context.Context, id int64, afterMeasurement bool) error {
	if e := r.execution(id); e != nil {
		return e.askToEnd(afterMeasurement)
	}
	run, err := r.store.Run(ctx, id)
	switch {
	case err != nil:
		return err
	case run.Status.Final():
		return hasEnded(run)
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
		return e.askToEnd(afterMeasurement)
	}
	if run, err = r.store.Run(ctx, id); err != nil {
		return err
	}
	return fmt.Errorf("run %d: %w: it is %s, and nobody carries it out", id, ErrFinal, run.Status)
}

func hasEnded(run resource.Run) error {
	return fmt.Errorf("run %d: %w: it is %s", run.ID, ErrFinal, run.Status)
}

// look makes the loop look for queued runs.
func (r *Runner) look() {
	select {
	case r.queue <- struct{}{}:
	default:
	}
}

// loop carries out queued runs in order until ctx ends, and returns when none is under way.
func (r *Runner) loop(ctx context.Context) {
	defer close(r.done)
	var under sync.WaitGroup
	defer under.Wait()
	for {
		groups, err := r.next(ctx)
		var later <-chan time.Time // when to look again by itself
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			r.troubled(fmt.Sprintf("Runs wait: %v.", err))
			r.tellWaiting(ctx)
			later = time.After(lastPause)
		default:
			r.troubled("")
		}
		for _, g := range groups {
			under.Go(func() { r.carryOut(ctx, g) })
		}
		select {
		case <-ctx.Done():
			return
		case <-r.queue:
		case <-later:
		}
	}
}

// carryOut carries out runs that are made together.
func (r *Runner) carryOut(ctx context.Context, g *group) {
	if g.real {
		r.gate.close()
		defer r.gate.open()
	}
	var together sync.WaitGroup
	for _, e := range g.runs {
		together.Go(func() { e.carryOut(ctx) })
	}
	together.Wait()
	r.mu.Lock()
	r.turns.end(g)
	r.mu.Unlock()
	for _, e := range g.runs {
		e.stop(nil)
	}
	r.look()
}

// Waits is a run with the reason why it waits, where that is not the run before it.
func (r *Runner) Waits(run resource.Run) resource.Run {
	if trouble := r.Trouble(); run.Status == resource.Queued && trouble != "" {
		run.Reason = trouble
	}
	return run
}

// tellWaiting tells whoever watches a run that waits why it does.
func (r *Runner) tellWaiting(ctx context.Context) {
	queued, _, err := r.store.RunsWithStatus(ctx, resource.Queued)
	if err != nil {
		return // which is the trouble
	}
	for _, run := range queued {
		r.feed.send(run.ID, r.Waits(run))
	}
}

// next makes the executions of the queued runs whose turn it is, the oldest first, with those
// that are made together with each. From here on Stop reaches them.
func (r *Runner) next(ctx context.Context) (groups []*group, err error) {
	queued, _, err := r.store.RunsWithStatus(ctx, resource.Queued)
	if err != nil {
		return nil, err
	}
	seen := map[int64]bool{} // runs that were looked at with others
	for _, run := range queued {
		if seen[run.ID] || !r.isAsked(run.ID) || r.execution(run.ID) != nil {
			continue
		}
		runs := []resource.Run{run}
		if run.Joint != nil {
			runs = slices.DeleteFunc(slices.Clone(queued), func(other resource.Run) bool { return !slices.Contains(run.Joint.Runs, other.ID) })
		}
		for _, run := range runs {
			seen[run.ID] = true
		}
		real := slices.ContainsFunc(runs, func(run resource.Run) bool { return !virtual(run.Volume) })
		r.mu.Lock()
		free := r.turns.free(real, run.Pace > 0)
		r.mu.Unlock()
		if !free {
			continue
		}
		if err := r.roomForResults(); err != nil {
			return groups, err
		}
		g := r.grouped(ctx, runs, real)
		r.mu.Lock()
		r.turns.groups = append(r.turns.groups, g)
		r.mu.Unlock()
		groups = append(groups, g)
	}
	return groups, nil
}

// roomForResults reports a file system that has too little room for what a run comes to.
func (r *Runner) roomForResults() error {
	r.room.Restore()
	if free, err := r.room.Free(); err == nil && free < room.Floor {
		return fmt.Errorf("%w for results: %s is free, and a run wants at least %s; make room on its file system", store.ErrFull, free, room.Floor)
	}
	return nil
}

// grouped makes the executions of runs that are made together.
func (r *Runner) grouped(ctx context.Context, runs []resource.Run, real bool) *group {
	g := &group{runs: make([]*execution, len(runs)), real: real}
	meeting := newMeeting(len(runs))
	meeting.apart = !real
	for i, run := range runs {
		g.runs[i] = newExecution(ctx, r, run, meeting, i)
		g.runs[i].pauses = !real
	}
	return g
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
