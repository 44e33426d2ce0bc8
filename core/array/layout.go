package array

import (
	"math/bits"
	"slices"
)

// layout maps places of the volume to places of its members.
type layout struct {
	base    int // number of its first member in the array
	level   Level
	chunk   int64
	shift   uint // of the chunk size when that is a power of two, otherwise 0
	members int
	columns int // members of a stripe
	data    int // members of a stripe that hold data
	parity  int // members of a stripe that hold parity
	ends    []int64
	spread  *spread // nil where every stripe has all members
}

func newLayout(form Layout, members []Group, base int) *layout {
	l := &layout{base: base, level: form.Level, chunk: int64(form.Chunk)}
	if chunk := uint64(l.chunk); chunk&(chunk-1) == 0 && chunk > 1 {
		l.shift = uint(bits.TrailingZeros64(chunk))
	}
	l.members, l.columns = len(members), len(members)
	if form.Stripe > 0 {
		l.columns, l.spread = form.Stripe, newSpread(len(members), form.Stripe, form.Spares)
	}
	if form.Groups > 1 {
		l.columns = len(members) / form.Groups
	}
	l.data = l.columns
	switch l.level {
	case Parity:
		l.parity = 1
	case DoubleParity:
		l.parity = 2
	case Mirror:
		l.data = 1
	case MirrorStripe:
		l.data = l.members / 2
	case Concatenation:
		end := int64(0)
		for _, m := range members {
			end += int64(m.Capacity) / l.chunk * l.chunk
			l.ends = append(l.ends, end)
		}
	}
	l.data -= l.parity
	if form.Groups > 1 {
		l.spread = newGrouped(len(members), l.columns, l.parity)
	}
	return l
}

// width is the data of one stripe.
func (l *layout) width() int64 { return l.chunk * int64(l.data) }

// Place says where the byte at offset is: its member (the first of a mirror),
// counted within the layout, and its place there.
func (l *layout) Place(offset int64) (member int, at int64) {
	switch l.level {
	case Concatenation:
		for i, end := range l.ends {
			if offset < end {
				if i > 0 {
					offset -= l.ends[i-1]
				}
				return i, offset
			}
		}
	case Mirror:
		return 0, offset
	}
	number, within := l.split(offset)
	stripe, column := divide(number, l.data)
	at = l.row(stripe)*l.chunk + within
	switch l.level {
	case MirrorStripe:
		return 2 * column, at
	case Parity, DoubleParity:
		return l.column(stripe, column), at
	}
	return column, at
}

// column is the member that holds a column of data of a stripe. Parity moves one
// member to the left with each stripe; data begins behind it, so that consecutive
// chunks go round all members.
func (l *layout) column(stripe int64, column int) int {
	if l.spread != nil {
		return l.spread.column(l, stripe, column)
	}
	return (l.parityMember(stripe) + l.parity + column) % l.members
}

// parityMember is the first parity member of a stripe; a second one follows it.
func (l *layout) parityMember(stripe int64) int {
	_, rest := divide(stripe, l.members)
	return l.members - 1 - rest
}

// split is the number of the chunk that holds offset, and the place in it.
func (l *layout) split(offset int64) (number, within int64) {
	if l.shift > 0 {
		return offset >> l.shift, offset & (l.chunk - 1)
	}
	return offset / l.chunk, offset % l.chunk
}

// divide is number/n and number%n. Most numbers fit the 32-bit division, which
// takes a third of the time; every simulated operation does several.
func divide(number int64, n int) (quotient int64, rest int) {
	if uint64(number)>>32 == 0 {
		q := uint32(number) / uint32(n)
		return int64(q), int(uint32(number) - q*uint32(n))
	}
	return number / int64(n), int(number % int64(n))
}

// holds is how much a member holds, from its beginning, of so much of the volume.
func (l *layout) holds(m int, filled int64) int64 {
	if filled == 0 {
		return 0
	}
	if l.level == Concatenation {
		before := int64(0)
		if m > 0 {
			before = l.ends[m-1]
		}
		return max(filled-before, 0)
	}
	_, place := l.Place(filled - 1)
	if l.level == Mirror {
		return place + 1
	}
	return (place/l.chunk + 1) * l.chunk
}

// copies is the number of members that hold the same byte.
func (l *layout) copies() int {
	switch l.level {
	case Mirror:
		return l.members
	case MirrorStripe:
		return 2
	}
	return 1
}

// member is a member of the layout.
func (l *layout) member(a *Array, m int) *member { return a.members[l.base+m] }

// missing counts the members that do not hold all of what they should, and of which
// nobody else holds all of it.
func (l *layout) missing(a *Array) (count int) {
	for m := range l.members {
		if l.member(a, m).failed {
			count++
		}
	}
	if l.spread != nil {
		for _, m := range l.spread.moved {
			if m.whole {
				count--
			}
		}
	}
	return count
}

// run is how many bytes from offset on lie together on one member.
func (l *layout) run(offset, place int64) int64 {
	switch l.level {
	case Mirror:
		return 1 << 62
	case Concatenation:
		for _, end := range l.ends {
			if offset < end {
				return end - offset
			}
		}
	}
	_, within := l.split(place)
	return l.chunk - within
}

// plan issues what an operation on a range needs of the members: reads at once, and
// of a small write to parity the writes in a second phase. Volume is where the range
// lies for the hosts.
func (l *layout) plan(a *Array, n int32, k kind, volume, offset int64, length int) {
	switch {
	case l.parity == 0:
	case k == writes:
		a.gathering.write(a, l, n, volume, offset, length)
		return
	case len(a.gathering.open) > 0:
		a.gathering.closeWithin(a, l, offset, offset+int64(length))
	}
	l.planNow(a, n, k, volume, offset, length)
}

// planNow is plan without putting writes together.
func (l *layout) planNow(a *Array, n int32, k kind, volume, offset int64, length int) {
	j := a.jobs.at(n)
	a.pieces = a.pieces[:0]
	before := len(j.second)
	switch {
	case l.parity > 0 && k == writes:
		l.planParityWrite(a, j, offset, offset+int64(length))
	case l.parity > 0 && k == reads:
		l.planParityRead(a, j, offset, offset+int64(length))
	default:
		l.planCopies(a, j, k, offset, offset+int64(length))
	}
	if len(a.pieces) > 1 || len(j.second) > before {
		a.pieces = a.joined(a.pieces)
		j.second = append(j.second[:before], a.joined(j.second[before:])...)
	}
	if a.watch != nil {
		a.watch.planned(n, l, k, volume, offset, length, a.pieces, j.second[before:])
	}
	for _, p := range a.pieces {
		a.issue(n, p)
	}
}

// readAcross is the gap between two reads of a disk that is read as well, such as the
// parity of a stripe between the data of two.
const readAcross = 64 << 10

// joined brings pieces into the order of their places and joins what overlaps or
// touches on the same member.
func (a *Array) joined(pieces []piece) []piece {
	if len(pieces) < 2 {
		return pieces
	}
	slices.SortFunc(pieces, func(x, y piece) int {
		switch {
		case x.member != y.member:
			return x.member - y.member
		case x.write != y.write:
			if x.write {
				return 1
			}
			return -1
		case x.offset < y.offset:
			return -1
		case x.offset > y.offset:
			return 1
		}
		return 0
	})
	last := 0
	for _, p := range pieces[1:] {
		q := &pieces[last]
		gap := int64(0)
		if !p.write && a.members[p.member].disk != nil {
			gap = readAcross
		}
		if p.member == q.member && p.write == q.write && p.offset <= q.offset+int64(q.length)+gap {
			q.length = int(max(q.offset+int64(q.length), p.offset+int64(p.length)) - q.offset)
			a.members[p.member].waiting--
			continue
		}
		last++
		pieces[last] = p
	}
	return pieces[:last+1]
}

// piece makes a piece on a member of the layout, which from now on waits for it.
func (l *layout) piece(a *Array, m int, offset int64, length int64, write bool) piece {
	l.member(a, m).waiting++
	return piece{member: l.base + m, offset: offset, length: int(length), write: write}
}

// planCopies plans for layouts that hold every byte on one member, or on several
// alike.
func (l *layout) planCopies(a *Array, j *job, k kind, from, to int64) {
	for at := from; at < to; {
		member, place := l.Place(at)
		length := min(to-at, l.run(at, place))
		if k == writes {
			l.writeCopies(a, j, member, place, length)
		} else {
			l.readCopy(a, j, member, place, length)
		}
		at += length
	}
}

func (l *layout) writeCopies(a *Array, j *job, first int, place, length int64) {
	written := 0
	for m := first; m < first+l.copies(); m++ {
		it := l.member(a, m)
		if it.has(place + length) {
			a.pieces = append(a.pieces, l.piece(a, m, place, length, true))
			written++
			continue
		}
		if has := it.upTo - place; has > 0 {
			a.pieces = append(a.pieces, l.piece(a, m, place, has, true))
		}
		it.missed(a, place, length)
	}
	if written == 0 {
		j.failed = true
	}
}

// crowd is how many more pieces must wait for a copy that follows a stream before
// another one reads instead.
const crowd = 32

// readCopy reads from a copy that has just read what comes before, or else from the
// one with the fewest pieces waiting; among equal ones, from the one that the place
// falls to.
func (l *layout) readCopy(a *Array, j *job, first int, place, length int64) {
	copies := l.copies()
	if copies == 1 {
		if !l.member(a, first).has(place + length) {
			j.failed = true
			return
		}
		a.pieces = append(a.pieces, l.piece(a, first, place, length, false))
		return
	}
	if l.goesOn(a, first, copies, place, length) {
		return
	}
	// Spread, so that places of which every so many-th is used go to all copies.
	start := int(uint64(place/pageSize) * 0x9e3779b97f4a7c15 >> 40)
	if copies == 2 {
		start &= 1
	} else {
		start %= copies
	}
	best, least := -1, 0
	for i := range copies {
		m := first + start + i
		if m >= first+copies {
			m -= copies
		}
		it := l.member(a, m)
		if !it.has(place + length) {
			continue
		}
		waiting := it.waiting
		if it.disk != nil && it.follows(place) {
			waiting -= crowd
		}
		if best < 0 || waiting < least {
			best, least = m, waiting
		}
	}
	if best < 0 {
		j.failed = true
		return
	}
	if it := l.member(a, best); it.disk != nil {
		it.noteTail(place, int(length))
	}
	a.pieces = append(a.pieces, l.piece(a, best, place, length, false))
}

// goesOn lets a disk that reads what comes before for the same operation read a range as well, and
// reports whether one does.
func (l *layout) goesOn(a *Array, first, copies int, place, length int64) bool {
	for i := len(a.pieces) - 1; i >= max(len(a.pieces)-l.members, 0); i-- {
		p := &a.pieces[i]
		if m := p.member - l.base; m < first || m >= first+copies || p.offset+int64(p.length) != place {
			continue
		}
		it := a.members[p.member]
		if it.disk == nil || !it.has(place+length) {
			continue
		}
		p.length += int(length)
		it.noteTail(place, int(length))
		return true
	}
	return false
}

// trim gives a range back to the members: SSDs need not copy what was there. Of parity
// whole stripes are given back, so that parity stays true: of members that then all
// read as zeros.
func (l *layout) trim(a *Array, from, to int64) {
	if l.parity > 0 {
		width := l.width()
		for stripe := (from + width - 1) / width; (stripe+1)*width <= to && l.allFlash(a); stripe++ {
			at := l.row(stripe) * l.chunk
			for i := range l.columns {
				m := l.column(stripe, i)
				if l.member(a, m).trim(at, at+l.chunk); a.watch != nil {
					a.watch.zeroed(l, m, at, at+l.chunk)
				}
			}
		}
		return
	}
	for at := from; at < to; {
		first, place := l.Place(at)
		length := min(to-at, l.run(at, place))
		for m := first; m < first+l.copies(); m++ {
			l.member(a, m).trim(place, place+length)
		}
		at += length
	}
}

// allFlash reports whether all members are SSDs and have all they should.
func (l *layout) allFlash(a *Array) bool {
	for m := range l.members {
		if it := l.member(a, m); it.flash == nil || it.failed {
			return false
		}
	}
	return true
}
