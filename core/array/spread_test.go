package array

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// shapes are declustered layouts: members, columns of a stripe, spares.
var shapes = [][3]int{{7, 3, 1}, {8, 4, 0}, {13, 4, 1}, {14, 6, 2}, {23, 5, 3}, {40, 9, 4}}

// Every row holds as many stripes as fit beside the free room, each on members of its
// own, and over many rows every member has the same share of everything.
func TestRowsAreSharedOutEvenly(t *testing.T) {
	for _, shape := range shapes {
		members, columns, spares := shape[0], shape[1], shape[2]
		l := newLayout(Layout{Level: Parity, Chunk: 4096, Stripe: columns, Spares: spares}, make([]Group, members), 0)
		groups := (members - spares) / columns
		data, parity := make([]int, members), make([]int, members)
		for stripe := range int64(rowOrders * groups) {
			if l.row(stripe) != stripe/int64(groups) {
				t.Fatalf("%v: stripe %d lies in row %d", shape, stripe, l.row(stripe))
			}
			for i := range columns {
				if m := l.column(stripe, i); i < columns-1 {
					data[m]++
				} else {
					parity[m]++
				}
			}
		}
		for row := range int64(rowOrders) {
			seen := map[int]bool{}
			for s := range int64(groups) {
				for i := range columns {
					seen[l.column(row*int64(groups)+s, i)] = true
				}
			}
			if len(seen) != groups*columns {
				t.Fatalf("%v: row %d has %d members in use, want %d", shape, row, len(seen), groups*columns)
			}
		}
		for m := range members {
			// Of as many draws as there are rows, within four standard deviations.
			check := func(what string, got int, share float64) {
				if mean := share * rowOrders; math.Abs(float64(got)-mean) > 4*math.Sqrt(mean*(1-share)) {
					t.Errorf("%v: member %d has %d chunks of %s, want about %.0f", shape, m, got, what, mean)
				}
			}
			check("data", data[m], float64(groups*(columns-1))/float64(members))
			check("parity", parity[m], float64(groups)/float64(members))
		}
	}
}

// Whatever fails in whatever order, of each row what was held is held by members that are
// there, each by another one, as a plain list that is moved about says.
func TestWhatFailsMovesToFreeRoom(t *testing.T) {
	source := rand.New(rand.NewPCG(3, 33))
	for _, shape := range shapes {
		members, columns, spares := shape[0], shape[1], shape[2]
		for range 20 {
			l := newLayout(Layout{Level: DoubleParity, Chunk: 4096, Stripe: columns, Spares: spares}, make([]Group, members), 0)
			s := l.spread
			type held [2]int64 // stripe and column
			rows := make([]map[int]held, 64)
			for row := range rows {
				rows[row] = map[int]held{}
				for g := range s.groups {
					for i := range columns {
						stripe := int64(row)*s.groups + g
						rows[row][l.column(stripe, i)] = held{stripe, int64(i)}
					}
				}
			}
			gone := map[int]bool{}
			for _, failing := range source.Perm(members)[:spares] {
				gone[failing] = true
				s.moved = append(s.moved, &moved{member: failing})
				for row := range rows {
					what, is := rows[row][failing]
					to := s.targets(int64(row))[len(s.moved)-1]
					if is != (to >= 0) {
						t.Fatalf("%v: row %d: member %d held something: %v, and it goes to %d", shape, row, failing, is, to)
					}
					if !is {
						continue
					}
					if _, taken := rows[row][to]; taken || gone[to] {
						t.Fatalf("%v: row %d: what member %d held goes to %d, which has no room", shape, row, failing, to)
					}
					delete(rows[row], failing)
					rows[row][to] = what
				}
				s.moved[len(s.moved)-1].upTo = 1 << 40
				for row := range rows {
					for m := range members {
						stripe, column := s.held(l, int64(row), m)
						what, is := rows[row][m]
						if is != (stripe >= 0) || is && what != (held{stripe, int64(column)}) {
							t.Fatalf("%v: row %d: member %d holds column %d of stripe %d, want %v (%v)", shape, row, m, column, stripe, what, is)
						}
					}
				}
			}
		}
	}
}

// A rebuild reads as many of each stripe as it has data, and writes what was held: so many
// bytes over all members but one, where one member that is put in takes all of them.
func TestADeclusteredRebuildUsesAllMembers(t *testing.T) {
	const members, columns, capacity = 13, 4, 256 * quantity.MiB
	rebuilt := func(d Description) (seconds float64, operations int64) {
		a := build(t, d)
		a.inject(Fault{Kind: MemberFails, Member: 2})
		a.inject(Fault{Kind: RebuildBegin, Member: 2, Rate: 1e12})
		for a.members[2].rebuild != nil && a.Step(math.MaxInt64) {
		}
		if a.layout.missing(a) != 0 {
			t.Errorf("%v: %d are missing after the rebuild", d.Layout, a.layout.missing(a))
		}
		return float64(a.Now()) / 1e9, a.counters.memberOperations
	}
	d := Description{Members: []Group{{Count: members, Medium: LowLatency, Capacity: capacity, Interface: 1e9, Units: 64}}, Layout: Layout{Level: Parity, Chunk: quantity.MiB, Stripe: columns, Spares: 1}}
	all, operations := rebuilt(d)
	l := newLayout(d.Layout, d.expandedMembers(), 0)
	rows := int64(0)
	for row := range int64(capacity / d.Layout.Chunk) {
		if stripe, _ := l.spread.held(l, row, 2); stripe >= 0 {
			rows++
		}
	}
	if want := rows * columns; operations != want { // three reads and a write
		t.Errorf("%d operations of members, want %d", operations, want)
	}
	d.Layout.Stripe, d.Layout.Spares, d.Members[0].Count = 0, 0, columns
	one, _ := rebuilt(d)
	best := float64(operations) * float64(d.Layout.Chunk) / (members - 1) / 1e9
	within(t, "a member that is put in takes", one, float64(capacity)/1e9, 0.1)
	if all < best || all > 2*best {
		t.Errorf("on all members it takes %.3g s, at best %.3g", all, best)
	}
	t.Logf("%.3g s, and %.3g s on all members", one, all)
}

// After as many have failed as room was kept free, one after the other and each made anew,
// as many more may fail as the level says.
func TestRoomIsKeptFreeForSeveral(t *testing.T) {
	d := Description{Members: []Group{{Count: 14, Medium: LowLatency, Capacity: 16 * quantity.MiB}}, Layout: Layout{Level: DoubleParity, Chunk: 64 * quantity.KiB, Stripe: 6, Spares: 2}}
	a := build(t, d)
	well := func() bool {
		for at := int64(0); at+1<<20 <= int64(a.Size()); at += 1 << 20 {
			if !one(a, Request{Offset: at, Length: 1 << 20}) || !one(a, Request{Write: true, Offset: at, Length: 1 << 16}) {
				return false
			}
		}
		return true
	}
	order := slices.Collect(slices.Values([]int{3, 9, 0, 13, 5}))
	for i, m := range order {
		a.inject(Fault{Kind: MemberFails, Member: m})
		a.inject(Fault{Kind: RebuildBegin, Member: m, Rate: 1e9})
		for a.members[m].rebuild != nil && a.Step(math.MaxInt64) {
		}
		missing := max(i+1-2, 0)
		if a.layout.missing(a) != missing || well() != (missing <= 2) {
			t.Errorf("after %d have failed %d are missing", i+1, a.layout.missing(a))
		}
	}
}
