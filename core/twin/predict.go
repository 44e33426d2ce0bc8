package twin

import (
	"context"
	"fmt"
	"math"
	"slices"

	"patientheron/core/array"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/plan"
	"patientheron/core/workload"
)

// Predicting is what a twin is asked for: what it does, with some things changed, under loads.
type Predicting struct {
	With    With // of the twin
	Fitted  Fitted
	Changes []plan.Setting // keys of the array file that stand for what is to be another way
	Loads   []NamedLoad
	Measure Measure
}

// NamedLoad is a load under the name of its stage.
type NamedLoad struct {
	Name string        `json:"name"`
	Load workload.Spec `json:"load"`
}

// Predicted is what a twin predicts of one load.
type Predicted struct {
	NamedLoad
	Figures []FigurePredicted `json:"figures"`
	Caution string            `json:"caution,omitempty" doc:"Set when the twin is none, so that what it predicts stands for nothing"`
}

// FigurePredicted is one figure of it.
type FigurePredicted struct {
	Figure string  `json:"figure" doc:"Key of the figure"`
	Label  string  `json:"label"`
	Unit   string  `json:"unit"`
	Value  float64 `json:"value"`
	Low    float64 `json:"low" doc:"Of the 95 % interval: of what is not known of the parameters, of how far off the twin is under loads that it was not shown, and of what a measurement itself scatters by"`
	High   float64 `json:"high"`
	Words  string  `json:"words"`
}

// Confronted is a figure that was predicted, beside what was then measured.
type Confronted struct {
	Name     string          `json:"name"`
	Figure   FigurePredicted `json:"figure"`
	Measured *float64        `json:"measured,omitempty" doc:"Geometric mean of what was measured since; absent while nothing was"`
	Count    int             `json:"count" doc:"Measurements"`
	Off      *float64        `json:"off,omitempty" doc:"How much more was predicted than was measured, as a share"`
	Within   bool            `json:"within" doc:"What was measured is inside"`
	State    State           `json:"state,omitempty" enum:"inside,outside,not shown" doc:"How it stands to the interval that was predicted; absent while nothing was measured"`
	Words    string          `json:"words"`
}

// State says how what was measured stands to the interval that was predicted.
type State string

// The states.
const (
	Inside   State = "inside"    // it lies there, and is known better than it was predicted
	Outside  State = "outside"   // all of its own interval lies elsewhere
	NotShown State = "not shown" // it is itself known within more than that
)

// stateOf tells of what was measured, whose own interval goes so far on either side as a logarithm.
func (f FigurePredicted) stateOf(measured, own float64) State {
	in := measured >= f.Low && measured <= f.High
	switch {
	case measured*math.Exp(own) < f.Low, measured*math.Exp(-own) > f.High:
		return Outside
	case in && own <= math.Log(f.High/f.Low)/2:
		return Inside
	}
	return NotShown
}

// untried is how far off a twin is taken to be that was not tried on loads it was not shown.
const untried = 0.1

// mostPredicted is how many loads are predicted at a time.
const mostPredicted = 64

// ops of one simulation of what is predicted.
const predicting = 20_000

// Run predicts. Errors wrap ErrInvalid, or are those of the changes.
func (f Predicting) Run(ctx context.Context) ([]Predicted, error) {
	with := func(s []plan.Setting) (array.Description, error) { return f.With(slices.Concat(f.Changes, s)) }
	now, err := with(nil)
	if err != nil {
		return nil, err
	}
	if len(f.Loads) == 0 || len(f.Loads) > mostPredicted {
		return nil, fmt.Errorf("%w: %d loads are to be predicted; it can be 1 to %d", ErrInvalid, len(f.Loads), mostPredicted)
	}
	w := &fitter{Fit: Fit{With: with, Measure: f.Measure, Seed: max(f.Fitted.Seed, 1)}}
	var loads []workload.Spec
	for i, l := range f.Loads {
		if why := unlike(l.Load); why != "" {
			return nil, fmt.Errorf("%w: %q: %s", ErrInvalid, l.Name, why)
		}
		if reach, _ := l.Load.Completed().Reach(); reach > now.Size() {
			return nil, fmt.Errorf("%w: %q works on %s, and the array has %s", ErrInvalid, l.Name, reach, now.Size())
		}
		loads = append(loads, timed(l.Load))
		for _, of := range fitting(l.Load) {
			w.rows = append(w.rows, row{load: i, figure: of})
		}
	}
	steps := f.Fitted.moves(now)
	arrays := []*array.Description{&now}
	for _, s := range steps {
		if d, err := with(s.set); err == nil {
			arrays = append(arrays, &d)
		} else {
			arrays = append(arrays, nil)
		}
	}
	logs, err := w.simulate(ctx, arrays, loads, w.rows, predicting)
	if err != nil {
		return nil, err
	}
	if logs[0] == nil {
		return nil, fmt.Errorf("%w: the array does nothing under one of the loads", ErrInvalid)
	}
	caution := ""
	if !f.Fitted.alike() {
		caution = f.Fitted.claims()[0].Words
	}
	off := max(f.Fitted.Off, untried)
	if f.Fitted.Unseen != nil {
		off = max(f.Fitted.Off, *f.Fitted.Unseen)
	}
	all := make([]Predicted, len(loads))
	for i, l := range f.Loads {
		all[i] = Predicted{NamedLoad: l, Figures: []FigurePredicted{}, Caution: caution}
	}
	for r, of := range w.rows {
		slopes := make([]float64, len(f.Fitted.Parameters))
		for i, s := range steps {
			if logs[i+1] != nil && s.by != 0 {
				slopes[s.parameter] = (logs[i+1][r] - logs[0][r]) / s.by
			}
		}
		variance := math.Pow(math.Log1p(off), 2) + least*least
		for i := range slopes {
			for j := range slopes {
				variance += slopes[i] * slopes[j] * f.Fitted.Covariance[i][j]
			}
		}
		value, half := math.Exp(logs[0][r]), 1.96*math.Sqrt(max(variance, 0))
		told := FigurePredicted{Figure: of.figure.Key, Label: of.figure.Label, Unit: of.figure.Unit, Value: value, Low: value * math.Exp(-half), High: value * math.Exp(half)}
		told.Words = fmt.Sprintf("%s, %s to %s", of.figure.Show(value), of.figure.Show(told.Low), of.figure.Show(told.High))
		all[of.load].Figures = append(all[of.load].Figures, told)
	}
	return all, nil
}

// timed is a load that ends by time, where it would by what it moves: no rate hangs on that, and
// it may be more than can be simulated.
func timed(load workload.Spec) workload.Spec {
	if !load.Traits().OnFiles && (load.Amount > 0 || load.For == 0) {
		load.Amount, load.For = 0, max(load.For, 10)
	}
	return load
}

// move is a step of one parameter, as large as what is not known of it.
type move struct {
	parameter int
	set       []plan.Setting
	by        float64
}

// moves are the steps of the parameters that an array still has as the twin has them: one that
// was changed by hand is known.
func (f Fitted) moves(now array.Description) (all []move) {
	has := now.Parameters()
	for i, p := range f.Parameters {
		at := slices.IndexFunc(has, func(h array.Parameter) bool { return h.Key == p.Key })
		if at < 0 || math.Abs(math.Log(has[at].Value/p.Value)) > 1e-3 {
			continue
		}
		of := has[at]
		by := min(max(math.Sqrt(f.Covariance[i][i]), 0.05), 0.5)
		v := value(of, by)
		if of.Unit == "" && v == of.Value {
			v++
		}
		all = append(all, move{i, settings(of, v), math.Log(v / of.Value)})
	}
	return all
}

// Confront compares what was predicted with what was measured under loads that do the same.
func Confront(predicted []Predicted, samples []Sample) []Confronted {
	all := []Confronted{}
	for _, f := range predicted {
		var same []Sample
		for _, s := range samples {
			if unfit(s) == "" && compare.SameWork(s.Load, f.Load) {
				same = append(same, s)
			}
		}
		for _, of := range f.Figures {
			c := Confronted{Name: f.Name, Figure: of, Words: "predicted " + of.Words + "; not measured yet"}
			figure := figure.Of(of.Figure)
			if v, ok := valueOf(figure, same); ok {
				measured := math.Exp(v.Log)
				off := of.Value/measured - 1
				c.Measured, c.Count, c.Off = &measured, v.Count, &off
				// What was measured is itself known within its scatter only.
				c.State = of.stateOf(measured, student(float64(v.Count-1))*v.Deviation)
				c.Within = c.State == Inside
				c.Words = fmt.Sprintf("predicted %s; measured %s: %s", of.Words, figure.Show(measured), offWords(off, c.State))
			}
			all = append(all, c)
		}
	}
	return all
}

func offWords(off float64, state State) string {
	way := "too much"
	if off < 0 {
		way = "too little"
	}
	place := map[State]string{Inside: "inside the interval", Outside: "outside the interval", NotShown: "and not shown either way: the measurement is less precise than the prediction; measure it again"}[state]
	return fmt.Sprintf("%s %s, %s", percent(math.Abs(off)), way, place)
}
