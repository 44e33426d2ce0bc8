package answer

import (
	"fmt"
	"slices"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// measured is one point with a figure of all sides, as the tables have it.
type measured struct {
	title    string
	figure   figure.Figure
	values   []compare.Values
	outcomes []compare.Outcome
	of       [][]int64
	cautions []compare.Caution
}

// timesOf tells how long work takes that has an end, and how long an operation does that is
// alone.
func timesOf(sides []compare.Side, result *compare.Result) (answers []Conclusion) {
	loads := map[int64]workload.Spec{}
	for _, side := range sides {
		for _, s := range side.Samples {
			loads[s.Measurement] = s.Load
		}
	}
	var all []measured
	add := func(title string, ids [][]int64, cautions []compare.Caution, row func(key string) ([]compare.Values, []compare.Outcome)) {
		every := slices.Concat(ids...)
		access := "mean"
		if len(every) == 0 || slices.ContainsFunc(every, func(id int64) bool { return !alone(loads[id]) }) {
			access = ""
		}
		for _, key := range []string{"finish", access} {
			if values, outcomes := row(key); key != "" && len(values) > 0 {
				all = append(all, measured{title: title, figure: figure.Of(key), values: values, outcomes: outcomes, of: ids, cautions: cautions})
			}
		}
	}
	if result == nil {
		for _, p := range compare.Points(sides[0]) {
			add(p.Title, [][]int64{p.Measurements}, p.Cautions, func(key string) (values []compare.Values, _ []compare.Outcome) {
				for _, r := range p.Rows {
					if r.Figure == key {
						values = append(values, r.Values)
					}
				}
				return values, nil
			})
		}
	} else {
		for _, p := range result.Points {
			add(p.Title, p.Measurements, p.Cautions, func(key string) (values []compare.Values, outcomes []compare.Outcome) {
				for _, r := range p.Rows {
					if r.Figure == key {
						values, outcomes = []compare.Values{r.Baseline}, r.Candidates
						for _, o := range r.Candidates {
							values = append(values, o.Values)
						}
					}
				}
				return values, outcomes
			})
		}
	}
	for _, m := range all {
		if a := m.answer(sides); slices.ContainsFunc(a.Sides, func(t Told) bool { return t.Value > 0 }) {
			answers = append(answers, a)
		}
	}
	return answers
}

// alone reports a load that has one operation under way at a time, and none so large that it
// takes as long as it takes to move it.
func alone(load workload.Spec) bool {
	return load.Traits().Plain && !load.Open() && load.Workers*load.Depth == 1 && load.MeanBlock() <= accessBlock
}

// accessBlock is the largest block whose time is that of reaching it rather than of moving it.
const accessBlock = 64 << 10

func (m measured) answer(sides []compare.Side) Conclusion {
	a := Conclusion{Kind: Finish, Title: m.title + ": the time to finish", Stage: m.title, Figure: m.figure.Key}
	if m.figure.Key != "finish" {
		a.Kind, a.Title = Alone, m.title+": access time, one operation at a time"
	}
	for i, v := range m.values {
		t := Told{Side: sides[i].Name, Shown: "not known", Reason: v.Reason, Measurements: m.of[i], Cautions: []compare.Caution{}}
		for _, c := range m.cautions {
			if c.Side == t.Side {
				t.Cautions = append(t.Cautions, c)
			}
		}
		if len(v.Values) > 0 {
			t.Value, t.Shown = v.Taken.Mean, m.figure.Show(v.Taken.Mean)
			if v.Taken.Known {
				t.Low, t.High = v.Taken.Low, v.Taken.High
				t.Range = m.figure.Show(max(t.Low, 0)) + " to " + m.figure.Show(t.High)
			}
			if v.Unreliable != "" {
				t.Reason = "unreliable: " + v.Unreliable
			}
		}
		if a.Kind == Finish {
			t.Price = sides[i].Setup.Number("cost.price")
		}
		a.Sides = append(a.Sides, t)
	}
	for i, o := range m.outcomes {
		r := Relation{Side: sides[i+1].Name, Times: o.Ratio.Value, Low: o.Low, High: o.High, Verdict: o.Verdict}
		switch o.Verdict {
		case judge.Missing:
			r.Words = "no comparison is possible"
		case judge.Same:
			r.Words = "the same"
		case judge.NotShown, judge.Hint:
			r.Words = m.figure.InWords(o.Ratio.Value) + ", not significant"
			if o.Verdict == judge.Hint {
				r.Words = m.figure.InWords(o.Ratio.Value) + ": only a hint, with one repeat on a side"
			}
		default:
			r.Words = m.figure.InWords(o.Ratio.Value)
			if o.Low > 0 {
				r.Words += fmt.Sprintf(" (%s to %s times)", quantity.Digits(o.Low), quantity.Digits(o.High))
			}
		}
		base, candidate := a.Sides[0], a.Sides[i+1]
		if a.Kind == Finish && base.Price > 0 && candidate.Price > 0 && base.Price != candidate.Price {
			r.Words += ", for " + quantity.Digits(candidate.Price/base.Price) + " × the price"
		}
		a.Ratios = append(a.Ratios, r)
	}
	a.Words = a.together()
	return a
}
