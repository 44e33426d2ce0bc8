package array

import (
	"math"
	"slices"
)

// writeCache is the volatile memory of a hard disk that takes writes before they
// are on the platter: ranges in order of their place, neighbours as one.
type writeCache struct {
	size    int64
	held    int64 // bytes
	ranges  []written
	epoch   uint64 // counts the flushes
	current written
	waiting []int32 // commands for which there was no room, oldest first
	flushes []driveFlushing
	lost    int64
}

// written is a range that is to be written.
type written struct {
	from, to int64
	epoch    uint64 // of its oldest part
}

// driveFlushing is a flush that waits until what came before it is on the platter.
type driveFlushing struct {
	job   int32
	epoch uint64
}

// mostRanges is the number of ranges that a drive keeps apart.
const mostRanges = 1024

// backAtOnce is the most that is written before others have their turn.
const backAtOnce = 1 << 20

func newWriteCache(size int64) *writeCache {
	return &writeCache{size: size, current: written{-1, -1, 0}}
}

func (c *writeCache) hasRoom(length int64) bool {
	return (c.held == 0 || c.held+length <= c.size) && len(c.ranges) < mostRanges
}

// wantsTurn reports whether writing out comes before what else waits.
func (c *writeCache) wantsTurn(others bool) bool {
	if len(c.ranges) == 0 {
		return false
	}
	return !others || len(c.flushes) > 0 || c.held > c.size/4*3 || len(c.ranges) > mostRanges/4*3
}

// holds reports whether a range is in one that waits to be written.
func (c *writeCache) holds(from, to int64) bool {
	if from >= c.current.from && to <= c.current.to {
		return true
	}
	i := c.search(from)
	return i < len(c.ranges) && c.ranges[i].from <= from && to <= c.ranges[i].to
}

// search finds the first range that ends behind a place.
func (c *writeCache) search(place int64) int {
	i, _ := slices.BinarySearchFunc(c.ranges, place, func(r written, place int64) int {
		if r.to <= place {
			return -1
		}
		return 1
	})
	return i
}

// put keeps a range, as one with those it overlaps, and with neighbours of the same
// epoch, so that a flush does not wait for what came after it.
func (c *writeCache) put(from, to int64) {
	i := c.search(from)
	if i > 0 && c.ranges[i-1].to == from && c.ranges[i-1].epoch == c.epoch {
		i--
	}
	merged, j := written{from, to, c.epoch}, i
	for ; j < len(c.ranges); j++ {
		r := c.ranges[j]
		if r.from > to || r.from == to && r.epoch != c.epoch {
			break
		}
		merged = written{min(merged.from, r.from), max(merged.to, r.to), min(merged.epoch, r.epoch)}
		c.held -= r.to - r.from
	}
	c.held += merged.to - merged.from
	c.ranges = slices.Replace(c.ranges, i, j, merged)
}

// drop removes a range.
func (c *writeCache) drop(from, to int64) {
	i := c.search(from)
	for i < len(c.ranges) && c.ranges[i].from < to {
		r := c.ranges[i]
		c.held -= min(r.to, to) - max(r.from, from)
		var rest []written
		if r.from < from {
			rest = append(rest, written{r.from, from, r.epoch})
		}
		if to < r.to {
			rest = append(rest, written{to, r.to, r.epoch})
		}
		c.ranges = slices.Replace(c.ranges, i, i+1, rest...)
		i += len(rest)
	}
}

// next takes out what is written next: on from where the head is, and from the
// beginning again at the end. While a flush waits, only what it waits for.
func (c *writeCache) next(head int64) written {
	i := c.search(head)
	if len(c.flushes) > 0 {
		for range c.ranges {
			if i >= len(c.ranges) {
				i = 0
			}
			if c.ranges[i].epoch <= c.flushes[0].epoch {
				break
			}
			i++
		}
	}
	if i >= len(c.ranges) {
		i = 0
	}
	r := c.ranges[i]
	if r.to-r.from > backAtOnce {
		c.ranges[i].from += backAtOnce
		r.to = r.from + backAtOnce
	} else {
		c.ranges = slices.Delete(c.ranges, i, i+1)
	}
	return r
}

// stable reports whether all that came before the end of an epoch is written.
func (c *writeCache) stable(epoch uint64) bool {
	if c.current.from >= 0 && c.current.epoch <= epoch {
		return false
	}
	return !slices.ContainsFunc(c.ranges, func(r written) bool { return r.epoch <= epoch })
}

// takeWrite takes a write into the drive's memory, or lets it wait for room.
func (d *disk) takeWrite(a *Array, id int32, p *piece) {
	if len(d.cache.waiting) > 0 || !d.cache.hasRoom(int64(p.length)) {
		d.cache.waiting = append(d.cache.waiting, id)
		return
	}
	d.cache.put(p.offset, p.offset+int64(p.length))
	d.answer(a, id, p.length)
	if d.current == idle {
		d.serve(a)
	}
}

// writeBack writes a range out of the drive's memory.
func (d *disk) writeBack(a *Array) {
	r := d.cache.next(d.end)
	d.cache.current = r
	q := d.place(0, true, r.from, int(r.to-r.from), math.Inf(-1))
	d.move(a, &q, d.positioning(float64(a.now), &q), writingBack)
}

// wroteBack makes room for what waits, and answers the flushes that waited.
func (d *disk) wroteBack(a *Array) {
	c := d.cache
	if a.watch != nil {
		a.watch.reached(d.member.number, c.current.from, c.current.to)
	}
	c.held -= c.current.to - c.current.from
	c.current.from, c.current.to = -1, -1
	d.takeWaiting(a)
	d.answerFlushes(a)
}

// takeWaiting takes the writes that waited, as far as there is room now.
func (d *disk) takeWaiting(a *Array) {
	c := d.cache
	for len(c.waiting) > 0 {
		p := &a.commands.at(c.waiting[0]).piece
		if !c.hasRoom(int64(p.length)) {
			break
		}
		id := c.waiting[0]
		c.waiting = c.waiting[1:]
		c.put(p.offset, p.offset+int64(p.length))
		d.answer(a, id, p.length)
	}
}

func (d *disk) answerFlushes(a *Array) {
	c := d.cache
	c.flushes = slices.DeleteFunc(c.flushes, func(f driveFlushing) bool {
		if !c.stable(f.epoch) {
			return false
		}
		a.partDone(f.job, false)
		return true
	})
}

// flush lets a job wait until all that was written before is on the media, where the drive's
// memory loses what it holds.
func (m *member) flush(a *Array, n int32) {
	if m.flash != nil && m.flash.volatile != nil && !m.failed {
		m.flash.volatile.flush(a, m, n)
	}
	if m.disk == nil || m.disk.cache == nil || m.failed {
		return
	}
	c := m.disk.cache
	if c.stable(c.epoch) {
		return
	}
	a.jobs.at(n).pending++
	c.flushes = append(c.flushes, driveFlushing{n, c.epoch})
	c.epoch++
	if m.disk.current == idle {
		m.disk.serve(a)
	}
}

// losePower loses what the drive's memory held.
func (m *member) losePower(a *Array) {
	if m.flash != nil && m.flash.volatile != nil {
		m.flash.volatile.lose(float64(a.now))
	}
	if m.disk == nil || m.disk.cache == nil {
		return
	}
	c := m.disk.cache
	c.lost += c.held
	c.ranges, c.held = c.ranges[:0], 0
	c.current.to = c.current.from // what the head was writing is lost as well
	for _, f := range c.flushes {
		a.partDone(f.job, true)
	}
	c.flushes = c.flushes[:0]
	if m.disk.takeWaiting(a); m.disk.current == idle {
		m.disk.serve(a)
	}
}

// flushMembers lets a flush wait for the drives' own caches.
func (a *Array) flushMembers(n int32) {
	for _, m := range a.members {
		m.flush(a, n)
	}
}
