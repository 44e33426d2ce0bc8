package judge

import (
	"fmt"
	"math"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// patientIntervals is how many intervals after the cut a load that waits until
// it settled must at least have: a slow drift looks level for a while.
const patientIntervals = 30

// Patience is what a patient workload waits for, as the load engine asks for
// it; nil for a workload that only lasts for a time. Looking often makes it a
// little too easy to be satisfied; docs/judgement.md says by how much.
func Patience(load workload.Spec) func(paces []measure.Pace, last bool) (int, bool, measure.Patience) {
	if !load.Patient() {
		return nil
	}
	return func(paces []measure.Pace, last bool) (int, bool, measure.Patience) {
		if !last && len(paces) < 2*windows {
			return 0, false, measure.Patience{}
		}
		if n := len(paces); n > 1 && cutShort(paces[0].Length, paces[n-1].Length) {
			paces = paces[:n-1]
		}
		rates := make([]float64, len(paces))
		for i, pace := range paces {
			rates[i] = pace.Rate()
		}
		settling := Settle(rates)
		estimate := MeanOfSeries(rates[settling.Cut:])
		record := measure.Patience{Settled: settling.Settled && len(rates)-settling.Cut >= patientIntervals}
		if half := estimate.Half(); !math.IsNaN(half) {
			record.Within = quantity.Share(half)
		}
		var met, missed []string
		judge := func(asked, reached bool, yes, no string) {
			switch {
			case asked && reached:
				met = append(met, yes)
			case asked:
				missed = append(missed, no)
			}
		}
		judge(load.Settled, record.Settled, "the rate had settled", "the rate had not settled")
		known := estimate.Known && record.Within <= load.Within
		without := "there was too little to tell how well the mean is known"
		if estimate.Known {
			without = fmt.Sprintf("the mean was known only within %s", record.Within)
		}
		judge(load.Within > 0, known, fmt.Sprintf("the mean was known within %s", record.Within), without)
		record.Words = "It ended because " + strings.Join(met, " and ") + "."
		if len(missed) > 0 {
			record.Words = "It ended before it was satisfied: " + strings.Join(missed, " and ") + "."
		}
		return settling.Cut, len(missed) == 0, record
	}
}
