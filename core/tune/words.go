package tune

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// tell puts each value into words.
func (a *Answer) tell() {
	f, besides := figure.Of(a.Figure), figure.Of(a.Beside)
	for i := range a.Parameters {
		p := &a.Parameters[i]
		switch p.From = p.Baseline; {
		case p.Baseline == "":
			p.From = "as named"
		case p.InEffect != "":
			p.From = fmt.Sprintf("%s, of which %s in effect", p.Baseline, p.InEffect)
		}
		for j := range p.Values {
			v := &p.Values[j]
			switch {
			case v.Refused:
				v.Words = "refused: " + v.InEffect + " stayed in effect"
				continue
			case v.Failed != "" && len(v.Values) == 0:
				v.Words = "failed"
			case v.Ratio.Verdict == judge.Missing:
				v.Words = "not measured yet"
			case v.InEffect != "":
				v.Words = fmt.Sprintf("%s, with %s in effect", f.InWords(v.Ratio.Value), v.InEffect)
			default:
				v.Words = f.InWords(v.Ratio.Value)
			}
			v.Between, v.BesideWords = between(v.Ratio), shown(besides, v.Beside)
		}
	}
	if t := a.Together; t != nil {
		t.Told = Told{f.InWords(t.Ratio.Value), between(t.Ratio), shown(besides, t.Beside)}
		for i := range t.Without {
			w := &t.Without[i]
			w.Told = Told{Words: f.InWords(w.Ratio.Value), Between: between(w.Ratio)}
		}
	}
}

// shown is a ratio in words, where a difference or its absence is shown.
func shown(f figure.Figure, r judge.Ratio) string {
	switch r.Verdict {
	case judge.Better, judge.Worse:
		return f.InWords(r.Value)
	case judge.Same:
		return f.Label + " the same"
	}
	return ""
}

// say says what came of it, and what to know before it is relied on.
func (a *Answer) say() {
	f := figure.Of(a.Figure)
	a.Claims, a.Doubts = []claim.Claim{}, []claim.Claim{}
	say := func(k claim.Kind, terms ...claim.Term) { a.Claims = claim.Add(a.Claims, k, terms...) }
	with := func(r judge.Ratio, settings []plan.Setting) []claim.Term {
		did := claim.Term{Of: a.Figure, Value: r.Value, Shown: f.InWords(r.Value) + bracketed(between(r)), State: string(r.Verdict)}
		if r.High > 0 {
			did.Low, did.High = r.Low, r.High
		}
		terms := []claim.Term{did}
		for _, s := range settings {
			terms = append(terms, claim.Term{Of: s.Field + " " + s.Value})
		}
		return terms
	}
	number := func(n int) claim.Term { return claim.Term{Value: float64(n), Shown: strconv.Itoa(n)} }
	switch {
	case len(a.Baseline.Values) == 0:
		say(nothingKnown)
		a.Words = a.Claims[0].Words
		return
	case len(a.Keep) > 0 && a.Brings != nil && a.Brings.Verdict == judge.Better:
		say(keep, with(*a.Brings, a.Keep)...)
	case len(a.Keep) > 0:
		say(keepOfAll, with(a.Together.Ratio, a.Keep)...)
	case a.Together != nil:
		say(notWorthChanging, with(a.Together.Ratio, a.Together.Settings)...)
	case a.hopes():
		say(hopeful, number(a.Round), number(2*a.Rounds))
	case !a.first:
		say(soFar, number(a.Round), number(2*a.Rounds))
	default:
		say(noSingle, a.tried()...)
	}
	for _, said := range []struct {
		matter Matter
		kind   claim.Kind
	}{{Matters, matters}, {MattersNo, mattersNot}, {NotShown, notShownHow}, {Failed, notMeasuring}} {
		var terms []claim.Term
		for _, field := range a.fields(said.matter) {
			terms = append(terms, claim.Term{Of: field, State: string(said.matter), Shown: a.Noise.String()})
		}
		say(said.kind, terms...)
	}
	for _, p := range a.Parameters {
		terms := []claim.Term{{Of: p.Field}}
		for _, v := range p.Values {
			if v.Refused {
				terms[0].Shown = v.InEffect
				terms = append(terms, claim.Term{Of: v.Value, State: "refused"})
			}
		}
		say(notTaken, terms...)
	}
	var words []string
	for _, c := range a.Claims {
		words = append(words, c.Words)
	}
	a.Words = strings.Join(words, " ")
	noise := claim.Term{Of: "noise", Value: float64(a.Noise)}
	if a.Drift.Shown {
		a.Doubts = claim.Add(a.Doubts, drifted, claim.Term{Of: "drift", Value: float64(a.Drift.Share), Shown: f.InWords(1 + float64(a.Drift.Share))}, noise)
	}
	a.Doubts = claim.Add(a.Doubts, notSeen, claim.Term{Of: "resolution", Value: float64(a.Resolution), Shown: a.Resolution.String()}, noise)
	a.Doubts = claim.Add(a.Doubts, doubted, number(a.Doubted), number(a.Measured))
	for _, c := range a.Doubts {
		a.Cautions = append(a.Cautions, c.Words)
	}
}

// tried are all values by what is known of them.
func (a *Answer) tried() (all []claim.Term) {
	for _, p := range a.Parameters {
		for _, v := range p.Values {
			all = append(all, claim.Term{Of: p.Field + " " + v.Value, Value: v.Ratio.Value, State: string(v.Ratio.Verdict)})
		}
	}
	return all
}

// hopes reports whether some value is better than the baseline.
func (a *Answer) hopes() bool {
	return slices.ContainsFunc(a.Parameters, func(p Parameter) bool { return p.Best != "" })
}

// fields are the parameters of which the same is said.
func (a *Answer) fields(m Matter) (fields []string) {
	for _, p := range a.Parameters {
		if p.Matter == m {
			fields = append(fields, p.Field)
		}
	}
	return fields
}

// between is the interval of a ratio, as shares more or less, or as times where it is large.
func between(r judge.Ratio) string {
	switch {
	case !r.Known():
		return ""
	case r.High <= 0:
		return "wider than a factor of ten thousand"
	case r.Low > 1.8:
		return fmt.Sprintf("%s to %s times", quantity.Digits(r.Low), quantity.Digits(r.High))
	}
	return fmt.Sprintf("%+.3g to %+.3g %%", (r.Low-1)*100, (r.High-1)*100)
}

func settingsInWords(settings []plan.Setting) string {
	parts := make([]string, len(settings))
	for i, s := range settings {
		parts[i] = s.Field + " " + s.Value
	}
	return listed(parts)
}
