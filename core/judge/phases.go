package judge

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// The limits of what settled means.
const (
	leastKnown = 30   // intervals below which nothing is said about settling
	leastLast  = 10   // intervals of a last phase that may count as sustained
	lastShare  = 0.25 // and its share of what was measured
	stepLimit  = 0.20 // a step that must not hide in a sustained phase
	driftLimit = 0.15 // a rise or fall over all of it that must not
	slopeGain  = 8    // by how much two levels must fit better than a slope
	stepParts  = 6    // a step is looked for from one such part on to the one before the last
)

// Phases tells the phases of a measurement from its paces, of all that came after
// the asked warm-up; from is how many intervals belong to those before the last one.
// A load at a set rate is judged by how fast it is answered, every other by its rate.
//
// Single intervals far below those around them are taken aside as dips, the rest is
// cut into pieces where its level changes. The last one is sustained when it is long
// enough and a step of 20 % as well as a drift of 15 % over all of it are excluded
// with 95 %: an interval around either, by the noise and autocorrelation of the
// piece, lies within. So a measurement never counts as settled because there was too
// little to see a change in.
func Phases(load workload.Spec, paces []measure.Pace) (phases measure.Phases, from int) {
	paces = wholePaces(paces)
	phases = measure.Phases{List: []measure.Phase{}, State: measure.NotKnown}
	speeds, one := speeds(load, paces)
	if average(speeds) <= 0 {
		phases.Words = "No data were transferred."
		return phases, 0
	}
	level, dips := withoutDips(speeds, paces)
	cut := cutUp(level, one)
	for at, more := pauseIn(level, cut.bounds); more; at, more = pauseIn(level, cut.bounds) {
		dips = filled(level, cut.bounds, at, dips)
		cut = cutUp(level, one)
	}
	phases.Dips = dipsIn(paces, speeds, level, dips)
	if cut.state != measure.Steady && len(level) <= mostWaved {
		if flat, c := withoutWave(level); c != nil {
			if calm := cutUp(flat, one); calm.state != measure.NotKnown || cut.state == measure.NotKnown {
				cut = calm
				phases.Wave = waveOf(paces, level, *c)
			}
		}
	}
	phases.State, phases.Drift = cut.state, cut.drift
	bounds := cut.bounds
	for p := range len(bounds) - 1 {
		phases.List = append(phases.List, phase(paces[bounds[p]:bounds[p+1]]))
	}
	name(phases.List, kindOf[cut.state])
	phases.Fall = fall(phases.List, paces)
	if cut.state != measure.NotSteady && load.Amount == 0 && load.Passes == 0 && !load.Deadlines() && !load.Traits().Uneven { // a late piece counts whenever it comes
		at := len(bounds) - 2
		if at > 0 && phases.List[at-1].Kind == measure.Stall {
			at-- // a pause that is over is no warm-up
		}
		from = bounds[at]
		phases.Cut = span(paces[:from])
	}
	phases.Words = inWords(load, phases, len(level))
	return phases, from
}

// kindOf is the kind of the last phase.
var kindOf = map[measure.State]measure.PhaseKind{
	measure.Steady: measure.Sustained, measure.NotSteady: measure.Changing, measure.NotKnown: measure.Unsure,
}

// wholePaces leaves out a last interval that was cut short.
func wholePaces(paces []measure.Pace) []measure.Pace {
	if n := len(paces); n > 1 && cutShort(paces[0].Length, paces[n-1].Length) {
		return paces[:n-1]
	}
	return paces
}

// speeds are the values by which a load is judged, and the least that they vary by
// because operations are counted whole.
func speeds(load workload.Spec, paces []measure.Pace) (values []float64, least float64) {
	values = make([]float64, len(paces))
	operations := 0.0
	for i, p := range paces {
		values[i] = p.Rate()
		operations += float64(p.Operations)
		if load.Open() {
			values[i] = 0
			if p.Waited > 0 {
				values[i] = float64(p.Operations) / float64(p.Waited)
			}
		}
	}
	// An operation more or less at either end of an interval: a rectangular
	// distribution of one has a variance of a twelfth.
	if operations > 0 {
		least = average(values) * math.Sqrt(2.0/12) * float64(len(paces)) / operations
	}
	return values, max(least, 1e-6*average(values))
}

func span(paces []measure.Pace) (length quantity.Seconds) {
	for _, p := range paces {
		length += p.Length
	}
	return length
}

// phase sums paces up.
func phase(paces []measure.Pace) measure.Phase {
	f := measure.Phase{Start: paces[0].Start, Length: span(paces), Intervals: len(paces)}
	operations, waited := int64(0), quantity.Seconds(0)
	for _, p := range paces {
		operations += p.Operations
		f.Bytes += p.Bytes
		waited += p.Waited
	}
	f.Rate, f.Throughput = measure.Per(operations, int64(f.Bytes), f.Length)
	if operations > 0 {
		f.Mean = waited / quantity.Seconds(operations)
	}
	return f
}

// slower says whether a phase is worse than another by something that matters: at a lower
// rate, or at a like rate with a longer latency.
func slower(a, b measure.Phase) bool {
	if apart(float64(a.Rate), float64(b.Rate)) < leastChange/2 {
		return a.Mean > b.Mean && apart(float64(a.Mean), float64(b.Mean)) >= leastChange
	}
	return a.Rate < b.Rate
}

// name gives each phase its kind; the last one's is known.
func name(list []measure.Phase, last measure.PhaseKind) {
	all := 0
	for _, p := range list {
		all += p.Intervals
	}
	for i := range list {
		p := &list[i]
		switch {
		case i == len(list)-1:
			p.Kind = last
		case i > 0 && p.Intervals*5 < all && p.Rate < list[i-1].Rate/2 && p.Rate < list[i+1].Rate/2:
			p.Kind = measure.Stall
		case slower(list[i+1], *p):
			p.Kind = measure.Burst
		default:
			p.Kind = measure.Start
		}
	}
}

// fall is the first moment from which on no phase comes near the level before it
// again. What was as low before, for longer than a start takes, goes up and down.
func fall(list []measure.Phase, paces []measure.Pace) *measure.Fall {
	for i := range len(list) - 1 {
		before := list[i]
		if before.Kind != measure.Burst {
			continue
		}
		back := slices.ContainsFunc(list[i+1:], func(p measure.Phase) bool { return !slower(p, before) })
		last := list[len(list)-1]
		low := slices.ContainsFunc(list[:i], func(p measure.Phase) bool {
			return p.Kind != measure.Stall && p.Intervals*10 >= len(paces) && !slower(last, p)
		})
		if back || low {
			continue
		}
		f := measure.Fall{After: before.Start + before.Length, From: before.Throughput, To: list[len(list)-1].Throughput}
		for _, p := range paces {
			if p.Start < f.After-p.Length/2 {
				f.Bytes += p.Bytes
			}
		}
		return &f
	}
	return nil
}

// inWords says what the phases show.
func inWords(load workload.Spec, p measure.Phases, intervals int) string {
	show := func(f measure.Phase) string {
		if load.Open() {
			return fmt.Sprintf("a mean latency of %s", f.Mean)
		}
		if load.MeanBlock() < 64*1024 {
			return f.Rate.String()
		}
		return f.Throughput.String()
	}
	last := *p.Last()
	var words []string
	for _, f := range p.List[:len(p.List)-1] {
		words = append(words, fmt.Sprintf("%s for %s (%s)", show(f), f.Length, f.Bytes))
	}
	if len(words) > 4 {
		words = slices.Concat(words[:2], []string{fmt.Sprintf("%d phases more", len(words)-3)}, words[len(words)-1:])
	}
	before := ""
	if len(words) > 0 {
		before = strings.Join(words, ", then ") + ", then "
	}
	text := ""
	switch p.State {
	case measure.Steady:
		text = fmt.Sprintf("%s, and stayed there", show(last))
	case measure.NotSteady:
		text = fmt.Sprintf("%s until the end", show(last))
		if d := p.Drift; d != nil && math.Abs(float64(d.Share)) >= leastChange {
			text += fmt.Sprintf(", %s by %s of that during the last phase", map[bool]string{true: "rising", false: "falling"}[d.Share > 0], quantity.Share(math.Abs(float64(d.Share))))
		}
	default:
		text = fmt.Sprintf("%s; whether that lasts is not known, since %s", show(last), cmp.Or(
			map[bool]string{true: fmt.Sprintf("there are too few intervals (%d, and %d are needed)", intervals, leastKnown)}[intervals < leastKnown],
			fmt.Sprintf("it varies too much over %d intervals", last.Intervals)))
	}
	if w := p.Wave; w != nil {
		text += fmt.Sprintf(", going up and down between %s and %s every %s", w.Low, w.High, w.Every)
	}
	if d := p.Dips; d != nil {
		text += fmt.Sprintf("; with %d %s by %s on average, %s in all", d.Count, map[bool]string{true: "dip", false: "dips"}[d.Count == 1], d.Depth, d.Length)
		if d.Every > 0 {
			text += fmt.Sprintf(", one every %s", d.Every)
		}
	}
	text = before + text + "."
	return strings.ToUpper(text[:1]) + text[1:]
}
