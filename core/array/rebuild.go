package array

import (
	"cmp"
	"fmt"
	"math"

	"patientheron/core/quantity"
)

// rebuild makes a missing member anew, piece by piece at a set rate, in competition
// with everything else. What is done is used at once: the member has it.
type rebuild struct {
	number int
	member int
	layout *layout
	piece  int64 // read and written at a time: whole chunks
	at     int64 // where the next piece begins
	size   int64
	upTo   int64   // what is made anew lies before
	moves  int     // number among those of a declustered layout that moved; -1 for one whose member has it
	gap    float64 // nanoseconds a byte
	due    float64
	flying int
	paused bool // until one of those in flight is done
	waits  bool // for another one
	ready  map[int64]bool
	again  map[int64]bool // pieces that were written to since they were read
}

const (
	// rebuildPiece is about what is read and written at a time.
	rebuildPiece = 1 << 20
	// rebuildAhead is how many pieces are under way at a time, so that a rate is
	// reached although a piece takes its time.
	rebuildAhead = 8
)

// beginRebuild begins to make a member anew that failed; one that is well, or is
// being rebuilt, stays as it is.
func (a *Array) beginRebuild(f Fault) {
	m := a.members[f.Member]
	l := a.layoutOf(f.Member)
	if !m.failed || m.rebuild != nil || l.missing(a) > l.survives() || l.moves() && !l.spread.takesOver(f.Member-l.base) {
		a.counters.faultsIgnored++
		return
	}
	r := &rebuild{
		moves: -1, number: len(a.rebuilds), member: f.Member, layout: l, piece: (rebuildPiece + l.chunk - 1) / l.chunk * l.chunk,
		size: int64(m.group.Capacity), gap: perSecond(float64(f.Rate)), ready: map[int64]bool{}, again: map[int64]bool{},
	}
	if l.moves() {
		r.moves = len(l.spread.moved)
		l.spread.moved = append(l.spread.moved, &moved{member: f.Member - l.base, by: r})
	}
	m.rebuild, m.upTo = r, 0
	a.rebuilds = append(a.rebuilds, r)
	a.events.add(a.now, rebuildOn, int32(r.number))
}

// rebuildRate is how fast a member is made anew by itself where nothing is said of it.
const rebuildRate quantity.ByteRate = 100e6

// takeOver lets what lies ready take the place of a member that has just failed.
func (a *Array) takeOver(member int) {
	l, d := a.layoutOf(member), a.described.Layout
	switch {
	case l != a.layout || !a.members[member].failed:
		return
	case l.moves() && d.RebuildRate == 0, !l.moves() && a.hotSpares == 0:
		return
	case !l.moves():
		a.hotSpares--
	}
	f := Fault{Kind: RebuildBegin, Member: member, Rate: cmp.Or(d.RebuildRate, rebuildRate)}
	a.happens(a.Words(f) + " starts automatically")
	a.beginRebuild(f)
}

// layoutOf is the layout a member belongs to.
func (a *Array) layoutOf(member int) *layout {
	if a.tier != nil {
		for i := len(a.tier.parts) - 1; i >= 0; i-- {
			if l := a.tier.parts[i].layout; member >= l.base {
				return l
			}
		}
	}
	return a.layout
}

// survives is how many members a layout can miss at best.
func (l *layout) survives() int {
	switch l.level {
	case Mirror:
		return l.members - 1
	case MirrorStripe:
		return l.members / 2
	}
	if l.spread != nil && l.spread.fixed {
		return l.parity * l.members / l.columns
	}
	return l.parity
}

// next begins with a piece, when its time has come and few enough are under way.
func (r *rebuild) next(a *Array) {
	if r.flying == rebuildAhead {
		r.paused = true
		return
	}
	at := r.at
	length := min(r.piece, r.size-at)
	if s := r.layout.spread; s != nil && s.awaits(a, r, at+length) {
		r.waits = true
		return
	}
	r.at += length
	r.due = max(r.due, float64(a.now)) + r.gap*float64(length)
	r.make(a, at)
	r.goOn(a)
}

// goOn lets the next piece begin when the rate allows it.
func (r *rebuild) goOn(a *Array) {
	if r.at < r.size && a.members[r.member].rebuild == r {
		a.events.add(max(a.now, int64(math.Ceil(r.due))), rebuildOn, int32(r.number))
	}
}

// make reads a piece of the others and writes it.
func (r *rebuild) make(a *Array, at int64) {
	length := min(r.piece, r.size-at)
	n := a.newJob(reads, forRebuild, at, int(length))
	j := a.jobs.at(n)
	j.tag, j.step, j.pending, j.lasting = r.number, stepMembers, 1, true
	r.flying++
	enough := false
	if r.moves >= 0 {
		enough = r.layout.spread.rebuild(r.layout, a, n, r.moves, at, length)
	} else {
		enough = r.layout.planRebuild(a, n, r.member-r.layout.base, at, length)
	}
	a.partDone(n, !enough)
}

// planRebuild reads a range of the other members that hold what a missing one held,
// and leaves writing it for the second phase. It reports whether enough are there.
func (l *layout) planRebuild(a *Array, n int32, missing int, at, length int64) bool {
	if !l.readOthers(a, n, missing, at, length) {
		return false
	}
	if a.watch != nil {
		a.watch.remade(l, missing, at, length)
	}
	j := a.jobs.at(n)
	j.second = append(j.second, l.piece(a, missing, at, length, true))
	return true
}

// readOthers reads what tells what a member holds in a range: as many others as a
// stripe has data members, or another copy. It reports whether enough are there.
func (l *layout) readOthers(a *Array, n int32, member int, at, length int64) bool {
	sources := l.data
	switch {
	case l.spread != nil:
		return l.spread.recover(l, a, n, member, at, length)
	case l.copies() > 1:
		sources = 1
	case l.parity == 0:
		return false
	}
	for m := range l.members {
		if m == member || sources == 0 || !l.member(a, m).has(at+length) {
			continue
		}
		if l.parity == 0 && m/l.copies() != member/l.copies() {
			continue // another pair of the mirror stripe
		}
		a.issue(n, l.piece(a, m, at, length, false))
		sources--
	}
	return sources == 0
}

// has notes up to where all is made anew: the member has it, or others do.
func (r *rebuild) has(a *Array, upTo int64) {
	r.upTo = upTo
	if r.moves >= 0 {
		m := r.layout.spread.moved[r.moves]
		m.upTo, m.whole = upTo, upTo >= r.size
		r.layout.spread.wake(a, r)
		return
	}
	m := a.members[r.member]
	m.upTo, m.failed = upTo, upTo < r.size
}

// touch notes that a range is written that the member does not have yet: what is
// under way there was read too early.
func (r *rebuild) touch(a *Array, place, length int64) {
	for at := place / r.piece * r.piece; at < min(place+length, r.at); at += r.piece {
		if at >= r.upTo {
			r.again[at] = true
		}
	}
}

// rebuildDone moves on what the member has, and goes on when the rate allows it.
func (a *Array) rebuildDone(j job) {
	r := a.rebuilds[j.tag]
	m := a.members[r.member]
	r.flying--
	if m.rebuild != r {
		return // it failed again
	}
	if j.failed {
		m.rebuild = nil // too many others are missing by now
		if r.moves >= 0 {
			r.layout.spread.wake(a, r)
		}
		return
	}
	r.ready[j.offset] = true
	for r.ready[r.upTo] {
		delete(r.ready, r.upTo)
		if r.again[r.upTo] {
			delete(r.again, r.upTo)
			r.make(a, r.upTo)
			break
		}
		r.has(a, min(r.upTo+r.piece, r.size))
	}
	if r.upTo >= r.size {
		m.rebuild = nil
		a.happens(fmt.Sprintf("member %d is whole again", r.member))
		return
	}
	if r.paused {
		r.paused = false
		r.goOn(a)
	}
}
