package array

import "math"

// strike makes a fault happen.
func (a *Array) strike(f Fault) {
	switch f.Kind {
	case MemberFails:
		a.members[f.Member].failed = true
	case MemberSlows:
		a.members[f.Member].slow = f.Factor
	case PowerCut:
		for _, c := range a.caches {
			c.losePower(a)
		}
	case RebuildBegin:
		if f.Member < a.layout.members && a.members[f.Member].failed && a.layout.missing(a) <= max(a.layout.parity, a.layout.copies()-1) && a.rebuild == nil {
			a.rebuild = &rebuild{member: f.Member, gap: perSecond(float64(f.Rate)), size: int64(a.members[f.Member].group.Capacity)}
			a.events.add(a.now, eventRebuild, 0)
		}
	}
}

// rebuild copies a missing member anew, piece by piece at a set rate, in
// competition with everything else. The member takes part again at its end.
type rebuild struct {
	member int
	at     int64
	size   int64
	gap    float64 // nanoseconds a byte
	due    float64
}

// rebuildPiece is what is read and written at a time.
const rebuildPiece = 512 << 10

// next reads a piece from the members that hold it.
func (r *rebuild) next(a *Array) {
	number := a.newIO(Request{Offset: r.at, Length: rebuildPiece}, forRebuild)
	op := &a.ios[number]
	op.stage = stageMembers
	op.pending = 1
	length := int(min(rebuildPiece, r.size-r.at))
	op.second = append(op.second, piece{member: r.member, offset: r.at, length: length, write: true})
	r.due = max(r.due, float64(a.now)) + r.gap*float64(length)
	sources := a.layout.data
	for m := range a.layout.members {
		if a.members[m].failed || sources == 0 {
			continue
		}
		if a.layout.parity == 0 && m/a.layout.copies() != r.member/a.layout.copies() {
			continue // another pair of the mirror stripe
		}
		a.issue(number, piece{member: m, offset: r.at, length: length})
		if sources--; a.layout.parity == 0 {
			break // one copy is enough
		}
	}
	a.subAnswered(number)
}

// advance goes on to the next piece when the rate allows it.
func (r *rebuild) advance(a *Array) {
	if r.at += rebuildPiece; r.at >= r.size {
		a.members[r.member].failed = false
		a.rebuild = nil
		return
	}
	a.events.add(max(a.now, int64(math.Ceil(r.due))), eventRebuild, 0)
}
