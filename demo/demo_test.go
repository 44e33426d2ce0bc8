package demo

import "testing"

func TestPlansArePossible(t *testing.T) {
	for _, name := range append([]string{"first-look", "own-cost"}, Uses...) {
		p, err := Plan(name)
		if err != nil {
			t.Fatal(err)
		}
		if e, err := p.Estimate(); err != nil || e.Time > 120 {
			t.Errorf("%s takes %v (%v); the demo shall be ready soon", name, e.Time, err)
		}
	}
	if _, err := Plan("nothing"); err == nil {
		t.Error("a plan that is not there was read")
	}
}
