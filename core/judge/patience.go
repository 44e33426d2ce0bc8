package judge

import (
	"fmt"
	"math"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// What a load that waits must have had before it may end: a slow change looks level
// for a while.
const (
	patientIntervals = 30  // of the last phase
	patientShare     = 0.4 // of the last phase, of all that was measured
	patientDrift     = 0.05
)

// Watch is what the load engine asks of a measurement under way, and at its end: its
// phases, and whether a load that waits for something has waited enough. The end may
// come when the last phase is settled, what is kept of it is two fifths of what was
// measured and thirty intervals, and a drift over it is excluded to twice the share
// within which the mean is to be known, at most to 10 % (the end is off by half of
// it). Looking often makes it a little too easy to be satisfied; docs/judgement.md says
// by how much.
func Watch(load workload.Spec) func(paces []measure.Pace, last bool) measure.Stand {
	return func(paces []measure.Pace, last bool) measure.Stand {
		if !last && len(paces) < patientIntervals {
			return measure.Stand{}
		}
		phases, from := Phases(load, paces)
		stand := measure.Stand{Cut: from, Phases: &phases}
		if !load.Patient() {
			return stand
		}
		paces = wholePaces(paces)
		stand.Cut = calm(load, paces, from, &phases)
		stand.Patience, stand.Enough = patience(load, paces, phases, stand.Cut)
		return stand
	}
}

// wantedDrift is the rise or fall over what is kept that must be excluded, as a share
// of its mean: of which the end is off by half.
func wantedDrift(load workload.Spec) quantity.Share {
	wanted := quantity.Share(patientDrift)
	if load.Margin > 0 {
		wanted = min(wanted, load.Margin)
	}
	return 2 * wanted
}

func within(d *measure.Drift, wanted quantity.Share) bool {
	return d != nil && max(-d.Low, d.High) <= wanted
}

// calm is from where on the last phase of what is settled has no drift that matters to
// a load that waits: what glided to its level at the start of that phase would keep it
// waiting long after it was there. At most half of the phase is left out.
func calm(load workload.Spec, paces []measure.Pace, from int, phases *measure.Phases) int {
	if phases.State != measure.Steady || within(phases.Drift, wantedDrift(load)) {
		return from
	}
	values, least := speeds(load, paces[from:])
	level, _ := withoutDips(values, paces[from:])
	for eighths := 1; eighths <= 4; eighths++ {
		at := len(level) * eighths / 8
		if drift, stood, _ := stands(level[at:], least, driftLimit); stood && within(drift, wantedDrift(load)) {
			phases.Drift, phases.Cut = drift, span(paces[:from+at])
			return from + at
		}
	}
	return from
}

func patience(load workload.Spec, paces []measure.Pace, phases measure.Phases, from int) (*measure.Patience, bool) {
	kept := paces[min(from, len(paces)):]
	rates := make([]float64, len(kept))
	for i, pace := range kept {
		rates[i] = pace.Rate()
	}
	level := within(phases.Drift, wantedDrift(load))
	record := measure.Patience{
		Cut: phases.Cut, Steady: phases.State == measure.Steady && level &&
			len(kept) >= patientIntervals && float64(len(kept)) >= patientShare*float64(len(paces)),
	}
	estimate := MeanOfSeries(rates)
	if half := estimate.Half(); !math.IsNaN(half) {
		record.Margin = quantity.Share(math.Hypot(half, byStalls(phases.Dips, span(kept))))
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
	known := estimate.Known && record.Margin <= load.Margin && len(kept) >= patientIntervals
	without := "there was too little data for a margin of error"
	if estimate.Known {
		without = fmt.Sprintf("the margin of error was still %s", record.Margin)
	}
	// A mean of what still changes is a mean of nothing.
	moves := moving(kept)
	if !record.Steady {
		moves = nil
	}
	record.Steady = record.Steady && len(moves) == 0
	not := "the rate was not steady"
	if len(moves) > 0 {
		not = "the rate was steady, but " + claim.Words(moves)
	}
	judge(load.Steady || load.Margin > 0, record.Steady, "the rate was steady", not)
	judge(load.Margin > 0, known, fmt.Sprintf("the margin of error was %s", record.Margin), without)
	record.Words = "It ended because " + strings.Join(met, " and ") + "."
	if len(missed) > 0 {
		record.Words = "The time was over before the goal was reached: " + strings.Join(missed, " and ") + "."
	}
	return &record, len(missed) == 0
}

// byStalls is half the width of a 95 % interval of a mean, as a share of it, that
// comes from how many stalls happened to fall into the time: that many, give or take
// the root of one more (Poisson), each worth its share of it.
func byStalls(dips *measure.Dips, of quantity.Seconds) float64 {
	if dips == nil || dips.Count == 0 || dips.Every > 0 || of <= 0 {
		return 0
	}
	each := float64(dips.Depth) * float64(dips.Length/of) / float64(dips.Count)
	return 1.96 * math.Sqrt(float64(dips.Count)+1) * each
}
