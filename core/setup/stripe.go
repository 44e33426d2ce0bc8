package setup

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

// parityCost walks over the places that an operation may have, grain by grain.
func (g geometry) parityCost(block int64, write, sequential bool) (mean cost) {
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
	grain := divisor(block, chunk)
	width := chunk * int64(data)
	period := width / divisor(block, width) * int64(g.members) // operations until all is as before
	places := min(period, max(mostSteps/max(block/grain*int64(g.members), 1), 16))
	for i := range places {
		mean = mean.plus(g.place(i*block, block, grain, chunk, write))
	}
	return mean.times(1 / float64(places))
}

// place is the cost of an operation at one place. The first members are the missing
// ones.
func (g geometry) place(at, block, grain, chunk int64, write bool) (c cost) {
	p := g.parity()
	data := g.members - p
	width := chunk * int64(data)
	read, written := make([]bool, g.members), make([]bool, g.members)
	seen := map[int64]bool{} // rows that were looked at
	for from := at; from < at+block; from += grain {
		stripe, row := from/width, from%chunk
		if key := stripe*chunk + row; seen[key] {
			continue
		} else {
			seen[key] = true
		}
		first := (g.members - 1 - int(stripe%int64(g.members)) + p) % g.members
		member := func(column int) int { return (first + column) % g.members }
		touched := make([]bool, g.members)
		count, lostTouched, lostRest, parities := 0, 0, 0, 0
		for column := range g.members {
			place := stripe*width + int64(column)*chunk + row
			isLost := member(column) < g.missing
			touched[column] = column < data && place >= at && place < at+block
			switch {
			case column >= data && !isLost:
				parities++
			case touched[column] && isLost:
				lostTouched++
			case column < data && isLost:
				lostRest++
			}
			if touched[column] {
				count++
			}
		}
		old := lostRest > 0 || lostTouched == 0 && count+parities < data-count
		rest := lostTouched > 0 || !old
		needed := data
		for column := range g.members {
			m, isParity := member(column), column >= data
			if m < g.missing {
				continue
			}
			reads := !write && (touched[column] || lostTouched > 0 && needed > 0)
			if write && parities > 0 {
				reads = rest && !isParity && !touched[column] || old && (isParity || touched[column])
			}
			if reads {
				needed--
				read[m] = true
				c.readBytes += float64(grain)
			}
			if write && (touched[column] || isParity) {
				written[m] = true
				c.writtenBytes += float64(grain)
			}
		}
	}
	for m := range g.members {
		if read[m] {
			c.reads++
		}
		if written[m] {
			c.writes++
		}
	}
	return c
}

// divisor is the greatest common one.
func divisor(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
