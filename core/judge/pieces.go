package judge

import (
	"math"
	"slices"

	"patientheron/core/statistics"
)

// The limits of the search for changes of a level.
const (
	mostPieces   = 8    // that a series is cut into
	mostValues   = 240  // that are looked at; longer series are looked at by means of neighbours
	leastPiece   = 3    // values of a piece
	changeChance = 0.01 // of a change that is none, over all places at which one may be
	leastChange  = 0.10 // of the higher level, that matters
)

// pieces cuts values into stretches between which the level changes by something
// that matters, and gives where they begin, and the end. Floor is what the values
// vary by at least.
//
// The cuts are those that leave the smallest squares around the means (segment
// neighbourhood: Auger and Lawrence 1989). How many there are is found one after the
// other, or two at once for what goes and comes back: another one stands when the
// squares it takes away are more than noise would give by chance, by Fisher's
// distribution with as many degrees of freedom as the values are worth. The noise is
// estimated with two cuts more than are tested, so that a change does not count as
// noise and hide itself.
func pieces(values []float64, floor float64) []int {
	each := (len(values) + mostValues - 1) / mostValues
	if each <= 1 {
		return joined(values, changes(values, floor))
	}
	bounds := changes(means(values, each), floor/math.Sqrt(float64(each)))
	for i := range bounds {
		bounds[i] *= each
	}
	bounds[len(bounds)-1] = len(values)
	// What happens at the start is shorter than a mean of neighbours may tell.
	head := changes(values[:min(mostValues, len(values))], floor)
	for _, at := range head[1 : len(head)-1] {
		if at < bounds[1]-each {
			bounds = append(bounds, at)
		}
	}
	slices.Sort(bounds)
	refine(values, bounds, each)
	return joined(values, bounds)
}

// means are those of so many neighbours each; a rest at the end counts with the
// last.
func means(values []float64, each int) []float64 {
	m := make([]float64, len(values)/each)
	for i := range m {
		end := (i + 1) * each
		if i == len(m)-1 {
			end = len(values)
		}
		m[i] = average(values[i*each : end])
	}
	return m
}

func changes(values []float64, floor float64) []int {
	p := partitioned(values)
	found := 1
	for found < len(p.squares) {
		with := min(found+2, len(p.squares))
		n := noiseOf(values, p.bounds(with), floor)
		free := n.worth(len(values)) - float64(with)
		further := 0
		for more := 1; more <= 2 && found+more <= len(p.squares) && free >= 2; more++ {
			gain := (p.squares[found-1] - p.squares[found+more-1]) / (n.longRun() * n.longRun()) / float64(more)
			if statistics.FTail(gain, float64(more), free) < changeChance/float64(len(values)) {
				further = more
				break
			}
		}
		if further == 0 {
			break
		}
		found += further
	}
	return p.bounds(found)
}

// joined takes away the cuts between levels that differ by too little to matter,
// the smallest difference first.
func joined(values []float64, bounds []int) []int {
	for len(bounds) > 2 {
		smallest, at := math.Inf(1), 0
		for i := 1; i+1 < len(bounds); i++ {
			before, after := average(values[bounds[i-1]:bounds[i]]), average(values[bounds[i]:bounds[i+1]])
			if by := apart(before, after); by < smallest {
				smallest, at = by, i
			}
		}
		if smallest >= leastChange {
			break
		}
		bounds = slices.Delete(bounds, at, at+1)
	}
	return bounds
}

// apart is the difference of two levels as a share of the higher.
func apart(a, b float64) float64 {
	if a == b {
		return 0
	}
	return math.Abs(a-b) / max(math.Abs(a), math.Abs(b))
}

// refine moves each bound within a distance to where it leaves the smallest
// squares.
func refine(values []float64, bounds []int, within int) {
	for b := 1; b+1 < len(bounds); b++ {
		from, to := max(bounds[b]-within, bounds[b-1]+leastPiece), min(bounds[b]+within, bounds[b+1]-leastPiece)
		stretch := values[bounds[b-1]:bounds[b+1]]
		total := average(stretch) * float64(len(stretch))
		before, best, place := 0.0, math.Inf(-1), bounds[b]
		for i, v := range stretch {
			if at := bounds[b-1] + i; at >= from && at <= to && i > 0 {
				left, right := float64(i), float64(len(stretch)-i)
				if gain := before*before/left + (total-before)*(total-before)/right; gain > best {
					best, place = gain, at
				}
			}
			before += v
		}
		bounds[b] = place
	}
}

// partition knows how to cut values into any number of pieces up to mostPieces so
// that the squares around the means of the pieces are smallest.
type partition struct {
	end     int
	squares []float64 // left with 1, 2, … pieces
	from    [][]int   // from[k][i]: where the last of k+1 pieces of the first i values begins
}

func partitioned(values []float64) partition {
	n := len(values)
	least := leastPiece + n/100
	sums, squares := make([]float64, n+1), make([]float64, n+1)
	for i, v := range values {
		sums[i+1], squares[i+1] = sums[i]+v, squares[i]+v*v
	}
	around := func(j, i int) float64 {
		sum := sums[i] - sums[j]
		return squares[i] - squares[j] - sum*sum/float64(i-j)
	}
	p := partition{end: n}
	before := make([]float64, n+1)
	for k := range max(min(mostPieces, n/least), 1) {
		now, from := make([]float64, n+1), make([]int, n+1)
		for i := min((k+1)*least, n); i <= n; i++ {
			if k == 0 {
				if i > 0 {
					now[i] = around(0, i)
				}
				continue
			}
			best, at := math.Inf(1), k*least
			for j := k * least; j <= i-least; j++ {
				if c := before[j] + around(j, i); c < best {
					best, at = c, j
				}
			}
			now[i], from[i] = best, at
		}
		p.squares, p.from = append(p.squares, max(now[n], 0)), append(p.from, from)
		before = now
	}
	return p
}

// bounds are where the pieces begin, and the end, when there are so many.
func (p partition) bounds(pieces int) []int {
	at := p.end
	bounds := []int{at}
	for k := pieces - 1; k >= 0; k-- {
		at = p.from[k][at]
		bounds = append(bounds, at)
	}
	slices.Reverse(bounds)
	return bounds
}
