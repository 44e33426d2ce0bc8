// Package search carries out searches for what to buy, one at a time, and keeps what they
// came to for as long as the service runs. A search takes all cores; while a run measures, it
// waits, so that it falsifies no figure.
package search

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"patientheron/core/array"
	"patientheron/core/choose"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/storage/simulated"
)

// ErrBusy is given while another search is under way.
var ErrBusy = errors.New("a search is under way; wait for it, or stop it")

// ErrNotFound is given for a search that there is not.
var ErrNotFound = errors.New("not found; searches are kept until the service ends")

// mostKept is how many searches are kept, the newest.
const mostKept = 8

// look is how often it is looked whether a run has ended.
const look = 200 * time.Millisecond

// Keeper has the searches.
type Keeper struct {
	measuring func() bool
	ctx       context.Context
	end       context.CancelFunc
	under     sync.WaitGroup

	mutex    sync.Mutex
	last     int64
	searches []*search // newest first
}

// search is one of them.
type search struct {
	record resource.Search
	stop   context.CancelCauseFunc
}

// New makes a keeper, which is told by measuring whether a run measures.
func New(measuring func() bool) *Keeper {
	k := &Keeper{measuring: measuring}
	k.ctx, k.end = context.WithCancel(context.Background())
	return k
}

// Close stops the search under way.
func (k *Keeper) Close() {
	k.end()
	k.under.Wait()
}

// Start begins a search. Errors are ErrBusy, and those about the need and the parts.
func (k *Keeper) Start(s choose.Search) (resource.Search, error) {
	if err := s.Check(); err != nil {
		return resource.Search{}, err
	}
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if len(k.searches) > 0 && !k.searches[0].record.Status.Final() {
		return resource.Search{}, ErrBusy
	}
	k.last++
	ctx, stop := context.WithCancelCause(k.ctx)
	one := &search{stop: stop, record: resource.Search{ID: k.last, Need: s.Need.Name, Parts: s.Parts.Name, Status: resource.Running, Started: time.Now().UTC()}}
	k.searches = slices.Insert(k.searches, 0, one)
	k.searches = k.searches[:min(len(k.searches), mostKept)]
	s.Measure = func(ctx context.Context, d array.Description, load workload.Spec, enough int) (measure.Summary, error) {
		return k.measure(ctx, one, func(ctx context.Context) (measure.Summary, error) { return simulated.Measure(ctx, d, load, enough) })
	}
	s.Progress = func(p choose.HowFar) {
		k.mutex.Lock()
		defer k.mutex.Unlock()
		one.record.Progress = p
	}
	k.under.Go(func() {
		defer stop(nil)
		found, err := s.Run(ctx)
		k.ended(one, found, err)
	})
	return one.record, nil
}

func (k *Keeper) ended(one *search, found choose.Chosen, err error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	one.record.Ended, one.record.Waiting = time.Now().UTC(), false
	switch {
	case errors.Is(err, context.Canceled), errors.Is(err, errStopped):
		one.record.Status, one.record.Reason = resource.Stopped, "stopped"
	case err != nil:
		one.record.Status, one.record.Reason = resource.Failed, err.Error()
	default:
		one.record.Status, one.record.Chosen = resource.Finished, &found
	}
}

// measure simulates a load while no run measures. Where one begins, what was simulated is
// given up, and begun anew when it has ended.
func (k *Keeper) measure(ctx context.Context, one *search, simulate func(context.Context) (measure.Summary, error)) (measure.Summary, error) {
	for {
		if err := k.wait(ctx, one); err != nil {
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
func (k *Keeper) wait(ctx context.Context, one *search) error {
	for waiting := false; ; waiting = true {
		measuring := k.measuring()
		if measuring != waiting {
			k.mutex.Lock()
			one.record.Waiting = measuring
			k.mutex.Unlock()
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

// List gives all searches, newest first, without what they came to.
func (k *Keeper) List() []resource.Search {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	all := []resource.Search{}
	for _, s := range k.searches {
		record := s.record
		record.Chosen = nil
		all = append(all, record)
	}
	return all
}

// Get gives one search.
func (k *Keeper) Get(id int64) (resource.Search, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	for _, s := range k.searches {
		if s.record.ID == id {
			return s.record, nil
		}
	}
	return resource.Search{}, fmt.Errorf("search %d: %w", id, ErrNotFound)
}

// Stop stops a search; one that has ended stays as it is.
func (k *Keeper) Stop(id int64) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	for _, s := range k.searches {
		if s.record.ID == id {
			s.stop(errStopped)
			return nil
		}
	}
	return fmt.Errorf("search %d: %w", id, ErrNotFound)
}
