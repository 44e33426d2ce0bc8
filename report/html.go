package report

import (
	"cmp"
	"embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"

	"patientheron/core/answer"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/format/planfile"
	"patientheron/resource"
)

//go:embed *.gohtml
var templates embed.FS

var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"figure": show, "label": func(key string) string { return figure.Of(key).Label },
	"share": func(s quantity.Share) string { return s.String() },
	"label2": func(key string) string {
		if f, err := setup.Lookup(key); err == nil {
			return f.Label
		}
		return key
	},
	"part": setup.Part, "digits": quantity.Digits, "join": strings.Join,
	"percent": func(v float64) string { return quantity.Digits(v*100) + " %" },
	"add":     func(a, b int) int { return a + b },
	"price":   quantity.Price, "failures": setup.Failures,
	"answer": func(a setup.Answer) string {
		return map[setup.Answer]string{setup.Yes: "better", setup.No: "worse"}[a]
	},
	"outcome": func(s judge.Outcome) string {
		return map[judge.Outcome]string{judge.Meets: "better", judge.FallsShort: "worse", judge.Undecided: "caution"}[s]
	},
}).ParseFS(templates, "*.gohtml"))

// show prints a figure's value for people.
func show(key string, value float64) string { return figure.Of(key).Show(value) }

// most is how many charts of one kind a page holds; beyond that it would not
// be read.
const most = 16

// runPage is what the page of a run shows.
type runPage struct {
	resource.Run
	Question string
	Result   []string
	Points   []pointPart
	Findings []namedFinding
	Charts   []template.HTML
	Markers  []resource.Marker
	Lines    []compare.Line
	Answers  []answer.Conclusion
	Tuned    []resource.StageTuned
	Sweeps   []template.HTML
	Failed   []resource.Measurement
	Plan     string
	Left     int // charts left out

	Beside string // with which runs it was made together
	Races  []resource.NamedRace
	Ahead  []template.HTML // a chart of each race
}

type pointPart struct{ compare.Alone }

// Shown are the rows of a point that the page shows.
func (p pointPart) Shown() []compare.Single {
	return slices.DeleteFunc(slices.Clone(p.Rows), func(r compare.Single) bool { return !slices.Contains(shown, r.Figure) || len(r.Values.Values) == 0 })
}

// shown are the figures of a page's tables.
var shown = []string{"throughput", "start", "sustained", "until-fall", "bytes-until-fall", "iops", "mean", "p50", "p99", "p99.9", "files", "finish", "file-mean", "file-p50", "file-p99", "file-p99.9", "late", "stall", "worst", "cpu", "placed", "commands", "wire", "answered"}

type namedFinding struct {
	Where string
	judge.Finding
}

// WriteRun writes a run as one page that needs nothing else: no network, no
// script, no other file.
// Series and distributions are fetched for what is drawn, and for nothing else.
func WriteRun(w io.Writer, e Results, shape resource.Shape) error {
	page := runPage{Run: e.Run, Question: e.Run.Plan.Why, Markers: e.Markers, Lines: shape.Lines, Answers: shape.Answers, Tuned: shape.Tuned, Plan: planfile.Write(e.Run.Plan), Beside: e.Run.Beside(), Races: e.Races}
	loads := map[int64]resource.Measurement{}
	seen := map[string]bool{}
	for _, m := range e.Measurements {
		loads[m.ID] = m
		if m.Status != resource.Finished {
			page.Failed = append(page.Failed, m)
		}
		for _, f := range m.Findings {
			if key := m.Title() + f.Kind + f.Sentence; f.Weight != judge.Info && !seen[key] {
				seen[key] = true
				page.Findings = append(page.Findings, namedFinding{fmt.Sprintf("%s, repeat %d", m.Title(), m.Repeat), f})
			}
		}
	}
	otherwise := map[string]bool{} // stages whose answer is another than what their points came to
	for _, t := range shape.Tuned {
		page.Result = append(page.Result, t.Words)
		otherwise[t.Stage] = true
	}
	for _, m := range e.Measurements {
		if m.Stage >= 1 && m.Stage <= len(e.Run.Plan.Stages) && e.Run.Plan.Stages[m.Stage-1].Fit != nil {
			otherwise[m.Name] = true
		}
	}
	for _, a := range shape.Answers {
		if a.Kind == answer.Kept && otherwise[a.Stage] {
			page.Result = append(page.Result, a.Title+": "+a.Words)
		}
	}
	for _, p := range shape.Points {
		page.Points = append(page.Points, pointPart{p})
		if !otherwise[p.Stage] {
			page.Result = append(page.Result, sentence(p))
		}
		if p.Part { // the charts are those of all
			continue
		}
		if len(page.Charts) >= most {
			page.Left++
			continue
		}
		var rates, shares []line
		for _, id := range p.Measurements {
			name := fmt.Sprintf("repeat %d", loads[id].Repeat)
			rate := line{name: name}
			if err := e.Series(id, func(i measure.Interval) error { rate.add(i); return nil }); err != nil {
				return err
			}
			latency, err := e.Latency(id)
			if err != nil {
				return err
			}
			rates, shares = append(rates, rate), append(shares, shareLine(name, joined(latency)))
		}
		for _, c := range []struct {
			y, x  string
			log   bool
			lines []line
		}{{"operations per second", "seconds", false, rates}, {"% of operations within", "latency in ms", true, shares}} {
			svg, err := chart(p.Title, c.x, c.y, c.log, c.lines)
			if err != nil {
				return err
			}
			page.Charts = append(page.Charts, svg)
		}
	}
	for _, r := range e.Races[:min(len(e.Races), most)] {
		svg, err := aheadChart(r)
		if err != nil {
			return err
		}
		page.Ahead = append(page.Ahead, svg)
	}
	for _, l := range shape.Lines {
		of := line{name: "rate"}
		for _, s := range l.Spots {
			of.x, of.y = append(of.x, s.At), append(of.y, s.Rate.Mean)
		}
		svg, err := chart(l.Stage+" by "+l.Field, l.Field, "operations a second", l.Log, []line{of})
		if err != nil {
			return err
		}
		page.Sweeps = append(page.Sweeps, svg)
	}
	if err := pages.ExecuteTemplate(w, "run.gohtml", page); err != nil {
		return fmt.Errorf("write the report of run %d: %w", e.Run.ID, err)
	}
	return nil
}

// aheadChart draws by how much each racer was ahead of the one that had done least.
func aheadChart(r resource.NamedRace) (template.HTML, error) {
	unit, of := "files ahead of the last", 1.0
	if r.Counts == "bytes" {
		unit, of = "MB ahead of the last", 1e6
	}
	var lines []line
	for _, s := range r.Racers {
		ahead := line{name: s.Name}
		for _, m := range s.Line {
			ahead.x, ahead.y = append(ahead.x, float64(m.At)), append(ahead.y, m.Ahead/of)
		}
		lines = append(lines, ahead)
	}
	return chart(fmt.Sprintf("%s, repeat %d", r.Title, r.Repeat), "seconds", unit, false, lines)
}

// joined is the distribution of all that moves bytes of the load together: the
// classes share their buckets.
func joined(d resource.Distribution) (bars []measure.Bar) {
	var all []measure.Bar
	for class := range measure.EachClass() {
		if class.Moves() {
			all = append(all, d.Classes[class].Bars...)
		}
	}
	slices.SortStableFunc(all, func(a, b measure.Bar) int { return cmp.Compare(a.To, b.To) })
	for _, b := range all {
		if n := len(bars); n > 0 && bars[n-1].To == b.To {
			bars[n-1].Count += b.Count
			continue
		}
		bars = append(bars, b)
	}
	return bars
}

// sentence says in words what a point came to.
func sentence(p compare.Alone) string {
	for _, r := range p.Rows {
		if r.Figure != p.Main || len(r.Values.Values) == 0 {
			continue
		}
		text := fmt.Sprintf("%s: %s of %s", p.Title, show(r.Figure, r.Mean.Mean), figure.Of(r.Figure).Label)
		if r.Mean.Known {
			text += fmt.Sprintf(" (95 %% interval %s to %s, %d repeats)", show(r.Figure, max(r.Mean.Low, 0)), show(r.Figure, r.Mean.High), len(r.Values.Values))
		} else {
			text += " (one repeat, spread not known)"
		}
		if r.Unreliable != "" {
			text += ". Unreliable: " + r.Unreliable
		}
		return text
	}
	return p.Title + ": no result."
}

// comparisonPage is what the page of a comparison shows.
type comparisonPage struct {
	resource.Compared
	Sides    []sidePart
	Points   []comparedPoint
	Charts   []template.HTML
	Findings []namedFinding
	Repeat   string
	Left     int
}

type sidePart struct {
	Name string
	Runs []resource.RunDetail
}

type comparedPoint struct {
	compare.Match
}

type comparedRow struct {
	compare.Row
	Cold bool
}

// Shown are the rows of a point that the page shows, that of the first passes after
// the one it belongs to.
func (p comparedPoint) Shown() (rows []comparedRow) {
	for _, r := range p.Rows {
		if slices.Contains(shown, r.Figure) {
			rows = append(rows, comparedRow{Row: r})
		}
		if p.Cold != nil && r.Figure == p.Cold.Figure {
			rows = append(rows, comparedRow{*p.Cold, true})
		}
	}
	return rows
}

// shellWord is a text as one word of a command line.
func shellWord(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }

// WriteComparison writes a comparison as one page that needs nothing else. Histogram
// gives that of a measurement, all that moves bytes together; it is asked for those
// that are drawn.
func WriteComparison(w io.Writer, c resource.Compared, runs map[int64]resource.RunDetail, histogram func(measurement int64) (*measure.Histogram, error)) error {
	page := comparisonPage{Compared: c, Repeat: "heron compare " + group(c.Baseline)}
	names := []string{c.Result.Baseline.Name}
	groups := append([]resource.Group{c.Baseline}, c.Candidates...)
	for i, g := range c.Candidates {
		names = append(names, c.Result.Candidates[i].Name)
		page.Repeat += " " + group(g)
	}
	page.Repeat += fmt.Sprintf(" --noise %s", strings.ReplaceAll(c.Noise.String(), " ", ""))
	for _, w := range c.Weights {
		page.Repeat += " --weigh " + shellWord(fmt.Sprintf("%s=%g", w.Stage, w.Weight))
	}
	for _, as := range c.Asked.As {
		page.Repeat += " --as " + shellWord(as.Baseline+"="+as.Candidate)
	}
	if c.Asked.Within > 0 {
		page.Repeat += " --p99 " + strings.ReplaceAll(c.Asked.Within.String(), " ", "")
	}
	for i, g := range groups {
		part := sidePart{Name: names[i]}
		for _, id := range g.Runs {
			run := runs[id]
			part.Runs = append(part.Runs, run)
			for _, m := range run.Measurements {
				for _, f := range m.Findings {
					if f.Weight != judge.Info {
						page.Findings = append(page.Findings, namedFinding{fmt.Sprintf("%s, %s, repeat %d", names[i], m.Title(), m.Repeat), f})
					}
				}
			}
		}
		page.Sides = append(page.Sides, part)
	}
	for _, p := range c.Result.Points {
		page.Points = append(page.Points, comparedPoint{p})
		if len(page.Charts) >= most {
			page.Left++
			continue
		}
		var lines []line
		for i, of := range p.Measurements {
			together := measure.NewHistogram()
			for _, id := range of {
				h, err := histogram(id)
				if err != nil {
					return err
				}
				together.Merge(h)
			}
			lines = append(lines, shareLine(names[i], together.Bars(40)))
		}
		svg, err := chart(p.Title, "latency in ms", "% of operations within", true, lines)
		if err != nil {
			return err
		}
		page.Charts = append(page.Charts, svg)
	}
	if err := pages.ExecuteTemplate(w, "comparison.gohtml", page); err != nil {
		return fmt.Errorf("write the report of a comparison: %w", err)
	}
	return nil
}

// group writes a group of runs as the command line reads it.
func group(g resource.Group) string {
	parts := make([]string, len(g.Runs))
	for i, id := range g.Runs {
		parts[i] = fmt.Sprint(id)
	}
	runs := strings.Join(parts, "+")
	if g.Marker != "" {
		return shellWord(fmt.Sprintf("%s@%s:%s", runs, g.Half, g.Marker))
	}
	return runs
}
