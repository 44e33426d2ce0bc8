package need

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// About is what a demand is about.
type About string

// What a demand may be about.
const (
	AFigure  About = "figure"
	Capacity About = "capacity"
	Survival About = "survival"
	Price    About = "price"
)

// Demand is one thing that a need asks for: a row of what is judged.
type Demand struct {
	About  About  `json:"about" enum:"figure,capacity,survival,price"`
	Use    string `json:"use,omitempty"`
	Figure string `json:"figure,omitempty" doc:"Key of the figure"`
	Words  string `json:"words" doc:"What is asked, such as 'p99 latency at most 5 ms'"`

	use   int // number among the uses
	bound Bound
}

// Verdict says how one setup stands to one demand.
type Verdict struct {
	Outcome judge.Outcome `json:"outcome" enum:"meets,falls short,not shown,not measured"`
	Words   string        `json:"words" doc:"The verdict as people say it, such as 'meets with 1.4 times'"`
	Reason  string        `json:"reason,omitempty" doc:"Why it is not shown or not measured, or what to know of the figure"`

	Cautions []compare.Caution `json:"cautions,omitempty" doc:"What is to be known of the measurements it rests on"`

	Value    *judge.Mean `json:"value,omitempty" doc:"What was reached, with its interval; of capacity and price the value alone"`
	Shown    string      `json:"shown,omitempty" doc:"The value as people read it"`
	Headroom float64     `json:"headroom,omitempty" doc:"How many times as good as the bound it is; below 1 it falls short of it"`
	Least    float64     `json:"headroomLeast,omitempty" doc:"The same at the worse end of the interval"`
	Most     float64     `json:"headroomMost,omitempty" doc:"And at the better end"`
	Users    *Users      `json:"users,omitempty" doc:"For how many it is enough, where the bound is for each user"`
	Evidence []int64     `json:"measurements,omitempty" doc:"The measurements it rests on"`
}

// Users is for how many what was measured is enough, each with what is asked for and the wanted
// headroom.
type Users struct {
	Enough float64 `json:"enough" doc:"Whole users"`
	Least  float64 `json:"least,omitempty" doc:"At the worse end of the interval; absent where that is not known"`
	Most   float64 `json:"most,omitempty" doc:"And at the better end"`
}

// inWords says for how many it is enough.
func (u Users) inWords() string {
	if u.Most > 0 && u.Least < u.Most {
		return fmt.Sprintf("enough for %.0f users (%.0f to %.0f)", u.Enough, u.Least, u.Most)
	}
	return fmt.Sprintf("enough for %.0f users", u.Enough)
}

// usersOf is for how many a value is enough; nil where the bound is not for each, or is one
// that more users do not use up.
func usersOf(b Bound, factor float64, m judge.Mean) *Users {
	if !b.Each || b.Most || !(b.Value*factor > 0) {
		return nil
	}
	each := b.Value * factor
	u := &Users{Enough: math.Floor(m.Mean / each)}
	if m.Known {
		u.Least, u.Most = math.Floor(m.Low/each), math.Floor(m.High/each)
	}
	return u
}

// Open reports a verdict of which the figure does not say why: it was not measured, is not
// shown, or is none.
func (v Verdict) Open() bool {
	none := v.Outcome == judge.FallsShort && v.Value == nil && len(v.Evidence) > 0
	return v.Outcome == judge.Undecided || v.Outcome == judge.NotMeasured || none
}

// Answer is all that is said of one setup.
type Answer struct {
	Name     string        `json:"name"`
	Runs     []int64       `json:"runs"`
	Outcome  judge.Outcome `json:"outcome" enum:"meets,falls short,not shown,not measured" doc:"Of all demands together: the worst"`
	Claims   []claim.Claim `json:"claims" doc:"What is said of it, each with the demands it is said of"`
	Words    string        `json:"words"`
	Verdicts []Verdict     `json:"verdicts" doc:"One for each demand, in their order"`
	Carries  float64       `json:"carries,omitempty" doc:"The smallest headroom of all figures; absent where one of them has none"`
	Tightest string        `json:"tightest,omitempty" doc:"Which figure that is"`
	Price    float64       `json:"price,omitempty"`
	Frontier bool          `json:"frontier,omitempty" doc:"No other setup carries as much for less, or more for as much"`
	Costs    []Cost        `json:"costs"`

	Failures []setup.Aftermath `json:"failures" doc:"What each failure does to it, whether the need asks for it or not"`
	spread   float64           // half of the interval of the logarithm of what it carries

	Rebuilds string `json:"rebuilds" doc:"How long a set is without a member at least, worked out"`

	Meanwhile []Meanwhile `json:"meanwhile,omitempty" doc:"How it stands to what its uses ask while a member is missing or rebuilt, where that was measured"`
}

// GivingUp is what it buys to give one demand up.
type GivingUp struct {
	Demand int      `json:"demand" doc:"Number of the demand, from 0"`
	Words  string   `json:"words"`
	Then   []string `json:"then" doc:"The setups that meet all that is left"`
}

// Judged is a need and what comes of it.
type Judged struct {
	Need      Need          `json:"need"`
	Demands   []Demand      `json:"demands"`
	Setups    []Answer      `json:"setups" doc:"Those that meet all first, then by price"`
	Claims    []claim.Claim `json:"claims" doc:"What to do, each with the setups it is said of"`
	Words     string        `json:"words" doc:"What to do, in a sentence"`
	Wanted    string        `json:"wanted,omitempty" doc:"The headroom that all bounds are to be met with, and whether the uses were measured at once"`
	Remarks   []string      `json:"remarks" doc:"What to know before it is relied on"`
	GiveUp    []GivingUp    `json:"giveUp,omitempty" doc:"Where no setup meets all: which one demand to give up, and what that buys"`
	Worth     []Worth       `json:"worth" doc:"What the added money brings from one setup on the frontier to the next"`
	Unmatched []string      `json:"unmatched,omitempty" doc:"Uses for which no setup has a measurement"`
}

// WantsHeadroom reports whether some bound is to be met with headroom.
func (n Need) WantsHeadroom() bool {
	return n.Headroom > 1 || slices.ContainsFunc(n.Uses, func(u Use) bool { return u.Headroom > 1 })
}

// Demands lists what a need asks for, in order: its uses, then the rest.
func (n Need) Demands() (all []Demand) {
	for i, u := range n.Uses {
		for _, b := range u.Bounds {
			words := b.InWords(u.Users)
			if u.Headroom > 0 && u.Headroom != n.Headroom && b.Value > 0 {
				words += fmt.Sprintf(", with a headroom of %s ×", plain(u.Headroom))
			}
			all = append(all, Demand{About: AFigure, Use: u.Name, Figure: b.Figure, Words: words, use: i, bound: b})
		}
	}
	if n.Capacity > 0 {
		words := "room for " + ShowRoom(n.Room())
		if n.Growth > 0 {
			words += fmt.Sprintf(" (%s now, growing by %s a year for %s years)", ShowRoom(n.Capacity), n.Growth, plain(n.Years))
		}
		all = append(all, Demand{About: Capacity, Words: words})
	}
	for _, f := range n.Survives {
		all = append(all, Demand{About: Survival, Figure: string(f), Words: "survives " + string(f)})
	}
	if n.Budget > 0 {
		all = append(all, Demand{About: Price, Words: "costs at most " + quantity.Price(n.Budget)})
	}
	return all
}

// UseOf is the use that a demand is of.
func (n Need) UseOf(d Demand) Use { return n.Uses[d.use] }

// Touched are the sides of which anything was measured that the uses of a need ask for;
// all of them where it has no uses. Others are left.
func (n Need) Touched(sides []compare.Side) (touched []compare.Side, others []string) {
	for _, side := range sides {
		w := newWork(n, side)
		if len(n.Uses) == 0 || slices.ContainsFunc(n.Uses, func(u Use) bool { samples, _ := w.samples(u); return len(samples) > 0 }) {
			touched = append(touched, side)
		} else {
			others = append(others, side.Name)
		}
	}
	return touched, others
}

// Judge says how setups stand to a need. Each side is a setup with all that was measured
// of it.
func Judge(n Need, sides []compare.Side) Judged {
	j := Judged{Need: n, Demands: n.Demands(), Setups: []Answer{}, Remarks: []string{}}
	measured := make([]bool, len(n.Uses))
	for _, side := range sides {
		a := Answer{Name: side.Name, Runs: side.Runs, Price: side.Setup.Number("cost.price"), Verdicts: []Verdict{}}
		w := newWork(n, side)
		w.estimator = w.side.Estimator()
		for _, d := range j.Demands {
			v := w.verdict(d)
			if d.About == AFigure && len(v.Evidence) > 0 {
				measured[d.use] = true
			}
			a.Verdicts = append(a.Verdicts, v)
		}
		for _, f := range setup.Failures() {
			a.Failures = append(a.Failures, side.Setup.After(f))
		}
		_, a.Rebuilds = side.Setup.Exposure()
		a.Meanwhile = n.meanwhile(side)
		a.sumUp(j.Demands)
		a.Costs = w.costs(a)
		j.Setups = append(j.Setups, a)
	}
	for i, u := range n.Uses {
		if !measured[i] && len(sides) > 0 {
			j.Unmatched = append(j.Unmatched, u.Name)
		}
	}
	slices.SortStableFunc(j.Setups, inFront)
	markFrontier(j.Setups)
	j.Worth = worth(j.Setups)
	j.GiveUp = j.givingUp()
	j.sayWhatToDo()
	if n.Headroom > 1 {
		j.Wanted = fmt.Sprintf("Wanted headroom over each bound: %s ×.", plain(n.Headroom))
	}
	if n.Together {
		j.Wanted = strings.TrimSpace("All uses were measured at once. " + j.Wanted)
	}
	j.remark(sides)
	return j
}

// Mark is the verdict in few letters: "×1.50" meets it with so many times, "(×1.10)" meets
// it without the headroom that is wanted, "-20%" falls short by so much, "yes" and "no"
// where there is nothing to measure, "?" is not shown, and "." not measured or not known.
func (v Verdict) Mark() string {
	switch {
	case v.Outcome == judge.Undecided:
		return "?"
	case v.Outcome == judge.NotMeasured:
		return "."
	case v.Headroom > 0 && v.Headroom < 1:
		return fmt.Sprintf("-%.0f%%", math.Max((1-v.Headroom)*100, 1))
	case v.Outcome == judge.FallsShort && v.Headroom >= 1:
		return "(" + Times(v.Headroom) + ")"
	case v.Headroom >= 1:
		return Times(v.Headroom)
	case v.Outcome == judge.Meets:
		return "yes"
	}
	return "no"
}

// Times is a headroom in few letters, never more than it is.
func Times(v float64) string {
	switch {
	case v >= 1000:
		return fmt.Sprintf("×%.0fk", v/1000)
	case v >= 10:
		return fmt.Sprintf("×%.0f", math.Floor(v))
	}
	return fmt.Sprintf("×%.2f", math.Floor(v*100)/100)
}

// floored is a headroom in a sentence, with the digits of Times.
func floored(v float64) string { return strings.TrimPrefix(Times(v), "×") }

// capped keeps a headroom a number that can be written; one without end is left out.
func capped(times float64) float64 {
	if times > 1e6 {
		return 0
	}
	return times
}

func shown(f figure.Figure, m judge.Mean) string {
	if !m.Known || m.Low == m.High {
		return f.Show(m.Mean)
	}
	return fmt.Sprintf("%s (%s to %s)", f.Show(m.Mean), f.Show(m.Low), f.Show(m.High))
}

func between(f figure.Figure, m judge.Mean) string {
	return fmt.Sprintf("%s to %s", f.Show(m.Low), f.Show(m.High))
}
