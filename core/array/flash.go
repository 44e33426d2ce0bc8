package array

// flash is the inside of an SSD: dies that work in parallel, and a page map
// over a circular log of blocks that is cleaned first in, first out. The log
// gives over-provisioning its real effect: in steady state under uniform
// random writes the write amplification is that of Desnoyers, Analytic
// modeling of SSD write performance, 2012.
type flash struct {
	group Group
	dies  []float64 // when each is free
	busy  float64

	logical  []*[mapChunk]int32 // page map, made as it is used; -1 is not written
	blocks   int                // physical ones; what follows grows as they are used
	physical [][]int32          // logical page of each physical one, by block
	valid    []int32            // pages of each block that are current
	head     int                // block that is filled
	fill     int                // pages in it
	tail     int                // oldest block in use
	used     int                // blocks in use, the head included
	turn     int                // die that programs the next page

	fastUsed float64 // pages in the fast region
	lastAt   float64

	hostPages, programmed int64
}

const mapChunk = 4096

// spareBlocks are always free, so that cleaning has somewhere to go.
const spareBlocks = 2

func newFlash(g Group) *flash {
	pages := float64(g.Capacity/pageSize) * (1 + float64(g.OverProvision))
	blocks := int(pages/float64(g.BlockPages)) + spareBlocks
	return &flash{
		group: g, dies: make([]float64, g.Dies), logical: make([]*[mapChunk]int32, g.Capacity/pageSize/mapChunk+1),
		blocks: blocks, used: 1,
	}
}

// entry is the place in the map of a logical page.
func (f *flash) entry(page int32) *int32 {
	chunk := f.logical[page/mapChunk]
	if chunk == nil {
		chunk = new([mapChunk]int32)
		for i := range chunk {
			chunk[i] = -1
		}
		f.logical[page/mapChunk] = chunk
	}
	return &chunk[page%mapChunk]
}

// occupy makes a die work from at for a time and gives the end of that.
func (f *flash) occupy(die int, at, time float64) float64 {
	f.dies[die] = max(f.dies[die], at) + time
	f.busy += time
	return f.dies[die]
}

// read is when a page that is asked for at is there.
func (f *flash) read(at float64, page int32, slow float64) float64 {
	_, die := divide(int64(page), len(f.dies))
	if chunk := f.logical[page/mapChunk]; chunk != nil {
		if place := chunk[page%mapChunk]; place >= 0 {
			_, die = divide(int64(place), len(f.dies))
		}
	}
	return f.occupy(die, at, float64(f.group.ReadTime)*1e9*slow)
}

// buffered is how many programs each die may be behind before a write has to
// wait for it.
const buffered = 4

// write is when a page that arrives at counts as written.
func (f *flash) write(at float64, page int32, slow float64) float64 {
	f.hostPages++
	time := f.programTime(at) * slow
	done := f.append(at, page, time)
	for f.used > f.blocks-spareBlocks {
		f.clean(at, slow)
	}
	const accept = 20e3 // into the drive's own memory
	return max(at+accept, done-buffered*time)
}

// programTime is that of the fast region while it has room. The region is
// emptied at the native rate while nothing is written.
func (f *flash) programTime(at float64) float64 {
	native := float64(f.group.ProgramTime) * 1e9
	size := float64(f.group.FastRegion / pageSize)
	if size == 0 {
		return native
	}
	if idle := at - f.lastAt; idle > native {
		f.fastUsed = max(0, f.fastUsed-idle/native*float64(len(f.dies)))
	}
	f.lastAt = at
	if f.fastUsed >= size {
		return native
	}
	f.fastUsed++
	return float64(f.group.FastProgram) * 1e9
}

// append programs a page at the head of the log.
func (f *flash) append(at float64, page int32, time float64) float64 {
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
	if *place >= 0 {
		f.valid[int(*place)/perBlock]--
	}
	*place = int32(f.head*perBlock + f.fill)
	f.physical[f.head][f.fill] = page
	f.valid[f.head]++
	f.fill++
	f.programmed++
	f.turn = (f.turn + 1) % len(f.dies)
	return f.occupy(f.turn, at, time)
}

// clean moves what is current in the oldest block to the head and erases it.
func (f *flash) clean(at, slow float64) {
	oldest := f.tail
	for i, page := range f.physical[oldest] {
		if f.valid[oldest] == 0 {
			break
		}
		if *f.entry(page) == int32(oldest*f.group.BlockPages+i) {
			f.occupy(f.turn, at, float64(f.group.ReadTime)*1e9*slow)
			f.append(at, page, float64(f.group.ProgramTime)*1e9*slow)
		}
	}
	f.occupy(f.turn, at, float64(f.group.EraseTime)*1e9*slow)
	f.tail = (f.tail + 1) % f.blocks
	f.used--
}
