package judge

import (
	"fmt"

	"patientheron/core/quantity"
)

// failed marks the figures of a measurement that ended by a failure: they are of what came
// before.
func failed(o Observed) []Finding {
	if o.Summary.Total.Operations == 0 {
		return nil // there is no figure
	}
	return []Finding{{
		Kind: "ended-by-failure", Weight: Unreliable, Figure: "all",
		Sentence: fmt.Sprintf("It ended by a failure after %s of measured time; the figures are of what was answered until then.", o.Summary.Measured),
		Next:     "Fix the cause that the measurement names, and measure again.",
		Evidence: []Evidence{{"measured seconds", float64(o.Summary.Measured)}, {"operations without an answer", float64(o.Summary.Unanswered)}},
	}}
}

// mostStood is the share of the measured time from which on the time in which the engine did
// not run makes its figures unreliable.
const mostStood = 0.05

// stoodStill says when the engine itself did not run. What was under way then is counted as
// slow, although the storage may have been quick; at a set rate whatever was due then comes
// late.
func stoodStill(o Observed) []Finding {
	s := o.Summary.StoodStill
	if s == nil {
		return []Finding{}
	}
	share := quantity.Share(0)
	if all := o.Summary.Measured + o.Summary.LeadIn; all > 0 {
		share = quantity.Share(s.Total / all)
	}
	f := Finding{
		Kind: "stood-still", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("The engine itself did not run for %s, %s after the start: its process was stopped or had no core, or the host was suspended.", s.Worst, s.At),
		Next:     "Measure again when nothing stops the process and the host has idle cores. The longest latencies include this pause.",
		Evidence: []Evidence{{"longest in seconds", float64(s.Worst)}, {"together in seconds", float64(s.Total)}, {"share of the time", float64(share)}},
	}
	if share > mostStood {
		f.Weight = Unreliable
	}
	return []Finding{f}
}
