package cli

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/resource"
)

func printCompared(w io.Writer, c resource.Compared, chosen string) {
	fmt.Fprintf(w, "Baseline: %s\n", c.Result.Baseline.Name)
	caution := func(words string) {
		if words != "" {
			fmt.Fprintf(w, "  %s\n", indented("Caution: "+words, "  "))
		}
	}
	caution(c.Result.Baseline.Caution)
	for number, candidate := range c.Result.Candidates {
		fmt.Fprintf(w, "\nCandidate: %s\n", candidate.Name)
		fmt.Fprintf(w, "  %s\n", indented("Setup: "+candidate.Difference.Words, "  "))
		caution(candidate.Difference.Caution)
		caution(candidate.Caution)
		caution(candidate.Handling)
		if candidate.Paired != "" {
			fmt.Fprintf(w, "  %s\n", indented(candidate.Paired, "  "))
		}
		fmt.Fprintf(w, "  %s\n", indented(candidate.Words, "  "))
		if candidate.Together != "" {
			fmt.Fprintf(w, "  %s\n", indented(candidate.Together, "  "))
		}
		if candidate.Weighed != nil {
			fmt.Fprintf(w, "  %s\n", indented("With the weights: "+candidate.Weighed.Words, "  "))
		}
		if len(c.Result.Points) > 0 {
			fmt.Fprintln(w)
			printPoints(w, c.Result, number, chosen)
		}
	}
	printAnswered(w, c.Answers)
	if c.Result.Advice != "" {
		fmt.Fprintf(w, "\n%s\n", indented(c.Result.Advice, ""))
	}
	if len(c.Result.Unmatched) > 0 {
		fmt.Fprintln(w, "\nWithout a counterpart:")
		for _, u := range c.Result.Unmatched {
			fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("%s, %s: %s", u.Side, u.Title, u.Reason), "    "))
		}
	}
	doubts := map[string]bool{}
	for _, p := range c.Result.Points {
		for _, r := range p.Rows {
			values := []compare.Values{r.Baseline}
			for _, o := range r.Candidates {
				values = append(values, o.Values)
			}
			for _, v := range values {
				if v.Unreliable != "" && !doubts[v.Unreliable] {
					doubts[v.Unreliable] = true
					fmt.Fprintf(w, "\n(?) unreliable, %s:\n  %s\n", p.Title, indented(v.Unreliable, "  "))
				}
			}
		}
	}
	printCautions(w, c.Result)
	if c.ID > 0 {
		fmt.Fprintf(w, "\nKept as comparison %d, %q.\n", c.ID, c.Name)
	}
}

// printCautions prints what is to be known of what was measured, each once.
func printCautions(w io.Writer, c compare.Result) {
	var order []string
	titles := map[string][]string{}
	for _, p := range c.Points {
		for _, caution := range p.Cautions {
			text := caution.Words
			if titles[text] == nil {
				order = append(order, text)
			}
			titles[text] = append(titles[text], p.Title)
		}
	}
	if len(order) > 0 {
		fmt.Fprintln(w, "\nCautions:")
	}
	for _, text := range order {
		fmt.Fprintf(w, "  %s\n", indented(strings.Join(titles[text], ", ")+"; "+text, "    "))
	}
}

// printPoints prints the points of one candidate in the order of the baseline, and
// what is to be said of their repeats.
func printPoints(w io.Writer, c compare.Result, candidate int, chosen string) {
	t := newTable(w, 3, "stage", "figure", "baseline", "candidate", "ratio", "95 % interval", "verdict")
	names := namesFor(w, 78)
	var remarks []string
	for _, point := range c.Points {
		heading, name := names.row(point.Stage, point.Point)
		if heading != "" {
			t.AppendRow(table.Row{heading})
		}
		row := point.Row(cmp.Or(chosen, point.Main))
		t.AppendRow(comparedRow(name, row, candidate))
		if point.Cold != nil && row.Figure == point.Cold.Figure {
			t.AppendRow(comparedRow("    first pass alone", *point.Cold, candidate))
		}
		if point.Means != "" {
			remarks = append(remarks, fmt.Sprintf("%s, by other means: %s.", point.Title, point.Means))
		}
		if candidate < len(row.Candidates) {
			for who, remark := range []string{row.Baseline.Remark, row.Candidates[candidate].Remark} {
				if remark != "" {
					remarks = append(remarks, fmt.Sprintf("%s, %s: %s.", point.Title, []string{"baseline", "candidate"}[who], remark))
				}
			}
		}
	}
	var right []table.ColumnConfig
	for column := 3; column <= 6; column++ {
		right = append(right, table.ColumnConfig{Number: column, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(right)
	t.Render()
	for _, remark := range remarks {
		fmt.Fprintf(w, "  %s\n", indented(remark, "    "))
	}
}

func indented(words, by string) string {
	return strings.ReplaceAll(wrapped(words, 98-len(by)), "\n", "\n"+by)
}

func comparedRow(name string, r compare.Row, candidate int) table.Row {
	f := figure.Of(r.Figure)
	row := table.Row{name, r.Figure, shown(f, r.Baseline), "", "", "", ""}
	if candidate >= len(r.Candidates) {
		row[6] = "no such figure"
		return row
	}
	o := r.Candidates[candidate]
	row[3], row[6] = shown(f, o.Values), string(o.Verdict)
	if o.Ratio.Value > 0 || len(o.Values.Values) > 0 && o.Taken.Mean == 0 {
		row[4] = quantity.Digits(o.Ratio.Value)
	}
	if o.High > 0 {
		row[5] = quantity.Digits(o.Low) + " to " + quantity.Digits(o.High)
	}
	if o.Verdict == judge.Same {
		row[6] = "the same"
	}
	return row
}

func shown(f figure.Figure, v compare.Values) string {
	if len(v.Repeated.Values) == 0 {
		return "none"
	}
	value := f.Show(v.Taken.Mean)
	if v.Unreliable != "" {
		value += " (?)"
	}
	return value
}

// comparisonCSV writes one row a point, figure and candidate, in full.
func comparisonCSV(w io.Writer, c resource.Compared) error {
	out := csv.NewWriter(w)
	full := func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }
	rows := [][]string{{
		"point", "figure", "passes", "unit", "candidate", "verdict", "ratio", "ratio_low", "ratio_high", "chance",
		"baseline_mean", "baseline_low", "baseline_high", "baseline_repeats", "baseline_unreliable",
		"candidate_mean", "candidate_low", "candidate_high", "candidate_repeats", "candidate_unreliable", "reason",
	}}
	for _, p := range c.Result.Points {
		compared := p.Rows
		if p.Cold != nil {
			compared = append(slices.Clone(compared), *p.Cold)
		}
		for n, r := range compared {
			passes := "warm"
			if n == len(p.Rows) {
				passes = "first"
			} else if p.Cold == nil {
				passes = "all"
			}
			for i, o := range r.Candidates {
				reason := o.Reason
				if reason == "" {
					reason = r.Baseline.Reason
				}
				b, v := r.Baseline, o.Values
				rows = append(rows, []string{
					resource.Cell(p.Title), r.Figure, passes, figure.Of(r.Figure).Unit, resource.Cell(c.Result.Candidates[i].Name), string(o.Verdict), full(o.Ratio.Value), full(o.Low), full(o.High), full(o.Chance),
					full(b.Taken.Mean), full(b.Taken.Low), full(b.Taken.High), strconv.Itoa(len(b.Repeated.Values)), b.Unreliable,
					full(v.Taken.Mean), full(v.Taken.Low), full(v.Taken.High), strconv.Itoa(len(v.Repeated.Values)), v.Unreliable, resource.Cell(reason),
				})
			}
		}
	}
	return out.WriteAll(rows)
}
