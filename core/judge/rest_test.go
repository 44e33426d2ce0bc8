package judge

import (
	"math/rand/v2"
	"strings"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// overCache is a measurement at an even rate over a cache of some blocks that keeps what was read
// last, of which a span so many times as large is read at random: hit by hit.
func overCache(random *rand.Rand, intervals, perInterval, blocks, times, warm int) (all []measure.Pace) {
	held := make([]bool, blocks*times)
	order := make([]int, 0, blocks)
	next := 0
	read := func() (hit bool) {
		b := random.IntN(len(held))
		if held[b] {
			return true
		}
		if len(order) < blocks {
			order = append(order, b)
		} else {
			held[order[next]] = false
			order[next] = b
			next = (next + 1) % blocks
		}
		held[b] = true
		return false
	}
	for range warm {
		read()
	}
	for i := range intervals {
		hits := 0
		for range perInterval {
			if read() {
				hits++
			}
		}
		p := paces([]float64{float64(perInterval) * (1 + 0.02*random.NormFloat64())})[0]
		p.Start = quantity.Seconds(i)
		p.Stores = []measure.Counter{{Name: "front hit rate", Unit: "share", Value: float64(hits) / float64(perInterval), Over: measure.Means, Of: float64(perInterval)},
			{Name: "front in use", Unit: "share", Value: float64(len(order)) / float64(blocks)}}
		all = append(all, p)
	}
	return all
}

// A rate that stands still over a cache that still fills has not settled: the cache is cold,
// and an hour later it does something else. One that is warm has.
func TestAColdCacheHasNotSettled(t *testing.T) {
	load := workload.Default()
	load.Steady, load.For = true, 3600
	cold := each(60, 3, func(random *rand.Rand, add func(string)) {
		if stand := Watch(load)(overCache(random, 60, 150, 200_000, 5, 0), false); stand.Enough || !strings.Contains(stand.Patience.Words, "front in use") {
			add("wrong")
		}
	})
	atMost(t, "settled over a cold cache", cold["wrong"], 60, 0.03)
	warm := each(60, 4, func(random *rand.Rand, add func(string)) {
		if stand := Watch(load)(overCache(random, 120, 150, 2000, 5, 40_000), false); !stand.Enough {
			add("wrong")
		}
	})
	atMost(t, "not settled over a warm cache", warm["wrong"], 60, 0.05)
}

// What is written back in turns goes up and down and is at rest; what fills is not.
func TestLevelsAtRest(t *testing.T) {
	counts := each(300, 9, func(random *rand.Rand, add func(string)) {
		n := 40 + random.IntN(200)
		period, phase := 3+random.IntN(12), random.IntN(12)
		level := func(of func(i int) float64) (paces []measure.Pace) {
			for i := range n {
				paces = append(paces, measure.Pace{Stores: []measure.Counter{{Name: "front dirty", Unit: "bytes", Value: of(i)}}})
			}
			return paces
		}
		if len(moving(level(func(i int) float64 { return 1e9 * (1 + float64((i+phase)%period)) }))) > 0 {
			add("turns")
		}
		if len(moving(level(func(int) float64 { return 1e9 + distuv.Normal{Mu: 0, Sigma: 3e8, Src: random}.Rand() }))) > 0 {
			add("noise")
		}
		if len(moving(level(func(int) float64 { return 1e9 }))) > 0 {
			add("constant")
		}
		if len(moving(level(func(i int) float64 { return 1e8 * float64(i) * (1 + 0.1*random.NormFloat64()) }))) == 0 {
			add("missed")
		}
	})
	for _, what := range []string{"turns", "noise", "constant", "missed"} {
		atMost(t, what, counts[what], 300, 0.03)
	}
}
