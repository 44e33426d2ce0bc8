package load

import (
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/wall"
	"patientheron/core/workload"
)

// workerDone stands for an interval index: the worker hands over no more.
const workerDone = -1

// grace is how long after the end of an interval a worker may take to hand
// over what it counted; what comes later is counted in the interval after.
const grace = 500 * time.Millisecond

// collector adds up what the workers counted in each interval and passes the
// intervals on in order. In real time it runs on a goroutine of its own, and
// whoever is given the intervals on another: neither is ever waited for by a
// worker.
type collector struct {
	line     timeline
	classes  []measure.Class // that the workload issues
	groups   int             // that it sorts whole files into
	open     bool
	beside   func() *measure.Beside
	inside   func() []measure.Counter // of the volume
	zones    func() string            // of media with zones; nil for none
	passOn   func(measure.Interval)   // nil when nobody wants them
	arrivals *inbox[measure.Part]
	stop     chan int64
	over     chan struct{}

	sampled int // intervals whose end was seen
	cells   map[int]*cell
	spare   []*measure.Tally
	next    int   // interval to be passed on next
	first   int   // number of the first worker
	upTo    []int // last interval each worker handed over
	total   *measure.Tally
	moved   int64 // bytes, since the warm-up ended

	watch   Watch       // nil when nobody asks for phases
	patient bool        // the workload ends when the watch has seen enough
	enough  atomic.Bool // it has
	satisfy func()      // called once it has
	kept    keptParts
	early   quantity.Bytes // moved in the warm-up
	look    int            // length of the series at which the watch is asked next

	stood stalls // when the engine did not run

	broken, unseen error // what panicked: collecting, or who is given the intervals
}

// cell is one interval under construction.
type cell struct {
	tally    *measure.Tally
	sampled  bool
	inFlight int
	beside   *measure.Beside
	inside   []measure.Counter
	zones    string
}

func newCollector(spec workload.Spec, job Job) *collector {
	c := &collector{
		line: newTimeline(spec), classes: spec.Classes(), groups: len(spec.Groups()), open: spec.Open(),
		beside: job.Beside, inside: job.Inside, passOn: job.Observe, watch: job.Watch, patient: spec.Patient(),
		arrivals: newInbox[measure.Part](), stop: make(chan int64), over: make(chan struct{}),
		cells: map[int]*cell{}, first: job.Here.First, upTo: make([]int, job.Here.Count), satisfy: func() {},
	}
	c.total = c.newTally()
	for i := range c.upTo {
		c.upTo[i] = -1
	}
	return c
}

func (c *collector) newTally() *measure.Tally { return measure.NewTally(c.open, c.classes...) }

// run collects until finish is called.
func (c *collector) run(now func() int64, inFlight func() int) {
	defer close(c.over)
	defer func() {
		if c.broken != nil { // nothing is counted any more
			c.enough.Store(true)
			c.satisfy()
		}
	}()
	defer wall.Guard(&c.broken)
	if observe := c.passOn; observe != nil {
		observing := newInbox[measure.Interval]()
		c.passOn = observing.put
		observed := make(chan struct{})
		go func() {
			defer close(observed)
			defer wall.Guard(&c.unseen)
			observing.each(observe)
		}()
		defer func() { observing.close(); <-observed }()
	}
	timer := time.NewTimer(0)
	defer timer.Stop()
	c.stood = stalls{asleep: asleep}
	for {
		end := c.line.boundary(c.sampled)
		if end == c.line.start(c.sampled) { // past the end of the measured time
			end = now() + int64(time.Hour)
		}
		deadline := end
		if c.sampled > c.next {
			deadline = min(end, c.line.boundary(c.next)+int64(grace))
		}
		timer.Reset(max(time.Duration(deadline-now()), 0))
		c.stood.look(now())
		select {
		case <-c.arrivals.wake:
			c.addAll()
		case <-timer.C:
			c.stood.late(now(), deadline)
			if now() >= end {
				c.sample(inFlight())
			}
		case at := <-c.stop:
			c.addAll()
			c.last(at, inFlight)
			return
		}
		c.emit(now(), false)
	}
}

// finish ends the collecting at the given time, and returns when all intervals
// were passed on.
func (c *collector) finish(at int64) {
	select {
	case c.stop <- at:
	case <-c.over: // it broke
	}
	<-c.over
	c.arrivals.close() // who comes back later hands over to nobody
}

// passBoundaries samples and passes on the intervals that ended until now, in
// virtual time.
func (c *collector) passBoundaries(now int64, inFlight func() int) {
	for c.line.boundary(c.sampled) != c.line.start(c.sampled) && now >= c.line.boundary(c.sampled) {
		c.sample(inFlight())
		c.emit(now, false)
	}
}

// last passes on what is left.
func (c *collector) last(now int64, inFlight func() int) {
	if c.cells[c.sampled] != nil {
		c.sample(inFlight())
	}
	c.emit(now, true)
}

func (c *collector) at(index int) *cell {
	if c.cells[index] == nil {
		into := &cell{}
		if n := len(c.spare); n > 0 {
			into.tally, c.spare = c.spare[n-1], c.spare[:n-1]
		} else {
			into.tally = c.newTally()
		}
		c.cells[index] = into
	}
	return c.cells[index]
}

func (c *collector) addAll() {
	held, _ := c.arrivals.take()
	for _, p := range held {
		c.add(p)
	}
}

// add counts a part. Faults of the warm-up count in the total, nothing else of it
// does.
func (c *collector) add(p measure.Part) {
	if p.Index == workerDone {
		c.upTo[p.Worker-c.first] = math.MaxInt
		return
	}
	c.upTo[p.Worker-c.first] = p.Index
	c.at(max(p.Index, c.next)).tally.Add(p)
	if c.line.isWarmUp(p.Index) {
		p = measure.Part{Notes: measure.Notes{Retries: p.Retries, Pieces: p.Pieces, Faults: p.Faults}}
	} else {
		c.moved += p.Moved()
	}
	if c.watch != nil && !c.line.isWarmUp(p.Index) { // it is known only at the end which of them count
		p = measure.Part{Notes: measure.Notes{Retries: p.Retries, Pieces: p.Pieces, Faults: p.Faults, LastDone: p.LastDone}}
	}
	c.total.Add(p)
}

// sample notes what else is known at the end of the next interval.
func (c *collector) sample(inFlight int) {
	into := c.at(c.sampled)
	c.sampled++
	into.sampled, into.inFlight = true, inFlight
	if c.beside != nil {
		into.beside = c.beside()
	}
	if c.inside != nil {
		into.inside = c.inside()
	}
	if c.zones != nil {
		into.zones = c.zones()
	}
}

// complete reports whether every worker handed over the next interval.
func (c *collector) complete() bool { return slices.Min(c.upTo) >= c.next }

// emit passes on the intervals that are complete or whose grace is over. At
// the last call everything is passed on, but for a stump too short to give a
// rate, unless nothing else was measured.
func (c *collector) emit(now int64, last bool) {
	for {
		cell := c.cells[c.next]
		start, end := c.line.start(c.next), c.line.boundary(c.next)
		switch {
		case cell == nil:
			return
		case last:
			end = min(end, now)
			if end-start < c.line.length/10 && c.next > 0 && c.next != c.line.leading {
				if !c.enough.Load() {
					c.kept.rest(quantity.Seconds(end-start)/1e9, cell.tally.Take(0, c.next))
				}
				return
			}
		case !cell.sampled, !c.complete() && now < end+int64(grace):
			return
		}
		if !c.enough.Load() { // what comes after counts nowhere
			c.pass(cell, start, end, last)
		}
		cell.tally.Reset()
		c.spare = append(c.spare, cell.tally)
		delete(c.cells, c.next)
		c.next++
	}
}

// pass gives an interval to those who wait for it.
func (c *collector) pass(cell *cell, start, end int64, last bool) {
	interval := cell.interval(c.next, start, end, c.line.isWarmUp(c.next))
	interval.Groups = cell.tally.GroupFlows(c.groups, interval.Length)
	if c.passOn != nil {
		c.passOn(interval)
	}
	if interval.WarmUp {
		c.early += interval.Moved().Bytes
	}
	if c.watch != nil && !interval.WarmUp {
		c.keep(interval, cell.tally.Take(0, c.next), last)
	}
}

func (c *cell) interval(index int, start, end int64, warmUp bool) measure.Interval {
	length := quantity.Seconds(end-start) / 1e9
	i := measure.Interval{
		Index: index, Start: quantity.Seconds(start) / 1e9, Length: length, WarmUp: warmUp,
		Classes: c.tally.Flows(length), Spread: c.tally.Spread(),
		InFlight: c.inFlight, Failed: c.tally.Failed, Inside: c.inside, Zones: c.zones,
	}
	if b := c.beside; b != nil {
		if c.tally.CPU > 0 && length > 0 {
			b.WorkerCores = float64(c.tally.CPU) / 1e9 / float64(length)
			b.WorkerWaits = float64(c.tally.Waited) / 1e9 / float64(length)
		}
		i.Beside = []measure.Beside{*b}
	}
	return i
}

// inbox is a queue that grows, so that whoever puts something in never waits.
type inbox[T any] struct {
	wake chan struct{}

	mu     sync.Mutex
	held   []T
	closed bool
}

func newInbox[T any]() *inbox[T] { return &inbox[T]{wake: make(chan struct{}, 1)} }

// put adds to the queue. After close it does nothing.
func (b *inbox[T]) put(value T) {
	b.mu.Lock()
	if !b.closed {
		b.held = append(b.held, value)
	}
	b.mu.Unlock()
	b.ring()
}

func (b *inbox[T]) ring() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// take gives all that is held, and whether more may come.
func (b *inbox[T]) take() (held []T, more bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	held, b.held = b.held, nil
	return held, !b.closed
}

// each gives everything to a function, in order, until the queue is closed and
// empty.
func (b *inbox[T]) each(do func(T)) {
	for range b.wake {
		held, more := b.take()
		for _, value := range held {
			do(value)
		}
		if !more {
			return
		}
	}
}

// close lets nothing more in.
func (b *inbox[T]) close() {
	b.mu.Lock()
	b.closed = true
	b.mu.Unlock()
	b.ring()
}
