package efficiency

import (
	"cmp"
	"math"
	"slices"

	"patientheron/core/claim"
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
		worst.claims = claim.Add(nil, oddOne, claim.Term{Of: r.Members[m], Value: worst.Times}, claim.Term{Of: worst.Title})
		for _, c := range worst.claims {
			worst.Words = c.Words
			found = append(found, worst)
		}
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

// apart says by how much members differ where that matters.
func (r Efficiency) apart() []claim.Claim {
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
			does := func(m int) claim.Term {
				return claim.Term{Of: r.Members[m], Value: p.Alone[m].Mean, Shown: f.Show(p.Alone[m].Mean)}
			}
			return claim.Add(nil, membersDiffer, claim.Term{Of: p.Title}, does(least), does(most))
		}
	}
	return nil
}

// said is what to know of all of it.
func (r Efficiency) said() (all []claim.Claim) {
	if len(r.Points) == 0 {
		return claim.Add(nil, nothingInCommon)
	}
	points := slices.DeleteFunc(slices.Clone(r.Points), func(p Made) bool { return p.made() > 1+matters })
	for _, p := range r.Points {
		show := figure.Of(p.Figure).Show
		if p.made() <= 1+matters {
			continue
		}
		its, sum := claim.Term{Of: r.Array, Value: p.Array.Mean, Shown: show(p.Array.Mean)}, claim.Term{Of: p.Title, Value: p.Sum.Mean, Shown: show(p.Sum.Mean)}
		if more := claim.Add(nil, moreThanAll, its, sum); len(more) > 0 {
			all = append(all, more...)
			continue
		}
		all = claim.Add(all, moreThanLeft, its, sum, shareOf("left", p.Leaves))
	}
	if len(points) == 0 {
		return all
	}
	worst := slices.MinFunc(points, func(a, b Made) int { return cmp.Compare(a.made(), b.made()) })
	best := slices.MaxFunc(points, func(a, b Made) int { return cmp.Compare(a.made(), b.made()) })
	of := "of the sum of its members"
	if points[0].Leaves > 0 {
		of = "of what its RAID level leaves of the sum of its members"
	}
	shares := []claim.Term{shareOf(worst.Title, worst.made())}
	if len(points) > 1 {
		shares = append(shares, shareOf(best.Title, best.made()))
	}
	all = claim.Add(all, makes, append([]claim.Term{{Of: r.Array}, {Of: of}}, shares...)...)
	for _, o := range r.Odd {
		all = append(all, o.claims...)
	}
	apart := r.apart()
	if len(apart) > 0 || len(r.Odd) > 0 {
		all = claim.Add(all, pacedBySlowest, shareOf(worst.Title, worst.paced()))
	}
	if len(r.Odd) == 0 {
		all = append(all, apart...)
	}
	all = append(all, r.shared()...)
	if unknown := slices.IndexFunc(r.Points, func(p Made) bool { return !p.Efficiency.Known }); unknown >= 0 {
		all = claim.Add(all, howSureUnknown, claim.Term{Of: r.Points[unknown].Title})
	}
	return all
}

// shareOf is a share as a term.
func shareOf(of string, share float64) claim.Term {
	return claim.Term{Of: of, Value: share, Shown: quantity.Share(share).String()}
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
func (r Efficiency) shared() []claim.Claim {
	var terms []claim.Term
	var least *Made
	for i, p := range r.Points {
		if p.AtOnce == nil {
			continue
		}
		t := claim.Term{Of: p.Title, Value: p.AtOnce.Mean, Shown: share(*p.AtOnce)}
		if p.AtOnce.Known {
			t.Low, t.High = p.AtOnce.Low, p.AtOnce.High
		}
		terms = append(terms, t)
		if (least == nil || p.AtOnce.Mean < least.AtOnce.Mean) && p.AtOnce.Known && p.AtOnce.High < 1-matters {
			least = &r.Points[i]
			terms = append([]claim.Term{t}, terms[:len(terms)-1]...)
		}
	}
	switch {
	case len(terms) == 0:
		return claim.Add(nil, togetherUnknown)
	case least == nil:
		if said := claim.Add(nil, outOfTheWay, terms...); len(said) > 0 {
			return said
		}
		return claim.Add(nil, notShownInTheWay, terms...)
	case least.Leaves >= 1 || least.Leaves == 0:
		return claim.Add(nil, inTheWay, terms[0], shareOf("of that", least.Efficiency.Mean/least.AtOnce.Mean))
	}
	return claim.Add(nil, inTheWay, terms[0])
}
