package load

import (
	"math"
	"slices"
	"sync/atomic"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// workerDone stands for an interval index: the worker hands over no more.
const workerDone = -1

// grace is how long after the end of an interval a worker may take to hand
// over what it counted; what comes later is counted in the interval after.
const grace = 500 * time.Millisecond

// collector adds up what the workers counted in each interval and passes the
// intervals on in order.
type collector struct {
	spec    workload.Spec
	line    timeline
	beside  func() *measure.Beside
	observe func(measure.Interval)
	reports chan report
	pool    chan *part
	stop    chan int64
	over    chan struct{}

	inside   func() []measure.Counter // of a volume in virtual time
	sampled  int                      // intervals whose end was seen, in virtual time
	cells    map[int]*cell
	next     int   // interval to be passed on next
	upTo     []int // last interval each worker handed over
	measured []*part

	patience Patience
	enough   atomic.Bool        // patience has what it needs
	series   []measure.Interval // of the measured time, for patience
	kept     []keptPart         // what they counted
	look     int                // length of the series at which patience is asked next
}

type report struct {
	worker, index int
	part          *part
}

// cell is one interval under construction.
type cell struct {
	part     *part
	sampled  bool
	inFlight int
	beside   *measure.Beside
	inside   []measure.Counter
}

func newCollector(spec workload.Spec, job Job) *collector {
	c := &collector{
		spec: spec, patience: job.Patience, line: newTimeline(spec), beside: job.Beside, observe: job.Observe,
		// Room for every worker to be four intervals ahead.
		reports: make(chan report, spec.Workers*4),
		pool:    make(chan *part, spec.Workers*4),
		stop:    make(chan int64), over: make(chan struct{}),
		cells: map[int]*cell{},
		upTo:  make([]int, spec.Workers), measured: make([]*part, spec.Workers),
	}
	for i := range spec.Workers {
		c.upTo[i] = -1
		c.measured[i] = newPart(c.spec)
		c.pool <- newPart(c.spec)
	}
	return c
}

// take is called by a worker at the end of an interval. It gives back an
// empty part.
func (c *collector) take(number, index int, p *part) *part {
	c.reports <- report{number, index, p}
	if index == workerDone {
		return nil
	}
	select {
	case fresh := <-c.pool:
		return fresh
	default:
		return newPart(c.spec)
	}
}

// run collects until finish is called.
func (c *collector) run(now func() int64, inFlight func() int) {
	defer close(c.over)
	timer := time.NewTimer(0)
	defer timer.Stop()
	sampled := 0 // intervals whose end was seen
	for {
		end := c.line.boundary(sampled)
		if end == c.line.start(sampled) { // past the end of the measured time
			end = now() + int64(time.Hour)
		}
		deadline := end
		if sampled > c.next {
			deadline = min(end, c.line.boundary(c.next)+int64(grace))
		}
		timer.Reset(max(time.Duration(deadline-now()), 0))
		select {
		case r := <-c.reports:
			c.add(r)
		case <-timer.C:
			if now() >= end {
				c.sample(sampled, inFlight())
				sampled++
			}
		case at := <-c.stop:
			c.drain()
			if c.cells[sampled] != nil {
				c.sample(sampled, inFlight())
			}
			c.emit(at, true)
			return
		}
		c.emit(now(), false)
	}
}

// passBoundaries samples and passes on the intervals that ended until now, in
// virtual time.
func (c *collector) passBoundaries(now int64, inFlight func() int) {
	for c.line.boundary(c.sampled) != c.line.start(c.sampled) && now >= c.line.boundary(c.sampled) {
		c.sample(c.sampled, inFlight())
		c.sampled++
		c.emit(now, false)
	}
}

// last passes on what is left when all workers are done, in virtual time.
func (c *collector) last(now int64, inFlight func() int) {
	c.passBoundaries(now, inFlight)
	if c.cells[c.sampled] != nil {
		c.sample(c.sampled, inFlight())
	}
	c.emit(now, true)
}

// finish ends the collecting at the given time and returns what each worker
// handed over of the measured time.
func (c *collector) finish(at int64) []*part {
	c.stop <- at
	<-c.over
	return c.measured
}

func (c *collector) drain() {
	for {
		select {
		case r := <-c.reports:
			c.add(r)
		default:
			return
		}
	}
}

func (c *collector) at(index int) *cell {
	if c.cells[index] == nil {
		c.cells[index] = &cell{part: newPart(c.spec)}
	}
	return c.cells[index]
}

func (c *collector) add(r report) {
	if r.index == workerDone {
		c.upTo[r.worker] = math.MaxInt
		return
	}
	c.upTo[r.worker] = r.index
	if !c.line.isLeadIn(r.index) {
		c.measured[r.worker].merge(r.part)
	}
	c.at(max(r.index, c.next)).part.merge(r.part)
	r.part.reset()
	select {
	case c.pool <- r.part:
	default:
	}
}

func (c *collector) sample(index, inFlight int) {
	into := c.at(index)
	into.sampled, into.inFlight = true, inFlight
	if c.beside != nil {
		into.beside = c.beside()
	}
	if c.inside != nil {
		into.inside = c.inside()
	}
}

// complete reports whether every worker handed over the next interval.
func (c *collector) complete() bool { return slices.Min(c.upTo) >= c.next }

// emit passes on the intervals that are complete or whose grace is over. At
// the last call everything is passed on, but for a stump too short to give a
// rate.
func (c *collector) emit(now int64, last bool) {
	for {
		cell := c.cells[c.next]
		start, end := c.line.start(c.next), c.line.boundary(c.next)
		switch {
		case cell == nil:
			return
		case last:
			end = min(end, now)
			if end-start < c.line.length/10 && c.next > 0 {
				return
			}
		case !cell.sampled, !c.complete() && now < end+int64(grace):
			return
		}
		if !c.enough.Load() { // what comes after counts nowhere
			c.pass(cell, start, end, last)
		}
		delete(c.cells, c.next)
		c.next++
	}
}

// pass gives an interval to those who wait for it.
func (c *collector) pass(cell *cell, start, end int64, last bool) {
	interval := cell.interval(c.next, start, end, c.line.isLeadIn(c.next))
	if c.observe != nil {
		c.observe(interval)
	}
	if c.patience != nil && !interval.LeadIn {
		c.keep(interval, cell.part, last)
	}
}

func (c *cell) interval(index int, start, end int64, leadIn bool) measure.Interval {
	length := quantity.Seconds(end-start) / 1e9
	return measure.Interval{
		Index: index, Start: quantity.Seconds(start) / 1e9, Length: length, LeadIn: leadIn,
		Reads: c.part.reads.flow(length), Writes: c.part.writes.flow(length),
		InFlight: c.inFlight, Failed: c.part.failed, Beside: c.beside, Inside: c.inside,
		Spread: measure.Cells(c.part.reads.latency, c.part.writes.latency),
	}
}

func (c *counted) flow(over quantity.Seconds) measure.Flow {
	f := measure.Flow{
		Operations: c.operations, Bytes: quantity.Bytes(c.bytes),
		Mean: c.latency.Mean(), P50: c.latency.Quantile(0.5), P99: c.latency.Quantile(0.99), Max: c.latency.Max(),
	}
	f.Rate, f.Throughput = measure.Per(c.operations, c.bytes, over)
	return f
}
