package need

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
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
	Outcome   judge.Outcome    `json:"outcome" enum:"meets,falls short,not shown,not measured"`
	Verdicts  []Verdict        `json:"verdicts" doc:"Of the bounds of uses, which come first among the demands"`
	Lasts     quantity.Seconds `json:"lastsSeconds,omitempty" doc:"How long a member takes at the rate that it was filled at; absent where nothing was"`
	Without   string           `json:"without,omitempty" doc:"The member without which it stands like that, which is the worst of those that were missing in turn; absent where only one was"`
	Words     string           `json:"words"`
}

// faultsOf is the value of the key faults of an array file that puts an array into a state from
// the beginning on: a member is missing, and is filled at a rate while it is rebuilt.
func faultsOf(s State, member int, rate quantity.ByteRate) string {
	fails := fmt.Sprintf("{kind: member fails, at: 0, member: %d}", member)
	if s == Degraded {
		return "[" + fails + "]"
	}
	text, _ := rate.MarshalYAML() // cannot fail
	return fmt.Sprintf("[%s, {kind: rebuild, at: 0, member: %d, rate: %s}]", fails, member, text)
}

// InStates is a plan whose stages are measured in all states of an array that an array file
// describes, in place of whole: without each of some members, and while that is rebuilt at a rate.
func InStates(p plan.Plan, members []int, rate quantity.ByteRate) plan.Plan {
	axis := plan.Axis{Field: "faults"}
	for _, s := range States {
		for _, member := range members {
			axis.Values = append(axis.Values, faultsOf(s, member, rate))
		}
	}
	p.Name += ", degraded"
	p.Why += " While a member is missing, and during a rebuild."
	p.Stages = slices.Clone(p.Stages)
	for i := range p.Stages {
		p.Stages[i].Sweep = []plan.Axis{axis}
	}
	return p
}

// lack is a state, and the member that is missing in it.
type lack struct {
	state  State
	member int
}

// untold is the number of the member that real storage lacked.
const untold = -1

// lackOf is the state that a sample of an array was measured in; its state is "" where that is
// none of them.
func lackOf(s compare.Sample) (l lack) {
	changed := plan.VolumeOf(s.Point)
	if len(changed) != 1 || len(s.Point) != 1 || changed[0].Field != "faults" {
		return lack{}
	}
	value := changed[0].Value
	if _, err := fmt.Sscanf(value, "[{kind: member fails, at: 0, member: %d}", &l.member); err != nil {
		return lack{}
	}
	degraded := strings.TrimSuffix(faultsOf(Degraded, l.member, 0), "]")
	switch rest, found := strings.CutPrefix(value, degraded); {
	case found && rest == "]":
		l.state = Degraded
	case found && strings.HasPrefix(rest, fmt.Sprintf(", {kind: rebuild, at: 0, member: %d, rate: ", l.member)):
		l.state = Rebuilding
	}
	return l
}

// meanwhile judges what a side was measured in other states than whole: by faults of its array
// file, those of its last run with any, or else because the storage itself lacked members.
func (n Need) meanwhile(side compare.Side) (all []Meanwhile) {
	of := map[State]map[int][]compare.Sample{Degraded: {}, Rebuilding: {}} // by the member that is missing
	made := map[lack]string{}                                              // by which faults
	for _, s := range side.Samples {
		l := lackOf(s)
		if l.state == "" {
			continue
		}
		if faults := s.Point[0].Value; made[l] != faults { // later runs, at another rate
			made[l], of[l.state][l.member] = faults, nil
		}
		s.Point = nil
		of[l.state][l.member] = append(of[l.state][l.member], s)
	}
	if len(of[Degraded]) == 0 && len(side.Degraded) > 0 {
		of[Degraded][untold] = side.Degraded
	}
	for _, state := range States {
		if m := n.worst(side, of[state]); m.Outcome != "" {
			m.State, m.Simulated = state, !side.Real
			m.Words = m.inWords(n)
			all = append(all, m)
		}
	}
	return all
}

// worst is how a setup stands without the one of its members without which it stands worst,
// of what was measured without each; nothing where no use was measured.
func (n Need) worst(side compare.Side, without map[int][]compare.Sample) (worst Meanwhile) {
	tried, member := 0, 0
	for _, number := range slices.Sorted(maps.Keys(without)) {
		side.Samples = without[number]
		m := n.judgeMeanwhile(side)
		if m.Outcome == "" {
			continue
		}
		if tried++; tried == 1 || m.worse(worst) {
			worst, member = m, number
			worst.Lasts = lasts(side, number)
		}
	}
	if tried > 1 {
		worst.Without = fmt.Sprintf("member %d", member)
	}
	return worst
}

// worse reports whether a setup stands worse than it does otherwise.
func (m Meanwhile) worse(other Meanwhile) bool {
	least := func(of Meanwhile) float64 {
		lowest := math.Inf(1)
		for _, v := range of.Verdicts {
			if v.Value != nil {
				lowest = min(lowest, v.Headroom)
			}
		}
		return lowest
	}
	return cmp.Or(cmp.Compare(slices.Index(order, other.Outcome), slices.Index(order, m.Outcome)), cmp.Compare(least(m), least(other))) < 0
}

// judgeMeanwhile judges the bounds of all uses; nothing where none of them was measured.
func (n Need) judgeMeanwhile(side compare.Side) (m Meanwhile) {
	w := newWork(n, side)
	w.estimator = w.side.Estimator()
	worst, measured := 0, false
	for _, d := range n.Demands() {
		if d.About != AFigure {
			break
		}
		v := w.verdict(d)
		m.Verdicts = append(m.Verdicts, v)
		worst, measured = max(worst, slices.Index(order, v.Outcome)), measured || len(v.Evidence) > 0
	}
	if measured {
		m.Outcome = order[worst]
	}
	return m
}

// lasts is how long a member takes at the rate at which one was filled; 0 where none was.
func lasts(side compare.Side, member int) quantity.Seconds {
	rate, n := 0.0, 0.0
	for _, s := range side.Samples {
		if s.Summary == nil {
			continue
		}
		for _, c := range s.Summary.Inside {
			if c.Name == fmt.Sprintf("member %d rebuild", member) {
				rate, n = rate+c.Value, n+1
			}
		}
	}
	if size := sizeOf(side.Setup, member); rate > 0 && size > 0 {
		return quantity.Seconds(size * n / rate)
	}
	return 0
}

// sizeOf is how much a member of an array holds, by the facts of its setup; those of a tier come
// after the others.
func sizeOf(s setup.Setup, member int) float64 {
	for i := range s.Count("media") {
		at := fmt.Sprintf("media[%d].", i)
		if member < int(s.Number(at+"count")) {
			return float64(s.Bytes(at + "size"))
		}
		member -= int(s.Number(at + "count"))
	}
	whole, count := float64(s.Bytes("tier.size")), s.Number("tier.count")
	switch s.Text("tier.level") {
	case "raid1":
		return whole
	case "raid10":
		return whole * 2 / count
	case "raid5":
		return whole / (count - 1)
	case "raid6":
		return whole / (count - 2)
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
		if v.Outcome == judge.FallsShort && v.Value != nil {
			words = strings.Replace(words, demands[i].Name(), fmt.Sprintf("%s (%s)", demands[i].Name(), v.Mark()), 1)
		}
	}
	if m.Lasts > 0 {
		words += "; a member takes " + m.Lasts.String() + " then"
	}
	how := "measured"
	if m.Simulated {
		how = "simulated"
	}
	if m.Without != "" {
		how += "; without " + m.Without + ", the worst one to lose"
	}
	return words + " (" + how + ")"
}
