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
	"math"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Most is how many candidates one comparison takes.
const Most = 8

// Noise is the smallest difference that matters unless another is asked for.
const Noise quantity.Share = 0.05

// Side is what was measured of one setup.
type Side struct {
	Name    string
	Runs    []int64
	Setup   setup.Setup
	Real    bool // not simulated: its runs differ by more than its repeats do
	Samples []Sample
}

// disturbance is by how much the runs of a side differ anyway, and as much as
// others took of the host's CPU time.
func (s Side) disturbance() float64 {
	stolen, n := 0.0, 0.0
	for _, sample := range s.Samples {
		if sample.Summary != nil {
			stolen, n = stolen+float64(sample.Summary.Stolen), n+1
		}
	}
	return math.Hypot(judge.RunToRun, stolen/max(n, 1))
}

// allowance is the standard deviation from run to run that the values of a
// side cannot show. What varies from repeat to repeat varies at least as much
// from run to run: slow drifts outlast a run.
func (s Side) allowance(disturbance float64, v Values) float64 {
	if !s.Real || len(s.Runs) >= 3 {
		return 0
	}
	return math.Hypot(disturbance, float64(v.Variation)) / math.Sqrt(float64(max(len(s.Runs), 1)))
}

// Sample is one measurement of a side.
type Sample struct {
	Run, Measurement int64
	Stage            string
	Point            []plan.Setting
	Load             workload.Spec
	Summary          *measure.Summary // nil when there is no result
	Reason           string           // why there is none
	Doubts           []judge.Finding  // those that make a figure unreliable
}

// Result is a baseline and its candidates.
type Result struct {
	Noise      quantity.Share `json:"noise" doc:"Smallest difference that matters"`
	Baseline   Subject        `json:"baseline"`
	Candidates []Candidate    `json:"candidates"`
	Points     []Match        `json:"points" doc:"What all sides or some have in common with the baseline, in the baseline's order"`
	Unmatched  []Unmatched    `json:"unmatched" doc:"What is on one side only, or failed"`
}

// Subject says what a side is.
type Subject struct {
	Name string  `json:"name"`
	Runs []int64 `json:"runs"`
}

// Candidate is one candidate as a whole.
type Candidate struct {
	Subject
	Difference setup.Difference `json:"difference" doc:"Of its setup to that of the baseline"`
	Handling   string           `json:"handling,omitempty" doc:"How operations were handed over to the system, when that was another way than in the baseline"`
	Words      string           `json:"words" doc:"What got better and what worse, in a sentence, the largest change first"`
	Index      float64          `json:"index,omitempty" doc:"Geometric mean of the gains of the main figures; absent when there is none"`
	Parts      []Part           `json:"parts" doc:"What the index and the sentence are made of, the largest gain first, the largest loss last"`
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
	Main  string         `json:"main" doc:"Key of the figure that matters most here: throughput, or p99 at a set rate"`
	Rows  []Row          `json:"rows"`

	Measurements [][]int64 `json:"measurements" doc:"Of the baseline and of each candidate"`
}

// Row is one figure at one point.
type Row struct {
	Figure     string    `json:"figure"`
	Baseline   Values    `json:"baseline"`
	Candidates []Outcome `json:"candidates" doc:"In the order of the candidates"`
}

// Values is what one side has of a figure.
type Values struct {
	judge.Repeated
	Unreliable string     `json:"unreliable,omitempty" doc:"Why not to trust it"`
	Reason     string     `json:"reason,omitempty" doc:"Why there is no value"`
	Remark     string     `json:"remark,omitempty" doc:"Which of the values are compared, when not all are"`
	Taken      judge.Mean `json:"taken" doc:"Mean of the values that are compared"`

	compared []float64 // those that stand for what the side does once it is warm
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
	c := Result{Noise: noise, Baseline: Subject{baseline.Name, baseline.Runs}, Points: []Match{}, Unmatched: []Unmatched{}, Candidates: []Candidate{}}
	base := group(baseline)
	others := make([]*groups, len(candidates))
	for i, side := range candidates {
		others[i] = group(side)
	}
	c.match(baseline, base, candidates, others)
	c.decide(baseline, candidates)
	for i, side := range candidates {
		candidate := c.candidate(i, side, setup.Diff(baseline.Setup, side.Setup))
		candidate.Handling = handling(baseline, side)
		c.Candidates = append(c.Candidates, candidate)
	}
	return c
}

// groups is the samples of a side, by what they measured.
type groups struct {
	order []string
	of    map[string][]Sample
}

func title(s Sample) string {
	if len(s.Point) == 0 {
		return s.Stage
	}
	return s.Stage + " at " + plan.Describe(s.Point)
}

func group(side Side) *groups {
	g := &groups{of: map[string][]Sample{}}
	for _, s := range side.Samples {
		key := title(s)
		if g.of[key] == nil {
			g.order = append(g.order, key)
		}
		g.of[key] = append(g.of[key], s)
	}
	return g
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
	var fills []func()
	for _, key := range base.order {
		of := base.of[key]
		p := Match{Stage: of[0].Stage, Point: of[0].Point, Title: key, Load: of[0].Load.Describe(), Main: figure.Main(of[0].Load)}
		p.Measurements = append(p.Measurements, numbers(of))
		found := false
		matched := make([][]Sample, len(candidates))
		for i, side := range candidates {
			theirs := others[i].of[key]
			switch difference := loadsDiffer(of, theirs); {
			case theirs == nil:
				missing(side.Name, key, "only the baseline measured it")
			case difference != "":
				missing(side.Name, key, "the loads differ: "+difference)
			default:
				matched[i], found = theirs, true
			}
			p.Measurements = append(p.Measurements, numbers(matched[i]))
		}
		if !found {
			continue
		}
		figures := figure.For(of[0].Load)
		p.Rows = make([]Row, len(figures))
		fills = append(fills, func() {
			for i, f := range figures {
				row := Row{Figure: f.Key, Baseline: values(of, f)}
				for _, theirs := range matched {
					row.Candidates = append(row.Candidates, Outcome{Values: values(theirs, f)})
				}
				p.Rows[i] = row
			}
		})
		c.Points = append(c.Points, p)
	}
	onAllCores(fills)
	for i, side := range candidates {
		for _, key := range others[i].order {
			if base.of[key] == nil {
				missing(side.Name, key, "the baseline did not measure it")
			}
		}
	}
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
	return fmt.Sprintf("Operations were handed over through %s here and through %s in the baseline: on fast storage that alone makes a difference.", theirs, ours)
}

// failures lists what failed, with its reason.
func failures(c *Result, side Side, g *groups) {
	for _, key := range g.order {
		for _, s := range g.of[key] {
			if s.Summary == nil || s.Reason != "" {
				c.Unmatched = append(c.Unmatched, Unmatched{side.Name, key, fmt.Sprintf("measurement %d: %s", s.Measurement, cmp.Or(s.Reason, "it has no result"))})
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
	a, b := ours[0].Load.Completed(), theirs[0].Load.Completed()
	a.Seed, b.Seed = 0, 0
	a.Interval, b.Interval = 0, 0 // says how it is recorded, not what is done
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

// values gathers one figure. Where a side has three runs or more, each run
// counts once, with the mean of its repeats: runs vary by more than repeats do.
func values(samples []Sample, f figure.Figure) Values {
	var v Values
	perRun, order := map[int64][]float64{}, []int64{}
	for _, s := range samples {
		if s.Summary == nil {
			v.Reason = cmp.Or(s.Reason, "it has no result")
			continue
		}
		value := f.Value(s.Summary)
		if math.IsNaN(value) || math.IsInf(value, 0) || value <= 0 {
			v.Reason = fmt.Sprintf("measurement %d has no %s", s.Measurement, f.Label)
			continue
		}
		if perRun[s.Run] == nil {
			order = append(order, s.Run)
		}
		perRun[s.Run] = append(perRun[s.Run], value)
		for _, d := range s.Doubts {
			if d.Figure == "all" || f.Side == "" || d.Figure == f.Side {
				v.Unreliable = d.Sentence
			}
		}
	}
	var all []float64
	for _, run := range order {
		if len(order) < 3 {
			all = append(all, perRun[run]...)
			continue
		}
		all = append(all, judge.MeanOfRepeats(perRun[run]).Mean)
	}
	v.Repeated = judge.Repeats(all)
	v.compared = all
	if v.Trend.Direction != 0 {
		v.compared = all[len(all)/2:]
		v.Remark = fmt.Sprintf("the repeats were still changing; the last %d of %d are compared", len(v.compared), len(all))
	}
	v.Taken = judge.MeanOfRepeats(v.compared)
	if len(all) > 0 {
		v.Reason = ""
	} else if v.Reason == "" {
		v.Reason = "it was not measured"
	}
	return v
}

// decide finds the ratios and their verdicts, the points of one figure of one
// candidate together.
func (c *Result) decide(baseline Side, candidates []Side) {
	var decisions []func()
	for candidate, side := range candidates {
		before, after := baseline.disturbance(), side.disturbance()
		decisions = append(decisions, func() {
			c.decideOne(candidate, func(b, v Values) float64 {
				return math.Hypot(baseline.allowance(before, b), side.allowance(after, v))
			})
		})
	}
	onAllCores(decisions)
}

// onAllCores does independent work, as many pieces at a time as there are
// cores.
func onAllCores(work []func()) {
	var next atomic.Int64
	var together sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		together.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(work)); i = next.Add(1) - 1 {
				work[i]()
			}
		})
	}
	together.Wait()
}

// decideOne decides for one candidate.
func (c *Result) decideOne(candidate int, allowance func(baseline, candidate Values) float64) {
	families := map[string][]*judge.Ratio{}
	for p := range c.Points {
		for r := range c.Points[p].Rows {
			row := &c.Points[p].Rows[r]
			outcome := &row.Candidates[candidate]
			outcome.Ratio = judge.Compare(row.Baseline.compared, outcome.compared, c.Noise, allowance(row.Baseline, outcome.Values))
			families[row.Figure] = append(families[row.Figure], &outcome.Ratio)
		}
	}
	for key, ratios := range families {
		judge.Decide(ratios, c.Noise, figure.Of(key).Lower)
	}
}

// candidate sums one candidate up.
func (c *Result) candidate(number int, side Side, difference setup.Difference) Candidate {
	result := Candidate{Subject: Subject{side.Name, side.Runs}, Difference: difference, Parts: []Part{}}
	var gains []float64
	for i, p := range c.Points {
		row := p.Row(p.Main)
		outcome := row.Candidates[number]
		part := Part{Point: i, Title: p.Title, Figure: p.Main, Verdict: outcome.Verdict, Unreliable: row.Baseline.Unreliable != "" || outcome.Unreliable != ""}
		if outcome.Verdict != judge.Missing {
			part.Gain = outcome.Ratio.Value
			part.Words = figure.Of(p.Main).InWords(outcome.Ratio.Value)
			if figure.Of(p.Main).Lower {
				part.Gain = 1 / part.Gain
			}
			gains = append(gains, part.Gain)
		}
		result.Parts = append(result.Parts, part)
	}
	slices.SortStableFunc(result.Parts, func(a, b Part) int { return cmp.Compare(b.Gain, a.Gain) })
	result.Index = judge.Index(gains)
	result.Words = sentence(result.Parts, c.Noise)
	return result
}

// Row finds a figure of a point; an empty row when it is not there.
func (p Match) Row(key string) Row {
	for _, r := range p.Rows {
		if r.Figure == key {
			return r
		}
	}
	return Row{Figure: key}
}

// sentence puts the parts in words, what changed most first.
func sentence(parts []Part, noise quantity.Share) string {
	if len(parts) == 0 {
		return "Nothing was measured on both sides in the same way."
	}
	byWeight := slices.Clone(parts)
	slices.SortStableFunc(byWeight, func(a, b Part) int {
		return rank(a) - rank(b)
	})
	var clauses []string
	together := map[judge.Verdict][]string{}
	for _, p := range byWeight {
		name := p.Title
		if p.Unreliable {
			name += " (not to be trusted)"
		}
		switch p.Verdict {
		case judge.Better, judge.Worse:
			clauses = append(clauses, fmt.Sprintf("%s: %s", name, p.Words))
		default:
			together[p.Verdict] = append(together[p.Verdict], name)
		}
	}
	for _, v := range []struct {
		verdict judge.Verdict
		words   string
	}{
		{judge.Same, fmt.Sprintf("the same within %s: ", noise)},
		{judge.NotShown, "no difference shown: "},
		{judge.Hint, "one repeat on a side, so no more than a hint: "},
		{judge.Missing, "not comparable: "},
	} {
		names := together[v.verdict]
		if len(names) > 4 {
			names = append(names[:3:3], fmt.Sprintf("%d more", len(names)-3))
		}
		if len(names) > 0 {
			clauses = append(clauses, v.words+strings.Join(names, ", "))
		}
	}
	text := strings.Join(clauses, "; ") + "."
	return strings.ToUpper(text[:1]) + text[1:]
}

// rank orders parts by how much they changed, gains and losses alike, those
// that are shown first.
func rank(p Part) int {
	if p.Verdict != judge.Better && p.Verdict != judge.Worse {
		return 1 << 20
	}
	return -int(math.Abs(math.Log(p.Gain)) * 1e4)
}
