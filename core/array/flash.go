package array

import (
	"math/bits"
)

// flash is the inside of an SSD: dies that work in parallel, and a page map
// over a circular log of blocks that is cleaned first in, first out. The log
// gives over-provisioning its real effect: in steady state under uniform
// random writes the write amplification is that of Desnoyers, Analytic
// modeling of SSD write performance, 2012.
//
// Of a large drive only every so many-th page is followed, one of each group at a
// place that looks random, and stands for its group: what is followed has the same
// shares of stale pages as the whole (spatial sampling: Waldspurger, Park, Garthwaite
// and Ahmad, Efficient MRC construction with SHARDS, 2015).
type flash struct {
	group Group
	dies  []float64 // when each is free
	busy  float64

	scale    int                // pages that one stands for: a power of two
	shift    uint               // of it
	logical  []*[mapChunk]int32 // page map, made as it is used; nothing, or resting, or a place in the log
	filled   int64              // pages that hold data at first
	still    int                // of those that are followed: that rest where they lay, and take no part in cleaning
	dense    bool               // every page holds something, such as the index of a pool
	touched  []uint64           // of a drive that is not followed page by page: a bit for every stretch that was written to
	blocks   int                // physical ones; what follows grows as they are used
	physical [][]int32          // logical page of each physical one, by block
	valid    []int32            // pages of each block that are current
	head     int                // block that is filled
	fill     int                // pages in it
	tail     int                // oldest block in use
	used     int                // blocks in use, the head included
	turn     int                // die that programmed the last page
	channels []line             // between the dies and the rest of the drive, which are shared out among them; none where they carry anything
	passing  int                // channel that the last page went to be written by
	moving   float64            // bytes over the channels for cleaning that are still to be spent
	debt     float64            // die time of cleaning that is still to be spent

	packed float64 // of the page that is being filled with compressed ones

	fastUsed float64 // pages in the fast region
	lastAt   float64
	latest   float64 // when the last die is free

	hostPages, programmed int64

	volatile *volatileFlash // nil where what was accepted lasts
}

const mapChunk = 4096

// What a page that is not in the log is.
const (
	nothing = -1 // it holds nothing
	resting = -2 // it holds what it held at first
)

// stretch is how many pages share a bit that says that they were written to.
const stretch = 256

// spareBlocks are always free, so that cleaning has somewhere to go.
const spareBlocks = 2

// followed is the number of pages of all SSDs that are followed at most: a gibibyte
// for both directions of their maps.
const followed = 1 << 27

// flashScale is the number of pages that one page of the maps stands for.
func (d Description) flashScale() int {
	total := 0.0
	count := func(groups []Group) {
		for _, g := range groups {
			if g.Medium == Flash {
				total += float64(g.Capacity/pageSize) * (1 + float64(g.OverProvision))
			}
		}
	}
	count(d.expandedMembers())
	for _, t := range d.tiers() {
		count(t.expandedMembers())
	}
	scale := 1
	for total/float64(scale) > followed {
		scale *= 2
	}
	return scale
}

func newFlash(g Group, scale int) *flash {
	logical := int64(g.Capacity) / pageSize / int64(scale)
	pages := float64(logical) * (1 + float64(g.OverProvision))
	f := &flash{
		group: g, dies: make([]float64, g.Dies), scale: scale, shift: uint(bits.TrailingZeros(uint(scale))),
		logical: make([]*[mapChunk]int32, logical/mapChunk+2),
		// However small it is, a block more than it takes to hold everything.
		blocks: max(int(pages)/g.BlockPages, (int(logical)+g.BlockPages-1)/g.BlockPages+1) + spareBlocks, used: 1,
	}
	if g.WriteCaching {
		f.volatile = &volatileFlash{}
	}
	return f
}

// holds lets a drive hold data from the beginning, so many bytes. They rest, apart from the log, until
// they are written over: what never changes is not moved again and again by drives that tell it
// from what does.
func (f *flash) holds(bytes int64) {
	f.filled = (bytes + pageSize - 1) / pageSize
	f.still = int(f.filled / int64(f.scale))
}

// isEmpty reports whether a page holds nothing, so that no die has to be asked for it.
func (f *flash) isEmpty(page int64) bool {
	if f.dense {
		return false
	}
	if f.scale > 1 {
		at := page / stretch
		return page >= f.filled && (at/64 >= int64(len(f.touched)) || f.touched[at/64]&(1<<(at%64)) == 0)
	}
	if chunk := f.logical[page/mapChunk]; chunk != nil {
		return chunk[page%mapChunk] == nothing
	}
	return page >= f.filled
}

// touch notes that a page was written.
func (f *flash) touch(page int64) {
	if f.scale == 1 || page < f.filled {
		return
	}
	at := page / stretch
	for at/64 >= int64(len(f.touched)) {
		f.touched = append(f.touched, 0)
	}
	f.touched[at/64] |= 1 << (at % 64)
}

// room is how many blocks the log may have: what rests takes the others.
func (f *flash) room() int { return f.blocks - spareBlocks - f.still/f.group.BlockPages }

// physicalBytes is what all blocks together hold.
func (f *flash) physicalBytes() float64 {
	return float64(f.blocks-spareBlocks) * float64(f.group.BlockPages) * pageSize * float64(f.scale)
}

// follow is the number of a page in the map; false when another one of its group
// stands for it.
func (f *flash) follow(page int64) (int32, bool) {
	if f.scale == 1 {
		return int32(page), true
	}
	group := page >> f.shift
	return int32(group), uint64(page)&uint64(f.scale-1) == uint64(group)*0x9e3779b97f4a7c15>>(64-f.shift)
}

// entry is the place in the map of a logical page.
func (f *flash) entry(page int32) *int32 {
	chunk := f.logical[page/mapChunk]
	if chunk == nil {
		chunk = new([mapChunk]int32)
		first := int64(page/mapChunk*mapChunk) * int64(f.scale)
		for i := range chunk {
			if chunk[i] = nothing; first+int64(i*f.scale) < f.filled {
				chunk[i] = resting
			}
		}
		f.logical[page/mapChunk] = chunk
	}
	return &chunk[page%mapChunk]
}

// occupy makes a die work from at for a time and gives the end of that.
func (f *flash) occupy(die int, at, time float64) float64 {
	f.dies[die] = max(f.dies[die], at) + time
	f.busy += time
	f.latest = max(f.latest, f.dies[die])
	return f.dies[die]
}

// read is when a page that is asked for at is there.
func (f *flash) read(at float64, page int64, slow float64) float64 {
	if f.isEmpty(page) {
		return at
	}
	return f.occupy(f.dieOf(page), at, float64(f.group.ReadTime)*1e9*slow)
}

// dieOf is the die that holds a page.
func (f *flash) dieOf(page int64) int {
	_, die := divide(page, len(f.dies))
	if f.scale == 1 {
		if chunk := f.logical[page/mapChunk]; chunk != nil {
			if place := chunk[page%mapChunk]; place >= 0 {
				_, die = divide(int64(place), len(f.dies))
			}
		}
	}
	return die
}

// nextDie is the one that programs the next page: all in turn.
func (f *flash) nextDie() int { return (f.turn + 1) % len(f.dies) }

// buffered is how many programs each die may be behind before a write has to
// wait for it.
const buffered = 4

// write is when a page that arrives at counts as written, and when it is on a die. Of a drive
// that compresses it takes only so much of a page of flash.
func (f *flash) write(at float64, page int64, die int, takes, slow float64) (counts, done float64) {
	const accept = 20e3 // into the drive's own memory
	f.hostPages++
	if f.packed += takes; f.packed < 1 {
		f.trim(page) // it lies with others on the page that is filled next
		return at + accept, max(f.dies[f.turn], at) + float64(f.group.ProgramTime)*1e9*slow
	}
	f.packed--
	time := f.programTime(at) * slow
	f.touch(page)
	if number, isFollowed := f.follow(page); isFollowed {
		f.append(number)
		for f.used > f.room() {
			f.clean(slow)
		}
	}
	f.turn = die
	done = f.occupy(f.turn, at, time)
	if f.debt > 0 {
		f.pay(at)
	}
	return max(at+accept, done-buffered*time), done
}

// programTime is that of the fast region while it has room. The region is
// emptied at the native rate while no die is at work.
func (f *flash) programTime(at float64) float64 {
	native := float64(f.group.ProgramTime) * 1e9
	size := float64(f.group.FastRegion / pageSize)
	if size == 0 {
		return native
	}
	if idle := at - max(f.lastAt, f.latest); idle > native {
		f.fastUsed = max(0, f.fastUsed-idle/native*float64(len(f.dies)))
	}
	f.lastAt = at
	if f.fastUsed >= size {
		return native
	}
	f.fastUsed++
	return float64(f.group.FastProgram) * 1e9
}

// append puts a page at the head of the log.
func (f *flash) append(page int32) {
	perBlock := f.group.BlockPages
	if f.fill == perBlock {
		f.head = (f.head + 1) % f.blocks
		f.fill = 0
		f.used++
	}
	if f.head == len(f.physical) {
		f.physical = append(f.physical, make([]int32, perBlock))
		f.valid = append(f.valid, 0)
	}
	place := f.entry(page)
	f.leave(place)
	*place = int32(f.head*perBlock + f.fill)
	f.physical[f.head][f.fill] = page
	f.valid[f.head]++
	f.fill++
	f.programmed += int64(f.scale)
}

// trim gives the whole pages of a range back.
func (m *member) trim(from, to int64) {
	if m.zones != nil {
		m.zones.reset(from, to)
	}
	if m.flash == nil {
		return
	}
	for page := (from + pageSize - 1) / pageSize; (page+1)*pageSize <= to; page++ {
		m.flash.trim(page)
	}
}

// trim removes a page: it need not be copied any more.
func (f *flash) trim(page int64) {
	if number, isFollowed := f.follow(page); isFollowed && (f.logical[number/mapChunk] != nil || page < f.filled) {
		place := f.entry(number)
		f.leave(place)
		*place = nothing
	}
}

// leave takes a page away from where it lies.
func (f *flash) leave(place *int32) {
	switch {
	case *place >= 0:
		f.valid[int(*place)/f.group.BlockPages]--
	case *place == resting && f.still > 0:
		f.still--
	}
}

// clean moves what is current in the oldest block to the head and erases it. The time
// that takes is spread over the writes that follow, as drives do that clean beside
// their work.
func (f *flash) clean(slow float64) {
	oldest := f.tail
	read, program := float64(f.group.ReadTime)*1e9*slow, float64(f.group.ProgramTime)*1e9*slow
	for i, page := range f.physical[oldest] {
		if f.valid[oldest] == 0 {
			break
		}
		if *f.entry(page) == int32(oldest*f.group.BlockPages+i) {
			f.append(page)
			f.debt += (read + program) * float64(f.scale)
			f.moving += 2 * pageSize * float64(f.scale)
		}
	}
	f.debt += float64(f.group.EraseTime) * 1e9 * slow * float64(f.scale)
	f.tail = (f.tail + 1) % f.blocks
	f.used--
}

// pay spends a share of the debt on the die that has just written: a block of writes, and
// several rounds of all dies, pay most of it.
func (f *flash) pay(at float64) {
	share := f.debt / float64(f.spreads())
	f.debt -= share
	f.occupy(f.turn, at, share)
}

// spreads is over how many writes most of what cleaning takes is spread.
func (f *flash) spreads() int { return max(f.scale*f.group.BlockPages, 8*len(f.dies)) }
