package judge

import (
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// Halves is one measurement before and after a moment.
type Halves struct {
	Before  Mean    `json:"before" doc:"Mean rate in operations per second"`
	After   Mean    `json:"after"`
	Ratio   float64 `json:"ratio,omitempty" doc:"After over before; absent when either is unknown"`
	Verdict Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`
	Words   string  `json:"words"`
}

// SplitAt compares the rate after a moment with that before it. The interval
// that holds the moment, and the one after it, are left out. The means differ
// when their 95 % intervals are apart; that is stricter than a test of the
// difference (Schenker and Gentleman 2001).
func SplitAt(series []measure.Interval, at quantity.Seconds) Halves {
	var before, after []measure.Interval
	for _, i := range whole(measured(series)) {
		switch {
		case i.Start+i.Length <= at:
			before = append(before, i)
		case i.Start >= at+i.Length:
			after = append(after, i)
		}
	}
	s := Halves{Before: MeanOfSeries(Rates(before)), After: MeanOfSeries(Rates(after)), Verdict: Missing}
	if s.Before.Mean <= 0 || len(after) == 0 {
		s.Words = "There is too little on one side of the marker."
		return s
	}
	s.Ratio = s.After.Mean / s.Before.Mean
	change := fmt.Sprintf("from %s before to %s after", quantity.OpRate(s.Before.Mean), quantity.OpRate(s.After.Mean))
	switch {
	case !s.Before.Known || !s.After.Known:
		s.Verdict = Hint
		s.Words = "The rate went " + change + "; there is too little on one side to be sure."
	case s.After.Low > s.Before.High:
		s.Verdict = Better
		s.Words = "The rate rose " + change + "."
	case s.After.High < s.Before.Low:
		s.Verdict = Worse
		s.Words = "The rate fell " + change + "."
	default:
		s.Verdict = NotShown
		s.Words = "The rate went " + change + "; that is within what it varies by itself."
	}
	return s
}
