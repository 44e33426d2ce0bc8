package array

import "math"

// scrub reads all members of the layout, side by side, and makes anew what rotted where
// the others still tell what it was.
type scrub struct {
	at, size int64
	gap      float64 // nanoseconds a byte of each member
	due      float64
	running  bool
}

const scrubPiece = 1 << 20

// beginScrub begins at the beginning, also when one is under way.
func (a *Array) beginScrub(f Fault) {
	s := &a.scrub
	s.at, s.due, s.gap, s.size = 0, float64(a.now), perSecond(float64(f.Rate)), 0
	for m := range a.layout.members {
		s.size = max(s.size, int64(a.layout.member(a, m).group.Capacity))
	}
	if !s.running {
		s.running = true
		a.events.add(a.now, scrubOn, 0)
	}
}

// next reads a piece of all members.
func (s *scrub) next(a *Array) {
	if s.at >= s.size {
		s.running = false
		return
	}
	length := min(scrubPiece, s.size-s.at)
	n := a.newJob(reads, forScrub, s.at, int(length))
	j := a.jobs.at(n)
	j.step, j.pending, j.lasting = stepMembers, 1, true
	s.due = max(s.due, float64(a.now)) + s.gap*float64(length)
	l := a.layout
	rotten := -1
	for m := range l.members {
		it := l.member(a, m)
		end := min(s.at+length, int64(it.group.Capacity))
		if end <= s.at || it.failed {
			continue
		}
		a.issue(n, l.piece(a, m, s.at, end-s.at, false))
		if found := it.rottenIn(s.at, end); found > 0 {
			a.counters.rotFound += int64(found)
			if rotten < 0 && l.redundant(a) {
				rotten = m
				j.second = append(j.second, l.piece(a, m, s.at, end-s.at, true))
			}
		}
	}
	if rotten < 0 || !a.rottenBeside(rotten) {
		s.at += length
	}
	a.partDone(n, false)
}

// rottenBeside reports whether another member has rotten places in the present piece:
// then it is read once more.
func (a *Array) rottenBeside(member int) bool {
	for m := range a.layout.members {
		if it := a.layout.member(a, m); m != member && !it.failed && it.rottenIn(a.scrub.at, a.scrub.at+scrubPiece) > 0 {
			return true
		}
	}
	return false
}

// redundant reports whether the others tell what a member held.
func (l *layout) redundant(a *Array) bool { return l.missing(a) < l.survives() }

// scrubbed goes on when the rate allows it.
func (a *Array) scrubbed() {
	a.events.add(max(a.now, int64(math.Ceil(a.scrub.due))), scrubOn, 0)
}
