package efficiency

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
)

// odd names the members that are not like the others, each with the load under which it is
// farthest from them.
func odd(r Efficiency) []OddMember {
	found := []OddMember{}
	for m := range r.Members {
		worst := OddMember{Member: m, Times: 1}
		for _, p := range r.Points {
			times := fromOthers(p.Alone, m)
			if times > 0 && math.Abs(math.Log(times)) > math.Abs(math.Log(worst.Times)) {
				worst.Title, worst.Times = p.Title, times
			}
		}
		if worst.Title == "" {
			continue
		}
		way, by := "more", worst.Times-1
		if worst.Times < 1 {
			way, by = "less", 1-worst.Times
		}
		worst.Words = fmt.Sprintf("%s does %s %s than any of the others under %q.", r.Members[m], quantity.Share(by), way, worst.Title)
		found = append(found, worst)
	}
	slices.SortStableFunc(found, func(a, b OddMember) int { return cmp.Compare(math.Abs(math.Log(b.Times)), math.Abs(math.Log(a.Times))) })
	return found
}

// fromOthers is what a member does over the nearest of the others; 0 where that is not shown to
// differ by what matters, and by twice what the others differ by among themselves. Of two members
// neither is the odd one.
func fromOthers(alone []judge.Mean, member int) float64 {
	own := alone[member]
	low, high, slack := math.Inf(1), 0.0, 0.0
	for i, m := range alone {
		if i != member {
			low, high, slack = min(low, m.Mean), max(high, m.Mean), max(slack, m.HalfOfLog())
		}
	}
	nearest := high
	if own.Mean < low {
		nearest = low
	}
	far := math.Abs(math.Log(own.Mean / nearest))
	if len(alone) < 3 || own.Mean >= low && own.Mean <= high || far < 2*math.Log(high/low) || !(far > math.Hypot(own.HalfOfLog(), slack)+math.Log1p(matters)) {
		return 0
	}
	return own.Mean / nearest
}

// apart says by how much members differ where none is the odd one; "" when that does not matter.
func (r Efficiency) apart() string {
	for _, p := range r.Points {
		least, most := 0, 0
		for i, m := range p.Alone {
			if m.Mean < p.Alone[least].Mean {
				least = i
			}
			if m.Mean > p.Alone[most].Mean {
				most = i
			}
		}
		low, high := p.Alone[least], p.Alone[most]
		if math.Log(high.Mean/low.Mean) > math.Hypot(low.HalfOfLog(), high.HalfOfLog())+math.Log1p(matters) {
			f := figure.Of(p.Figure)
			return fmt.Sprintf("Members differ: under %q %s does %s, and %s %s.", p.Title, r.Members[least], f.Show(low.Mean), r.Members[most], f.Show(high.Mean))
		}
	}
	return ""
}

// words say what to know of all of it.
func (r Efficiency) words() (all []string) {
	if len(r.Points) == 0 {
		return []string{"There is no load under which the array and all its members were measured. Measure one plan on each of them."}
	}
	points := slices.DeleteFunc(slices.Clone(r.Points), func(p Made) bool { return p.made() > 1+matters })
	for _, p := range r.Points {
		if p.made() > 1+matters {
			all = append(all, fmt.Sprintf("Under %q %s does more than the members that were named do together (%s against %s). Either a member was not named, or a cache answered. No efficiency is given for it.", p.Title, r.Array, figure.Of(p.Figure).Show(p.Array.Mean), figure.Of(p.Figure).Show(p.Sum.Mean)))
		}
	}
	if len(points) == 0 {
		return all
	}
	worst := slices.MinFunc(points, func(a, b Made) int { return cmp.Compare(a.made(), b.made()) })
	best := slices.MaxFunc(points, func(a, b Made) int { return cmp.Compare(a.made(), b.made()) })
	of := "of what its members do one by one"
	if points[0].Leaves > 0 {
		of = "of what its level leaves of its members"
	}
	if len(points) == 1 {
		all = append(all, fmt.Sprintf("%s makes %s %s.", r.Array, quantity.Share(worst.made()), of))
	} else {
		all = append(all, fmt.Sprintf("%s makes from %s (%s) to %s (%s) %s.", r.Array, quantity.Share(worst.made()), worst.Title, quantity.Share(best.made()), best.Title, of))
	}
	for _, o := range r.Odd {
		all = append(all, o.Words)
	}
	if most := worst.paced(); most < 1-matters && (r.apart() != "" || len(r.Odd) > 0) {
		all = append(all, fmt.Sprintf("Where an array waits for its slowest member it can make no more than %s of that under %q.", quantity.Share(most), worst.Title))
	}
	if apart := r.apart(); apart != "" && len(r.Odd) == 0 {
		all = append(all, apart)
	}
	if shared := r.shared(); shared != "" {
		all = append(all, shared)
	}
	if unknown := slices.IndexFunc(r.Points, func(p Made) bool { return !p.Efficiency.Known }); unknown >= 0 {
		all = append(all, fmt.Sprintf("How sure that is under %q is not known: measure each at least twice, better three times.", r.Points[unknown].Title))
	}
	return all
}

// made is how much of what its level leaves the array makes, or of the sum where the level is
// not known.
func (p Made) made() float64 {
	if p.Leaves > 0 {
		return p.Efficiency.Mean / p.Leaves
	}
	return p.Efficiency.Mean
}

// paced is the share of the sum that is left where all go as the slowest does.
func (p Made) paced() float64 {
	least := p.Alone[0].Mean
	for _, m := range p.Alone {
		least = min(least, m.Mean)
	}
	return least * float64(len(p.Alone)) / p.Sum.Mean
}

// shared says whether members share something that limits them when all are at work at once.
func (r Efficiency) shared() string {
	var least *Made
	measured, ruledOut := false, true
	for i, p := range r.Points {
		if p.AtOnce == nil {
			continue
		}
		measured, ruledOut = true, ruledOut && p.AtOnce.Known && p.AtOnce.Low > 1-matters
		if (least == nil || p.AtOnce.Mean < least.AtOnce.Mean) && p.AtOnce.Known && p.AtOnce.High < 1-matters {
			least = &r.Points[i]
		}
	}
	switch {
	case !measured:
		return "Whether members get into each other's way is not known: measure them as a race as well."
	case least == nil && ruledOut:
		return "Members do not get into each other's way: at once they do what they do one by one."
	case least == nil:
		return "Members are not shown to get into each other's way, and that is not ruled out either: measure them more often."
	}
	words := fmt.Sprintf("At once the members do %s of what they do one by one under %q: they share something that limits them, such as a controller, a link or a bus.", share(*least.AtOnce), least.Title)
	if least.Leaves >= 1 || least.Leaves == 0 {
		words += fmt.Sprintf(" Of that the array makes %s.", quantity.Share(least.Efficiency.Mean/least.AtOnce.Mean))
	}
	return words
}
