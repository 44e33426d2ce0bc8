package answer

import (
	"fmt"
	"slices"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
)

// spot is what one value of a swept part of a volume came to.
type spot struct {
	at      float64
	text    string
	rate    judge.Mean
	doubt   string // why the rate says nothing of what the value does
	of      []int64
	caution []compare.Caution
}

// restless are the findings that say that what stores was not at rest: what a larger cache does
// is then not seen yet.
var restless = []string{"still-moving", "never-settled"}

// enoughOf finds from where on more of a part of the volume gains little, of each side.
func enoughOf(sides []compare.Side, asked Asked) (answers []Conclusion) {
	type line struct {
		along
		figure string
		of     [][]spot // by side
	}
	var lines []*line
	places := map[string]*line{}
	for i, side := range sides {
		side.Samples = slices.DeleteFunc(slices.Clone(side.Samples), func(s compare.Sample) bool { return len(plan.VolumeOf(s.Point)) == 0 })
		for _, p := range compare.Points(side) {
			for _, a := range alongs(p.Stage, p.Point) {
				if !plan.OfVolume(a.field) || p.Part {
					continue
				}
				key := a.key() + "\x00" + p.Main
				l := places[key]
				if l == nil {
					l = &line{a, p.Main, make([][]spot, len(sides))}
					places[key] = l
					lines = append(lines, l)
				}
				l.of[i] = append(l.of[i], spotOf(p, a))
			}
		}
	}
	for _, l := range lines {
		f := figure.Of(l.figure)
		if f.Lower { // at a set rate no more is done
			continue
		}
		a := Conclusion{Kind: Enough, Stage: l.stage, Field: l.field, Held: l.held, Figure: l.figure}
		a.Title = l.title(fmt.Sprintf("the smallest %s beyond which less than %s of %s is gained", l.field, asked.Gain, f.Label))
		told := false
		for i, of := range l.of {
			t := enoughFor(sides[i].Name, of, f, asked.Gain)
			told = told || len(of) >= 3
			a.Sides = append(a.Sides, t)
		}
		if told {
			a.Words = a.together()
			answers = append(answers, a)
		}
	}
	return answers
}

// spotOf is the main figure of a point, on the passes that are warm.
func spotOf(p compare.Alone, l along) spot {
	s := spot{text: l.valueAt(p.Point), of: p.Measurements, caution: p.Cautions}
	for _, row := range p.Rows {
		if row.Figure != p.Main {
			continue
		}
		s.rate = row.Taken
		if len(row.Values.Values) == 0 {
			s.doubt = row.Reason
		} else if row.Unreliable != "" {
			s.doubt = "its rate is unreliable"
		}
	}
	if p.Passes.Going {
		s.doubt = "its passes were still changing"
	}
	for _, c := range p.Cautions {
		if slices.Contains(restless, c.Kind) {
			s.doubt = "it was not in steady state"
		}
	}
	return s
}

// enoughFor finds the smallest value beyond which less than a share is gained. It is looked for
// among the means; it is no less than the values of which a later one is shown to gain as much,
// and no more than the first of which all later ones are shown to gain less.
func enoughFor(side string, of []spot, f figure.Figure, gain quantity.Share) Told {
	t := Told{Side: side, Shown: "not known", Measurements: []int64{}, Cautions: []compare.Caution{}}
	texts := make([]string, len(of))
	for i, s := range of {
		texts[i] = s.text
		t.Measurements = append(t.Measurements, s.of...)
	}
	values, numbers := ordered(texts)
	switch {
	case len(of) == 0:
		t.Reason = "it was not measured"
		return t
	case len(values) < 3:
		t.Reason = "fewer than three values were measured"
		return t
	}
	line := make([]spot, len(values))
	for _, s := range of {
		i := slices.Index(values, s.text)
		s.at = numbers[i]
		line[i] = s
	}
	for _, s := range line {
		if s.doubt != "" || !(s.rate.Mean > 0) {
			t.Reason = fmt.Sprintf("at %s %s", s.text, s.doubt)
			if s.doubt == "" {
				t.Reason = "at " + s.text + " nothing was done"
			}
			return t
		}
	}
	e, known := enoughAlong(line, 1+float64(gain))
	last := line[len(line)-1]
	at := line[e.at]
	t.Value, t.Shown, t.Cautions = at.at, at.text, at.caution
	if t.Cautions == nil {
		t.Cautions = []compare.Caution{}
	}
	if e.at == len(line)-1 {
		before := line[len(line)-2]
		t.Value = 0
		t.Shown = "more than the largest value tried"
		t.Reason = fmt.Sprintf("from %s to %s, the last, it still gains %s", before.text, last.text, quantity.Share(last.rate.Mean/before.rate.Mean-1))
		return t
	}
	best := at
	for _, s := range line[e.at+1:] {
		if s.rate.Mean > best.rate.Mean {
			best = s
		}
	}
	if best.text == at.text {
		t.Reason = fmt.Sprintf("%s, and no more at any larger value tried", f.Show(at.rate.Mean))
	} else {
		t.Reason = fmt.Sprintf("%s, and at most %s at a larger value (%s)", f.Show(at.rate.Mean), f.Show(best.rate.Mean), best.text)
	}
	if !known {
		t.Range = "without repeats there is no interval"
		return t
	}
	t.Low = line[e.low].at
	if e.high >= 0 {
		t.High = line[e.high].at
	}
	switch {
	case e.low == e.high:
		t.Range = "shown"
	case e.high < 0:
		t.Range = fmt.Sprintf("%s or more", line[e.low].text)
	default:
		t.Range = fmt.Sprintf("%s to %s", line[e.low].text, line[e.high].text)
	}
	return t
}

// place is where along a line enough is, and between which places that is shown to be; high is
// -1 where nothing is.
type place struct{ at, low, high int }

// enoughAlong finds the first place of which no later one has as many times its rate, and the
// range of it. Known is false where intervals are missing.
func enoughAlong(line []spot, times float64) (p place, known bool) {
	n := len(line)
	p, known = place{n - 1, 0, -1}, true
	for i := n - 1; i >= 0; i-- {
		enough, shown := true, true
		for _, later := range line[i+1:] {
			r := later.rate.Over(line[i].rate)
			known = known && r.Known
			enough = enough && r.Mean < times
			shown = shown && r.Known && r.High < times
			if r.Known && r.Low >= times {
				p.low = max(p.low, i+1)
			}
		}
		if enough && p.at == i+1 || i == n-1 {
			p.at = i
		}
		if shown && i < n-1 && (p.high == i+1 || i == n-2) {
			p.high = i
		}
	}
	p.low = min(p.low, p.at)
	return p, known
}
