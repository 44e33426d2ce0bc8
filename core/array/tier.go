package array

import (
	"cmp"

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
	extents := int((int64(d.Usable()) + t.extent - 1) / t.extent)
	t.place, t.heat, t.empty = make([]int32, extents), make([]float64, extents), make([]bool, extents)
	for i := range t.place {
		t.place[i] = -1
		t.empty[i] = int64(i)*t.extent >= int64(float64(d.Usable())*float64(1-d.Empty))
	}
	return t
}

// plan issues an operation extent by extent to where each lies.
func (t *tier) plan(a *Array, n int32) {
	j := a.jobs.at(n)
	for at := j.offset; at < j.end(); {
		extent := int(at / t.extent)
		length := min(j.end(), int64(extent+1)*t.extent) - at
		t.heat[extent]++
		if j.kind == writes && t.empty[extent] {
			t.land(a, extent)
		}
		switch {
		case j.kind == reads && t.empty[extent]:
			t.answered++ // there is nothing to read
			if a.watch != nil {
				a.watch.planned(n, nil, reads, at, at, int(length), nil, nil)
			}
		case t.place[extent] >= 0:
			t.answered++
		default:
			t.passed++
		}
		if j.kind == writes || !t.empty[extent] {
			l, place := t.where(a, extent, t.place[extent], at)
			l.plan(a, n, j.kind, at, place, int(length))
		}
		if j.kind == writes {
			t.follow(a, n, extent, at, length)
		}
		at += length
	}
}

// land puts an extent that holds nothing on the tier, while there is room.
func (t *tier) land(a *Array, extent int) {
	t.empty[extent] = false
	if len(t.spare) == 0 {
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
