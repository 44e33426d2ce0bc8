package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// served is what a single server does with arrivals at a rate over a time (Lindley 1952): how
// many it has done by the end, and how long each took on average.
func served(r *rand.Rand, rate, load, seconds float64, poisson, steady bool) measure.Summary {
	var sum measure.Summary
	arrives, free, waited := 0.0, 0.0, 0.0
	for {
		gap := 1.0
		if poisson {
			gap = r.ExpFloat64()
		}
		arrives += gap / rate
		took := 1.0
		if !steady {
			took = r.ExpFloat64()
		}
		free = max(arrives, free) + took*load/rate
		if arrives > seconds {
			break
		}
		if free <= seconds {
			sum.Total.Operations++
			waited += free - arrives
		}
	}
	sum.Measured = quantity.Seconds(seconds)
	sum.Total.Rate = quantity.OpRate(float64(sum.Total.Operations) / seconds)
	sum.Total.Latency.Mean = quantity.Seconds(waited / float64(sum.Total.Operations))
	return sum
}

// A rate that is kept is said to be, and one that is not is said not to be, however long was
// measured: wherever an overload leaves more undone than six standard deviations of what
// arrives.
func TestAnOverloadIsKnownHoweverShort(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	load := workload.Default()
	load.Rate = 3000
	wrong, tried := map[string]int{}, 0
	for _, seconds := range []float64{1, 5, 10, 60} {
		for _, rho := range []float64{0.5, 0.8, 0.95, 1.005, 1.01, 1.03, 1.1, 2.1} {
			for range 50 {
				poisson, steady := r.IntN(2) == 0, r.IntN(2) == 0
				left := (1 - 1/rho) * 3000 * seconds
				if rho > 1 && left < 6*math.Sqrt(3000*seconds) {
					continue
				}
				sum := served(r, 3000, rho, seconds, poisson, steady)
				known := KnownOf(load, &sum, nil)
				tried++
				if (known.Unkept != "") != (rho > 1) {
					wrong[fmt.Sprintf("ρ %g for %g s", rho, seconds)]++
				}
				if rho > 1.5 && (math.Abs(known.Done-1/rho) > 0.05 || !strings.Contains(known.Unkept, "3.00 k IOPS")) {
					t.Errorf("ρ %g: %.3f: %s", rho, known.Done, known.Unkept)
				}
			}
		}
	}
	all := 0
	for name, n := range wrong {
		all += n
		t.Logf("%s: %d of 50 wrong", name, n)
	}
	if float64(all) > 0.03*float64(tried) {
		t.Errorf("%d of %d are wrong", all, tried)
	}
}

// Who kept the workers waiting is told apart: what this service does itself is not "others".
func TestOwnWorkIsNotOthers(t *testing.T) {
	series := func(busy, engine, workers float64) (s []measure.Interval) {
		for i := range 20 {
			s = append(s, measure.Interval{Index: i, Start: quantity.Seconds(i), Length: 1, Beside: []measure.Beside{{CPU: []quantity.Share{quantity.Share(busy / 2), quantity.Share(busy / 2)}, EngineCores: engine, WorkerCores: workers}}})
		}
		return s
	}
	for words, s := range map[string][]measure.Interval{
		"Others used 0.9 of the 2 cores of this host: ":                                               series(1.9, 1.0, 0.98),
		"Others used 0.7 of the 2 cores of this host, and this service itself 0.3 beside its workers": series(1.9, 1.2, 0.9),
		"This service itself used 0.8 of the 2 cores of this host beside its workers":                 series(1.9, 1.7, 0.9),
	} {
		o := Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 1}}, Series: s, Summary: measure.Summary{CoreWait: 0.1, WorkerCPUPerOp: 1e-6}}
		found := waitedForCores(o)
		if len(found) != 1 || !strings.HasPrefix(trimmed(found[0].Sentence), words) {
			t.Errorf("%q: %+v", words, found)
		}
	}
}

// trimmed takes useless zeros after a point away.
func trimmed(text string) string {
	return regexp.MustCompile(`(\.\d*[1-9])0+\b`).ReplaceAllString(text, "$1")
}
