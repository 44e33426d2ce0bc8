package array

import "math/bits"

// blocks is what a cache holds: blocks by their number, the clean ones in order of
// their last use, the dirty ones in the order in which they became dirty.
type blocks struct {
	shift    uint // of the block size
	grain    uint // of the parts that a block knows apart
	capacity int

	table []slot // open addressing by block number
	nodes []node
	spare []int32
	clean list
	dirty list

	pinned int64 // blocks before this one stay once they are there
	stay   list  // those that are clean
}

// slot is where a block may be found: its node plus one, 0 for none, and the low bits of
// its number, so that hardly ever a node is looked at for nothing.
type slot struct{ node, low uint32 }

func (s slot) holds(c *blocks, block int64) bool {
	return s.low == uint32(block) && c.nodes[s.node-1].block == block
}

// node is one cached block. It knows of each of its parts, at most 64, whether it is
// there and whether it still has to be written.
type node struct {
	block      int64
	valid      uint64
	dirty      uint64
	stamp      uint64 // counts up: when it became dirty
	left       uint64 // the stamp of what is being written
	prev, next int32
	leaving    uint8 // writes of it that are under way
	listed     listed
}

// nodeSize is the bytes of a node.
const nodeSize = 48

// listed is the list that a node is in.
type listed uint8

const (
	inNone listed = iota
	inClean
	inDirty
	inStay
)

// list is a doubly linked list of nodes.
type list struct {
	first, last int32
	count       int
}

// smallestPart is the least that a cache knows apart.
const smallestPart = 512

// fewBlocks are as many as there is room for at first.
const fewBlocks = 1024

func newBlocks(c Cache) blocks {
	count := int(c.Size / c.Block)
	shift := uint(bits.TrailingZeros64(uint64(c.Block)))
	return blocks{
		shift: shift, grain: max(shift-6, uint(bits.TrailingZeros(smallestPart))), capacity: count,
		// Both grow with what is held: a large cache that is hardly used costs little.
		nodes: make([]node, 0, min(count, fewBlocks)+1), table: make([]slot, 1<<bits.Len(uint(min(count, fewBlocks)*2-1))), clean: list{first: -1, last: -1}, dirty: list{first: -1, last: -1}, stay: list{first: -1, last: -1},
		pinned: int64(c.Pinned) >> shift,
	}
}

// blocksOf are the first and the last block that a range touches.
func (c *blocks) blocksOf(from, to int64) (first, last int64) {
	return from >> c.shift, (to - 1) >> c.shift
}

// parts are those of a block that a range touches, and those that it covers.
func (c *blocks) parts(block, from, to int64) (touched, covered uint64) {
	start := block << c.shift
	low, high := max(from-start, 0), min(to-start, 1<<c.shift)
	if low == 0 && high == 1<<c.shift {
		all := mask(0, 1<<(c.shift-c.grain))
		return all, all
	}
	size := int64(1) << c.grain
	touched = mask(low>>c.grain, (high+size-1)>>c.grain)
	first, last := (low+size-1)>>c.grain, high>>c.grain
	if first < last {
		covered = mask(first, last)
	}
	return touched, covered
}

// mask has the bits from one to before another set.
func mask(from, to int64) uint64 { return ^uint64(0) >> (64 - uint(to-from)) << uint(from) }

// hash spreads block numbers over the table (Fibonacci hashing, Knuth, The
// Art of Computer Programming, volume 3, 6.4).
func (c *blocks) hash(block int64) int {
	return int(uint64(block) * 0x9e3779b97f4a7c15 >> (64 - uint(bits.TrailingZeros(uint(len(c.table))))))
}

// find is the node of a block, -1 when it is not there.
func (c *blocks) find(block int64) int32 {
	for i := c.hash(block); ; i = (i + 1) & (len(c.table) - 1) {
		if s := c.table[i]; s.node == 0 || s.holds(c, block) {
			return int32(s.node) - 1
		}
	}
}

// insert makes a node for a block, in no list yet; one must be free.
func (c *blocks) insert(block int64) int32 {
	var n int32
	if len(c.spare) > 0 {
		n = c.spare[len(c.spare)-1]
		c.spare = c.spare[:len(c.spare)-1]
	} else {
		n = int32(len(c.nodes))
		c.nodes = append(c.nodes, node{})
	}
	c.nodes[n] = node{block: block}
	if held := c.held(); 2*held > len(c.table) {
		c.grow()
	}
	c.enter(n)
	return n
}

// enter puts a node into the table.
func (c *blocks) enter(n int32) {
	block := c.nodes[n].block
	i := c.hash(block)
	for c.table[i].node > 0 {
		i = (i + 1) & (len(c.table) - 1)
	}
	c.table[i] = slot{uint32(n + 1), uint32(block)}
}

// grow doubles the table.
func (c *blocks) grow() {
	old := c.table
	c.table = make([]slot, 2*len(old))
	for _, s := range old {
		if s.node > 0 {
			c.enter(int32(s.node) - 1)
		}
	}
}

// held is how many blocks it has.
func (c *blocks) held() int { return len(c.nodes) - len(c.spare) }

// full reports whether a further block takes the place of another one.
func (c *blocks) full() bool { return len(c.spare) == 0 && len(c.nodes) >= c.capacity }

// remove removes a block. Later entries of the same run move up, so that they are
// still found (Knuth, volume 3, 6.4, algorithm R).
func (c *blocks) remove(n int32) {
	c.leaveList(n)
	mask := len(c.table) - 1
	i := c.hash(c.nodes[n].block)
	for c.table[i].node != uint32(n+1) {
		i = (i + 1) & mask
	}
	for j := i; ; {
		j = (j + 1) & mask
		if c.table[j].node == 0 {
			break
		}
		if home := c.hash(c.nodes[c.table[j].node-1].block); (j-home)&mask >= (j-i)&mask {
			c.table[i] = c.table[j]
			i = j
		}
	}
	c.table[i] = slot{}
	c.spare = append(c.spare, n)
}

// touch makes a clean block the one used last.
func (c *blocks) touch(n int32) {
	if c.nodes[n].listed == inClean && c.clean.last != n {
		c.list(n, inClean)
	}
}

func (c *blocks) of(l listed) *list {
	switch l {
	case inDirty:
		return &c.dirty
	case inStay:
		return &c.stay
	}
	return &c.clean
}

// list puts a node at the end of a list, out of the one that it is in. What is pinned
// is never among the clean ones that make room.
func (c *blocks) list(n int32, into listed) {
	if c.leaveList(n); into == inClean && c.nodes[n].block < c.pinned {
		into = inStay
	}
	l := c.of(into)
	c.nodes[n].prev, c.nodes[n].next, c.nodes[n].listed = l.last, -1, into
	if l.last >= 0 {
		c.nodes[l.last].next = n
	} else {
		l.first = n
	}
	l.last = n
	l.count++
}

func (c *blocks) leaveList(n int32) {
	k := &c.nodes[n]
	if k.listed == inNone {
		return
	}
	l := c.of(k.listed)
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
	l.count--
	k.listed = inNone
}
