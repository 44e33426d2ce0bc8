package compare

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// Alone is one point of one side, with its repeats together.
type Alone struct {
	Stage        string         `json:"stage"`
	Point        []plan.Setting `json:"point,omitempty"`
	Title        string         `json:"title"`
	Load         string         `json:"load" doc:"The load in words"`
	Part         bool           `json:"part,omitempty" doc:"It is what one of several loads at once came to"`
	Main         string         `json:"main"`
	Passes       judge.Passes   `json:"passes" doc:"How the repeats went as passes over the same data"`
	Words        string         `json:"words,omitempty" doc:"What is peculiar about the repeats"`
	Rows         []Single       `json:"rows" doc:"Of the passes that are warm"`
	Measurements []int64        `json:"measurements"`
}

// Single is one figure of one side.
type Single struct {
	Figure string `json:"figure"`
	Values
}

// Points says of one side alone what its repeats say together.
func Points(side Side) []Alone {
	points := []Alone{}
	g := group(side)
	usual := g.usual()
	for _, key := range g.order {
		of := g.of[key]
		a := Alone{Stage: of[0].Stage, Point: of[0].Point, Title: key, Load: of[0].Load.Describe(), Part: of[0].Part, Main: figure.Main(of[0].Load), Measurements: numbers(of)}
		main := figure.Of(a.Main)
		a.Passes = passesOf(of, main, usual)
		for _, f := range figure.For(of[0].Load) {
			if f.OfPhases() && !severalPhases(of) {
				continue
			}
			v := values(of, f, which{from: a.Passes.Warm, going: a.Passes.Going})
			if len(side.Runs) < 2 {
				for i := range v.Odd { // counted among all
					v.Odd[i] += a.Passes.Warm - 1
				}
			}
			if a.Rows = append(a.Rows, Single{f.Key, v}); f.Key == a.Main {
				a.Words = peculiar(main, v, a.Passes, burstsAlone(of))
			}
		}
		points = append(points, a)
	}
	return points
}

// peculiar says what is out of the ordinary about repeats.
func peculiar(f figure.Figure, v Values, p judge.Passes, burst string) string {
	var words []string
	if burst != "" {
		words = append(words, burst)
	}
	all := v.Every()
	if p.Shape != judge.Level && len(all) > 0 {
		words = append(words, passesInWords(f, v, p))
	}
	for _, n := range v.Odd {
		if n <= len(all) {
			words = append(words, fmt.Sprintf("repeat %d is odd (%s)", n, f.Show(all[n-1])))
		}
	}
	if v.Idle > 0 {
		words = append(words, fmt.Sprintf("nothing moved in %d of %d repeats", v.Idle, len(all)))
	}
	if v.Unreliable != "" {
		words = append(words, "not to be trusted: "+v.Unreliable)
	}
	return strings.Join(words, "; ")
}

// burstsAlone says that the first repeat began with a burst and no other did: what
// carried it was full by then.
func burstsAlone(of []Sample) string {
	for i, s := range of {
		fell := s.Summary != nil && s.Summary.Phases != nil && s.Summary.Phases.Fall != nil
		if fell != (i == 0) {
			return ""
		}
	}
	if len(of) < 2 {
		return ""
	}
	f := of[0].Summary.Phases.Fall
	return fmt.Sprintf("the first repeat alone began with a burst, at %s for %s, until what carries it was full", f.From, f.Bytes)
}

// passesInWords says what was cold and what is warm. A load that is slower once it
// is warm is said to be.
func passesInWords(f figure.Figure, v Values, p judge.Passes) string {
	all := v.Every()
	first, last := f.Show(all[0]), f.Show(all[len(all)-1])
	slower := ""
	if (p.Gain < 0) != f.Lower {
		slower = "; it gets slower as it warms, so that what the first passes leave behind costs more than it saves"
	}
	switch {
	case p.Going:
		return fmt.Sprintf("still changing from pass to pass, from %s to %s at the last: warm is not reached%s", first, last, slower)
	case p.Shape == judge.FirstApart:
		return fmt.Sprintf("the first pass is apart: %s cold, %s warm%s", first, f.Show(v.Taken.Mean), slower)
	}
	from := fmt.Sprint(p.Warm)
	if p.Low < p.High {
		from += fmt.Sprintf(" (%d to %d)", p.Low, p.High)
	}
	return fmt.Sprintf("warm from pass %s on: %s cold, %s warm%s", from, first, f.Show(v.Taken.Mean), slower)
}

// Line is how rate and latency go with one swept field, the others held.
type Line struct {
	Stage   string         `json:"stage"`
	Field   string         `json:"field" doc:"What goes along the line"`
	Held    []plan.Setting `json:"held,omitempty" doc:"The other swept fields, at their values"`
	Log     bool           `json:"log" doc:"The values double from one to the next, so that a logarithmic axis helps"`
	Spots   []Spot         `json:"spots"`
	Knee    int            `json:"knee" doc:"Number of the spot, from 0, with the largest throughput for its latency; -1 when there is none"`
	Keeps   int            `json:"keeps" doc:"Number of the spot, from 0, with the largest rate whose p99 stays within the wanted one; -1 when none does, or none is wanted"`
	Scaling *judge.Scaling `json:"scaling,omitempty" doc:"How the rate grows with depth, workers, streams or parts of an array, when the law fits"`
	Words   string         `json:"words"`

	paced bool // the load itself sets the rate
	show  func(rate float64) string
}

// Spot is one value of the swept field.
type Spot struct {
	Value      string     `json:"value" doc:"As people write it"`
	At         float64    `json:"at" doc:"As a number"`
	Rate       judge.Mean `json:"rate"`
	Throughput float64    `json:"throughputBytesPerSecond"`
	Mean       float64    `json:"meanSeconds"`
	P99        float64    `json:"p99Seconds"`
	Efficiency float64    `json:"efficiency,omitempty" doc:"What each of so many does, as a share of what each does at the first spot; absent where the field counts nothing"`
}

// Lines finds the lines along the numeric axes of a side's sweeps. Wanted is the
// p99 latency that a use can bear; 0 when that is not asked.
func Lines(side Side, wanted quantity.Seconds) []Line {
	lines := []Line{}
	points := Points(side)
	for _, stage := range stagesOf(points) {
		of := slices.DeleteFunc(slices.Clone(points), func(a Alone) bool { return a.Stage != stage })
		for axis := range of[0].Point {
			for _, line := range along(of, axis) {
				if len(line.Spots) >= 3 {
					lines = append(lines, line.finished(wanted))
				}
			}
		}
	}
	return lines
}

func stagesOf(points []Alone) (stages []string) {
	for _, p := range points {
		if len(p.Point) > 0 && !slices.Contains(stages, p.Stage) {
			stages = append(stages, p.Stage)
		}
	}
	return stages
}

// along gathers the lines of one axis: one for each combination of the others.
func along(points []Alone, axis int) (lines []Line) {
	read := numeric(points, axis)
	if read == nil {
		return nil
	}
	places := map[string]int{}
	for _, p := range points {
		if axis >= len(p.Point) {
			continue
		}
		at, _ := read(p.Point[axis].Value)
		held := slices.Concat(p.Point[:axis], p.Point[axis+1:])
		key := plan.Describe(held)
		place, known := places[key]
		if !known {
			place = len(lines)
			places[key] = place
			lines = append(lines, Line{Stage: p.Stage, Field: p.Point[axis].Field, Held: held, paced: p.Main == "p99", show: showing(p.Main)})
		}
		spot := Spot{Value: p.Point[axis].Value, At: at}
		for _, row := range p.Rows {
			switch row.Figure {
			case "iops", "files", "requests":
				spot.Rate = row.Mean
			case "throughput":
				spot.Throughput = row.Mean.Mean
			case "mean", "file-mean", "put-mean", "get-mean":
				spot.Mean = cmp.Or(spot.Mean, row.Mean.Mean)
			case "p99", "file-p99", "put-p99", "get-p99":
				spot.P99 = cmp.Or(spot.P99, row.Mean.Mean)
			}
		}
		if spot.Rate.Mean > 0 {
			lines[place].Spots = append(lines[place].Spots, spot)
		}
	}
	return lines
}

// showing writes rates of what counts most of a load: whole files, requests, or operations.
func showing(main string) func(float64) string {
	if main == "files" || main == "requests" {
		return figure.Of(main).Show
	}
	return figure.Of("iops").Show
}

// readers read swept values as numbers, each in a unit of its own.
var readers = []func(string) (float64, error){
	number(quantity.ParseBytes), number(quantity.ParseShare), number(quantity.ParseNumber),
	number(quantity.ParseSeconds), number(quantity.ParseByteRate), number(quantity.ParseOpRate),
}

func number[T ~int64 | ~float64](parse func(string) (T, error)) func(string) (float64, error) {
	return func(text string) (float64, error) {
		value, err := parse(text)
		return float64(value), err
	}
}

// numeric is the reader that understands all values of an axis; nil when none does.
func numeric(points []Alone, axis int) func(string) (float64, error) {
	for _, read := range readers {
		if !slices.ContainsFunc(points, func(p Alone) bool {
			if axis >= len(p.Point) {
				return false
			}
			_, err := read(p.Point[axis].Value)
			return err != nil
		}) {
			return read
		}
	}
	return nil
}

// concurrency are the fields along which more are at work at once.
var concurrency = []string{"depth", "workers", "streams", "stores", "clients"}

// parts are the keys of an array file that count like things which work side by side.
var parts = []string{"count", "dies", "units", "devices", "hosts"}

// counts reports a field that counts such things, as "members.count" does.
func counts(field string) bool {
	return plan.OfArray(field) && slices.Contains(parts, field[strings.LastIndex(field, ".")+1:])
}

// alikeLatency is how much longer than at the first spot a latency may be to be the same.
const alikeLatency = 1.15

// flat is the last spot up to which the latency is that of the first: what takes time
// there is not waiting for one's turn. It is 0 when it grows at once.
func flat(spots []judge.Spot) (last int) {
	for i, s := range spots {
		if s.Latency > spots[0].Latency*alikeLatency {
			break
		}
		last = i
	}
	return last
}

// finished orders the spots and says what they show.
func (l Line) finished(wanted quantity.Seconds) Line {
	slices.SortStableFunc(l.Spots, func(a, b Spot) int { return cmp.Compare(a.At, b.At) })
	l.Log = true
	spots := make([]judge.Spot, len(l.Spots))
	for i, s := range l.Spots {
		spots[i] = judge.Spot{At: s.At, Rate: s.Rate.Mean, Latency: s.Mean}
		if i > 0 && s.At < 1.5*l.Spots[i-1].At || s.At <= 0 {
			l.Log = false
		}
	}
	l.Knee, l.Keeps = -1, -1
	first, last := l.Spots[0], l.Spots[len(l.Spots)-1]
	l.Words = "The rate goes from " + l.show(first.Rate.Mean) + " at " + first.Value + " to " + l.show(last.Rate.Mean) + " at " + last.Value
	if slices.Contains(concurrency, l.Field) && !l.paced {
		if alone := flat(spots); alone > 0 {
			l.Words += "; up to " + l.Field + " " + l.Spots[alone].Value + " an operation takes no longer than at " + first.Value
		}
		if l.Knee = judge.Knee(spots); l.Knee >= 0 && l.Knee < len(spots)-1 {
			l.Words += "; beyond " + l.Field + " " + l.Spots[l.Knee].Value + " more load buys more waiting than work"
		}
		if l.Scaling = judge.FitScaling(spots); l.Scaling != nil {
			l.Words += "; the share that waits for something shared is " + quantity.Share(l.Scaling.Contention).String()
		}
	}
	if counts(l.Field) && first.At > 0 {
		for i := range l.Spots {
			l.Spots[i].Efficiency = l.Spots[i].Rate.Mean / l.Spots[i].At / (first.Rate.Mean / first.At)
		}
		l.Words += "; each of " + last.Value + " does " + quantity.Share(l.Spots[len(l.Spots)-1].Efficiency).String() + " of what each of " + first.Value + " does"
		if l.Scaling = judge.FitScaling(spots); l.Scaling != nil && l.Scaling.Best > first.At && l.Scaling.Best < last.At {
			l.Words += fmt.Sprintf(", and beyond %.0f it is slower with more", l.Scaling.Best)
		}
	}
	if wanted > 0 {
		tails := make([]judge.Spot, len(l.Spots))
		for i, s := range l.Spots {
			tails[i] = judge.Spot{At: s.At, Rate: s.Rate.Mean, Latency: s.P99}
		}
		if l.Keeps = judge.Within(tails, float64(wanted)); l.Keeps >= 0 {
			l.Words += "; with p99 within " + wanted.String() + " it is " + l.show(l.Spots[l.Keeps].Rate.Mean) + " at " + l.Field + " " + l.Spots[l.Keeps].Value
		} else {
			l.Words += "; p99 stays within " + wanted.String() + " nowhere"
		}
	}
	l.Words += "."
	return l
}
