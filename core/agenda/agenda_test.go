package agenda

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// Whatever the order in which they come, they go by time and then by number, as a sorted
// list says.
func TestTheEarliestFirst(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		var a Agenda
		var list []entry
		for step := 0; step < 100 || len(list) > 0; step++ {
			if step < 100 && (len(list) == 0 || random.IntN(3) > 0) {
				e := entry{random.Int64N(20), random.IntN(1000)}
				a.Add(e.at, e.number)
				list = append(list, e)
				continue
			}
			slices.SortFunc(list, func(x, y entry) int { return cmp.Or(cmp.Compare(x.at, y.at), cmp.Compare(x.number, y.number)) })
			if at, number := a.Next(), a.Take(); at != list[0].at || number != list[0].number {
				t.Fatalf("%d at %d, want %+v", number, at, list[0])
			}
			list = list[1:]
		}
		if a.Next() != math.MaxInt64 {
			t.Fatal("something is left")
		}
	}
}
