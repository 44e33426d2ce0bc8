package runner

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"patientheron/core/measure"
	"patientheron/core/wall"
	"patientheron/service/store"
)

// recorder keeps the series of one measurement, beside the load and never in its
// way: what comes goes into a queue that grows, and is written together with
// what came within a moment. What cannot be written is held and tried again.
type recorder struct {
	write   func(context.Context, []measure.Interval) error
	release func() bool     // gives up the reserve of room
	closing <-chan struct{} // closed when the service ends
	log     *slog.Logger

	mu      sync.Mutex
	pending []measure.Interval
	wake    chan struct{}
	ending  chan struct{} // closed when no more comes
	done    chan struct{}
	lost    error
}

// How long intervals are gathered before they are written together, how long a
// failed write waits at first and at most before it is tried again, and how long
// after the end of a measurement what is still held is tried for.
const (
	gathering  = 500 * time.Millisecond
	firstPause = 100 * time.Millisecond
	lastPause  = 2 * time.Second
	holding    = 30 * time.Second
)

func newRecorder(log *slog.Logger, closing <-chan struct{}, release func() bool, write func(context.Context, []measure.Interval) error) *recorder {
	r := &recorder{write: write, release: release, closing: closing, log: log, wake: make(chan struct{}, 1), ending: make(chan struct{}), done: make(chan struct{})}
	go r.loop()
	return r
}

// keep takes an interval. It never waits.
func (r *recorder) keep(interval measure.Interval) {
	r.mu.Lock()
	r.pending = append(r.pending, interval)
	r.mu.Unlock()
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// held are the intervals that are not written yet.
func (r *recorder) held() []measure.Interval {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.pending)
}

// end writes what is left and says what could not be kept.
func (r *recorder) end() error {
	close(r.ending)
	<-r.done
	return r.lost
}

func (r *recorder) loop() {
	defer close(r.done)
	for ended := false; !ended && r.lost == nil; {
		select {
		case <-r.wake:
			select {
			case <-time.After(gathering):
			case <-r.ending:
			}
		case <-r.ending:
			ended = true
		}
		r.flush()
	}
}

// flush writes all that is held, however long that takes while the measurement
// goes on, and as long as holding after its end.
func (r *recorder) flush() {
	pause := firstPause
	var deadline <-chan time.Time
	ending, closing := r.ending, r.closing
	for {
		batch := r.held()
		if len(batch) == 0 {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), holding)
		err := wall.Do(func() error { return r.write(ctx, batch) })
		cancel()
		if err == nil {
			r.mu.Lock()
			r.pending = r.pending[len(batch):]
			r.mu.Unlock()
			pause = firstPause
			continue
		}
		r.log.Warn("intervals cannot be kept now; they are held and tried again", "intervals", len(batch), "error", err)
		select {
		case <-time.After(pause):
		case <-ending:
			ending, deadline = nil, time.After(holding)
		case <-closing:
			closing, ending, deadline = nil, nil, time.After(lastPause)
		case <-deadline:
			// The last try has the reserve of room.
			if errors.Is(err, store.ErrFull) && r.release() {
				deadline = time.After(lastPause)
				continue
			}
			r.lost = fmt.Errorf("%d of its intervals could not be kept: %w", len(batch), err)
			return
		}
		pause = min(pause*2, lastPause)
	}
}
