package array

import "math"

// Of an SSD with channels each page crosses the one of its die, and then or before the
// interface, on its own: pages of one command go by several channels at a time.

// channelOf is the channel of a die.
func (f *flash) channelOf(die int) int { return die % len(f.channels) }

// nextChannel is the one by which the next page is written: all in turn.
func (f *flash) nextChannel() int {
	f.passing = (f.passing + 1) % len(f.channels)
	return f.passing
}

// dieBehind is the die behind a channel that programs the next page: the one that is
// free first.
func (f *flash) dieBehind(channel int) int {
	best := channel
	for die := channel; die < len(f.dies); die += len(f.channels) {
		if f.dies[die] < f.dies[best] {
			best = die
		}
	}
	return best
}

// readOverChannels lets dies read the pages of a command, and channels take them from
// there.
func (m *member) readOverChannels(a *Array, id int32, c *command) {
	f := m.flash
	first, last := pages(&c.piece)
	c.pages = int32(last - first + 1)
	for page := first; page <= last; page++ {
		at := f.read(float64(a.now), page, m.slow)
		f.channels[f.channelOf(f.dieOf(page))].cross(a, crossing{arrival: at, last: at, bytes: pageSize, page: page, id: id})
	}
}

// writeOverChannels lets channels take the pages of a command to dies. What cleaning
// moves goes with them.
func (m *member) writeOverChannels(a *Array, id int32, c *command) {
	f := m.flash
	takes := m.takes(a)
	first, last := pages(&c.piece)
	c.pages, c.ready = int32(last-first+1), a.now
	for page := first; page <= last; page++ {
		moved := f.moving / float64(f.spreads())
		f.moving -= moved
		f.channels[f.nextChannel()].cross(a, crossing{arrival: float64(a.now), bytes: int(takes*pageSize + moved), page: page, id: id})
	}
}

// overChannel takes a page on that has crossed a channel: to a die, or to the interface.
func (m *member) overChannel(a *Array, channel int, c crossing) {
	cmd, now := a.commands.at(c.id), float64(a.now)
	p := &cmd.piece
	if !p.write {
		from, to := max(p.offset, c.page*pageSize), min(p.offset+int64(p.length), (c.page+1)*pageSize)
		cmd.step = commandDone
		m.line.cross(a, crossing{arrival: now, last: now, bytes: int(to - from), id: c.id})
		return
	}
	done := m.writePage(a, c.id, c.page, m.flash.dieBehind(channel))
	cmd.ready = max(cmd.ready, int64(math.Ceil(done)))
	if cmd.pages--; cmd.pages == 0 {
		cmd.step = commandDone
		a.events.add(cmd.ready, partGoesOn, c.id)
	}
}

// channelTime is the mean time that the channels spent carrying.
func (f *flash) channelTime() (busy float64) {
	for i := range f.channels {
		busy += f.channels[i].busy / float64(len(f.channels))
	}
	return busy
}
