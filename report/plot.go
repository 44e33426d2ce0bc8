package report

import (
	"bytes"
	"fmt"
	"html/template"
	"math"
	"strconv"
	"strings"

	"patientheron/core/measure"
)

// line is one line of a chart. Lines differ by colour, dash and the legend's
// word, so that they survive print.
type line struct {
	name string
	x, y []float64
}

// inks and dashes are those of the baseline and the candidates, in order.
var (
	inks   = []string{"#455a6e", "#2e7d5b", "#b7791f", "#6f5597", "#1f7a8c", "#964a3c", "#5c6b26", "#a05082", "#3c3c3c"}
	dashes = []string{"", "6 3", "2 2", "8 3 2 3", "4 4", "10 4", "2 4", "6 2 2 2 2 2", "12 3"}
)

// The size of a chart and of the room around its field, in the units of its view.
const (
	width, height            = 640, 280
	left, right, top, bottom = 64, 16, 30, 44
)

// drawing is a chart worked out: everything in the units of its view. The texts stand
// in the page's own fonts.
type drawing struct {
	Title, XLabel, YLabel, Words string
	Width, Height                float64
	Left, Right, Top, Bottom     float64 // edges of the field
	Middle, Centre               float64 // of the field, across and down
	XTicks, YTicks               []tick
	Lines                        []drawn
	Spots                        []spot
}

// spot is one named point of a scatter; those that stand out are filled.
type spot struct {
	X, Y   float64
	Label  string
	Filled bool
	Aside  float64 // where the label stands beside it
	Anchor string
}

type tick struct {
	At    float64
	Label string
}

type drawn struct {
	Name, Ink, Dash, Points string
	Row                     float64 // of its word in the legend; 0 for none
}

var chartTemplate = template.Must(template.New("chart").Parse(`<svg role="img" aria-label="{{.Words}}" viewBox="0 0 {{.Width}} {{.Height}}" xmlns="http://www.w3.org/2000/svg" class="chart" font-size="11" fill="#2f3640">
<text x="{{.Middle}}" y="16" text-anchor="middle" font-size="13">{{.Title}}</text>
{{range .YTicks}}<line x1="{{$.Left}}" x2="{{$.Right}}" y1="{{.At}}" y2="{{.At}}" stroke="#2f3640" stroke-opacity="0.15"/><text x="{{$.Left}}" y="{{.At}}" dx="-6" dy="4" text-anchor="end">{{.Label}}</text>
{{end}}{{range .XTicks}}<line x1="{{.At}}" x2="{{.At}}" y1="{{$.Bottom}}" y2="{{$.Top}}" stroke="#2f3640" stroke-opacity="0.15"/><text x="{{.At}}" y="{{$.Bottom}}" dy="15" text-anchor="middle">{{.Label}}</text>
{{end}}<text x="{{.Middle}}" y="{{.Height}}" dy="-8" text-anchor="middle">{{.XLabel}}</text>
<text transform="translate(13 {{.Centre}}) rotate(-90)" text-anchor="middle">{{.YLabel}}</text>
{{range .Lines}}<polyline points="{{.Points}}" fill="none" stroke="{{.Ink}}" stroke-width="1.8" stroke-linejoin="round" stroke-dasharray="{{.Dash}}"/>
{{if .Row}}<text x="{{$.Right}}" y="{{.Row}}" dx="-34" text-anchor="end">{{.Name}}</text><path d="M -30 -4 h 28" transform="translate({{$.Right}} {{.Row}})" stroke="{{.Ink}}" stroke-width="1.8" stroke-dasharray="{{.Dash}}"/>
{{end}}{{end}}{{range .Spots}}<circle cx="{{.X}}" cy="{{.Y}}" r="5" stroke="#2e7d5b" stroke-width="1.8" fill="{{if .Filled}}#2e7d5b{{else}}#ffffff{{end}}"/><text x="{{.X}}" y="{{.Y}}" dx="{{.Aside}}" dy="4" text-anchor="{{.Anchor}}">{{.Label}}</text>
{{end}}</svg>`))

// axis turns values into places: from low at the one end to high at the other.
type axis struct {
	low, high float64
	log       bool
	from, to  float64
}

func (a axis) at(value float64) float64 {
	low, high := a.low, a.high
	if a.log {
		value, low, high = math.Log10(value), math.Log10(low), math.Log10(high)
	}
	return math.Round((a.from+(value-low)/(high-low)*(a.to-a.from))*100) / 100
}

// ticks are round values along an axis: each decade of a logarithmic one, also at 2
// and 5 where it has few, and about five steps of 1, 2 or 5 times a power of ten on
// any other.
func (a axis) ticks() (ticks []tick) {
	add := func(value float64) {
		if value >= a.low*(1-1e-9) && value <= a.high*(1+1e-9) {
			ticks = append(ticks, tick{a.at(value), short(value)})
		}
	}
	if a.log {
		first, last := math.Floor(math.Log10(a.low)), math.Ceil(math.Log10(a.high))
		for decade := first; decade <= last; decade++ {
			add(math.Pow(10, decade))
			if last-first <= 3 {
				add(2 * math.Pow(10, decade))
				add(5 * math.Pow(10, decade))
			}
		}
		return ticks
	}
	step := math.Pow(10, math.Floor(math.Log10((a.high-a.low)/5)))
	for _, times := range []float64{1, 2, 5, 10} {
		if (a.high-a.low)/(step*times) <= 6 {
			step *= times
			break
		}
	}
	for n := math.Ceil(a.low / step); n*step <= a.high*(1+1e-9); n++ {
		add(n * step)
	}
	return ticks
}

// short writes a number for an axis: 20 k for 20,000.
func short(value float64) string {
	unit := ""
	switch {
	case value >= 1e9:
		value, unit = value/1e9, " G"
	case value >= 1e6:
		value, unit = value/1e6, " M"
	case value >= 1e4:
		value, unit = value/1e3, " k"
	}
	return strconv.FormatFloat(value, 'g', 4, 64) + unit
}

// chart draws lines as an SVG that stands in a page; nothing when no line has two
// points. Logarithmic axes leave out what is not above zero. The other axis begins at
// zero.
func chart(title, xLabel, yLabel string, logX bool, lines []line) (template.HTML, error) {
	x := axis{low: math.Inf(1), high: math.Inf(-1), log: logX, from: left, to: width - right}
	y := axis{low: 0, high: 0, from: height - bottom, to: top}
	good := func(l line, j int) bool {
		return !math.IsNaN(l.y[j]) && !math.IsInf(l.y[j], 0) && !(logX && l.x[j] <= 0)
	}
	for _, l := range lines {
		for j := range l.x {
			if good(l, j) {
				x.low, x.high, y.high = min(x.low, l.x[j]), max(x.high, l.x[j]), max(y.high, l.y[j])
			}
		}
	}
	if !(x.high > x.low) {
		return "", nil
	}
	if y.high *= 1.15; y.high <= 0 {
		y.high = 1
	}
	d := field(title, xLabel, yLabel, x, y)
	names := make([]string, len(lines))
	for i, l := range lines {
		names[i] = l.name
		var points []string
		for j := range l.x {
			if good(l, j) {
				points = append(points, fmt.Sprintf("%g,%g", x.at(l.x[j]), y.at(l.y[j])))
			}
		}
		if len(points) < 2 {
			continue
		}
		one := drawn{Name: l.name, Ink: inks[i%len(inks)], Dash: dashes[i%len(dashes)], Points: strings.Join(points, " ")}
		if len(lines) > 1 {
			one.Row = float64(height - bottom - 8 - 14*(len(lines)-1-i)) // where rates and shares leave room
		}
		d.Lines = append(d.Lines, one)
	}
	if len(d.Lines) == 0 {
		return "", nil
	}
	d.Words = title + ": " + strings.Join(names, ", ")
	return d.drawn()
}

// scatter draws named points as an SVG that stands in a page; nothing for fewer than two.
// Both axes begin at zero.
func scatter(title, xLabel, yLabel string, spots []spot) (template.HTML, error) {
	if len(spots) < 2 {
		return "", nil
	}
	x := axis{from: left, to: width - right}
	y := axis{from: height - bottom, to: top}
	for _, s := range spots {
		x.high, y.high = max(x.high, s.X), max(y.high, s.Y)
	}
	x.high, y.high = max(x.high*1.1, 1e-9), max(y.high*1.15, 1e-9)
	d := field(title, xLabel, yLabel, x, y)
	var words []string
	for _, s := range spots {
		words = append(words, fmt.Sprintf("%s: %s, %s", s.Label, short(s.X), short(s.Y)))
		s.X, s.Y, s.Aside, s.Anchor = x.at(s.X), y.at(s.Y), 9, "start"
		if s.X > d.Middle { // the label has room on the other side
			s.Aside, s.Anchor = -9, "end"
		}
		d.Spots = append(d.Spots, s)
	}
	d.Words = title + ": " + strings.Join(words, "; ")
	return d.drawn()
}

// field is a drawing with its axes and nothing on them.
func field(title, xLabel, yLabel string, x, y axis) drawing {
	return drawing{
		Title: title, XLabel: xLabel, YLabel: yLabel, Width: width, Height: height,
		Left: left, Right: width - right, Top: top, Bottom: height - bottom,
		Middle: (left + width - right) / 2, Centre: (top + height - bottom) / 2,
		XTicks: x.ticks(), YTicks: y.ticks(),
	}
}

func (d drawing) drawn() (template.HTML, error) {
	var b bytes.Buffer
	if err := chartTemplate.Execute(&b, d); err != nil {
		return "", fmt.Errorf("draw %s: %w", d.Title, err)
	}
	return template.HTML(b.String()), nil //nolint:gosec // the template has escaped what it was given
}

// add adds the rate of an interval to a line over time.
func (l *line) add(i measure.Interval) {
	l.x = append(l.x, float64(i.Start+i.Length/2))
	l.y = append(l.y, float64(i.Moved().Rate))
}

// shareLine is a latency histogram as the share of operations done within a
// time.
func shareLine(name string, bars []measure.Bar) line {
	l := line{name: name}
	total, sum := int64(0), int64(0)
	for _, b := range bars {
		total += b.Count
	}
	for _, b := range bars {
		sum += b.Count
		l.x = append(l.x, float64(b.To)*1e3)
		l.y = append(l.y, float64(sum)/float64(total)*100)
	}
	return l
}
