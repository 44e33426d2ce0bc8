package answer

import (
	"fmt"
	"math"
	"slices"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// growing are the fields along which more is asked for at once.
var growing = []string{"feeds", "rate", "byteRate", "feedRate", "workers", "depth", "streams", "stores", "clients"}

// edge is what was kept along a line.
type edge struct {
	carries float64 // the largest value at which, and below which, each measurement was kept; 0 for none
	fails   float64 // the smallest at which, and above which, none was; 0 for none
	least   float64 // the least that was tried
	spread  float64 // half of the 95 % interval, as a logarithm, of what runs of the same differ by
}

// trial is one measurement of a value: whether it was kept.
type trial struct {
	at   float64
	kept bool
}

// edgeOf finds what is kept from what was tried. Whoever is kept above a value at which another
// was not makes the edge less sure, and never higher.
func edgeOf(tried []trial) (e edge) {
	slices.SortFunc(tried, func(a, b trial) int {
		if a.at < b.at {
			return -1
		}
		return 1
	})
	least, below := math.Inf(1), math.Inf(1) // the least value at which one was not kept, and at which one was
	for _, t := range tried {
		if !t.kept {
			least = min(least, t.at)
		}
	}
	for i := len(tried) - 1; i >= 0 && !keptAt(tried, tried[i].at); i-- {
		below = tried[i].at
	}
	e.least = tried[0].at
	for _, t := range tried {
		if t.at < least {
			e.carries = t.at
		}
	}
	if !math.IsInf(below, 1) {
		e.fails = below
	}
	return e
}

// keptAt reports whether any measurement of a value was kept.
func keptAt(tried []trial, at float64) bool {
	return slices.ContainsFunc(tried, func(t trial) bool { return t.at == at && t.kept })
}

// kept reports whether a load did what it was asked for, and whether that can be asked of it:
// feeds whose pieces came in time, a set rate that was kept, and where it is wanted a p99 that
// stays within something.
func kept(s compare.Sample, late quantity.Share, within quantity.Seconds) (yes, asked bool) {
	sum := s.Summary
	asked = s.Load.Deadlines() || s.Load.Arriving() > 0 || within > 0
	if sum == nil {
		return false, asked
	}
	yes = len(sum.Faults) == 0 && sum.Unanswered == 0
	if s.Load.Deadlines() {
		yes = yes && judge.Carried(sum, s.Load, late)
	} else {
		yes = yes && s.Known().Unkept == ""
	}
	for _, f := range figure.For(s.Load) {
		if within > 0 && slices.Contains(tails, f.Key) {
			if v := f.Value(sum); v > float64(within) {
				yes = false
			}
		}
	}
	return yes, asked
}

// tails are the figures that have to stay within a wanted p99, of those that a load has.
var tails = []string{"p99", "file-p99", "put-p99", "get-p99"}

// over reports a measurement that ran as long as it was to: one that somebody stopped says
// nothing.
func over(s compare.Sample) bool {
	return s.Summary == nil || s.Summary.Ending != measure.ByStop
}

// keptOf finds what is kept along each line that asks for more and more.
func keptOf(sides []compare.Side, asked Asked) (answers []Conclusion) {
	type line struct {
		along
		of [][]compare.Sample // by side
	}
	var lines []*line
	places := map[string]*line{}
	for i, side := range sides {
		for _, s := range side.Samples {
			for _, a := range alongs(s.Stage, s.Point) {
				if !slices.Contains(growing, a.field) || !over(s) {
					continue
				}
				if _, can := kept(s, 0, asked.Within); !can {
					continue
				}
				l := places[a.key()]
				if l == nil {
					l = &line{a, make([][]compare.Sample, len(sides))}
					places[a.key()] = l
					lines = append(lines, l)
				}
				l.of[i] = append(l.of[i], s)
			}
		}
	}
	var estimators []compare.Estimator // of the sides, which learn from their past once
	if len(lines) > 0 {
		for _, side := range sides {
			estimators = append(estimators, side.Estimator())
		}
	}
	for _, l := range lines {
		var texts []string
		for _, of := range l.of {
			for _, s := range of {
				texts = append(texts, l.valueAt(s.Point))
			}
		}
		values, numbers := ordered(texts)
		searched := slices.ContainsFunc(slices.Concat(l.of...), func(s compare.Sample) bool { return s.Fit != nil })
		if len(values) == 0 || len(values) == 1 && !searched {
			continue
		}
		read := func(text string) float64 { return numbers[slices.Index(values, text)] }
		show := func(at float64) string { return values[slices.Index(numbers, at)] }
		a := Conclusion{Kind: Kept, Stage: l.stage, Field: l.field, Held: l.held}
		question := "the largest " + l.field + " that is sustained"
		if asked.Within > 0 {
			question += " with p99 within " + asked.Within.String()
		}
		a.Title = l.title(question)
		for i, of := range l.of {
			a.Sides = append(a.Sides, toldKept(sides[i], estimators[i], of, l.along, asked, read, show))
		}
		for i := range sides[1:] {
			a.Ratios = append(a.Ratios, keepsMore(a.Sides[0], a.Sides[i+1], l.field))
		}
		a.Words = a.together()
		answers = append(answers, a)
	}
	return answers
}

// toldKept is what one side keeps.
func toldKept(side compare.Side, estimator compare.Estimator, of []compare.Sample, l along, asked Asked, read func(string) float64, show func(float64) string) Told {
	t := Told{Side: side.Name, Measurements: []int64{}, Cautions: []compare.Caution{}, Price: side.Setup.Number("cost.price")}
	if len(of) == 0 {
		t.Shown, t.Reason = "not known", "it was not measured"
		return t
	}
	var tried []trial
	at := map[float64][]compare.Sample{}
	repeats := math.MaxInt
	for _, s := range of {
		var late quantity.Share
		if s.Fit != nil {
			late = s.Fit.Late
		}
		value := read(l.valueAt(s.Point))
		yes, _ := kept(s, late, asked.Within)
		tried = append(tried, trial{value, yes})
		at[value] = append(at[value], s)
		t.Measurements = append(t.Measurements, s.Measurement)
	}
	e := edgeOf(tried)
	for _, samples := range at {
		repeats = min(repeats, len(samples))
		if side.Real {
			e.spread = max(e.spread, estimator.Of(samples, figure.Of(figure.Done(samples[0].Load))).BetweenRuns)
		}
	}
	t.edge, t.Value, t.Low, t.High = e, e.carries, e.carries, e.fails
	switch {
	case e.carries == 0 && e.fails > 0 && e.fails == e.least:
		t.Shown, t.Low = "none", 0
		t.Reason = fmt.Sprintf("not even %s %s is sustained, the smallest value tried", l.field, show(e.fails))
	case e.carries == 0:
		t.Shown = "not known"
		t.Reason = "repeats disagree at the smallest value tried"
	case e.fails == 0 && everKept(tried):
		t.Shown = show(e.carries) + " or more"
		t.Reason = "the largest value tried"
	case e.fails == 0:
		t.Shown, t.Range = show(e.carries), "above it repeats disagree, up to the largest value tried"
	default:
		t.Shown, t.Range = show(e.carries), show(e.fails)+" is not"
	}
	if t.Reason == "" && repeats == 1 {
		t.Reason = "one repeat of each"
	}
	if samples := at[e.carries]; len(samples) > 0 {
		t.Cautions = estimator.Of(samples, figure.Of(figure.Done(samples[0].Load))).Cautions
	}
	return t
}

func everKept(tried []trial) bool {
	return !slices.ContainsFunc(tried, func(t trial) bool { return !t.kept })
}

// keepsMore is how many times as much a candidate keeps. What is kept lies between the largest
// value that was and the smallest that was not, and from run to run as much off as runs differ.
func keepsMore(base, candidate Told, field string) Relation {
	r := Relation{Side: candidate.Side, Verdict: judge.Missing, Words: "no comparison is possible"}
	b, c := base.edge, candidate.edge
	if b.least == 0 || c.least == 0 {
		return r
	}
	wide := math.Exp(math.Hypot(b.spread, c.spread))
	if b.carries > 0 && c.carries > 0 {
		r.Times = c.carries / b.carries
	}
	if c.carries > 0 && b.fails > 0 {
		r.Low = c.carries / b.fails / wide
	}
	if c.fails > 0 && b.carries > 0 {
		r.High = c.fails / b.carries * wide
	}
	name := candidate.Side
	switch {
	case r.Low > 1 || r.Low == 1 && wide == 1:
		r.Verdict = judge.Better
		r.Words = fmt.Sprintf("%s keeps more %s: %s as much", name, field, times(r))
		if r.Times == 0 {
			r.Words = fmt.Sprintf("%s sustains more %s; %s sustains none of the values tried", name, field, base.Side)
		}
	case r.High > 0 && (r.High < 1 || r.High == 1 && wide == 1):
		r.Verdict = judge.Worse
		r.Words = fmt.Sprintf("%s keeps less %s: %s as much", name, field, times(r))
		if r.Times == 0 {
			r.Words = fmt.Sprintf("%s sustains none of the %s tried; %s sustains some", name, field, base.Side)
		}
	default:
		r.Verdict = judge.NotShown
		r.Words = "no difference is shown"
		if r.Times > 0 {
			r.Words += ": " + times(r)
		} else if b.fails > 0 && c.fails > 0 && b.carries == 0 && c.carries == 0 {
			r.Words = "neither sustains any value tried"
		}
	}
	return r
}
