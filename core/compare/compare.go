// Package compare sets a baseline against candidates, stage by stage and point
// by point, and says what got better, what got worse and what was not shown.
//
// It knows neither storage nor service: a Side holds what was measured of one
// setup, in one run or several. What does not match is listed, never dropped,
// and a figure that is not to be trusted stays marked. The statistics are those
// of package judge.
//
//	result := compare.Sides(baseline, candidates, 0.05)
//	fmt.Println(result.Candidates[0].Words)
package compare

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/quiet"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Most is how many candidates one comparison takes.
const Most = 8

// Noise is the smallest difference that matters unless another is asked for.
const Noise quantity.Share = 0.05

// Result is a baseline and its candidates.
type Result struct {
	Noise      quantity.Share `json:"noise" doc:"Smallest difference that matters"`
	Baseline   Subject        `json:"baseline"`
	Candidates []Candidate    `json:"candidates"`
	Advice     string         `json:"advice,omitempty" doc:"How to know more, when runs of the same differ too much for the difference that matters"`
	Points     []Match        `json:"points" doc:"What all sides or some have in common with the baseline, in the baseline's order"`
	Unmatched  []Unmatched    `json:"unmatched" doc:"What is on one side only, or failed"`
}

// Subject says what a side is.
type Subject struct {
	Name    string  `json:"name"`
	Runs    []int64 `json:"runs"`
	Caution string  `json:"caution,omitempty" doc:"Set when its runs are not of the same setup, so that together they stand for nothing"`
}

// Candidate is one candidate as a whole.
type Candidate struct {
	Subject
	Difference setup.Difference `json:"difference" doc:"Of its setup to that of the baseline"`
	Handling   string           `json:"handling,omitempty" doc:"How operations were handed over to the system, when that was another way than in the baseline"`
	Paired     string           `json:"paired,omitempty" doc:"What it brought that both were measured together, in turn or as a race, when they were"`
	Claims     []claim.Claim    `json:"claims" doc:"What got better, what worse and what neither, each with the parts it is said of"`
	Words      string           `json:"words" doc:"What got better and what worse, in a sentence, the largest change first"`
	Index      float64          `json:"index,omitempty" doc:"Geometric mean of the gains of the main figures that are known and to be trusted; absent when there is none"`
	Together   string           `json:"together,omitempty" doc:"The index in words, with its 95 % interval where that is known"`
	Weighed    *Weighed         `json:"weighed,omitempty" doc:"An index with the weights that were asked for"`
	LeftOut    int              `json:"leftOut,omitempty" doc:"Main figures that are not in the index: hints, missing ones, and unreliable ones"`
	Parts      []Part           `json:"parts" doc:"What the index and the sentence are made of, the largest gain first, the largest loss last"`

	real bool // its runs differ from the baseline's in all figures at once
}

// Part is one point's main figure in a candidate's index.
type Part struct {
	Point      int           `json:"point" doc:"Number in points, from 0"`
	Title      string        `json:"title"`
	Figure     string        `json:"figure" doc:"Key of the main figure"`
	Gain       float64       `json:"gain" doc:"How many times as good as the baseline, also where less is good"`
	Words      string        `json:"words" doc:"The change in words, such as 'throughput doubled'"`
	Verdict    judge.Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`
	Unreliable bool          `json:"unreliable,omitempty"`
}

// Match is one stage at one point of its sweep.
type Match struct {
	Stage string         `json:"stage"`
	Point []plan.Setting `json:"point,omitempty"`
	Title string         `json:"title"`
	Load  string         `json:"load" doc:"The load in words"`
	As    string         `json:"as,omitempty" doc:"What the candidates call the stage, where that is otherwise; their load may do the same by other means"`
	Means string         `json:"means,omitempty" doc:"In which the loads differ, where they were to"`
	Main  string         `json:"main" doc:"Key of the figure that matters most here: throughput, or p99 at a set rate"`
	Only  string         `json:"only,omitempty" doc:"Class of operation that the load issues, when there is one that moves bytes"`
	Rows  []Row          `json:"rows"`
	Cold  *Row           `json:"cold,omitempty" doc:"The main figure of the first passes alone, when a side was warming; all other rows compare what is warm"`

	Passes []judge.Passes `json:"passes" doc:"How the repeats of the baseline and of each candidate went as passes over the same data"`

	Measurements [][]int64 `json:"measurements" doc:"Of the baseline and of each candidate"`

	Cautions []Caution `json:"cautions" doc:"What is to be known of what was measured, side by side"`

	keys []string // name the loads of the baseline and of each candidate
	part bool     // it is of one of several loads at once
}

// Row is one figure at one point.
type Row struct {
	Figure     string    `json:"figure"`
	Baseline   Values    `json:"baseline"`
	Candidates []Outcome `json:"candidates" doc:"In the order of the candidates"`
}

// Outcome is what a candidate has of a figure and how that stands to the
// baseline.
type Outcome struct {
	Values
	judge.Ratio
}

// Unmatched is something that has no counterpart.
type Unmatched struct {
	Side   string `json:"side"`
	Title  string `json:"title"`
	Reason string `json:"reason"`
}

// Sides compares candidates with a baseline. A noise of zero means Noise.
func Sides(baseline Side, candidates []Side, noise quantity.Share) Result {
	if !(noise > 0) {
		noise = Noise
	}
	c := Result{Noise: noise, Baseline: Subject{Name: baseline.Name, Runs: baseline.Runs}, Points: []Match{}, Unmatched: []Unmatched{}, Candidates: []Candidate{}}
	base := group(baseline)
	others := make([]*groups, len(candidates))
	for i, side := range candidates {
		others[i] = group(side.named())
	}
	c.Baseline.Caution = mixed(baseline)
	c.match(baseline, base, candidates, others)
	c.decide(baseline, candidates)
	for i, side := range candidates {
		candidate := c.candidate(i, side, setup.Diff(baseline.Setup, side.Setup), baseline.Real || side.Real)
		candidate.Caution = mixed(side)
		candidate.Handling = handling(baseline, side)
		candidate.Paired = c.paired(i)
		c.Candidates = append(c.Candidates, candidate)
	}
	return c
}

// match pairs what has the same stage, point and load.
func (c *Result) match(baseline Side, base *groups, candidates []Side, others []*groups) {
	missing := func(side, key, reason string) {
		c.Unmatched = append(c.Unmatched, Unmatched{side, key, reason})
	}
	failures(c, baseline, base)
	for i, side := range candidates {
		failures(c, side, others[i])
	}
	usual := []float64{base.usual()}
	for _, g := range others {
		usual = append(usual, g.usual())
	}
	var fills []func()
	for _, key := range base.order {
		of := base.of[key]
		p := Match{Stage: of[0].Stage, Point: of[0].Point, Title: key, Load: of[0].Load.Describe(), keys: []string{of[0].Load.Key()}, part: of[0].Part}
		p.Measurements = append(p.Measurements, numbers(of))
		found := false
		matched := make([][]Sample, len(candidates))
		for i, side := range candidates {
			theirs := others[i].of[key]
			switch difference := loadsDiffer(of, theirs); {
			case theirs == nil:
				missing(side.Name, key, "only in the baseline")
			case difference != "" && theirs[0].As == "":
				missing(side.Name, key, "the loads differ: "+difference+"; if they do the same by other means, compare them with --match")
			default:
				matched[i], found = theirs, true
				p.As, p.Means = cmp.Or(p.As, theirs[0].As), cmp.Or(p.Means, difference)
			}
			p.keys = append(p.keys, "")
			if theirs != nil {
				p.keys[i+1] = theirs[0].Load.Key()
			}
			p.Measurements = append(p.Measurements, numbers(matched[i]))
		}
		if !found {
			continue
		}
		if p.As != "" {
			p.Title += ", as " + p.As
		}
		p.Main = mainOf(append([][]Sample{of}, matched...)...)
		p.Cautions = cautions(baseline.Name, of)
		for i, theirs := range matched {
			p.Cautions = append(p.Cautions, cautions(candidates[i].Name, theirs)...)
		}
		if classes := of[0].Load.Classes(); len(moving(classes)) == 1 {
			p.Only = moving(classes)[0].String()
		}
		c.Points = append(c.Points, p)
		at := len(c.Points) - 1
		fills = append(fills, func() {
			p := &c.Points[at]
			p.fill(append([][]Sample{of}, matched...), usual)
			main := p.Row(p.Main)
			p.Cautions = append(p.Cautions, oddOnes(baseline.Name, figure.Of(p.Main), main.Baseline)...)
			for i, o := range main.Candidates {
				p.Cautions = append(p.Cautions, oddOnes(candidates[i].Name, figure.Of(p.Main), o.Values)...)
			}
		})
	}
	quiet.Spread(fills)
	for i, side := range candidates {
		for _, key := range others[i].order {
			if base.of[key] == nil {
				missing(side.Name, key, "not in the baseline")
			}
		}
	}
}

func moving(classes []measure.Class) []measure.Class {
	return slices.DeleteFunc(slices.Clone(classes), func(c measure.Class) bool { return !c.Moves() })
}

// fill works out the rows of a point from what the baseline and each candidate
// measured there; usual is what the passes of each vary by.
func (p *Match) fill(sides [][]Sample, usual []float64) {
	var together judge.Passes
	for i, of := range sides {
		passes := passesOf(of, figure.Of(p.Main), usual[i])
		p.Passes = append(p.Passes, passes)
		together = together.Together(passes)
	}
	row := func(f figure.Figure, which which) Row {
		r := Row{Figure: f.Key, Baseline: values(sides[0], f, which)}
		for _, theirs := range sides[1:] {
			r.Candidates = append(r.Candidates, Outcome{Values: values(theirs, f, which)})
		}
		return r
	}
	for _, f := range figuresOf(sides) {
		if f.OfPhases() && !slices.ContainsFunc(sides, severalPhases) {
			continue
		}
		if f.Rare && !told(f, sides) {
			continue
		}
		p.Rows = append(p.Rows, row(f, which{from: together.Warm, going: together.Going}))
	}
	if together.Warm > 1 {
		cold := row(figure.Of(p.Main), which{from: 1, to: 1})
		p.Cold = &cold
	}
}

// told reports whether any measurement tells a figure.
func told(f figure.Figure, sides [][]Sample) bool {
	return slices.ContainsFunc(sides, func(of []Sample) bool {
		return slices.ContainsFunc(of, func(s Sample) bool { return s.Summary != nil && f.Value(s.Summary) >= 0 })
	})
}

// figuresOf are the figures of a point: those of the load, or what loads have in common that
// are to differ.
func figuresOf(sides [][]Sample) []figure.Figure {
	figures := figure.For(sides[0][0].Load)
	for _, theirs := range sides[1:] {
		if len(theirs) > 0 && theirs[0].As != "" {
			figures, _ = figure.Common(sides[0][0].Load, theirs[0].Load)
		}
	}
	return figures
}

// handling says how the operations of a side were handed over when that is not how
// those of the baseline were: what an operation costs differs by that alone.
func handling(base, side Side) string {
	ways := func(s Side) string {
		found := map[string]bool{}
		for _, sample := range s.Samples {
			if sample.Summary != nil && sample.Summary.Interface != "" {
				found[sample.Summary.Interface] = true
			}
		}
		return strings.Join(slices.Sorted(maps.Keys(found)), " and ")
	}
	ours, theirs := ways(base), ways(side)
	if ours == theirs || ours == "" || theirs == "" || base.Real != side.Real {
		return ""
	}
	return fmt.Sprintf("Operations went through %s here and through %s in the baseline: on fast storage that alone makes a difference.", theirs, ours)
}

// failures lists what failed, with its reason.
func failures(c *Result, side Side, g *groups) {
	for _, key := range g.order {
		for _, s := range g.of[key] {
			if !s.Part && (s.Summary == nil || s.Reason != "") {
				c.Unmatched = append(c.Unmatched, Unmatched{side.Name, cmp.Or(s.As, key), fmt.Sprintf("measurement %d: %s", s.Measurement, cmp.Or(s.Reason, "it has no result"))})
			}
		}
	}
}

func numbers(samples []Sample) []int64 {
	ids := []int64{}
	for _, s := range samples {
		if s.Summary != nil {
			ids = append(ids, s.Measurement)
		}
	}
	return ids
}

// loadsDiffer says in which fields two loads differ, seed, intervals and names aside.
func loadsDiffer(ours, theirs []Sample) string {
	if len(theirs) == 0 {
		return ""
	}
	a, b := ours[0].Load.Alike(), theirs[0].Load.Alike()
	if reflect.DeepEqual(a, b) {
		return ""
	}
	var differ []string
	for _, f := range workload.Fields() {
		if x, y := f.Get(a), f.Get(b); x != y {
			differ = append(differ, fmt.Sprintf("%s is %s there and %s in the baseline", f.Name, cmp.Or(y, "unset"), cmp.Or(x, "unset")))
		}
	}
	return strings.Join(differ, ", ")
}

// decide finds the ratios and the verdicts of all that is on the page together.
func (c *Result) decide(baseline Side, candidates []Side) {
	before := baseline.known()
	after := make([]known, len(candidates))
	for i, side := range candidates {
		after[i] = side.known()
	}
	perPoint := make([][]judge.Decided, len(c.Points))
	work := make([]func(), len(c.Points))
	for i := range c.Points {
		work[i] = func() {
			p := &c.Points[i]
			rows := make([]*Row, 0, len(p.Rows)+1)
			for r := range p.Rows {
				rows = append(rows, &p.Rows[r])
			}
			if p.Cold != nil {
				rows = append(rows, p.Cold)
			}
			for _, row := range rows {
				f := figure.Of(row.Figure)
				for n := range candidates {
					o, before, after := &row.Candidates[n], before.beside(after[n]), after[n].beside(before)
					o.Ratio = ratio(before, row.Baseline, after, o.Values, f.Key, p.keys[0], p.keys[n+1], c.Noise)
					if row != p.Cold && (p.Passes[0].Going || p.Passes[n+1].Going) {
						a, b := before.repetition(f.Key, row.Baseline, p.keys[0], after).Spread.Deviation, after.repetition(f.Key, o.Values, p.keys[n+1], before).Spread.Deviation
						climbing(&o.Ratio, row.Baseline, o.Values, p.Passes[0], p.Passes[n+1], a*a+b*b)
					}
					perPoint[i] = append(perPoint[i], judge.Decided{Ratio: &o.Ratio, Lower: f.Lower, Main: row != p.Cold && (row.Figure == p.Main || row.Figure == "finish")}) // the time to finish says what the main one does
				}
			}
		}
	}
	quiet.Spread(work)
	judge.Decide(slices.Concat(perPoint...), c.Noise)
	c.Advice = c.advice(append([]known{before}, after...))
}

// candidate sums one candidate up.
func (c *Result) candidate(number int, side Side, difference setup.Difference, real bool) Candidate {
	result := Candidate{Subject: Subject{Name: side.Name, Runs: side.Runs}, Difference: difference, Parts: []Part{}, real: real}
	var gains, halves []float64
	for i, p := range c.Points {
		row := p.Row(p.Main)
		outcome := row.Candidates[number]
		part := Part{Point: i, Title: p.Title, Figure: p.Main, Verdict: outcome.Verdict, Unreliable: row.Baseline.Unreliable != "" || outcome.Unreliable != ""}
		if outcome.Verdict != judge.Missing {
			part.Gain = outcome.Ratio.Value
			part.Words = inWords(figure.Of(p.Main), row.Baseline, outcome)
			if figure.Of(p.Main).Lower {
				part.Gain = 1 / part.Gain
			}
		}
		switch {
		case p.part: // which counts with all of which it is
		case outcome.Ratio.Known() && !part.Unreliable && part.Gain > 0:
			gains = append(gains, part.Gain)
			halves = append(halves, outcome.halfOfLog())
		default:
			result.LeftOut++
		}
		result.Parts = append(result.Parts, part)
	}
	slices.SortStableFunc(result.Parts, func(a, b Part) int { return cmp.Compare(b.Gain, a.Gain) })
	if result.Index = judge.Index(gains); result.Index > 0 {
		half := halfOfAll(halves, slices.Repeat([]float64{1 / float64(len(gains))}, len(gains)), real)
		result.Together = takenTogether(judge.WithinLog(result.Index, half), len(gains), result.LeftOut)
	}
	byWeight := slices.Clone(result.Parts)
	slices.SortStableFunc(byWeight, func(a, b Part) int { return rank(a) - rank(b) })
	result.Claims = claimsOf(byWeight, c.Noise)
	result.Words = claim.Clauses(result.Claims)
	return result
}

// takenTogether says the geometric mean of so many gains.
func takenTogether(index judge.Mean, of, leftOut int) string {
	words := fmt.Sprintf("Over all: %s × the baseline", quantity.Digits(index.Mean))
	if index.Low > 0 {
		words += fmt.Sprintf(" (%s to %s)", quantity.Digits(index.Low), quantity.Digits(index.High))
		if index.Low <= 1 && index.High >= 1 {
			words += " (no difference shown)"
		}
	}
	words += fmt.Sprintf(": the geometric mean of the gains in %d %s", of, plural("figure", of))
	if leftOut > 0 {
		words += fmt.Sprintf("; %d more are left out: hints, missing or unreliable", leftOut)
	}
	return words + "."
}

func plural(word string, n int) string {
	if n == 1 {
		return word
	}
	return word + "s"
}

// Row finds a figure of a point; an empty row when it is not there. A figure of the
// only class of operation that the load issues is that of all.
func (p Match) Row(key string) Row {
	for _, wanted := range []string{key, strings.TrimPrefix(key, p.Only+"-")} {
		for _, r := range p.Rows {
			if r.Figure == wanted {
				return r
			}
		}
	}
	return Row{Figure: key}
}
