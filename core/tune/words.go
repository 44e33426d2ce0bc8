package tune

import (
	"fmt"
	"math"
	"slices"
	"strings"

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
				v.Words = "not taken: " + v.InEffect + " stayed in effect"
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

// say puts the answer into words.
func (a *Answer) say() {
	f := figure.Of(a.Figure)
	var words []string
	switch {
	case len(a.Baseline.Values) == 0:
		a.Words = "Nothing is known yet: the baseline has no value."
		return
	case len(a.Keep) > 0 && a.Brings != nil:
		words = append(words, fmt.Sprintf("Keep %s: %s%s against the baseline.", settingsInWords(a.Keep), f.InWords(a.Brings.Value), bracketed(between(*a.Brings))))
	case len(a.Keep) > 0:
		words = append(words, fmt.Sprintf("Keep %s. With all that looked promising it was %s%s against the baseline; what of it is not kept brought nothing beside the others.", settingsInWords(a.Keep), f.InWords(a.Together.Ratio.Value), bracketed(between(a.Together.Ratio))))
	case a.Together != nil:
		words = append(words, fmt.Sprintf("Nothing is shown to be worth changing: with %s it was %s%s against the baseline.", settingsInWords(a.Together.Settings), f.InWords(a.Together.Ratio.Value), bracketed(between(a.Together.Ratio))))
	case a.hopes():
		words = append(words, fmt.Sprintf("So far, in round %d of %d; what looks promising is yet to be measured together.", a.Round, 2*a.Rounds))
	case !a.first:
		words = append(words, fmt.Sprintf("So far, in round %d of %d:", a.Round, 2*a.Rounds))
	default:
		words = append(words, "No single change is shown to be worth making. Changes were not tried together.")
	}
	for _, said := range []struct {
		matter Matter
		words  string
	}{
		{Matters, "What matters"},
		{MattersNo, fmt.Sprintf("No difference of %s or more", a.Noise)},
		{NotShown, "Not shown either way"},
		{Failed, "Nothing could be measured with"},
	} {
		if fields := a.fields(said.matter); len(fields) > 0 {
			words = append(words, fmt.Sprintf("%s: %s.", said.words, listed(fields)))
		}
	}
	for _, p := range a.Parameters {
		var values []string
		effect := ""
		for _, v := range p.Values {
			if v.Refused {
				values, effect = append(values, v.Value), v.InEffect
			}
		}
		if len(values) > 0 {
			words = append(words, fmt.Sprintf("The target did not take %s %s: %s stayed in effect, so nothing is known of what was tried; it would have to allow more.", p.Field, listed(values), effect))
		}
	}
	a.Words = strings.Join(words, " ")
	if a.Drift.Shown && math.Abs(float64(a.Drift.Share)) >= float64(a.Noise)/2 {
		a.Cautions = append(a.Cautions, fmt.Sprintf("The baseline drifted: %s at its last measurement than at its first. Each value was compared within its round, which takes that out.", f.InWords(1+float64(a.Drift.Share))))
	}
	if a.Resolution > a.Noise {
		a.Cautions = append(a.Cautions, fmt.Sprintf("Differences below about %s could not be seen. More rounds, or longer measurements, show smaller ones.", a.Resolution))
	}
	if a.Doubted > 0 {
		a.Cautions = append(a.Cautions, fmt.Sprintf("%d of %d measurements are not to be trusted; the findings of each say why.", a.Doubted, a.Measured))
	}
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

// listed joins words as in a sentence.
func listed(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}
