package array

import (
	"math"
)

// diskModel is the mechanics that like disks share. Seeks grow with the square
// root of a short distance and linearly with a long one (Ruemmler and Wilkes,
// An introduction to disk drive modeling, 1994). Times are in nanoseconds,
// radial places go from 0 (outer edge) to 1.
type diskModel struct {
	rotation     float64
	overhead     float64
	outer, inner float64 // bytes a nanosecond
	capacity     float64
	tracks       float64 // tracks, as a real number: its fraction is an angle
	seeks        [2049]float64
}

func newDiskModel(g Group) *diskModel {
	m := &diskModel{
		rotation: 60e9 / g.RPM, overhead: float64(g.Overhead) * 1e9,
		outer: float64(g.OuterRate) / 1e9, inner: float64(g.InnerRate) / 1e9, capacity: float64(g.Capacity),
	}
	m.tracks = m.capacity / ((m.outer + m.inner) / 2 * m.rotation)
	m.fitSeeks(float64(g.SeekTrack)*1e9, float64(g.SeekAverage)*1e9, float64(g.SeekFull)*1e9)
	return m
}

// shortSeek is the distance up to which a seek accelerates all the way.
const shortSeek = 0.3

// fitSeeks finds the steepness of short seeks that gives the average over
// random pairs of places.
func (m *diskModel) fitSeeks(track, average, full float64) {
	const grid = 128
	places := make([]float64, grid)
	for i := range places {
		places[i] = m.radius((float64(i) + 0.5) / grid)
	}
	curve := func(steepness, distance float64) float64 {
		if distance < shortSeek {
			return track + steepness*math.Sqrt(distance)
		}
		knee := track + steepness*math.Sqrt(shortSeek)
		return knee + (full-knee)*(distance-shortSeek)/(1-shortSeek)
	}
	mean := func(steepness float64) (sum float64) {
		for _, x := range places {
			for _, y := range places {
				sum += curve(steepness, math.Abs(x-y))
			}
		}
		return sum / (grid * grid)
	}
	low, high := 0.0, (full-track)/math.Sqrt(shortSeek)
	for range 40 {
		if middle := (low + high) / 2; mean(middle) < average {
			low = middle
		} else {
			high = middle
		}
	}
	for i := range m.seeks {
		m.seeks[i] = curve(low, float64(i)/float64(len(m.seeks)-1))
	}
	m.seeks[0] = 0
}

// radius is the radial place of a share of the capacity: outer tracks hold
// more, in proportion to their rate.
func (m *diskModel) radius(share float64) float64 {
	if m.outer == m.inner {
		return share
	}
	slope := m.inner - m.outer
	return (math.Sqrt(m.outer*m.outer+slope*share*(m.outer+m.inner)) - m.outer) / slope
}

func (m *diskModel) seek(distance float64) float64 {
	at := math.Abs(distance) * float64(len(m.seeks)-1)
	i := int(at)
	if i == 0 {
		// Within one step of the table: a track or a few.
		if at*m.tracks < float64(len(m.seeks)-1) {
			return 0
		}
		return m.seeks[1]
	}
	if i >= len(m.seeks)-1 {
		return m.seeks[len(m.seeks)-1]
	}
	return m.seeks[i] + (m.seeks[i+1]-m.seeks[i])*(at-float64(i))
}

func (m *diskModel) rate(radius float64) float64 { return m.outer + (m.inner-m.outer)*radius }

// disk is a hard disk at work.
type disk struct {
	member *member
	model  *diskModel

	active  []queued // commands it orders by position
	pending []queued // commands that wait for a place among them, oldest first
	passed  int      // times the oldest active command was passed over
	current int32    // operation it serves, -1 for none

	head    float64 // radial place
	end     int64   // byte behind the last one served
	endTime float64 // when it was served
	writing bool    // whether that was a write
}

type queued struct {
	id     int32
	write  bool
	offset int64
	length int
	radius float64
	angle  float64 // of its first byte, in turns
	at     float64 // when it came
}

func newDisk(m *member, g Group) *disk {
	return &disk{member: m, model: newDiskModel(g), current: -1, end: -1}
}

func (d *disk) submit(a *Array, id int32, p piece) {
	radius := d.model.radius(float64(p.offset) / d.model.capacity)
	turns := d.model.tracks * radius
	q := queued{id: id, write: p.write, offset: p.offset, length: p.length, radius: radius, angle: turns - math.Floor(turns), at: float64(a.now)}
	if len(d.active) < d.member.group.Queue {
		d.active = append(d.active, q)
	} else {
		d.pending = append(d.pending, q)
	}
	if d.current < 0 {
		d.start(a)
	}
}

// next ends the command under way and starts another one.
func (d *disk) next(a *Array) {
	id := d.current
	d.current = -1
	a.subDone(id)
	if d.current < 0 && len(d.active) > 0 {
		d.start(a)
	}
}

// start serves the command with the shortest positioning time, but one that
// was passed over too often comes first.
func (d *disk) start(a *Array) {
	now := float64(a.now)
	best, cost := 0, math.Inf(1)
	if d.passed <= 4*d.member.group.Queue {
		for i := range d.active {
			if c := d.positioning(now, &d.active[i]); c < cost {
				best, cost = i, c
			}
		}
	} else {
		cost = d.positioning(now, &d.active[0])
	}
	d.passed++
	if best == 0 {
		d.passed = 0
	}
	q := d.active[best]
	d.active = append(d.active[:best], d.active[best+1:]...)
	if len(d.pending) > 0 {
		d.active = append(d.active, d.pending[0])
		d.pending = d.pending[1:]
	}
	transfer := float64(q.length) / d.model.rate(q.radius)
	var done float64
	if d.streams(&q) {
		// The head never left the stream: what follows was read ahead, or is
		// written behind, at the rate of the media.
		done = max(now+d.model.overhead, max(d.endTime, now-d.model.rotation)+transfer)
	} else {
		done = now + d.model.overhead + cost + transfer
	}
	done = now + (done-now)*d.member.slow
	d.member.busy += done - now
	d.head, d.end, d.endTime, d.writing = q.radius, q.offset+int64(q.length), done, q.write
	d.current = q.id
	a.events.add(int64(math.Ceil(done)), eventDisk, int32(d.member.number))
}

// streams reports whether a command goes on where the last one ended without
// losing a turn.
func (d *disk) streams(q *queued) bool {
	if q.offset != d.end || q.write != d.writing {
		return false
	}
	return !q.write || d.member.group.WriteCaching || q.at < d.endTime // it was queued in time
}

// positioning is seek plus rotation until the first byte is under the head.
func (d *disk) positioning(now float64, q *queued) float64 {
	if d.streams(q) {
		return 0
	}
	seek := d.model.seek(q.radius - d.head)
	turns := (now + d.model.overhead + seek) / d.model.rotation
	wait := q.angle - (turns - math.Floor(turns))
	if wait < 0 {
		wait++
	}
	return seek + wait*d.model.rotation
}
