package array

import "math/bits"

// cache is one level in front of the members: blocks in memory or on SSDs. It serves
// nothing that it did not fetch and was not given, by parts of a block.
type cache struct {
	blocks
	spec  Cache
	level int
	line  server // its own memory or devices
	hit   int64
	limit int // blocks that may be dirty

	unclean  int    // blocks that are dirty or being written
	soiled   int64  // bytes of the parts that are dirty
	passing  int64  // bytes that are being written
	leaving  int    // blocks that are being written
	clock    uint64 // counts what became dirty
	changes  [1 << 16]uint32
	stalled  []int32 // writes for which there is no room, oldest first
	flushes  []cacheFlush
	out      destage
	ahead    readAhead
	log      server // that keeps what was flushed
	logTime  int64
	unlogged int64  // bytes taken since the last flush
	logged   uint64 // what became dirty up to then is in the log
	down     bool   // it keeps nothing: everything goes past
	through  bool   // it keeps nothing dirty
	alone    bool   // nor does it where nobody is left to hold that as well

	hits, misses, written, lost, skipped int64
}

// cacheFlush is a flush that waits until what was dirty when it came is written.
type cacheFlush struct {
	job   int32
	stamp uint64
	left  int // blocks
}

func newCache(c Cache, level int) *cache {
	k := &cache{blocks: newBlocks(c), spec: c, level: level, line: server{perByte: perSecond(float64(c.Throughput))}, hit: int64(c.HitTime.Duration())}
	k.ahead.size = int64(c.ReadAhead)
	if c.Log != nil {
		k.log.perByte, k.logTime = perSecond(float64(c.Log.Throughput)), int64(c.Log.Time.Duration())
	}
	k.limit = max(int(float64(k.capacity)*float64(c.DirtyLimit)), 1)
	return k
}

// volatile reports whether what is dirty is lost without power.
func (c *cache) volatile() bool {
	return c.spec.Mode == WriteBack && !c.spec.Protected && c.spec.Devices == 0
}

// enter begins a job on this level.
func (c *cache) enter(a *Array, n int32) {
	j := a.jobs.at(n)
	switch {
	case c.down:
		if j.kind == writes { // what is being fetched is old, should it come back
			c.outdate(a, j)
		}
		c.pass(a, n)
	case j.kind == reads:
		c.read(a, n, j)
	case j.kind == writes:
		c.write(a, n, j)
	case j.kind == trims:
		c.supersede(a, n, j)
		c.makeRoom(a)
		c.pass(a, n)
	case (c.volatile() || j.purpose == forSnapshot) && c.unclean > 0:
		c.flush(a, n)
	default:
		c.pass(a, n)
	}
}

// pass lets a job go on to the next level.
func (c *cache) pass(a *Array, n int32) {
	a.jobs.at(n).level++
	a.enter(n)
}

// answer lets a job leave when the cache's own line and time allow it.
func (c *cache) answer(a *Array, n int32, length int) {
	j := a.jobs.at(n)
	if j.place == placeFull {
		a.spend(j, 0)
	}
	j.place = placeCaches + int8(c.level)
	at := c.line.pass(a.now, length) + c.hit
	if c.spec.Mirrored && j.kind == writes {
		at = max(at, a.mirror.line.pass(a.now, length)+a.mirror.time)
	}
	a.after(at, n, stepLeave)
}

// isThrough reports whether it keeps nothing dirty.
func (c *cache) isThrough() bool { return c.through || c.alone }

// refuses reports whether a write goes past: a large one, or one that has to last, as
// what another cache has kept safe until now has to.
func (c *cache) refuses(j *job) bool { return c.bypasses(j.length) || j.lasting && c.volatile() }

func (c *cache) bypasses(length int) bool {
	return c.spec.Bypass > 0 && int64(length) >= int64(c.spec.Bypass)
}

// read answers what is there, and fetches what is not, and what a stream will ask for.
func (c *cache) read(a *Array, n int32, j *job) {
	from, to := j.offset, j.end()
	c.serve(a, n, j)
	if c.ahead.size > 0 && !c.bypasses(int(to-from)) {
		c.follow(a, from, to)
	}
}

// serve answers what is there of a read, and fetches what is not.
func (c *cache) serve(a *Array, n int32, j *job) {
	from, to := j.offset, j.end()
	first, last := c.blocksOf(from, to)
	complete, nothing := true, true
	for b := first; b <= last; b++ {
		touched, _ := c.parts(b, from, to)
		k := c.find(b)
		if k < 0 || c.nodes[k].valid&touched != touched {
			complete = false
		}
		if k >= 0 && c.nodes[k].valid&touched != 0 {
			nothing = false
			c.touch(k)
		}
	}
	if complete {
		c.hits++
		c.toldServed(a, n, from, to)
		c.answer(a, n, j.length)
		return
	}
	if len(c.ahead.flying) > 0 && c.awaits(n, from, to) {
		j.step = stepWait
		return
	}
	c.misses++
	keeps := !c.bypasses(j.length)
	if nothing && !keeps {
		c.pass(a, n)
		return
	}
	j.step = stepFetch
	j.pending++ // so that none completes it while the others begin
	low, high := from, to
	if keeps && c.spec.Fetch == FetchBlocks {
		low, high = first<<c.shift, min((last+1)<<c.shift, a.size)
	}
	c.lacking(low, high, func(from, to int64) {
		p := a.part(n, reads, from, int(to-from))
		if keeps {
			f := a.jobs.at(p)
			f.purpose, f.tag, f.stamp = forFetch, c.level, c.stampOf(from, to)
		}
		a.enter(p)
	})
	c.toldServed(a, n, from, to)
	a.partDone(n, false)
}

// lacking calls each for the longest ranges of one that are not there.
func (c *cache) lacking(from, to int64, each func(from, to int64)) {
	first, last := c.blocksOf(from, to)
	begin := int64(-1)
	for b := first; b <= last; b++ {
		touched, _ := c.parts(b, from, to)
		lacks := touched
		if k := c.find(b); k >= 0 {
			lacks = touched &^ c.nodes[k].valid
		}
		for touched != 0 {
			bit := bits.TrailingZeros64(touched)
			place := b<<c.shift + int64(bit)<<c.grain
			isLacking := lacks>>bit&1 == 1
			if isLacking && begin < 0 {
				begin = max(place, from)
			}
			if !isLacking && begin >= 0 {
				each(begin, place)
				begin = -1
			}
			touched &= touched - 1
		}
	}
	if begin >= 0 {
		each(begin, to)
	}
}

// stampOf changes when anything is written to the blocks of a range.
func (c *cache) stampOf(from, to int64) (sum uint64) {
	first, last := c.blocksOf(from, to)
	for b := first; b <= last; b++ {
		sum += uint64(c.changes[b&(1<<16-1)])
	}
	return sum
}

func (c *cache) changed(block int64) { c.changes[block&(1<<16-1)]++ }

// mostBehind is how far the cache's own line may be behind until it keeps nothing
// more of what was fetched.
const mostBehind = 50e6 // nanoseconds

// fetched keeps what was fetched, unless it was written to meanwhile. What is kept
// goes over the cache's own line, which nobody waits for.
func (c *cache) fetched(a *Array, n int32, j *job) {
	from, to := j.offset, j.end()
	if c.down || j.failed || j.stamp != c.stampOf(from, to) || c.isOld(a, j) {
		return
	}
	if c.line.behind(a.now) > mostBehind {
		c.skipped += int64(j.length)
		return
	}
	first, last := c.blocksOf(from, to)
	for b := first; b <= last; b++ {
		_, covered := c.parts(b, from, to)
		c.keep(a, n, b, covered)
	}
	c.line.pass(a.now, j.length)
}

// isOld reports whether what was fetched is about to be written by a write that waits
// further down. Kept, it could be written out once more behind that.
func (c *cache) isOld(a *Array, j *job) bool {
	for _, below := range a.caches[c.level+1:] {
		if len(below.stalled) > 0 && below.waitsBefore(a, j) {
			return true
		}
	}
	return false
}

// keep holds parts of a block, in place of the block used longest ago where there is
// no room. It reports whether it does.
func (c *cache) keep(a *Array, n int32, block int64, parts uint64) bool {
	if parts == 0 {
		return false
	}
	k := c.find(block)
	if k < 0 {
		if c.full() {
			if c.clean.first < 0 {
				return false
			}
			c.evict(a, c.clean.first)
		}
		k = c.insert(block)
		c.list(k, inClean)
	} else {
		c.touch(k)
	}
	parts &^= c.nodes[k].dirty
	c.nodes[k].valid |= parts
	c.toldKept(a, n, block, parts)
	return true
}

// evict removes a clean block.
func (c *cache) evict(a *Array, n int32) {
	if a.watch != nil {
		a.watch.forgot(c.level, c.nodes[n].block<<c.shift, 1<<c.shift)
	}
	c.remove(n)
}

// write takes a write, lets it wait for room, or lets it past.
func (c *cache) write(a *Array, n int32, j *job) {
	if len(c.stalled) > 0 && c.waitsBefore(a, j) {
		c.wait(n, j)
		return
	}
	if c.spec.Mode == WriteBack && !c.isThrough() && !c.refuses(j) && c.fits(j) {
		if len(c.stalled) > 0 || !c.hasRoom(j) {
			c.wait(n, j)
			return
		}
		c.take(a, n, j)
		c.answer(a, n, j.length)
		c.completes(a, j)
		c.destage(a)
		return
	}
	c.supersede(a, n, j)
	c.makeRoom(a)
	if (c.spec.Mode == WriteThrough || c.isThrough()) && !c.bypasses(j.length) {
		first, last := c.blocksOf(j.offset, j.end())
		for b := first; b <= last; b++ {
			_, covered := c.parts(b, j.offset, j.end())
			c.keep(a, n, b, covered)
		}
		c.line.pass(a.now, j.length)
	}
	c.pass(a, n)
}

// makeRoom takes writes that wait, after something else than a destage has made blocks
// clean.
func (c *cache) makeRoom(a *Array) {
	if len(c.stalled) > 0 {
		c.wake(a)
		c.destage(a)
	}
}

// wait lets a write wait for room, or for those that wait before it.
func (c *cache) wait(n int32, j *job) {
	j.step, j.place = stepWait, placeFull
	c.stalled = append(c.stalled, n)
}

// waitsBefore reports whether a write that waits meets the range of one that came
// later, which must not overtake it.
func (c *cache) waitsBefore(a *Array, j *job) bool {
	for _, n := range c.stalled {
		if other := a.jobs.at(n); other.offset < j.end() && j.offset < other.end() {
			return true
		}
	}
	return false
}

// fits reports whether a write leaves every part it touches complete: a piece of a
// part that is not there cannot be kept.
func (c *cache) fits(j *job) bool {
	first, last := c.blocksOf(j.offset, j.end())
	for _, b := range [2]int64{first, last} {
		touched, covered := c.parts(b, j.offset, j.end())
		if touched == covered {
			continue
		}
		if k := c.find(b); k < 0 || c.nodes[k].valid&touched&^covered != touched&^covered {
			return false
		}
	}
	return true
}

// hasRoom reports whether so many more blocks may be dirty.
func (c *cache) hasRoom(j *job) bool {
	first, last := c.blocksOf(j.offset, j.end())
	if c.unclean == 0 || c.unclean+int(last-first+1) <= c.limit {
		return true
	}
	count := 0
	for b := first; b <= last; b++ {
		if k := c.find(b); k < 0 || c.nodes[k].isClean() {
			count++
		}
	}
	return c.unclean+count <= c.limit
}

func (k *node) isClean() bool { return k.dirty == 0 && k.leaving == 0 }

// take keeps a write as dirty: first in the blocks that are there, so that none of
// them has to make room for another.
func (c *cache) take(a *Array, n int32, j *job) {
	first, last := c.blocksOf(j.offset, j.end())
	c.unlogged += int64(j.length)
	for b := first; b <= last; b++ {
		c.changed(b)
		if i := c.find(b); i >= 0 {
			c.soil(i, j)
		}
	}
	for b := first; b <= last; b++ {
		if c.find(b) >= 0 {
			continue
		}
		if c.full() && c.clean.first >= 0 {
			c.evict(a, c.clean.first)
		}
		c.soil(c.insert(b), j)
	}
	if a.watch != nil {
		a.watch.kept(c.level, n, j.offset, j.length)
	}
}

// soil makes those parts of a block dirty that a write touches.
func (c *cache) soil(i int32, j *job) {
	k := &c.nodes[i]
	touched, _ := c.parts(k.block, j.offset, j.end())
	if k.isClean() {
		c.unclean++
	}
	k.valid |= touched
	if k.dirty == 0 {
		c.clock++
		k.stamp = c.clock
		c.list(i, inDirty)
	}
	c.soiled += c.sizeOf(touched &^ k.dirty)
	k.dirty |= touched
}

// sizeOf is how many bytes parts of a block are.
func (c *cache) sizeOf(parts uint64) int64 { return int64(bits.OnesCount64(parts)) << c.grain }

// supersede removes what a write that goes past makes old. Of a dirty part that it
// covers in part the cache takes that piece: the rest exists nowhere else.
func (c *cache) supersede(a *Array, n int32, j *job) {
	first, last := c.blocksOf(j.offset, j.end())
	for b := first; b <= last; b++ {
		c.changed(b)
		i := c.find(b)
		if i < 0 {
			continue
		}
		k := &c.nodes[i]
		touched, covered := c.parts(b, j.offset, j.end())
		if k.dirty&touched != 0 && (!c.volatile() || c.spec.Log != nil) {
			j.lasting = true // it takes the place of what was safe
		}
		c.toldPiece(a, n, b, k.dirty&touched&^covered, j)
		k.valid &^= touched &^ (k.dirty & touched &^ covered)
		if k.dirty&covered != 0 {
			c.soiled -= c.sizeOf(k.dirty & covered)
			if k.dirty &^= covered; k.dirty == 0 {
				c.leaveList(i)
				c.settled(a, i, k.stamp)
			}
		}
		if k.valid == 0 && k.isClean() {
			c.evict(a, i)
		}
	}
}

// outdate removes what is not dirty of a range that is written only now, further down.
func (c *cache) outdate(a *Array, j *job) {
	first, last := c.blocksOf(j.offset, j.end())
	for b := first; b <= last; b++ {
		c.changed(b)
		i := c.find(b)
		if i < 0 {
			continue
		}
		touched, _ := c.parts(b, j.offset, j.end())
		k := &c.nodes[i]
		if k.valid &^= touched &^ k.dirty; k.valid == 0 && k.isClean() {
			c.evict(a, i)
		}
	}
}

// flush lets a job wait until what is dirty now is written.
func (c *cache) flush(a *Array, n int32) {
	if j := a.jobs.at(n); c.spec.Log != nil && j.purpose != forSnapshot {
		at := c.log.pass(a.now, int(c.unlogged)) + c.logTime
		c.unlogged, c.logged = 0, c.clock
		j.place = placeCaches + int8(c.level)
		a.after(at, n, stepPast) // what went past the cache is not in the log
		return
	}
	a.jobs.at(n).step = stepWait
	c.flushes = append(c.flushes, cacheFlush{job: n, stamp: c.clock, left: c.dirty.count + c.leaving})
	c.destage(a)
}

// settled notes that what became dirty with a stamp is written, or need not be any
// more. A block of which nothing else has to be written is clean.
func (c *cache) settled(a *Array, n int32, stamp uint64) {
	if k := &c.nodes[n]; k.isClean() {
		c.unclean--
		c.list(n, inClean)
	}
	for i := 0; i < len(c.flushes); {
		f := &c.flushes[i]
		if stamp <= f.stamp {
			f.left--
		}
		if f.left > 0 {
			i++
			continue
		}
		job := f.job
		c.flushes = append(c.flushes[:i], c.flushes[i+1:]...)
		c.pass(a, job)
	}
}

// forget loses all that the cache holds: dirty parts are lost for good, but for those
// that a log has, or that are held twice.
func (c *cache) forget(a *Array, twice bool) {
	for i := range c.nodes {
		k := &c.nodes[i]
		if k.dirty != 0 && (twice || c.spec.Log != nil && k.stamp <= c.logged) {
			c.toldForgot(a, k.block, k.valid&^k.dirty)
			k.valid = k.dirty
			c.changed(k.block)
			continue
		}
		if k.dirty != 0 {
			c.lost += c.sizeOf(k.dirty)
			c.soiled -= c.sizeOf(k.dirty)
			k.dirty = 0
			c.leaveList(int32(i))
			if k.leaving == 0 {
				c.unclean--
				c.list(int32(i), inClean)
			}
		}
		k.valid = 0
		c.changed(k.block)
		if a.watch != nil && (k.listed != inNone || k.leaving > 0) {
			a.watch.forgot(c.level, k.block<<c.shift, 1<<c.shift)
		}
	}
	for _, l := range []*list{&c.clean, &c.stay} {
		for l.first >= 0 {
			c.remove(l.first)
		}
	}
	if twice { // what a flush waits for is still there
		c.wake(a)
		return
	}
	waiting := c.flushes
	c.flushes = nil
	for _, f := range waiting {
		a.jobs.at(f.job).failed = true
		a.leave(f.job)
	}
	c.wake(a)
}

// toldServed, toldKept and toldPiece tell whoever watches where bytes go.
func (c *cache) toldServed(a *Array, n int32, from, to int64) {
	if a.watch == nil {
		return
	}
	first, last := c.blocksOf(from, to)
	for b := first; b <= last; b++ {
		touched, _ := c.parts(b, from, to)
		if k := c.find(b); k >= 0 {
			c.eachPart(b, c.nodes[k].valid&touched, func(low, high int64) {
				low, high = max(low, from), min(high, to)
				a.watch.served(c.level, n, low, int(high-low))
			})
		}
	}
}

func (c *cache) toldForgot(a *Array, block int64, parts uint64) {
	if a.watch != nil {
		c.eachPart(block, parts, func(low, high int64) { a.watch.forgot(c.level, low, int(high-low)) })
	}
}

func (c *cache) toldKept(a *Array, n int32, block int64, parts uint64) {
	if a.watch != nil {
		c.eachPart(block, parts, func(low, high int64) { a.watch.kept(c.level, n, low, int(high-low)) })
	}
}

func (c *cache) toldPiece(a *Array, n int32, block int64, parts uint64, j *job) {
	if a.watch != nil && j.kind == writes {
		c.eachPart(block, parts, func(low, high int64) {
			low, high = max(low, j.offset), min(high, j.end())
			a.watch.kept(c.level, n, low, int(high-low))
		})
	}
}

// eachPart calls each with the place of every part of a set.
func (c *cache) eachPart(block int64, parts uint64, each func(low, high int64)) {
	for ; parts != 0; parts &= parts - 1 {
		low := block<<c.shift + int64(bits.TrailingZeros64(parts))<<c.grain
		each(low, low+1<<c.grain)
	}
}
