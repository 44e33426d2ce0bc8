package trials

import (
	"fmt"
	"slices"
	"testing"
)

// The parts together are the whole, and none is empty.
func TestPartsMakeTheWhole(t *testing.T) {
	for _, of := range []int{1, 3, 8, 300, 301} {
		var all []int
		inRow, whole := map[int]bool{}, 0
		for part := range 8 {
			t.Setenv("HERON_TRIALS", fmt.Sprintf("%d/8", part))
			mine := slices.Collect(Of(of))
			if len(mine) == 0 || len(mine) > Number(of) {
				t.Errorf("part %d of %d: %v, at most %d", part, of, mine, Number(of))
			}
			all = append(all, mine...)
			for i := range Number(of) {
				inRow[Part()*Number(of)+i] = true
			}
			if All(of) {
				whole++
			}
		}
		slices.Sort(all)
		if all = slices.Compact(all); len(all) != of || len(inRow) < of || whole != 1 {
			t.Errorf("%d trials: %d are tried, %d in a row, and whole ones %d times", of, len(all), len(inRow), whole)
		}
	}
	t.Setenv("HERON_TRIALS", "")
	if got := slices.Collect(Of(5)); len(got) != 5 || Number(5) != 5 || Part() != 0 || Seed() != 0 || !All(7) {
		t.Errorf("without parts: %v", got)
	}
}
