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
		words := fmt.Sprintf("It is off by %s under the %s it was fitted to", t[0].Shown, t[1].Shown)
		if len(t) > 2 {
			words += fmt.Sprintf(", and by %s under loads that it was not shown", t[2].Shown)
		}
		return words + "."
	})
	offButFor = claim.Declare("off-but-for", func(t []claim.Term) bool { // how many figures stray, off, its loads, and those not shown
		return len(t) >= 3 && t[0].Value >= 1 && t[1].Value >= 0
	}, func(t []claim.Term) string {
		stray := "stray"
		if t[0].Value == 1 {
			stray = "strays"
		}
		words := fmt.Sprintf("But for %s that %s it is off by %s under the %s it was fitted to", t[0].Shown, stray, t[1].Shown, t[2].Shown)
		if len(t) > 3 {
			words += fmt.Sprintf(", and by %s under loads that it was not shown", t[3].Shown)
		}
		return words + "."
	})
	notTried = claim.Declare("not-tried-on-others", func(t []claim.Term) bool { return len(t) == 1 && t[0].Value < fewest }, func([]claim.Term) string {
		return fmt.Sprintf("With fewer than %d loads it cannot be tried on any that it was not shown.", fewest)
	})
	strays = claim.Declare("strays", func(t []claim.Term) bool { // what was measured, and the twin's beside it as the end of the interval
		return claim.All(t, func(f claim.Term) bool { return f.State == astrayState })
	}, func(t []claim.Term) string {
		words, more := "", ""
		if len(t) > mostAstray {
			more = fmt.Sprintf(", and %d more", len(t)-mostAstray)
		}
		for i, f := range t[:min(len(t), mostAstray)] {
			if i > 0 {
				words += ", "
			}
			words += f.Of + " (" + f.Shown + ")"
		}
		return fmt.Sprintf("It strays in %s%s: the array has something there that the guess lacks, or what was measured before was still at work. Such figures count little in the fit.", words, more)
	})
	farFromGuess = claim.Declare("far-from-its-guess", far, func(t []claim.Term) string {
		return fmt.Sprintf("The %s is %s its guess; see whether the guess describes this array.", t[0].Of, t[0].Shown)
	})
	wentFar = claim.Declare("went-far-from-its-guess", far, func(t []claim.Term) string {
		return fmt.Sprintf("The %s went to %s its guess in search of it.", t[0].Of, t[0].Shown)
	})
	hardlyTold = claim.Declare("hardly-told", func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.State == string(Hardly) })
	}, func(t []claim.Term) string {
		labels := make([]string, len(t))
		for i, p := range t {
			labels[i] = p.Of
		}
		return fmt.Sprintf("What was measured hardly tells %s: there the twin stays near the guess, and is no better than it.", listed(labels))
	})
	tangledUp = claim.Declare("tangled", func(t []claim.Term) bool { return len(t) == 1 }, func(t []claim.Term) string { return t[0].Shown })
	noTwin    = claim.Declare("no-twin", func(t []claim.Term) bool { // the worst, and all others: more than half of them stray
		stray := 0
		for _, f := range t[1:] {
			if f.State == astrayState {
				stray++
			}
		}
		return len(t) > 1 && 2*stray > len(t)-1
	}, func(t []claim.Term) string {
		stray := 0
		for _, f := range t[1:] {
			if f.State == astrayState {
				stray++
			}
		}
		return fmt.Sprintf("It is no twin: %d of %s stray, most of all %s, %s. No array that is made like the guess does what was measured, whatever its rates and times: say in the guess what the volume is made of.",
			stray, counted(len(t)-1, "figure"), t[0].Of, t[0].Shown)
	})
)

// astrayState is the state of a figure that the twin is not like.
const astrayState = "astray"

// far reports a parameter, as times of its guess, that is strangely far from it.
func far(t []claim.Term) bool {
	return len(t) == 1 && t[0].Value > 0 && math.Abs(math.Log(t[0].Value)) > strange
}

// timesOfGuess is a parameter as times of its guess.
func (p FittedParameter) timesOfGuess() claim.Term {
	times := p.Value / p.Guess
	return claim.Term{Of: p.Label, Value: times, Shown: quantity.Digits(times) + " times", State: string(p.Known)}
}
