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
	// Answered lists the queues, by the order in which they were opened, that have
	// something to collect since the call before, each once.
	Answered() []int
	// Inside tells what happened inside the volume since the call before.
	Inside() []measure.Counter
}

// Zoned is a volume in virtual time some of whose media have zones that are written in
// order.
type Zoned interface {
	// Zones is how full each zone is, or of several beside each other: a digit from 0,
	// empty, to 9, full; "" for media without zones.
	Zones() string
}

// sharedTally is what all workers count in: one thread steps them all, so that an interval is over
// for all of them at a time. As many tallies as workers would keep the processor waiting for memory.
type sharedTally struct {
	tally *measure.Tally
	index int // the interval that is counted
}

// mayTake reports whether what was counted is of an interval that a worker ends: the first that
// does takes what all counted.
func (s *sharedTally) mayTake(index int) bool {
	if index < s.index {
		return false
	}
	s.index = index + 1
	return true
}

// stopCheck is how many steps pass between two looks at the context.
const stopCheck = 4096

// runStepped is Run in virtual time.
func runStepped(ctx context.Context, job Job, volume Stepped) (*Outcome, error) {
	r := &run{Job: job}
	r.Clock, r.Beside, r.Inside = volume, nil, nil
	r.collect = newCollector(job.Workload, r.Job)
	r.collect.inside = volume.Inside
	count := job.Here.Count
	r.workers, r.broken = make([]*worker, count), make([]error, count)
	var shared *sharedTally
	if count > 1 && len(job.Workload.Parts()) == 1 {
		shared = &sharedTally{tally: measure.NewTally(job.Workload.Open(), job.Workload.Classes()...)}
	}
	for number := range count {
		queue, err := volume.Open(queueOptions(job.Workload, job.Here.First+number))
		if err != nil {
			return nil, err
		}
		defer func() { _ = queue.Close(0) }()
		w, err := newWorker(job.Workload, job.Here.First+number, queue, r.collect.add)
		if err != nil {
			return nil, err
		}
		if shared != nil {
			w.shared, w.counted = shared, shared.tally
		}
		r.workers[number] = w
	}
	if err := r.waitForStart(ctx); err != nil {
		return nil, err
	}
	if zoned, is := volume.(Zoned); is {
		r.collect.zones = zoned.Zones
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

// stepAll steps workers and volume until all workers finished. At each step only those
// have a turn whose time has come or who got an answer.
func (r *run) stepAll(ctx context.Context, volume Stepped) error {
	s := &stepper{run: r, wakes: newWakes(len(r.workers)), working: len(r.workers), clock: r.now, completions: make([]Completion, r.Workload.Depth)}
	began, inFlight := time.Now(), r.inFlight
	for steps := 0; ; steps++ {
		held := r.hold(ctx, began)
		if (held || steps%stopCheck == 0) && ctx.Err() != nil && !r.stopped.Load() {
			r.stoppedAt = r.now()
			r.stopped.Store(true)
		}
		if !s.over && r.over() {
			s.over = true
			for number, w := range r.workers {
				w.end()
				if err := s.turn(number); err != nil {
					return err
				}
			}
		}
		now := r.now()
		for s.wakes.earliest() <= now {
			if err := s.turn(s.wakes.first()); err != nil {
				return err
			}
		}
		if r.passed {
			r.passed = false
			r.collect.passBoundaries(now, inFlight)
			if r.over() {
				continue
			}
		}
		if s.working == 0 {
			return nil
		}
		until, wake := int64(math.MaxInt64), s.wakes.earliest()
		if wake != math.MaxInt64 {
			until = r.origin + wake
		}
		if !volume.Step(until) && wake == math.MaxInt64 {
			return nil // nothing will ever answer: the rest stays unanswered
		}
		for _, number := range volume.Answered() {
			if err := s.reap(number); err != nil {
				return err
			}
		}
	}
}

// stepper is what stepAll knows of its workers.
type stepper struct {
	run         *run
	wakes       wakes
	working     int // workers that have not finished
	over        bool
	clock       func() int64
	completions []Completion
}

// turn lets a worker issue what is due, and notes when it wants its next turn.
func (s *stepper) turn(number int) error {
	w := s.run.workers[number]
	if w.left {
		s.wakes.set(number, math.MaxInt64)
		return nil
	}
	s.run.advance(w, s.run.now())
	if s.over {
		w.end()
	}
	if err := w.issue(s.clock); err != nil {
		return err
	}
	wake := int64(math.MaxInt64)
	if !w.ended {
		wake = w.wake()
	}
	s.wakes.set(number, wake)
	if w.finished() {
		w.left = true
		s.working--
	}
	return nil
}

// reap lets a worker take its answers, and have a turn.
func (s *stepper) reap(number int) error {
	w, now := s.run.workers[number], s.run.now()
	n, err := w.queue.Collect(s.completions, 0)
	if err != nil {
		return err
	}
	s.run.advance(w, now)
	if err := w.reap(s.completions[:n], now); err != nil {
		return err
	}
	if w.failure != nil {
		s.run.failed.Store(true)
	}
	return s.turn(number)
}

// wakes are the times at which workers want their next turn, as a heap of their
// numbers.
type wakes struct {
	at    []int64 // of each worker
	heap  []int   // numbers
	place []int   // of each worker in the heap
}

func newWakes(count int) wakes {
	w := wakes{at: make([]int64, count), heap: make([]int, count), place: make([]int, count)}
	for i := range w.heap {
		w.heap[i], w.place[i] = i, i // all at time zero: in the order of their numbers
	}
	return w
}

func (w *wakes) first() int { return w.heap[0] }

func (w *wakes) earliest() int64 { return w.at[w.heap[0]] }

func (w *wakes) before(x, y int) bool { return w.at[x] < w.at[y] || w.at[x] == w.at[y] && x < y }

// set changes the time of a worker.
func (w *wakes) set(number int, at int64) {
	w.at[number] = at
	i := w.place[number]
	for i > 0 && w.before(number, w.heap[(i-1)/2]) {
		w.put(i, w.heap[(i-1)/2])
		i = (i - 1) / 2
	}
	for {
		child := 2*i + 1
		if child+1 < len(w.heap) && w.before(w.heap[child+1], w.heap[child]) {
			child++
		}
		if child >= len(w.heap) || !w.before(w.heap[child], number) {
			break
		}
		w.put(i, w.heap[child])
		i = child
	}
	w.put(i, number)
}

func (w *wakes) put(i, number int) { w.heap[i], w.place[number] = number, i }

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
