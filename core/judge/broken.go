package judge

import (
	"patientheron/core/claim"
	"patientheron/core/quantity"
)

const stoodWords = "The load engine was not running for %s, %s after the start: the process was stopped, had no core, or the host was suspended."

var (
	ended = says("ended-by-failure", Unreliable, always,
		"The measurement failed after %s. The figures cover the operations completed until then.")
	stood     = says("stood-still", Caution, func(t []claim.Term) bool { return t[3].Value <= mostStood }, stoodWords)
	stoodLong = says("stood-still: for long", Unreliable, func(t []claim.Term) bool { return t[3].Value > mostStood }, stoodWords)
)

// failed marks the figures of a measurement that ended by a failure: they are of what came
// before.
func failed(o Observed) []Finding {
	if o.Summary.Total.Operations == 0 {
		return nil // there is no figure
	}
	return ended.of(everything, "Fix the cause that the measurement names, and measure again.",
		number("measured seconds", o.Summary.Measured), unsaid("operations without an answer", o.Summary.Unanswered))
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
	if all := o.Summary.Measured + o.Summary.WarmUp; all > 0 {
		share = quantity.Share(s.Total / all)
	}
	said := stood
	if share > mostStood {
		said = stoodLong
	}
	return said.of(everything, "The longest latencies include this pause. Measure again with idle cores on the host, and without stopping the process.",
		number("longest in seconds", s.Worst), number("when, in seconds", s.At), unsaid("together in seconds", s.Total), unsaid("share of the time", share))
}
