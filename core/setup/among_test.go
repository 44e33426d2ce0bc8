package setup

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// Of any number of setups it is told what differs, and which of them are alike.
func TestDiffAmong(t *testing.T) {
	of := func(origin Origin, facts ...string) (s Setup) {
		for i := 0; i < len(facts); i += 2 {
			if err := s.Set(facts[i], facts[i+1], origin, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
		return s
	}
	plain := []string{"layout.level", "raid5", "layout.chunk", "64KiB", "cost.price", "1000"}
	all := []Setup{
		of(Simulated, plain...), of(Simulated, "layout.level", "raid6", "layout.chunk", "64KiB"), of(Simulated, "layout.level", "raid5", "layout.chunk", "64KiB", "cost.price", "1200"),
		of(Read, "layout.level", "raid5"),
	}
	a := DiffAmong(all)
	if !slices.EqualFunc(a.Alike, [][]int{{0, 2}}, slices.Equal) {
		t.Errorf("alike: %v", a.Alike)
	}
	rows := map[string]Row{}
	for _, r := range a.Rows {
		rows[r.Key] = r
	}
	if got := rows["layout.level"].Values; !slices.Equal(got, []string{"raid5", "raid6", "raid5", "raid5"}) {
		t.Errorf("%v", got)
	}
	if r := rows["layout.chunk"]; r.Values[3] != "" || r.Known[3] || !r.Known[0] {
		t.Errorf("what one does not know: %+v", r)
	}
	if words := a.Words([]string{"a", "b", "c", "d"}); !strings.HasPrefix(words, "a and c are alike") {
		t.Error(words)
	}
	if same := DiffAmong([]Setup{all[0], all[0], all[0]}); len(same.Rows) != 0 || len(same.Alike) != 1 || len(same.Alike[0]) != 3 {
		t.Errorf("%+v", same)
	}
}
