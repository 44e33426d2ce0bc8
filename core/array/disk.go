package array

import (
	"math"
	"math/bits"
	"slices"

	"patientheron/core/mechanics"
)

// disk is a hard disk at work: commands in the order of the shortest positioning
// time, what it read ahead of several streams, and a volatile cache for writes.
type disk struct {
	member *member
	model  *mechanics.Model
	phase  float64 // where its platter stands at the start, in turns
	ahead  int64   // bytes it reads ahead
	across int64   // the widest gap it reads across, to stay in a stream
	reach  int     // commands it orders by position

	active  []queued
	pending []queued // commands that wait for a place among them, oldest first
	passed  int      // times the oldest active command was passed over
	current int32    // command it serves; none, or one of the following
	buffer  server   // answers what was read ahead, and takes what is cached

	head    float64 // radial place
	start   int64   // of the stream that is read: first byte that is kept
	end     int64   // byte behind the last one served
	endTime float64 // when it was served
	limit   int64   // how far it reads ahead
	until   float64 // when the head is free
	writing bool    // whether the last was a write
	goesOn  bool    // whether the stream continues one that was kept
	flow    int32   // which of the flows that is
	visit   float64 // when the head came to it
	spent   bool    // it has stayed there as long as it may while others wait
	counted float64 // until when what it read on by itself counts as work

	kept    [segments]segment    // what was read of other streams
	near    [1 << nearBits]uint8 // how many of them end in a stretch of the disk, by a part of its number
	stretch uint                 // the shift of those, which are as long as a segment at least
	replace int                  // of kept: the next one to be replaced
	flows   [2 * segments]flow
	newest  int32 // of flows

	cache    *writeCache // nil without one
	shingled *shingled   // nil where tracks lie beside each other
}

// What a disk does when it serves no command.
const (
	idle         int32 = -1
	readingAhead int32 = -2
	writingBack  int32 = -3
	goingHome    int32 = -4
)

// queued is a command with its place.
type queued struct {
	id     int32
	write  bool
	offset int64
	length int
	radius float64
	angle  float64 // of its first byte, in turns
	at     float64 // when it was submitted
	came   float64 // when it came among those that are ordered by their place
	goesOn bool    // it continues what was read before
	flow   int32   // which of the flows that is
}

func (q *queued) end() int64 { return q.offset + int64(q.length) }

// patience is for how long a command may be passed over: twice as long as it would take to serve
// all that wait in the order in which they came.
func (d *disk) patience() float64 {
	each := float64(d.member.group.SeekAverage)*1e9 + d.model.Rotation
	return 2 * float64(len(d.active)) * each * d.member.slow
}

// rate is how fast it reads and writes at a radius, in bytes a nanosecond.
func (d *disk) rate(radius float64) float64 { return d.model.Rate(radius) / d.member.slow }

func newDisk(m *member, models map[mechanics.Disk]*mechanics.Model) *disk {
	sheet := m.group.disk()
	if models[sheet] == nil {
		models[sheet] = mechanics.New(sheet)
	}
	d := &disk{
		member: m, model: models[sheet], ahead: int64(m.group.ReadAhead), across: min(int64(m.group.ReadAhead), widestGap), reach: m.group.Queue,
		current: idle, end: -1, start: -1, endTime: math.Inf(-1), stretch: uint(bits.Len64(uint64(m.group.ReadAhead))),
	}
	// Platters turn independently: the golden ratio spreads their phases.
	_, d.phase = math.Modf(float64(m.number) * 0.6180339887498949)
	d.buffer.perOperation, d.buffer.perByte = d.model.Overhead, perSecond(float64(m.group.Interface))
	for i := range d.kept {
		d.kept[i] = segment{from: -1, to: -1}
	}
	if m.group.Shingled {
		d.shingled = newShingled(m.group)
	}
	if m.group.WriteCaching {
		d.cache = newWriteCache(int64(m.group.WriteBuffer))
	}
	return d
}

func (d *disk) submit(a *Array, id int32, p *piece) {
	from, to := p.offset, p.offset+int64(p.length)
	if d.shingled != nil {
		d.shingled.last = a.now
	}
	if p.write {
		d.forget(from, to)
		if d.shingled != nil {
			d.writeShingled(a, id, p)
			return
		}
		if d.cache != nil {
			if !a.jobs.at(a.commands.at(id).job).lasting {
				d.takeWrite(a, id, p)
				return
			}
			d.cache.drop(from, to) // what it holds of that is old
			d.answerFlushes(a)
		}
	}
	d.queue(a, d.place(id, p.write, from, p.length, float64(a.now)))
}

// arrive takes a read in among those that are ordered by their place, or answers it out of the
// drive's memory, now or when the head will have read it.
func (d *disk) arrive(a *Array, q queued) {
	now, id, from, to := float64(a.now), q.id, q.offset, q.end()
	if d.holds(now, from, to) {
		d.readOn(now, from, to)
		d.goOn(d.flow, to-from)
		d.answer(a, id, q.length)
		return
	}
	if at, comes := d.comes(from, to); comes {
		d.goOn(d.flow, to-from)
		a.commands.at(id).step = commandDone
		a.events.add(int64(math.Ceil(at)), partGoesOn, id)
		return
	}
	// What another stream left in memory need not be read again.
	goesOn := int32(-1)
	for i := range d.keptNear(from, from) {
		s := &d.kept[i]
		if from < s.from || from > s.to+d.across || s.from < 0 {
			continue
		}
		if to <= s.to {
			d.goOn(s.flow, to-from)
			d.answer(a, id, q.length)
			return
		}
		goesOn = s.flow
		from = max(from, s.to)
	}
	if goesOn >= 0 {
		came := q.came
		q = d.place(id, false, from, int(to-from), q.at)
		q.came, q.goesOn, q.flow = came, true, goesOn
	}
	d.active = append(d.active, q)
}

// answer answers a command out of the drive's memory, over its interface.
func (d *disk) answer(a *Array, id int32, length int) {
	at := d.buffer.pass(a.now, length)
	a.commands.at(id).step = commandDone
	a.events.add(a.now+int64(float64(at-a.now)*d.member.slow), partGoesOn, id)
}

// place works out where a command lies.
func (d *disk) place(id int32, write bool, offset int64, length int, at float64) queued {
	radius := d.model.Radius(float64(offset) / d.model.Capacity)
	turns := d.model.Tracks*radius + d.phase
	angle := turns - float64(int64(turns))
	return queued{id: id, write: write, offset: offset, length: length, radius: radius, angle: angle, at: at}
}

func (d *disk) queue(a *Array, q queued) {
	d.pending = append(d.pending, q)
	d.take(a)
	if d.current == idle && len(d.active) > 0 {
		d.serve(a)
	}
}

// free ends what the head did and gives it something else to do.
func (d *disk) free(a *Array) {
	id := d.current
	d.current = idle
	switch {
	case id == writingBack:
		d.wroteBack(a)
	case id == goingHome:
		d.wentHome(a)
	case id >= 0:
		if p := &a.commands.at(id).piece; a.watch != nil && p.write {
			a.watch.reached(d.member.number, p.offset, p.offset+int64(p.length))
		}
		a.commandFinished(id)
		d.stay(a)
	}
	if d.current == idle {
		d.serve(a)
	}
}

// serve begins with the next command, if there is one: the one with the shortest
// positioning time, but one that was passed over too often comes first. What is to
// be written out of the drive's memory takes its turn when nothing else waits, or
// when that is filling up.
func (d *disk) serve(a *Array) {
	d.skipRead(a)
	if d.cache != nil && d.cache.wantsTurn(len(d.active) > 0) {
		d.writeBack(a)
		return
	}
	if d.shingled != nil && d.shingled.wantsTurn(a.now, len(d.active) > 0) {
		d.goHome(a)
		return
	}
	if len(d.active) == 0 {
		d.rest(a)
		return
	}
	best := 0
	if d.passed <= 4*d.reach && float64(a.now)-d.active[0].came < d.patience() {
		best = d.runStart(d.nearest(float64(a.now)))
	}
	d.passed++
	if best == 0 {
		d.passed = 0
	}
	q := d.active[best]
	d.active = append(d.active[:best], d.active[best+1:]...)
	d.take(a)
	d.move(a, &q, d.positioning(float64(a.now), &q), q.id)
}

// skipRead lets waiting reads leave out what the head has just read for another one: a
// degraded stripe is read in parts that overlap.
func (d *disk) skipRead(a *Array) {
	if d.writing || d.start >= d.end {
		return
	}
	for i := 0; i < len(d.active); i++ {
		q := &d.active[i]
		switch {
		case uint64(q.offset-d.start) >= uint64(d.end-d.start) || q.write: // mostly
		case q.end() > d.end:
			came := q.came
			*q = d.place(q.id, false, d.end, int(q.end()-d.end), q.at)
			q.came = came
		default:
			d.answer(a, q.id, q.length)
			d.active = slices.Delete(d.active, i, i+1)
			i--
			d.take(a)
		}
	}
}

// take lets commands in that wait for a place among those that are ordered by theirs.
func (d *disk) take(a *Array) {
	for len(d.pending) > 0 && len(d.active) < d.reach {
		q := d.pending[0]
		d.pending = d.pending[1:]
		q.came = float64(a.now)
		if q.write {
			d.active = append(d.active, q)
		} else {
			d.arrive(a, q)
		}
	}
}

// nearest is the waiting command with the shortest positioning time.
func (d *disk) nearest(now float64) int {
	best, cost, reach := 0, math.Inf(1), math.Inf(1)
	from := now + d.model.Overhead
	_, at := math.Modf(from/d.model.Rotation + d.phase)
	perTurn := 1 / d.model.Rotation
	leave := d.spent && slices.ContainsFunc(d.active, func(q queued) bool { return !d.goesOnHere(&q) })
	for i := range d.active {
		q := &d.active[i]
		var c float64
		if leave && d.goesOnHere(q) {
			continue
		}
		if gap := q.offset - d.end; gap >= 0 && gap <= d.across { // it may lie under the head
			c = d.positioning(now, q)
		} else {
			way := math.Abs(q.radius - d.head)
			if way >= reach {
				continue
			}
			seek := d.model.Seek(way)
			if seek >= cost {
				continue
			}
			turns := at + seek*perTurn
			wait := q.angle - (turns - float64(int(turns)))
			if wait < 0 {
				wait++
			}
			c = seek + wait*d.model.Rotation
		}
		if c < cost {
			best, cost, reach = i, c, d.model.Reach(c)
		}
	}
	return best
}

// runStart is the first of the waiting commands that lie one behind the other up to
// one of them: begun in the middle, a run would be broken for good.
func (d *disk) runStart(i int) int {
	for range d.active {
		place, write, before := d.active[i].offset, d.active[i].write, -1
		for k := range d.active {
			// Reads of a run may overlap, and leave gaps that are read across, such as parity.
			if q := &d.active[k]; uint64(place-q.offset-1) < uint64(q.length)+uint64(d.across) && q.write == write && (!write || q.end() == place) {
				before = k
				break
			}
		}
		if before < 0 {
			break
		}
		i = before
	}
	return i
}

// move lets the head read or write a range, positioning included, and lets the disk
// be free afterwards.
func (d *disk) move(a *Array, q *queued, cost float64, current int32) {
	now := float64(a.now)
	d.countReading(now)
	transfer := float64(q.length) / d.rate(q.radius)
	streamed := d.streams(now, q)
	ready := now + (d.ready(now, q)-now)*d.member.slow
	var done float64
	if streamed && !q.write {
		// The head never left the stream: what follows passes under it, or has.
		done = max(ready, d.endTime+float64(q.end()-d.end)/d.rate(q.radius))
	} else if streamed {
		done = max(ready, max(d.endTime, now-d.model.Rotation)+transfer)
	} else {
		done = ready + cost*d.member.slow + transfer
	}
	if !streamed {
		d.leave(a, now)
		d.start, d.goesOn, d.spent, d.visit = q.offset, q.goesOn, false, done-transfer
		if q.goesOn && d.flowOf(q.flow) != nil {
			d.flow = q.flow
		} else {
			d.begin(q.offset)
		}
	}
	if !q.write {
		d.goOn(d.flow, int64(q.length))
	}
	d.member.busy += done - now
	d.head, d.end, d.endTime, d.until, d.writing, d.current = q.radius, q.end(), done, done, q.write, current
	d.start, d.limit = max(d.start, d.end-2*d.ahead), d.end+d.ahead
	a.events.add(int64(math.Ceil(done)), diskIsFree, int32(d.member.number))
}

// streams reports whether a command goes on where the head is without losing a turn.
// Reads may leave a gap, which is read across, while the head is still reading on.
func (d *disk) streams(now float64, q *queued) bool {
	if q.write != d.writing || d.end < 0 {
		return false
	}
	if q.write {
		return q.offset == d.end && (q.at < d.endTime || d.cache != nil) // it was queued in time
	}
	gap := q.offset - d.end
	return gap >= 0 && gap <= d.across+d.frontier(now)-d.end && q.offset <= d.limit && now < d.endTime+float64(d.limit-d.end)/d.rate(d.head)
}

// ready is when the drive can begin with a command: it takes its overhead to turn to
// another place, but what lies just ahead it prepares while it serves what is before.
func (d *disk) ready(now float64, q *queued) float64 {
	if gap := q.offset - d.end; gap >= 0 && gap <= d.across {
		return max(now, q.at+d.model.Overhead)
	}
	return now + d.model.Overhead
}

// positioning is seek plus rotation until the first byte is under the head, from when
// the drive can begin.
func (d *disk) positioning(now float64, q *queued) float64 {
	from := d.ready(now, q)
	if d.streams(now, q) {
		return max(d.endTime+float64(q.offset-d.end)/d.rate(q.radius)-from, 0)
	}
	seek := d.model.Seek(q.radius - d.head)
	turns := (from+seek)/d.model.Rotation + d.phase
	wait := q.angle - (turns - math.Floor(turns))
	if wait < 0 {
		wait++
	}
	return seek + wait*d.model.Rotation
}
