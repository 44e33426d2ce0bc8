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

// look plans the moves, for the fastest tier first: the hottest extents from below it go up, into
// free slots first and then against its coldest ones, which make way to where there is room.
func (t *tier) look() {
	for len(t.plans) > 0 {
		t.drop()
	}
	if t.leaves {
		for extent, place := range t.place {
			if place >= 0 {
				t.plans = append(t.plans, move{extent: extent, slot: -1})
			}
		}
		return
	}
	lies := slices.Clone(t.place) // when all is done that has been planned
	for i := range t.parts {
		t.lookFor(i, lies)
	}
	for i := range t.heat {
		t.heat[i] /= 2
	}
}

// lookFor plans the moves up to one of the tiers.
func (t *tier) lookFor(i int, lies []int32) {
	p := &t.parts[i]
	var below, here []int
	for extent, place := range lies {
		switch {
		case place >= p.first && place < p.first+int32(p.slots):
			here = append(here, extent)
		case place >= 0 && place < p.first: // further up
		case t.heat[extent] >= 1 && !t.empty[extent] && !t.off[extent]:
			below = append(below, extent)
		}
	}
	slices.SortStableFunc(below, func(x, y int) int { return cmp.Compare(t.heat[y], t.heat[x]) })
	slices.SortStableFunc(here, func(x, y int) int { return cmp.Compare(t.heat[x], t.heat[y]) })
	for _, extent := range below {
		slot := int32(-1)
		if len(p.spare) > 0 {
			slot, _ = t.take(i)
		} else {
			if len(here) == 0 || t.heat[extent] <= promoteMargin*t.heat[here[0]] {
				break
			}
			cold := here[0]
			here = here[1:]
			down, _ := t.take(i + 1)
			t.plans = append(t.plans, move{cold, down, true})
			slot, lies[cold] = lies[cold], down
		}
		t.plans = append(t.plans, move{extent: extent, slot: slot})
		lies[extent] = slot
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
	_, there := t.where(a, m.extent, m.slot, at)
	t.due = max(t.due, float64(a.now)) + t.gap*float64(t.piece)
	n := a.newJob(reads, forRelocation, at, int(t.piece))
	j := a.jobs.at(n)
	j.lasting = true // what it takes the place of had to last
	j.step, j.stamp, j.tag = stepCopy, uint64(there), int(m.slot)
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
	if j.tag >= 0 {
		to = t.part(int32(j.tag)).layout
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

// copies reports whether a range of an extent meets the piece that is being copied.
func (t *tier) copies(extent int, at, length int64) bool {
	if t.piece == 0 || t.plans[0].extent != extent {
		return false
	}
	from := int64(extent)*t.extent + t.at
	return at < from+t.piece && at+length > from
}

// follow writes what was written to an extent that is on its way to where it goes as
// well, as far as it was copied.
func (t *tier) follow(a *Array, n int32, extent int, volume, at, length int64) {
	if len(t.plans) == 0 || t.plans[0].extent != extent {
		return
	}
	if copied := min(int64(extent)*t.extent+t.at-at, length); copied > 0 {
		l, place := t.where(a, extent, t.plans[0].slot, at)
		l.plan(a, n, writes, volume, place, int(copied))
	}
}

// letGo lets the writes go on that waited for a piece.
func (t *tier) letGo(a *Array) {
	held := t.held
	t.held = nil
	for _, w := range held {
		t.plan(a, w.job, writes, w.volume, w.at, w.length)
		a.partDone(w.job, false)
	}
}

// moved goes on to the next piece when the rate allows it; at the end of an extent it
// is where it was moved to.
func (t *tier) moved(a *Array, failed bool) {
	m := t.plans[0]
	t.movedBytes += t.piece
	if !failed {
		t.at += t.piece
	}
	t.piece = 0
	defer t.letGo(a)
	switch {
	case failed: // it stays where it is, and what was planned counts on its being elsewhere
		for len(t.plans) > 0 {
			t.drop()
		}
	case t.at >= t.extent || int64(m.extent)*t.extent+t.at >= a.pool:
		if before := t.place[m.extent]; before >= 0 && !m.makesWay {
			t.release(before)
		}
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

// drop gives the present move up, and with one that makes way the one that was to
// take its place. A slot that was promised is free again.
func (t *tier) drop() {
	m := t.plans[0]
	t.next()
	if m.slot >= 0 {
		t.release(m.slot)
	}
	if m.makesWay {
		t.next()
	}
}

func bit(is bool) int {
	if is {
		return 1
	}
	return 0
}
