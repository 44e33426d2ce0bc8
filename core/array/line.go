package array

import "math"

// line is the interface of a drive, which reads and writes share. It serves in the
// order of arrival, but knows of reads before they arrive: their pages leave the dies at
// a time that is fixed when they are asked for. So one event is enough for each.
type line struct {
	perByte float64 // nanoseconds
	freeAt  float64
	busy    float64 // nanoseconds spent serving
	queue   []crossing
	first   int   // of queue: those before are done
	due     int64 // when the first one is across; an event at another time is of the past
}

// crossing is a command that crosses the line.
type crossing struct {
	arrival float64
	last    float64 // when the last of its pages is there
	bytes   int
	id      int32
}

// across is when the first one of the queue is across: all its bytes one behind the
// other, and its last page when that is there.
func (l *line) across() int64 {
	c := &l.queue[l.first]
	at := max(l.freeAt, c.arrival) + l.perByte*float64(c.bytes)
	return int64(math.Ceil(max(at, c.last+l.perByte*float64(min(c.bytes, pageSize)))))
}

// cross lets a command cross the line when it arrives, behind those that arrive before.
func (m *member) cross(a *Array, c crossing) {
	l := &m.line
	if l.first > 32 && l.first > len(l.queue)/2 {
		l.queue = l.queue[:copy(l.queue, l.queue[l.first:])]
		l.first = 0
	}
	l.queue = append(l.queue, c)
	i := len(l.queue) - 1
	for ; i > l.first && l.queue[i-1].arrival > c.arrival; i-- {
		l.queue[i] = l.queue[i-1]
	}
	l.queue[i] = c
	if i == l.first {
		l.due = l.across()
		a.events.add(l.due, lineIsFree, int32(m.number))
	}
}

// crossed takes the command on that is across.
func (m *member) crossed(a *Array) {
	l := &m.line
	if l.first == len(l.queue) || a.now != l.due {
		return
	}
	c := l.queue[l.first]
	l.first++
	service := l.perByte * float64(c.bytes)
	l.freeAt = max(l.freeAt, c.arrival) + service
	l.busy += service
	if l.first < len(l.queue) {
		l.due = l.across()
		a.events.add(l.due, lineIsFree, int32(m.number))
	}
	a.commandGoesOn(c.id)
}
