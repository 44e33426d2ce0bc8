package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/figure"
	"patientheron/core/judge"
)

// Values is what one side has of a figure.
type Values struct {
	judge.Repeated
	Unreliable string     `json:"unreliable,omitempty" doc:"Why not to trust it"`
	Reason     string     `json:"reason,omitempty" doc:"Why there is no value"`
	Remark     string     `json:"remark,omitempty" doc:"Which of the values are compared, when not all are, and which are zero"`
	Taken      judge.Mean `json:"taken" doc:"Mean of the values that are compared: the geometric one, with its interval, unless a value is zero"`
	All        []float64  `json:"all,omitempty" doc:"Of all repeats, in the order in which they were measured; absent where values has all of them"`
	Idle       int        `json:"idle,omitempty" doc:"Repeats in which nothing moved"`
	Done       float64    `json:"done" doc:"Share of the set rate that was done, in the repeat that did least; 1 when the rate was kept, or none was set"`
	Engine     bool       `json:"engine,omitempty" doc:"It was the engine itself that could not keep the rate"`

	compared []float64 // those that stand for what the side does once it is warm
	pairs    []pair    // what each of them was measured together with
	runs     int       // that they come from
}

// severalPhases reports whether a measurement had more than one level.
func severalPhases(of []Sample) bool {
	return slices.ContainsFunc(of, func(s Sample) bool {
		return s.Summary != nil && s.Summary.Phases != nil && len(s.Summary.Phases.List) > 1
	})
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
	v := Values{Done: 1}
	unkept := ""
	perRun, passes, order := map[int64][]float64{}, map[int64]int{}, []int64{}
	pairs := map[int64][]pair{}
	for _, s := range samples {
		passes[s.Run]++
		pass := passes[s.Run]
		if s.Summary == nil {
			v.Reason = cmp.Or(s.Reason, "it has no result")
			continue
		}
		value := f.Value(s.Summary)
		if math.IsNaN(value) || math.IsInf(value, 0) || value < 0 || value == 0 && f.Unit == "seconds" {
			v.Reason = cmp.Or(f.None, "the measurement has no "+f.Label)
			continue
		}
		v.All = append(v.All, value)
		known := s.Known()
		v.Unreliable = cmp.Or(known.Doubt(f.Side), v.Unreliable)
		if pass < which.from || which.to > 0 && pass > which.to {
			continue
		}
		if known.Unkept != "" && f.Waits {
			unkept, v.Done, v.Engine = known.Unkept, min(v.Done, known.Done), v.Engine || known.Engine
		}
		if perRun[s.Run] == nil {
			order = append(order, s.Run)
		}
		perRun[s.Run] = append(perRun[s.Run], value)
		pairs[s.Run] = append(pairs[s.Run], s.pair(false))
	}
	if unkept != "" { // of the others alone it would be that of those that had it easy
		order, v.All, v.Reason = nil, nil, unkept
	}
	kept := 0
	for _, run := range order {
		kept += len(perRun[run])
		if len(order) < 3 {
			v.compared, v.pairs = append(v.compared, perRun[run]...), append(v.pairs, pairs[run]...)
			continue
		}
		v.compared, v.pairs = append(v.compared, judge.MeanOfRepeats(perRun[run]).Mean), append(v.pairs, pair{joint: pairs[run][0].joint})
	}
	v.runs = len(order)
	v.Repeated = judge.Repeats(v.compared)
	v.Taken = v.Repeated.Centre()
	for _, value := range v.compared {
		if value == 0 && f.Unit != "share" {
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
			words = append(words, "it was still changing at the end")
		}
	}
	if idle > 0 {
		words = append(words, fmt.Sprintf("nothing moved in %d of %d", idle, kept))
	}
	return strings.Join(words, "; ")
}

// mainOf is the key of the figure that matters most at a point: where a set rate was not kept
// on a side, what was done of it, since latency is no figure then.
func mainOf(sides ...[]Sample) string {
	var main string
	for _, of := range sides {
		for _, s := range of {
			switch {
			case main == "":
				main = figure.Main(s.Load)
			case s.As != "" && len(sides[0]) > 0:
				_, main = figure.Common(sides[0][0].Load, s.Load)
			}
			if figure.Of(main).Waits && s.Known().Unkept != "" {
				main = figure.Done(s.Load)
			}
			if s.Half && main == "p99" { // which parts of a measurement have none of
				main = "mean"
			}
		}
	}
	return main
}
