package array

import "math"

// pageSize is the unit in which SSDs map, program and read.
const pageSize = 4096

// member is one device behind the layout.
type member struct {
	number  int
	group   Group
	failed  bool
	slow    float64 // times slower than the group says
	waiting int     // operations it has not answered yet
	busy    float64 // nanoseconds spent serving

	disk  *disk  // of a hard disk
	flash *flash // of an SSD
	units []float64
	line  server // interface of an SSD or NVMe drive
}

func newMember(number int, g Group) *member {
	m := &member{number: number, group: g, slow: g.Slow}
	switch g.Medium {
	case HardDisk:
		m.disk = newDisk(m, g)
	case Flash:
		m.flash = newFlash(g)
		m.line = server{perByte: perSecond(float64(g.Interface))}
	case LowLatency:
		m.units = make([]float64, g.Units)
		m.line = server{perByte: perSecond(float64(g.Interface))}
	}
	return m
}

// submit takes a member operation at the present time.
func (m *member) submit(a *Array, id int32) {
	m.waiting++
	s := &a.subs[id]
	a.counters.memberOperations++
	switch {
	case m.disk != nil:
		m.disk.submit(a, id, s.piece)
	case m.flash != nil:
		a.events.add(m.serveFlash(a.now, s.piece), eventSub, id)
	default:
		a.events.add(m.serveUnits(a.now, s.piece), eventSub, id)
	}
}

// serveUnits answers with the first unit of a low-latency drive that is free:
// it updates in place, so reads and writes take the same time.
func (m *member) serveUnits(now int64, p piece) int64 {
	unit := 0
	for i, free := range m.units {
		if free < m.units[unit] {
			unit = i
		}
	}
	service := float64(m.group.ReadTime) * 1e9
	if p.write {
		service = float64(m.group.ProgramTime) * 1e9
	}
	service *= m.slow
	m.units[unit] = max(m.units[unit], float64(now)) + service
	m.busy += service / float64(len(m.units))
	return m.line.pass(int64(math.Ceil(m.units[unit])), p.length)
}

// serveFlash reads or programs the pages of a piece.
func (m *member) serveFlash(now int64, p piece) int64 {
	first, last := p.offset/pageSize, (p.offset+int64(p.length)-1)/pageSize
	if !p.write {
		done := float64(now)
		for page := first; page <= last; page++ {
			done = max(done, m.flash.read(float64(now), int32(page), m.slow))
		}
		return m.line.pass(int64(math.Ceil(done)), p.length)
	}
	at := float64(m.line.pass(now, p.length))
	done := at
	for page := first; page <= last; page++ {
		done = max(done, m.flash.write(at, int32(page), m.slow))
	}
	return int64(math.Ceil(done))
}

// stableAt is when all that was written before now is on stable media. SSDs
// here have capacitors; a hard disk with a volatile cache has to write it.
func (m *member) stableAt(now int64) int64 {
	if m.disk == nil || !m.group.WriteCaching || m.failed {
		return now
	}
	return max(now, int64(m.disk.endTime)) + int64(m.disk.model.rotation)
}

// busyShare is the part of the time until now that the member was busy.
func (m *member) busyTime() float64 {
	if m.flash != nil {
		return m.flash.busy / float64(len(m.flash.dies))
	}
	return m.busy
}
