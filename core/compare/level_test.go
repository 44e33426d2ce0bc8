package compare

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// swept is a side with one stage along a field, at each value once.
func swept(field string, values []string, rates []float64) Side {
	s := Side{Name: "swept", Runs: []int64{1}}
	for i, value := range values {
		f := measure.Figures{Rate: quantity.OpRate(rates[i]), Throughput: quantity.ByteRate(rates[i] * 4096), Latency: measure.Latency{Mean: quantity.Seconds(8 / rates[i]), P99: quantity.Seconds(20 / rates[i])}}
		s.Samples = append(s.Samples, Sample{Run: 1, Measurement: int64(i), Stage: "shape", Load: workload.Default(), Point: []plan.Setting{{Field: field, Value: value}},
			Summary: &measure.Summary{Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}})
	}
	return s
}

// What is level is not slower with more: a sentence about a line holds for its own values,
// whatever they are.
func TestSentencesAboutALineHoldForIt(t *testing.T) {
	words := func(field string, rates ...float64) string {
		values := make([]string, len(rates))
		for i := range rates {
			values[i] = fmt.Sprint(1 << i)
		}
		return Lines(swept(field, values, rates), 0, nil)[0].Words
	}
	if w := words("members.count", 524, 953, 953, 954); strings.Contains(w, "falls") {
		t.Errorf("level: %s", w)
	}
	if w := words("members.count", 500, 1000, 1500, 900); !strings.Contains(w, "beyond 4 the rate falls") {
		t.Errorf("falling: %s", w)
	}
	beyond, noLonger := regexp.MustCompile(`beyond (\d+) the rate falls`), regexp.MustCompile(`up to depth (\d+) the latency stays about that at`)
	r := rand.New(rand.NewPCG(1, 1))
	said := map[string]int{}
	for range 250 {
		rates := []float64{500 + 500*r.Float64()}
		for range 3 + r.IntN(5) {
			rates = append(rates, rates[len(rates)-1]*(0.8+0.6*r.Float64()))
		}
		if found := beyond.FindStringSubmatch(words("members.count", rates...)); found != nil {
			said["slower"]++
			at := 0
			for fmt.Sprint(1<<at) != found[1] {
				at++
			}
			if rates[len(rates)-1] >= rates[at] {
				t.Errorf("%v: %s", rates, found[0])
			}
		}
		if found := noLonger.FindStringSubmatch(words("depth", rates...)); found != nil {
			said["no longer"]++
			for i := 0; fmt.Sprint(1<<i) != found[1]; i++ {
				if rates[0]/rates[i] > 1.05 { // which is the inverse of the latency here
					t.Errorf("%v: %s", rates, found[0])
				}
			}
		}
	}
	if said["slower"] < 20 || said["no longer"] < 20 {
		t.Errorf("hardly anything was said: %v", said)
	}
	if a, b := (Line{Stage: "s", Field: "depth", Held: []plan.Setting{{Field: "block", Value: "4KiB"}}}).Title(), (Line{Stage: "s", Field: "depth", Held: []plan.Setting{{Field: "block", Value: "64KiB"}}}).Title(); a == b || !strings.Contains(a, "4KiB") {
		t.Errorf("%q and %q", a, b)
	}
}
