package measure

import "patientheron/core/quantity"

// PhaseKind says what a phase is among the others of its measurement.
type PhaseKind string

// The kinds of phase.
const (
	Start     PhaseKind = "start"     // before a level that is higher
	Burst     PhaseKind = "burst"     // before a level that is lower
	Stall     PhaseKind = "stall"     // a short one at less than half of what came before and after
	Sustained PhaseKind = "sustained" // the last one, long enough, in which the rate stood still
	Changing  PhaseKind = "changing"  // the last one, in which the rate rose or fell, or which was short
	Unsure    PhaseKind = "unsure"    // the last one, of which it cannot be told whether the rate stood still
)

// Phase is a stretch of a measurement with one behaviour.
type Phase struct {
	Kind       PhaseKind         `json:"kind" enum:"start,burst,stall,sustained,changing,unsure"`
	Start      quantity.Seconds  `json:"startSeconds" doc:"Since the first operation could be issued"`
	Length     quantity.Seconds  `json:"lengthSeconds"`
	Intervals  int               `json:"intervals"`
	Bytes      quantity.Bytes    `json:"bytes"`
	Rate       quantity.OpRate   `json:"rate"`
	Throughput quantity.ByteRate `json:"throughputBytesPerSecond"`
	Mean       quantity.Seconds  `json:"meanSeconds,omitempty" doc:"Mean latency"`
}

// State says whether a measurement reached a state that lasts.
type State string

// The states.
const (
	Steady    State = "steady"     // the last phase is long enough, and neither a step nor a drift that matters may hide in it
	NotSteady State = "not steady" // the rate changed until the end, or the last phase is too short
	NotKnown  State = "not known"  // too few intervals, or too uneven ones, to tell
)

// Phases are the phases of a measurement, in order, and what they say together.
type Phases struct {
	List  []Phase          `json:"list" doc:"In order, from the end of the asked warm-up on"`
	State State            `json:"state" enum:"steady,not steady,not known" doc:"Whether it reached a state that lasts"`
	Cut   quantity.Seconds `json:"cutSeconds,omitempty" doc:"Time after the asked warm-up that was kept out of the summary too: the phases before the last one"`
	Fall  *Fall            `json:"fall,omitempty" doc:"When the level fell and did not come back"`
	Drift *Drift           `json:"drift,omitempty" doc:"Of the last phase; absent when it cannot be told"`
	Dips  *Dips            `json:"dips,omitempty" doc:"Short times far below what is around them"`
	Wave  *Wave            `json:"wave,omitempty" doc:"When the level keeps going up and down between two values"`
	Words string           `json:"words"`
}

// Fall is a level that did not last.
type Fall struct {
	After quantity.Seconds  `json:"afterSeconds" doc:"Time until it fell, since the first operation could be issued"`
	Bytes quantity.Bytes    `json:"bytes" doc:"Moved until it fell, since the first operation could be issued"`
	From  quantity.ByteRate `json:"fromBytesPerSecond" doc:"Throughput before"`
	To    quantity.ByteRate `json:"toBytesPerSecond" doc:"And after"`
}

// Drift is by how much a rate rose or fell over a phase, as a share of its mean,
// with a 95 % interval.
type Drift struct {
	Share quantity.Share `json:"share"`
	Low   quantity.Share `json:"low"`
	High  quantity.Share `json:"high"`
}

// Dips are short times far below what is around them, after which the level was
// back.
type Dips struct {
	Count  int              `json:"count"`
	Depth  quantity.Share   `json:"depth" doc:"How far below, of the rate around them, on average"`
	Length quantity.Seconds `json:"lengthSeconds" doc:"Time in dips, in all"`
	Every  quantity.Seconds `json:"everySeconds,omitempty" doc:"Time from one to the next, when they recur evenly"`
}

// Wave is a level that goes up and down between two values.
type Wave struct {
	Low   quantity.ByteRate `json:"lowBytesPerSecond"`
	High  quantity.ByteRate `json:"highBytesPerSecond"`
	Every quantity.Seconds  `json:"everySeconds" doc:"Time from one rise to the next, on average"`
}

// Last is the last phase; nil when there is none.
func (p *Phases) Last() *Phase {
	if p == nil || len(p.List) == 0 {
		return nil
	}
	return &p.List[len(p.List)-1]
}

// First is the first phase; nil when there is none.
func (p *Phases) First() *Phase {
	if p == nil || len(p.List) == 0 {
		return nil
	}
	return &p.List[0]
}

// Stand is what is known of a measurement under way, or at its end.
type Stand struct {
	Cut      int  // intervals at the start that belong to phases before the last one
	Enough   bool // a patient load may end
	Phases   *Phases
	Patience *Patience // nil when the load does not wait for anything
}
