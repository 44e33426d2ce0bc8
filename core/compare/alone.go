package compare

import (
	"fmt"
	"strings"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
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
	Cautions     []Caution      `json:"cautions" doc:"What is to be known of what was measured"`
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
		a := Alone{Stage: of[0].Stage, Point: of[0].Point, Title: key, Load: of[0].Load.Describe(), Part: of[0].Part, Main: mainOf(of), Measurements: numbers(of), Cautions: cautions(side.Name, of)}
		main := figure.Of(a.Main)
		a.Passes = passesOf(of, main, usual)
		for _, f := range figure.For(of[0].Load) {
			if f.OfPhases() && !severalPhases(of) || f.Rare && !told(f, [][]Sample{of}) {
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
		words = append(words, "unreliable: "+v.Unreliable)
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
	return fmt.Sprintf("only the first repeat began with a burst of %s for %s, until a cache or a fast region was full", f.From, f.Bytes)
}

// passesInWords says what was cold and what is warm. A load that is slower once it
// is warm is said to be.
func passesInWords(f figure.Figure, v Values, p judge.Passes) string {
	all := v.Every()
	first, last := f.Show(all[0]), f.Show(all[len(all)-1])
	slower := ""
	if (p.Gain < 0) != f.Lower {
		slower = "; it gets slower as it warms: the state that the first passes leave costs more than it saves"
	}
	switch {
	case p.Going:
		return fmt.Sprintf("still changing from pass to pass, from %s to %s at the last: not warm yet%s", first, last, slower)
	case p.Shape == judge.FirstApart:
		return fmt.Sprintf("the first pass differs: %s cold, %s warm%s", first, f.Show(v.Taken.Mean), slower)
	}
	from := fmt.Sprint(p.Warm)
	if p.Low < p.High {
		from += fmt.Sprintf(" (%d to %d)", p.Low, p.High)
	}
	return fmt.Sprintf("warm from pass %s on: %s cold, %s warm%s", from, first, f.Show(v.Taken.Mean), slower)
}
