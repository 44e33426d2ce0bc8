package array

import (
	"math"

	"patientheron/core/mechanics"
)

// pageSize is the unit in which SSDs map, program and read.
const pageSize = 4096

// piece is a range of one member to read or write.
type piece struct {
	member int
	offset int64
	length int
	write  bool
}

// command is one operation of one member, for a job.
type command struct {
	job    int32
	member int32
	step   commandStep
	piece  piece
	pages  int32 // of an SSD with channels: that are on their way
	ready  int64 // and when the last of those that are not is there
}

type commandStep uint8

const (
	commandToMedium commandStep = iota // over the interface: to the media
	commandDone
	commandToMember // over the expander: to the member
	commandAcross   // and on the way back: done
	commandGivenUp  // the member could not read it
)

// member is one device behind the layout.
type member struct {
	number  int
	group   Group
	failed  bool
	upTo    int64 // of a failed one: it holds what is before, made anew
	rebuild *rebuild
	shelf   *shelf  // nil where nothing is said of one
	slow    float64 // times slower than the group says
	waiting int     // pieces that it was given or will be, and has not answered
	busy    float64 // nanoseconds spent serving
	tails   [64]int64
	tail    int // of tails: the next one to be replaced

	errors, trying float64 // share of its reads that fail, and nanoseconds until it gives one up
	drawn          uint64  // how often chance was asked
	rotten         []int64 // places that no longer hold what was written

	zones *zones // nil where any place can be written
	disk  *disk  // of a hard disk
	flash *flash // of an SSD
	units []float64
	line  line // interface of an SSD or NVMe drive
}

func newMember(number int, g Group, scale int, models map[mechanics.Disk]*mechanics.Model) *member {
	m := &member{number: number, group: g, slow: g.Slow}
	for i := range m.tails {
		m.tails[i] = -1
	}
	switch g.Medium {
	case HardDisk:
		m.disk = newDisk(m, models)
	case Flash:
		m.flash = newFlash(g, scale)
		m.line = m.newLine(0, float64(g.Interface))
		for i := range g.Channels {
			m.flash.channels = append(m.flash.channels, m.newLine(i+1, float64(g.ChannelRate)))
		}
	case LowLatency:
		m.units = make([]float64, g.Units)
		m.line = m.newLine(0, float64(g.Interface))
	}
	return m
}

// has reports whether the member holds a range, which one that failed does as far
// as it was rebuilt.
func (m *member) has(end int64) bool { return !m.failed || end <= m.upTo }

// missed notes that a range is written without the member, which will have to have
// it when it is made anew.
func (m *member) missed(a *Array, place, length int64) {
	if m.rebuild != nil {
		m.rebuild.touch(a, place, length)
	}
}

// issue sends a piece to its member on behalf of a job.
func (a *Array) issue(n int32, p piece) {
	m := a.members[p.member]
	if !m.has(p.offset+int64(p.length)) && m.rebuild == nil { // it failed after this was planned
		if j := a.jobs.at(n); !p.write {
			j.failed = true
		}
		m.waiting--
		return
	}
	if m.zones != nil && p.write {
		if refusal := m.zones.write(p.offset, p.offset+int64(p.length)); refusal != 0 {
			j := a.jobs.at(n)
			j.failed, j.refusal = true, refusal
			a.counters.zonesRefused++
			m.waiting--
			return
		}
	}
	id := a.commands.take()
	c := a.commands.at(id)
	*c = command{job: n, member: int32(p.member), piece: p}
	a.jobs.at(n).pending++
	a.counters.memberOperations++
	m.toShelf(a, id, c)
}

// commandFinished ends a command.
func (a *Array) commandFinished(id int32) {
	c := a.commands.at(id)
	m, n := a.members[c.member], c.job
	if m.flash != nil && m.flash.volatile != nil && c.piece.write {
		m.flash.volatile.answered(id)
	}
	if m.errors > 0 && !c.piece.write && c.step != commandGivenUp && c.step != commandAcross && m.drawError() {
		c.step = commandGivenUp
		a.events.add(a.now+int64(m.trying), partGoesOn, id)
		return
	}
	if m.fromShelf(a, id, c) {
		return
	}
	if len(m.rotten) > 0 {
		a.meetRot(m, c)
	}
	m.waiting--
	if c.step == commandGivenUp {
		a.recover(n, c.piece)
	}
	a.commands.give(id)
	a.partDone(n, false)
}

// meetRot lets a write make rotten places anew, and counts what a read is given of them.
func (a *Array) meetRot(m *member, c *command) {
	from, to := c.piece.offset, c.piece.offset+int64(c.piece.length)
	if c.piece.write {
		healed := m.healed(from, to)
		if a.jobs.at(c.job).purpose == forScrub {
			a.counters.rotRepaired += int64(healed)
		}
	} else if a.jobs.at(c.job).purpose != forScrub {
		a.counters.rotServed += int64(m.rottenIn(from, to))
	}
}

// submit takes a command at the present time.
func (m *member) submit(a *Array, id int32, c *command) {
	p := &c.piece
	switch {
	case m.disk != nil:
		m.disk.submit(a, id, p)
	case p.write:
		c.step = commandToMedium
		m.line.cross(a, crossing{arrival: float64(a.now), bytes: p.length, id: id})
	case m.flash != nil && m.flash.channels != nil:
		m.readOverChannels(a, id, c)
	default:
		// Pages cross the line while others are still being read.
		first, last := m.read(float64(a.now), p)
		c.step = commandDone
		m.line.cross(a, crossing{arrival: first, last: last, bytes: p.length, id: id})
	}
}

// commandGoesOn takes a command to its next step.
func (a *Array) commandGoesOn(id int32) {
	c := a.commands.at(id)
	switch c.step {
	case commandToMedium:
		a.members[c.member].write(a, id, c)
	case commandToMember:
		c.step = commandToMedium
		a.members[c.member].submit(a, id, c)
	default:
		a.commandFinished(id)
	}
}

// write puts what came over the line on the media.
func (m *member) write(a *Array, id int32, c *command) {
	at := float64(a.now)
	if m.flash != nil {
		if m.flash.channels != nil {
			m.writeOverChannels(a, id, c)
			return
		}
		first, last := pages(&c.piece)
		for page := first; page <= last; page++ {
			at = max(at, m.writePage(a, id, page, m.flash.nextDie()))
		}
	} else {
		at = m.unit(float64(a.now), float64(m.group.ProgramTime)*1e9)
	}
	c.step = commandDone
	a.events.add(int64(math.Ceil(at)), partGoesOn, id)
}

// takes is how much of a page of flash a page takes that is written now.
func (m *member) takes(a *Array) float64 {
	if m.group.Compresses {
		return 1 - a.compressible
	}
	return 1
}

// read is when the first and the last page of a piece are ready for the line.
func (m *member) read(now float64, p *piece) (ready, complete float64) {
	if m.flash == nil {
		at := m.unit(now, float64(m.group.ReadTime)*1e9)
		return at, at
	}
	first, last := pages(p)
	ready, complete = math.Inf(1), now
	for page := first; page <= last; page++ {
		at := m.flash.read(now, page, m.slow)
		ready, complete = min(ready, at), max(complete, at)
	}
	return ready, complete
}

func pages(p *piece) (first, last int64) {
	return p.offset / pageSize, (p.offset + int64(p.length) - 1) / pageSize
}

// unit serves with the first unit of a low-latency drive that is free: it updates in
// place, so that nothing is ever cleaned.
func (m *member) unit(now, service float64) float64 {
	unit := 0
	for i, free := range m.units {
		if free < m.units[unit] {
			unit = i
		}
	}
	service *= m.slow
	m.units[unit] = max(m.units[unit], now) + service
	m.busy += service / float64(len(m.units))
	return m.units[unit]
}

// busyTime is the time until now that the member spent serving.
func (m *member) busyTime(now int64) float64 {
	ahead := 0.0
	switch {
	case m.disk != nil:
		m.disk.countReading(float64(now))
		return m.busy - max(m.disk.until-float64(now), 0)
	case m.flash != nil:
		for _, free := range m.flash.dies {
			ahead += max(free-float64(now), 0)
		}
		return (m.flash.busy - ahead) / float64(len(m.flash.dies))
	}
	for _, free := range m.units {
		ahead += max(free-float64(now), 0)
	}
	return m.busy - ahead/float64(len(m.units))
}

// follows reports whether a read of a disk goes on where one of the last pieces ended,
// or a little behind it.
func (m *member) follows(offset int64) bool {
	for _, tail := range m.tails {
		if gap := offset - tail; tail >= 0 && gap >= 0 && gap <= m.disk.across {
			return true
		}
	}
	return false
}

// noteTail remembers where a read of a disk ended, in the place of what it goes on from.
func (m *member) noteTail(offset int64, length int) {
	for i, tail := range m.tails {
		if gap := offset - tail; tail >= 0 && gap >= 0 && gap <= m.disk.across {
			m.tails[i] = offset + int64(length)
			return
		}
	}
	m.tails[m.tail] = offset + int64(length)
	m.tail = (m.tail + 1) % len(m.tails)
}
