package compare

import (
	"fmt"
	"math"

	"patientheron/core/claim"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// What can be said of a line. Terms are spots of it, whose state is the swept field where that is
// named.
var (
	goes = claim.Declare("rate-goes", func(t []claim.Term) bool {
		return len(t) == 2 && t[0].Value > 0 && t[1].Value > 0
	}, func(t []claim.Term) string {
		return fmt.Sprintf("the rate goes from %s at %s to %s at %s", t[0].Shown, t[0].Of, t[1].Shown, t[1].Of)
	})
	noLonger = claim.Declare("takes-no-longer", func(t []claim.Term) bool { // latencies, from the first spot on
		return len(t) > 1 && claim.All(t, func(s claim.Term) bool { return s.Value > 0 && s.Value <= t[0].Value*alikeLatency })
	}, func(t []claim.Term) string {
		return fmt.Sprintf("up to %s %s the latency stays about that at %s", t[0].State, t[len(t)-1].Of, t[0].Of)
	})
	knee = claim.Declare("knee", func(t []claim.Term) bool { // power, rate for its latency: of the knee, and of all others
		return len(t) > 1 && claim.All(t, func(s claim.Term) bool { return s.Value <= t[0].Value })
	}, func(t []claim.Term) string {
		return fmt.Sprintf("beyond %s %s more load adds queueing rather than throughput", t[0].State, t[0].Of)
	})
	waitsForShared = claim.Declare("waits-for-shared", func(t []claim.Term) bool { // contention, and how well the law fits
		return len(t) == 2 && t[0].Value >= 0 && t[0].Value <= 1 && t[1].Value >= 0.5
	}, func(t []claim.Term) string {
		return "the serial share (contention) is " + t[0].Shown
	})
	eachDoes = claim.Declare("each-does", func(t []claim.Term) bool { // rates for each, of the first and of the last, and the share
		return len(t) == 3 && t[0].Value > 0 && math.Abs(t[1].Value/t[0].Value-t[2].Value) <= 1e-9*t[2].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("each of %s does %s of the work of each of %s", t[1].Of, t[2].Shown, t[0].Of)
	})
	slowerWithMore = claim.Declare("slower-with-more", func(t []claim.Term) bool { // rates of the best and of the last, and their ratio
		return len(t) == 3 && t[1].Value <= lower*t[0].Value && (t[2].High == 0 || t[2].High < 1)
	}, func(t []claim.Term) string {
		return "beyond " + t[0].Of + " the rate falls"
	})
	worthNotSaid = claim.Declare("worth-not-known", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "there is no figure for its worth, because a rate along it is unreliable"
	})
	mostForPrice = claim.Declare("most-for-its-price", func(t []claim.Term) bool { // rates for the price, of the best first and then of all
		return len(t) > 1 && claim.All(t, func(s claim.Term) bool { return s.Value > 0 && s.Value <= t[0].Value })
	}, func(t []claim.Term) string {
		words := fmt.Sprintf("the best value for money is at %s: %s per 1,000", t[0].Of, t[0].Shown)
		if t[0].Of == t[len(t)-1].Of {
			words += ", the last value tried"
		}
		return words
	})
	notWorse = claim.Declare("not-shown-to-be-worse", func(t []claim.Term) bool { // the best, and those whose interval reaches into its
		return len(t) > 1 && claim.All(t[1:], func(s claim.Term) bool { return s.High >= t[0].Low && t[0].Low > 0 })
	}, func(t []claim.Term) string {
		return "at " + claim.Names(t[1:], len(t)) + " the value for money is not shown to be lower"
	})
	repeatsWouldTell = claim.Declare("repeats-would-tell", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "repeats would show which others are as good"
	})
	within = claim.Declare("p99-within", func(t []claim.Term) bool { // what is wanted, its p99, and its rate
		return len(t) == 3 && t[1].Value > 0 && t[1].Value <= t[0].Value
	}, func(t []claim.Term) string {
		return fmt.Sprintf("with p99 within %s it is %s at %s %s", t[0].Shown, t[2].Shown, t[2].State, t[2].Of)
	})
	withinNowhere = claim.Declare("p99-within-nowhere", func(t []claim.Term) bool { // what is wanted, and all p99
		return len(t) > 1 && claim.All(t[1:], func(s claim.Term) bool { return s.Value <= 0 || s.Value > t[0].Value })
	}, func(t []claim.Term) string {
		return "p99 stays within " + t[0].Shown + " nowhere"
	})
)

// What can be said of a candidate. Terms are parts of a comparison, with the gain and the verdict.
var (
	changed = claim.Declare("changed", func(t []claim.Term) bool {
		return len(t) == 1 && (t[0].State == string(judge.Better) && t[0].Value > 1 || t[0].State == string(judge.Worse) && t[0].Value < 1)
	}, func(t []claim.Term) string { return t[0].Of + ": " + t[0].Shown })
	alike     = ofVerdict("same-within", judge.Same, func(t []claim.Term) string { return fmt.Sprintf("the same within %s: ", t[0].Shown) })
	notShown  = ofVerdict("no-difference-shown", judge.NotShown, func([]claim.Term) string { return "no difference shown: " })
	hinted    = ofVerdict("no-more-than-a-hint", judge.Hint, func([]claim.Term) string { return "only a hint, with one repeat on a side: " })
	missing   = ofVerdict("not-comparable", judge.Missing, func([]claim.Term) string { return "not comparable: " })
	nothingOf = claim.Declare("nothing-in-common", func(t []claim.Term) bool { return len(t) == 0 }, func([]claim.Term) string {
		return "No load was measured on both sides"
	})
)

// ofVerdict is what is said of all parts of one verdict.
func ofVerdict(name string, v judge.Verdict, words func([]claim.Term) string) claim.Kind {
	return claim.Declare(name, func(t []claim.Term) bool {
		return claim.All(t, func(p claim.Term) bool { return p.State == string(v) })
	}, func(t []claim.Term) string { return words(t) + claim.Names(t, 3) })
}

// term is a spot by its rate.
func (l Line) term(s Spot) claim.Term {
	t := claim.Term{Of: s.Value, Value: s.Rate.Mean, Shown: l.show(s.Rate.Mean), State: l.Field}
	if s.Rate.Known {
		t.Low, t.High = s.Rate.Low, s.Rate.High
	}
	return t
}

// say adds what a line shows.
func (l *Line) say(k claim.Kind, terms ...claim.Term) { l.Claims = claim.Add(l.Claims, k, terms...) }

// terms are some spots with a value each.
func (l Line) terms(spots []Spot, value func(Spot) float64) (terms []claim.Term) {
	for _, s := range spots {
		terms = append(terms, claim.Term{Of: s.Value, Value: value(s), State: l.Field})
	}
	return terms
}

// claimsOf say what changed most first, and what did not after it.
func claimsOf(parts []Part, noise quantity.Share) (claims []claim.Claim) {
	if len(parts) == 0 {
		return claim.Add(nil, nothingOf)
	}
	together := map[judge.Verdict][]claim.Term{}
	for _, p := range parts {
		t := claim.Term{Of: p.Title, Value: p.Gain, Shown: p.Words, State: string(p.Verdict)}
		if p.Unreliable {
			t.Of += " (unreliable)"
		}
		switch p.Verdict {
		case judge.Better, judge.Worse:
			claims = claim.Add(claims, changed, t)
			continue
		case judge.Same:
			t.Shown = noise.String()
		}
		together[p.Verdict] = append(together[p.Verdict], t)
	}
	claims = claim.Add(claims, alike, together[judge.Same]...)
	claims = claim.Add(claims, notShown, together[judge.NotShown]...)
	claims = claim.Add(claims, hinted, together[judge.Hint]...)
	return claim.Add(claims, missing, together[judge.Missing]...)
}
