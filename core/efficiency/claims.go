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
		return "There is no load under which the array and all its members were measured. Measure one plan on each of them."
	})
	moreThanAll = claim.Declare("more-than-its-members", func(t []claim.Term) bool { // the array, and the sum under a load
		return len(t) == 2 && t[1].Value > 0 && t[0].Value > (1+matters)*t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Under %q %s does more than the members that were named do together (%s against %s). Either a member was not named, or a cache answered. No efficiency is given for it.", t[1].Of, t[0].Of, t[0].Shown, t[1].Shown)
	})
	moreThanLeft = claim.Declare("more-than-its-level-leaves", func(t []claim.Term) bool { // the array, the sum, and the share that is left
		return len(t) == 3 && t[1].Value > 0 && t[2].Value > 0 && t[0].Value > (1+matters)*t[1].Value*t[2].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Under %q %s does %s, more than its level leaves of its members: %s of %s. Either a member was not named, or a cache answered. No efficiency is given for it.", t[1].Of, t[0].Of, t[0].Shown, t[2].Shown, t[1].Shown)
	})
	makes = claim.Declare("makes-of-its-members", func(t []claim.Term) bool { // who, of what, and shares from the least to the most
		return len(t) > 2 && len(t) < 5 && t[2].Value > 0 && t[2].Value <= t[len(t)-1].Value && t[len(t)-1].Value <= 1+matters
	}, func(t []claim.Term) string {
		if len(t) == 3 {
			return fmt.Sprintf("%s makes %s %s.", t[0].Of, t[2].Shown, t[1].Of)
		}
		return fmt.Sprintf("%s makes from %s (%s) to %s (%s) %s.", t[0].Of, t[2].Shown, t[2].Of, t[3].Shown, t[3].Of, t[1].Of)
	})
	oddOne = claim.Declare("odd-member", func(t []claim.Term) bool { // what it does over the nearest of the others, under a load
		return len(t) == 2 && t[0].Value > 0 && math.Abs(math.Log(t[0].Value)) > math.Log1p(matters)
	}, func(t []claim.Term) string {
		way, by := "more", t[0].Value-1
		if by < 0 {
			way, by = "less", -by
		}
		return fmt.Sprintf("%s does %s %s than any of the others under %q.", t[0].Of, quantity.Share(by), way, t[1].Of)
	})
	pacedBySlowest = claim.Declare("paced-by-its-slowest", func(t []claim.Term) bool { // the share that is left, under a load
		return len(t) == 1 && t[0].Value < 1-matters
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Where an array waits for its slowest member it can make no more than %s of that under %q.", t[0].Shown, t[0].Of)
	})
	membersDiffer = claim.Declare("members-differ", func(t []claim.Term) bool { // under a load, the least and the most
		return len(t) == 3 && t[2].Value > (1+matters)*t[1].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Members differ: under %q %s does %s, and %s %s.", t[0].Of, t[1].Of, t[1].Shown, t[2].Of, t[2].Shown)
	})
	togetherUnknown = claim.Declare("together-not-measured", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "Whether members get into each other's way is not known: measure them as a race as well."
	})
	outOfTheWay = claim.Declare("not-in-each-others-way", func(t []claim.Term) bool { // at once over one by one, under each load
		return claim.All(t, func(p claim.Term) bool { return p.Low > 1-matters })
	}, func([]claim.Term) string {
		return "Members do not get into each other's way: at once they do what they do one by one."
	})
	notShownInTheWay = claim.Declare("not-shown-in-each-others-way", func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.High == 0 || p.High >= 1-matters })
	}, func([]claim.Term) string {
		return "Members are not shown to get into each other's way, and that is not ruled out either: measure them more often."
	})
	inTheWay = claim.Declare("in-each-others-way", func(t []claim.Term) bool { // at once over one by one, and what the array makes of that
		return len(t) > 0 && t[0].High > 0 && t[0].High < 1-matters
	}, func(t []claim.Term) string {
		words := fmt.Sprintf("At once the members do %s of what they do one by one under %q: they share something that limits them, such as a controller, a link or a bus.", t[0].Shown, t[0].Of)
		if len(t) > 1 {
			words += fmt.Sprintf(" Of that the array makes %s.", t[1].Shown)
		}
		return words
	})
	howSureUnknown = claim.Declare("how-sure-not-known", func(t []claim.Term) bool { return len(t) == 1 }, func(t []claim.Term) string {
		return fmt.Sprintf("How sure that is under %q is not known: measure each at least twice, better three times.", t[0].Of)
	})
)
