package runner

import (
	"context"
	"sync"

	"patientheron/core/measure"
	"patientheron/resource"
)

// Event is what a watcher is sent: a resource.Run whose state changed, a
// resource.Measurement that began or ended, or a resource.Point.
type Event any

// feed passes events on to the watchers of each run.
type feed struct {
	mu       sync.Mutex
	watchers map[int64]map[chan Event]points
}

// points tells whether a watcher is sent the points of series as well.
type points bool

func newFeed() *feed { return &feed{watchers: map[int64]map[chan Event]points{}} }

// send passes an event to the watchers of a run. A watcher that does not keep
// up loses its channel; it can watch again and gets the present state.
func (f *feed) send(run int64, event Event) {
	f.mu.Lock()
	defer f.mu.Unlock()
	_, point := event.(resource.Point)
	for w, points := range f.watchers[run] {
		if point && !bool(points) {
			continue
		}
		select {
		case w <- event:
		default:
			f.drop(run, w)
		}
	}
}

func (f *feed) drop(run int64, w chan Event) {
	if _, ok := f.watchers[run][w]; !ok {
		return
	}
	close(w)
	delete(f.watchers[run], w)
	if len(f.watchers[run]) == 0 {
		delete(f.watchers, run)
	}
}

func (f *feed) watch(run int64, all points) chan Event {
	f.mu.Lock()
	defer f.mu.Unlock()
	w := make(chan Event, 256)
	if f.watchers[run] == nil {
		f.watchers[run] = map[chan Event]points{}
	}
	f.watchers[run][w] = all
	return w
}

// Watch sends a run's present state, its measurements so far and the series
// of the last one, then what happens, until the run ended, send fails or ctx
// is cancelled. An interval can be sent twice; its index tells. Without points no series is sent.
func (r *Runner) Watch(ctx context.Context, id int64, withPoints bool, send func(Event) error) error {
	events := r.feed.watch(id, points(withPoints))
	defer func() {
		r.feed.mu.Lock()
		defer r.feed.mu.Unlock()
		r.feed.drop(id, events)
	}()
	ended, err := r.present(ctx, id, withPoints, send)
	if err != nil || ended {
		return err
	}
	for {
		select {
		case <-ctx.Done():
			return nil
		case event, ok := <-events:
			if !ok {
				return nil
			}
			if err := send(event); err != nil {
				return err
			}
			if run, is := event.(resource.Run); is && run.Status.Final() {
				return nil
			}
		}
	}
}

// shown is how many points of a series who begins to watch is told of; more
// than these are thinned.
const shown = 3000

// present sends where a run stands now.
func (r *Runner) present(ctx context.Context, id int64, withPoints bool, send func(Event) error) (ended bool, err error) {
	run, err := r.store.Run(ctx, id)
	if err != nil {
		return false, err
	}
	measurements, _, err := r.store.Measurements(ctx, id)
	if err != nil {
		return false, err
	}
	for _, m := range measurements {
		if err := send(m); err != nil {
			return false, err
		}
	}
	if len(measurements) > 0 && withPoints {
		last := measurements[len(measurements)-1]
		pass := func(interval measure.Interval) error {
			return send(resource.Point{MeasurementID: last.ID, Interval: interval})
		}
		// What waits to be written is taken first: nothing falls between.
		var waiting []measure.Interval
		if e := r.execution(id); e != nil {
			waiting = e.waiting(last.ID)
		}
		kept, _, _, err := r.store.Outline(ctx, last.ID, shown)
		if err != nil {
			return false, err
		}
		for _, interval := range append(kept, waiting...) {
			if err := pass(interval); err != nil {
				return false, err
			}
		}
	}
	return run.Status.Final(), send(r.Waits(run))
}
