package judge

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/test/trials"
)

// What was changed on purpose is told before and after, although the rate fell to another
// level that counts as the phase that lasts; other markers bound it, and cores are set side by
// side.
func TestBeforeAndAfterAMarker(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	rates := make([]float64, 90)
	for i := range rates {
		level := 5000.0
		if i >= 34 {
			level = 2000
		}
		if i >= 60 {
			level = 9000
		}
		rates[i] = level * math.Exp(0.03*r.NormFloat64())
	}
	series, _ := seriesOf(rates)
	for i := range series {
		series[i].WarmUp = i < 34 // as a cut by phases would have it
		busy := quantity.Share(0.2)
		if i >= 34 {
			busy = 0.7
		}
		series[i].Beside = []measure.Beside{{CPU: []quantity.Share{0.1, busy}}}
	}
	h := SplitAt(series, 3, 34, 60)
	if h.Verdict != Worse || math.Abs(h.Ratio/0.4-1) > 0.03 || math.Abs(h.After.Mean/2000-1) > 0.03 {
		t.Errorf("%+v", h)
	}
	if len(h.Cores) != 2 || math.Abs(float64(h.Cores[1].Before)-0.2) > 1e-9 || math.Abs(float64(h.Cores[1].After)-0.7) > 1e-9 || !strings.Contains(h.Words, "The busiest core, 1, went from 20 % to 70 %") {
		t.Errorf("%+v: %s", h.Cores, h.Words)
	}
	if h := SplitAt(series, 34, 60, quantity.Seconds(math.Inf(1))); h.Verdict != Better || math.Abs(h.Ratio/4.5-1) > 0.03 {
		t.Errorf("%+v", h)
	}
	if h := SplitAt(series, 0, 0.2, 30); h.Verdict != Missing {
		t.Errorf("nothing before: %+v", h)
	}
}

// Of sides that are alike a change is seldom told, also where values stick.
func TestTruthOfMarkers(t *testing.T) {
	tries := trials.Number(400)
	for _, phi := range []float64{0, 0.5, 0.8} {
		for _, n := range []int{30, 60, 200} {
			counts := each(tries, uint64(n)*10+uint64(phi*10), func(random *rand.Rand, add func(string)) {
				rates := sticky(random, n, phi)
				for i := range rates {
					rates[i] = 5000 * (1 + 0.05*rates[i])
				}
				series, _ := seriesOf(rates)
				add(string(SplitAt(series, 0, quantity.Seconds(n/4+random.IntN(n/2)), quantity.Seconds(n)).Verdict))
			})
			atMost(t, "better or worse where nothing changed", counts[string(Better)]+counts[string(Worse)], tries, 0.06)
		}
	}
}
