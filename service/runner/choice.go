package runner

import (
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/tune"
	"patientheron/resource"
)

// choice says what the steps of a stage measure, where that hangs on what was measured
// before.
type choice interface {
	// next is what to measure in place of a step; false when enough is known.
	next(plan.Step) (step plan.Step, more bool, err error)
	measured(resource.Measurement)
}

// choiceOf is what chooses the measurements of a step's stage; nil for a stage whose steps
// say themselves what they measure.
func choiceOf(step plan.Step) choice {
	switch {
	case step.Fit != nil:
		return &fitting{*step.Fit, plan.NewSearch(*step.Fit, step.Repeats)}
	case step.Tune != nil:
		return &tuning{tune.New(step)}
	}
	return nil
}

// fitting looks for what fits.
type fitting struct {
	fit    plan.Fit
	search *plan.Search
}

func (f *fitting) next(step plan.Step) (plan.Step, bool, error) {
	value, repeat, more := f.search.Next()
	if !more {
		return step, false, nil
	}
	step, err := step.At(value, repeat)
	return step, true, err
}

func (f *fitting) measured(m resource.Measurement) {
	f.search.Measured(m.Status == resource.Finished && judge.Carried(m.Summary, m.Load, f.fit.Late))
}

// tuning finds out which parameters matter.
type tuning struct{ experiment *tune.Experiment }

func (t *tuning) next(step plan.Step) (plan.Step, bool, error) {
	chosen, more := t.experiment.Next()
	chosen.Stage, chosen.Name, chosen.Settle = step.Stage, step.Name, step.Settle
	return chosen, more, nil
}

func (t *tuning) measured(m resource.Measurement) {
	t.experiment.Measured(m.Trial(t.experiment.Figure()))
}
