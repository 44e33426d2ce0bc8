// Package agenda keeps what is due when, for simulations of a few things at a time.
package agenda

import "math"

// Agenda are numbers with the times at which they are due, the earliest first; of those at
// the same time the lowest number. The zero value is empty. It is a binary heap.
type Agenda []entry

type entry struct {
	at     int64
	number int
}

func (e entry) before(other entry) bool {
	return e.at < other.at || e.at == other.at && e.number < other.number
}

// Next is when the first is due; math.MaxInt64 when there is none.
func (a Agenda) Next() int64 {
	if len(a) == 0 {
		return math.MaxInt64
	}
	return a[0].at
}

// Add notes that a number is due at a time.
func (a *Agenda) Add(at int64, number int) {
	*a = append(*a, entry{at, number})
	h := *a
	for i := len(h) - 1; i > 0 && h[i].before(h[(i-1)/2]); i = (i - 1) / 2 {
		h[i], h[(i-1)/2] = h[(i-1)/2], h[i]
	}
}

// Take takes the first out, of an agenda that is not empty.
func (a *Agenda) Take() (number int) {
	h := *a
	first, last := h[0], len(h)-1
	h[0] = h[last]
	*a = h[:last]
	for i := 0; ; {
		child := 2*i + 1
		if child+1 < last && h[child+1].before(h[child]) {
			child++
		}
		if child >= last || !h[child].before(h[i]) {
			return first.number
		}
		h[i], h[child] = h[child], h[i]
		i = child
	}
}
