package setup

import "sync"

// cost is what one operation asks of the members of a layout, on average over the
// places it may have: pieces, each on a member of its own, and bytes in all.
type cost struct{ reads, writes, readBytes, writtenBytes float64 }

func (c cost) times(share float64) cost {
	return cost{c.reads * share, c.writes * share, c.readBytes * share, c.writtenBytes * share}
}

func (c cost) plus(o cost) cost {
	return cost{c.reads + o.reads, c.writes + o.writes, c.readBytes + o.readBytes, c.writtenBytes + o.writtenBytes}
}

// geometry is a layout as far as costs need it.
type geometry struct {
	level   string
	members int // the missing ones as well
	missing int
	chunk   int64 // 0 when that is not known: larger than any operation
	gathers bool  // writes of a stream are put together to whole stripes
}

func (g geometry) parity() int {
	switch g.level {
	case "raid5":
		return 1
	case "raid6":
		return 2
	}
	return 0
}

// cost is that of an operation of a size at multiples of itself. Parity takes the
// old data and parity, or the data that stays, whichever is less to read first (Chen,
// Lee, Gibson, Katz and Patterson 1994); mirrors write every copy.
func (g geometry) cost(block int64, write, sequential bool) cost {
	bytes := float64(block)
	switch {
	case g.parity() > 0 && g.parity() < g.members && g.missing <= g.parity():
		return g.parityCost(block, write, sequential)
	case write && g.level == "raid1":
		copies := float64(g.members - g.missing)
		return cost{writes: copies, writtenBytes: copies * bytes}
	case write && g.level == "raid10":
		pieces := g.pieces(block, g.members/2)
		return cost{writes: 2 * pieces, writtenBytes: 2 * bytes}
	}
	pieces := 1.0
	switch g.level {
	case "raid0":
		pieces = g.pieces(block, g.members)
	case "raid10":
		pieces = g.pieces(block, g.members/2)
	}
	if write {
		return cost{writes: pieces, writtenBytes: bytes}
	}
	return cost{reads: pieces, readBytes: bytes}
}

// declustered is what reads and writes cost where each stripe has fewer members than
// there are: of those that are missing it has none, one, or more, as chance has it
// (the hypergeometric distribution).
func (g geometry) declustered(stripe int, u Use) (reads, writes cost) {
	one := g
	one.members = stripe
	for lacks := range min(g.missing, stripe) + 1 {
		share := 1.0
		for i := range lacks { // the members of the stripe, drawn one after the other
			share *= float64(g.missing-i) / float64(g.members-i) * float64(stripe-i) / float64(i+1)
		}
		for i := range stripe - lacks {
			share *= float64(g.members-g.missing-i) / float64(g.members-lacks-i)
		}
		one.missing = lacks
		reads = reads.plus(one.cost(int64(u.Block), false, u.Sequential).times(share))
		writes = writes.plus(one.cost(int64(u.Block), true, u.Sequential).times(share))
	}
	return reads, writes
}

// pieces is how many of so many columns an operation touches on average: with
// multiples of its size, chunks that lie side by side.
func (g geometry) pieces(block int64, columns int) float64 {
	if g.chunk == 0 {
		return 1
	}
	return max(min(float64(g.chunks(block)), float64(columns)), 1)
}

// chunks is the number of chunks that an operation at a multiple of its size
// touches on average, from below.
func (g geometry) chunks(block int64) int64 {
	return max((block+g.chunk-1)/g.chunk, 1)
}

// mostSteps bounds the work of an average over places.
const mostSteps = 40_000

// asked is what the cost of an operation follows from.
type asked struct {
	geometry
	block             int64
	write, sequential bool
}

// worked keeps what costs on parity came to: they are asked for again and again, for each judgement
// of each measurement, and walk over many places.
var worked = struct {
	sync.Mutex
	costs map[asked]cost
}{costs: map[asked]cost{}}

// mostWorked bounds what is kept.
const mostWorked = 1000

// parityCost is the cost on parity, kept for the next who asks.
func (g geometry) parityCost(block int64, write, sequential bool) cost {
	key := asked{g, block, write, sequential}
	worked.Lock()
	c, known := worked.costs[key]
	worked.Unlock()
	if known {
		return c
	}
	c = g.walk(block, write, sequential)
	worked.Lock()
	defer worked.Unlock()
	if len(worked.costs) >= mostWorked {
		clear(worked.costs)
	}
	worked.costs[key] = c
	return c
}

// walk goes over the places that an operation may have, grain by grain.
func (g geometry) walk(block int64, write, sequential bool) (mean cost) {
	p := g.parity()
	data := g.members - p
	if !write && sequential { // whole stripes: what is read for one chunk serves the others
		return cost{reads: 1, readBytes: float64(block)}
	}
	if write && sequential && (g.gathers || g.chunk == 0) {
		share := float64(g.members-g.missing) / float64(data)
		return cost{writes: share, writtenBytes: share * float64(block)}
	}
	chunk := g.chunk
	if chunk == 0 {
		chunk = block
	}
	w := walker{geometry: g, block: block, grain: divisor(block, chunk), chunk: chunk, write: write}
	w.touched, w.read, w.written = make([]bool, g.members), make([]bool, g.members), make([]bool, g.members)
	width := chunk * int64(data)
	period := width / divisor(block, width) * int64(g.members) // operations until all is as before
	places := min(period, max(mostSteps/max(block/w.grain*int64(g.members), 1), 16))
	for i := range places {
		mean = mean.plus(w.place(i * block))
	}
	return mean.times(1 / float64(places))
}

// walker works the costs of places out.
type walker struct {
	geometry
	block, grain, chunk int64
	write               bool

	touched       []bool // columns, of the row at hand
	read, written []bool // members, by the operation at hand
}

// place is the cost of an operation at one place. The first members are the missing
// ones.
func (w *walker) place(at int64) (c cost) {
	data := w.members - w.parity()
	width := w.chunk * int64(data)
	clear(w.read)
	clear(w.written)
	for from := at; from < at+w.block; from += w.grain {
		stripe, row := from/width, from%w.chunk
		if from%width >= w.chunk && from-w.chunk >= at {
			continue // its row was looked at, from the chunk before
		}
		w.row(&c, at, stripe, row)
	}
	for m := range w.members {
		if w.read[m] {
			c.reads++
		}
		if w.written[m] {
			c.writes++
		}
	}
	return c
}

// row adds what an operation at a place costs in one row of a stripe.
func (w *walker) row(c *cost, at, stripe, row int64) {
	p := w.parity()
	data := w.members - p
	width := w.chunk * int64(data)
	first := (w.members - 1 - int(stripe%int64(w.members)) + p) % w.members
	count, lostTouched, lostRest, parities := 0, 0, 0, 0
	for column, m := 0, first; column < w.members; column, m = column+1, after(m, w.members) {
		place := stripe*width + int64(column)*w.chunk + row
		isLost := m < w.missing
		w.touched[column] = column < data && place >= at && place < at+w.block
		switch {
		case column >= data && !isLost:
			parities++
		case w.touched[column] && isLost:
			lostTouched++
		case column < data && isLost:
			lostRest++
		}
		if w.touched[column] {
			count++
		}
	}
	old := lostRest > 0 || lostTouched == 0 && count+parities < data-count
	rest := lostTouched > 0 || !old
	needed := data
	for column, m := 0, first; column < w.members; column, m = column+1, after(m, w.members) {
		isParity := column >= data
		if m < w.missing {
			continue
		}
		reads := !w.write && (w.touched[column] || lostTouched > 0 && needed > 0)
		if w.write && parities > 0 {
			reads = rest && !isParity && !w.touched[column] || old && (isParity || w.touched[column])
		}
		if reads {
			needed--
			w.read[m] = true
			c.readBytes += float64(w.grain)
		}
		if w.write && (w.touched[column] || isParity) {
			w.written[m] = true
			c.writtenBytes += float64(w.grain)
		}
	}
}

// after is the member that comes next, the first one after the last.
func after(member, members int) int {
	if member++; member == members {
		return 0
	}
	return member
}

// divisor is the greatest common one.
func divisor(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
