package needfile

import (
	"errors"
	"strings"
	"testing"

	"patientheron/core/need"
	"patientheron/core/setup"
	"patientheron/core/workload/streams"
)

const sheet = `name: A day at the station
why: what it does from morning to night
headroom: 1.2
capacity: 8TB
growth: 20%
years: 3
budget: 9000
survives: [any member, a power cut]
uses:
  - name: ledger
    stage: small transactions
    users: 50
    bounds: {p99: at most 20ms, iops: at least 40 each}
  - name: films
    headroom: 1
    load: {feeds: 4, frames: hd1080/20@25, span: 40GiB}
    bounds:
      late: none
`

func TestRead(t *testing.T) {
	n, err := Read([]byte(sheet))
	if err != nil {
		t.Fatal(err)
	}
	if n.Headroom != 1.2 || n.Capacity != 8e12 || n.Budget != 9000 || n.Years != 3 || len(n.Survives) != 2 || n.Survives[1] != setup.APowerCut {
		t.Errorf("%+v", n)
	}
	ledger, films := n.Uses[0], n.Uses[1]
	if len(ledger.Bounds) != 2 || ledger.Bounds[0] != (need.Bound{Figure: "p99", Most: true, Value: 0.02}) || ledger.Bounds[1] != (need.Bound{Figure: "iops", Value: 40, Each: true}) || ledger.Bounds[1].Of(ledger.Users) != 2000 {
		t.Errorf("%+v", ledger)
	}
	if films.Load == nil || streams.Of(*films.Load).Count != 4 || films.Bounds[0] != (need.Bound{Figure: "late", Most: true}) {
		t.Errorf("%+v", films)
	}
}

// Each mistake has its place, and what to do.
func TestMistakes(t *testing.T) {
	for name, c := range map[string]struct {
		old, new    string
		line        int
		words       string
		wantsColumn bool
	}{
		"an unknown key":      {"headroom: 1.2", "headrom: 1.2", 3, "headrom", true},
		"a unit mixed up":     {"at most 20ms", "at most 20MB", 13, "500ms", true},
		"no such figure":      {"p99:", "p98:", 13, `no figure "p98"`, true},
		"which way":           {"late: none", "late: 5%", 18, "at most 1%", true},
		"a load that is none": {"feeds: 4", "feeds: many", 16, "many", true},
		"no such failure":     {"a power cut", "a flood", 8, "any two members", true},
		"no users":            {"    users: 50\n", "", 12, "how many there are", true},
		"two ways to say it":  {"headroom: 1\n", "stage: films\n", 14, "either the name", true},
		"a negative price":    {"9000", "-9", 7, "-9", true},
		"contradictory":       {"iops: at least 40 each", "iops: at least 40 each, p50: at least 30ms", 13, "nothing can be both", true},
		"growth for how long": {"years: 3\n", "", 1, "number of years", false},
		"twice":               {"headroom: 1.2", "headroom: 1.2\nheadroom: 2", 4, "headroom", true},
	} {
		text := strings.Replace(sheet, c.old, c.new, 1)
		_, err := Read([]byte(text))
		var at *Error
		if !errors.As(err, &at) || at.Line != c.line || c.wantsColumn && at.Column == 0 || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v; want line %d and %q", name, err, c.line, c.words)
		}
	}
	if _, err := Read([]byte(strings.Repeat("#", 300<<10))); err == nil {
		t.Error("a sheet of any size")
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(sheet))
	f.Fuzz(func(t *testing.T, text []byte) {
		if n, err := Read(text); err == nil && n.Validate() != nil {
			t.Errorf("%q is read, and cannot be", text)
		}
	})
}
