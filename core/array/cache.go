package array

import (
	"math/bits"
	"slices"
)

// cache is one level in front of the members: blocks in memory or on SSDs,
// the clean ones in order of their last use, the dirty ones in order of
// arrival.
type cache struct {
	spec     Cache
	shift    uint // of the block size
	capacity int
	limit    int // blocks that may be dirty
	server   server
	hit      int64

	table []int32 // open addressing: block number to node, -1 for free
	nodes []node
	spare []int32
	clean list
	dirty list

	dirtyCount int // blocks that are not clean
	destaging  int // operations under way
	stalled    []int32
	batch      []int32

	hits, misses, written, lost int64
}

// node is one cached block. Of a dirty one, low to high is what has to be
// written.
type node struct {
	block      int64
	prev, next int32
	low, high  int32
	state      nodeState
	writes     uint8 // of it that are under way
}

type nodeState uint8

const (
	isClean nodeState = iota
	isDirty
	isLeaving // being written; becomes clean unless it is written to again
)

// list is a doubly linked list of nodes.
type list struct{ first, last int32 }

func newCache(c Cache) *cache {
	blocks := int(c.Size / c.Block)
	size := 1 << bits.Len(uint(min(blocks, 1<<30)*2-1))
	k := &cache{
		spec: c, shift: uint(bits.TrailingZeros64(uint64(c.Block))), capacity: blocks,
		limit:  max(int(float64(blocks)*float64(c.DirtyLimit)), 1),
		server: server{perByte: perSecond(float64(c.Throughput))}, hit: int64(c.HitTime.Duration()),
		// Memory that is not used yet costs nothing; growing would copy it.
		nodes: make([]node, 0, blocks+1), table: make([]int32, size), clean: list{-1, -1}, dirty: list{-1, -1},
	}
	for i := range k.table {
		k.table[i] = -1
	}
	return k
}

// serve answers an operation when this level can. It reports whether it took
// the operation.
func (c *cache) serve(a *Array, number int32) bool {
	r := a.ios[number].request
	first, last := r.Offset>>c.shift, (r.Offset+int64(r.Length)-1)>>c.shift
	bypass := c.spec.Bypass > 0 && int64(r.Length) >= int64(c.spec.Bypass)
	switch {
	case !r.Write:
		for b := first; b <= last; b++ {
			if c.find(b) < 0 {
				c.misses++
				return false
			}
		}
		c.hits++
		for b := first; b <= last; b++ {
			c.touch(c.find(b))
		}
		a.reply(number, c.server.pass(a.now, r.Length)+c.hit)
		return true
	case c.spec.Mode == WriteBack && !bypass:
		if c.dirtyCount+int(last-first+1) > c.limit && c.dirtyCount > 0 {
			c.stalled = append(c.stalled, number)
			return true
		}
		c.take(r, first, last)
		a.reply(number, c.server.pass(a.now, r.Length)+c.hit)
		c.destage(a)
		return true
	}
	// The write goes past: what is cached of it is dropped, or kept up to date.
	for b := first; b <= last; b++ {
		if n := c.find(b); n >= 0 && c.nodes[n].state == isClean && (c.spec.Mode == ReadOnly || bypass) {
			c.remove(n)
		}
	}
	return false
}

// filled keeps what an operation that went on brought.
func (c *cache) filled(a *Array, op *io) {
	r := op.request
	if op.failed || r.Flush || (r.Write && c.spec.Mode != WriteThrough) || (c.spec.Bypass > 0 && int64(r.Length) >= int64(c.spec.Bypass)) {
		return
	}
	for b := r.Offset >> c.shift; b <= (r.Offset+int64(r.Length)-1)>>c.shift; b++ {
		if n := c.find(b); n >= 0 {
			c.touch(n)
		} else if n := c.insert(b); n >= 0 {
			c.push(&c.clean, n)
		}
	}
}

// take keeps a write as dirty.
func (c *cache) take(r Request, first, last int64) {
	for b := first; b <= last; b++ {
		start := b << c.shift
		low := int32(max(r.Offset-start, 0))
		high := int32(min(r.Offset+int64(r.Length)-start, 1<<c.shift))
		n := c.find(b)
		if n < 0 {
			if n = c.insert(b); n < 0 {
				n = c.insertOver(b)
			}
			c.nodes[n].low, c.nodes[n].high = low, high
			c.markDirty(n)
			continue
		}
		k := &c.nodes[n]
		if k.state == isDirty {
			k.low, k.high = min(k.low, low), max(k.high, high)
			continue
		}
		if k.state == isClean {
			c.unlink(&c.clean, n)
		}
		k.low, k.high = low, high
		c.markDirty(n)
	}
}

func (c *cache) markDirty(n int32) {
	if c.nodes[n].state == isClean {
		c.dirtyCount++
	}
	c.nodes[n].state = isDirty
	c.push(&c.dirty, n)
}

// Destaging: so many operations at a time, chosen among so many of the oldest
// dirty blocks, in order of their place.
const (
	destageAtOnce = 32
	destageBatch  = 256
	destageMerge  = 1 << 20
)

// destage writes the oldest dirty blocks out, neighbours together.
func (c *cache) destage(a *Array) {
	if c.destaging > destageAtOnce/2 || c.dirty.first < 0 {
		return
	}
	c.batch = c.batch[:0]
	for n := c.dirty.first; n >= 0 && len(c.batch) < destageBatch; n = c.nodes[n].next {
		c.batch = append(c.batch, n)
	}
	slices.SortFunc(c.batch, func(x, y int32) int { return int(c.nodes[x].block - c.nodes[y].block) })
	level := slices.Index(a.caches, c)
	for i := 0; i < len(c.batch) && c.destaging < destageAtOnce; {
		k := &c.nodes[c.batch[i]]
		from := k.block<<c.shift + int64(k.low)
		to := from
		for ; i < len(c.batch); i++ {
			n := c.batch[i]
			k := &c.nodes[n]
			start := k.block << c.shift
			if start+int64(k.low) != to || to-from >= destageMerge {
				break
			}
			to = start + int64(k.high)
			c.unlink(&c.dirty, n)
			k.state = isLeaving
			k.writes++
		}
		c.destaging++
		c.written += to - from
		number := a.newIO(Request{Tag: level, Write: true, Offset: from, Length: int(to - from)}, forDestage)
		a.toMembers(number)
	}
}

// destaged ends one write of a destage.
func (c *cache) destaged(a *Array, r Request) {
	c.destaging--
	for b := r.Offset >> c.shift; b <= (r.Offset+int64(r.Length)-1)>>c.shift; b++ {
		n := c.find(b)
		k := &c.nodes[n]
		if k.writes--; k.state == isLeaving && k.writes == 0 {
			k.state = isClean
			c.dirtyCount--
			c.push(&c.clean, n)
		}
	}
	waiting := c.stalled
	c.stalled = c.stalled[len(c.stalled):]
	for i, number := range waiting {
		op := a.ios[number].request
		if c.dirtyCount+int((op.Offset+int64(op.Length)-1)>>c.shift-op.Offset>>c.shift+1) > c.limit && c.dirtyCount > 0 {
			c.stalled = append(c.stalled, waiting[i:]...)
			break
		}
		c.serve(a, number)
	}
	c.destage(a)
}

// losePower forgets what memory holds without power. Dirty blocks of a cache
// without protection are lost; a protected one, and clean blocks on SSDs, keep
// theirs.
func (c *cache) losePower(a *Array) {
	if c.spec.Protected {
		return
	}
	for n := c.dirty.first; n >= 0; {
		k := &c.nodes[n]
		next := k.next
		c.lost += int64(k.high - k.low)
		c.unlink(&c.dirty, n)
		if k.writes > 0 {
			k.state = isLeaving // an earlier state of it still reaches the members
		} else {
			k.state = isClean
			c.dirtyCount--
			c.push(&c.clean, n)
			c.remove(n)
		}
		n = next
	}
	if c.spec.Devices == 0 {
		for c.clean.first >= 0 {
			c.remove(c.clean.first)
		}
	}
	waiting := c.stalled
	c.stalled = nil
	for _, number := range waiting {
		c.serve(a, number)
	}
}

// hash spreads block numbers over the table (Fibonacci hashing, Knuth, The
// Art of Computer Programming, volume 3, 6.4).
func (c *cache) hash(block int64) int {
	return int(uint64(block) * 0x9e3779b97f4a7c15 >> (64 - uint(bits.TrailingZeros(uint(len(c.table))))))
}

func (c *cache) find(block int64) int32 {
	for i := c.hash(block); ; i = (i + 1) & (len(c.table) - 1) {
		n := c.table[i]
		if n < 0 || c.nodes[n].block == block {
			return n
		}
	}
}

// insert makes a node for a block, in place of the clean one used longest ago
// when the cache is full; -1 when all are dirty.
func (c *cache) insert(block int64) int32 {
	if len(c.spare) == 0 && len(c.nodes) >= c.capacity {
		if c.clean.first < 0 {
			return -1
		}
		c.remove(c.clean.first)
	}
	return c.insertOver(block)
}

// insertOver makes a node even when the cache is full.
func (c *cache) insertOver(block int64) int32 {
	var n int32
	if len(c.spare) > 0 {
		n = c.spare[len(c.spare)-1]
		c.spare = c.spare[:len(c.spare)-1]
	} else {
		n = int32(len(c.nodes))
		c.nodes = append(c.nodes, node{})
	}
	c.nodes[n] = node{block: block}
	i := c.hash(block)
	for c.table[i] >= 0 {
		i = (i + 1) & (len(c.table) - 1)
	}
	c.table[i] = n
	return n
}

// remove forgets a clean block. Later entries of the same run move up, so that
// they are still found (Knuth, volume 3, 6.4, algorithm R).
func (c *cache) remove(n int32) {
	c.unlink(&c.clean, n)
	mask := len(c.table) - 1
	i := c.hash(c.nodes[n].block)
	for c.table[i] != n {
		i = (i + 1) & mask
	}
	for j := i; ; {
		j = (j + 1) & mask
		if c.table[j] < 0 {
			break
		}
		if home := c.hash(c.nodes[c.table[j]].block); (j-home)&mask >= (j-i)&mask {
			c.table[i] = c.table[j]
			i = j
		}
	}
	c.table[i] = -1
	c.spare = append(c.spare, n)
}

// touch makes a clean block the one used last.
func (c *cache) touch(n int32) {
	if c.nodes[n].state == isClean && c.clean.last != n {
		c.unlink(&c.clean, n)
		c.push(&c.clean, n)
	}
}

func (c *cache) push(l *list, n int32) {
	c.nodes[n].prev, c.nodes[n].next = l.last, -1
	if l.last >= 0 {
		c.nodes[l.last].next = n
	} else {
		l.first = n
	}
	l.last = n
}

func (c *cache) unlink(l *list, n int32) {
	k := c.nodes[n]
	if k.prev >= 0 {
		c.nodes[k.prev].next = k.next
	} else {
		l.first = k.next
	}
	if k.next >= 0 {
		c.nodes[k.next].prev = k.prev
	} else {
		l.last = k.prev
	}
}
