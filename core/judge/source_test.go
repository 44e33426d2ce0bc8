package judge

import (
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
)

// Nine tenths of what the source gives by itself is the source's doing, half of it is not;
// and of a limit that was named no other is looked for.
func TestTheSourceAsTheLimit(t *testing.T) {
	load := workload.Default()
	load.SetBody(&files.Files{From: "/srv/films", Tasks: []files.TaskShare{{Task: files.Put, Weight: 1}}})
	summary := func(rate float64) measure.Summary {
		return measure.Summary{Total: measure.Figures{Operations: 100, Throughput: quantity.ByteRate(rate), Rate: 1}}
	}
	kinds := func(put, alone float64) string {
		source := summary(alone)
		o := Observed{Load: load, Summary: summary(put)}
		if alone > 0 {
			o.Source = &source
		}
		var kinds []string
		for _, f := range Findings(o) {
			if strings.HasPrefix(f.Kind, "limit") || strings.HasPrefix(f.Kind, "source") {
				kinds = append(kinds, f.Kind)
			}
		}
		return strings.Join(kinds, " ")
	}
	for _, c := range []struct {
		put, alone float64
		want       string
	}{
		{95e6, 100e6, "limited-by-source"}, {101e6, 100e6, "limited-by-source"}, {91e6, 100e6, "limited-by-source"},
		{89e6, 100e6, "source-is-faster limit-not-found"}, {10e6, 100e6, "source-is-faster limit-not-found"}, {10e6, 0, "limit-not-found"},
	} {
		if got := kinds(c.put, c.alone); got != c.want {
			t.Errorf("%g of %g: %q, want %q", c.put, c.alone, got, c.want)
		}
	}
}
