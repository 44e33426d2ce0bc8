package need

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
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
	Standing judge.Standing `json:"standing" enum:"meets,falls short,not shown,not measured"`
	Words    string         `json:"words" doc:"The verdict as people say it, such as 'meets with 1.4 times'"`
	Reason   string         `json:"reason,omitempty" doc:"Why it is not shown or not measured, or what to know of the figure"`

	Value    *judge.Mean `json:"value,omitempty" doc:"What was reached, with its interval; of capacity and price the value alone"`
	Shown    string      `json:"shown,omitempty" doc:"The value as people read it"`
	Headroom float64     `json:"headroom,omitempty" doc:"How many times as good as the bound it is; below 1 it falls short of it"`
	Least    float64     `json:"headroomLeast,omitempty" doc:"The same at the worse end of the interval"`
	Evidence []int64     `json:"measurements,omitempty" doc:"The measurements it rests on"`
}

// Answer is all that is said of one setup.
type Answer struct {
	Name     string         `json:"name"`
	Runs     []int64        `json:"runs"`
	Standing judge.Standing `json:"standing" enum:"meets,falls short,not shown,not measured" doc:"Of all demands together: the worst"`
	Words    string         `json:"words"`
	Verdicts []Verdict      `json:"verdicts" doc:"One for each demand, in their order"`
	Carries  float64        `json:"carries,omitempty" doc:"The smallest headroom of all figures; absent where one of them has none"`
	Tightest string         `json:"tightest,omitempty" doc:"Which figure that is"`
	Price    float64        `json:"price,omitempty"`
	Frontier bool           `json:"frontier,omitempty" doc:"No other setup carries as much for less, or more for as much"`
	Costs    []Cost         `json:"costs"`

	Failures []setup.Aftermath `json:"failures" doc:"What each failure does to it, whether the need asks for it or not"`
	Rebuilds string            `json:"rebuilds" doc:"How long a set is without a member at least, worked out"`
}

// GivingUp is what it buys to give one demand up.
type GivingUp struct {
	Demand int      `json:"demand" doc:"Number of the demand, from 0"`
	Words  string   `json:"words"`
	Then   []string `json:"then" doc:"The setups that meet all that is left"`
}

// Judged is a need and what comes of it.
type Judged struct {
	Need      Need       `json:"need"`
	Demands   []Demand   `json:"demands"`
	Setups    []Answer   `json:"setups" doc:"Those that meet all first, then by price"`
	Words     string     `json:"words" doc:"What to do, in a sentence"`
	Wanted    string     `json:"wanted,omitempty" doc:"The headroom that all bounds are to be met with, and whether the uses were measured at once"`
	Remarks   []string   `json:"remarks" doc:"What to know before it is relied on"`
	GiveUp    []GivingUp `json:"giveUp,omitempty" doc:"Where no setup meets all: which one demand to give up, and what that buys"`
	Worth     []Worth    `json:"worth" doc:"What the added money brings from one setup on the frontier to the next"`
	Unmatched []string   `json:"unmatched,omitempty" doc:"Uses for which no setup has a measurement"`
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
				words += fmt.Sprintf(", with %s times of headroom", plain(u.Headroom))
			}
			all = append(all, Demand{About: AFigure, Use: u.Name, Figure: b.Figure, Words: words, use: i, bound: b})
		}
	}
	if n.Capacity > 0 {
		words := "room for " + ShowRoom(n.Room())
		if n.Growth > 0 {
			words += fmt.Sprintf(" (%s now, %s more each year for %s years)", ShowRoom(n.Capacity), n.Growth, plain(n.Years))
		}
		all = append(all, Demand{About: Capacity, Words: words})
	}
	for _, f := range n.Survives {
		all = append(all, Demand{About: Survival, Figure: string(f), Words: "survives " + string(f)})
	}
	if n.Budget > 0 {
		all = append(all, Demand{About: Price, Words: "costs at most " + ShowPrice(n.Budget)})
	}
	return all
}

// UseOf is the use that a demand is of.
func (n Need) UseOf(d Demand) Use { return n.Uses[d.use] }

// ShowPrice prints a price for people.
func ShowPrice(v float64) string {
	if v >= 1000 {
		return fmt.Sprintf("%.0f", v)
	}
	return quantity.Digits(v)
}

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
		w.standings = side.Standings()
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
	j.Words = j.inWords()
	if n.Headroom > 1 {
		j.Wanted = fmt.Sprintf("Wanted on top of each bound: %s times of headroom.", plain(n.Headroom))
	}
	if n.Together {
		j.Wanted = strings.TrimSpace("All uses were measured at once. " + j.Wanted)
	}
	j.remark(sides)
	return j
}

// work is what it takes to judge one side.
type work struct {
	need      Need
	mixed     workload.Spec // of all uses at once, where they are
	side      compare.Side
	standings compare.Standings
}

func newWork(n Need, side compare.Side) work {
	w := work{need: n, side: side}
	if n.Together && len(n.Uses) > 0 {
		w.mixed = n.Mixed()
	}
	return w
}

func (w work) verdict(d Demand) Verdict {
	switch d.About {
	case Capacity:
		return w.capacity()
	case Survival:
		after := w.side.Setup.After(setup.Failure(d.Figure))
		standing := map[setup.Answer]judge.Standing{setup.Yes: judge.Meets, setup.No: judge.FallsShort}[after.Survives]
		if standing == "" {
			return Verdict{Standing: judge.NotMeasured, Words: "not known", Reason: after.Words}
		}
		words := "survives it"
		if standing == judge.FallsShort {
			words = "does not survive it"
		}
		return Verdict{Standing: standing, Words: words, Reason: after.Words}
	case Price:
		price := w.side.Setup.Number("cost.price")
		if price == 0 {
			return Verdict{Standing: judge.NotMeasured, Words: "not known", Reason: "its price is not known; tell cost.price"}
		}
		return exact(price, w.need.Budget, true, ShowPrice(price))
	}
	return w.figure(d)
}

func (w work) capacity() Verdict {
	room, lacks := w.side.Setup.Usable()
	if room == 0 {
		return Verdict{Standing: judge.NotMeasured, Words: "not known", Reason: "its room is not known; tell " + lacks}
	}
	return exact(float64(room), float64(w.need.Room()), false, ShowRoom(room))
}

// exact is the verdict of a value that has no interval.
func exact(value, bound float64, most bool, shown string) Verdict {
	v := Verdict{Value: &judge.Mean{Mean: value}, Shown: shown, Standing: judge.FallsShort}
	v.Headroom = headroom(value, bound, most)
	v.Least = v.Headroom
	if v.Headroom >= 1 {
		v.Standing = judge.Meets
	}
	v.Words = inWords(v.Standing, v.Headroom)
	return v
}

// headroom is how many times as good as its bound a value is; 0 when a bound of nothing
// is passed.
func headroom(value, bound float64, most bool) float64 {
	if most {
		value, bound = bound, value
	}
	if bound == 0 {
		return math.MaxFloat64
	}
	return value / bound
}

// inWords says a decided verdict with the headroom.
func inWords(s judge.Standing, times float64) string {
	switch {
	case s == judge.Meets && (times == 0 || times > 1e6):
		return "meets it"
	case s == judge.Meets:
		return fmt.Sprintf("meets it with %s times", quantity.Digits(times))
	case times > 0 && times < 1:
		return fmt.Sprintf("falls short of it by %s", quantity.Share(1-times))
	}
	return "falls short of it"
}

// figure judges one bound of a use.
func (w work) figure(d Demand) Verdict {
	u := w.need.Uses[d.use]
	f := figure.Of(d.Figure)
	samples, near := w.samples(u)
	if len(samples) == 0 {
		return Verdict{Standing: judge.NotMeasured, Words: "not measured", Reason: near}
	}
	reached := w.standings.Of(samples, f)
	v := Verdict{Evidence: reached.Measurements}
	if !slices.ContainsFunc(figure.For(samples[0].Load), func(a figure.Figure) bool { return a.Key == f.Key }) {
		v.Standing, v.Words, v.Reason = judge.NotMeasured, "not measured", fmt.Sprintf("a load such as %q has no %s", samples[0].Stage, f.Label)
		return v
	}
	if reached.Values.Reason != "" {
		v.Standing, v.Words, v.Reason = judge.NotMeasured, "not measured", reached.Values.Reason
		if d.bound.Most && f.None != "" && reached.Values.Reason == f.None && len(v.Evidence) > 1 {
			// What did not happen took no time.
			v.Standing, v.Words = judge.Meets, "meets it"
		}
		return v
	}
	bound, most := d.bound.Of(u.Users), d.bound.Most
	m := reached.Mean
	v.Value, v.Shown = &m, shown(f, m)
	v.Headroom = headroom(m.Mean, bound, most)
	v.Least = headroom(m.Low, bound, most)
	if most {
		v.Least = headroom(m.High, bound, most)
	}
	asked := bound * w.need.Factor(u)
	if most {
		asked = bound / w.need.Factor(u)
	}
	v.Standing = m.Against(asked, most)
	if bound == 0 && most && m.Mean > 0 { // it was seen
		v.Standing = judge.FallsShort
	}
	v.Headroom, v.Least = capped(v.Headroom), capped(v.Least)
	v.Reason = reached.Values.Remark
	switch {
	case reached.Values.Unreliable != "":
		v.Standing, v.Words, v.Reason = judge.Undecided, "not shown: not to be trusted", reached.Values.Unreliable
		v.Headroom, v.Least = 0, 0
	case !m.Known:
		v.Standing, v.Words, v.Reason = judge.Undecided, "not shown: measured once", "one repeat says nothing about the next; measure at least three"
	case v.Standing == judge.Undecided:
		v.Words = fmt.Sprintf("not shown: %s lies across it", between(f, m))
		v.Reason = cmp.Or(v.Reason, "repeat more often to tell")
	case v.Standing == judge.FallsShort && v.Headroom >= 1:
		v.Words = fmt.Sprintf("meets it with %s times only", quantity.Digits(v.Headroom))
		v.Reason = cmp.Or(v.Reason, fmt.Sprintf("%s times are asked for", plain(w.need.Factor(u))))
	default:
		v.Words = inWords(v.Standing, v.Headroom)
	}
	return v
}

// Mark is the verdict in few letters: "×1.50" meets it with so many times, "(×1.10)" meets
// it without the headroom that is wanted, "-20%" falls short by so much, "yes" and "no"
// where there is nothing to measure, "?" is not shown, and "." not measured or not known.
func (v Verdict) Mark() string {
	switch {
	case v.Standing == judge.Undecided:
		return "?"
	case v.Standing == judge.NotMeasured:
		return "."
	case v.Headroom > 0 && v.Headroom < 1:
		return fmt.Sprintf("-%.0f%%", math.Max((1-v.Headroom)*100, 1))
	case v.Standing == judge.FallsShort && v.Headroom >= 1:
		return "(" + Times(v.Headroom) + ")"
	case v.Headroom >= 1:
		return Times(v.Headroom)
	case v.Standing == judge.Meets:
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

// samples are the measurements that judge a use: of its stage, or under its load. Where
// there are none, near says what comes nearest.
func (w work) samples(u Use) (of []compare.Sample, near string) {
	if w.need.Together {
		return w.partSamples(u)
	}
	if u.Load == nil {
		for _, s := range w.side.Samples {
			if s.Stage == u.Stage && len(s.Point) == 0 {
				of = append(of, s)
			}
		}
		if len(of) > 0 {
			return w.alike(u, of)
		}
		return nil, fmt.Sprintf("no measurement of this setup is called %q", u.Stage)
	}
	nearest := math.MaxInt
	for _, s := range w.side.Samples {
		if compare.SameWork(s.Load, *u.Load) {
			of = append(of, s)
			continue
		}
		if fields := differing(s.Load, *u.Load); len(fields) < nearest {
			nearest = len(fields)
			near = fmt.Sprintf("not under this load; nearest is %q of run %d, with other %s", s.Stage, s.Run, strings.Join(fields, ", "))
		}
	}
	if near == "" || nearest > 3 {
		near = "not under this load"
	}
	return of, near
}

// partSamples are what measurements of all uses at once came to for one of them.
func (w work) partSamples(u Use) (of []compare.Sample, near string) {
	for _, s := range w.side.Samples {
		if s.Load.Kind != workload.TogetherKind || !compare.SameWork(s.Load, w.mixed) {
			continue
		}
		i := slices.IndexFunc(s.Load.Together, func(p workload.Spec) bool { return p.Name == u.Name })
		if i < 0 {
			continue
		}
		s.Load, s.Summary = s.Load.Part(i, s.Summary)
		of = append(of, s)
	}
	if len(of) == 0 {
		near = "not with all uses at once; 'heron need measure' does that"
	}
	return of, near
}

// alike refuses measurements of one stage that do different things.
func (w work) alike(u Use, of []compare.Sample) ([]compare.Sample, string) {
	for _, s := range of[1:] {
		if !compare.SameWork(s.Load, of[0].Load) {
			return nil, fmt.Sprintf("stages called %q do different things in runs %d and %d; give the load in place of the stage", u.Stage, of[0].Run, s.Run)
		}
	}
	return of, ""
}

// differing are the fields in which two loads differ.
func differing(a, b workload.Spec) (names []string) {
	a, b = a.Completed(), b.Completed()
	if a.Kind != b.Kind {
		return slices.Repeat([]string{"kind"}, 9)
	}
	for _, f := range workload.Fields() {
		if f.Get(a) != f.Get(b) && !slices.Contains([]string{"for", "lead-in", "leadIn", "settled", "within", "interval", "onError", "seed"}, f.Name) {
			names = append(names, f.Name)
		}
	}
	return names
}

// order is that of standings, the best first.
var order = []judge.Standing{judge.Meets, judge.Undecided, judge.NotMeasured, judge.FallsShort}

// inFront orders setups for those who read: who meets all comes first, then by price, those
// without one last, then by what they carry.
func inFront(a, b Answer) int {
	price := func(a Answer) float64 {
		if a.Price == 0 {
			return math.Inf(1)
		}
		return a.Price
	}
	return cmp.Or(cmp.Compare(slices.Index(order, a.Standing), slices.Index(order, b.Standing)), cmp.Compare(price(a), price(b)), cmp.Compare(b.Carries, a.Carries))
}

// sumUp says what a setup comes to over all demands.
func (a *Answer) sumUp(demands []Demand) {
	worst := 0
	var short, open []string
	complete := true
	for i, v := range a.Verdicts {
		worst = max(worst, slices.Index(order, v.Standing))
		name := demands[i].Name()
		switch v.Standing {
		case judge.FallsShort:
			short = append(short, name)
		case judge.Undecided, judge.NotMeasured:
			open = append(open, name)
		}
		if demands[i].About != AFigure {
			continue
		}
		if v.Value == nil || v.Standing == judge.Undecided && v.Least == 0 {
			complete = complete && v.Standing == judge.Meets
			continue
		}
		if v.Headroom > 0 && (a.Carries == 0 || v.Headroom < a.Carries) {
			a.Carries, a.Tightest = v.Headroom, name
		}
	}
	if !complete {
		a.Carries, a.Tightest = 0, ""
	}
	a.Standing = order[worst]
	switch a.Standing {
	case judge.Meets:
		a.Words = "meets all that is asked"
		if a.Carries > 0 {
			a.Words += fmt.Sprintf("; tightest is %s, with %s times", a.Tightest, quantity.Digits(a.Carries))
		}
	case judge.FallsShort:
		a.Words = "falls short in " + listed(short)
		if len(open) > 0 {
			a.Words += "; not shown in " + listed(open)
		}
	default:
		a.Words = "not shown in " + listed(open)
	}
}

// Name is what a demand is called beside others.
func (d Demand) Name() string {
	switch d.About {
	case AFigure:
		return fmt.Sprintf("%s of %q", figure.Of(d.Figure).Label, d.Use)
	case Survival:
		return "surviving " + d.Figure
	}
	return string(d.About)
}

// listed joins names, the first few of many.
func listed(names []string) string {
	const most = 3
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

// givingUp finds the demands without any one of which some setup meets all others; none
// where a setup meets all, or where none comes that near.
func (j Judged) givingUp() (all []GivingUp) {
	if slices.ContainsFunc(j.Setups, func(a Answer) bool { return a.Standing == judge.Meets }) {
		return nil
	}
	for i, d := range j.Demands {
		var then []string
		for _, a := range j.Setups {
			alone := true
			for k, v := range a.Verdicts {
				alone = alone && (k == i) == (v.Standing != judge.Meets)
			}
			if alone {
				then = append(then, a.Name)
			}
		}
		if len(then) > 0 {
			all = append(all, GivingUp{i, fmt.Sprintf("Without %q, %s would do.", d.Words, strings.Join(then, ", ")), then})
		}
	}
	return all
}

// inWords says what to do.
func (j Judged) inWords() string {
	var meet []Answer
	open := 0
	for _, a := range j.Setups {
		switch a.Standing {
		case judge.Meets:
			meet = append(meet, a)
		case judge.Undecided, judge.NotMeasured:
			open++
		}
	}
	switch {
	case len(j.Setups) == 0:
		return "No setup was judged."
	case len(meet) > 0:
		priced := slices.DeleteFunc(slices.Clone(meet), func(a Answer) bool { return a.Price == 0 })
		if len(priced) > 0 {
			best := slices.MinFunc(priced, func(a, b Answer) int {
				return cmp.Or(cmp.Compare(a.Price, b.Price), cmp.Compare(b.Carries, a.Carries))
			})
			if len(meet) == 1 {
				return fmt.Sprintf("Take %q: it alone meets all that is asked, at %s.%s", best.Name, ShowPrice(best.Price), best.tightness())
			}
			return fmt.Sprintf("Take %q: of %d that meet all that is asked it costs least, %s.%s", best.Name, len(meet), ShowPrice(best.Price), best.tightness())
		}
		best := slices.MaxFunc(meet, func(a, b Answer) int { return cmp.Compare(a.Carries, b.Carries) })
		if len(meet) == 1 {
			return fmt.Sprintf("%q alone meets all that is asked.%s Its price is not known.", best.Name, best.tightness())
		}
		return fmt.Sprintf("%q meets all that is asked, of %d that do with the most headroom.%s No price is known.", best.Name, len(meet), best.tightness())
	case open > 0:
		return fmt.Sprintf("No setup is shown to meet all that is asked; %d may: what is not shown or not measured of them decides.", open)
	case len(j.GiveUp) > 0:
		return "No setup meets all that is asked. " + j.GiveUp[0].Words
	}
	return "No setup meets all that is asked, nor all but one of it."
}

func (a Answer) tightness() string {
	if a.Carries == 0 {
		return ""
	}
	return fmt.Sprintf(" Tightest is %s, with %s times.", a.Tightest, quantity.Digits(a.Carries))
}

// remark says what to know before the verdicts are relied on.
func (j *Judged) remark(sides []compare.Side) {
	uses := 0
	for _, u := range j.Need.Uses {
		if len(u.Bounds) > 0 {
			uses++
		}
	}
	if uses > 1 && !j.Need.Together {
		j.Remarks = append(j.Remarks, "Each use was measured by itself. Where several are at work at once they take from each other: leave headroom for that.")
	}
	simulated := 0
	for _, side := range sides {
		if !side.Real {
			simulated++
		}
	}
	switch {
	case simulated == len(sides) && simulated > 0:
		j.Remarks = append(j.Remarks, "All figures are simulated.")
	case simulated > 0:
		j.Remarks = append(j.Remarks, fmt.Sprintf("The figures of %d of %d setups are simulated.", simulated, len(sides)))
	}
	for _, u := range j.Unmatched {
		j.Remarks = append(j.Remarks, fmt.Sprintf("Nothing was measured for %q on any of these setups.", u))
	}
}
