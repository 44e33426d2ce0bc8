package efficiency

import (
	"fmt"
	"math"

	"patientheron/core/claim"
	"patientheron/core/quantity"
)

// What can be said of an array and its members, each a sentence.
var (
	nothingInCommon = claim.Declare("no-load-in-common", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "The array and its members have no load in common. Measure one plan on each of them."
	})
	moreThanAll = claim.Declare("more-than-its-members", func(t []claim.Term) bool { // the array, and the sum under a load
		return len(t) == 2 && t[1].Value > 0 && t[0].Value > (1+matters)*t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Under %q %s is faster than the named members together (%s against %s). Either a member is missing, or a cache answered. There is no efficiency for this load.", t[1].Of, t[0].Of, t[0].Shown, t[1].Shown)
	})
	moreThanLeft = claim.Declare("more-than-its-level-leaves", func(t []claim.Term) bool { // the array, the sum, and the share that is left
		return len(t) == 3 && t[1].Value > 0 && t[2].Value > 0 && t[0].Value > (1+matters)*t[1].Value*t[2].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Under %q %s does %s, more than its RAID level allows: %s of %s. Either a member is missing, or a cache answered. There is no efficiency for this load.", t[1].Of, t[0].Of, t[0].Shown, t[2].Shown, t[1].Shown)
	})
	makes = claim.Declare("makes-of-its-members", func(t []claim.Term) bool { // who, of what, and shares from the least to the most
		return len(t) > 2 && len(t) < 5 && t[2].Value > 0 && t[2].Value <= t[len(t)-1].Value && t[len(t)-1].Value <= 1+matters
	}, func(t []claim.Term) string {
		if len(t) == 3 {
			return fmt.Sprintf("%s reaches %s %s.", t[0].Of, t[2].Shown, t[1].Of)
		}
		return fmt.Sprintf("%s reaches %s (%s) to %s (%s) %s.", t[0].Of, t[2].Shown, t[2].Of, t[3].Shown, t[3].Of, t[1].Of)
	})
	oddOne = claim.Declare("odd-member", func(t []claim.Term) bool { // what it does over the nearest of the others, under a load
		return len(t) == 2 && t[0].Value > 0 && math.Abs(math.Log(t[0].Value)) > math.Log1p(matters)
	}, func(t []claim.Term) string {
		way, by := "more", t[0].Value-1
		if by < 0 {
			way, by = "less", -by
		}
		return fmt.Sprintf("%s is an outlier: %s %s than any of the others under %q.", t[0].Of, quantity.Share(by), way, t[1].Of)
	})
	pacedBySlowest = claim.Declare("paced-by-its-slowest", func(t []claim.Term) bool { // the share that is left, under a load
		return len(t) == 1 && t[0].Value < 1-matters
	}, func(t []claim.Term) string {
		return fmt.Sprintf("An array that waits for its slowest member can reach at most %s of that under %q.", t[0].Shown, t[0].Of)
	})
	membersDiffer = claim.Declare("members-differ", func(t []claim.Term) bool { // under a load, the least and the most
		return len(t) == 3 && t[2].Value > (1+matters)*t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Members differ: under %q %s does %s, and %s %s.", t[0].Of, t[1].Of, t[1].Shown, t[2].Of, t[2].Shown)
	})
	togetherUnknown = claim.Declare("together-not-measured", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "Whether members slow each other down is not known: measure them with --race as well."
	})
	outOfTheWay = claim.Declare("not-in-each-others-way", func(t []claim.Term) bool { // at once over one by one, under each load
		return claim.All(t, func(p claim.Term) bool { return p.Low > 1-matters })
	}, func([]claim.Term) string {
		return "Members do not slow each other down: together they are as fast as one by one."
	})
	notShownInTheWay = claim.Declare("not-shown-in-each-others-way", func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.High == 0 || p.High >= 1-matters })
	}, func([]claim.Term) string {
		return "Whether members slow each other down is not shown: measure more repeats."
	})
	inTheWay = claim.Declare("in-each-others-way", func(t []claim.Term) bool { // at once over one by one, and what the array makes of that
		return len(t) > 0 && t[0].High > 0 && t[0].High < 1-matters
	}, func(t []claim.Term) string {
		words := fmt.Sprintf("Together the members reach %s of their sum under %q: they share a bottleneck, such as a controller, a link or a bus.", t[0].Shown, t[0].Of)
		if len(t) > 1 {
			words += fmt.Sprintf(" The array reaches %s of that.", t[1].Shown)
		}
		return words
	})
	howSureUnknown = claim.Declare("how-sure-not-known", func(t []claim.Term) bool { return len(t) == 1 }, func(t []claim.Term) string {
		return fmt.Sprintf("There is no interval under %q: measure at least two repeats of each, better three.", t[0].Of)
	})
)
