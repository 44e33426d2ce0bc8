package efficiency

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/judge"
)

// Of five thousand arrays of which anything may be true, no sentence says what the table does
// not show.
func TestSentencesHoldForWhatWasDrawn(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	seen := map[string]int{}
	for range 5000 {
		mean := func(of float64) judge.Mean {
			m := judge.WithinLog(of*math.Exp(0.4*random.NormFloat64()), 0.3*random.Float64())
			m.Known = random.Float64() < 0.8
			return m
		}
		r := Efficiency{Array: "pool", Points: []Made{}}
		for i := range 2 + random.IntN(4) {
			r.Members = append(r.Members, fmt.Sprintf("disk %d", i))
		}
		together := random.Float64() < 0.6
		for i := range random.IntN(4) {
			p := Made{Title: fmt.Sprintf("load %d", i), Figure: "iops", Leaves: []float64{0, 0.5, 1}[random.IntN(3)]}
			for m := range r.Members {
				p.Alone = append(p.Alone, mean([]float64{100, 100, 300}[min(m, random.IntN(3))]))
			}
			p.Sum = sum(p.Alone)
			p.Array = mean(p.Sum.Mean * 0.7)
			p.Efficiency = p.Array.Over(p.Sum)
			if together {
				at := mean(0.8)
				p.AtOnce = &at
			}
			r.Points = append(r.Points, p)
		}
		r.Odd = odd(r)
		for _, c := range r.said() {
			seen[c.Kind]++
			if err := c.Check(); err != nil {
				t.Fatal(err)
			}
			for _, p := range r.Points {
				about := strings.Contains(c.Words, fmt.Sprintf("%q", p.Title))
				switch {
				case !about:
				case c.Kind == "more-than-its-members" && p.Array.Mean <= p.Sum.Mean,
					c.Kind == "more-than-its-level-leaves" && p.Array.Mean <= p.Sum.Mean*p.Leaves,
					c.Kind == "in-each-others-way" && (p.AtOnce == nil || p.AtOnce.Mean >= 1),
					c.Kind == "how-sure-not-known" && p.Efficiency.Known:
					t.Fatalf("%s, where %+v", c.Words, p)
				}
				if c.Kind == "not-in-each-others-way" && p.AtOnce.Low <= 1-matters {
					t.Fatalf("%s, where %+v", c.Words, p)
				}
			}
		}
	}
	if len(seen) < 10 {
		t.Errorf("only %v was said", seen)
	}
}
