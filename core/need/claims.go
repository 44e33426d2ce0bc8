package need

import (
	"fmt"

	"patientheron/core/claim"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// outcomeIs reports a term with one of some outcomes.
func outcomeIs(of ...judge.Outcome) func(claim.Term) bool {
	return func(t claim.Term) bool {
		for _, s := range of {
			if t.State == string(s) {
				return true
			}
		}
		return false
	}
}

var (
	does = outcomeIs(judge.Meets)
	open = outcomeIs(judge.Undecided, judge.NotMeasured)
)

// every is what is said of terms of which each stands so.
func every(name string, holds func(claim.Term) bool, words string) claim.Kind {
	return claim.Declare(name, func(t []claim.Term) bool { return claim.All(t, holds) }, func(t []claim.Term) string { return words + listed(t) })
}

// What can be said of a setup. Terms are demands, by their outcome.
var (
	meetsAll = claim.Declare("meets-all", func(t []claim.Term) bool { return claim.All(t, does) }, func([]claim.Term) string { return "meets all requirements" })
	tightest = claim.Declare("tightest", func(t []claim.Term) bool { // the tightest, and all that have a headroom
		return len(t) > 1 && t[0].Value > 0 && claim.All(t, func(d claim.Term) bool { return d.Value >= t[0].Value })
	}, func(t []claim.Term) string {
		return fmt.Sprintf("tightest is %s, at %s × the bound", t[0].Of, floored(t[0].Value))
	})
	fallsShortIn   = every("falls-short-in", outcomeIs(judge.FallsShort), "falls short in ")
	notShownIn     = every("not-shown-in", open, "not shown in ")
	notShownToMeet = every("not-shown-to-meet", open, "is not shown to meet ")
)

// What can be said of all setups. Terms are setups by their outcome, with their prices, or where
// none is known with their headroom.
var (
	noSetup = claim.Declare("no-setup", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string { return "No setup was judged." })
	take    = claim.Declare("take", func(t []claim.Term) bool { // the one to take first; prices of 0 are not known
		return claim.All(t, does) && t[0].Value > 0 && claim.All(t, func(s claim.Term) bool { return s.Value == 0 || s.Value >= t[0].Value })
	}, func(t []claim.Term) string {
		if len(t) == 1 {
			return fmt.Sprintf("Choose %q: it alone meets all requirements, at %s.", t[0].Of, quantity.Price(t[0].Value))
		}
		return fmt.Sprintf("Choose %q: of %d that meet all requirements it costs least, %s.", t[0].Of, len(t), quantity.Price(t[0].Value))
	})
	meetsWithMost = claim.Declare("meets-with-most", func(t []claim.Term) bool { // by headroom, the most first
		return claim.All(t, does) && claim.All(t, func(s claim.Term) bool { return s.Value <= t[0].Value })
	}, func(t []claim.Term) string {
		if len(t) == 1 {
			return fmt.Sprintf("%q alone meets all requirements.", t[0].Of)
		}
		return fmt.Sprintf("%q meets all requirements, with the most headroom of %d that do.", t[0].Of, len(t))
	})
	priceNotKnown = claim.Declare("price-not-known", func(t []claim.Term) bool { // by prices
		return claim.All(t, does) && claim.All(t, func(s claim.Term) bool { return s.Value == 0 })
	}, func(t []claim.Term) string {
		if len(t) == 1 {
			return "Its price is not known."
		}
		return "No price is known."
	})
	someMay = claim.Declare("some-may", func(t []claim.Term) bool { return claim.All(t, open) }, func(t []claim.Term) string {
		return fmt.Sprintf("No setup is shown to meet all requirements. %d may: they have open requirements (not shown or not measured).", len(t))
	})
	noneMeets = claim.Declare("none-meets", func(t []claim.Term) bool { return claim.All(t, outcomeIs(judge.FallsShort)) }, func([]claim.Term) string {
		return "No setup meets all requirements."
	})
	norAllButOne = claim.Declare("nor-all-but-one", func(t []claim.Term) bool { return claim.All(t, outcomeIs(judge.FallsShort)) }, func([]claim.Term) string {
		return "No setup meets all requirements, or all but one."
	})
	without = claim.Declare("without-one", func(t []claim.Term) bool { // the demand, and those that meet all others
		return len(t) > 1
	}, func(t []claim.Term) string {
		return fmt.Sprintf("Without %q, %s would do.", t[0].Of, claim.Names(t[1:], len(t)))
	})
)

// listed are the names of terms, the first few of many.
func listed(terms []claim.Term) string {
	const most = 3
	if len(terms) > most {
		return fmt.Sprintf("%s and %d more", claim.Names(terms[:most], most), len(terms)-most)
	}
	return claim.Names(terms, most)
}
