package need

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// order is that of standings, the best first.
var order = []judge.Standing{judge.Meets, judge.Undecided, judge.NotMeasured, judge.FallsShort}

// inFront orders setups for those who read: who meets all comes first, then by price, those
// without one last, then by what they carry.
func inFront(a, b Answer) int {
	price := func(a Answer) float64 {
		if a.Price == 0 {
			return math.Inf(1)
		}
		return a.Price
	}
	return cmp.Or(cmp.Compare(slices.Index(order, a.Standing), slices.Index(order, b.Standing)), cmp.Compare(price(a), price(b)), cmp.Compare(b.Carries, a.Carries))
}

// sumUp says what a setup comes to over all demands.
func (a *Answer) sumUp(demands []Demand) {
	worst := 0
	var short, open []string
	complete := true
	for i, v := range a.Verdicts {
		worst = max(worst, slices.Index(order, v.Standing))
		name := demands[i].Name()
		switch v.Standing {
		case judge.FallsShort:
			short = append(short, name)
		case judge.Undecided, judge.NotMeasured:
			open = append(open, name)
		}
		if demands[i].About != AFigure {
			continue
		}
		if v.Value == nil || v.Standing == judge.Undecided && v.Least == 0 {
			complete = complete && v.Standing == judge.Meets
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
	a.Standing = order[worst]
	switch a.Standing {
	case judge.Meets:
		a.Words = "meets all that is asked"
		if a.Carries > 0 {
			a.Words += fmt.Sprintf("; tightest is %s, with %s times", a.Tightest, floored(a.Carries))
		}
	case judge.FallsShort:
		a.Words = "falls short in " + listed(short)
		if len(open) > 0 {
			a.Words += "; not shown in " + listed(open)
		}
	default:
		a.Words = "is not shown to meet " + listed(open)
	}
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

// listed joins names, the first few of many.
func listed(names []string) string {
	const most = 3
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

// givingUp finds the demands without any one of which some setup meets all others; none
// where a setup meets all, or where none comes that near.
func (j Judged) givingUp() (all []GivingUp) {
	if slices.ContainsFunc(j.Setups, func(a Answer) bool { return a.Standing == judge.Meets }) {
		return nil
	}
	for i, d := range j.Demands {
		var then []string
		for _, a := range j.Setups {
			alone := true
			for k, v := range a.Verdicts {
				alone = alone && (k == i) == (v.Standing != judge.Meets)
			}
			if alone {
				then = append(then, a.Name)
			}
		}
		if len(then) > 0 {
			all = append(all, GivingUp{i, fmt.Sprintf("Without %q, %s would do.", d.Words, strings.Join(then, ", ")), then})
		}
	}
	return all
}

// inWords says what to do.
func (j Judged) inWords() string {
	var meet []Answer
	open := 0
	for _, a := range j.Setups {
		switch a.Standing {
		case judge.Meets:
			meet = append(meet, a)
		case judge.Undecided, judge.NotMeasured:
			open++
		}
	}
	switch {
	case len(j.Setups) == 0:
		return "No setup was judged."
	case len(meet) > 0:
		priced := slices.DeleteFunc(slices.Clone(meet), func(a Answer) bool { return a.Price == 0 })
		if len(priced) > 0 {
			best := slices.MinFunc(priced, func(a, b Answer) int {
				return cmp.Or(cmp.Compare(a.Price, b.Price), cmp.Compare(b.Carries, a.Carries))
			})
			if len(meet) == 1 {
				return fmt.Sprintf("Take %q: it alone meets all that is asked, at %s.%s", best.Name, quantity.Price(best.Price), best.tightness())
			}
			return fmt.Sprintf("Take %q: of %d that meet all that is asked it costs least, %s.%s", best.Name, len(meet), quantity.Price(best.Price), best.tightness())
		}
		best := slices.MaxFunc(meet, func(a, b Answer) int { return cmp.Compare(a.Carries, b.Carries) })
		if len(meet) == 1 {
			return fmt.Sprintf("%q alone meets all that is asked.%s Its price is not known.", best.Name, best.tightness())
		}
		return fmt.Sprintf("%q meets all that is asked, of %d that do with the most headroom.%s No price is known.", best.Name, len(meet), best.tightness())
	case open > 0:
		return fmt.Sprintf("No setup is shown to meet all that is asked; %d may: what is not shown or not measured of them decides.", open)
	case len(j.GiveUp) > 0:
		return "No setup meets all that is asked. " + j.GiveUp[0].Words
	}
	return "No setup meets all that is asked, nor all but one of it."
}

func (a Answer) tightness() string {
	if a.Carries == 0 {
		return ""
	}
	return fmt.Sprintf(" Tightest is %s, with %s times.", a.Tightest, floored(a.Carries))
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
		j.Remarks = append(j.Remarks, "Each use was measured by itself. Where several are at work at once they take from each other: leave headroom for that.")
	}
	if len(j.Setups) > 0 && j.Setups[0].Standing == judge.Meets {
		for _, m := range j.Setups[0].Meanwhile {
			if m.Standing != judge.Meets {
				j.Remarks = append(j.Remarks, fmt.Sprintf("%q is that when it is whole; while it is %s it %s.", j.Setups[0].Name, m.State, m.Words))
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
		j.Remarks = append(j.Remarks, fmt.Sprintf("Nothing was measured for %q on any of these setups.", u))
	}
}
