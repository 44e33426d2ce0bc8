package array

import (
	"cmp"
	"slices"

	"patientheron/core/quantity"
)

// Defaults of a tier.
const (
	tierExtent = 64 * quantity.MiB
	tierEvery  = quantity.Seconds(10)
	tierRate   = quantity.ByteRate(100e6)
)

// tier keeps some extents of the volume on faster members. An extent lies where it was
// moved to as a whole, or where new data first landed: one that holds nothing yet is
// put on a tier by the first write to it, while there is room.
type tier struct {
	parts  []tierPart // the fastest first
	extent int64
	every  int64
	gap    float64 // nanoseconds a byte while moving

	place []int32   // slot of each extent, -1 for the members below
	heat  []float64 // of each extent: operations on it, halved at every look
	empty []bool    // whether it holds nothing

	off     []bool // extents that stay on the members below
	windows []Window
	leaves  bool // it is being taken away: everything goes down, and nothing up

	plans    []move // still to be made, the present one first
	at       int64  // bytes of the present move that are done
	piece    int64  // bytes of it that are being copied, 0 for none
	held     []heldWrite
	due      float64
	nextLook int64

	passed, movedBytes int64
}

// tierPart is one of several tiers: slots on members of their own.
type tierPart struct {
	layout *layout
	first  int32 // number of its first slot; those of slower ones follow
	slots  int
	spare  []int32 // slots that are free and nobody has been promised

	answered int64
}

// move takes an extent to a slot that is kept for it, or to the members below where that is -1.
type move struct {
	extent   int
	slot     int32
	makesWay bool // for the next one, which goes where it lay
}

// heldWrite is a write that waits until the piece that it changes has been copied.
type heldWrite struct {
	job        int32
	volume, at int64
	length     int
}

// newTier is a tier to which its parts are still to be put.
func newTier(d Description) *tier {
	spec := d.Tier
	t := &tier{
		extent: int64(cmp.Or(spec.Extent, tierExtent)),
		every:  int64(cmp.Or(spec.Every, tierEvery).Duration()), gap: perSecond(float64(cmp.Or(spec.Rate, tierRate))),
	}
	t.nextLook = t.every
	usable, filled := int64(d.Usable()), d.filled()
	extents := int((usable + t.extent - 1) / t.extent)
	t.windows = spec.Windows
	t.place, t.heat, t.empty, t.off = make([]int32, extents), make([]float64, extents), make([]bool, extents), make([]bool, extents)
	for _, r := range spec.Off {
		for i := int64(r.From) / t.extent; i*t.extent < min(int64(r.To), usable); i++ {
			t.off[i] = true
		}
	}
	for i := range t.place {
		t.place[i] = -1
		t.empty[i] = int64(i)*t.extent >= filled
	}
	return t
}

// put adds a tier below those that were put, whose members follow those of the array, and gives its
// layout.
func (t *tier) put(spec LowerTier, base int) *layout {
	p := tierPart{layout: newLayout(spec.form(), spec.expandedMembers(), base), slots: int(int64(spec.usable()) / t.extent)}
	if last := len(t.parts) - 1; last >= 0 {
		p.first = t.parts[last].first + int32(t.parts[last].slots)
	}
	for i := range p.slots {
		p.spare = append(p.spare, p.first+int32(p.slots-1-i))
	}
	t.parts = append(t.parts, p)
	return p.layout
}

// part is the one that a slot belongs to.
func (t *tier) part(slot int32) *tierPart {
	i := len(t.parts) - 1
	for slot < t.parts[i].first {
		i--
	}
	return &t.parts[i]
}

// take takes a slot that is free, of the fastest part from a place on that has one.
func (t *tier) take(from int) (slot int32, some bool) {
	for i := from; i < len(t.parts); i++ {
		p := &t.parts[i]
		if last := len(p.spare) - 1; last >= 0 {
			slot = p.spare[last]
			p.spare = p.spare[:last]
			return slot, true
		}
	}
	return -1, false
}

// release lets a slot be free.
func (t *tier) release(slot int32) {
	p := t.part(slot)
	p.spare = append(p.spare, slot)
}

// plan issues an operation extent by extent to where each lies. The hosts know the
// range by its place in the volume.
func (t *tier) plan(a *Array, n int32, k kind, volume, offset int64, length int) {
	ahead := volume - offset // of where a byte lies
	for at, end := offset, offset+int64(length); at < end; {
		extent := int(at / t.extent)
		length := min(end, int64(extent+1)*t.extent) - at
		if k == writes && t.copies(extent, at, length) {
			t.held = append(t.held, heldWrite{n, at + ahead, at, int(length)})
			a.jobs.at(n).pending++
			at += length
			continue
		}
		t.heat[extent]++
		if k == writes && t.empty[extent] {
			t.land(a, extent)
		}
		switch {
		case k == reads && t.empty[extent]:
			t.parts[0].answered++ // there is nothing to read
			if a.watch != nil {
				a.watch.planned(n, nil, reads, at+ahead, at, int(length), nil, nil)
			}
		case t.place[extent] >= 0:
			t.part(t.place[extent]).answered++
		default:
			t.passed++
		}
		if k == writes || !t.empty[extent] {
			l, place := t.where(a, extent, t.place[extent], at)
			l.plan(a, n, k, at+ahead, place, int(length))
		}
		if k == writes {
			t.follow(a, n, extent, at+ahead, at, length)
		}
		at += length
	}
}

// trim gives a range back. An extent of which nothing is left holds nothing, unless it
// is to be moved.
func (t *tier) trim(a *Array, from, to int64) {
	for at := from; at < to; {
		extent := int(at / t.extent)
		begin, end := int64(extent)*t.extent, min(int64(extent+1)*t.extent, a.pool)
		length := min(to, end) - at
		l, place := t.where(a, extent, t.place[extent], at)
		moves := slices.ContainsFunc(t.plans, func(m move) bool { return m.extent == extent })
		switch {
		case t.empty[extent] || moves:
		case at == begin && at+length == end:
			l.trim(a, place, place+length)
			if t.empty[extent] = true; t.place[extent] >= 0 {
				t.release(t.place[extent])
				t.place[extent] = -1
			}
		default:
			l.trim(a, place, place+length)
		}
		at += length
	}
}

// land puts an extent that holds nothing on the fastest tier that has room.
func (t *tier) land(a *Array, extent int) {
	t.empty[extent] = false
	if t.off[extent] || t.leaves {
		return
	}
	slot, some := t.take(0)
	if !some {
		return
	}
	t.place[extent] = slot
	if a.watch != nil {
		a.watch.landed(slot)
	}
}

// where is the layout and the place of a byte of an extent that lies in a slot, or on
// the members below when that is -1.
func (t *tier) where(a *Array, extent int, slot int32, at int64) (*layout, int64) {
	if slot < 0 {
		return a.layout, at
	}
	p := t.part(slot)
	return p.layout, int64(slot-p.first)*t.extent + at - int64(extent)*t.extent
}

// used is the number of slots of all parts that hold an extent.
func (t *tier) used() (count int) {
	for i := range t.parts {
		count += t.parts[i].used(t)
	}
	return count
}

// used is the number of slots that hold an extent.
func (p *tierPart) used(t *tier) (count int) {
	for _, place := range t.place {
		if place >= p.first && place < p.first+int32(p.slots) {
			count++
		}
	}
	return count
}
