package plan

import (
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/workload"
	"patientheron/core/workload/streams"
)

func feedLoad() workload.Spec {
	s := workload.Default()
	s.SetBody(&streams.Feeds{Count: 1, Rate: 1e6})
	return s
}

// A search finds the edge, wherever it is, within the number of values that it announces,
// and tries none twice.
func TestSearchFindsTheEdge(t *testing.T) {
	for _, f := range []Fit{{Field: "feeds", From: 1, To: 400}, {Field: "feeds", From: 10, To: 13}, {Field: "feeds", From: 5, To: 5}, {Field: "feeds", From: 1, To: 100_000}} {
		for _, edge := range []int{f.From - 1, f.From, f.From + 1, (f.From + f.To) / 2, f.To - 1, f.To, f.To + 1} {
			s := NewSearch(f, 2)
			tried := map[int]int{}
			for {
				value, repeat, more := s.Next()
				if !more {
					break
				}
				if tried[value]++; repeat != tried[value] || value < f.From || value > f.To {
					t.Fatalf("%+v, edge %d: repeat %d of %d", f, edge, repeat, value)
				}
				s.Measured(value <= edge)
			}
			for value, count := range tried {
				if count != 2 {
					t.Errorf("%+v, edge %d: %d was measured %d times", f, edge, value, count)
				}
			}
			carries, fails := min(max(edge, f.From-1), f.To), min(max(edge+1, f.From), f.To+1)
			if s.carries != carries || s.fails != fails || len(tried) > f.rounds() {
				t.Errorf("%+v, edge %d: %d and %d after %d values of %d", f, edge, s.carries, s.fails, len(tried), f.rounds())
			}
		}
	}
}

// Where repeats do not agree over a range, both of its ends are found.
func TestSearchFindsBothEdgesOfAnUncertainRange(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1))
	f := Fit{Field: "feeds", From: 1, To: 300}
	for low := 3; low < 250; low += 17 {
		high := low + 12
		s := NewSearch(f, 4)
		tried := map[int]bool{}
		draw := 0
		for {
			value, repeat, more := s.Next()
			if !more {
				break
			}
			tried[value] = true
			kept := value <= low
			if value > low && value < high { // some of four, never all or none
				if repeat == 1 {
					draw = 1 + random.IntN(3)
				}
				kept = repeat <= draw
			}
			s.Measured(kept)
		}
		if s.carries != low || s.fails != high || len(tried) > f.rounds() {
			t.Errorf("between %d and %d: %d and %d after %d values of %d", low, high, s.carries, s.fails, len(tried), f.rounds())
		}
	}
}

func TestFitsOfPlans(t *testing.T) {
	p := Plan{Stages: []Stage{{Load: feedLoad(), Repeats: 2, Fit: &Fit{Field: "feeds", From: 1, To: 100}}}}
	steps, err := p.Steps()
	if err != nil || len(steps) == 0 || len(steps) > 2*(8+14) || steps[1].Repeat != 2 {
		t.Fatalf("%d steps, %v", len(steps), err)
	}
	at, err := steps[0].At(37, 2)
	if err != nil || streams.Of(at.Load).Count != 37 || streams.Of(steps[0].Load).Count != 1 || !slices.Equal(at.Point, []Setting{{"feeds", "37"}}) {
		t.Errorf("%+v (%v)", at, err)
	}
	for what, change := range map[string]func(*Stage){
		"a load of blocks":    func(s *Stage) { s.Load = workload.Default() },
		"no such field":       func(s *Stage) { s.Fit.Field = "colour" },
		"no whole number":     func(s *Stage) { s.Fit.Field = "order" },
		"falling":             func(s *Stage) { s.Fit.From = 200 },
		"a sweep beside it":   func(s *Stage) { s.Sweep = []Axis{{Field: "buffer", Values: []string{"1s"}}} },
		"more than there are": func(s *Stage) { s.Fit.To = 1 << 20 },
	} {
		stage := Stage{Load: feedLoad(), Fit: &Fit{Field: "feeds", From: 1, To: 100}}
		change(&stage)
		if _, err := (Plan{Stages: []Stage{stage}}).Steps(); err == nil {
			t.Errorf("%s: possible", what)
		}
	}
}
