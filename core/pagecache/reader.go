package pagecache

import "math"

// Reader notices who reads in order, of a few at a time.
type Reader struct {
	streams []stream
	next    int
}

// stream is what somebody reads in order.
type stream struct {
	end    int64 // of what was read last, in bytes: who reads on begins there
	marker int64 // page at which more is read ahead
	upto   int64 // page up to which it was read ahead
}

// NewReader notices up to so many at a time. Who reads from the beginning on reads in
// order.
func NewReader(beginning int64, count int) *Reader {
	r := &Reader{streams: make([]stream, count)}
	for i := range r.streams {
		r.streams[i].end = beginning
	}
	return r
}

// ahead notes that a part is read, and gives the pages that are to be read ahead for that:
// none where from is not below upto. As Linux does it (mm/readahead.c), a piece is read ahead
// as soon as somebody comes to the beginning of the one before; it is as large as what is
// asked for where that is larger.
func (r *Reader) ahead(part Range, size, last int64) (from, upto int64) {
	first, behind := part.pages()
	for i := range r.streams {
		s := &r.streams[i]
		if s.end != part.Offset {
			continue
		}
		s.end = part.Offset + part.Length
		if behind <= s.marker {
			return behind, behind
		}
		from = max(s.upto, behind)
		upto = min(from+max(size, min(behind-first, largest)), last)
		if s.marker, s.upto = from, upto; from >= upto { // the end
			s.marker = math.MaxInt64
			return behind, behind
		}
		return from, upto
	}
	r.streams[r.next] = stream{end: part.Offset + part.Length}
	r.next = (r.next + 1) % len(r.streams)
	return behind, behind
}
