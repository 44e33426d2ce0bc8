package demo

import (
	"testing"

	"patientheron/storage/simulated"
)

func TestPlansArePossible(t *testing.T) {
	for _, name := range append([]string{"first-look", "own-cost", Sweep, Race, Catalogue, Mainland}, Uses...) {
		p, err := Plan(name)
		if err != nil {
			t.Fatal(err)
		}
		if e, err := p.Estimate(); err != nil || e.Time > 240 { // most of it in virtual time
			t.Errorf("%s takes %v (%v); the demo shall be ready soon", name, e.Time, err)
		}
	}
	for _, name := range Setups {
		path, err := WriteSetup(t.TempDir(), name)
		if err != nil {
			t.Fatal(err)
		}
		if d, err := simulated.ReadFile(path); err != nil || d.Name == "" || d.Price == 0 {
			t.Errorf("setup %s: %+v, %v", name, d, err)
		}
	}
	if _, err := Plan("nothing"); err == nil {
		t.Error("a plan that is not there was read")
	}
}
