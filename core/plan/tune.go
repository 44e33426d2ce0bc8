package plan

import (
	"fmt"
	"math"
	"slices"

	"patientheron/core/figure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Tune makes a stage an experiment: which of several parameters matter, and at which
// values they are best. In a first half each value is measured alone beside the baseline,
// which is the load and the volume as they are; in a second half what looks promising is
// measured together.
type Tune struct {
	Parameters []Tried          `json:"parameters" yaml:"parameters" minItems:"1" maxItems:"24" doc:"Fields and the values to try beside the one of the baseline"`
	Figure     string           `json:"figure,omitempty" yaml:"figure,omitempty" doc:"Key of the figure that shall become better; by default the one that matters most for the load"`
	Rounds     int              `json:"rounds,omitempty" yaml:"rounds,omitempty" minimum:"0" maximum:"100" doc:"How often each value is measured in either half; 0 for as many as fit into the time, or five"`
	Budget     quantity.Seconds `json:"budgetSeconds,omitempty" yaml:"budget,omitempty" minimum:"0" maximum:"604800" doc:"Time for the whole experiment, from which the rounds are worked out"`
}

// Tried is a parameter with the values that are tried of it.
type Tried struct {
	Axis
	Now string `json:"now,omitempty" yaml:"now,omitempty" maxLength:"200" doc:"Its value in the baseline, for the record, where the heron cannot know it"`
}

// Rounds of each half of an experiment: without three nothing can be told from chance.
const (
	fewestRounds = 3
	usualRounds  = 5
	mostRounds   = 100
)

// around is what a measurement of an experiment takes beyond what its load says, about.
const around quantity.Seconds = 0.5

// mostTogether is how many parameters are measured together at most.
const mostTogether = 6

// Baselines is how often the baseline is measured in each round. It is what all values are
// compared with, so that its own error should be small beside theirs: the square root of
// their number spends the time best (Dunnett 1955).
func (t Tune) Baselines() int {
	return max(int(math.Round(math.Sqrt(float64(len(t.Singles()))))), 1)
}

// Singles are the values to try, each alone.
func (t Tune) Singles() (singles []Setting) {
	for _, axis := range t.Parameters {
		name, _, err := axis.field()
		if err != nil {
			continue
		}
		values, err := axis.Expand()
		if err != nil {
			continue
		}
		for _, value := range values {
			singles = append(singles, Setting{name, value})
		}
	}
	return singles
}

// MostTogether is how many parameters the second half takes together at most.
func (t Tune) MostTogether() int { return min(len(t.Parameters), mostTogether) }

// ofRound is the number of measurements in a round of the first and of the second half.
func (t Tune) ofRound() (first, second int) {
	second = t.Baselines() + 1
	if most := t.MostTogether(); most > 1 {
		second += most // all but one of them
	}
	return t.Baselines() + len(t.Singles()), second
}

// In is how many rounds either half has, for measurements that take so long. The error
// is about a time that is too short.
func (t Tune) In(each quantity.Seconds) (int, error) {
	if t.Rounds > 0 || t.Budget == 0 {
		rounds := t.Rounds
		if rounds == 0 {
			rounds = usualRounds
		}
		return rounds, nil
	}
	first, second := t.ofRound()
	rounds := int(t.Budget / (each * quantity.Seconds(first+second)))
	if rounds < fewestRounds {
		least := each * quantity.Seconds(fewestRounds*(first+second))
		return 0, fmt.Errorf("%w: three rounds of each half take about %s, and %s were given; give more, try fewer values, or use a shorter load", ErrInvalid, least, t.Budget)
	}
	return min(rounds, mostRounds), nil
}

// validate reports an experiment that cannot be.
func (t Tune) validate(s Stage, load workload.Spec) error {
	switch {
	case len(s.Sweep) > 0 || s.Shuffle:
		return fmt.Errorf("%w: an experiment has no sweep, and its order is shuffled anyway; name what is to be tried as parameters", ErrInvalid)
	case s.Repeats > 1:
		return fmt.Errorf("%w: an experiment has rounds instead of repeats; give those", ErrInvalid)
	case s.Precondition != nil:
		return fmt.Errorf("%w: preconditioning has nothing to tune; make it a stage of its own", ErrInvalid)
	case load.Traits().Source != "":
		return fmt.Errorf("%w: files that are put from a folder cannot be tuned; make them in memory", ErrInvalid)
	case len(t.Parameters) == 0:
		return fmt.Errorf("%w: there are no parameters to try; name some, such as depth with 4 and 64", ErrInvalid)
	case len(t.Parameters) > 24:
		return fmt.Errorf("%w: %d parameters; at most 24", ErrInvalid, len(t.Parameters))
	case t.Rounds < 0 || t.Rounds > mostRounds || t.Rounds > 0 && t.Rounds < fewestRounds:
		return fmt.Errorf("%w: %d rounds; from %d to %d", ErrInvalid, t.Rounds, fewestRounds, mostRounds)
	case !(t.Budget >= 0 && t.Budget <= 7*86400):
		return fmt.Errorf("%w: an experiment takes at most a week", ErrInvalid)
	}
	if t.Figure != "" {
		f, err := figure.Lookup(t.Figure)
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(figure.For(load), func(has figure.Figure) bool { return has.Key == f.Key }) {
			return fmt.Errorf("%w: the load has no %s; take another figure", ErrInvalid, f.Label)
		}
	}
	var fields []string
	for _, axis := range t.Parameters {
		name, _, err := axis.field()
		if err != nil {
			return err
		}
		if slices.Contains(fields, name) {
			return fmt.Errorf("%w: %s stands twice among the parameters; name all its values at once", ErrInvalid, name)
		}
		fields = append(fields, name)
		values, err := axis.Expand()
		if err != nil {
			return err
		}
		for i, value := range values {
			if slices.Contains(values[:i], value) {
				return fmt.Errorf("%w: %s is tried at %s twice", ErrInvalid, name, value)
			}
		}
	}
	return nil
}

// FigureOf is the figure that an experiment with a load makes better.
func (t Tune) FigureOf(load workload.Spec) figure.Figure {
	if t.Figure != "" {
		if f, err := figure.Lookup(t.Figure); err == nil {
			return f
		}
	}
	return figure.Of(figure.Main(load))
}

// With is the step with some settings in place of those of the baseline.
func (s Step) With(settings ...Setting) (Step, error) {
	s.Point = nil
	for _, setting := range settings {
		name, set, err := Axis{Field: setting.Field}.field()
		if err != nil {
			return s, err
		}
		if err := set(&s.Load, setting.Value); err != nil {
			return s, err
		}
		s.Point = append(s.Point, Setting{name, setting.Value})
	}
	return s, nil
}

// tuneSteps are as many steps as an experiment may take. Those of its first half say what
// they measure; the order, and what the second half measures, is chosen as they come.
func (s Stage) tuneSteps(load workload.Spec) ([]Step, error) {
	if err := s.Tune.validate(s, load); err != nil {
		return nil, err
	}
	tune := *s.Tune
	of := load.Completed()
	var err error
	if of.For == 0 && tune.Rounds == 0 && tune.Budget > 0 {
		return nil, fmt.Errorf("%w: how long a measurement takes that ends by what it has done is not known; give the rounds instead of the time", ErrInvalid)
	}
	if tune.Rounds, err = tune.In(of.WarmUp + of.For + s.Settle.Pause + around); err != nil {
		return nil, err
	}
	baseline := Step{Load: load, Tune: &tune, Repeat: 1, Repeats: tune.Rounds}
	if err := load.Validate(); err != nil {
		return nil, err
	}
	first, second := tune.ofRound()
	if tune.Rounds*(first+second) > limit {
		return nil, fmt.Errorf("%w: it asks for more than %d measurements; try fewer values", ErrInvalid, limit)
	}
	steps := make([]Step, 0, tune.Rounds*(first+second))
	for range tune.Rounds {
		for range tune.Baselines() {
			steps = append(steps, baseline)
		}
		for _, single := range tune.Singles() {
			step, err := baseline.With(single)
			if err == nil {
				err = step.Load.Validate()
			}
			if err != nil {
				return nil, fmt.Errorf("at %s: %w", Describe([]Setting{single}), err)
			}
			steps = append(steps, step)
		}
	}
	for range tune.Rounds * second {
		steps = append(steps, baseline)
	}
	return steps, nil
}

// OfExperiment reports whether all steps are of experiments, whose parameters may be ones
// that the storage does not take.
func OfExperiment(steps []Step) bool {
	return !slices.ContainsFunc(steps, func(s Step) bool { return s.Tune == nil })
}
