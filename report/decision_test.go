package report

import (
	"strings"
	"testing"
	"time"

	"patientheron/core/choose"
	"patientheron/core/compare"
	"patientheron/core/need"
	"patientheron/core/setup"
	"patientheron/resource"
)

func TestDecisionAsAPage(t *testing.T) {
	iops, err := need.ParseBound("iops", "at least 80")
	if err != nil {
		t.Fatal(err)
	}
	n := need.Need{Name: hostile, Why: hostile, Capacity: 1e12, Headroom: 1.1, Survives: []setup.Failure{setup.AnyMember}, Uses: []need.Use{{Name: hostile, Stage: hostile, Bounds: []need.Bound{iops}}}}
	var sides []compare.Side
	for i, rates := range [][]float64{{100, 101, 99}, {200, 201, 199}, {50, 50, 51}} {
		_, side := run(int64(i+1), rates...)
		for j := range side.Samples {
			if i != 2 { // whose figures are not to be trusted
				side.Samples[j].Doubts = nil
			}
		}
		for key, value := range map[string]string{"cost.price": []string{"2000", "3000", "1000"}[i], "media[0].count": "4", "media[0].size": "1TB", "layout.level": "raid5"} {
			if err := side.Setup.Set(key, value, setup.Told, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
		sides = append(sides, side)
	}
	v := resource.Verdicts{Left: []string{hostile}, Judged: []resource.Judgement{{Judged: need.Judge(n, sides)}, {Error: hostile, Judged: need.Judged{Need: need.Need{Name: hostile}}}}}
	var b strings.Builder
	if err := WriteDecision(&b, v); err != nil {
		t.Fatal(err)
	}
	checkPage(t, b.String(), "it costs least, 2000", "heron need judge", "Prices", "memory answered", "cannot be read", "all together")
}

// What a search came to is such a page as well: with the bill of what to take, why others fail,
// and what to know of simulated figures.
func TestWhatToBuyAsAPage(t *testing.T) {
	iops, err := need.ParseBound("iops", "at least 80")
	if err != nil {
		t.Fatal(err)
	}
	n := need.Need{Name: hostile, Uses: []need.Use{{Name: hostile, Stage: hostile, Bounds: []need.Bound{iops}}}}
	_, side := run(1, 100, 101, 99)
	for i := range side.Samples {
		side.Samples[i].Doubts = nil
	}
	chosen := choose.Chosen{
		Parts: hostile, Seed: 7, Designs: 12, Measured: 9, Runs: 33, Judged: need.Judge(n, []compare.Side{side}),
		Cheaper:   []choose.Reason{{Words: "fell short of " + hostile, Count: 3, Example: hostile}},
		Out:       []choose.Reason{{Words: hostile, Count: 2, Example: "x"}},
		Finalists: []choose.Design{{Name: hostile, Price: 1234, Bill: []choose.BillLine{{Number: 4, Name: hostile, Price: 1234}}, Text: "members: " + hostile}},
	}
	var b strings.Builder
	if err := WriteChosen(&b, chosen); err != nil {
		t.Fatal(err)
	}
	checkHTML(t, b.String(), "All figures are simulated", "together", "1234", "3 that cost less", "heron choose SHEET --parts FILE --seed 7", "excluded by arithmetic", "12 designs")
	if strings.Contains(b.String(), "heron need judge") {
		t.Error("it says to judge runs that there are not")
	}
	chosen.Finalists, chosen.Judged.Setups = nil, nil
	b.Reset()
	if err := WriteChosen(&b, chosen); err != nil || strings.Contains(b.String(), "<b>together</b>") {
		t.Errorf("%v: a bill of nothing", err)
	}
}
