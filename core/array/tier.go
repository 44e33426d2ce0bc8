package array

import (
	"cmp"
	"math"
	"slices"

	"patientheron/core/quantity"
)

// Defaults of a tier.
const (
	tierExtent = 64 * quantity.MiB
	tierEvery  = quantity.Seconds(10)
	tierRate   = quantity.ByteRate(100e6)
)

// tier keeps some extents of the volume on faster members. Each extent has a
// heat: operations on it, halved at every look. A look moves the hottest slow
// extents up, in place of colder fast ones, one piece after the other at a set
// rate and in competition with everything else.
type tier struct {
	layout *layout
	extent int64
	every  int64
	gap    float64 // nanoseconds a byte while moving
	slots  int
	spare  []int32 // fast slots that are free

	place []int32   // fast slot of each extent, -1 for the slow members
	heat  []float64 // of each extent
	known []bool    // whether it was ever written

	plans  []move
	at     int64 // bytes of the present move that are done
	due    float64
	moving bool

	answered, passed, movedBytes int64
}

// move takes an extent up to a slot, or down when slot is -1.
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
	t.slots = int(int64(spec.usable()) / t.extent)
	for i := range t.slots {
		t.spare = append(t.spare, int32(t.slots-1-i))
	}
	extents := int((int64(d.Usable()) + t.extent - 1) / t.extent)
	t.place, t.heat, t.known = make([]int32, extents), make([]float64, extents), make([]bool, extents)
	for i := range t.place {
		t.place[i] = -1
	}
	return t
}

// plan issues an operation extent by extent to where each lies.
func (t *tier) plan(a *Array, number int32) {
	r := a.ios[number].request
	for at, end := r.Offset, r.Offset+int64(r.Length); at < end; {
		extent := int(at / t.extent)
		length := min(end, int64(extent+1)*t.extent) - at
		if a.ios[number].purpose == forHost {
			t.heat[extent]++
		}
		if r.Write && !t.known[extent] {
			t.known[extent] = true
			if len(t.spare) > 0 { // new data lands fast
				t.place[extent] = t.take()
			}
		}
		part := Request{Write: r.Write, Offset: at, Length: int(length)}
		if slot := t.place[extent]; slot >= 0 {
			t.answered++
			part.Offset = int64(slot)*t.extent + at%t.extent
			t.layout.plan(a, number, part)
		} else {
			t.passed++
			a.layout.plan(a, number, part)
		}
		at += length
	}
}

func (t *tier) take() int32 {
	slot := t.spare[len(t.spare)-1]
	t.spare = t.spare[:len(t.spare)-1]
	return slot
}

// relocate goes on with a move, or looks for what to move.
func (t *tier) relocate(a *Array) {
	if t.moving {
		t.movePiece(a)
		return
	}
	if t.look(); len(t.plans) > 0 {
		t.moving, t.at = true, 0
		t.movePiece(a)
		return
	}
	a.events.add(a.now+t.every, eventRelocate, 0)
}

// promoteMargin is how much hotter a slow extent must be than the fast one it
// takes the place of, so that equals do not change places for ever.
const promoteMargin = 1.5

// look plans the moves: the hottest slow extents against the coldest fast ones.
func (t *tier) look() {
	t.plans = t.plans[:0]
	var slow, fast []int
	for extent, place := range t.place {
		switch {
		case place >= 0:
			fast = append(fast, extent)
		case t.heat[extent] >= 1:
			slow = append(slow, extent)
		}
	}
	slices.SortStableFunc(slow, func(x, y int) int { return cmp.Compare(t.heat[y], t.heat[x]) })
	slices.SortStableFunc(fast, func(x, y int) int { return cmp.Compare(t.heat[x], t.heat[y]) })
	free, cold := slices.Clone(t.spare), 0
	for _, extent := range slow {
		var slot int32
		switch {
		case len(free) > 0:
			slot = free[len(free)-1]
			free = free[:len(free)-1]
		case cold < len(fast) && t.heat[extent] > promoteMargin*t.heat[fast[cold]]:
			slot = t.place[fast[cold]]
			t.plans = append(t.plans, move{fast[cold], -1})
			cold++
		default:
			slot = -1
		}
		if slot < 0 {
			break
		}
		t.plans = append(t.plans, move{extent, slot})
	}
	for i := range t.heat {
		t.heat[i] /= 2
	}
}

// tierPiece is what is read and written at a time.
const tierPiece = 1 << 20

// movePiece reads a piece where it is and writes it where it shall be.
func (t *tier) movePiece(a *Array) {
	m := t.plans[0]
	length := int(min(tierPiece, t.extent-t.at, a.size-int64(m.extent)*t.extent-t.at))
	here := Request{Offset: int64(m.extent)*t.extent + t.at, Length: length}
	there := here
	from, to := a.layout, t.layout
	there.Offset = int64(m.slot)*t.extent + t.at
	if m.slot < 0 {
		from, to = t.layout, a.layout
		here.Offset, there.Offset = int64(t.place[m.extent])*t.extent+t.at, here.Offset
	}
	there.Write = true
	t.due = max(t.due, float64(a.now)) + t.gap*float64(length)
	number := a.newIO(here, forRelocation)
	a.ios[number].stage, a.ios[number].pending = stageMembers, 1
	from.plan(a, number, here)
	to.plan(a, number, there)
	a.subAnswered(number)
}

// moved goes on to the next piece when the rate allows it; at the end of an
// extent it is where it was moved to.
func (t *tier) moved(a *Array) {
	m := t.plans[0]
	t.at += tierPiece
	t.movedBytes += tierPiece
	if t.at >= t.extent || int64(m.extent)*t.extent+t.at >= a.size {
		if m.slot < 0 {
			t.spare = append(t.spare, t.place[m.extent])
			t.place[m.extent] = -1
		} else if i := slices.Index(t.spare, m.slot); i >= 0 {
			t.spare = slices.Delete(t.spare, i, i+1)
			t.place[m.extent] = m.slot
		} // otherwise new data has landed there meanwhile, and the extent stays
		t.plans, t.at = t.plans[1:], 0
		if len(t.plans) == 0 {
			t.moving = false
			a.events.add(a.now+t.every, eventRelocate, 0)
			return
		}
	}
	a.events.add(max(a.now, int64(math.Ceil(t.due))), eventRelocate, 0)
}
