package array

import "slices"

// room is what a pool gives to units, counted in grains. What was given back is given
// again first; a unit lies in one piece.
type room struct {
	next   int32     // from here on nothing was ever given
	end    int32     // of the pool
	back   [][]int32 // what was given back, by how many grains each piece has
	left   int32     // grains that nobody has
	joined bool      // pieces side by side were joined since one was given back
}

// newRoom is room of so many grains, that is given in pieces of so many at most.
func newRoom(end, most int32) room {
	return room{end: end, back: make([][]int32, most+1), left: end}
}

// begin lets so much of it be taken from the beginning on.
func (r *room) begin(grains int32) {
	r.next += grains
	r.left -= grains
}

// take takes a piece of some grains: one that was given back, a new one, or a part of a
// larger one; -1 when there is none.
func (r *room) take(grains int32) int32 {
	for {
		if slot := r.pop(grains); slot >= 0 {
			return slot
		}
		if r.next+grains <= r.end {
			r.begin(grains)
			return r.next - grains
		}
		for larger := grains + 1; larger < int32(len(r.back)); larger++ {
			if slot := r.pop(larger); slot >= 0 {
				r.push(slot+grains, larger-grains)
				return slot
			}
		}
		if r.joined || r.left < grains {
			return -1
		}
		r.join()
	}
}

// pop takes a piece of just so many grains that was given back; -1 for none.
func (r *room) pop(grains int32) int32 {
	pieces := r.back[grains]
	if len(pieces) == 0 {
		return -1
	}
	slot := pieces[len(pieces)-1]
	r.back[grains] = pieces[:len(pieces)-1]
	r.left -= grains
	return slot
}

// push gives a piece back.
func (r *room) push(slot, grains int32) {
	r.back[grains] = append(r.back[grains], slot)
	r.left += grains
	r.joined = false
}

// join makes one piece of those side by side, as far as pieces may be large, and lets
// the last one be new again.
func (r *room) join() {
	type piece struct{ slot, grains int32 }
	var all []piece
	for grains, slots := range r.back {
		for _, slot := range slots {
			all = append(all, piece{slot, int32(grains)})
		}
		r.back[grains] = slots[:0]
	}
	slices.SortFunc(all, func(x, y piece) int { return int(x.slot) - int(y.slot) })
	most := int32(len(r.back) - 1)
	for i := 0; i < len(all); {
		from, to := all[i].slot, all[i].slot
		for ; i < len(all) && all[i].slot == to; i++ {
			to += all[i].grains
		}
		if to == r.next {
			r.next = from
			break
		}
		for ; from < to; from += min(most, to-from) {
			grains := min(most, to-from)
			r.back[grains] = append(r.back[grains], from)
		}
	}
	r.joined = true
}
