package compare

import (
	"slices"
	"strings"
	"testing"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// arriving is a side that was asked for 3,000 operations a second for some seconds, did so many
// of them, and had a queue in front that grew for as long as that went on.
func arriving(name string, run int64, done, seconds float64) Side {
	load := workload.Default()
	load.Rate = 3000
	s := Side{Name: name, Runs: []int64{run}}
	waits := (3000 - done) * seconds / done // of the last operation
	for i := range 3 {
		off := 1 + 0.002*float64(i)
		l := measure.Latency{Mean: quantity.Seconds((0.001 + waits/2) * off), P99: quantity.Seconds((0.004 + 0.99*waits) * off)}
		f := measure.Figures{Operations: int64(done * seconds), Rate: quantity.OpRate(done), Throughput: quantity.ByteRate(done * 4096), Latency: l}
		s.Samples = append(s.Samples, Sample{Run: run, Measurement: run*10 + int64(i), Stage: "ledger", Load: load,
			Summary: &measure.Summary{Measured: quantity.Seconds(seconds), Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}})
	}
	return s
}

// Latency under a rate that is not kept is no figure, however briefly it was measured: what is
// compared is how much was done, and a gate on latency knows which side keeps the rate.
func TestAnOverloadHasNoLatency(t *testing.T) {
	kept := arriving("kept", 1, 3000, 10)
	for _, seconds := range []float64{1, 5, 60} {
		over, less := arriving("over", 2, 1430, seconds), arriving("less", 3, 1000, seconds)
		for _, c := range []struct {
			a, b          Side
			verdict       judge.Verdict
			worse, better [4]int // failed, not shown, unknown, passed
		}{
			{kept, over, judge.Worse, [4]int{1, 0, 0, 0}, [4]int{0, 0, 0, 1}},
			{over, kept, judge.Better, [4]int{0, 0, 0, 1}, [4]int{1, 0, 0, 0}},
			{over, less, judge.Worse, [4]int{0, 0, 1, 0}, [4]int{0, 0, 1, 0}},
		} {
			r := Sides(c.a, []Side{c.b}, 0.05)
			p := r.Points[0]
			if main := p.Row(p.Main).Candidates[0]; p.Main != "iops" || main.Verdict != c.verdict || strings.Contains(r.Candidates[0].Words, "p99") {
				t.Errorf("%s and %s for %g s: %s %s: %s", c.a.Name, c.b.Name, seconds, p.Main, main.Verdict, r.Candidates[0].Words)
			}
			if p99 := p.Row("p99"); p99.Candidates[0].Verdict != judge.Missing || !strings.Contains(p99.Candidates[0].Reason+p99.Baseline.Reason, "not sustained") {
				t.Errorf("p99: %+v", p99)
			}
			for text, want := range map[string][4]int{"p99 worse by 20%": c.worse, "p99 better by 20%": c.better} {
				gate, err := ParseGate(text)
				if err != nil {
					t.Fatal(err)
				}
				if a, err := gate.Check(r); err != nil || [4]int{len(a.Failed), len(a.NotShown), len(a.Unknown), a.Passed} != want {
					t.Errorf("%s, %s and %s: %+v, %v", text, c.a.Name, c.b.Name, a, err)
				}
			}
		}
	}
	// Where the engine could not keep it, nothing is said of what was measured.
	engine := arriving("engine", 4, 1430, 10)
	for i := range engine.Samples {
		engine.Samples[i].Summary.WorkerCPUPerOp = 1.0 / 1430
	}
	gate, _ := ParseGate("p99 worse by 20%")
	if a, err := gate.Check(Sides(kept, []Side{engine}, 0.05)); err != nil || len(a.Unknown) != 1 || !strings.Contains(a.Unknown[0], "engine itself") {
		t.Errorf("%+v, %v", a, err)
	}
}

// A gate decides by the interval alone. Over pages without number whose truth is known, it is
// wrong no more often than its interval.
func TestGatesAreWrongNoMoreOftenThanTheirInterval(t *testing.T) {
	gate, err := ParseGate("throughput worse by 10%")
	if err != nil {
		t.Fatal(err)
	}
	wrong, told, tries := 0, 0, 400
	for i := range tries {
		truth := 0.80 + 0.2*float64(i%21)/20 // of 0.9 it is not known which is right
		base, other := side("base", int64(2*i+1), 4, 0.05, map[string]float64{"lookups": 1000}), side("other", int64(2*i+2), 4, 0.05, map[string]float64{"lookups": 1000 * truth})
		a, err := gate.Check(Sides(base, []Side{other}, 0.05))
		if err != nil || len(a.Unknown) > 0 {
			t.Fatalf("%+v, %v", a, err)
		}
		told += len(a.Failed) + a.Passed
		if len(a.Failed) > 0 && truth >= 0.9 || a.Passed > 0 && truth < 0.9 {
			wrong++
		}
	}
	t.Logf("wrong %d, told %d of %d", wrong, told, tries)
	if limit := 0.05 * float64(tries); float64(wrong) > limit || told < tries/4 {
		t.Errorf("wrong in %d of %d, told in %d", wrong, tries, told)
	}
}

// What is known of a measurement goes with its figures.
func TestCautionsTravel(t *testing.T) {
	base, other := side("plain", 1, 3, 0.01, map[string]float64{"lookups": 1000}), side("cached", 2, 3, 0.01, map[string]float64{"lookups": 900})
	never := judge.Finding{Kind: "never-settled", Weight: judge.Caution, Figure: "all", Sentence: "Steady state was not reached: it fell."}
	for _, i := range []int{0, 2} {
		other.Samples[i].Doubts = []judge.Finding{never, never, {Kind: "fell", Weight: judge.Info, Sentence: "It fell."}}
	}
	r := Sides(base, []Side{other}, 0.05)
	if got := r.Points[0].Cautions; !slices.Equal(got, []Caution{{"cached", "never-settled", never.Sentence, 2, 3, "cached: Steady state was not reached: it fell. So in 2 of 3 measurements."}}) {
		t.Errorf("%+v", got)
	}
	if got := Points(other)[0].Cautions; len(got) != 1 {
		t.Errorf("alone: %+v", got)
	}
	// A repeat apart from the others is one.
	odd := side("odd", 3, 8, 0.001, map[string]float64{"lookups": 1000})
	odd.Samples[5].Summary.Total.Throughput /= 2
	if got := Sides(base, []Side{odd}, 0.05).Points[0].Cautions; len(got) != 1 || got[0].Kind != "odd-repeats" || !strings.Contains(got[0].Sentence, "2.0") {
		t.Errorf("odd: %+v", got)
	}
}
