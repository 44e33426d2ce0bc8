package report

import (
	"encoding/xml"
	"errors"
	"io"
	"math"
	"strings"
	"testing"
)

// Ticks are round, within the axis, and neither few nor many.
func TestTicks(t *testing.T) {
	for _, a := range []axis{
		{low: 0, high: 1, from: 0, to: 100}, {low: 0, high: 123456, from: 100, to: 0}, {low: 0.5, high: 29.5, from: 0, to: 100}, {low: 0, high: 1e-6, from: 0, to: 1},
		{low: 0.2, high: 900, log: true, from: 0, to: 100}, {low: 1e-4, high: 1e5, log: true, from: 0, to: 100}, {low: 3, high: 4.1, from: 0, to: 10},
	} {
		ticks := a.ticks()
		if len(ticks) < 3 || len(ticks) > 15 {
			t.Errorf("%+v has %d ticks", a, len(ticks))
		}
		for _, k := range ticks {
			if k.At < min(a.from, a.to)-0.01 || k.At > max(a.from, a.to)+0.01 || len(k.Label) > 8 {
				t.Errorf("%+v: tick %+v", a, k)
			}
		}
	}
	for value, want := range map[float64]string{0: "0", 20_000: "20 k", 1500: "1500", 2.5e6: "2.5 M", 0.05: "0.05", 3e9: "3 G"} {
		if got := short(value); got != want {
			t.Errorf("%g is written %q, want %q", value, got, want)
		}
	}
}

// A chart is well-formed, whatever it is given, and nothing of a name is markup.
func TestChartsAreWellFormed(t *testing.T) {
	nan := math.NaN()
	svg, err := chart("<b>&", `"x"`, "y", true, []line{
		{"<script>alert(1)</script>", []float64{0, 1, 10, 100}, []float64{5, 0, 50, 100}},
		{"b", []float64{1, 10, 20}, []float64{nan, math.Inf(1), 3}}, {"c", []float64{2, 3}, []float64{7, 8}},
	})
	if err != nil || strings.Contains(string(svg), "<script") {
		t.Fatalf("%v %s", err, svg)
	}
	lines := 0
	for reader := xml.NewDecoder(strings.NewReader(string(svg))); ; {
		token, err := reader.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("%v in %s", err, svg)
		}
		if start, is := token.(xml.StartElement); is && start.Name.Local == "polyline" {
			lines++
		}
	}
	// Of the second line only one point can be drawn. The first has three: its zero
	// lies on no logarithmic axis.
	if lines != 2 || strings.Contains(string(svg), "NaN") || strings.Contains(string(svg), "Inf") {
		t.Errorf("%d lines in %s", lines, svg)
	}
	for _, nothing := range [][]line{nil, {{"one", []float64{1}, []float64{2}}}, {{"none", []float64{1, 2}, []float64{nan, nan}}}} {
		if svg, err := chart("t", "x", "y", false, nothing); err != nil || svg != "" {
			t.Errorf("%q (%v)", svg, err)
		}
	}
}
