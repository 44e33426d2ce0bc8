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

// work is what it takes to judge one side.
type work struct {
	need      Need
	mixed     workload.Spec // of all uses at once, where they are
	side      compare.Side
	estimator compare.Estimator
	found     map[string]found // by the name of the use
}

// found are the measurements that judge a use, or what comes nearest.
type found struct {
	samples []compare.Sample
	near    string
}

// newWork leaves out what was measured of the side while it was another: at other values of
// keys of its array file or its sessions.
func newWork(n Need, side compare.Side) work {
	side.Samples = slices.DeleteFunc(slices.Clone(side.Samples), compare.Sample.Altered)
	w := work{need: n, side: side, found: map[string]found{}}
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
		outcome := map[setup.Answer]judge.Outcome{setup.Yes: judge.Meets, setup.No: judge.FallsShort}[after.Survives]
		if outcome == "" {
			return Verdict{Outcome: judge.NotMeasured, Words: "not known", Reason: after.Words}
		}
		words := "survives it"
		if outcome == judge.FallsShort {
			words = "does not survive it"
		}
		return Verdict{Outcome: outcome, Words: words, Reason: after.Words}
	case Price:
		price := w.side.Setup.Number("cost.price")
		if price == 0 {
			return Verdict{Outcome: judge.NotMeasured, Words: "not known", Reason: "its price is not known; tell cost.price"}
		}
		return exact(price, w.need.Budget, true, quantity.Price(price))
	}
	return w.figure(d)
}

func (w work) capacity() Verdict {
	room, lacks := w.side.Setup.Usable()
	if room == 0 {
		return Verdict{Outcome: judge.NotMeasured, Words: "not known", Reason: "its capacity is not known; tell " + lacks}
	}
	return exact(float64(room), float64(w.need.Room()), false, ShowRoom(room))
}

// exact is the verdict of a value that has no interval.
func exact(value, bound float64, most bool, shown string) Verdict {
	v := Verdict{Value: &judge.Mean{Mean: value}, Shown: shown, Outcome: judge.FallsShort}
	v.Headroom = headroom(value, bound, most)
	v.Least = v.Headroom
	if v.Headroom >= 1 {
		v.Outcome = judge.Meets
	}
	v.Words = inWords(v.Outcome, v.Headroom)
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
func inWords(s judge.Outcome, times float64) string {
	switch {
	case s == judge.Meets && (times == 0 || times > 1e6):
		return "meets it"
	case s == judge.Meets:
		return fmt.Sprintf("%s × the bound", floored(times))
	case times > 0 && times < 1:
		return fmt.Sprintf("%s short of the bound", quantity.Share(1-times))
	}
	return "short of the bound"
}

// figure judges one bound of a use.
func (w work) figure(d Demand) Verdict {
	u := w.need.Uses[d.use]
	f := figure.Of(d.Figure)
	samples, near := w.samples(u)
	if len(samples) == 0 {
		return Verdict{Outcome: judge.NotMeasured, Words: "not measured", Reason: near}
	}
	reached := w.estimator.Of(samples, f)
	v := Verdict{Evidence: reached.Measurements, Cautions: reached.Cautions}
	if !slices.ContainsFunc(figure.For(samples[0].Load), func(a figure.Figure) bool { return a.Key == f.Key }) {
		v.Outcome, v.Words, v.Reason = judge.NotMeasured, "not measured", fmt.Sprintf("a load such as %q has no %s", samples[0].Stage, f.Label)
		return v
	}
	doubt := cmp.Or(reached.Values.Unreliable, doubted(samples))
	if done := reached.Values.Done; done < 1 { // and f waits: it grows for as long as it goes on
		v.Outcome, v.Words, v.Reason = judge.FallsShort, "falls short: the rate is not sustained", reached.Values.Reason
		v.Headroom = done
		if reached.Values.Engine || !d.bound.Most {
			v.Outcome, v.Words, v.Headroom = judge.Undecided, "not shown: the rate is not sustained", 0
		}
		if doubt != "" {
			v.Outcome, v.Words, v.Reason, v.Headroom = judge.Undecided, "not shown: unreliable", doubt, 0
		}
		return v
	}
	if reached.Values.Reason != "" {
		v.Outcome, v.Words, v.Reason = judge.NotMeasured, "not measured", reached.Values.Reason
		switch {
		case !d.bound.Most || !f.Spare || reached.Values.Reason != f.None || len(v.Evidence) < 2:
		case doubt != "":
			v.Outcome, v.Words, v.Reason = judge.Undecided, "not shown: unreliable", doubt
		default: // what did not happen took no time
			v.Outcome, v.Words = judge.Meets, "meets it"
		}
		return v
	}
	bound, most := d.bound.Of(u.Users), d.bound.Most
	m := reached.Mean
	v.Value, v.Shown = &m, shown(f, m)
	v.Headroom = headroom(m.Mean, bound, most)
	v.Least, v.Most = headroom(m.Low, bound, most), headroom(m.High, bound, most)
	if most {
		v.Least, v.Most = v.Most, v.Least
	}
	asked := bound * w.need.Factor(u)
	if most {
		asked = bound / w.need.Factor(u)
	}
	v.Outcome = m.Against(asked, most)
	seen := bound == 0 && most && m.Mean > 0 // what may not happen at all
	if seen {
		v.Outcome = judge.FallsShort
	}
	v.Headroom, v.Least, v.Most = capped(v.Headroom), capped(v.Least), capped(v.Most)
	v.Reason = withoutResult(samples, reached.Values.Remark)
	switch {
	case reached.Values.Unreliable != "":
		v.Outcome, v.Words, v.Reason = judge.Undecided, "not shown: unreliable", reached.Values.Unreliable
		v.Headroom, v.Least, v.Most = 0, 0, 0
	case !m.Known && !seen:
		v.Outcome, v.Words, v.Reason = judge.Undecided, "not shown: measured once", "one repeat does not show the spread; measure at least three"
	case v.Outcome == judge.Undecided:
		v.Words = fmt.Sprintf("not shown: %s includes the bound", between(f, m))
		more := "more repeats would decide"
		if w.side.Real && len(w.side.Runs) < 3 {
			more = "the spread between runs is not well known, and allowed for; three runs would decide"
		}
		v.Reason = cmp.Or(v.Reason, more)
	case v.Outcome == judge.FallsShort && v.Headroom >= 1:
		v.Words = fmt.Sprintf("only %s × the bound", floored(v.Headroom))
		v.Reason = cmp.Or(v.Reason, fmt.Sprintf("%s × is required", plain(w.need.Factor(u))))
	default:
		v.Words = inWords(v.Outcome, v.Headroom)
	}
	if reached.Values.Unreliable == "" {
		if v.Users = usersOf(d.bound, w.need.Factor(u), m); v.Users != nil {
			v.Words += "; " + v.Users.inWords()
		}
	}
	return v
}

// samples are the measurements that judge a use: of its stage, or under its load. Where
// there are none, near says what comes nearest.
func (w work) samples(u Use) (of []compare.Sample, near string) {
	have, known := w.found[u.Name]
	if !known {
		have.samples, have.near = w.look(u)
		w.found[u.Name] = have
	}
	return have.samples, have.near
}

func (w work) look(u Use) (of []compare.Sample, near string) {
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
			near = fmt.Sprintf("not under this load; the nearest is %q of run %d, with a different %s", s.Stage, s.Run, strings.Join(fields, ", "))
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
		if !s.Load.Several() || !compare.SameWork(s.Load, w.mixed) {
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
		near = "not with all uses at once; run 'heron need measure'"
	}
	return of, near
}

// alike refuses measurements of one stage that do different things.
func (w work) alike(u Use, of []compare.Sample) ([]compare.Sample, string) {
	for _, s := range of[1:] {
		if !compare.SameWork(s.Load, of[0].Load) {
			return nil, fmt.Sprintf("stages named %q have different loads in runs %d and %d; give the load instead of the stage", u.Stage, of[0].Run, s.Run)
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
		if f.Get(a) != f.Get(b) && !slices.Contains([]string{"for", "warm-up", "warmUp", "steady", "margin", "interval", "onError", "seed"}, f.Name) {
			names = append(names, f.Name)
		}
	}
	return names
}

// doubted is why measurements are not to be trusted, whichever figure is asked for; "" when
// they are.
func doubted(samples []compare.Sample) string {
	for _, s := range samples {
		if doubt := s.Known().DoubtOfAll(); doubt != "" {
			return doubt
		}
	}
	return ""
}

// withoutResult adds to what is to be known of a figure that measurements failed.
func withoutResult(samples []compare.Sample, remark string) string {
	failed, why := 0, ""
	for _, s := range samples {
		if s.Summary == nil {
			failed, why = failed+1, s.Reason
		}
	}
	if failed == 0 {
		return remark
	}
	words := fmt.Sprintf("%d of %d measurements failed: %s", failed, len(samples), why)
	if remark != "" {
		words += "; " + remark
	}
	return words
}
