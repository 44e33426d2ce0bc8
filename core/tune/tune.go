// Package tune finds out which of several parameters matter for a load, and at which
// values: it says what an experiment measures next, and what came of it.
//
// An experiment has two halves of several rounds. In each round of the first every value
// is measured once, alone beside the baseline, which is measured several times, all in
// shuffled order. What looks promising is measured together in the second half, whole and
// with one of its parameters taken back at a time, beside the baseline again: what was
// chosen because it looked best looks better than it is, so that what is said of it in the
// end rests on the second half alone. Values that the other side of a session did not take
// are told apart from those without an effect.
//
//	e := tune.New(steps[0])
//	for step, more := e.Next(); more; step, more = e.Next() {
//		e.Measured(tune.TrialOf(step, …))
//	}
//	answer := e.Answer()
package tune

import (
	"math"
	"math/rand/v2"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/measure"
	"patientheron/core/plan"
)

// Trial is one measurement of an experiment.
type Trial struct {
	Point  []plan.Setting
	Repeat int
	Value  float64          // of the figure; not a number where there is none
	Beside float64          // of the figure that is told along with it
	Failed string           // why there is no value; "" where there is one
	Keys   []measure.Agreed // of its sessions, one for each key, preferring what was not taken
	Doubt  bool             // a finding says not to trust it
}

// TrialOf is a measurement that a step asked for as a trial.
func TrialOf(point []plan.Setting, repeat int, f figure.Figure, s *measure.Summary, failed string) Trial {
	t := Trial{Point: point, Repeat: repeat, Value: math.NaN(), Beside: math.NaN(), Failed: failed}
	if s == nil {
		return t
	}
	for _, session := range s.Sessions {
		for _, k := range session.Keys {
			i := slices.IndexFunc(t.Keys, func(have measure.Agreed) bool { return have.Key == k.Key })
			if i < 0 {
				t.Keys = append(t.Keys, k)
			} else if t.Keys[i].Cut == "" {
				t.Keys[i] = k
			}
		}
	}
	if failed == "" {
		t.Value, t.Beside = f.Value(s), beside(f).Value(s)
	}
	return t
}

// beside is the figure that is told along with another: what a rate costs in latency, and
// a latency in rate.
func beside(f figure.Figure) figure.Figure {
	switch {
	case f.Key == "files" || f.Key == "finish":
		return figure.Of("file-p99")
	case f.Lower || f.Key == "requests":
		return figure.Of("throughput")
	}
	return figure.Of("p99")
}

// key finds what was agreed on for a key; nil for what is none.
func (t Trial) key(name string) *measure.Agreed {
	if i := slices.IndexFunc(t.Keys, func(k measure.Agreed) bool { return k.Key == name }); i >= 0 {
		return &t.Keys[i]
	}
	return nil
}

// Experiment says what to measure next. It is not safe for concurrent use.
type Experiment struct {
	base   plan.Step
	tune   plan.Tune
	random *rand.Rand
	trials []Trial
	done   int         // measurements that were given
	round  int         // that is under way, from 1; 0 before the first
	left   []plan.Step // of that round
	sought [][]plan.Setting
}

// New begins an experiment around a step that measures the baseline.
func New(base plan.Step) *Experiment {
	return &Experiment{base: base, tune: *base.Tune, random: rand.New(rand.NewPCG(base.Load.Completed().Seed, 0x7e57))}
}

// Next is what to measure next; false when enough is known.
func (e *Experiment) Next() (plan.Step, bool) {
	for len(e.left) == 0 {
		if e.round == 2*e.tune.Rounds || !e.begin() {
			return plan.Step{}, false
		}
	}
	step := e.left[0]
	e.left = e.left[1:]
	// The same operations again would find everything cached.
	step.Load.Seed = e.base.Load.Completed().Seed + uint64(e.done)
	e.done++
	return step, true
}

// begin begins the next round, and reports whether there is anything to measure in it.
func (e *Experiment) begin() bool {
	e.round++
	switch {
	case e.round == 1:
		for _, single := range e.tune.Singles() {
			e.sought = append(e.sought, []plan.Setting{single})
		}
	case !e.hasBaseline():
		return false
	case e.round <= e.tune.Rounds:
		known := analyse(e.tune, e.base, e.trials)
		e.sought = slices.DeleteFunc(e.sought, func(settings []plan.Setting) bool { return known.hopeless(settings[0]) })
	case e.round == e.tune.Rounds+1:
		known := analyse(e.tune, e.base, e.trials)
		settings := known.promising(e.tune)
		if len(settings) == 0 { // each by itself does nothing; together they may
			settings = known.harmless(e.tune)
		}
		e.sought = around(settings)
	}
	if len(e.sought) == 0 {
		e.round = 2 * e.tune.Rounds
		return false
	}
	var others []plan.Step
	for _, settings := range e.sought {
		step, err := e.base.With(settings...)
		if err == nil {
			err = step.Load.Validate()
		}
		if err != nil { // such as a depth beside so many workers; alone each of them is possible
			continue
		}
		step.Repeat, step.Repeats = e.round, 2*e.tune.Rounds
		others = append(others, step)
	}
	e.random.Shuffle(len(others), func(i, j int) { others[i], others[j] = others[j], others[i] })
	// The baseline is spread evenly over the round, so that a drift is seen, from a place
	// that is drawn, so that it comes neither before nor after the others.
	baselines := e.tune.Baselines()
	all := len(others) + baselines
	offset := e.random.Float64()
	for n := range baselines {
		step := e.base
		step.Point, step.Repeat, step.Repeats = nil, (e.round-1)*baselines+n+1, 2*e.tune.Rounds*baselines
		others = slices.Insert(others, int((float64(n)+offset)*float64(all)/float64(baselines)), step)
	}
	e.left = others
	return true
}

// Figure is the one that is to become better.
func (e *Experiment) Figure() figure.Figure { return e.tune.FigureOf(e.base.Load) }

// Measured tells what came of what Next gave.
func (e *Experiment) Measured(t Trial) { e.trials = append(e.trials, t) }

// hasBaseline reports whether there is anything to compare with.
func (e *Experiment) hasBaseline() bool {
	return slices.ContainsFunc(e.trials, func(t Trial) bool { return len(t.Point) == 0 && !math.IsNaN(t.Value) })
}

// around are the settings of a second half: all together, and all but one of them.
func around(promising []plan.Setting) (sought [][]plan.Setting) {
	if len(promising) == 0 {
		return nil
	}
	sought = append(sought, promising)
	for i := range promising {
		if len(promising) > 1 {
			sought = append(sought, slices.Delete(slices.Clone(promising), i, i+1))
		}
	}
	return sought
}

// Answer says what came of what was measured so far.
func (e *Experiment) Answer() Answer { return Analyse(e.base, e.trials) }
