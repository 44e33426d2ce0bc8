package array

import (
	"math/rand/v2"
	"slices"
)

// spread is how stripes of a declustered layout lie on more members than each of them
// has: every row of chunks across all members is in another order, in which groups of
// stripes lie side by side, and at the end the room that is kept free for members that
// fail (Holland and Gibson, Parity declustering for continuous operation in redundant
// disk arrays, 1992).
type spread struct {
	groups int64    // stripes in a row
	spares int      // chunks that are free in a row
	orders [][]int  // of the members, that of each row in turn
	fixed  bool     // each stripe stays on members of its own: groups side by side, and no free room
	moved  []*moved // members of which others hold what they held, in the order in which they failed
}

// moved is a member that failed and what it held up to a place, which is now where room
// was kept free.
type moved struct {
	member int
	upTo   int64
	whole  bool
	by     *rebuild
}

// rowOrders is after how many rows the orders come again.
const rowOrders = 192

func newSpread(members, columns, spares int) *spread {
	source := rand.New(rand.NewPCG(uint64(members), uint64(columns)))
	s := &spread{groups: int64((members - spares) / columns), spares: spares}
	for range rowOrders {
		s.orders = append(s.orders, source.Perm(members))
	}
	return s
}

// newGrouped lays stripes on groups of members side by side. In each of them parity moves one
// member to the left from row to row, and data begin behind it, as where there is one group.
func newGrouped(members, columns, parity int) *spread {
	s := &spread{groups: int64(members / columns), fixed: true}
	for row := range columns {
		var order []int
		for first := 0; first < members; first += columns {
			for column := range columns {
				order = append(order, first+(columns-1-row+parity+column)%columns)
			}
		}
		s.orders = append(s.orders, order)
	}
	return s
}

// moves reports whether others take over what a member held that fails.
func (l *layout) moves() bool { return l.spread != nil && !l.spread.fixed }

// takesOver reports whether there is room for what a member held that failed.
func (s *spread) takesOver(member int) bool {
	return len(s.moved) < s.spares && !slices.ContainsFunc(s.moved, func(m *moved) bool { return m.member == member })
}

// awaits reports whether a rebuild has to wait: one of a member that failed before may
// still move something to the member that it is about.
func (s *spread) awaits(a *Array, r *rebuild, end int64) bool {
	if r.moves < 1 {
		return false
	}
	before := s.moved[r.moves-1]
	return !before.whole && before.upTo < end && a.members[before.by.member].rebuild == before.by
}

// wake lets the rebuild go on that waits for one.
func (s *spread) wake(a *Array, r *rebuild) {
	if after := r.moves + 1; after < len(s.moved) && s.moved[after].by.waits {
		s.moved[after].by.waits = false
		s.moved[after].by.goOn(a)
	}
}

// row is the row that a stripe lies in.
func (l *layout) row(stripe int64) int64 {
	if l.spread == nil {
		return stripe
	}
	return stripe / l.spread.groups
}

// order is that of the members in a row.
func (s *spread) order(row int64) []int { return s.orders[row%int64(len(s.orders))] }

// column is the member that holds a column of a stripe, as far as it failed the one that
// holds it now.
func (s *spread) column(l *layout, stripe int64, column int) int {
	row := stripe / s.groups
	home := s.order(row)[int(stripe%s.groups)*l.columns+column]
	if len(s.moved) == 0 {
		return home
	}
	return s.holder(l, row, home, len(s.moved))
}

// holder follows what a member held in a row to who holds it after so many others failed.
func (s *spread) holder(l *layout, row int64, member, failed int) int {
	var targets []int
	for i := 0; i < failed; i++ {
		m := s.moved[i]
		if m.member != member || (row+1)*l.chunk > m.upTo {
			continue
		}
		if targets == nil {
			targets = s.targets(row)
		}
		if targets[i] < 0 {
			return member
		}
		member = targets[i]
	}
	return member
}

// targets tells for each member that failed who takes what it held in a row: a member
// whose room there is free, and that had not failed by then; -1 where it held nothing.
func (s *spread) targets(row int64) []int {
	order := s.order(row)
	free := order[len(order)-s.spares:]
	targets := make([]int, len(s.moved))
	for i, m := range s.moved {
		targets[i] = -1
		if slices.Contains(free, m.member) && !slices.Contains(targets[:i], m.member) {
			continue // it kept its room free
		}
		for _, other := range free {
			failed := slices.ContainsFunc(s.moved[:i+1], func(f *moved) bool { return f.member == other })
			if !failed && !slices.Contains(targets[:i], other) {
				targets[i] = other
				break
			}
		}
	}
	return targets
}

// held is the stripe and the column that a member holds in a row by now; -1 when it
// holds nothing there.
func (s *spread) held(l *layout, row int64, member int) (stripe int64, column int) {
	for g := range s.groups {
		for column := range l.columns {
			if stripe := row*s.groups + g; s.column(l, stripe, column) == member {
				return stripe, column
			}
		}
	}
	return -1, 0
}

// rows calls each for what lies in one row of a range of a member.
func (l *layout) rows(at, length int64, each func(row, at, length int64)) {
	for end := at + length; at < end; {
		row := at / l.chunk
		stop := min(end, (row+1)*l.chunk)
		each(row, at, stop-at)
		at = stop
	}
}

// readOthers reads of the other columns of a stripe as many as it has data. It reports
// whether enough are there.
func (s *spread) readOthers(l *layout, a *Array, n int32, stripe int64, column int, at, length int64) bool {
	needed := l.data
	for i := range l.columns {
		m := s.column(l, stripe, i)
		if i != column && needed > 0 && l.member(a, m).has(at+length) {
			a.issue(n, l.piece(a, m, at, length, false))
			needed--
		}
	}
	return needed == 0
}

// recover reads what tells what a member holds in a range.
func (s *spread) recover(l *layout, a *Array, n int32, member int, at, length int64) bool {
	enough := true
	l.rows(at, length, func(row, at, length int64) {
		if stripe, column := s.held(l, row, member); stripe >= 0 {
			enough = s.readOthers(l, a, n, stripe, column, at, length) && enough
		}
	})
	return enough
}

// rebuild reads what tells what a member that failed held in a range, and leaves writing
// that to where room is free for the second phase. It reports whether enough is there.
func (s *spread) rebuild(l *layout, a *Array, n int32, number int, at, length int64) bool {
	enough := true
	l.rows(at, length, func(row, at, length int64) {
		to := s.targets(row)[number]
		stripe, column := s.held(l, row, s.moved[number].member)
		if to < 0 || stripe < 0 {
			return
		}
		if !s.readOthers(l, a, n, stripe, column, at, length) {
			enough = false
			return
		}
		if a.watch != nil {
			a.watch.moved(l, stripe, column, to, at, length)
		}
		j := a.jobs.at(n)
		j.second = append(j.second, l.piece(a, to, at, length, true))
	})
	return enough
}
