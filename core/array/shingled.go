package array

import (
	"math"

	"patientheron/core/quantity"
)

// shingled is what a disk does whose tracks overlap within bands, and which manages that
// by itself. What goes on from where its band was written to last is written in place;
// all else lands, in the order in which it comes, in a region that is not shingled, and
// is moved home band by band: all of a band is read and written.
type shingled struct {
	band, size int64           // of a band, and of the region
	goesOn     map[int64]int64 // where the writing of a band goes on, unless from its beginning
	held       map[int64]int64 // bytes of each band that are in the region
	order      []int64         // bands that have any, the oldest first
	sum        int64
	head       int64   // place in the region
	waiting    []int32 // writes for which there is no room
	done       int64   // bytes of the oldest band that were read, and then written
	yields     bool    // a command has its turn before the next step
	awaken     bool    // an event is due that lets it begin
	last       int64   // when the disk was asked for something
	movedHome  int64   // bands
}

// Defaults of shingled disks: the region is a share of the disk.
const (
	shingledBand  = 256 * quantity.MiB
	shingledShare = 200
)

const (
	// homeStep is what is read or written of a band before others have their turn.
	homeStep = 8 << 20
	// quiet is how long nothing must have been asked until bands are moved home although
	// there is room.
	quiet = int64(1e9)
)

func newShingled(g Group) *shingled {
	return &shingled{band: int64(g.Band), size: int64(g.Region), goesOn: map[int64]int64{}, held: map[int64]int64{}}
}

// goes reports whether a write goes in place, and notes where its band goes on.
func (s *shingled) goes(from, to int64) bool {
	band := from / s.band
	place, known := s.goesOn[band]
	if !known {
		place = band * s.band
	}
	if from != place {
		return false
	}
	delete(s.goesOn, band)
	if to%s.band != 0 {
		s.goesOn[to/s.band] = to
	}
	return true
}

// put takes a write into the region, and tells where it lies there.
func (s *shingled) put(from, to int64) (place int64) {
	for from < to {
		band := from / s.band
		stop := min(to, (band+1)*s.band)
		if s.held[band] == 0 {
			s.order = append(s.order, band)
		}
		s.held[band] += stop - from
		s.sum += stop - from
		place = s.head
		from = stop
	}
	return place
}

// writeShingled queues a write of a shingled disk, or lets it wait for room.
func (d *disk) writeShingled(a *Array, id int32, p *piece) {
	s, length := d.shingled, int64(p.length)
	switch {
	case s.goes(p.offset, p.offset+length):
		d.queue(a, d.place(id, true, p.offset, p.length, float64(a.now)))
	case len(s.waiting) > 0 || s.sum > 0 && s.sum+length > s.size:
		s.waiting = append(s.waiting, id)
		if d.current == idle {
			d.serve(a)
		}
	default:
		d.writeApart(a, id, p)
	}
}

// writeApart queues a write to the region.
func (d *disk) writeApart(a *Array, id int32, p *piece) {
	s, length := d.shingled, int64(p.length)
	if s.head+length > s.size {
		s.head = 0
	}
	at := s.put(p.offset, p.offset+length)
	s.head += length
	d.queue(a, d.place(id, true, at, p.length, float64(a.now)))
}

// wantsTurn reports whether a step towards home comes before what else waits: always
// when writes wait for room, though every other time, and when nobody asked anything
// for a while.
func (s *shingled) wantsTurn(now int64, others bool) bool {
	switch {
	case len(s.order) == 0 || others && s.yields:
		s.yields = false
		return false
	case len(s.waiting) > 0:
		return true
	}
	return !others && now-s.last >= quiet
}

// goHome reads or writes a step of the oldest band.
func (d *disk) goHome(a *Array) {
	s := d.shingled
	begin := s.order[0] * s.band
	length := min(s.band, int64(d.model.Capacity)-begin)
	at, writes := s.done, s.done >= length
	if writes {
		at -= length
	}
	step := min(homeStep, length-at)
	s.done += step
	q := d.place(0, writes, begin+at, int(step), math.Inf(-1))
	d.move(a, &q, d.positioning(float64(a.now), &q), goingHome)
}

// wentHome ends a step. A band that is home gives its room in the region free.
func (d *disk) wentHome(a *Array) {
	s := d.shingled
	s.yields = true
	band := s.order[0]
	if s.done < 2*min(s.band, int64(d.model.Capacity)-band*s.band) {
		return
	}
	s.sum -= s.held[band]
	delete(s.held, band)
	s.order = s.order[1:]
	s.done = 0
	s.movedHome++
	for len(s.waiting) > 0 {
		id := s.waiting[0]
		p := &a.commands.at(id).piece
		if s.sum > 0 && s.sum+int64(p.length) > s.size {
			break
		}
		s.waiting = s.waiting[1:]
		d.writeApart(a, id, p)
	}
}

// rest lets a disk with nothing to do move bands home after a while.
func (d *disk) rest(a *Array) {
	s := d.shingled
	if s == nil || s.awaken || len(s.order) == 0 {
		return
	}
	s.awaken = true
	a.events.add(max(s.last+quiet, a.now+1), diskRests, int32(d.member.number))
}

// rested lets a disk go on that has had nothing to do.
func (d *disk) rested(a *Array) {
	d.shingled.awaken = false
	if d.current == idle {
		d.serve(a)
	}
}
