package array

import (
	"math/bits"
	"slices"
)

// destage is how a cache writes out what is dirty: the oldest blocks in the order of
// their place, neighbours together, whole stripes where the next level has parity.
type destage struct {
	unit    int64   // what is written together at most: whole stripes
	gathers bool    // whether less than a stripe costs more
	stripe  int64   // when it does
	depth   int     // writes at a time at most, large ones for several
	flying  int     // under way
	batch   []int32 // nodes to be written next, the last one first
	ticking bool
	ticked  uint64 // the cache's clock at the last look
	old     uint64 // and at the one before: what is older has waited long enough
}

const (
	// destageBatch is how many of the oldest dirty blocks are put in order.
	destageBatch = 1024
	// destageUnit is about what is written together.
	destageUnit = 2 << 20
	// destageTick is how often what has been dirty for longer is written, although
	// its stripe is not complete.
	destageTick = 100e6 // nanoseconds
)

// fit tells a cache what it writes to.
func (c *cache) fit(a *Array, level int) {
	c.out.unit, c.out.depth = destageUnit, 32
	if slices.ContainsFunc(a.caches[level+1:], func(below *cache) bool { return below.spec.Mode == WriteBack }) {
		return // that one takes what is written, and gathers it
	}
	c.out.depth = max(32, 32*a.layout.members)
	if a.layout.parity > 0 {
		c.out.gathers, c.out.stripe = true, a.layout.width()
		c.out.unit = c.out.stripe * max(destageUnit/c.out.stripe, 1)
	}
}

// most is how many writes may be under way: the fuller the cache, the more, and all
// while a flush waits.
func (c *cache) most() int {
	d := &c.out
	if len(c.flushes) > 0 || c.isThrough() {
		return d.depth
	}
	return max(d.depth/8, d.depth*c.unclean/c.limit)
}

// weight is for how many writes one counts: a large one keeps all members busy.
func weight(length int) int { return 1 + length>>16 }

// pressed reports whether there is no time to wait for stripes to be completed.
func (c *cache) pressed() bool {
	return len(c.flushes) > 0 || c.isThrough() || len(c.stalled) > 0 || c.unclean > c.limit/4
}

// destage writes out as much as may be under way.
func (c *cache) destage(a *Array) {
	d := &c.out
	if d.gathers && !d.ticking && c.unclean > 0 {
		d.ticking = true
		a.events.add(a.now+destageTick, destageOn, int32(c.level))
	}
	for most := c.most(); d.flying < most; {
		n := c.nextDirty()
		if n < 0 {
			return
		}
		c.writeOut(a, n)
	}
}

// destageLater is destage at a tick of its clock.
func (c *cache) destageLater(a *Array) {
	c.out.ticking = false
	c.out.old, c.out.ticked = c.out.ticked, c.clock
	c.destage(a)
}

// nextDirty is the next block to be written, -1 for none: of the oldest ones in the
// order of their place, where gathering allows it.
func (c *cache) nextDirty() int32 {
	d := &c.out
	for {
		for len(d.batch) > 0 {
			n := d.batch[len(d.batch)-1]
			d.batch = d.batch[:len(d.batch)-1]
			if k := &c.nodes[n]; k.listed == inDirty && k.leaving == 0 {
				return n
			}
		}
		young := uint64(0)
		if d.gathers && !c.pressed() {
			young = d.old + 1
		}
		for n := c.dirty.first; n >= 0 && len(d.batch) < destageBatch; n = c.nodes[n].next {
			if young > 0 && c.nodes[n].stamp >= young {
				break
			}
			if c.nodes[n].leaving == 0 {
				d.batch = append(d.batch, n)
			}
		}
		if len(d.batch) == 0 {
			return -1
		}
		slices.SortFunc(d.batch, func(x, y int32) int { return int(min(max(c.nodes[y].block-c.nodes[x].block, -1), 1)) })
	}
}

// completes writes out the stripes that a write has completed.
func (c *cache) completes(a *Array, j *job) {
	d := &c.out
	if !d.gathers || c.pressed() || j.offset/d.stripe == j.end()/d.stripe || d.flying >= c.most() {
		return
	}
	block := (j.end()/d.stripe*d.stripe - 1) >> c.shift
	if n := c.find(block); n >= 0 && c.nodes[n].listed == inDirty && c.nodes[n].leaving == 0 {
		if first, last := c.run(block); (last+1)<<c.shift-first<<c.shift >= d.stripe {
			c.writeOut(a, n)
		}
	}
}

// run is the dirty blocks around one that are written with it: its neighbours within
// the unit that nobody is writing.
func (c *cache) run(block int64) (first, last int64) {
	unit := (block << c.shift) / c.out.unit
	begin, end := unit*c.out.unit>>c.shift, ((unit+1)*c.out.unit-1)>>c.shift
	ready := func(b int64) bool {
		n := c.find(b)
		return n >= 0 && c.nodes[n].dirty != 0 && c.nodes[n].leaving == 0
	}
	for first = block; first > begin && ready(first-1); first-- {
	}
	for last = block; last < end && ready(last+1); last++ {
	}
	return first, last
}

// writeOut writes a block and those around it. Between two dirty parts of a block,
// clean ones that are there are written with them.
func (c *cache) writeOut(a *Array, n int32) {
	first, last := c.run(c.nodes[n].block)
	from, to := int64(-1), int64(-1)
	for b := first; b <= last; b++ {
		i := c.find(b)
		k := &c.nodes[i]
		rest := k.dirty
		k.left = k.stamp
		for rest != 0 {
			low := bits.TrailingZeros64(rest)
			high := 64 - bits.LeadingZeros64(rest)
			if hull := mask(int64(low), int64(high)); k.valid&hull != hull {
				high = low + bits.TrailingZeros64(^(rest >> low))
			}
			rest &^= mask(int64(low), int64(high))
			start := b<<c.shift + int64(low)<<c.grain
			end := b<<c.shift + int64(high)<<c.grain
			if start != to {
				c.send(a, from, to)
				from = start
			}
			to = min(end, a.size)
		}
	}
	c.send(a, from, to)
}

// send writes a range out to the next level.
func (c *cache) send(a *Array, from, to int64) {
	if from < 0 {
		return
	}
	first, last := c.blocksOf(from, to)
	n := a.newJob(writes, forDestage, from, int(to-from))
	j := a.jobs.at(n)
	j.level, j.tag, j.lasting = int8(c.level+1), c.level, !c.volatile() || c.spec.Log != nil
	for b := first; b <= last; b++ {
		i := c.find(b)
		k := &c.nodes[i]
		touched, _ := c.parts(b, from, to)
		c.soiled -= c.sizeOf(k.dirty & touched)
		if k.dirty &^= touched; k.dirty == 0 {
			c.leaveList(i)
		}
		if k.leaving == 0 {
			c.leaving++
		}
		k.leaving++
	}
	if a.watch != nil {
		a.watch.leaving(c.level, n, from, int(to-from))
	}
	c.out.flying += weight(int(to - from))
	c.written += to - from
	c.passing += to - from
	a.enter(n)
}

// destaged ends one write of a destage. What the members could not take is lost.
func (c *cache) destaged(a *Array, j job) {
	c.out.flying -= weight(j.length)
	c.passing -= int64(j.length)
	if j.failed {
		c.lost += int64(j.length)
	}
	first, last := c.blocksOf(j.offset, j.end())
	for b := first; b <= last; b++ {
		i := c.find(b)
		k := &c.nodes[i]
		if k.leaving--; k.leaving == 0 {
			c.leaving--
			c.settled(a, i, k.left)
		}
	}
	c.wake(a)
	c.destage(a)
}

// wake takes the writes that waited, as far as there is room now.
func (c *cache) wake(a *Array) {
	for len(c.stalled) > 0 {
		n := c.stalled[0]
		j := a.jobs.at(n)
		if !c.hasRoom(j) && !c.down && !c.isThrough() && !c.refuses(j) {
			return
		}
		c.stalled = c.stalled[1:]
		c.admit(a, n, j)
	}
}

// admit takes a write that has waited.
func (c *cache) admit(a *Array, n int32, j *job) {
	for _, above := range a.caches[:c.level] { // they may have fetched what was there while it waited
		above.outdate(a, j)
	}
	if c.down || c.isThrough() || c.refuses(j) || !c.fits(j) {
		c.supersede(a, n, j)
		c.pass(a, n)
		return
	}
	c.take(a, n, j)
	c.answer(a, n, j.length)
}
