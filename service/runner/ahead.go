package runner

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/patient"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// Points of a plan for which a simulated array is made anew know nothing of each other. They are
// simulated beside each other, as many as there are cores that nothing else is simulated on, and
// recorded one after the other, in their order: the figures are those of one at a time.

// ahead are the parts of a plan that are simulated before it is their turn.
type ahead struct {
	parts []*part

	mu   sync.Mutex
	next int           // part that nobody has begun with
	turn int           // part that is being recorded
	more chan struct{} // closed, and made anew, when turn moves on
}

// part is steps one behind the other on one array.
type part struct {
	steps   []plan.Step
	changed []plan.Setting
	opened  chan struct{} // closed when used or failure is there
	used    *opened
	failure error
	results []*foreseen // of each step
}

// foreseen is a measurement that is simulated for another goroutine to record.
type foreseen struct {
	mu     sync.Mutex
	series []measure.Interval
	grown  chan struct{} // has room for one
	over   chan struct{} // closed when the following is there

	outcome *load.Outcome
	failure error
	moments []volume.Moment
}

// apart splits a plan into parts for which the array is made anew; nil where there are not several,
// or where they have to be measured one at a time.
func (e *execution) apart(steps []plan.Step) *ahead {
	if !storage.TraitsOf(e.run.Volume.Kind).Virtual || e.run.Pace > 0 || e.racing() {
		return nil
	}
	a := &ahead{more: make(chan struct{})}
	for _, step := range steps {
		changed := plan.VolumeOf(step.Point)
		if step.Source || step.Fit != nil || step.Tune != nil {
			return nil
		}
		if last := len(a.parts) - 1; last < 0 || !slices.Equal(a.parts[last].changed, changed) {
			a.parts = append(a.parts, &part{changed: changed, opened: make(chan struct{})})
		}
		p := a.parts[len(a.parts)-1]
		p.steps = append(p.steps, step)
		p.results = append(p.results, &foreseen{grown: make(chan struct{}, 1), over: make(chan struct{})})
	}
	if len(a.parts) < 2 {
		return nil
	}
	return a
}

// begin simulates all parts until a context ends: one at a time, and more where cores are free.
// What it gives waits for all that is under way.
func (a *ahead) begin(ctx context.Context, e *execution, all []plan.Step) (wait func()) {
	var working sync.WaitGroup
	working.Go(func() { a.work(ctx, e, all, func() bool { return true }, func() {}) })
	for range min(runtime.GOMAXPROCS(0), len(a.parts)) - 1 {
		working.Go(func() { a.work(ctx, e, all, e.takeCore, e.giveCore) })
	}
	return working.Wait
}

// coreLook is the time between two looks for a core that is free.
const coreLook = 20 * time.Millisecond

// work simulates one part after the other while it may.
func (a *ahead) work(ctx context.Context, e *execution, all []plan.Step, may func() bool, done func()) {
	for ctx.Err() == nil {
		if !may() {
			if a.claimed() || sleep(ctx, coreLook) != nil {
				return
			}
			continue
		}
		p, wait := a.claim()
		if p != nil {
			p.simulate(ctx, e, all)
		}
		done()
		switch {
		case p != nil:
		case wait == nil:
			return
		default: // enough is there that nobody has recorded
			select {
			case <-wait:
			case <-ctx.Done():
			}
		}
	}
}

// claimed reports whether every part was begun with.
func (a *ahead) claimed() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.next == len(a.parts)
}

// claim is a part to begin with. Where there is none now, what is given is closed when there may be
// one; nil when all are begun with.
func (a *ahead) claim() (p *part, wait <-chan struct{}) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case a.next == len(a.parts):
		return nil, nil
	case a.next > a.turn+2*runtime.GOMAXPROCS(0):
		return nil, a.more
	}
	a.next++
	return a.parts[a.next-1], nil
}

// at is the part and the measurement of a step, by its place in the plan.
func (a *ahead) at(position int) (p *part, f *foreseen) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i, p := range a.parts {
		if position < len(p.steps) {
			if i > a.turn {
				a.turn = i
				close(a.more)
				a.more = make(chan struct{})
			}
			return p, p.results[position]
		}
		position -= len(p.steps)
	}
	return nil, nil
}

// simulate measures all steps of a part.
func (p *part) simulate(ctx context.Context, e *execution, all []plan.Step) {
	failure := e.behindWall(func() (err error) {
		p.used, err = e.prepared(ctx, append(slices.Clip(all), p.steps[0]), p.changed)
		return err
	})
	p.failure = failure
	close(p.opened)
	for i, step := range p.steps {
		f := p.results[i]
		if failure == nil {
			f.failure = e.behindWall(func() error { return e.foresee(ctx, p.used, step, f) })
		} else {
			f.failure = failure
		}
		close(f.over)
	}
	if failure == nil {
		_, err := patient.Own(ctx, patience, func() (any, error) { return nil, p.used.Close() }, func(any, error) {})
		e.leaves(err)
	}
}

// foresee measures a step on an array.
func (e *execution) foresee(ctx context.Context, used *opened, step plan.Step, f *foreseen) error {
	if readier, is := used.Volume.(volume.Readier); is {
		if err := readier.Ready(ctx, step.Load.Completed(), func(quantity.Bytes, quantity.Bytes) {}); err != nil {
			return err
		}
	}
	if virtual, is := used.Volume.(volume.Resting); is {
		virtual.Rest(step.Settle.Pause)
	}
	spec := step.Load.Completed()
	if err := Fits(spec, e.run.Volume, 1); err != nil {
		return err
	}
	opened, err := e.use(ctx, used, spec)
	if err != nil {
		return err
	}
	defer opened.Close()
	f.outcome, err = load.Run(ctx, e.job(spec, opened, f.keep))
	if told, is := used.Volume.(volume.Chronicle); is {
		f.moments = told.Happened()
	}
	return err
}

// keep takes an interval. It never waits.
func (f *foreseen) keep(interval measure.Interval) {
	f.mu.Lock()
	f.series = append(f.series, interval)
	f.mu.Unlock()
	select {
	case f.grown <- struct{}{}:
	default:
	}
}

// follow passes all intervals on as they come, and then gives what the measurement came to.
func (f *foreseen) follow(pass func(measure.Interval)) (*load.Outcome, error) {
	take := func() {
		f.mu.Lock()
		series := f.series
		f.series = nil
		f.mu.Unlock()
		for _, interval := range series {
			pass(interval)
		}
	}
	for {
		select {
		case <-f.grown:
			take()
		case <-f.over:
			take()
			return f.outcome, f.failure
		}
	}
}

// takeCore takes a core that nothing is simulated on, and reports whether there was one.
func (r *Runner) takeCore() bool {
	for {
		taken := r.simulating.Load()
		if int(taken) >= runtime.GOMAXPROCS(0) {
			return false
		}
		if r.simulating.CompareAndSwap(taken, taken+1) {
			return true
		}
	}
}

func (r *Runner) giveCore() { r.simulating.Add(-1) }

// errAhead is given when a fault is to be injected into an array of which points are simulated beside each
// other.
var errAhead = fmt.Errorf("%w: the points of this plan are simulated beside each other, each on an array of its own; give the run a pace, or put the fault into the array file", ErrNotFaulty)
