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
// put on the tier by the first write to it, while there is room.
type tier struct {
	layout *layout
	extent int64
	every  int64
	gap    float64 // nanoseconds a byte while moving
	slots  int
	spare  []int32 // fast slots that are free and nobody has been promised

	place []int32   // fast slot of each extent, -1 for the slow members
	heat  []float64 // of each extent: operations on it, halved at every look
	empty []bool    // whether it holds nothing

	off     []bool // extents that stay on the slow members
	windows []Window
	leaves  bool // it is being taken away: everything goes down, and nothing up

	plans    []move // still to be made, the present one first
	at       int64  // bytes of the present move that are done
	piece    int64  // bytes of it that are being copied, 0 for none
	again    bool   // the piece was written to meanwhile
	due      float64
	nextLook int64

	answered, passed, movedBytes int64
}

// move takes an extent up to a slot that is kept for it, or down when slot is -1.
type move struct {
	extent int
	slot   int32
}

func newTier(d Description, base int) *tier {
	spec := d.Tier
	t := &tier{
		layout: newLayout(spec.form(), spec.expandedMembers(), base), extent: int64(cmp.Or(spec.Extent, tierExtent)),
		every: int64(cmp.Or(spec.Every, tierEvery).Duration()), gap: perSecond(float64(cmp.Or(spec.Rate, tierRate))),
	}
	t.nextLook = t.every
	t.slots = int(int64(spec.usable()) / t.extent)
	for i := range t.slots {
		t.spare = append(t.spare, int32(t.slots-1-i))
	}
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

// plan issues an operation extent by extent to where each lies. The hosts know the
// range by its place in the volume.
func (t *tier) plan(a *Array, n int32, k kind, volume, offset int64, length int) {
	ahead := volume - offset // of where a byte lies
	for at, end := offset, offset+int64(length); at < end; {
		extent := int(at / t.extent)
		length := min(end, int64(extent+1)*t.extent) - at
		t.heat[extent]++
		if k == writes && t.empty[extent] {
			t.land(a, extent)
		}
		switch {
		case k == reads && t.empty[extent]:
			t.answered++ // there is nothing to read
			if a.watch != nil {
				a.watch.planned(n, nil, reads, at+ahead, at, int(length), nil, nil)
			}
		case t.place[extent] >= 0:
			t.answered++
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
				t.spare = append(t.spare, t.place[extent])
				t.place[extent] = -1
			}
		default:
			l.trim(a, place, place+length)
		}
		at += length
	}
}

// land puts an extent that holds nothing on the tier, while there is room.
func (t *tier) land(a *Array, extent int) {
	t.empty[extent] = false
	if len(t.spare) == 0 || t.off[extent] || t.leaves {
		return
	}
	t.place[extent] = t.spare[len(t.spare)-1]
	t.spare = t.spare[:len(t.spare)-1]
	if a.watch != nil {
		a.watch.landed(t.place[extent])
	}
}

// where is the layout and the place of a byte of an extent that lies in a slot, or on
// the slow members when that is -1.
func (t *tier) where(a *Array, extent int, slot int32, at int64) (*layout, int64) {
	if slot < 0 {
		return a.layout, at
	}
	return t.layout, int64(slot)*t.extent + at - int64(extent)*t.extent
}

// used is the number of slots that hold an extent.
func (t *tier) used() (count int) {
	for _, place := range t.place {
		if place >= 0 {
			count++
		}
	}
	return count
}
