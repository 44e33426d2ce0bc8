package array

import "math"

// line is the interface of a drive, or a channel within an SSD, which reads and writes
// share. It serves in the order of arrival, but knows of reads before they arrive: their
// pages leave the dies at a time that is fixed when they are asked for. So one event is
// enough for each.
type line struct {
	subject int32   // of its events: the member, and which of its lines it is
	perByte float64 // nanoseconds
	freeAt  float64
	busy    float64 // nanoseconds spent serving
	queue   []crossing
	first   int   // of queue: those before are done
	due     int64 // when the first one is across; an event at another time is of the past
}

// lineBits are those of the subject of a line's events that tell which line it is.
const lineBits = 8

// newLine is a line of a member, of so many bytes a second: the interface is number 0.
func (m *member) newLine(number int, rate float64) line {
	return line{subject: int32(m.number<<lineBits | number), perByte: perSecond(rate)}
}

// crossing is a command, or a page of one, that crosses the line.
type crossing struct {
	arrival float64
	last    float64 // when the last of its pages is there
	bytes   int
	page    int64 // of an SSD with channels
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
func (l *line) cross(a *Array, c crossing) {
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
		a.events.add(l.due, lineIsFree, l.subject)
	}
}

// crossed takes the command on that is across one of the lines of a member.
func (a *Array) crossed(subject int32) {
	m := a.members[subject>>lineBits]
	l := &m.line
	channel := int(subject&(1<<lineBits-1)) - 1
	if channel >= 0 {
		l = &m.flash.channels[channel]
	}
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
		a.events.add(l.due, lineIsFree, l.subject)
	}
	if channel >= 0 {
		m.overChannel(a, channel, c)
	} else if cmd := a.commands.at(c.id); cmd.pages < 2 {
		a.commandGoesOn(c.id)
	} else {
		cmd.pages--
	}
}
