package report

import (
	"strings"
	"testing"
	"time"

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
	checkPage(t, b.String(), "it costs least, 2000", "heron need judge", "What it costs", "memory answered", "cannot be read", "all together")
}
