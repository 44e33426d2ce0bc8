package array

import (
	"math"
	"slices"
)

// widestGap is the most that is read across: more than that takes as long as a seek.
const widestGap = 1 << 20

// segments is the number of streams whose data a disk keeps: what it reads on of each is 2 MiB where
// nothing else is said, of the 128 MiB and more that drives have.
const segments = 64

// segment is a range that was read, further than asked.
type segment struct {
	from, to int64
	flow     int32
}

// flow is what is known of reads that go on with each other.
type flow struct {
	number int32 // another has taken its place where that is not the one looked for
	begun  int64 // where the first was
	asked  int64 // bytes that were asked for
	pieces int
}

// longestVisit is how long the head stays with a stream while others wait, in nanoseconds.
const longestVisit = 50e6

// What makes reads near each other a stream: the third that goes on, and two fifths of what they
// span. A stream on one of the members of a parity layout leaves parity out, and one on a mirror
// what the other half reads.
const (
	leastPieces = 2
	leastDense  = 0.4
)

// streaming reports whether what the head reads is a stream, and not places near each other.
func (d *disk) streaming() bool {
	f := d.flowOf(d.flow)
	return f != nil && f.pieces > leastPieces && float64(f.asked) >= leastDense*float64(d.end-f.begun)
}

// begin begins another flow, in place of the one that was begun first.
func (d *disk) begin(at int64) {
	d.newest = (d.newest + 1) & math.MaxInt32
	d.flow = d.newest
	d.flows[d.flow%int32(len(d.flows))] = flow{number: d.flow, begun: at}
}

// flowOf is a flow by its number; nil where it was so long ago that another has taken its place.
func (d *disk) flowOf(number int32) *flow {
	if f := &d.flows[number%int32(len(d.flows))]; f.number == number {
		return f
	}
	return nil
}

// goOn counts a read that goes on with a flow.
func (d *disk) goOn(flow int32, bytes int64) {
	if f := d.flowOf(flow); f != nil {
		f.asked += bytes
		f.pieces++
	}
}

// comes tells when a range will have been read that lies in what the head reads on behind a
// stream, while others wait.
func (d *disk) comes(from, to int64) (at float64, comes bool) {
	if d.current != readingAhead || d.writing || from < d.start {
		return 0, false
	}
	at = d.endTime + float64(to-d.end)/d.rate(d.head)
	return at, at <= d.until
}

// stay reads on for a while behind a read of a stream, although others wait: coming back for
// the next piece would take longer. It is over when the head has been there for long.
func (d *disk) stay(a *Array) {
	if d.current != idle || d.writing || d.spent || len(d.active) == 0 || !d.streaming() {
		return
	}
	if d.endTime-d.visit > longestVisit {
		d.spent = true
		return
	}
	if d.continued() {
		return
	}
	d.until = d.endTime + float64(d.ahead)/2/d.rate(d.head)
	d.member.busy += d.until - d.endTime
	d.current, d.spent, d.counted = readingAhead, true, d.until
	a.events.add(int64(math.Ceil(d.until)), diskIsFree, int32(d.member.number))
}

// goesOnHere reports a read that goes on with the stream under the head.
func (d *disk) goesOnHere(q *queued) bool {
	return !q.write && !d.writing && q.offset >= d.start && q.offset <= d.end+d.across
}

// continued reports whether a waiting command goes on where the head will be.
func (d *disk) continued() bool {
	for i := range d.active {
		if gap := d.active[i].offset - d.end; gap >= 0 && gap <= d.across && !d.active[i].write {
			return true
		}
	}
	return false
}

// readOn lets the head read further ahead once half of what it has read is asked for.
// One that has stopped waits for the place to come round.
func (d *disk) readOn(now float64, from, to int64) {
	if d.current != idle || d.writing || from < d.start || to > d.limit || to+d.ahead/2 <= d.limit {
		return
	}
	d.countReading(now)
	if at := d.frontier(now); at == d.limit {
		_, place := math.Modf(d.model.Tracks*d.model.Radius(float64(at)/d.model.Capacity) + d.phase)
		_, head := math.Modf(now/d.model.Rotation + d.phase)
		if place < head {
			place++
		}
		d.end, d.endTime = at, now+(place-head)*d.model.Rotation
	}
	d.limit = to + d.ahead
}

// countReading counts what the head has read on by itself until now as work.
func (d *disk) countReading(now float64) {
	if d.end < 0 || d.writing || d.current != idle {
		return
	}
	from, to := max(d.counted, d.endTime), min(now, d.endTime+float64(d.limit-d.end)/d.rate(d.head))
	if to > from {
		d.member.busy += to - from
		d.counted = to
	}
}

// frontier is the byte up to which the head has read by now: after a read it reads
// on until it has to leave or has read enough.
func (d *disk) frontier(now float64) int64 {
	if d.end < 0 || d.writing {
		return d.end
	}
	return min(d.limit, d.end+int64(max(now-d.endTime, 0)*d.rate(d.head)))
}

// nearBits are those of the number of a stretch by which segments are found.
const nearBits = 10

// nearOf is the place of what lies somewhere among those that tell where segments are.
func (d *disk) nearOf(place int64) int { return int(place>>d.stretch) & (1<<nearBits - 1) }

// keep puts a segment in the place of another.
func (d *disk) keep(i int, s segment) {
	if old := d.kept[i]; old.from >= 0 {
		d.near[d.nearOf(old.to)]--
	}
	if d.kept[i] = s; s.from >= 0 {
		d.near[d.nearOf(s.to)]++
	}
}

// keptNear is how many segments have to be looked at for those that may touch a range, or go on with
// it: mostly none.
func (d *disk) keptNear(from, to int64) int {
	if to-from > 1<<d.stretch {
		return segments
	}
	first, last := d.nearOf(from), d.nearOf(to)
	for _, at := range [...]int{first - 1, first, last, last + 1} {
		if d.near[at&(1<<nearBits-1)] > 0 {
			return segments
		}
	}
	return 0
}

// leave keeps what was read of the stream under the head, which goes elsewhere.
func (d *disk) leave(a *Array, now float64) {
	if d.end < 0 || d.writing {
		return
	}
	to := d.frontier(now)
	if d.start >= to {
		return
	}
	left := segment{max(d.start, min(d.end, to-d.ahead/2)), to, d.flow} // what was asked for gives way first
	if to > d.end {                                                     // it has read on
		defer d.trim(a, left)
	}
	for i := 0; d.goesOn && i < segments; i++ { // what it goes on from is part of it now
		if s := &d.kept[i]; s.from >= 0 && s.from <= d.start && d.start <= s.to+d.across {
			d.keep(i, left)
			return
		}
	}
	d.keep(d.replace, left)
	d.replace = (d.replace + 1) % segments
}

// trim lets reads that wait leave out what was read on before the head left.
func (d *disk) trim(a *Array, left segment) {
	for i := 0; i < len(d.active); i++ {
		q := &d.active[i]
		switch {
		case q.write || q.offset < left.from || q.offset > left.to+d.across:
		case q.end() <= left.to:
			d.answer(a, q.id, q.length)
			d.active = slices.Delete(d.active, i, i+1)
			i--
			d.take(a)
		default:
			from := max(q.offset, left.to)
			at, came := q.at, q.came
			*q = d.place(q.id, false, from, int(q.end()-from), at)
			q.came, q.goesOn, q.flow = came, true, left.flow
		}
	}
}

// holds reports whether a range is in the drive's memory: of the stream under the head,
// or waiting to be written.
func (d *disk) holds(now float64, from, to int64) bool {
	if d.current == idle || d.current == readingAhead {
		if d.end >= 0 && !d.writing && from >= d.start && to <= d.frontier(now) {
			return true
		}
	}
	return d.cache != nil && d.cache.holds(from, to)
}

// forget drops what was read of a range that is written.
func (d *disk) forget(from, to int64) {
	for i := range d.keptNear(from, to) {
		if s := d.kept[i]; from < s.to && to > s.from {
			d.keep(i, segment{from: -1, to: -1})
		}
	}
	if !d.writing && from < d.end+d.ahead && to > d.start {
		d.start = d.end + d.ahead
	}
}
