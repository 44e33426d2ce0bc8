package tune

import (
	"cmp"
	"math"
	"slices"

	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Matter says whether a parameter makes a difference.
type Matter string

// What can be said of a parameter.
const (
	Matters   Matter = "matters"
	MattersNo Matter = "does not matter" // no value makes a difference of the noise or more
	NotShown  Matter = "not shown"       // neither is known
	NotTaken  Matter = "not taken"       // the other side of the session took none of the values
	Failed    Matter = "failed"          // nothing could be measured with any of them
)

// Answer is what came of an experiment, or what is known of it so far.
type Answer struct {
	Figure     string         `json:"figure" doc:"Key of the figure that was to become better"`
	Beside     string         `json:"beside" doc:"Key of the figure that is told along with it"`
	Noise      quantity.Share `json:"noise" doc:"Smallest difference that matters"`
	Rounds     int            `json:"rounds" doc:"Of each half"`
	Round      int            `json:"round" doc:"Rounds that were begun, of both halves"`
	Measured   int            `json:"measured" doc:"Measurements that gave a value"`
	Doubted    int            `json:"doubted,omitempty" doc:"Of those, how many are unreliable"`
	Resolution quantity.Share `json:"resolution,omitempty" doc:"Half of the interval of most values: a smaller difference could not be seen"`

	Baseline   judge.Repeated `json:"baseline"`
	Drift      judge.Trend    `json:"drift" doc:"Of the baseline, from its first measurement to its last"`
	Parameters []Parameter    `json:"parameters"`
	Together   *Together      `json:"together,omitempty" doc:"What looked promising, measured together in the second half"`
	Keep       []plan.Setting `json:"keep" doc:"Settings that are worth keeping; empty where the baseline is as good"`
	Brings     *judge.Ratio   `json:"brings,omitempty" doc:"What those together bring over the baseline; absent where they were not measured like that"`
	Claims     []claim.Claim  `json:"claims" doc:"What came of it, each with what it is said of"`
	Words      string         `json:"words" doc:"All of that"`
	Doubts     []claim.Claim  `json:"doubts" doc:"What to know before it is relied on"`
	Cautions   []string       `json:"cautions,omitempty" doc:"The same in words"`

	first bool // the first half was measured to its end
}

// Parameter is one of those that were tried.
type Parameter struct {
	Field    string  `json:"field"`
	Baseline string  `json:"baseline,omitempty" doc:"Its value in the baseline, where it is known"`
	InEffect string  `json:"inEffect,omitempty" doc:"What of that was in effect, where the other side did not take it"`
	From     string  `json:"from" doc:"Both, in words"`
	Matter   Matter  `json:"matter" enum:"matters,does not matter,not shown,not taken,failed"`
	Best     string  `json:"best,omitempty" doc:"The value that is better than the baseline by most; absent where none is"`
	Values   []Value `json:"values"`
}

// Value is a parameter at one of the values that were tried.
type Value struct {
	Value    string      `json:"value"`
	InEffect string      `json:"inEffect,omitempty" doc:"What was in effect instead, where the other side did not take the value"`
	Refused  bool        `json:"refused,omitempty" doc:"The other side did not take it, and what was in effect is what the baseline has: nothing is known of the value"`
	Failed   string      `json:"failed,omitempty" doc:"Why it could not be measured"`
	Values   []float64   `json:"values" doc:"Of the figure, in the order in which they were measured"`
	Ratio    judge.Ratio `json:"ratio" doc:"Over the baseline"`
	Beside   judge.Ratio `json:"beside" doc:"Of the figure beside it"`
	Told
}

// Told is what a ratio and its interval say in words, and that of the figure beside it; each
// is empty where there is nothing to tell.
type Told struct {
	Words       string `json:"words" doc:"What it did, or why that is not known"`
	Between     string `json:"between,omitempty" doc:"The 95 % interval"`
	BesideWords string `json:"besideWords,omitempty" doc:"What it did to the figure beside it, where that is shown"`
}

// Together is what the second half showed of the settings that looked promising.
type Together struct {
	Settings []plan.Setting `json:"settings"`
	Ratio    judge.Ratio    `json:"ratio" doc:"Over the baseline"`
	Beside   judge.Ratio    `json:"beside"`
	Without  []Without      `json:"without" doc:"Each of the settings taken back, the others kept; empty where there is but one"`
	Told
}

// Without is what taking one of several settings back does.
type Without struct {
	Setting plan.Setting `json:"setting"`
	Ratio   judge.Ratio  `json:"ratio" doc:"Over all of them together"`
	Base    judge.Ratio  `json:"base" doc:"Over the baseline"`
	Told
}

// Analyse says what trials show of an experiment around a baseline.
func Analyse(base plan.Step, trials []Trial) Answer {
	a := analyse(*base.Tune, base, trials)
	a.second(*base.Tune, trials)
	a.tell()
	a.say()
	return a
}

// roundOf is the round that a trial belongs to, from 1.
func roundOf(t plan.Tune, trial Trial) int {
	if len(trial.Point) > 0 {
		return trial.Repeat
	}
	return (trial.Repeat-1)/t.Baselines() + 1
}

// analyse says what the first half shows.
func analyse(t plan.Tune, base plan.Step, trials []Trial) Answer {
	f := t.FigureOf(base.Load)
	a := Answer{Figure: f.Key, Beside: beside(f).Key, Noise: compare.Noise, Rounds: t.Rounds, Keep: []plan.Setting{}, Parameters: []Parameter{}}
	var baselines []float64
	var ofBaseline Trial
	for _, trial := range trials {
		a.Round = max(a.Round, roundOf(t, trial))
		if !math.IsNaN(trial.Value) {
			a.Measured++
			if trial.Doubt {
				a.Doubted++
			}
		}
		if len(trial.Point) == 0 {
			baselines = append(baselines, trial.Value)
			if ofBaseline.Keys == nil {
				ofBaseline = trial
			}
		}
	}
	a.Baseline, a.Drift = judge.Repeats(baselines), judge.TrendOf(judge.Repeats(baselines).Values)

	singles := t.Singles()
	points := make([][]plan.Setting, len(singles))
	for i, single := range singles {
		points[i] = []plan.Setting{single}
	}
	ratios := judge.CompareRounds(rounds(t, trials, 1, nil, points, Trial.value), a.Noise)
	besides := judge.CompareRounds(rounds(t, trials, 1, nil, points, Trial.besideValue), a.Noise)
	var decided, others []judge.Decided
	var halves []float64
	for i, single := range singles {
		v := Value{Value: single.Value, Values: []float64{}}
		for _, trial := range trials {
			if !slices.Equal(trial.Point, points[i]) || roundOf(t, trial) > t.Rounds {
				continue
			}
			v.Failed = cmp.Or(trial.Failed, v.Failed)
			if !math.IsNaN(trial.Value) {
				v.Values = append(v.Values, trial.Value)
			}
			if k := trial.key(single.Field); k != nil && k.Cut == "target" {
				v.InEffect = k.InEffect
				was := ofBaseline.key(single.Field)
				v.Refused = was != nil && was.InEffect == k.InEffect
			}
		}
		if i < len(ratios) {
			v.Ratio, v.Beside = ratios[i], besides[i]
		} else {
			v.Ratio, v.Beside = judge.Ratio{Verdict: judge.Missing}, judge.Ratio{Verdict: judge.Missing}
		}
		a.add(single.Field, v, base, ofBaseline)
	}
	for p := range a.Parameters {
		for i := range a.Parameters[p].Values {
			v := &a.Parameters[p].Values[i]
			if v.Refused {
				continue
			}
			decided = append(decided, judge.Decided{Ratio: &v.Ratio, Lower: f.Lower, Main: true})
			others = append(others, judge.Decided{Ratio: &v.Beside, Lower: beside(f).Lower, Main: true})
			if v.Ratio.Known() {
				halves = append(halves, v.Ratio.Half())
			}
		}
	}
	judge.Decide(decided, a.Noise)
	judge.Decide(others, a.Noise)
	if len(halves) > 0 {
		slices.Sort(halves)
		a.Resolution = quantity.Share(math.Expm1(halves[len(halves)/2]))
	}
	for i := range a.Parameters {
		a.Parameters[i].judge(f)
	}
	a.first = a.Round > a.Rounds || a.whole(t, trials)
	return a
}

// whole reports whether the last round of the first half was measured to its end: all that
// was worth measuring in it, and the baseline each time.
func (a *Answer) whole(t plan.Tune, trials []Trial) bool {
	in := map[string]int{}
	for _, trial := range trials {
		if roundOf(t, trial) == t.Rounds {
			in[plan.Describe(trial.Point)]++
		}
	}
	hopeless := 0
	for _, single := range t.Singles() {
		if a.hopeless(single) {
			hopeless++
		} else if in[plan.Describe([]plan.Setting{single})] == 0 {
			return false
		}
	}
	return in[""] == t.Baselines() || hopeless == len(t.Singles())
}

func (t Trial) value() float64       { return t.Value }
func (t Trial) besideValue() float64 { return t.Beside }

// add adds a value to its parameter.
func (a *Answer) add(field string, v Value, base plan.Step, ofBaseline Trial) {
	i := slices.IndexFunc(a.Parameters, func(p Parameter) bool { return p.Field == field })
	if i < 0 {
		p := Parameter{Field: field}
		if k := ofBaseline.key(field); k != nil {
			if p.Baseline = k.Offered; k.Cut != "" {
				p.InEffect = k.InEffect
			}
		} else if of, err := workload.Lookup(field); err == nil {
			p.Baseline = of.Get(base.Load.Completed())
		} else if n := slices.IndexFunc(base.Tune.Parameters, func(t plan.Tried) bool { return t.Field == field }); n >= 0 {
			p.Baseline = base.Tune.Parameters[n].Now
		}
		i, a.Parameters = len(a.Parameters), append(a.Parameters, p)
	}
	a.Parameters[i].Values = append(a.Parameters[i].Values, v)
}

// judge says whether a parameter matters, and which of its values is best.
func (p *Parameter) judge(f figure.Figure) {
	count := map[judge.Verdict]int{}
	refused, failed := 0, 0
	best := -1
	for i, v := range p.Values {
		switch {
		case v.Refused:
			refused++
			continue
		case v.Failed != "" && len(v.Values) == 0:
			failed++
			continue
		}
		count[v.Ratio.Verdict]++
		if v.Ratio.Verdict == judge.Better && (best < 0 || gain(f, v.Ratio) > gain(f, p.Values[best].Ratio)) {
			best = i
		}
	}
	switch tried := len(p.Values) - refused - failed; {
	case best >= 0:
		p.Matter, p.Best = Matters, p.Values[best].Value
	case count[judge.Worse] > 0:
		p.Matter = Matters
	case tried > 0 && count[judge.Same] == tried:
		p.Matter = MattersNo
	case tried > 0:
		p.Matter = NotShown
	case refused > 0:
		p.Matter = NotTaken
	default:
		p.Matter = Failed
	}
}

// gain is by how much a ratio is better than one, as a logarithm.
func gain(f figure.Figure, r judge.Ratio) float64 {
	if !(r.Value > 0) {
		return math.Inf(-1)
	}
	if f.Lower {
		return -math.Log(r.Value)
	}
	return math.Log(r.Value)
}

// value is what is known of a setting that was tried.
func (a *Answer) value(s plan.Setting) (of Value) {
	for _, p := range a.Parameters {
		for _, v := range p.Values {
			if p.Field == s.Field && v.Value == s.Value {
				return v
			}
		}
	}
	return of
}

// hopeless reports a setting that need not be measured again: it failed each time, or the
// other side did not take it, so that what is in effect is that of the baseline.
func (a *Answer) hopeless(s plan.Setting) bool {
	v := a.value(s)
	return v.Refused || v.Failed != "" && len(v.Values) == 0
}

// likely is the chance below which a value that is not shown to be better is worth
// measuring together with others.
const likely = 0.2

// promising are the settings that are worth measuring together: of each parameter the
// value that is better by most, where it is shown to be better or is likely to be.
func (a *Answer) promising(t plan.Tune) []plan.Setting {
	return a.bestOfEach(t, func(v Value, by float64) bool {
		return v.Ratio.Verdict == judge.Better || v.Ratio.Verdict == judge.NotShown && v.Ratio.Alone < likely && by >= math.Log1p(float64(a.Noise))
	})
}

// harmless are the settings that are worth measuring together where none is promising by
// itself: of each parameter the value that is best and not shown to be worse. Fewer than two
// have been measured already.
func (a *Answer) harmless(t plan.Tune) []plan.Setting {
	settings := a.bestOfEach(t, func(v Value, _ float64) bool {
		return v.Ratio.Verdict == judge.NotShown || v.Ratio.Verdict == judge.Same
	})
	if len(settings) < 2 {
		return nil
	}
	return settings
}

// bestOfEach is of each parameter the value that gains most, among those that may be: not what
// is in effect already. It takes as many parameters as can be measured together.
func (a *Answer) bestOfEach(t plan.Tune, may func(v Value, by float64) bool) (settings []plan.Setting) {
	f := figure.Of(a.Figure)
	gains := map[string]float64{}
	for _, p := range a.Parameters {
		best := plan.Setting{Field: p.Field}
		for _, v := range p.Values {
			by := gain(f, v.Ratio)
			if may(v, by) && !v.Refused && v.Value != p.Baseline && v.Value != p.InEffect && (best.Value == "" || by > gains[p.Field]) {
				best.Value, gains[p.Field] = v.Value, by
			}
		}
		if best.Value != "" {
			settings = append(settings, best)
		}
	}
	most := t.MostTogether()
	if len(settings) <= most {
		return settings
	}
	kept := slices.Clone(settings)
	slices.SortStableFunc(kept, func(a, b plan.Setting) int { return cmp.Compare(gains[b.Field], gains[a.Field]) })
	return slices.DeleteFunc(settings, func(s plan.Setting) bool { return !slices.Contains(kept[:most], s) })
}

// rounds are the rounds of a half, from 1, in which points were measured beside a
// baseline. Those without the baseline are left out.
func rounds(t plan.Tune, trials []Trial, half int, baseline []plan.Setting, points [][]plan.Setting, of func(Trial) float64) (all []judge.Round) {
	byRound := map[int]*judge.Round{}
	for _, trial := range trials {
		number := roundOf(t, trial)
		if number <= (half-1)*t.Rounds || number > half*t.Rounds || trial.Failed != "" || math.IsNaN(of(trial)) {
			continue
		}
		r := byRound[number]
		if r == nil {
			r = &judge.Round{Others: make([]float64, len(points))}
			for i := range r.Others {
				r.Others[i] = math.NaN()
			}
			byRound[number] = r
		}
		if slices.Equal(trial.Point, baseline) {
			r.Baseline = append(r.Baseline, of(trial))
		}
		for i, p := range points {
			if slices.Equal(trial.Point, p) {
				r.Others[i] = of(trial)
			}
		}
	}
	for number := (half-1)*t.Rounds + 1; number <= half*t.Rounds; number++ {
		if r := byRound[number]; r != nil && len(r.Baseline) > 0 {
			all = append(all, *r)
		}
	}
	return all
}

// second says what the second half shows, and what is worth keeping.
func (a *Answer) second(t plan.Tune, trials []Trial) {
	var all []plan.Setting // the longest point of the second half is all of them together
	for _, trial := range trials {
		if roundOf(t, trial) > t.Rounds && len(trial.Point) > len(all) {
			all = trial.Point
		}
	}
	if len(all) == 0 {
		return
	}
	f := figure.Of(a.Figure)
	sought := around(all)
	ratios := judge.CompareRounds(rounds(t, trials, 2, nil, sought, Trial.value), a.Noise)
	besides := judge.CompareRounds(rounds(t, trials, 2, nil, sought[:1], Trial.besideValue), a.Noise)
	if len(ratios) == 0 || len(besides) == 0 {
		return
	}
	together := Together{Settings: all, Ratio: ratios[0], Beside: besides[0], Without: []Without{}}
	decided := []judge.Decided{{Ratio: &together.Ratio, Lower: f.Lower, Main: true}}
	judge.Decide([]judge.Decided{{Ratio: &together.Beside, Lower: beside(f).Lower, Main: true}}, a.Noise)
	if len(all) > 1 {
		back := judge.CompareRounds(rounds(t, trials, 2, all, sought[1:], Trial.value), a.Noise)
		for i, setting := range all {
			w := Without{Setting: setting, Ratio: judge.Ratio{Verdict: judge.Missing}, Base: ratios[i+1]}
			if i < len(back) {
				w.Ratio = back[i]
			}
			together.Without = append(together.Without, w)
		}
		for i := range together.Without {
			w := &together.Without[i]
			decided = append(decided, judge.Decided{Ratio: &w.Ratio, Lower: f.Lower, Main: true}, judge.Decided{Ratio: &w.Base, Lower: f.Lower, Main: true})
		}
	}
	judge.Decide(decided, a.Noise)
	a.Together = &together
	a.keep()
}

// keep chooses what is worth keeping: all that was measured together, where that is better
// than the baseline, without what brings nothing beside the others. Of two that can stand in
// for each other neither brings anything beside the other; one of them is kept.
func (a *Answer) keep() {
	t := a.Together
	a.Keep = slices.Clone(t.Settings)
	f := figure.Of(a.Figure)
	var idle []Without // those that bring nothing beside the others
	for _, w := range t.Without {
		if w.Ratio.Verdict == judge.Same || w.Ratio.Verdict == judge.Better {
			idle = append(idle, w)
		}
	}
	alone := func(w Without) judge.Ratio { return a.value(w.Setting).Ratio }
	slices.SortStableFunc(idle, func(x, y Without) int { return cmp.Compare(gain(f, alone(x)), gain(f, alone(y))) })
	var dropped []Without
	spare := true // one that is better by itself may go
	for _, w := range idle {
		if alone(w).Verdict == judge.Better {
			if !spare {
				continue
			}
			spare = false
		}
		dropped = append(dropped, w)
		a.Keep = slices.DeleteFunc(a.Keep, func(s plan.Setting) bool { return s == w.Setting })
	}
	switch {
	case len(dropped) == 0:
		a.Brings = &t.Ratio
	case len(dropped) == 1:
		a.Brings = &dropped[0].Base
	}
	worth := t.Ratio.Verdict == judge.Better || a.Brings != nil && a.Brings.Verdict == judge.Better
	if !worth || len(a.Keep) == 0 {
		a.Keep, a.Brings = []plan.Setting{}, nil
	}
	for _, s := range a.Keep { // what is worth keeping matters, if only together with others
		for i := range a.Parameters {
			if p := &a.Parameters[i]; p.Field == s.Field {
				p.Matter, p.Best = Matters, s.Value
			}
		}
	}
}
