package compare

import (
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/workload"
)

// Reached is what a side reached in one figure of some of its measurements.
type Reached struct {
	Mean         judge.Mean // with the spread from run to run in its interval
	BetweenRuns  float64    // half of the interval, as a logarithm, that this spread alone gives
	Values       Values
	Passes       judge.Passes
	Measurements []int64
	Cautions     []Caution
}

// Estimator answers what a side reached. It learns from the side's past once.
type Estimator struct {
	side  known
	usual float64
}

// Estimator prepares to answer what the side reached.
func (s Side) Estimator() Estimator { return Estimator{s.known(), group(s).usual()} }

// Of is what some measurements of the side, which do the same, came to in one figure:
// those that are warm, as in a comparison. None gives no value.
func (s Estimator) Of(samples []Sample, f figure.Figure) Reached {
	r := Reached{Measurements: numbers(samples), Cautions: cautions(s.side.Name, samples)}
	if len(samples) == 0 {
		return r
	}
	load := samples[0].Load
	r.Passes = passesOf(samples, figure.Of(mainOf(samples)), s.usual)
	r.Values = values(samples, f, which{from: r.Passes.Warm, going: r.Passes.Going})
	repetition := s.side.repetition(f.Key, r.Values, load.Key(), s.side)
	r.Mean, r.BetweenRuns = repetition.Mean(), repetition.BetweenRuns()
	return r
}

// SameWork reports whether two loads do the same, whatever they are called, however long
// they last and whatever is made of that time.
func SameWork(a, b workload.Spec) bool { return WorkKey(a) == WorkKey(b) }

// WorkKey names what a load does: loads of one key do the same work.
func WorkKey(load workload.Spec) string {
	ending := workload.Ending{Passes: load.Passes, Amount: load.Amount}
	load.Ending = ending
	return load.Key()
}
