package compare

import (
	"math"
	"testing"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// mixedSide measured two loads at once three times, at these rates.
func mixedSide(name string, run int64, lookups, entries float64) Side {
	mixed, one, two := workload.Default(), load, load
	mixed.SetTogether()
	one.Name, two.Name, two.Reads = "lookups", "entries", 0
	mixed.Together = []workload.Spec{one, two}
	group := func(name string, rate float64) measure.FileGroup {
		return measure.FileGroup{Name: name, Figures: measure.Figures{Operations: int64(rate), Rate: quantity.OpRate(rate), Throughput: quantity.ByteRate(rate * 4096), Latency: measure.Latency{Mean: 1 / quantity.Seconds(rate), P99: 2 / quantity.Seconds(rate)}}}
	}
	s := Side{Name: name, Runs: []int64{run}}
	for i := range 3 {
		scatter := 1 + float64(i)/1000
		all := measure.Figures{Rate: quantity.OpRate((lookups + entries) * scatter), Throughput: quantity.ByteRate((lookups + entries) * 4096 * scatter)}
		s.Samples = append(s.Samples, Sample{Run: run, Measurement: run*10 + int64(i), Stage: "at once", Load: mixed.Completed(), Summary: &measure.Summary{
			Measured: 10, Total: all, Groups: []measure.FileGroup{group("lookups", lookups*scatter), group("entries", entries*scatter)},
		}, Doubts: []judge.Finding{{Kind: "above-ceiling", Weight: judge.Unreliable, Part: "entries", Figure: "all", Sentence: "too good"}}})
	}
	return s
}

// What each of several loads at once came to is compared by itself, and counts in the index
// with all of which it is a part; what is said of one of them is no doubt of another.
func TestLoadsAtOnceAreComparedEach(t *testing.T) {
	c := Sides(mixedSide("plain", 1, 1000, 500), []Side{mixedSide("cached", 2, 2000, 250)}, 0)
	want := map[string]float64{"at once": 1.5, "at once: lookups": 2, "at once: entries": 0.5}
	if len(c.Points) != len(want) || len(c.Unmatched) > 0 {
		t.Fatalf("%d points, unmatched %+v", len(c.Points), c.Unmatched)
	}
	for _, part := range c.Candidates[0].Parts {
		if math.Abs(part.Gain/want[part.Title]-1) > 0.01 || part.Unreliable != (part.Title != "at once: lookups") {
			t.Errorf("%+v", part)
		}
	}
	if c.Candidates[0].LeftOut != 1 || c.Candidates[0].Index != 0 { // of all, which is not to be trusted
		t.Errorf("index %g without %d", c.Candidates[0].Index, c.Candidates[0].LeftOut)
	}
	weights := []Weight{{Stage: "at once: lookups", Weight: 1}}
	if err := c.Stages(weights); err != nil {
		t.Error(err)
	}
	c.Weigh(weights)
	if w := c.Candidates[0].Weighed; w.Refused != "" || math.Abs(w.Index.Mean-2) > 0.01 {
		t.Errorf("%+v", w)
	}
}
