package array

import (
	"cmp"
	"math"
	"slices"
)

// goOn copies the next piece of a move, or looks for what to move. A look puts new
// plans in the place of those that it finds not yet begun.
func (t *tier) goOn(a *Array) {
	if opens := t.opens(a.now); opens > a.now && !t.leaves {
		a.events.add(opens, tierLooks, 0)
		return
	}
	if t.at == 0 && a.now >= t.nextLook {
		t.nextLook = a.now + t.every
		t.look()
	}
	if len(t.plans) == 0 {
		a.events.add(a.now+t.every, tierLooks, 0)
		return
	}
	t.movePiece(a)
}

// opens is when extents may be moved again: now, or when the next window opens.
func (t *tier) opens(now int64) int64 {
	if len(t.windows) == 0 {
		return now
	}
	next := int64(math.MaxInt64)
	for _, w := range t.windows {
		at, length, every := int64(w.At.Duration()), int64(w.For.Duration()), int64(w.Every.Duration())
		last := at + max(now-at, 0)/every*every
		switch {
		case now < last:
			next = min(next, last)
		case now < last+length:
			return now
		default:
			next = min(next, last+every)
		}
	}
	return next
}

// leave begins to take the tier away: what it holds goes down at its rate.
func (t *tier) leave(a *Array) {
	t.leaves, t.nextLook = true, a.now
}

// promoteMargin is how much hotter a slow extent must be than the fast one it
// takes the place of, so that equals do not change places for ever.
const promoteMargin = 1.5

// look plans the moves: the hottest slow extents up, into free slots first and then
// against the coldest fast ones.
func (t *tier) look() {
	for len(t.plans) > 0 {
		t.drop()
	}
	if t.leaves {
		for extent, place := range t.place {
			if place >= 0 {
				t.plans = append(t.plans, move{extent, -1})
			}
		}
		return
	}
	var slow, fast []int
	for extent, place := range t.place {
		switch {
		case place >= 0:
			fast = append(fast, extent)
		case t.heat[extent] >= 1 && !t.empty[extent] && !t.off[extent]:
			slow = append(slow, extent)
		}
	}
	slices.SortStableFunc(slow, func(x, y int) int { return cmp.Compare(t.heat[y], t.heat[x]) })
	slices.SortStableFunc(fast, func(x, y int) int { return cmp.Compare(t.heat[x], t.heat[y]) })
	for _, extent := range slow {
		if len(t.spare) > 0 {
			t.plans = append(t.plans, move{extent, t.spare[len(t.spare)-1]})
			t.spare = t.spare[:len(t.spare)-1]
			continue
		}
		if len(fast) == 0 || t.heat[extent] <= promoteMargin*t.heat[fast[0]] {
			break
		}
		t.plans = append(t.plans, move{fast[0], -1}, move{extent, t.place[fast[0]]})
		fast = fast[1:]
	}
	for i := range t.heat {
		t.heat[i] /= 2
	}
}

// tierPiece is what is read and written at a time: at most this, and a quarter of an
// extent.
const tierPiece = 1 << 20

// movePiece reads a piece where it is and writes it where it shall be.
func (t *tier) movePiece(a *Array) {
	m := t.plans[0]
	at := int64(m.extent)*t.extent + t.at
	t.piece = min(tierPiece, t.extent/4, t.extent-t.at, a.pool-at)
	from, here := t.where(a, m.extent, t.place[m.extent], at)
	to, there := t.where(a, m.extent, m.slot, at)
	t.due = max(t.due, float64(a.now)) + t.gap*float64(t.piece)
	n := a.newJob(reads, forRelocation, at, int(t.piece))
	j := a.jobs.at(n)
	j.lasting = true // what it takes the place of had to last
	j.step, j.stamp, j.tag = stepCopy, uint64(there), bit(to == t.layout)
	a.onLayout(n, from, reads, here)
}

// writePiece writes a piece that was read.
func (t *tier) writePiece(a *Array, n int32) {
	j := a.jobs.at(n)
	j.step = stepWait
	if j.failed {
		a.leave(n)
		return
	}
	to := a.layout
	if j.tag == 1 {
		to = t.layout
	}
	a.onLayout(n, to, writes, int64(j.stamp))
}

// onLayout makes a part of a job that works on a layout, at a place of it.
func (a *Array) onLayout(parent int32, l *layout, k kind, place int64) {
	j := a.jobs.at(parent)
	n := a.part(parent, k, j.offset, j.length)
	p := a.jobs.at(n)
	p.step, p.pending = stepMembers, 1
	l.plan(a, n, k, j.offset, place, j.length)
	a.partDone(n, false)
}

// follow writes what was written to an extent that is on its way to where it goes as
// well, as far as it was copied; the piece that is being copied is copied again.
func (t *tier) follow(a *Array, n int32, extent int, volume, at, length int64) {
	if len(t.plans) == 0 || t.plans[0].extent != extent {
		return
	}
	m := t.plans[0]
	begin := int64(extent) * t.extent
	if t.piece > 0 && at < begin+t.at+t.piece && at+length > begin+t.at {
		t.again = true
	}
	if copied := min(begin+t.at-at, length); copied > 0 {
		l, place := t.where(a, extent, m.slot, at)
		l.plan(a, n, writes, volume, place, int(copied))
	}
}

// moved goes on to the next piece when the rate allows it; at the end of an extent it
// is where it was moved to.
func (t *tier) moved(a *Array, failed bool) {
	m := t.plans[0]
	t.movedBytes += t.piece
	if !t.again && !failed {
		t.at += t.piece
	}
	t.piece, t.again = 0, false
	switch {
	case failed: // it stays where it is
		t.drop()
	case t.at >= t.extent || int64(m.extent)*t.extent+t.at >= a.pool:
		t.place[m.extent] = m.slot
		t.next()
	}
	if len(t.plans) == 0 {
		a.events.add(a.now+t.every, tierLooks, 0)
		return
	}
	a.events.add(max(a.now, int64(math.Ceil(t.due))), tierLooks, 0)
}

// next ends the present move.
func (t *tier) next() { t.plans, t.at = t.plans[1:], 0 }

// drop gives the present move up, and with one that goes down the one that was to
// take its place. A slot that was promised is free again.
func (t *tier) drop() {
	m := t.plans[0]
	t.next()
	if m.slot >= 0 {
		t.spare = append(t.spare, m.slot)
	} else if len(t.plans) > 0 {
		t.next()
	}
}

func bit(is bool) int {
	if is {
		return 1
	}
	return 0
}
