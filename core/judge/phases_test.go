package judge

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Whatever a measurement recorded, its phases are numbers, follow each other without
// a gap, and what is cut off lies before the last one.
func TestPhasesOfAnything(t *testing.T) {
	random := rand.New(rand.NewPCG(6, 6))
	counts := []int64{0, 0, 1, 2, 1000, 1_000_000, math.MaxInt32}
	for try := range 3000 {
		load := workload.Default()
		if load.Rate = quantity.OpRate(random.IntN(2)) * 100; try%5 == 0 {
			load.Amount = quantity.GiB
		}
		load.Steady = try%3 == 0
		paces := make([]measure.Pace, random.IntN(400))
		for i := range paces {
			n := counts[random.IntN(len(counts))]
			if try%4 > 0 && i > 0 { // levels, not only noise
				n = paces[i-1].Operations
				if random.IntN(20) == 0 {
					n = counts[random.IntN(len(counts))]
				}
			}
			paces[i] = measure.Pace{Start: quantity.Seconds(i), Length: 1, Operations: n, Bytes: quantity.Bytes(n), Waited: quantity.Seconds(n) * quantity.Seconds(random.Float64())}
		}
		if len(paces) > 0 && try%2 == 0 {
			paces[len(paces)-1].Length = 0.001
		}
		stand := Watch(load)(paces, true)
		if _, err := json.Marshal(stand); err != nil {
			t.Fatalf("%d intervals: %v: %+v, dips %+v, drift %+v, wave %+v, patience %+v", len(paces), err, stand.Phases, stand.Phases.Dips, stand.Phases.Drift, stand.Phases.Wave, stand.Patience)
		}
		whole, at := len(wholePaces(paces)), 0
		for _, p := range stand.Phases.List {
			if p.Intervals < 1 || p.Start != quantity.Seconds(at) {
				t.Fatalf("phases %+v", stand.Phases.List)
			}
			at += p.Intervals
		}
		if len(stand.Phases.List) > 0 && at != whole || stand.Cut < 0 || stand.Cut > whole || load.Amount > 0 && stand.Cut > 0 {
			t.Fatalf("%d of %d intervals in phases, %d cut off", at, whole, stand.Cut)
		}
	}
}

// Against sorting each window anew.
func TestRunningMedian(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 1))
	for _, reach := range []int{1, 3, 15} {
		values := make([]float64, 200)
		for i := range values {
			values[i] = float64(random.IntN(20))
		}
		for i, got := range runningMedian(values, reach) {
			from := min(max(i-reach, 0), len(values)-2*reach-1)
			if want := median(values[from : from+2*reach+1]); got != want {
				t.Fatalf("reach %d at %d: %g, want %g", reach, i, got, want)
			}
		}
	}
}

func BenchmarkPhasesOfADay(b *testing.B) {
	random := rand.New(rand.NewPCG(1, 2))
	rates := sticky(random, 864_000, 0.8)
	for i := range rates {
		rates[i] = 1000 * (1 + 0.05*rates[i])
	}
	day := paces(rates)
	for b.Loop() {
		Phases(workload.Default(), day)
	}
}
