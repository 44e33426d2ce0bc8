package answer

import (
	"math"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
)

// Crossing is a place along a sweep at which the one in front changes.
type Crossing struct {
	From  float64 `json:"from" doc:"The last value at which the one is shown to be in front"`
	To    float64 `json:"to" doc:"The first at which the other is"`
	About float64 `json:"about,omitempty" doc:"Where the line between the ratios passes 1"`
	Words string  `json:"words"`
}

// meeting is the ratio of two sides at one value of a sweep.
type meeting struct {
	at      float64
	text    string
	gain    float64 // how many times as good as the baseline, also where less is good; 0 for none
	verdict judge.Verdict
}

// meetingsOf finds where a candidate and the baseline meet along each line of at least three
// values that both have.
func meetingsOf(c compare.Result) (answers []Conclusion) {
	var order []along
	points := map[string][]compare.Match{}
	for _, p := range c.Points {
		for _, a := range alongs(p.Stage, p.Point) {
			if points[a.key()] == nil {
				order = append(order, a)
			}
			points[a.key()] = append(points[a.key()], p)
		}
	}
	for _, l := range order {
		of := points[l.key()]
		var texts []string
		main := of[0].Main
		for _, p := range of {
			texts = append(texts, l.valueAt(p.Point))
			if p.Main != main { // a rate that is not kept on a side: what was done differs there
				main = ""
			}
		}
		values, numbers := ordered(texts)
		if main == "" || len(values) < 3 {
			continue
		}
		f := figure.Of(main)
		a := Conclusion{Kind: Meet, Stage: l.stage, Field: l.field, Held: l.held, Figure: main, Sides: []Told{}, Title: l.title("the crossover in " + f.Label + " along " + l.field)}
		for i, candidate := range c.Candidates {
			line := make([]meeting, 0, len(of))
			for _, p := range of {
				row := p.Row(main)
				o := row.Candidates[i]
				at := slices.Index(values, l.valueAt(p.Point))
				m := meeting{at: numbers[at], text: values[at], verdict: o.Verdict}
				if row.Baseline.Unreliable != "" || o.Unreliable != "" {
					m.verdict = judge.Missing
				} else if o.Ratio.Value > 0 {
					m.gain = o.Ratio.Value
					if f.Lower {
						m.gain = 1 / m.gain
					}
				}
				line = append(line, m)
			}
			slices.SortFunc(line, func(a, b meeting) int {
				if a.at < b.at {
					return -1
				}
				return 1
			})
			scale, _ := plan.ScaleOf(values)
			a.Ratios = append(a.Ratios, met(line, candidate.Name, c.Baseline.Name, scale.Show))
		}
		a.Words = a.together()
		answers = append(answers, a)
	}
	return answers
}

// met says where two sides meet: between the last place at which one is shown to be in front
// and the first at which the other is. What is not shown moves nobody to the front.
func met(line []meeting, candidate, baseline string, show func(float64) string) Relation {
	r := Relation{Side: candidate, Verdict: judge.NotShown}
	name := map[judge.Verdict]string{judge.Better: candidate, judge.Worse: baseline}
	var front []meeting // those at which one is shown to be in front
	for _, m := range line {
		if name[m.verdict] != "" {
			front = append(front, m)
		}
	}
	if len(front) == 0 {
		r.Words = "no difference is shown from " + line[0].text + " to " + line[len(line)-1].text
		if !slices.ContainsFunc(line, func(m meeting) bool { return m.verdict != judge.Same }) {
			r.Verdict, r.Words = judge.Same, "they are the same from "+line[0].text+" to "+line[len(line)-1].text
		}
		return r
	}
	var words []string
	begins := 0
	for i := 1; i <= len(front); i++ {
		if i < len(front) && front[i].verdict == front[begins].verdict {
			continue
		}
		stretch := name[front[begins].verdict] + " is ahead"
		switch first, last := front[begins], front[i-1]; {
		case first.text == last.text:
			stretch += " at " + first.text
		default:
			stretch += " from " + first.text + " to " + last.text
			if open := between(line, first.at, last.at); open != "" {
				stretch += " (not shown at " + open + ")"
			}
		}
		words = append(words, stretch)
		if i < len(front) {
			crossing := crossingOf(front[i-1], front[i], line, show)
			r.Meets = append(r.Meets, crossing)
			words = append(words, crossing.Words)
			begins = i
		}
	}
	if len(r.Meets) == 0 {
		r.Verdict = front[0].verdict
		words = append(words, "there is no crossover in the measured range")
	}
	outside := slices.DeleteFunc(slices.Clone(line), func(m meeting) bool {
		return m.at >= front[0].at && m.at <= front[len(front)-1].at
	})
	if len(outside) > 0 {
		texts := make([]string, len(outside))
		for i, m := range outside {
			texts[i] = m.text
		}
		words = append(words, "no difference is shown at "+strings.Join(texts, ", "))
	}
	r.Words = strings.Join(words, "; ")
	return r
}

// between are the values from one place to another at which nothing is shown.
func between(line []meeting, from, to float64) string {
	var open []string
	for _, m := range line {
		if m.at > from && m.at < to && m.verdict != judge.Better && m.verdict != judge.Worse {
			open = append(open, m.text)
		}
	}
	return strings.Join(open, ", ")
}

// crossingOf is where the one in front changes between two places: where a line through the
// logarithms of the gains passes nothing, along the logarithm of the values where they have one.
func crossingOf(from, to meeting, line []meeting, show func(float64) string) Crossing {
	c := Crossing{From: from.at, To: to.at, Words: "the crossover is between " + from.text + " and " + to.text}
	scale, back := func(x float64) float64 { return x }, func(x float64) float64 { return x }
	if from.at > 0 {
		scale, back = math.Log, math.Exp
	}
	before := from
	for _, m := range line {
		if m.at <= from.at || m.at > to.at || !(m.gain > 0) {
			continue
		}
		if a, b := math.Log(before.gain), math.Log(m.gain); a*b <= 0 && a != b {
			c.About = back(scale(before.at) + (scale(m.at)-scale(before.at))*a/(a-b))
			c.Words += ", at about " + show(c.About)
			break
		}
		before = m
	}
	return c
}
