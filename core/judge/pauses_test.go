package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/test/trials"
)

// A pause that is over stays in the figures, wherever it was and however long, and is said. It
// is no fall.
func TestTruthOfPauses(t *testing.T) {
	tries := trials.Number(60)
	table := []string{"| intervals | paused for | cut out | called a fall | not said |", "|---|---|---|---|---|"}
	for _, n := range []int{50, 100, 300, 1200} {
		for _, share := range []float64{0.02, 0.04, 0.08, 0.14, 0.2} {
			length := max(int(share*float64(n)), 1)
			counts := each(tries, uint64(n*1000+length), func(random *rand.Rand, add func(string)) {
				rates, _ := paused(random, n, length)
				at := 0
				for rates[at] > 0 {
					at++
				}
				p, from := Phases(workload.Default(), paces(rates))
				if from > at {
					add("cut")
				}
				if p.Fall != nil {
					add("fall")
				}
				series, _ := seriesOf(rates)
				sum := measure.Summary{Steadiness: Steadiness(series[from:])}
				sum.Total.Rate = quantity.OpRate(average(rates[from:]))
				if len(unsteady(Observed{Summary: sum})) == 0 {
					add("silent")
				}
			})
			for _, what := range []string{"cut", "fall", "silent"} {
				atMost(t, fmt.Sprintf("%d of %d intervals paused: %s", length, n, what), counts[what], tries, 0.03)
			}
			table = append(table, fmt.Sprintf("| %d | %d | %s | %s | %s |", n, length, percent(counts["cut"], tries), percent(counts["fall"], tries), percent(counts["silent"], tries)))
		}
	}
	t.Logf("pauses, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}

// paused is a level with noise of 1 to 5 %, and a pause anywhere but near the ends.
func paused(random *rand.Rand, n, length int) (rates []float64, at int) {
	noise := 0.01 + 0.04*random.Float64()
	edge := max(n/10, 4)
	at = edge + random.IntN(n-length-2*edge)
	rates = make([]float64, n)
	for i := range rates {
		if rates[i] = 9000 * math.Exp(noise*random.NormFloat64()); i >= at && i < at+length {
			rates[i] = 0
		}
	}
	return rates, at
}

// Heavy tails and waves are no fall, and cut nothing out.
func TestTruthOfHeavyTailsAndWaves(t *testing.T) {
	tries := trials.Number(100)
	table := []string{"| series | intervals | called a fall | cut out |", "|---|---|---|---|"}
	for _, c := range []struct {
		name string
		rate func(random *rand.Rand, i, n int, period float64) float64
	}{
		{"log-normal, 15 %", func(random *rand.Rand, _, _ int, _ float64) float64 { return math.Exp(0.15 * random.NormFloat64()) }},
		{"log-normal, 30 %", func(random *rand.Rand, _, _ int, _ float64) float64 { return math.Exp(0.3 * random.NormFloat64()) }},
		{"one in twenty three times as high", func(random *rand.Rand, _, _ int, _ float64) float64 {
			return spiked(random, 3)
		}},
		{"one in twenty a third", func(random *rand.Rand, _, _ int, _ float64) float64 { return spiked(random, 1./3) }},
		{"a square wave", func(random *rand.Rand, i, _ int, period float64) float64 {
			level := 1.0
			if math.Mod(float64(i), period) >= period/2 {
				level = 0.6
			}
			return level * math.Exp(0.02*random.NormFloat64())
		}},
	} {
		for _, n := range []int{50, 100, 300, 1200} {
			counts := each(tries, uint64(n)+uint64(len(c.name))*7919, func(random *rand.Rand, add func(string)) {
				rates := make([]float64, n)
				period := float64(n) / (2 + 6*random.Float64()) // two to eight of it
				for i := range rates {
					rates[i] = 9000 * c.rate(random, i, n, period)
				}
				p, from := Phases(workload.Default(), paces(rates))
				if p.Fall != nil {
					add("fall")
				}
				if from > 0 {
					add("cut")
				}
			})
			for _, what := range []string{"cut", "fall"} {
				atMost(t, fmt.Sprintf("%s, %d intervals: %s", c.name, n, what), counts[what], tries, 0.03)
			}
			table = append(table, fmt.Sprintf("| %s | %d | %s | %s |", c.name, n, percent(counts["fall"], tries), percent(counts["cut"], tries)))
		}
	}
	t.Logf("heavy tails and waves, in per cent of %d each:\n%s", tries, strings.Join(table, "\n"))
}

func spiked(random *rand.Rand, times float64) float64 {
	v := math.Exp(0.03 * random.NormFloat64())
	if random.IntN(20) == 0 {
		v *= times
	}
	return v
}

// Sentences about phases say what their figures say: what fell is lower, what rose is higher.
func TestAFallIsLower(t *testing.T) {
	counts := each(2000, 5, func(random *rand.Rand, add func(string)) {
		n := 30 + random.IntN(300)
		rates := make([]float64, n)
		level, tail := 9000.0, 0.01+0.2*random.Float64()
		for i := range rates {
			if random.IntN(n/3) == 0 {
				level *= math.Exp(0.7 * random.NormFloat64())
			}
			rates[i] = level * math.Exp(tail*random.NormFloat64())
		}
		p, _ := Phases(workload.Default(), paces(rates))
		if f := p.Fall; f != nil {
			add("falls")
			if float64(f.To) > 0.95*float64(f.From) {
				add("wrong")
			}
			for _, i := range p.List {
				if i.Start >= f.After && float64(i.Throughput) > 0.95*float64(f.From) {
					add("came back")
				}
			}
		}
	})
	if counts["falls"] < 200 || counts["wrong"] > 0 || counts["came back"] > 0 {
		t.Errorf("%+v", counts)
	}
}
