package need

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
)

// order is that of outcomes, the best first.
var order = []judge.Outcome{judge.Meets, judge.Undecided, judge.NotMeasured, judge.FallsShort}

// inFront orders setups for those who read: who meets all comes first, then by price, those
// without one last, then by what they carry.
func inFront(a, b Answer) int {
	price := func(a Answer) float64 {
		if a.Price == 0 {
			return math.Inf(1)
		}
		return a.Price
	}
	return cmp.Or(cmp.Compare(slices.Index(order, a.Outcome), slices.Index(order, b.Outcome)), cmp.Compare(price(a), price(b)), cmp.Compare(b.Carries, a.Carries))
}

// sumUp says what a setup comes to over all demands.
func (a *Answer) sumUp(demands []Demand) {
	worst := 0
	of := map[judge.Outcome][]claim.Term{}
	complete := true
	for i, v := range a.Verdicts {
		worst = max(worst, slices.Index(order, v.Outcome))
		name := demands[i].Name()
		as := v.Outcome
		if as == judge.NotMeasured {
			as = judge.Undecided
		}
		of[as] = append(of[as], claim.Term{Of: name, State: string(v.Outcome)})
		if demands[i].About != AFigure {
			continue
		}
		if v.Value == nil || v.Outcome == judge.Undecided && v.Least == 0 {
			complete = complete && v.Outcome == judge.Meets
			continue
		}
		if v.Headroom > 0 && (a.Carries == 0 || v.Headroom < a.Carries) {
			a.Carries, a.Tightest = v.Headroom, name
			a.spread = math.Inf(1)
			if v.Least > 0 && v.Most > 0 {
				a.spread = math.Log(v.Most/v.Least) / 2
			}
		}
	}
	if !complete {
		a.Carries, a.Tightest = 0, ""
	}
	a.Outcome = order[worst]
	a.Claims = []claim.Claim{}
	say := func(k claim.Kind, terms ...claim.Term) { a.Claims = claim.Add(a.Claims, k, terms...) }
	switch a.Outcome {
	case judge.Meets:
		say(meetsAll, of[judge.Meets]...)
		if a.Carries > 0 {
			say(tightest, a.tightestOf(demands)...)
		}
	case judge.FallsShort:
		say(fallsShortIn, of[judge.FallsShort]...)
		say(notShownIn, of[judge.Undecided]...)
	default:
		say(notShownToMeet, of[judge.Undecided]...)
	}
	words := make([]string, len(a.Claims))
	for i, c := range a.Claims {
		words[i] = c.Words
	}
	a.Words = strings.Join(words, "; ")
}

// tightestOf are the demands that have a headroom, the tightest of those on figures before all.
func (a *Answer) tightestOf(demands []Demand) []claim.Term {
	all := []claim.Term{{Of: a.Tightest, Value: a.Carries}}
	for i, v := range a.Verdicts {
		if demands[i].About == AFigure && v.Value != nil && v.Headroom > 0 {
			all = append(all, claim.Term{Of: demands[i].Name(), Value: v.Headroom})
		}
	}
	return all
}

// Name is what a demand is called beside others.
func (d Demand) Name() string {
	switch d.About {
	case AFigure:
		return fmt.Sprintf("%s of %q", figure.Of(d.Figure).Label, d.Use)
	case Survival:
		return "surviving " + d.Figure
	}
	return string(d.About)
}

// givingUp finds the demands without any one of which some setup meets all others; none
// where a setup meets all, or where none comes that near.
func (j Judged) givingUp() (all []GivingUp) {
	if slices.ContainsFunc(j.Setups, func(a Answer) bool { return a.Outcome == judge.Meets }) {
		return nil
	}
	for i, d := range j.Demands {
		var then []string
		for _, a := range j.Setups {
			alone := true
			for k, v := range a.Verdicts {
				alone = alone && (k == i) == (v.Outcome != judge.Meets)
			}
			if alone {
				then = append(then, a.Name)
			}
		}
		if len(then) > 0 {
			terms := []claim.Term{{Of: d.Words}}
			for _, name := range then {
				terms = append(terms, claim.Term{Of: name})
			}
			all = append(all, GivingUp{i, claim.Add(nil, without, terms...)[0].Words, then})
		}
	}
	return all
}

// sayWhatToDo says what to take, or why nothing is to be taken.
func (j *Judged) sayWhatToDo() {
	j.Claims = []claim.Claim{}
	say := func(k claim.Kind, terms ...claim.Term) { j.Claims = claim.Add(j.Claims, k, terms...) }
	var meet, all, may []Answer
	for _, a := range j.Setups {
		all = append(all, a)
		switch a.Outcome {
		case judge.Meets:
			meet = append(meet, a)
		case judge.Undecided, judge.NotMeasured:
			may = append(may, a)
		}
	}
	price, headroom := func(a Answer) float64 { return a.Price }, func(a Answer) float64 { return a.Carries }
	switch {
	case len(all) == 0:
		say(noSetup)
	case len(meet) > 0:
		priced := slices.DeleteFunc(slices.Clone(meet), func(a Answer) bool { return a.Price == 0 })
		if len(priced) > 0 {
			best := slices.MinFunc(priced, func(a, b Answer) int {
				return cmp.Or(cmp.Compare(a.Price, b.Price), cmp.Compare(b.Carries, a.Carries))
			})
			say(take, terms(first(best, meet), price)...)
			j.sayTightest(best)
			break
		}
		best := slices.MaxFunc(meet, func(a, b Answer) int { return cmp.Compare(a.Carries, b.Carries) })
		say(meetsWithMost, terms(first(best, meet), headroom)...)
		j.sayTightest(best)
		say(priceNotKnown, terms(meet, price)...)
	case len(may) > 0:
		say(someMay, terms(may, price)...)
	case len(j.GiveUp) > 0:
		say(noneMeets, terms(all, price)...)
		give := []claim.Term{{Of: j.Demands[j.GiveUp[0].Demand].Words}}
		for _, name := range j.GiveUp[0].Then {
			give = append(give, claim.Term{Of: name})
		}
		say(without, give...)
	default:
		say(norAllButOne, terms(all, price)...)
	}
	j.Words = strings.Join(claim.Sentences(j.Claims), " ")
}

// sayTightest says what is tightest of a setup.
func (j *Judged) sayTightest(a Answer) {
	if a.Carries > 0 {
		j.Claims = claim.Add(j.Claims, tightest, a.tightestOf(j.Demands)...)
	}
}

// first are setups with one of them before the others.
func first(one Answer, all []Answer) []Answer {
	i := slices.IndexFunc(all, func(a Answer) bool { return a.Name == one.Name && slices.Equal(a.Runs, one.Runs) })
	return append([]Answer{one}, slices.Concat(all[:i], all[i+1:])...)
}

// terms are setups by their outcome, with a value each.
func terms(setups []Answer, value func(Answer) float64) (all []claim.Term) {
	for _, a := range setups {
		all = append(all, claim.Term{Of: a.Name, Value: value(a), State: string(a.Outcome)})
	}
	return all
}

// remark says what to know before the verdicts are relied on.
func (j *Judged) remark(sides []compare.Side) {
	uses := 0
	for _, u := range j.Need.Uses {
		if len(u.Bounds) > 0 {
			uses++
		}
	}
	if uses > 1 && !j.Need.Together {
		j.Remarks = append(j.Remarks, "Each use was measured alone. Uses that run at the same time slow each other down: leave headroom for that.")
	}
	if len(j.Setups) > 0 && j.Setups[0].Outcome == judge.Meets {
		for _, m := range j.Setups[0].Meanwhile {
			if m.Outcome != judge.Meets {
				j.Remarks = append(j.Remarks, fmt.Sprintf("That holds for %q when it is healthy; while it is %s it %s.", j.Setups[0].Name, m.State, m.Words))
			}
		}
	}
	if len(j.Setups) > 0 { // of the one in front, one of each kind; those of all stand with their verdicts
		said := map[string]bool{}
		for _, v := range j.Setups[0].Verdicts {
			for _, c := range v.Cautions {
				if !said[c.Kind] {
					said[c.Kind] = true
					j.Remarks = append(j.Remarks, c.Words)
				}
			}
		}
	}
	simulated := 0
	for _, side := range sides {
		if !side.Real {
			simulated++
		}
	}
	switch {
	case simulated == len(sides) && simulated > 0:
		j.Remarks = append(j.Remarks, "All figures are simulated.")
	case simulated > 0:
		j.Remarks = append(j.Remarks, fmt.Sprintf("The figures of %d of %d setups are simulated.", simulated, len(sides)))
	}
	for _, u := range j.Unmatched {
		j.Remarks = append(j.Remarks, fmt.Sprintf("%q was not measured on any of these setups.", u))
	}
}
