package load

import (
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// mostParts is how many parts a measurement keeps at most. A day of them,
// one a second, would take gigabytes; joined by neighbours the cut that is found
// at the end falls on a boundary between two of them, at most one part in 128 of
// the time later.
const mostParts = 256

// keptParts is what a measurement counted, kept until it is known from where on the
// summary counts. Of each interval it keeps the pace; what was
// counted is joined over more and more intervals.
type keptParts struct {
	paces  []measure.Pace
	parts  []measure.Part
	each   int              // intervals of one part
	last   int              // intervals of the part at the end
	over   quantity.Seconds // after the last whole interval
	joiner *measure.Tally
}

func (k *keptParts) add(pace measure.Pace, p measure.Part) {
	if k.each == 0 {
		k.each, k.last, k.joiner = 1, 1, &measure.Tally{}
	}
	k.paces = append(k.paces, pace)
	if k.last < k.each {
		k.last++
		k.parts[len(k.parts)-1] = k.join(k.parts[len(k.parts)-1], p)
		return
	}
	if len(k.parts) == mostParts {
		for i := range mostParts / 2 {
			k.parts[i] = k.join(k.parts[2*i], k.parts[2*i+1])
		}
		clear(k.parts[mostParts/2:])
		k.parts = k.parts[:mostParts/2]
		k.each *= 2
	}
	k.parts, k.last = append(k.parts, p), 1
}

func (k *keptParts) join(a, b measure.Part) measure.Part {
	k.joiner.Add(a)
	k.joiner.Add(b)
	return k.joiner.Take(0, a.Index)
}

// after adds up what counts after so many intervals, and says how long that was
// and how long it was before.
func (k *keptParts) after(cut int, into *measure.Tally) (length, before quantity.Seconds) {
	first := (cut + max(k.each, 1) - 1) / max(k.each, 1)
	if first >= len(k.parts) { // the part at the end is always counted
		first = len(k.parts) - 1
	}
	for i, pace := range k.paces {
		if i < first*k.each {
			before += pace.Length
		} else {
			length += pace.Length
		}
	}
	for _, p := range k.parts[first:] {
		// Faults were counted as they came.
		p.Faults, p.Retries, p.Pieces = nil, 0, 0
		into.Add(p)
	}
	return length + k.over, before
}

// rest adds what was counted after the last whole interval.
func (k *keptParts) rest(length quantity.Seconds, p measure.Part) {
	if n := len(k.parts); n > 0 {
		k.parts[n-1] = k.join(k.parts[n-1], p)
		k.over += length
	}
}

// keep remembers an interval and, for a patient workload, asks whether that is
// enough: at first after every interval, later at every twentieth part more.
func (c *collector) keep(interval measure.Interval, p measure.Part, last bool) {
	pace := interval.Pace()
	if c.patient {
		pace.Stores = interval.Stores()
	}
	c.kept.add(pace, p)
	if last || !c.patient || len(c.kept.paces) < c.look {
		return
	}
	c.look = len(c.kept.paces) + max(len(c.kept.paces)/20, 1)
	if c.watch(c.kept.paces, false).Enough {
		c.enough.Store(true)
		c.satisfy()
	}
}

// sustained makes the totals of a measurement from the intervals of its last phase,
// and says how long they were and how much was cut off.
func (c *collector) sustained() (length, cut quantity.Seconds, stand measure.Stand) {
	stand = c.watch(c.kept.paces, true)
	length, cut = c.kept.after(stand.Cut, c.total)
	if stand.Phases != nil {
		stand.Phases.Cut = cut
		if stand.Phases.Fall != nil { // what holds the burst was filled by the warm-up too
			stand.Phases.Fall.Bytes += c.early
		}
	}
	if stand.Patience != nil {
		stand.Patience.Cut = cut
	}
	return length, cut, stand
}
