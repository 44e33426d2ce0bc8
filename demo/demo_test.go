package demo

import (
	"os"
	"testing"

	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/storage/simulated"
)

func TestPlansArePossible(t *testing.T) {
	for _, name := range append([]string{"first-look", "own-cost", Sweep, Race, Catalogue, Mainland, TwinPlan, TwinPredicted}, Uses...) {
		p, err := Plan(name)
		if err != nil {
			t.Fatal(err)
		}
		if e, err := p.Estimate(); err != nil || e.Time > 240 { // most of it in virtual time
			t.Errorf("%s takes %v (%v); the demo shall be ready soon", name, e.Time, err)
		}
	}
	for _, name := range append([]string{TwinOf, TwinThen}, Setups...) {
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

// The station's need sheets and the dealer's parts can be read, and what is asked at once has
// its loads.
func TestNeedsAndPartsCanBeRead(t *testing.T) {
	for _, name := range []string{DayNeed, AfternoonNeed} {
		text, err := Need(name)
		if err != nil {
			t.Fatal(err)
		}
		n, err := needfile.Read([]byte(text))
		if err != nil || len(n.Uses) < 3 || n.Together != (name == AfternoonNeed) {
			t.Errorf("%s: %+v (%v)", name, n, err)
		}
	}
	text, err := os.ReadFile("parts/dealer.yaml")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := partsfile.Read(text); err != nil {
		t.Error(err)
	}
}
