package array

import (
	"math"
	"math/bits"
	"math/rand/v2"

	"patientheron/core/quantity"
)

// reduction makes less of what is written to a pool: a unit is compressed into as many
// pages as it then takes, and one that is there already is not written once more. So
// that they can change their size, units are written whole, each time to another place.
type reduction struct {
	compresses, deduplicates bool
	processors               server
	memory                   int64   // entries of the index that it has room for; 0 for all
	compressible, duplicate  float64 // shares of what is written from now on

	shared   map[int32]int32   // places that more than one unit lies at: how many more
	contents map[uint64]stored // what the load repeats, by what it is
	named    map[int32]uint64  // what lies at those places
	entries  int64             // of the index: places that something lies at
	draws    *rand.Rand

	taken, kept, repeated int64 // bytes: of the units that were written, of what was stored of them, and of those that were there already
	looked                int64 // looks at the index on the members
}

// indexEntry is what the index takes of memory for a unit that is stored: a digest of 32
// bytes, its place, and the way to both.
const indexEntry = 64

func newReduction(t Thin) *reduction {
	if !t.reduces() {
		return nil
	}
	return &reduction{
		compresses: t.Compresses, deduplicates: t.Deduplicates, processors: server{perByte: perSecond(float64(t.Throughput))}, memory: int64(t.Index / indexEntry),
		draws: rand.New(rand.NewPCG(1, 1)), shared: map[int32]int32{}, contents: map[uint64]stored{}, named: map[int32]uint64{},
	}
}

// reduces reports whether less is stored than is written.
func (t Thin) reduces() bool { return t.Compresses || t.Deduplicates }

// unit is what is taken for the size of units where none is said.
func (t Thin) unit() quantity.Bytes {
	switch {
	case t.Unit > 0:
		return t.Unit
	case t.Deduplicates && t.Compresses:
		return 2 * pageSize
	case t.Deduplicates:
		return pageSize
	case t.Compresses:
		return 32 * quantity.KiB
	}
	return thinUnit
}

// grain is what room of the pool is counted in.
func (t Thin) grain() quantity.Bytes {
	if t.reduces() {
		return pageSize
	}
	return t.Unit
}

// takes is how many pages a unit of the volume takes that is written now.
func (r *reduction) takes(full int32) uint16 {
	if !r.compresses {
		return uint16(full)
	}
	return uint16(max(math.Ceil(float64(full)*(1-r.compressible)-1e-9), 1))
}

// repeats draws whether a unit that is written is made of nothing but the pages that a
// load repeats, of which there are sixteen, and which of them those are.
func (r *reduction) repeats(full int32) (what uint64, does bool) {
	if !r.deduplicates || r.duplicate == 0 || r.draws.Float64() >= math.Pow(r.duplicate, float64(full)) {
		return 0, false
	}
	for range full {
		what = bits.RotateLeft64(what, 4) ^ r.draws.Uint64N(16) // of up to 16 pages it tells all
	}
	return what, true
}

// beyond reports whether what has to be looked up of the index is not in memory.
func (r *reduction) beyond() bool {
	return r.deduplicates && r.memory > 0 && r.entries > r.memory && r.draws.Float64() >= float64(r.memory)/float64(r.entries)
}

// know lets units like one that was stored be found.
func (r *reduction) know(it stored) {
	if r == nil {
		return
	}
	if what, is := r.named[it.slot]; is {
		r.contents[what] = it
	}
}

// release lets one unit less lie at a place, and reports whether none does any more.
func (r *reduction) release(slot int32) bool {
	if more := r.shared[slot]; more > 0 {
		if r.shared[slot]--; more == 1 {
			delete(r.shared, slot)
		}
		return false
	}
	if what, is := r.named[slot]; is {
		if delete(r.named, slot); r.contents[what].slot == slot {
			delete(r.contents, what)
		}
	}
	r.entries--
	return true
}

// unitPart is a range of a unit of the volume that is read or written: all of the unit
// lies at one place of the pool, and so much at another is read or written for it.
type unitPart struct{ begin, from, to, at, place, length int64 }

// planReduced issues an operation unit by unit. What lies together in the pool is one
// operation there.
func (t *thin) planReduced(a *Array, n int32) {
	j := a.jobs.at(n)
	together := run{job: -1}
	t.unitsOf(j.offset, j.end(), func(unit int32, from, to int64) {
		begin, end := t.limits(unit)
		_, isBusy := t.busy[unit]
		switch {
		case j.kind == writes && from == begin && to == end && !isBusy:
			t.writeWhole(a, n, unit, &together)
		case t.ready(a, n, unit, from, to):
			t.readPart(a, n, unit, from, to, &together)
		}
	})
	together.send(a, n, j.kind)
}

// readPart reads a range of a unit: with all of it when it is compressed.
func (t *thin) readPart(a *Array, n, unit int32, from, to int64, together *run) {
	begin, _ := t.limits(unit)
	it := t.of(unit)
	at := t.place(it.slot, begin)
	part := unitPart{begin: begin, from: from, to: to, at: at, place: at, length: int64(it.grains) * t.grain}
	if int32(it.grains) == t.full {
		part.place, part.length = at+from-begin, to-from
	}
	together.add(a, n, reads, part)
}

// writeWhole writes a unit, unless it is there already.
func (t *thin) writeWhole(a *Array, n, unit int32, together *run) {
	r := t.reduced
	begin, end := t.limits(unit)
	what, repeats := uint64(0), false
	if end-begin == t.unit {
		what, repeats = r.repeats(t.full)
	}
	beyond := r.beyond()
	r.taken += end - begin
	if it, is := r.contents[what]; repeats && is {
		if beyond {
			t.look(a, n)
		}
		r.repeated += end - begin
		r.shared[it.slot]++
		t.leave(a, unit)
		t.lie(unit, it)
		if a.watch != nil {
			a.watch.same(n, t.partFor(unit))
		}
		return
	}
	to, isRoom := t.take(r.takes(t.full))
	switch {
	case !isRoom:
		t.refused++
		a.jobs.at(n).failed = true
	case beyond:
		c := t.rewrite(a, n, unit, to)
		if repeats {
			r.named[to.slot] = what
		}
		a.jobs.at(n).place = placeLookUp
		t.look(a, c)
		a.partDone(c, false)
	default:
		t.leave(a, unit)
		t.lie(unit, to)
		a.jobs.at(n).lasting = true // others may have lain there
		if repeats {
			r.contents[what], r.named[to.slot] = to, what
		}
		r.kept += int64(to.grains) * t.grain
		together.add(a, n, writes, t.partFor(unit))
	}
}

// partFor is all of a unit, where it lies.
func (t *thin) partFor(unit int32) unitPart {
	return t.partAt(unit, t.of(unit).stored)
}

// partAt is all of a unit that lies somewhere, or will.
func (t *thin) partAt(unit int32, it stored) unitPart {
	begin, end := t.limits(unit)
	at := t.place(it.slot, begin)
	return unitPart{begin: begin, from: begin, to: end, at: at, place: at, length: int64(it.grains) * t.grain}
}

// look reads a part of the index that is not in memory: a page somewhere in the pool.
func (t *thin) look(a *Array, n int32) {
	t.reduced.looked++
	at := t.reduced.draws.Int64N(a.pool/pageSize) * pageSize
	p := a.inPool(n, reads, at)
	a.below(p, reads, at, at, pageSize)
	a.partDone(p, false)
}

// inPool makes a part of a job that reads or writes a range of the pool as it is, not of
// the volume.
func (a *Array) inPool(n int32, k kind, place int64) int32 {
	p := a.newJob(k, forParent, place, 0)
	a.under(p, n)
	j := a.jobs.at(p)
	j.step, j.pending = stepMembers, 1
	return p
}

// run is what is read or written of the pool in one piece.
type run struct {
	job           int32 // -1 for none
	place, length int64
	last          int64      // where what was added last begins
	parts         []unitPart // for whoever watches
}

// add adds a range of a unit to a run, or sends that and begins another one.
func (u *run) add(a *Array, n int32, k kind, part unitPart) {
	again := u.job >= 0 && part.place == u.last
	if u.job >= 0 && !again && part.place != u.place+u.length {
		u.send(a, n, k)
	}
	if u.job < 0 {
		*u = run{job: a.inPool(n, k, part.place), place: part.place, parts: u.parts[:0]}
	}
	if u.last = part.place; !again {
		u.length += part.length
	}
	if a.watch == nil {
		return
	}
	if u.parts = append(u.parts, part); k == writes {
		a.watch.packed(n, u.job, part)
	}
}

// send issues what was put together.
func (u *run) send(a *Array, n int32, k kind) {
	if u.job < 0 {
		return
	}
	p := u.job
	u.job = -1
	a.jobs.at(p).length = int(u.length)
	a.below(p, k, u.place, u.place, int(u.length))
	if a.watch != nil && k == reads {
		for _, part := range u.parts {
			a.watch.unpacked(n, p, part)
		}
	}
	a.partDone(p, false)
}
