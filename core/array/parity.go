package array

// span is a range of places within the chunks of a stripe.
type span struct{ low, high int64 }

// cover calls each for the data columns of a stripe that a range of the volume
// touches, with the places that it covers in each.
func (l *layout) cover(stripe, from, to int64, each func(column int, s span)) {
	start := stripe * l.width()
	for at := from; at < to; {
		column, within := (at-start)/l.chunk, (at-start)%l.chunk
		length := min(to-at, l.chunk-within)
		each(int(column), span{within, within + length})
		at += length
	}
}

// stripes calls each for the stripes that a range touches, with its part of each.
func (l *layout) stripes(from, to int64, each func(stripe, from, to int64)) {
	width := l.width()
	for at := from; at < to; {
		stripe := at / width
		stop := min(to, (stripe+1)*width)
		each(stripe, at, stop)
		at = stop
	}
}

// planParityRead reads a range, and where its member is missing what reconstructs
// it: the same places of as many others as the stripe has data members, those that
// are read anyway first.
func (l *layout) planParityRead(a *Array, j *job, from, to int64) {
	l.stripes(from, to, func(stripe, from, to int64) {
		base := l.row(stripe) * l.chunk
		l.cover(stripe, from, to, func(column int, s span) {
			if m := l.column(stripe, column); l.member(a, m).has(base + s.high) {
				a.pieces = append(a.pieces, l.piece(a, m, base+s.low, s.high-s.low, false))
				return
			}
			needed := l.data
			for i := range l.columns { // data columns, then parity
				m := l.column(stripe, i)
				if needed > 0 && l.member(a, m).has(base+s.high) {
					a.pieces = append(a.pieces, l.piece(a, m, base+s.low, s.high-s.low, false))
					needed--
				}
			}
			j.failed = j.failed || needed > 0
		})
	})
}

// planParityWrite writes stripe by stripe (Chen, Lee, Gibson, Katz and Patterson,
// RAID: high-performance, reliable secondary storage, 1994).
func (l *layout) planParityWrite(a *Array, j *job, from, to int64) {
	l.stripes(from, to, func(stripe, from, to int64) { l.writeStripe(a, j, stripe, from, to) })
}

// writeStripe writes a range of one stripe. Where the range covers the same columns
// the parity is worked out alike: between the places at which its first column
// begins and its last one ends there are at most three such spans.
func (l *layout) writeStripe(a *Array, j *job, stripe, from, to int64) {
	first, last := from%l.chunk, (to-1)%l.chunk+1
	cuts := [4]int64{0, min(first, last), max(first, last), l.chunk}
	immediate := len(a.pieces)
	delayed := len(j.second)
	readsFirst := false
	for i := range 3 {
		s := span{cuts[i], cuts[i+1]}
		if s.low >= s.high {
			continue
		}
		var touched [256]bool
		count := 0
		l.cover(stripe, from, to, func(column int, c span) {
			if c.low <= s.low && s.high <= c.high {
				touched[column] = true
				count++
			}
		})
		if count > 0 && l.writeSpan(a, j, stripe, s, &touched, count) {
			readsFirst = true
		}
	}
	if !readsFirst { // a whole stripe is written at once
		a.pieces = append(a.pieces[:immediate], j.second[delayed:]...)
		j.second = j.second[:delayed]
	}
}

// writeSpan writes the same places of some columns of a stripe and of its parity. It
// reads first what costs less: the old data and parity, or the data that stays. It
// reports whether anything has to be read.
func (l *layout) writeSpan(a *Array, j *job, stripe int64, s span, touched *[256]bool, count int) bool {
	base := l.row(stripe) * l.chunk
	has := func(m int) bool { return l.member(a, m).has(base + s.high) }
	var parities, lostTouched, lostRest int
	for i := range l.columns {
		isThere := has(l.column(stripe, i))
		switch {
		case i >= l.data && isThere:
			parities++
		case i < l.data && !isThere && touched[i]:
			lostTouched++
		case i < l.data && !isThere:
			lostRest++
		}
	}
	if l.parity-parities+lostTouched+lostRest > l.parity {
		j.failed = true
		return false
	}
	add := func(i int, write bool) {
		p := l.piece(a, l.column(stripe, i), base+s.low, s.high-s.low, write)
		if write {
			j.second = append(j.second, p)
		} else {
			a.pieces = append(a.pieces, p)
		}
	}
	for i := range l.columns {
		m := l.column(stripe, i)
		if i < l.data && !touched[i] {
			continue
		}
		if has(m) {
			add(i, true)
		}
		if it := l.member(a, m); it.failed {
			it.missed(a, base+s.low, s.high-s.low)
		}
	}
	if parities == 0 {
		return false // nothing to keep true: the data alone is written
	}
	oldNeeded := lostRest > 0 || lostTouched == 0 && count+parities < l.data-count
	restNeeded := lostTouched > 0 || !oldNeeded
	readAny := false
	for i := range l.columns {
		isParity := i >= l.data
		wanted := restNeeded && !isParity && !touched[i] || oldNeeded && (isParity || touched[i])
		if wanted && has(l.column(stripe, i)) {
			add(i, false)
			readAny = true
		}
	}
	return readAny
}
