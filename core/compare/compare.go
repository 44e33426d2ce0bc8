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
	Setups  []setup.Setup // of each run, where they may differ
	Real    bool          // not simulated: its runs differ by more than its repeats do
	Samples []Sample
	Past    []Side // other runs of the same setup on the same volume, one each
}

// learned tells from the past of a side by how much its runs differ, by figure.
func (s Side) learned() map[string]judge.Learned {
	past := map[string]map[string]*judge.Alike{}
	for _, run := range s.Past {
		g := group(run)
		usual := g.usual()
		for _, key := range g.order {
			of := g.of[key]
			load := loadKey(of[0].Load, of[0].Point)
			warm := which{from: passesOf(of, figure.Of(figure.Main(of[0].Load)), usual).Warm}
			for _, f := range figure.For(of[0].Load) {
				v := values(of, f, warm)
				if len(v.compared) == 0 {
					continue
				}
				if past[f.Key] == nil {
					past[f.Key] = map[string]*judge.Alike{}
				}
				if past[f.Key][load] == nil {
					past[f.Key][load] = &judge.Alike{Load: load}
				}
				past[f.Key][load].Runs = append(past[f.Key][load].Runs, v.compared)
			}
		}
	}
	learned := map[string]judge.Learned{}
	for key, loads := range past {
		var all []judge.Alike
		for _, load := range slices.Sorted(maps.Keys(loads)) {
			all = append(all, *loads[load])
		}
		learned[key] = judge.Learn(all)
	}
	return learned
}

// loadKey names a load at a point: what is alike in it is measured in the same way.
func loadKey(load workload.Spec, point []plan.Setting) string {
	load = alike(load)
	load.Name = ""
	return load.Describe() + " " + plan.Describe(point)
}

// alike is a load without what may differ between runs that do the same.
func alike(load workload.Spec) workload.Spec {
	load = load.Completed()
	load.Seed = 0
	load.Interval = 0 // says how it is recorded, not what is done
	return load
}

// taken is the share of the host's CPU time that others took meanwhile.
func (s Side) taken() float64 {
	stolen, n := 0.0, 0.0
	for _, sample := range s.Samples {
		if sample.Summary != nil {
			stolen, n = stolen+float64(sample.Summary.Stolen), n+1
		}
	}
	return stolen / max(n, 1)
}

// unlearned is how many degrees of freedom an allowance has that nothing was learned
// for: it is given, and generous.
const unlearned = 1000

// known is a side with what is known of how its runs differ.
type known struct {
	Side
	learned map[string]judge.Learned // by figure
	taken   float64
}

func (s Side) known() known {
	k := known{Side: s}
	if s.Real {
		k.learned, k.taken = s.learned(), s.taken()
	}
	return k
}

// repetition is what a side measured of a figure, compared with another side. Where it
// has three runs or more, they show by themselves how much runs differ. Of fewer it is
// learned from other runs, and others on the host took more from one side than from the
// other. Where nothing was learned, what varies from repeat to repeat varies at least
// as much from run to run, because slow drifts outlast a run, and others take what they
// take.
func (k known) repetition(f string, v Values, load string, other known) judge.Repetition {
	r := judge.Repetition{Values: v.compared, Runs: v.runs}
	if !k.Real || v.runs >= 3 {
		return r
	}
	var known bool
	if r.Spread, known = k.learned[f].Under(load); known {
		r.Spread.Deviation = math.Hypot(r.Spread.Deviation, (k.taken-other.taken)/2)
		return r
	}
	r.Spread = judge.Spread{Deviation: math.Hypot(math.Hypot(judge.RunToRun, k.taken), float64(v.Variation)), Freedom: unlearned}
	return r
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
	Words      string           `json:"words" doc:"What got better and what worse, in a sentence, the largest change first"`
	Index      float64          `json:"index,omitempty" doc:"Geometric mean of the gains of the main figures that are known and to be trusted; absent when there is none"`
	LeftOut    int              `json:"leftOut,omitempty" doc:"Main figures that are not in the index: hints, missing ones, and those not to be trusted"`
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
	Only  string         `json:"only,omitempty" doc:"Class of operation that the load issues, when there is one that moves bytes"`
	Rows  []Row          `json:"rows"`
	Cold  *Row           `json:"cold,omitempty" doc:"The main figure of the first passes alone, when a side was warming; all other rows compare what is warm"`

	Passes []judge.Passes `json:"passes" doc:"How the repeats of the baseline and of each candidate went as passes over the same data"`

	Measurements [][]int64 `json:"measurements" doc:"Of the baseline and of each candidate"`

	key string // names the load
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
	Remark     string     `json:"remark,omitempty" doc:"Which of the values are compared, when not all are, and which are zero"`
	Taken      judge.Mean `json:"taken" doc:"Mean of the values that are compared: the geometric one, with its interval, unless a value is zero"`
	All        []float64  `json:"all,omitempty" doc:"Of all repeats, in the order in which they were measured; absent where values has all of them"`
	Idle       int        `json:"idle,omitempty" doc:"Repeats in which nothing moved"`

	compared []float64 // those that stand for what the side does once it is warm
	runs     int       // that they come from
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
		others[i] = group(side)
	}
	c.Baseline.Caution = mixed(baseline)
	c.match(baseline, base, candidates, others)
	c.decide(baseline, candidates)
	for i, side := range candidates {
		candidate := c.candidate(i, side, setup.Diff(baseline.Setup, side.Setup))
		candidate.Caution = mixed(side)
		candidate.Handling = handling(baseline, side)
		c.Candidates = append(c.Candidates, candidate)
	}
	return c
}

// mixed says that the runs of a side are not of the same setup.
func mixed(s Side) string {
	for i, other := range s.Setups {
		if i == 0 || i >= len(s.Runs) {
			continue
		}
		if d := setup.Diff(s.Setups[0], other); d.Things > 0 {
			return fmt.Sprintf("Runs %d and %d on one side are not of the same setup: %s Compare them with each other, not together.", s.Runs[0], s.Runs[i], d.Words)
		}
	}
	return ""
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
	usual := []float64{base.usual()}
	for _, g := range others {
		usual = append(usual, g.usual())
	}
	var fills []func()
	for _, key := range base.order {
		of := base.of[key]
		p := Match{Stage: of[0].Stage, Point: of[0].Point, Title: key, Load: of[0].Load.Describe(), Main: figure.Main(of[0].Load), key: loadKey(of[0].Load, of[0].Point)}
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
		if classes := of[0].Load.Classes(); len(moving(classes)) == 1 {
			p.Only = moving(classes)[0].String()
		}
		c.Points = append(c.Points, p)
		at := len(c.Points) - 1
		fills = append(fills, func() { c.Points[at].fill(append([][]Sample{of}, matched...), usual) })
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
	for _, f := range figure.For(sides[0][0].Load) {
		if f.OfPhases() && !slices.ContainsFunc(sides, severalPhases) {
			continue
		}
		p.Rows = append(p.Rows, row(f, which{from: together.Warm, going: together.Going}))
	}
	if together.Warm > 1 {
		cold := row(figure.Of(p.Main), which{from: 1, to: 1})
		p.Cold = &cold
	}
}

// severalPhases reports whether a measurement had more than one level.
func severalPhases(of []Sample) bool {
	return slices.ContainsFunc(of, func(s Sample) bool {
		return s.Summary != nil && s.Summary.Phases != nil && len(s.Summary.Phases.List) > 1
	})
}

// usual is by how much the passes of a side vary from one to the next, once the first
// is over: what is usual at its points, when there are three with three passes or
// more. It is 0 when that is not known.
func (g *groups) usual() float64 {
	var spreads []float64
	for _, key := range g.order {
		perRun := map[int64][]float64{}
		f := figure.Of(figure.Main(g.of[key][0].Load))
		for _, s := range g.of[key] {
			if s.Summary != nil {
				perRun[s.Run] = append(perRun[s.Run], f.Value(s.Summary))
			}
		}
		for _, passes := range perRun {
			if len(passes) < 3 {
				continue
			}
			if e := judge.Repeats(passes[1:]); e.Mean.Mean > 0 {
				spreads = append(spreads, float64(e.Variation))
			}
		}
	}
	if len(spreads) < 3 {
		return 0
	}
	// The middle of standard deviations of two values is two thirds of what they vary
	// by; of more it is nearer.
	return 1.5 * judge.Repeats(spreads).Median
}

// passesOf tells how the repeats went, over all runs together, pass by pass; usual is
// what passes of that side vary by.
func passesOf(of []Sample, f figure.Figure, usual float64) judge.Passes {
	perRun, order := map[int64][]float64{}, []int64{}
	alone := 0.0
	for _, s := range of {
		if perRun[s.Run] == nil {
			order = append(order, s.Run)
		}
		value := 0.0
		if s.Summary != nil {
			value = f.Value(s.Summary)
			if steady := s.Summary.Steadiness; steady != nil && steady.Intervals > 0 {
				alone = max(alone, float64(steady.Variation)/math.Sqrt(float64(steady.Intervals)))
			}
		}
		perRun[s.Run] = append(perRun[s.Run], value)
	}
	var passes []float64
	for pass := 0; len(order) > 0; pass++ {
		sum := 0.0
		for _, run := range order {
			if pass >= len(perRun[run]) || !(perRun[run][pass] > 0) {
				return judge.PassesOf(passes, max(2*alone, usual))
			}
			sum += math.Log(perRun[run][pass])
		}
		passes = append(passes, math.Exp(sum/float64(len(order))))
	}
	return judge.PassesOf(nil, 0)
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
	a, b := alike(ours[0].Load), alike(theirs[0].Load)
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

// which says which passes of each run count: from one on, numbered from 1, to
// another; 0 for all after it. Going is set when it was still changing at the last.
type which struct {
	from, to int
	going    bool
}

// values gathers one figure. Where a side has three runs or more, each run counts
// once, with the mean of its repeats: runs vary by more than repeats do. Zero is a
// value where it is one of a rate; a latency of zero is none.
func values(samples []Sample, f figure.Figure, which which) Values {
	v := Values{}
	perRun, passes, order := map[int64][]float64{}, map[int64]int{}, []int64{}
	for _, s := range samples {
		passes[s.Run]++
		pass := passes[s.Run]
		if s.Summary == nil {
			v.Reason = cmp.Or(s.Reason, "it has no result")
			continue
		}
		value := f.Value(s.Summary)
		if math.IsNaN(value) || math.IsInf(value, 0) || value < 0 || value == 0 && f.Unit == "seconds" {
			v.Reason = cmp.Or(f.None, fmt.Sprintf("measurement %d has no %s", s.Measurement, f.Label))
			continue
		}
		v.All = append(v.All, value)
		for _, d := range s.Doubts {
			if d.Figure == "all" || f.Side == "" || d.Figure == f.Side {
				v.Unreliable = d.Sentence
			}
		}
		if pass < which.from || which.to > 0 && pass > which.to {
			continue
		}
		if perRun[s.Run] == nil {
			order = append(order, s.Run)
		}
		perRun[s.Run] = append(perRun[s.Run], value)
	}
	kept := 0
	for _, run := range order {
		kept += len(perRun[run])
		if len(order) < 3 {
			v.compared = append(v.compared, perRun[run]...)
			continue
		}
		v.compared = append(v.compared, judge.MeanOfRepeats(perRun[run]).Mean)
	}
	v.runs = len(order)
	v.Repeated = judge.Repeats(v.compared)
	v.Taken = v.Repeated.Centre()
	for _, value := range v.compared {
		if value == 0 {
			v.Idle++
		}
	}
	v.Remark = which.inWords(kept, len(v.All), v.Idle)
	if len(v.All) == len(v.compared) {
		v.All = nil
	}
	if len(v.compared) > 0 {
		v.Reason = ""
	} else if v.Reason == "" {
		v.Reason = "it was not measured"
	}
	return v
}

// Every is the values of all repeats.
func (v Values) Every() []float64 {
	if v.All == nil {
		return v.Values
	}
	return v.All
}

// inWords says which values are compared, when not all are, and which are zero.
func (w which) inWords(kept, all, idle int) string {
	var words []string
	if kept < all {
		from := fmt.Sprintf("pass %d on", w.from)
		if w.to > 0 {
			from = fmt.Sprintf("pass %d alone", w.from)
		}
		words = append(words, fmt.Sprintf("from %s: %d of %d repeats", from, kept, all))
		if w.going {
			words = append(words, "it was still changing at the last")
		}
	}
	if idle > 0 {
		words = append(words, fmt.Sprintf("nothing moved in %d of %d", idle, kept))
	}
	return strings.Join(words, "; ")
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
					o := &row.Candidates[n]
					o.Ratio = judge.Compare(before.repetition(f.Key, row.Baseline, p.key, after[n]), after[n].repetition(f.Key, o.Values, p.key, before), c.Noise)
					perPoint[i] = append(perPoint[i], judge.Decided{Ratio: &o.Ratio, Lower: f.Lower, Main: row.Figure == p.Main && row != p.Cold})
				}
			}
		}
	}
	onAllCores(work)
	judge.Decide(slices.Concat(perPoint...), c.Noise)
	c.Advice = c.advice(append([]known{before}, after...))
}

// advice says how to know more when runs of the same differ too much for the
// difference that matters to be seen between one of each.
func (c *Result) advice(sides []known) string {
	unknown := false
	for _, p := range c.Points {
		for _, o := range p.Row(p.Main).Candidates {
			unknown = unknown || o.Verdict == judge.NotShown || o.Verdict == judge.Hint
		}
	}
	most := 0.0
	for _, side := range sides {
		if len(side.Runs) >= 3 {
			continue
		}
		for _, p := range c.Points {
			if s, known := side.learned[p.Main].Under(p.key); known {
				most = max(most, s.Deviation)
			}
		}
	}
	if !unknown || most < float64(c.Noise)/2 {
		return ""
	}
	return fmt.Sprintf("Runs of the same differ by %s here (standard deviation, learned from other runs), so that %s is hard to see between single runs. Measure both sides in turn, three times or more, and compare them together, such as 'heron compare 1+3+5 2+4+6'.",
		quantity.Share(most), c.Noise)
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

// candidate sums one candidate up.
func (c *Result) candidate(number int, side Side, difference setup.Difference) Candidate {
	result := Candidate{Subject: Subject{Name: side.Name, Runs: side.Runs}, Difference: difference, Parts: []Part{}}
	var gains []float64
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
		if outcome.Ratio.Known() && !part.Unreliable && part.Gain > 0 {
			gains = append(gains, part.Gain)
		} else {
			result.LeftOut++
		}
		result.Parts = append(result.Parts, part)
	}
	slices.SortStableFunc(result.Parts, func(a, b Part) int { return cmp.Compare(b.Gain, a.Gain) })
	result.Index = judge.Index(gains)
	result.Words = sentence(result.Parts, c.Noise)
	return result
}

// inWords says what a ratio means, also where there is none for want of a value.
func inWords(f figure.Figure, baseline Values, o Outcome) string {
	switch {
	case o.Ratio.Value > 0:
		return f.InWords(o.Ratio.Value)
	case baseline.Taken.Mean == 0:
		return f.Label + " from nothing to " + f.Show(o.Taken.Mean)
	}
	return f.Label + " down to nothing"
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
