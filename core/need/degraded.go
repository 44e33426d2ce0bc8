package need

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// State is what a setup is measured in beside its whole one.
type State string

// The states: a member is missing; another is filled in its place.
const (
	Degraded   State = "degraded"
	Rebuilding State = "rebuilding"
)

// States are all of them.
var States = []State{Degraded, Rebuilding}

// Meanwhile is how a setup stands to what its uses ask while it is in a state.
type Meanwhile struct {
	State     State            `json:"state" enum:"degraded,rebuilding"`
	Simulated bool             `json:"simulated" doc:"Measured of a simulated array; otherwise of storage that was in that state"`
	Standing  judge.Standing   `json:"standing" enum:"meets,falls short,not shown,not measured"`
	Verdicts  []Verdict        `json:"verdicts" doc:"Of the bounds of uses, which come first among the demands"`
	Lasts     quantity.Seconds `json:"lastsSeconds,omitempty" doc:"How long a member takes at the rate that it was filled at; absent where nothing was"`
	Words     string           `json:"words"`
}

// memberFails and memberRebuilt are the faults of an array file that put an array into its
// states from the beginning on.
const (
	memberFails   = "{kind: member fails, at: 0, member: 0}"
	memberRebuilt = "{kind: rebuild, at: 0, member: 0, rate: "
)

// faultsOf is the value of the key faults of an array file that makes a state.
func faultsOf(s State, rate quantity.ByteRate) string {
	if s == Degraded {
		return "[" + memberFails + "]"
	}
	text, _ := rate.MarshalYAML() // cannot fail
	return fmt.Sprintf("[%s, %s%s}]", memberFails, memberRebuilt, text)
}

// InStates is a plan whose stages are measured in all states of an array that an array file
// describes, rebuilding at a rate, in place of whole.
func InStates(p plan.Plan, rate quantity.ByteRate) plan.Plan {
	axis := plan.Axis{Field: "faults"}
	for _, s := range States {
		axis.Values = append(axis.Values, faultsOf(s, rate))
	}
	p.Name += ", degraded"
	p.Why += " While a member is missing, and while another is filled in its place."
	p.Stages = slices.Clone(p.Stages)
	for i := range p.Stages {
		p.Stages[i].Sweep = []plan.Axis{axis}
	}
	return p
}

// stateOf is the state that a sample of an array was measured in; "" where that is none of
// them.
func stateOf(s compare.Sample) State {
	changed := plan.VolumeOf(s.Point)
	if len(changed) != 1 || len(s.Point) != 1 || changed[0].Field != "faults" {
		return ""
	}
	switch value := changed[0].Value; {
	case value == faultsOf(Degraded, 0):
		return Degraded
	case strings.HasPrefix(value, "["+memberFails+", "+memberRebuilt):
		return Rebuilding
	}
	return ""
}

// meanwhile judges what a side was measured in other states than whole: by faults of its array
// file, those of its last run with any, or because the storage itself lacked members.
func (n Need) meanwhile(side compare.Side) (all []Meanwhile) {
	of := map[State][]compare.Sample{Degraded: side.Degraded}
	made := map[State]string{} // by which faults
	for _, s := range side.Samples {
		state := stateOf(s)
		if state == "" {
			continue
		}
		if faults := s.Point[0].Value; made[state] != faults { // later runs, at another rate
			made[state], of[state] = faults, nil
		}
		s.Point = nil
		of[state] = append(of[state], s)
	}
	for _, state := range States {
		if len(of[state]) == 0 {
			continue
		}
		in := side
		in.Samples = of[state]
		m := n.standing(in)
		if m.Standing == "" {
			continue
		}
		m.State, m.Simulated = state, !side.Real
		m.Lasts = lasts(in)
		m.Words = m.inWords(n)
		all = append(all, m)
	}
	return all
}

// standing judges the bounds of all uses; nothing where none of them was measured.
func (n Need) standing(side compare.Side) (m Meanwhile) {
	w := newWork(n, side)
	w.standings = w.side.Standings()
	worst, measured := 0, false
	for _, d := range n.Demands() {
		if d.About != AFigure {
			break
		}
		v := w.verdict(d)
		m.Verdicts = append(m.Verdicts, v)
		worst, measured = max(worst, slices.Index(order, v.Standing)), measured || len(v.Evidence) > 0
	}
	if measured {
		m.Standing = order[worst]
	}
	return m
}

// lasts is how long a member takes at the rate at which one was filled; 0 where none was.
func lasts(side compare.Side) quantity.Seconds {
	rate, n := 0.0, 0.0
	for _, s := range side.Samples {
		if s.Summary == nil {
			continue
		}
		for _, c := range s.Summary.Inside {
			if c.Name == "member 0 rebuild" {
				rate, n = rate+c.Value, n+1
			}
		}
	}
	if size := side.Setup.Bytes("media[0].size"); rate > 0 && size > 0 {
		return quantity.Seconds(float64(size) * n / rate)
	}
	return 0
}

// inWords says how a setup stands meanwhile, and how long that lasts.
func (m Meanwhile) inWords(n Need) string {
	a := Answer{Verdicts: m.Verdicts}
	demands := n.Demands()[:len(m.Verdicts)]
	a.sumUp(demands)
	words := a.Words
	for i, v := range m.Verdicts {
		if v.Standing == judge.FallsShort && v.Value != nil {
			words = strings.Replace(words, demands[i].Name(), fmt.Sprintf("%s (%s)", demands[i].Name(), v.Mark()), 1)
		}
	}
	if m.Lasts > 0 {
		words += "; a member takes " + m.Lasts.String() + " then"
	}
	if m.Simulated {
		return words + " (simulated)"
	}
	return words + " (measured)"
}
