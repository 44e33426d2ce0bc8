package array

import "math/bits"

// layout maps places of the volume to places of its members.
type layout struct {
	base    int // number of its first member in the array
	level   Level
	chunk   int64
	shift   uint // of the chunk size when that is a power of two, otherwise 0
	members int
	data    int // members of a stripe that hold data
	parity  int // members of a stripe that hold parity
	ends    []int64
}

func newLayout(form Layout, members []Group, base int) *layout {
	l := &layout{base: base, level: form.Level, chunk: int64(form.Chunk)}
	if chunk := uint64(l.chunk); chunk&(chunk-1) == 0 && chunk > 1 {
		l.shift = uint(bits.TrailingZeros64(chunk))
	}
	l.members = len(members)
	l.data = l.members
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
			end += int64(m.Capacity)
			l.ends = append(l.ends, end)
		}
	}
	l.data -= l.parity
	return l
}

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
	at = stripe*l.chunk + within
	switch l.level {
	case MirrorStripe:
		return 2 * column, at
	case Parity, DoubleParity:
		// Parity moves one member to the left with each stripe; data begins
		// behind it, so that consecutive chunks go round all members.
		return (l.parityMember(stripe) + l.parity + column) % l.members, at
	}
	return column, at
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

// parityMember is the first parity member of a stripe; a second one follows
// it.
func (l *layout) parityMember(stripe int64) int {
	_, rest := divide(stripe, l.members)
	return l.members - 1 - rest
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

// issue sends a piece to a member of the layout.
func (l *layout) issue(a *Array, number int32, p piece) {
	p.member += l.base
	a.issue(number, p)
}

// plan issues what a request needs of the members. A small write to a parity
// layout leaves its writes for the second phase.
func (l *layout) plan(a *Array, number int32, r Request) {
	if l.parity > 0 && r.Write {
		l.planParityWrite(a, number, r)
		return
	}
	for at, end := r.Offset, r.Offset+int64(r.Length); at < end; {
		member, place := l.Place(at)
		length := min(end-at, l.run(at, place))
		p := piece{member: member, offset: place, length: int(length), write: r.Write}
		switch {
		case r.Write:
			l.writeCopies(a, number, p)
		case l.parity > 0:
			l.readParity(a, number, p)
		default:
			l.readCopy(a, number, p)
		}
		at += length
	}
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

func (l *layout) writeCopies(a *Array, number int32, p piece) {
	first, written := p.member, 0
	for i := range l.copies() {
		p.member = first + i
		if !l.member(a, p.member).failed {
			l.issue(a, number, p)
			written++
		}
	}
	if written == 0 {
		a.ios[number].failed = true
	}
}

// readCopy reads from the copy with the fewest operations waiting; among equal
// ones, from the one that the place falls to.
func (l *layout) readCopy(a *Array, number int32, p piece) {
	first, best := p.member, -1
	copies := l.copies()
	if copies == 1 && !l.member(a, first).failed {
		l.issue(a, number, p)
		return
	}
	chunk, _ := l.split(p.offset)
	_, start := divide(chunk, copies)
	for i := range copies {
		m := first + start + i
		if m >= first+copies {
			m -= copies
		}
		if !l.member(a, m).failed && (best < 0 || l.member(a, m).waiting < l.member(a, best).waiting) {
			best = m
		}
	}
	if best < 0 {
		a.ios[number].failed = true
		return
	}
	p.member = best
	l.issue(a, number, p)
}

// missing counts the members that failed.
func (l *layout) missing(a *Array) (count int) {
	for m := range l.members {
		if l.member(a, m).failed {
			count++
		}
	}
	return count
}

// readParity reads a piece, or what reconstructs it when its member is
// missing: the same range of as many others as the stripe has data members.
func (l *layout) readParity(a *Array, number int32, p piece) {
	if !l.member(a, p.member).failed {
		l.issue(a, number, p)
		return
	}
	if l.missing(a) > l.parity {
		a.ios[number].failed = true
		return
	}
	needed := l.data
	for m := range l.members {
		if needed > 0 && !l.member(a, m).failed {
			p.member = m
			l.issue(a, number, p)
			needed--
		}
	}
}

// planParityWrite writes stripe by stripe: a full stripe at once, anything
// less by reading old data and old parity first (Chen, Lee, Gibson, Katz and
// Patterson, RAID: high-performance, reliable secondary storage, 1994).
func (l *layout) planParityWrite(a *Array, number int32, r Request) {
	if l.missing(a) > l.parity {
		a.ios[number].failed = true
		return
	}
	width := l.chunk * int64(l.data)
	for at, end := r.Offset, r.Offset+int64(r.Length); at < end; {
		stripe := at / width
		stop := min(end, (stripe+1)*width)
		if at == stripe*width && stop == at+width {
			l.writeStripe(a, number, stripe)
		} else {
			l.writePart(a, number, stripe, at, stop)
		}
		at = stop
	}
}

func (l *layout) writeStripe(a *Array, number int32, stripe int64) {
	for m := range l.members {
		if !l.member(a, m).failed {
			l.issue(a, number, piece{member: m, offset: stripe * l.chunk, length: int(l.chunk), write: true})
		}
	}
}

// writePart writes less than a stripe. When a member that holds data of it is
// missing, the others are read instead of the old data.
func (l *layout) writePart(a *Array, number int32, stripe, from, to int64) {
	op := &a.ios[number]
	low, high := l.chunk, int64(0) // range of the parity
	reconstruct := false
	var touched [256]bool
	for at := from; at < to; {
		member, place := l.Place(at)
		length := min(to-at, l.chunk-place%l.chunk)
		low, high = min(low, place%l.chunk), max(high, place%l.chunk+length)
		if l.member(a, member).failed {
			reconstruct = true
		} else {
			touched[member] = true
			op.second = append(op.second, piece{member: l.base + member, offset: place, length: int(length), write: true})
		}
		at += length
	}
	parities := 0
	first := l.parityMember(stripe)
	for i := range l.parity {
		if m := (first + i) % l.members; !l.member(a, m).failed {
			parities++
			op.second = append(op.second, piece{member: l.base + m, offset: stripe*l.chunk + low, length: int(high - low), write: true})
		}
	}
	if parities == 0 {
		return // nothing to keep true: the data alone is written
	}
	for m := range l.members {
		isParity := (m-first+l.members)%l.members < l.parity
		if l.member(a, m).failed || (reconstruct && (isParity || touched[m])) || (!reconstruct && !isParity && !touched[m]) {
			continue
		}
		l.issue(a, number, piece{member: m, offset: stripe*l.chunk + low, length: int(high - low)})
	}
}
