package judge

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// Halves is one measurement before and after a moment.
type Halves struct {
	Before  Mean    `json:"before" doc:"Mean rate in operations per second"`
	After   Mean    `json:"after"`
	Ratio   float64 `json:"ratio,omitempty" doc:"After over before; absent when either is unknown"`
	Verdict Verdict `json:"verdict" enum:"better,worse,same,not shown,hint,missing"`
	Words   string  `json:"words"`

	Cores []Moved `json:"cores,omitempty" doc:"How busy each core of the hosts was, in their order"`

	claims []claim.Claim
}

// Moved is a share before and after a moment.
type Moved struct {
	Before quantity.Share `json:"before"`
	After  quantity.Share `json:"after"`
}

// leastSide is how many independent values each side has to be worth.
const leastSide = 5

// SplitAt compares the rate after a moment with that before it, from one time to another: those
// of what happened before and after, or of the asked warm-up and the end. A change that was made
// on purpose is no warm-up, although it begins a phase. The interval that holds the moment, and
// the one after it, are left out. The means differ when the 95 % interval of their difference
// excludes none (Welch 1947), each side being worth as many independent values as it is.
func SplitAt(series []measure.Interval, from, at, to quantity.Seconds) Halves {
	before, after := CutAt(series, from, at, to)
	s := Halves{Before: MeanOfSeries(Rates(before)), After: MeanOfSeries(Rates(after)), Verdict: Missing, Cores: coresOf(before, after)}
	if s.Before.Mean <= 0 || len(after) == 0 {
		s.say(tooLittle)
		return s
	}
	s.Ratio = s.After.Mean / s.Before.Mean
	var difference pooled
	few := false
	for _, side := range [][]measure.Interval{before, after} {
		deviation, worth := independent(Rates(side))
		few = few || worth < leastSide
		difference.add(deviation*deviation/max(worth-1, 1), worth-1)
	}
	half := 0.0
	if difference.doubt > 0 {
		half = quantile(difference.freedom()) * math.Sqrt(difference.variance)
	}
	rate := func(m Mean) claim.Term {
		return claim.Term{Of: "rate", Value: m.Mean, Low: m.Low, High: m.High, Shown: quantity.OpRate(m.Mean).String()}
	}
	said := rateStays
	switch by := s.After.Mean - s.Before.Mean; {
	case few:
		s.Verdict, said = Hint, rateUnsure
	case by > half:
		s.Verdict, said = Better, rateRose
	case by < -half:
		s.Verdict, said = Worse, rateFell
	default:
		s.Verdict = NotShown
	}
	s.say(said, rate(s.Before), rate(s.After), claim.Term{Of: "half the interval of the difference", Value: half})
	s.sayBusiestCore()
	return s
}

// CutAt gives the intervals before a moment and those after it, from one time to another. The
// one that holds the moment, and the one after it, are in neither.
func CutAt(series []measure.Interval, from, at, to quantity.Seconds) (before, after []measure.Interval) {
	for _, i := range whole(series) {
		switch {
		case i.Start < from-i.Length/2 || i.Start+i.Length > to+i.Length/2:
		case i.Start+i.Length <= at:
			before = append(before, i)
		case i.Start >= at+i.Length:
			after = append(after, i)
		}
	}
	return before, after
}

// SummaryOf is what some intervals of a measurement came to. It has no percentiles: those of
// intervals do not add up.
func SummaryOf(series []measure.Interval, of measure.Summary) *measure.Summary {
	if len(series) == 0 {
		return nil
	}
	s := measure.Summary{Ending: of.Ending, Interface: of.Interface, Classes: map[measure.Class]measure.Figures{}}
	for _, i := range series {
		s.Measured += i.Length
		for class, flow := range i.Classes {
			f := s.Classes[class]
			f.Operations += flow.Operations
			f.Bytes += flow.Bytes
			f.Latency.Mean += flow.Mean * quantity.Seconds(flow.Operations)
			f.Latency.Max = max(f.Latency.Max, flow.Max)
			s.Classes[class] = f
		}
		pace := i.Pace()
		s.Total.Operations += pace.Operations
		s.Total.Bytes += pace.Bytes
		s.Total.Latency.Mean += pace.Waited
	}
	for class, f := range s.Classes {
		f.Rate, f.Throughput = measure.Per(f.Operations, int64(f.Bytes), s.Measured)
		f.Latency.Mean /= quantity.Seconds(max(f.Operations, 1))
		s.Classes[class] = f
	}
	s.Total.Rate, s.Total.Throughput = measure.Per(s.Total.Operations, int64(s.Total.Bytes), s.Measured)
	s.Total.Latency.Mean /= quantity.Seconds(max(s.Total.Operations, 1))
	s.CPUPerOp, s.Steadiness, s.Inside = CPUPerOperation(series), Steadiness(series), Inside(series)
	return &s
}

// coresOf is how busy each core was on either side.
func coresOf(before, after []measure.Interval) (cores []Moved) {
	mean := func(series []measure.Interval) (shares []quantity.Share) {
		length := quantity.Share(0)
		for _, i := range series {
			for n, share := range i.Cores() {
				if n == len(shares) {
					shares = append(shares, 0)
				}
				shares[n] += share * quantity.Share(i.Length)
			}
			length += quantity.Share(i.Length)
		}
		for n := range shares {
			shares[n] /= length
		}
		return shares
	}
	was, is := mean(before), mean(after)
	for n := range min(len(was), len(is)) {
		cores = append(cores, Moved{was[n], is[n]})
	}
	return cores
}

// sayBusiestCore says how the busiest core of either side went, where one is known.
func (h *Halves) sayBusiestCore() {
	most := -1
	for n, c := range h.Cores {
		if most < 0 || max(c.Before, c.After) > max(h.Cores[most].Before, h.Cores[most].After) {
			most = n
		}
	}
	if most >= 0 {
		core := strconv.Itoa(most)
		h.say(coreWent, ofTime(core, float64(h.Cores[most].Before)), ofTime(core, float64(h.Cores[most].After)))
	}
}

// say adds what its terms bear.
func (h *Halves) say(k claim.Kind, terms ...claim.Term) {
	h.claims = claim.Add(h.claims, k, terms...)
	h.Words = strings.Join(claim.Sentences(h.claims), " ")
}

// What can be said of both sides of a moment: their rates, and half the 95 % interval of their
// difference.
var (
	tooLittle = claim.Declare("marker: too little", always, func([]claim.Term) string {
		return "there are too few intervals on one side of the marker"
	})
	rateUnsure = claim.Declare("marker: unsure", always, func(t []claim.Term) string {
		return "the rate went " + fromTo(t) + "; there are too few intervals on one side to be sure"
	})
	rateRose = claim.Declare("marker: rose", func(t []claim.Term) bool { return t[1].Value-t[0].Value > t[2].Value }, func(t []claim.Term) string {
		return "the rate rose " + fromTo(t)
	})
	rateFell = claim.Declare("marker: fell", func(t []claim.Term) bool { return t[0].Value-t[1].Value > t[2].Value }, func(t []claim.Term) string {
		return "the rate fell " + fromTo(t)
	})
	rateStays = claim.Declare("marker: not shown", func(t []claim.Term) bool { return math.Abs(t[1].Value-t[0].Value) <= t[2].Value }, func(t []claim.Term) string {
		return "the rate went " + fromTo(t) + "; that is within the usual variation"
	})
	coreWent = claim.Declare("marker: busiest core", always, func(t []claim.Term) string {
		return fmt.Sprintf("the busiest core, %s, went from %s to %s", t[0].Of, t[0].Shown, t[1].Shown)
	})
)

func fromTo(t []claim.Term) string {
	return fmt.Sprintf("from %s before to %s after", t[0].Shown, t[1].Shown)
}
