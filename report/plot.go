package report

import (
	"bytes"
	"fmt"
	"html/template"
	"image/color"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

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
	inks   = []color.RGBA{{69, 90, 110, 255}, {46, 125, 91, 255}, {183, 121, 31, 255}, {111, 85, 151, 255}, {31, 122, 140, 255}, {150, 74, 60, 255}, {92, 107, 38, 255}, {160, 80, 130, 255}, {60, 60, 60, 255}}
	dashes = [][]vg.Length{nil, {6, 3}, {2, 2}, {8, 3, 2, 3}, {4, 4}, {10, 4}, {2, 4}, {6, 2, 2, 2, 2, 2}, {12, 3}}
)

// chart draws lines as an SVG that stands in a page. Logarithmic axes leave out
// what is not above zero.
func chart(title, xLabel, yLabel string, logX bool, lines []line) (template.HTML, error) {
	p := plot.New()
	p.Title.Text, p.X.Label.Text, p.Y.Label.Text = title, xLabel, yLabel
	p.Title.TextStyle.Font.Size, p.Legend.TextStyle.Font.Size = 11, 9
	p.X.Label.TextStyle.Font.Size, p.Y.Label.TextStyle.Font.Size = 9, 9
	p.X.Tick.Label.Font.Size, p.Y.Tick.Label.Font.Size = 8, 8
	p.Legend.Top = true
	p.Y.Min = 0
	if logX {
		p.X.Scale, p.X.Tick.Marker = plot.LogScale{}, plot.LogTicks{Prec: -1}
	}
	drawn := 0
	for i, l := range lines {
		points := plotter.XYs{}
		for j := range l.x {
			if math.IsNaN(l.y[j]) || math.IsInf(l.y[j], 0) || logX && l.x[j] <= 0 {
				continue
			}
			points = append(points, plotter.XY{X: l.x[j], Y: l.y[j]})
		}
		if len(points) < 2 {
			continue
		}
		drawing, err := plotter.NewLine(points)
		if err != nil {
			return "", fmt.Errorf("draw %s: %w", title, err)
		}
		drawing.Color, drawing.Dashes, drawing.Width = inks[i%len(inks)], dashes[i%len(dashes)], 1.2
		p.Add(drawing)
		if len(lines) > 1 {
			p.Legend.Add(l.name, drawing)
		}
		drawn++
	}
	if drawn == 0 {
		return "", nil
	}
	p.Y.Min = 0 // a chart of rates begins at nothing
	p.Y.Max *= 1.25
	canvas := vgsvg.New(16*vg.Centimeter, 7*vg.Centimeter)
	p.Draw(draw.New(canvas))
	var b bytes.Buffer
	if _, err := canvas.WriteTo(&b); err != nil {
		return "", fmt.Errorf("draw %s: %w", title, err)
	}
	_, svg, _ := strings.Cut(b.String(), "?>")
	names := make([]string, len(lines))
	for i, l := range lines {
		names[i] = l.name
	}
	svg = strings.Replace(svg, "<svg ", fmt.Sprintf(`<svg role="img" aria-label="%s" `, template.HTMLEscapeString(title+": "+strings.Join(names, ", "))), 1)
	// The library escapes what it writes as text; nothing else comes from outside.
	return template.HTML(svg), nil //nolint:gosec // see above
}

// rateLine is a measurement's rate over time.
func rateLine(name string, series []measure.Interval) line {
	l := line{name: name}
	for _, i := range series {
		l.x = append(l.x, float64(i.Start+i.Length/2))
		l.y = append(l.y, float64(i.Moved().Rate))
	}
	return l
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
