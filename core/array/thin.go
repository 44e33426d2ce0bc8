package array

import (
	"slices"

	"patientheron/core/quantity"
)

// thinUnit is the room that a thin volume takes at a time, unless it is said.
const thinUnit = quantity.MiB

// thin gives a volume room of a pool, a unit at a time, when it is first written, and
// keeps snapshots: what one of them holds is copied before it is written over. A unit
// that is being copied is written and read by nobody else.
type thin struct {
	room
	unit  int64
	grain int64 // what slots and room are counted in
	full  int32 // grains of a unit as it is
	size  int64 // of the volume

	units   []*[unitPage]placed // where the units of the volume lie, by pages made as they are used
	filled  int32               // units that lie where the volume has them at first
	reduced *reduction          // nil where all that is written is stored as it is
	zeroes  bool                // what a first write leaves of a unit is written with zeros

	generation int32   // counts the snapshots
	snapshots  []int32 // those that are kept, by their generation, oldest first
	held       []old
	every      int64
	keep       int

	busy map[int32][]int32 // units that are being copied, and the jobs that wait for that

	copied, refused int64 // bytes; writes for which there was no room
}

// unitPage is how many units are in a page of the table of them.
const unitPage = 512

// stored is a unit as it lies in the pool: from which grain on, and in how many.
type stored struct {
	slot   int32 // -1 for nowhere
	grains uint16
}

// placed is where a unit of the volume lies, and in which generation it came there.
type placed struct {
	stored
	born int32
}

// old is a slot that only snapshots hold: those of the generations from born up to,
// and without, left.
type old struct {
	stored
	unit, born, left int32
}

func newThin(d Description) *thin {
	if d.Thin == nil {
		return nil
	}
	grain := int64(d.Thin.grain())
	t := &thin{
		unit: int64(d.Thin.Unit), grain: grain, full: int32(int64(d.Thin.Unit) / grain), size: int64(d.Size()),
		zeroes: !d.Thin.Unzeroed, every: int64(d.Snapshots.Every.Duration()), keep: d.Snapshots.Keep, busy: map[int32][]int32{},
	}
	units := (t.size + t.unit - 1) / t.unit
	t.units, t.filled = make([]*[unitPage]placed, (units+unitPage-1)/unitPage), int32((d.filled()+t.unit-1)/t.unit)
	t.room, t.reduced = newRoom(int32(int64(d.Usable())/t.unit)*t.full, t.full), newReduction(*d.Thin)
	t.room.begin(t.filled * t.full)
	if t.reduced != nil {
		t.reduced.entries = int64(t.filled)
	}
	return t
}

// of is where a unit lies.
func (t *thin) of(unit int32) placed {
	if page := t.units[unit/unitPage]; page != nil {
		return page[unit%unitPage]
	}
	return t.atFirst(unit)
}

// atFirst is where a unit lies before anything is written.
func (t *thin) atFirst(unit int32) placed {
	if unit < t.filled {
		return placed{stored: stored{unit * t.full, uint16(t.full)}}
	}
	return placed{stored: stored{slot: -1}}
}

// lie lets a unit lie somewhere from now on.
func (t *thin) lie(unit int32, it stored) {
	page := t.units[unit/unitPage]
	if page == nil {
		page = new([unitPage]placed)
		for i := range page {
			page[i] = t.atFirst(unit/unitPage*unitPage + int32(i))
		}
		t.units[unit/unitPage] = page
	}
	page[unit%unitPage] = placed{it, t.generation}
}

// take takes room for a unit of so many grains, and reports whether there is any.
func (t *thin) take(grains uint16) (stored, bool) {
	slot := t.room.take(int32(grains))
	if slot >= 0 && t.reduced != nil {
		t.reduced.entries++
	}
	return stored{slot, grains}, slot >= 0
}

// unitsOf calls each for the units that a range touches, with its part of each.
func (t *thin) unitsOf(from, to int64, each func(unit int32, from, to int64)) {
	for from < to {
		unit := from / t.unit
		stop := min(to, (unit+1)*t.unit)
		each(int32(unit), from, stop)
		from = stop
	}
}

// place is where a byte of the volume lies in a slot of a unit as it is.
func (t *thin) place(slot int32, at int64) int64 { return int64(slot)*t.grain + at%t.unit }

// limits are where a unit begins and ends in the volume.
func (t *thin) limits(unit int32) (from, to int64) {
	from = int64(unit) * t.unit
	return from, min(from+t.unit, t.size)
}

// plan issues an operation unit by unit. What lies together in the pool goes on
// together.
func (t *thin) plan(a *Array, n int32) {
	if t.reduced != nil {
		t.planReduced(a, n)
		return
	}
	j := a.jobs.at(n)
	var run struct{ at, place, length int64 }
	send := func() {
		if run.length > 0 {
			a.below(n, j.kind, run.at, run.place, int(run.length))
		}
		run.length = 0
	}
	t.unitsOf(j.offset, j.end(), func(unit int32, from, to int64) {
		lies := t.ready(a, n, unit, from, to)
		if !lies {
			send()
			return
		}
		place := t.place(t.of(unit).slot, from)
		if run.length > 0 && place != run.place+run.length {
			send()
		}
		if run.length == 0 {
			run.at, run.place = from, place
		}
		run.length += to - from
	})
	send()
}

// ready makes ready what an operation needs of a unit, and reports whether it can go to
// where the unit lies now. Otherwise it is seen to.
func (t *thin) ready(a *Array, n int32, unit int32, from, to int64) bool {
	j := a.jobs.at(n)
	if waiting, isBusy := t.busy[unit]; isBusy {
		t.busy[unit] = append(waiting, t.partOf(a, n, from, to))
		return false
	}
	begin, end := t.limits(unit)
	whole := from == begin && to == end
	it := t.of(unit)
	lies := it.slot >= 0
	switch j.kind {
	case trims:
		if lies && whole {
			t.leave(a, unit)
		}
		return false
	case reads:
		if !lies && a.watch != nil {
			a.watch.planned(n, nil, reads, from, from, int(to-from), nil, nil)
		}
		return lies
	}
	if lies && t.reduced == nil && !t.shared(it.born) {
		return true
	}
	grains := uint16(1)
	if t.reduced != nil {
		grains = t.reduced.takes(t.full)
	}
	place, isRoom := t.take(grains)
	switch {
	case !isRoom:
		t.refused++
		j.failed = true
		return false
	case whole || !lies && !t.zeroes:
		t.leave(a, unit)
		t.lie(unit, place)
		j.lasting = true // others may have lain there
		return true
	}
	c := t.rewrite(a, n, unit, place)
	if t.copied += end - begin; t.reduced != nil {
		t.reduced.taken += end - begin
	}
	t.readRest(a, c, unit, from, to)
	a.partDone(c, false)
	return false
}

// partOf is a part of a job that waits.
func (t *thin) partOf(a *Array, n int32, from, to int64) int32 {
	j := a.jobs.at(n)
	p := a.part(n, j.kind, from, int(to-from))
	a.jobs.at(p).step = stepWait
	j.place = placeCopy
	return p
}

// rewrite makes a part of a job that writes all of a unit to a place when what it needs
// before was read. Until then nobody else reads or writes it.
func (t *thin) rewrite(a *Array, n, unit int32, to stored) int32 {
	begin, end := t.limits(unit)
	t.busy[unit] = []int32{}
	c := a.part(n, writes, begin, int(end-begin))
	k := a.jobs.at(c)
	k.lasting = true // what it takes the place of had to last
	k.purpose, k.step, k.tag, k.stamp = forCopy, stepTaken, int(unit), uint64(to.slot)|uint64(to.grains)<<32
	k.pending = 1
	a.jobs.at(n).place = placeCopy
	return c
}

// readRest reads what a write leaves as it is of a unit; of one that lay nowhere that is
// zeros.
func (t *thin) readRest(a *Array, c, unit int32, from, to int64) {
	begin, end := t.limits(unit)
	together := run{job: -1}
	for _, rest := range [2][2]int64{{begin, from}, {to, end}} {
		at, length := rest[0], rest[1]-rest[0]
		switch {
		case length == 0:
		case t.of(unit).slot < 0:
			if a.watch != nil {
				a.watch.planned(c, nil, reads, at, at, int(length), nil, nil)
			}
		case t.reduced != nil:
			t.readPart(a, c, unit, at, at+length, &together)
		default:
			a.below(c, reads, at, t.place(t.of(unit).slot, at), int(length))
		}
	}
	together.send(a, c, reads)
}

// rewritten is where a job writes a unit.
func rewritten(k *job) stored { return stored{int32(uint32(k.stamp)), uint16(k.stamp >> 32)} }

// taken writes a unit, of which the rest was read, to its new place.
func (t *thin) taken(a *Array, c int32) {
	k := a.jobs.at(c)
	k.step = stepMembers
	k.pending++
	to := rewritten(k)
	switch {
	case k.failed:
	case t.reduced != nil:
		t.reduced.kept += int64(to.grains) * t.grain
		together := run{job: -1}
		together.add(a, c, writes, t.partAt(int32(k.tag), to))
		together.send(a, c, writes)
	default:
		a.below(c, writes, k.offset, t.place(to.slot, k.offset), k.length)
	}
	a.partDone(c, false)
}

// copiedTo lets a unit lie where it was copied to, and lets those go on that waited.
func (t *thin) copiedTo(a *Array, done job) {
	unit, to := int32(done.tag), rewritten(&done)
	if done.failed {
		t.free(a, to)
	} else {
		t.leave(a, unit)
		t.lie(unit, to)
		t.reduced.know(to)
	}
	waiting := t.busy[unit]
	delete(t.busy, unit)
	for i, n := range waiting {
		if _, again := t.busy[unit]; again {
			t.busy[unit] = append(t.busy[unit], waiting[i:]...)
			return
		}
		a.behind(n)
	}
}

// shared reports whether a snapshot holds what came to lie somewhere in a generation.
func (t *thin) shared(born int32) bool {
	return len(t.snapshots) > 0 && t.snapshots[len(t.snapshots)-1] >= born
}

// leave lets a unit lie nowhere. Where it lay is free unless a snapshot holds that.
func (t *thin) leave(a *Array, unit int32) {
	it := t.of(unit)
	if it.slot < 0 {
		return
	}
	if t.lie(unit, stored{slot: -1}); t.shared(it.born) {
		t.held = append(t.held, old{it.stored, unit, it.born, t.generation})
		return
	}
	t.free(a, it.stored)
}

// free gives a place back to the pool, and its room to the members.
func (t *thin) free(a *Array, it stored) {
	if t.reduced != nil && !t.reduced.release(it.slot) {
		return
	}
	t.push(it.slot, int32(it.grains))
	a.giveBack(int64(it.slot)*t.grain, (int64(it.slot)+int64(it.grains))*t.grain)
}

// snap takes a snapshot, and lets the oldest go when more are kept than shall be.
func (t *thin) snap(a *Array) {
	t.snapshots = append(t.snapshots, t.generation)
	t.generation++
	for t.keep > 0 && len(t.snapshots) > t.keep {
		t.drop(a)
	}
}

// drop lets the oldest snapshot go, and what only it held.
func (t *thin) drop(a *Array) {
	if len(t.snapshots) == 0 {
		a.counters.faultsIgnored++
		return
	}
	t.snapshots = t.snapshots[1:]
	t.held = slices.DeleteFunc(t.held, func(o old) bool {
		for _, s := range t.snapshots {
			if o.born <= s && s < o.left {
				return false
			}
		}
		t.free(a, o.stored)
		return true
	})
}

// used is the share of the pool that holds anything.
func (t *thin) used() float64 { return ratio(float64(t.end-t.left), float64(t.end)) }

// snapshot takes a snapshot of the volume, with what caches have not passed on yet.
func (a *Array) snapshot() { a.enter(a.newJob(flushes, forSnapshot, 0, 0)) }
