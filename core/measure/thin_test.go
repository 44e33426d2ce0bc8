package measure

import (
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// Thinned to any size, a series keeps its order, its lowest, its highest and its
// slowest point, and every dip of one interval.
func TestThinner(t *testing.T) {
	source := rand.New(rand.NewPCG(1, 2))
	for _, c := range []struct{ total, points int }{{0, 10}, {1, 10}, {10, 10}, {11, 10}, {864_000, 3000}, {3001, 3000}, {100, 1}} {
		dip := c.total * 2 / 3
		thin := NewThinner(c.total, c.points)
		var all []Interval
		for i := range c.total {
			interval := Interval{Index: i, Classes: map[Class]Flow{Read: {Rate: quantity.OpRate(1000 + source.Float64()), Max: quantity.Seconds(source.Float64())}}}
			if i == dip {
				interval.Classes[Read] = Flow{Rate: 1}
			}
			if c.total < 5000 {
				all = append(all, interval)
			}
			thin.Add(interval)
		}
		kept := thin.Kept()
		if len(kept) > max(c.points, 3) || c.total <= c.points && len(kept) != c.total {
			t.Errorf("%d to %d: kept %d", c.total, c.points, len(kept))
		}
		if !slices.IsSortedFunc(kept, func(a, b Interval) int { return a.Index - b.Index }) {
			t.Errorf("%d to %d: out of order", c.total, c.points)
		}
		if c.total > 0 && !slices.ContainsFunc(kept, func(i Interval) bool { return i.Index == dip }) {
			t.Errorf("%d to %d: the dip is lost", c.total, c.points)
		}
		for _, by := range []func(a, b Interval) int{
			func(a, b Interval) int { return int(1e9 * (a.Classes[Read].Rate - b.Classes[Read].Rate)) },
			func(a, b Interval) int { return int(1e9 * (a.Classes[Read].Max - b.Classes[Read].Max)) },
		} {
			if len(all) > 0 && slices.MaxFunc(all, by).Index != slices.MaxFunc(kept, by).Index {
				t.Errorf("%d to %d: a peak is lost", c.total, c.points)
			}
		}
	}
}
