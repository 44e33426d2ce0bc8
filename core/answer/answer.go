// Package answer draws from many measurements together the figures that people came for: how
// many are kept, where two setups meet, from which size on more of it gains little, how long
// the work takes, and how long a single operation does.
//
// An answer is a value with its range and the measurements it rests on; its words are made
// last, from that value alone. It knows neither storage nor service: it is given sides as a
// comparison is.
//
//	for _, a := range answer.Of(sides, &result, answer.Asked{}) {
//		fmt.Println(a.Title, a.Words)
//	}
package answer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// Kind says which question is answered.
type Kind string

// The questions.
const (
	Kept   Kind = "kept"   // the largest number, or rate, that is kept
	Meet   Kind = "meet"   // where two sides are as good as each other
	Enough Kind = "enough" // from where on more of something gains little
	Finish Kind = "finish" // how long the work takes, and what that costs
	Alone  Kind = "alone"  // how long an operation takes with no other under way
)

// Conclusion is what several measurements say together.
type Conclusion struct {
	Kind   Kind           `json:"kind" enum:"kept,meet,enough,finish,alone"`
	Title  string         `json:"title" doc:"What is asked"`
	Stage  string         `json:"stage"`
	Field  string         `json:"field,omitempty" doc:"What was swept, where something was"`
	Held   []plan.Setting `json:"held,omitempty" doc:"The other swept fields, at their values"`
	Figure string         `json:"figure,omitempty" doc:"Key of the figure that it is about"`
	Sides  []Told         `json:"sides" doc:"Of each side, the baseline first; of 'meet' none"`
	Ratios []Relation     `json:"ratios,omitempty" doc:"Of each candidate to the baseline; of 'enough' none"`
	Words  string         `json:"words" doc:"All of it in a sentence or several"`
}

// Told is the answer for one side. All values are in the unit of the swept field, or of the
// figure.
type Told struct {
	Side   string  `json:"side"`
	Value  float64 `json:"value,omitempty" doc:"Absent where there is none"`
	Low    float64 `json:"low,omitempty" doc:"It lies from here"`
	High   float64 `json:"high,omitempty" doc:"To here; of 'kept' not here any more. Absent where that is not known"`
	Shown  string  `json:"shown" doc:"The value as people read it"`
	Range  string  `json:"range,omitempty" doc:"From where to where it lies, as people read it"`
	Reason string  `json:"reason,omitempty" doc:"Why there is no value, or what to know of it"`
	Price  float64 `json:"price,omitempty" doc:"Of the setup, where it is known"`

	Measurements []int64           `json:"measurements" doc:"What it rests on"`
	Cautions     []compare.Caution `json:"cautions" doc:"What is to be known of those"`

	edge edge
}

// Relation is how a candidate stands to the baseline.
type Relation struct {
	Side    string        `json:"side"`
	Times   float64       `json:"times,omitempty" doc:"Candidate over baseline; absent where one has no value"`
	Low     float64       `json:"low,omitempty" doc:"At least so much; absent where that is not known"`
	High    float64       `json:"high,omitempty" doc:"At most so much"`
	Verdict judge.Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`
	Meets   []Crossing    `json:"meets,omitempty" doc:"Of 'meet': where the one in front changes"`
	Words   string        `json:"words"`
}

// Asked is what else is asked.
type Asked struct {
	Gain   quantity.Share   // less than which is little; 0 for compare.Noise
	Within quantity.Seconds // what p99 has to stay within for a load to be kept; 0 where that is not asked
}

// Of are the answers that some sides have, the baseline first, and what their comparison
// found; result is nil for a side alone.
func Of(sides []compare.Side, result *compare.Result, asked Asked) []Conclusion {
	if !(asked.Gain > 0) {
		asked.Gain = compare.Noise
	}
	answers := []Conclusion{}
	if len(sides) == 0 {
		return answers
	}
	answers = append(answers, keptOf(sides, asked)...)
	answers = append(answers, enoughOf(sides, asked)...)
	if result != nil {
		answers = append(answers, meetingsOf(*result)...)
	}
	return append(answers, timesOf(sides, result)...)
}

// along names a line of a sweep: a stage, the field that goes along it, and the other fields.
type along struct {
	stage, field string
	held         []plan.Setting
}

func (a along) key() string { return a.stage + "\x00" + a.field + "\x00" + plan.Describe(a.held) }

// title is what is asked, where the stage was measured with the other fields held.
func (a along) title(question string) string {
	title := a.stage + ": " + question
	if len(a.held) > 0 {
		title += ", at " + plan.Describe(a.held)
	}
	return title
}

// alongs are the lines through a point of a sweep, one for each of its fields.
func alongs(stage string, point []plan.Setting) (all []along) {
	for i, s := range point {
		all = append(all, along{stage, s.Field, slices.Concat(point[:i], point[i+1:])})
	}
	return all
}

// valueAt is the text of the field's value at a point.
func (a along) valueAt(point []plan.Setting) string {
	i := slices.IndexFunc(point, func(s plan.Setting) bool { return s.Field == a.field })
	return point[i].Value
}

// ordered are texts by the numbers they stand for, each once; none where they stand for none.
func ordered(texts []string) (values []string, numbers []float64) {
	scale, numeric := plan.ScaleOf(texts)
	if !numeric {
		return nil, nil
	}
	type value struct {
		text string
		at   float64
	}
	var all []value
	for _, text := range slices.Compact(slices.Sorted(slices.Values(texts))) {
		at, _ := scale.Read(text)
		all = append(all, value{text, at})
	}
	slices.SortStableFunc(all, func(a, b value) int { return cmp.Compare(a.at, b.at) })
	for _, v := range all {
		values, numbers = append(values, v.text), append(numbers, v.at)
	}
	return values, numbers
}

// Lines are the answer in words, a line for each side or, where no side has one of its own, for
// each candidate.
func (a Conclusion) Lines() (lines []string) {
	for i, t := range a.Sides {
		text := t.inWords()
		if against := a.Against(i); against != "" {
			text += "; " + against
		}
		if len(a.Sides) > 1 {
			text = t.Side + ": " + text
		}
		lines = append(lines, text)
	}
	if len(a.Sides) == 0 {
		for _, r := range a.Ratios {
			lines = append(lines, r.Side+": "+r.Words)
		}
	}
	return lines
}

// Against says how a side stands to the baseline, by its number from 0; "" of the baseline, and
// where that is not asked.
func (a Conclusion) Against(side int) string {
	if side < 1 || side > len(a.Ratios) {
		return ""
	}
	return a.Ratios[side-1].Words
}

// inWords is one side's answer, with its range and what to know of it.
func (t Told) inWords() string {
	text := t.Shown
	if t.Range != "" {
		text += " (" + t.Range + ")"
	}
	if t.Price > 0 {
		text += ", price " + quantity.Price(t.Price)
	}
	if t.Reason != "" {
		text += "; " + t.Reason
	}
	return text
}

// together are the words of an answer.
func (a Conclusion) together() string {
	text := strings.Join(a.Lines(), ". ") + "."
	return strings.ToUpper(text[:1]) + text[1:]
}

// times says a ratio with what is known of its ends.
func times(r Relation) string {
	text := quantity.Digits(r.Times) + " times"
	switch {
	case r.Low > 0 && r.High > 0:
		text += fmt.Sprintf(" (%s to %s)", quantity.Digits(r.Low), quantity.Digits(r.High))
	case r.Low > 0:
		text += fmt.Sprintf(" (at least %s)", quantity.Digits(r.Low))
	case r.High > 0:
		text += fmt.Sprintf(" (at most %s)", quantity.Digits(r.High))
	}
	return text
}
