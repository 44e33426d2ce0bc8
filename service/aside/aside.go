// Package aside does what is simulated for a question, such as a search for what to buy, one
// piece of work at a time, and keeps how far it is for as long as the service runs. Such
// work takes all cores; while a run measures, it waits, so that it falsifies no figure.
package aside

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"patientheron/core/array"
	"patientheron/core/measure"
	"patientheron/core/wall"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/storage/simulated"
)

// ErrBusy is given while another piece of work is under way.
var ErrBusy = errors.New("a search or a fit is under way; wait for it, or stop it")

// ErrNotFound is given for work that there is not.
var ErrNotFound = errors.New("not found")

// mostKept is how many pieces of work of a kind are kept, the newest.
const mostKept = 8

// look is how often it is looked whether a run has ended.
const look = 200 * time.Millisecond

// Keeper sees to it that one piece of work is done at a time, and none while a run measures.
type Keeper struct {
	measuring func() bool
	ctx       context.Context
	end       context.CancelFunc
	under     sync.WaitGroup

	mutex sync.Mutex // over all kinds of work
	busy  bool
}

// New makes a keeper, which is told by measuring whether a run measures.
func New(measuring func() bool) *Keeper {
	k := &Keeper{measuring: measuring}
	k.ctx, k.end = context.WithCancel(context.Background())
	return k
}

// Close stops the work under way.
func (k *Keeper) Close() {
	k.end()
	k.under.Wait()
}

// Works are pieces of work of one kind, whose records are R.
type Works[R any] struct {
	keeper *Keeper
	what   string
	aside  func(*R) *resource.Aside
	last   int64
	all    []*Job[R] // newest first
}

// Of are the works of one kind, of which it is said what one is called, and where in its record
// it stands how far it is.
func Of[R any](k *Keeper, what string, aside func(*R) *resource.Aside) *Works[R] {
	return &Works[R]{keeper: k, what: what, aside: aside}
}

// After sees to it that works to come have larger ids than one that is kept.
func (w *Works[R]) After(id int64) {
	w.keeper.mutex.Lock()
	defer w.keeper.mutex.Unlock()
	w.last = max(w.last, id)
}

// Forget forgets one that has ended.
func (w *Works[R]) Forget(id int64) {
	w.keeper.mutex.Lock()
	defer w.keeper.mutex.Unlock()
	w.all = slices.DeleteFunc(w.all, func(j *Job[R]) bool {
		a := w.aside(&j.record)
		return a.ID == id && a.Status.Final()
	})
}

// Job is one piece of work.
type Job[R any] struct {
	works  *Works[R]
	record R
	stop   context.CancelCauseFunc
}

// Start begins a piece of work, and gives its record. The error is ErrBusy.
func (w *Works[R]) Start(record R, do func(context.Context, *Job[R]) error) (R, error) {
	k := w.keeper
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if k.busy {
		return record, ErrBusy
	}
	k.busy = true
	w.last++
	ctx, stop := context.WithCancelCause(k.ctx)
	j := &Job[R]{works: w, record: record, stop: stop}
	*w.aside(&j.record) = resource.Aside{ID: w.last, Status: resource.Running, Started: time.Now().UTC()}
	w.all = slices.Insert(w.all, 0, j)
	w.all = w.all[:min(len(w.all), mostKept)]
	k.under.Go(func() {
		defer stop(nil)
		j.ended(wall.Do(func() error { return do(ctx, j) }))
	})
	return j.record, nil
}

func (j *Job[R]) ended(err error) {
	j.Update(func(r *R) {
		j.works.keeper.busy = false
		a := j.works.aside(r)
		a.Ended, a.Waiting = time.Now().UTC(), false
		switch {
		case errors.Is(err, context.Canceled), errors.Is(err, errStopped):
			a.Status, a.Reason = resource.Stopped, "stopped"
		case err != nil:
			a.Status, a.Reason = resource.Failed, err.Error()
		default:
			a.Status = resource.Finished
		}
	})
}

// Update changes the record of the work.
func (j *Job[R]) Update(change func(*R)) {
	j.works.keeper.mutex.Lock()
	defer j.works.keeper.mutex.Unlock()
	change(&j.record)
}

// Simulate simulates a load on a fresh array, as simulated.Measure does, while no run measures.
// Where one begins, what was simulated is given up, and begun anew when it has ended.
func (j *Job[R]) Simulate(ctx context.Context, d array.Description, load workload.Spec, enough int) (measure.Summary, error) {
	return j.works.keeper.whileQuiet(ctx, j.waiting, func(ctx context.Context) (measure.Summary, error) {
		return simulated.Measure(ctx, d, load, enough)
	})
}

func (j *Job[R]) waiting(is bool) {
	j.Update(func(r *R) { j.works.aside(r).Waiting = is })
}

// Simulate is the same for what is short enough to be waited for, and is no piece of work.
func (k *Keeper) Simulate(ctx context.Context, d array.Description, load workload.Spec, enough int) (measure.Summary, error) {
	return k.whileQuiet(ctx, func(bool) {}, func(ctx context.Context) (measure.Summary, error) {
		return simulated.Measure(ctx, d, load, enough)
	})
}

// whileQuiet simulates while no run measures, and says when it begins and ends to wait.
func (k *Keeper) whileQuiet(ctx context.Context, waiting func(bool), simulate func(context.Context) (measure.Summary, error)) (measure.Summary, error) {
	for {
		if err := k.wait(ctx, waiting); err != nil {
			return measure.Summary{}, err
		}
		sum, err := k.unlessMeasuring(ctx, simulate)
		if !errors.Is(err, errGivesWay) {
			return sum, err
		}
	}
}

// unlessMeasuring simulates a load, and gives that up with errGivesWay when a run begins.
func (k *Keeper) unlessMeasuring(ctx context.Context, simulate func(context.Context) (measure.Summary, error)) (measure.Summary, error) {
	trying, giveUp := context.WithCancelCause(ctx)
	defer giveUp(nil)
	go func() {
		for tick := time.NewTicker(look); ; {
			select {
			case <-trying.Done():
				tick.Stop()
				return
			case <-tick.C:
				if k.measuring() {
					giveUp(errGivesWay)
				}
			}
		}
	}()
	sum, err := simulate(trying)
	if cause := context.Cause(trying); errors.Is(cause, errGivesWay) {
		return measure.Summary{}, cause
	}
	return sum, err
}

// errGivesWay ends what is simulated when a run begins.
var errGivesWay = errors.New("a run measures")

// wait waits while a run measures.
func (k *Keeper) wait(ctx context.Context, say func(bool)) error {
	for waits := false; ; waits = true {
		measuring := k.measuring()
		if measuring != waits {
			say(measuring)
		}
		if !measuring {
			return nil
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(look):
		}
	}
}

var errStopped = errors.New("stopped by its user")

// List gives the records of all, newest first.
func (w *Works[R]) List() []R {
	w.keeper.mutex.Lock()
	defer w.keeper.mutex.Unlock()
	all := make([]R, len(w.all))
	for i, j := range w.all {
		all[i] = j.record
	}
	return all
}

// Get gives the record of one.
func (w *Works[R]) Get(id int64) (record R, err error) {
	w.keeper.mutex.Lock()
	defer w.keeper.mutex.Unlock()
	j, err := w.find(id)
	if err != nil {
		return record, err
	}
	return j.record, nil
}

// Stop stops one; one that has ended stays as it is.
func (w *Works[R]) Stop(id int64) error {
	w.keeper.mutex.Lock()
	defer w.keeper.mutex.Unlock()
	j, err := w.find(id)
	if err != nil {
		return err
	}
	j.stop(errStopped)
	return nil
}

func (w *Works[R]) find(id int64) (*Job[R], error) {
	for _, j := range w.all {
		if w.aside(&j.record).ID == id {
			return j, nil
		}
	}
	return nil, fmt.Errorf("%s %d: %w", w.what, id, ErrNotFound)
}
