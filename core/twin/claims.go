package twin

import (
	"fmt"
	"math"

	"patientheron/core/claim"
	"patientheron/core/quantity"
)

// What can be said of a twin. Values are shares by which figures are off, or times of a guess.
var (
	offBy = claim.Declare("off-by", func(t []claim.Term) bool { // off, its loads, and those that it was not shown, if any
		return len(t) >= 2 && t[0].Value >= 0
	}, func(t []claim.Term) string {
		words := fmt.Sprintf("The error is %s on the %s of the fit", t[0].Shown, t[1].Shown)
		if len(t) > 2 {
			words += fmt.Sprintf(", and %s on loads that were left out of the fit (cross-validation)", t[2].Shown)
		}
		return words + "."
	})
	offButFor = claim.Declare("off-but-for", func(t []claim.Term) bool { // how many outliers, the error, its loads, and that of the cross-validation
		return len(t) >= 3 && t[0].Value >= 1 && t[1].Value >= 0
	}, func(t []claim.Term) string {
		words := fmt.Sprintf("The error is %s on the %s of the fit, outliers excluded (%s)", t[1].Shown, t[2].Shown, t[0].Shown)
		if len(t) > 3 {
			words += fmt.Sprintf(", and %s on loads that were left out of the fit (cross-validation)", t[3].Shown)
		}
		return words + "."
	})
	notTried = claim.Declare("not-tried-on-others", func(t []claim.Term) bool { return len(t) == 1 && t[0].Value < fewest }, func([]claim.Term) string {
		return fmt.Sprintf("With fewer than %d loads there is no cross-validation.", fewest)
	})
	outliersAre = claim.Declare("strays", func(t []claim.Term) bool { // what was measured, and the twin's beside it as the end of the interval
		return claim.All(t, func(f claim.Term) bool { return f.State == outlierState })
	}, func(t []claim.Term) string {
		words, more := "", ""
		if len(t) > mostOutliers {
			more = fmt.Sprintf(", and %d more", len(t)-mostOutliers)
		}
		for i, f := range t[:min(len(t), mostOutliers)] {
			if i > 0 {
				words += ", "
			}
			words += f.Of + " (" + f.Shown + ")"
		}
		return fmt.Sprintf("Outliers: %s%s. Either the array has a part there that the guess lacks, or earlier work was still going on. Outliers have little weight in the fit.", words, more)
	})
	farFromGuess = claim.Declare("far-from-its-guess", far, func(t []claim.Term) string {
		return fmt.Sprintf("The %s is %s its guess: check whether the guess describes this array.", t[0].Of, t[0].Shown)
	})
	wentFar = claim.Declare("went-far-from-its-guess", far, func(t []claim.Term) string {
		return fmt.Sprintf("The %s went to %s its guess during the search.", t[0].Of, t[0].Shown)
	})
	hardlyTold = claim.Declare("hardly-told", func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.State == string(Hardly) })
	}, func(t []claim.Term) string {
		labels := make([]string, len(t))
		for i, p := range t {
			labels[i] = p.Of
		}
		return fmt.Sprintf("The measurements hardly identify %s: the twin stays near the guess there, and is no better than it.", listed(labels))
	})
	tangledUp = claim.Declare("correlated", func(t []claim.Term) bool { return len(t) == 1 }, func(t []claim.Term) string { return t[0].Shown })
	fitFailed = claim.Declare("fit-failed", func(t []claim.Term) bool { // the worst, and all others: more than half of them outliers
		outliers := 0
		for _, f := range t[1:] {
			if f.State == outlierState {
				outliers++
			}
		}
		return len(t) > 1 && 2*outliers > len(t)-1
	}, func(t []claim.Term) string {
		outliers := 0
		for _, f := range t[1:] {
			if f.State == outlierState {
				outliers++
			}
		}
		return fmt.Sprintf("The fit failed: %d of %s are outliers, the largest of them %s, %s. No array of this structure behaves like the measurements, whatever its rates and times: correct the structure in the guess.",
			outliers, counted(len(t)-1, "figure"), t[0].Of, t[0].Shown)
	})
)

// outlierState is the state of a figure that the twin is not like.
const outlierState = "outlier"

// far reports a parameter, as times of its guess, that is strangely far from it.
func far(t []claim.Term) bool {
	return len(t) == 1 && t[0].Value > 0 && math.Abs(math.Log(t[0].Value)) > strange
}

// timesOfGuess is a parameter as times of its guess.
func (p FittedParameter) timesOfGuess() claim.Term {
	times := p.Value / p.Guess
	return claim.Term{Of: p.Label, Value: times, Shown: quantity.Digits(times) + " times", State: string(p.Known)}
}
