package tune

import (
	"fmt"
	"math"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/judge"
)

// What can be said of an experiment. The first term of a claim about settings is what they did
// together, by its ratio and its verdict; the others are the settings, or the parameters.
var (
	nothingKnown = claim.Declare("baseline-without-value", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "There is no result yet: the baseline has no value."
	})
	keep = claim.Declare("keep", betterWith, func(t []claim.Term) string {
		return fmt.Sprintf("Keep %s: %s against the baseline.", listed(names(t[1:])), t[0].Shown)
	})
	keepOfAll = claim.Declare("keep-of-all", betterWith, func(t []claim.Term) string {
		return fmt.Sprintf("Keep %s. All promising values together were %s against the baseline; those that are not kept added nothing to the others.", listed(names(t[1:])), t[0].Shown)
	})
	notWorthChanging = claim.Declare("nothing-worth-changing", func(t []claim.Term) bool {
		return len(t) > 1 && t[0].State != string(judge.Better)
	}, func(t []claim.Term) string {
		return fmt.Sprintf("No change is shown to be worth making: with %s the result was %s against the baseline.", listed(names(t[1:])), t[0].Shown)
	})
	hopeful = claim.Declare("so-far-promising", underWay, func(t []claim.Term) string {
		return fmt.Sprintf("So far, in round %s of %s. The promising values are measured together next.", t[0].Shown, t[1].Shown)
	})
	soFar = claim.Declare("so-far", underWay, func(t []claim.Term) string {
		return fmt.Sprintf("So far, in round %s of %s:", t[0].Shown, t[1].Shown)
	})
	noSingle = claim.Declare("no-single-change", func(t []claim.Term) bool { // all that was tried, by its verdict
		return claim.All(t, func(v claim.Term) bool { return v.State != string(judge.Better) })
	}, func([]claim.Term) string {
		return "No single change is shown to be worth making. Changes were not tried together."
	})
	matters      = ofMatter("matters", Matters, func([]claim.Term) string { return "What matters" })
	mattersNot   = ofMatter("matters-not", MattersNo, func(t []claim.Term) string { return "No difference of " + t[0].Shown + " or more" })
	notShownHow  = ofMatter("not-shown-either-way", NotShown, func([]claim.Term) string { return "Not shown either way" })
	notMeasuring = ofMatter("could-not-be-measured", Failed, func([]claim.Term) string { return "Measurements failed with" })
	notTaken     = claim.Declare("target-did-not-take", func(t []claim.Term) bool { // the parameter, and the values
		return len(t) > 1 && claim.All(t[1:], func(v claim.Term) bool { return v.State == "refused" })
	}, func(t []claim.Term) string {
		return fmt.Sprintf("The target refused %s %s: %s stayed in effect, so these values were not tested. The target would have to allow more.", t[0].Of, listed(names(t[1:])), t[0].Shown)
	})
	drifted = claim.Declare("baseline-drifted", func(t []claim.Term) bool { // the drift, and what counts
		return len(t) == 2 && math.Abs(t[0].Value) >= t[1].Value/2
	}, func(t []claim.Term) string {
		return fmt.Sprintf("The baseline drifted: %s at the last measurement than at the first. Each value is compared within its round, which removes the drift.", t[0].Shown)
	})
	notSeen = claim.Declare("smaller-not-seen", func(t []claim.Term) bool { // the resolution, and what counts
		return len(t) == 2 && t[0].Value > t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Differences below about %s cannot be detected. More rounds, or longer measurements, detect smaller ones.", t[0].Shown)
	})
	doubted = claim.Declare("some-doubted", func(t []claim.Term) bool { // how many, and of how many
		return len(t) == 2 && t[0].Value > 0 && t[0].Value <= t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("%g of %g measurements are unreliable; their findings say why.", t[0].Value, t[1].Value)
	})
)

func betterWith(t []claim.Term) bool {
	return len(t) > 1 && t[0].State == string(judge.Better)
}

func underWay(t []claim.Term) bool { return len(t) == 2 && t[0].Value <= t[1].Value }

// ofMatter is what is said of all parameters of which the same is known.
func ofMatter(name string, m Matter, words func([]claim.Term) string) claim.Kind {
	return claim.Declare(name, func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.State == string(m) })
	}, func(t []claim.Term) string { return words(t) + ": " + listed(names(t)) + "." })
}

func names(terms []claim.Term) []string {
	all := make([]string, len(terms))
	for i, t := range terms {
		all[i] = t.Of
	}
	return all
}

// listed joins words as in a sentence.
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
