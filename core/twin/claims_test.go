package twin

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/claim"
)

// Whatever a fit came to, what is said of it is borne by its figures, and by nothing else.
func TestWhatIsSaidOfATwin(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 1))
	kinds := map[string]int{}
	for range 3000 {
		f := Fitted{Off: 0.3 * r.Float64()}
		outliers := r.Float64()
		for load := range 1 + r.IntN(6) {
			for _, key := range []string{"iops", "p99"} {
				l := Likeness{Name: fmt.Sprintf("load %d", load), Figure: key, Label: key, Measured: 1000 * (1 + r.Float64())}
				l.Twin = l.Measured * math.Exp(0.02*r.NormFloat64())
				if r.Float64() < outliers {
					l.Twin, l.Outlier = l.Measured*3, true
				}
				f.Loads = append(f.Loads, l)
			}
		}
		if len(f.Loads) >= 2*fewest && r.IntN(2) == 0 {
			unseen := 0.4 * r.Float64()
			f.Unseen = &unseen
		}
		for n := range 3 {
			p := FittedParameter{Guess: 1 + r.Float64(), Known: []Knowledge{Well, Hardly}[r.IntN(2)]}
			p.Label = fmt.Sprintf("rate %d", n)
			p.Value = p.Guess * math.Exp(2*r.NormFloat64())
			f.Parameters = append(f.Parameters, p)
		}
		said := f.claims()
		if len(said) == 0 || (said[0].Kind == "fit-failed") == f.alike() {
			t.Fatalf("alike %t: %+v", f.alike(), said)
		}
		for _, c := range said {
			kinds[c.Kind]++
			if err := c.Check(); err != nil {
				t.Fatal(err)
			}
			for _, term := range c.Terms {
				if (c.Kind == "strays" || c.Kind == "fit-failed") && !slices.ContainsFunc(f.Loads, func(l Likeness) bool {
					return term.Value == l.Twin/l.Measured && (term.State == outlierState) == l.Outlier
				}) {
					t.Fatalf("%s is said of what was not measured: %+v", c.Kind, term)
				}
			}
		}
		strays := slices.IndexFunc(said, func(c claim.Claim) bool { return c.Kind == "strays" })
		if count := len(f.figures(true)); f.alike() && (strays >= 0) != (count > 0) || strays >= 0 && len(said[strays].Terms) != count {
			t.Fatalf("%d outliers: %+v", count, said)
		}
	}
	for _, kind := range []string{"off-by", "off-but-for", "not-tried-on-others", "strays", "far-from-its-guess", "went-far-from-its-guess", "hardly-told", "fit-failed"} {
		if kinds[kind] < 20 {
			t.Errorf("%s was said %d times", kind, kinds[kind])
		}
	}
}
