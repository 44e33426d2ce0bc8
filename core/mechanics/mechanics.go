// Package mechanics is the mechanics of a hard disk: how long its arm takes to
// move, how long the platter takes to turn, and what passes under the head. The
// simulated array turns with it, and ceilings are worked out from it.
//
// Radial places go from 0, the outer edge, to 1. Times are nanoseconds unless a
// type says otherwise.
//
//	m := mechanics.New(mechanics.Disk{RPM: 7200, Capacity: 4e12}.Completed())
//	m.Positioning(mechanics.Everywhere, 32) // the shortest of 32 at random
package mechanics

import (
	"cmp"
	"math"

	"patientheron/core/quantity"
)

// Disk is what a data sheet says of a hard disk. Zero values take the defaults of
// Completed.
type Disk struct {
	Capacity    quantity.Bytes
	RPM         float64          // turns a minute; default 7200
	SeekTrack   quantity.Seconds // to the neighbouring track; default 0.8 ms
	SeekAverage quantity.Seconds // over random places; default 8.5 ms
	SeekFull    quantity.Seconds // across the disk; default 18 ms
	OuterRate   quantity.ByteRate
	InnerRate   quantity.ByteRate // default half of the outer
	Overhead    quantity.Seconds  // of each command; default 0.1 ms
}

// Completed is d with defaults in the place of zeros. Seek times that are not
// given follow those that are.
func (d Disk) Completed() Disk {
	d.RPM = cmp.Or(d.RPM, 7200)
	d.SeekAverage = cmp.Or(d.SeekAverage, 0.0085)
	d.SeekTrack = cmp.Or(d.SeekTrack, min(0.0008, d.SeekAverage/4))
	d.SeekFull = cmp.Or(d.SeekFull, max(0.018, 2*d.SeekAverage))
	d.OuterRate = cmp.Or(d.OuterRate, max(220e6, d.InnerRate))
	d.InnerRate = cmp.Or(d.InnerRate, d.OuterRate/2)
	d.Overhead = cmp.Or(d.Overhead, 0.0001)
	return d
}

// Model is the mechanics that like disks share. Seeks grow with the square root
// of a short distance and linearly with a long one (Ruemmler and Wilkes, An
// introduction to disk drive modeling, 1994).
type Model struct {
	Rotation float64 // of a turn
	Overhead float64 // of a command
	Capacity float64 // bytes
	Tracks   float64 // as a real number: its fraction is an angle

	outer, inner float64 // bytes a nanosecond
	seeks        [2049]float64
	reaches      [2049]float64 // distances that a seek covers within so many parts of the longest
}

// New works out the mechanics of a completed disk.
func New(d Disk) *Model {
	m := &Model{
		Rotation: 60e9 / d.RPM, Overhead: float64(d.Overhead) * 1e9, Capacity: float64(d.Capacity),
		outer: float64(d.OuterRate) / 1e9, inner: float64(d.InnerRate) / 1e9,
	}
	m.Tracks = m.Capacity / ((m.outer + m.inner) / 2 * m.Rotation)
	m.fitSeeks(float64(d.SeekTrack)*1e9, float64(d.SeekAverage)*1e9, float64(d.SeekFull)*1e9)
	return m
}

// short is the distance up to which a seek accelerates all the way.
const short = 0.3

// fitSeeks finds the steepness of short seeks that gives the average over random
// pairs of places.
func (m *Model) fitSeeks(track, average, full float64) {
	const grid = 128
	places := make([]float64, grid)
	for i := range places {
		places[i] = m.Radius((float64(i) + 0.5) / grid)
	}
	curve := func(steepness, distance float64) float64 {
		if distance < short {
			return track + steepness*math.Sqrt(distance)
		}
		knee := track + steepness*math.Sqrt(short)
		return knee + (full-knee)*(distance-short)/(1-short)
	}
	mean := func(steepness float64) (sum float64) {
		for _, x := range places {
			for _, y := range places {
				sum += curve(steepness, math.Abs(x-y))
			}
		}
		return sum / (grid * grid)
	}
	// The mean is linear in the steepness.
	flat := mean(0)
	steepness := min(max((average-flat)/(mean(1)-flat), 0), (full-track)/math.Sqrt(short))
	for i := range m.seeks {
		m.seeks[i] = curve(steepness, float64(i)/float64(len(m.seeks)-1))
	}
	m.seeks[0] = 0
	last, i := len(m.seeks)-1, 0
	for k := range m.reaches {
		for i < last && m.seeks[i+1] <= m.seeks[last]*float64(k)/float64(last) {
			i++
		}
		m.reaches[k] = float64(min(i+1, last)) / float64(last)
	}
	m.reaches[last] = math.Inf(1)
}

// Reach is a radial distance that no seek of so long or less goes beyond.
func (m *Model) Reach(time float64) float64 {
	last := len(m.seeks) - 1
	return m.reaches[min(int(time/m.seeks[last]*float64(last))+1, last)]
}

// Radius is the radial place of a share of the capacity: outer tracks hold more,
// in proportion to their rate.
func (m *Model) Radius(share float64) float64 {
	if m.outer == m.inner {
		return share
	}
	slope := m.inner - m.outer
	return (math.Sqrt(m.outer*m.outer+slope*share*(m.outer+m.inner)) - m.outer) / slope
}

// Seek is the time of the arm over a radial distance.
func (m *Model) Seek(distance float64) float64 {
	at := math.Abs(distance) * float64(len(m.seeks)-1)
	i := int(at)
	if i == 0 {
		// Within one step of the table: a track or a few.
		if at*m.Tracks < float64(len(m.seeks)-1) {
			return 0
		}
		return m.seeks[1]
	}
	if i >= len(m.seeks)-1 {
		return m.seeks[len(m.seeks)-1]
	}
	return m.seeks[i] + (m.seeks[i+1]-m.seeks[i])*(at-float64(i))
}

// Rate is the bytes that pass under the head in a nanosecond at a radial place.
func (m *Model) Rate(radius float64) float64 { return m.outer + (m.inner-m.outer)*radius }

// Region is a part of a disk, as shares of its capacity, and the weight of the
// accesses that go there.
type Region struct{ From, To, Weight float64 }

// Everywhere is the whole disk.
var Everywhere = []Region{{0, 1, 1}}

// Positioning is the mean time until the head is at the nearest of so many
// independent places of the regions, seek and rotation together, starting at
// another one: what a disk that always serves the nearest of its waiting commands
// spends at best. With one place it is the mean seek plus half a turn. The number
// need not be whole.
//
// With S the seek and U the rotation, even over a turn, the time of one place has
// P(S+U > t), and the shortest of n has that to the n-th; its mean is the integral.
func (m *Model) Positioning(regions []Region, among float64) float64 {
	total := 0.0
	for _, r := range regions {
		total += r.Weight
	}
	mean := 0.0
	const heads = 8
	for _, r := range regions {
		for i := range heads {
			head := m.Radius(r.From + (r.To-r.From)*(float64(i)+0.5)/heads)
			mean += r.Weight / total / heads * m.shortest(head, regions, total, max(among, 1))
		}
	}
	return mean
}

// shortest is the mean of the shortest of so many from one place of the head.
func (m *Model) shortest(head float64, regions []Region, total, among float64) float64 {
	// below[i] is the share of seeks shorter than i steps, area its running sum.
	const steps, places = 600, 256
	width := (m.seeks[len(m.seeks)-1] + m.Rotation) / steps
	var below, area [steps + 1]float64
	for _, r := range regions {
		for i := range places {
			seek := m.Seek(m.Radius(r.From+(r.To-r.From)*(float64(i)+0.5)/places) - head)
			below[min(int(seek/width)+1, steps)] += r.Weight / total / places
		}
	}
	for i := 1; i <= steps; i++ {
		below[i] += below[i-1]
		area[i] = area[i-1] + (below[i-1]+below[i])/2
	}
	turn := m.Rotation / width
	sum := 0.0
	for i := range steps {
		// P(S+U <= t) is the mean of P(S <= s) over the last turn before t.
		from, rest := math.Modf(max(float64(i)-turn, 0))
		before := area[int(from)] + rest*(area[int(from)+1]-area[int(from)])
		left := max(1-(area[i]-before)/turn, 0)
		if left <= 0 {
			break
		}
		if among > 1 {
			left = math.Pow(left, among)
		}
		sum += left * width
	}
	return sum
}
