// Package twin fits a simulated array to what was measured of a real one. A few numbers of its
// description, the parameters, are changed until the simulation does what the array did, by
// least squares of the logarithms. It then says how well the measurements tell each of them,
// which they cannot tell apart, what would tell most, and how far off it is under loads that
// it was not shown.
//
//	fitted, err := twin.Fit{With: with, Observed: observed, Measure: simulated.Measure}.Run(ctx)
package twin

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/array"
	"patientheron/core/claim"
	"patientheron/core/figure"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
)

// ErrInvalid is wrapped by every error about a fit that cannot be.
var ErrInvalid = errors.New("impossible twin")

// Measure measures a fresh array under a load: for as long as that asks for, or for about so
// many operations where their number is not 0.
type Measure func(ctx context.Context, d array.Description, load workload.Spec, enough int) (measure.Summary, error)

// With is a description with some of its keys at other values. It fails when that is
// impossible.
type With func([]plan.Setting) (array.Description, error)

// Fit is what is fitted to what.
type Fit struct {
	With     With       // of the first guess
	Free     []string   // keys of the parameters to fit; none for all that the guess has
	Observed []Observed // under each load
	Seed     uint64     // of what is drawn; 0 means 1
	Measure  Measure
	Progress func(HowNear) // told by one goroutine at a time; nil when nobody asks
}

// HowNear is how far a fit is.
type HowNear struct {
	Step  string  `json:"step" doc:"What is being done"`
	Tried int     `json:"tried" doc:"Simulations so far"`
	Off   float64 `json:"off,omitempty" doc:"How far the best twin so far is off, as a share; absent before there is one"`
}

// Fitted is a twin, with what is known of it.
type Fitted struct {
	Parameters []FittedParameter `json:"parameters" doc:"Those that were fitted"`
	Correlated []Correlation     `json:"correlated" doc:"Parameters that the measurements cannot tell apart"`
	Loads      []Likeness        `json:"loads" doc:"What was measured under each load, and what the twin does"`
	Off        float64           `json:"off" doc:"Error on the loads of the fit, as a share: e to the root of the mean square of the logarithms, less 1. Outliers are excluded"`
	Unseen     *float64          `json:"unseen,omitempty" doc:"The same under loads that it was not shown; absent where there were too few"`
	Next       []Telling         `json:"next" doc:"Loads that would tell most, the best first"`
	Covariance [][]float64       `json:"covariance" doc:"Of the logarithms of the parameters, in their order"`
	Tried      int               `json:"tried" doc:"Simulations that it took"`
	Seed       uint64            `json:"seed"`
	Claims     []claim.Claim     `json:"claims" doc:"What to know of it, each with what it is said of"`
	Words      []string          `json:"words" doc:"What to know of it, in sentences"`
	LeftOut    []string          `json:"leftOut" doc:"Measurements that were not used, and why"`
}

// Knowledge is how well the measurements tell a parameter.
type Knowledge string

// How well a parameter is told.
const (
	Well    Knowledge = "well"    // within a tenth, in 95 of 100 cases
	Roughly Knowledge = "roughly" // within a factor of one and a half
	Hardly  Knowledge = "hardly"
)

// FittedParameter is a parameter that was fitted.
type FittedParameter struct {
	Key    string         `json:"key" doc:"As an array file names it"`
	Label  string         `json:"label"`
	Unit   string         `json:"unit,omitempty" enum:"seconds,bytes per second,per second"`
	Guess  float64        `json:"guess"`
	Value  float64        `json:"value"`
	Low    float64        `json:"low" doc:"Of the 95 % interval"`
	High   float64        `json:"high"`
	Known  Knowledge      `json:"known" enum:"well,roughly,hardly"`
	Set    []plan.Setting `json:"set" doc:"Keys of the array file, with what goes along in proportion"`
	Shown  string         `json:"shown" doc:"For people"`
	Spread string         `json:"spread" doc:"The interval, for people"`
}

// Correlation is two parameters that the measurements tell only together.
type Correlation struct {
	Keys  [2]string `json:"keys"`
	Words string    `json:"words"`
}

// Likeness is how near the twin is in one figure of one load.
type Likeness struct {
	Name     string   `json:"name"`
	Figure   string   `json:"figure" doc:"Key of the figure"`
	Label    string   `json:"label"`
	Unit     string   `json:"unit"`
	Measured float64  `json:"measured" doc:"Geometric mean of the repeats"`
	Count    int      `json:"count" doc:"Measurements"`
	Twin     float64  `json:"twin" doc:"What the twin does"`
	Off      float64  `json:"off" doc:"How much more the twin does, as a share"`
	Outlier  bool     `json:"outlier,omitempty" doc:"It is so far off that it has little weight in the fit, and is excluded from the error"`
	Unseen   *float64 `json:"unseen,omitempty" doc:"What a twin does that was fitted without this load"`
	UnseenBy *float64 `json:"unseenBy,omitempty" doc:"How much more that is than what was measured, as a share"`
}

// Telling is a load that would tell of the parameters.
type Telling struct {
	Load  workload.Spec `json:"load"`
	Words string        `json:"words"`
}

// Settings are the keys that make the guess the twin.
func (f Fitted) Settings() (all []plan.Setting) {
	for _, p := range f.Parameters {
		all = append(all, p.Set...)
	}
	return all
}

// Observed is what was measured under one load.
type Observed struct {
	Name    string
	Load    workload.Spec
	Rate    float64 // operations a second
	Figures []Value
}

// Value is a figure of several repeats.
type Value struct {
	Figure    string
	Log       float64 // mean of the logarithms
	Deviation float64 // standard deviation of that mean; what it cannot be less than is for the fit
	Count     int
}

// Sample is one measurement of the real array.
type Sample struct {
	Name    string // of its stage, and its point
	Load    workload.Spec
	Summary *measure.Summary
	Doubt   string // why it is not to be trusted; "" when it is
}

// Observe sorts measurements by their loads. What cannot be used is named, with the reason.
func Observe(samples []Sample) (all []Observed, leftOut []string) {
	of := map[string][]Sample{}
	var order []string
	for _, s := range samples {
		why := unfit(s)
		if why != "" {
			if words := fmt.Sprintf("%s: %s", s.Name, why); !slices.Contains(leftOut, words) {
				leftOut = append(leftOut, words)
			}
			continue
		}
		key := s.Load.Key()
		if of[key] == nil {
			order = append(order, key)
		}
		of[key] = append(of[key], s)
	}
	for _, key := range order {
		o := Observed{Name: of[key][0].Name, Load: of[key][0].Load}
		for _, s := range of[key] {
			o.Rate += float64(s.Summary.Total.Rate) / float64(len(of[key]))
		}
		for _, f := range fitting(o.Load) {
			if v, ok := valueOf(f, of[key]); ok {
				o.Figures = append(o.Figures, v)
			}
		}
		if len(o.Figures) > 0 {
			all = append(all, o)
		} else {
			leftOut = append(leftOut, o.Name+": no figure of it can be fitted")
		}
	}
	return apartByName(all), leftOut
}

// apartByName tells loads of one name apart by what they do.
func apartByName(all []Observed) []Observed {
	named := map[string]int{}
	for _, o := range all {
		named[o.Name]++
	}
	for i, o := range all {
		if named[o.Name] > 1 {
			all[i].Name = fmt.Sprintf("%s (%s)", o.Name, o.Load.Describe())
		}
	}
	return all
}

// unfit says why a measurement cannot be used; "" when it can.
func unfit(s Sample) string {
	switch {
	case s.Summary == nil:
		return "there is no result"
	case s.Doubt != "":
		return "it is unreliable: " + s.Doubt
	}
	return unlike(s.Load)
}

// unlike says why no simulated array does what real ones do under a load; "" when it may.
func unlike(load workload.Spec) string {
	load = load.Completed()
	switch {
	case load.Several():
		return "the parts of a mixed load are not fitted"
	case load.Cached:
		return "the page cache may have answered"
	case load.Copies > 0, load.Zeroes > 0, load.Swaps > 0:
		return "simulated arrays have no offloaded copies, zeroing or compare-and-write"
	}
	return ""
}

// fitting are the figures of a load that are fitted: what matters most, or at a set rate the
// mean latency; and how long reads and writes took on average where there are both.
func fitting(load workload.Spec) (all []figure.Figure) {
	main := figure.Of(figure.Main(load))
	if load.Open() || load.Deadlines() {
		main = figure.Of("mean")
	}
	all = append(all, main)
	for _, f := range figure.For(load) {
		if f.Side != "" && strings.HasSuffix(f.Key, "-mean") && load.Traits().Plain {
			all = append(all, f)
		}
	}
	return all
}

func valueOf(f figure.Figure, samples []Sample) (v Value, ok bool) {
	v.Figure = f.Key
	var logs []float64
	for _, s := range samples {
		if value := f.Value(s.Summary); value > 0 && !math.IsInf(value, 0) {
			logs = append(logs, math.Log(value))
		}
	}
	if len(logs) == 0 {
		return v, false
	}
	v.Count = len(logs)
	for _, l := range logs {
		v.Log += l / float64(len(logs))
	}
	squares := 0.0
	for _, l := range logs {
		squares += (l - v.Log) * (l - v.Log)
	}
	if n := float64(len(logs)); n > 1 {
		v.Deviation = math.Sqrt(squares / (n - 1) / n)
	}
	return v, true
}
