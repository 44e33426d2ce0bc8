// Package race says who was ahead when several volumes were measured at the same moment:
// at each moment and at the end, by how much, when each was done, whose line was the
// steadiest, and what they shared that held all of them up.
//
// It works on the series that were recorded, while they grow too. A single race is no more
// than what happened once; whether one is better is for a comparison of repeats to say.
//
//	r := race.Of([]race.Racer{{Name: "old", Series: a}, {Name: "new", Series: b}})
//	fmt.Println(r.Words)
package race

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/statistics"
	"patientheron/core/workload"
)

// Racer is one of those that raced.
type Racer struct {
	Name        string
	Run         int64
	Measurement int64
	Load        workload.Spec
	Ended       bool // the measurement is over
	Failed      string
	Series      []measure.Interval
	Facts       *setup.Facts
	Setup       setup.Setup
	Virtual     bool // simulated: it shares nothing with anybody

	Phases  *measure.Phases                       // when they are told
	Moments []Moment                              // what was marked or injected meanwhile
	Look    func(from, to int) []measure.Interval // the intervals from one to another with all that was told of them; nil where they are gone
}

// Race is one measurement of all racers.
type Race struct {
	Counts   string        `json:"counts" enum:"bytes,files" doc:"What is counted: bytes moved, or whole files where what is done with them moves none"`
	Racers   []RacerResult `json:"racers"`
	Leads    []Lead        `json:"leads" doc:"Who was ahead when, from the start to the end"`
	Over     bool          `json:"over" doc:"The measurements of all racers have ended"`
	Changes  int           `json:"changes" doc:"How often the lead went from one to another"`
	Words    string        `json:"words"`
	Cautions []string      `json:"cautions,omitempty" doc:"What the racers shared, and whether it held them up"`
}

// RacerResult is one racer's part in a race.
type RacerResult struct {
	Name        string           `json:"name"`
	Run         int64            `json:"runId"`
	Measurement int64            `json:"measurementId"`
	Done        float64          `json:"done" doc:"Bytes or files, since the warm-up ended"`
	Time        quantity.Seconds `json:"seconds" doc:"Since the start, to its last interval"`
	Finished    bool             `json:"finished" doc:"It did all that it was given, an amount or passes"`
	Failed      string           `json:"failed,omitempty" doc:"Why it did not"`
	Variation   quantity.Share   `json:"variation,omitempty" doc:"Standard deviation of the rates of its intervals, as a share of their mean; absent where they are too few"`
	Steadiest   bool             `json:"steadiest,omitempty" doc:"Its rate varies less than that of all others, by more than chance"`
	Falls       []Setback        `json:"falls,omitempty" doc:"When it did less than before, and why; those that cost most"`
	Line        []Mark           `json:"line" doc:"How far it was at each moment, the same moments for all, at most a few hundred"`
}

// Lasted is how long it took from the end of the warm-up on.
func (s RacerResult) Lasted() quantity.Seconds {
	if len(s.Line) == 0 {
		return 0
	}
	return s.Time - s.Line[0].At
}

// Mark is how far a racer was.
type Mark struct {
	At    quantity.Seconds `json:"atSeconds" doc:"Since the start"`
	Done  float64          `json:"done"`
	Ahead float64          `json:"ahead" doc:"What it had done more than the one that had done least"`
}

// Lead is a stretch of a race with the same one ahead.
type Lead struct {
	From  quantity.Seconds `json:"fromSeconds"`
	To    quantity.Seconds `json:"toSeconds"`
	Racer int              `json:"racer" doc:"Number of the one ahead, from 0; -1 where nobody is, by more than 1 %"`
	Gap   quantity.Share   `json:"gapShare" doc:"At the end of the stretch: what the next one has done less, as a share"`
	Early quantity.Seconds `json:"earlySeconds" doc:"At the end of the stretch: how much earlier it had done what the next one has done then"`
}

// level is how far behind one may be and not be behind.
const level = 0.01

// marks is how many of a line are given at most.
const marks = 300

// Of tells how a race went.
func Of(racers []Racer) Race {
	r := Race{Counts: "bytes", Racers: []RacerResult{}, Leads: []Lead{}}
	if !slices.ContainsFunc(racers, movesBytes) {
		r.Counts = "files"
	}
	lines := make([]line, len(racers))
	for i, racer := range racers {
		lines[i] = lineOf(racer.Series, r.Counts, racer.Load.WarmUp)
		r.Racers = append(r.Racers, resultOf(racer, lines[i]))
	}
	if len(racers) == 0 {
		return r
	}
	r.steadiest(racers)
	for i, racer := range racers {
		if racer.Ended && len(racer.Series) > 0 {
			r.Racers[i].Falls = falls(racer, r.Counts)
		}
	}
	moments := momentsOf(lines)
	r.lead(lines, moments)
	r.draw(lines, moments)
	r.Cautions = shared(racers)
	r.Over = !slices.ContainsFunc(racers, func(r Racer) bool { return !r.Ended })
	r.Words = r.inWords()
	return r
}

// movesBytes reports whether a racer has moved any, or does blocks.
func movesBytes(r Racer) bool {
	return !r.Load.Traits().OnFiles || slices.ContainsFunc(r.Series, func(i measure.Interval) bool { return i.Moved().Bytes > 0 })
}

// line is how far one was at the end of each interval, from the end of the warm-up on that was
// asked for: what a measurement leaves out of its figures besides is a part of the race.
type line struct {
	at   []float64
	done []float64
}

func lineOf(series []measure.Interval, counts string, warmUp quantity.Seconds) (l line) {
	sum := 0.0
	for _, i := range series {
		if i.Start+i.Length/2 < warmUp {
			continue
		}
		if len(l.at) == 0 {
			l.at, l.done = append(l.at, float64(i.Start)), append(l.done, 0)
		}
		if counts == "files" {
			sum += float64(i.Classes[measure.File].Operations)
		} else {
			sum += float64(i.Moved().Bytes)
		}
		l.at, l.done = append(l.at, float64(i.Start+i.Length)), append(l.done, sum)
	}
	return l
}

// when is how far it was at a moment: between two it went evenly, and after its end it
// stands.
func (l line) when(at float64) float64 { return between(l.at, l.done, at) }

// reached is when it had done so much for the first time.
func (l line) reached(done float64) float64 { return between(l.done, l.at, done) }

// between finds the value at x of a line through points whose x never falls.
func between(x, y []float64, at float64) float64 {
	n := len(x)
	if n == 0 {
		return 0
	}
	i := sort.SearchFloat64s(x, at)
	switch {
	case i == 0:
		return y[0]
	case i == n:
		return y[n-1]
	}
	return y[i-1] + (y[i]-y[i-1])*(at-x[i-1])/(x[i]-x[i-1])
}

// draw gives each racer its line at some of the moments, the first and the last among
// them, the same for all.
func (r *Race) draw(lines []line, moments []float64) {
	step := max(1, (len(moments)+marks-1)/marks)
	for n, at := range moments {
		if n%step > 0 && n < len(moments)-1 {
			continue
		}
		done := make([]float64, len(lines))
		for i, l := range lines {
			done[i] = l.when(at)
		}
		for i, d := range done {
			r.Racers[i].Line = append(r.Racers[i].Line, Mark{quantity.Seconds(at), d, d - slices.Min(done)})
		}
	}
}

// momentsOf are the ends of all intervals of all lines.
func momentsOf(lines []line) (moments []float64) {
	for _, l := range lines {
		moments = append(moments, l.at...)
	}
	slices.Sort(moments)
	return slices.CompactFunc(moments, func(a, b float64) bool { return math.Abs(a-b) < 1e-3 })
}

func resultOf(racer Racer, l line) RacerResult {
	s := RacerResult{Name: racer.Name, Run: racer.Run, Measurement: racer.Measurement, Failed: racer.Failed, Line: []Mark{}}
	if n := len(l.at); n > 0 {
		s.Done, s.Time = l.done[n-1], quantity.Seconds(l.at[n-1])
	}
	load := racer.Load
	s.Finished = racer.Ended && racer.Failed == "" && (load.Passes > 0 || load.Amount > 0) && (load.For == 0 || s.Time < (load.WarmUp+load.For)*0.999)
	if steadiness := judge.Steadiness(racer.Series); steadiness != nil && steadiness.Intervals >= fewest {
		s.Variation = steadiness.Variation
	}
	return s
}

// fewest is the number of intervals from which on it can be said how much they vary.
const fewest = 3

// chance is how often, among racers that are equally steady, one may be called the
// steadiest.
const chance = 0.01

// steadiest marks the racer whose rate varies less than that of every other, when the
// ratio of their variances is more than chance explains (Fisher's F).
func (r *Race) steadiest(racers []Racer) {
	best := -1
	for i, s := range r.Racers {
		if s.Failed == "" && s.Done > 0 && (best < 0 || s.Variation < r.Racers[best].Variation) {
			best = i
		}
	}
	if best < 0 || len(r.Racers) < 2 {
		return
	}
	for i, s := range r.Racers {
		ours, theirs := judge.Worth(judge.Rates(racers[best].Series)), judge.Worth(judge.Rates(racers[i].Series))
		if i == best || s.Variation == 0 {
			if i != best {
				return
			}
			continue
		}
		if ours < fewest || theirs < fewest {
			return
		}
		ratio := math.Pow(float64(s.Variation)/math.Max(float64(r.Racers[best].Variation), 1e-12), 2)
		if statistics.FTail(ratio, theirs-1, ours-1)*float64(len(r.Racers)) > chance {
			return
		}
	}
	r.Racers[best].Steadiest = true
}

// lead finds who was ahead at each moment.
func (r *Race) lead(lines []line, moments []float64) {
	before := -1 // the last one who was ahead
	for i, at := range moments {
		if i == 0 {
			continue
		}
		now := ahead(lines, at)
		now.From, now.To = quantity.Seconds(moments[i-1]), quantity.Seconds(at)
		if now.Racer >= 0 && before >= 0 && now.Racer != before {
			r.Changes++
		}
		if now.Racer >= 0 {
			before = now.Racer
		}
		if n := len(r.Leads); n > 0 && r.Leads[n-1].Racer == now.Racer {
			now.From = r.Leads[n-1].From
			r.Leads[n-1] = now
			continue
		}
		r.Leads = append(r.Leads, now)
	}
}

// ahead is who is at a moment: the one who has done most, or who had done it first.
func ahead(lines []line, at float64) Lead {
	type place struct {
		racer      int
		done, when float64
	}
	var places []place
	for i, l := range lines {
		done := l.when(at)
		when := at
		if n := len(l.at); n > 0 && l.at[n-1] < at {
			when = l.at[n-1] // it ended then
		}
		places = append(places, place{i, done, when})
	}
	slices.SortStableFunc(places, func(a, b place) int {
		if math.Abs(a.done-b.done) > 1e-9*max(a.done, b.done) {
			if a.done > b.done {
				return -1
			}
			return 1
		}
		switch {
		case a.when < b.when-1e-9:
			return -1
		case a.when > b.when+1e-9:
			return 1
		}
		return 0
	})
	lead := Lead{Racer: -1}
	if len(places) < 2 || places[0].done <= 0 {
		return lead
	}
	first, next := places[0], places[1]
	lead.Gap = quantity.Share(1 - next.done/first.done)
	lead.Early = quantity.Seconds(max(next.when-lines[first.racer].reached(next.done), 0))
	if lead.Gap > level || float64(lead.Early) > level*next.when {
		lead.Racer = first.racer
	}
	return lead
}

// inWords says how it went, or goes while it is under way.
func (r Race) inWords() string {
	var words []string
	when := "at the end"
	if !r.Over {
		when = "so far"
	}
	if len(r.Leads) == 0 {
		return "Nothing was counted yet."
	}
	end := r.Leads[len(r.Leads)-1]
	finished := r.finished()
	switch {
	case end.Racer < 0:
		words = append(words, fmt.Sprintf("Nobody is ahead %s by more than %s", when, quantity.Share(level)))
	case len(finished) > 1 && finished[0] == end.Racer:
		first, second := r.Racers[finished[0]], r.Racers[finished[1]]
		words = append(words, fmt.Sprintf("%s is done first, after %s; %s follows %s later", first.Name, first.Time, second.Name, second.Time-first.Time))
	case len(finished) == 1 && finished[0] == end.Racer:
		words = append(words, fmt.Sprintf("%s is done after %s, and no other is", r.Racers[end.Racer].Name, r.Racers[end.Racer].Time))
	default:
		words = append(words, fmt.Sprintf("%s is ahead %s, after %s: the next one has done %s less, what it had done %s before", r.Racers[end.Racer].Name, when, end.To, end.Gap, end.Early))
	}
	switch r.Changes {
	case 0:
	case 1:
		words = append(words, "the lead changed once")
	default:
		words = append(words, fmt.Sprintf("the lead changed %d times", r.Changes))
	}
	for _, s := range r.Racers {
		if s.Steadiest {
			words = append(words, fmt.Sprintf("%s is the steadiest, its rate varies by %s", s.Name, s.Variation))
		}
		for _, f := range s.Falls {
			words = append(words, f.Words)
		}
		if s.Failed != "" {
			words = append(words, fmt.Sprintf("%s did not get to the end: %s", s.Name, s.Failed))
		}
	}
	return strings.Join(words, "; ") + "."
}

// finished are the racers that did all they were given, the first one first.
func (r Race) finished() (order []int) {
	for i, s := range r.Racers {
		if s.Finished {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int {
		if r.Racers[a].Time < r.Racers[b].Time {
			return -1
		}
		return 1
	})
	return order
}
