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

	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/resource"
)

// printNeed says what a need asks for.
func printNeed(w io.Writer, n need.Need) {
	fmt.Fprintf(w, "%s\n", n.Name)
	if n.Why != "" {
		fmt.Fprintf(w, "  %s\n", indented(n.Why, "  "))
	}
	fmt.Fprintln(w)
	t := newTable(w, 9, "use", "judged by", "requirement")
	judgedBy := map[string]string{}
	for _, u := range n.Uses {
		judgedBy[u.Name] = fmt.Sprintf("the stage %q", u.Stage)
		if u.Load != nil {
			judgedBy[u.Name] = u.Load.Describe()
		}
	}
	last := ""
	for _, d := range n.Demands() {
		use, by := d.Use, judgedBy[d.Use]
		if use == last && use != "" {
			use, by = "", ""
		}
		last = d.Use
		t.AppendRow(table.Row{use, shorten(by, 44), d.Words})
	}
	t.Render()
}

// needGate turns verdicts into an exit code.
func needGate(v resource.Verdicts) error {
	var short, open []string
	for _, j := range v.Judged {
		if len(j.Setups) == 0 {
			open = append(open, "no setup was judged")
		}
		for _, s := range j.Setups {
			switch s.Outcome {
			case judge.FallsShort:
				short = append(short, s.Name+" "+s.Words)
			case judge.Undecided, judge.NotMeasured:
				open = append(open, s.Name+": "+s.Words)
			}
		}
	}
	switch {
	case len(short) > 0:
		return &GateError{3, strings.Join(short, "\n")}
	case len(open) > 0:
		return &GateError{4, strings.Join(open, "\n")}
	}
	return nil
}

// printVerdicts prints each need: what to do, the setups by number, and demands against
// those.
func printVerdicts(w io.Writer, v resource.Verdicts) {
	for i, j := range v.Judged {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "Need: %s\n", j.Need.Name)
		if j.Error != "" {
			fmt.Fprintf(w, "  %s\n", indented("This sheet cannot be read: "+j.Error, "  "))
			continue
		}
		fmt.Fprintf(w, "  %s\n", indented(j.Words, "  "))
		for _, g := range j.GiveUp {
			if !strings.Contains(j.Words, g.Words) {
				fmt.Fprintf(w, "  %s\n", indented(g.Words, "  "))
			}
		}
		if j.Wanted != "" {
			fmt.Fprintf(w, "  %s\n", indented(j.Wanted, "  "))
		}
		for _, remark := range j.Remarks {
			fmt.Fprintf(w, "  %s\n", indented("Caution: "+remark, "  "))
		}
		if len(j.Setups) > 0 {
			printAnswers(w, j.Judged)
		}
		if len(j.Untouched) > 0 {
			fmt.Fprintf(w, "\n%s\n", indented("No use was measured on: "+strings.Join(j.Untouched, ", ")+".", ""))
		}
	}
	for _, left := range v.Left {
		fmt.Fprintf(w, "\n%s\n", indented("Left out: "+left+".", ""))
	}
}

func printAnswers(w io.Writer, j need.Judged) {
	fmt.Fprintln(w)
	t := newTable(w, 4, "", "setup", "all together", "tightest", "price", "runs")
	for n, s := range j.Setups {
		row := table.Row{n + 1, shorten(s.Name, 44), s.Outcome, "", "", runsOf(resource.Group{Runs: s.Runs})}
		if s.Carries > 0 {
			row[3] = need.Times(s.Carries)
		}
		if s.Price > 0 {
			row[4] = quantity.Price(s.Price)
			if s.Frontier {
				row[4] = "* " + row[4].(string)
			}
		}
		t.AppendRow(row)
	}
	t.Render()
	if slices.ContainsFunc(j.Setups, func(s need.Answer) bool { return s.Frontier }) {
		fmt.Fprintln(w, "  * Pareto-optimal: no other setup has the same headroom for less, or more for the same price")
	}
	width := cmp.Or(widthOf(w), usualWidth)
	for from := 0; from < len(j.Setups); {
		to := min(from+max((width-demandWidth)/cellWidth, 1), len(j.Setups))
		printMatrix(w, j, from, to)
		from = to
	}
	fmt.Fprintln(w, "  ×1.5 exceeds the requirement by this factor; -20% falls short by this; ? not shown; . not measured")
	if j.Need.WantsHeadroom() {
		fmt.Fprintln(w, "  (×1.1) meets the requirement without the wanted headroom")
	}
	for _, words := range j.Worth {
		fmt.Fprintf(w, "  %s\n", indented(words.Words, "  "))
	}
	printFailures(w, j)
	printOpen(w, j)
}

// The widths of the table of demands against setups, in letters.
const (
	usualWidth  = 98
	demandWidth = 48
	cellWidth   = 8
)

// printMatrix prints demands against some of the setups, which go by their numbers.
func printMatrix(w io.Writer, j need.Judged, from, to int) {
	fmt.Fprintln(w)
	header := []any{"requirement"}
	for n := from; n < to; n++ {
		header = append(header, n+1)
	}
	t := newTable(w, 2, header...)
	last := ""
	for i, d := range j.Demands {
		words := d.Words
		if d.Use != "" {
			words = "  " + words
		}
		if d.Use != last && d.Use != "" {
			t.AppendRow(table.Row{d.Use})
		}
		last = d.Use
		row := table.Row{shorten(words, demandWidth-2)}
		for _, s := range j.Setups[from:to] {
			row = append(row, s.Verdicts[i].Mark())
		}
		t.AppendRow(row)
	}
	t.Render()
}

// printFailures says what each failure does to the setups, which go by their numbers.
func printFailures(w io.Writer, j need.Judged) {
	width := cmp.Or(widthOf(w), usualWidth)
	for from := 0; from < len(j.Setups); {
		to := min(from+max((width-demandWidth)/cellWidth, 1), len(j.Setups))
		fmt.Fprintln(w)
		header := []any{"data stay intact and accessible after the loss of"}
		for n := from; n < to; n++ {
			header = append(header, n+1)
		}
		t := newTable(w, 2, header...)
		for i, f := range setup.Failures() {
			row := table.Row{"  " + string(f)}
			for _, s := range j.Setups[from:to] {
				mark := string(s.Failures[i].Survives)
				if s.Failures[i].Survives == setup.NotKnown {
					mark = "."
				}
				row = append(row, mark)
			}
			t.AppendRow(row)
		}
		t.Render()
		from = to
	}
	words := map[string][]string{}
	var order []string
	for _, s := range j.Setups {
		if words[s.Rebuilds] == nil {
			order = append(order, s.Rebuilds)
		}
		words[s.Rebuilds] = append(words[s.Rebuilds], s.Name)
	}
	for _, rebuilds := range order {
		fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("rebuild of a member without other load: %s (%s)", rebuilds, strings.Join(words[rebuilds], ", ")), "    "))
	}
	for _, s := range j.Setups {
		for _, m := range s.Meanwhile {
			fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("%s, %s: %s", s.Name, m.State, m.Words), "    "))
		}
	}
}

// printOpen says why verdicts are open, the same of several setups and figures once.
func printOpen(w io.Writer, j need.Judged) {
	type open struct{ figures, setups []string }
	var order []string
	of := map[string]*open{}
	for i, d := range j.Demands {
		for _, s := range j.Setups {
			v := s.Verdicts[i]
			if !v.Open() {
				continue
			}
			key := v.Words
			if v.Reason != "" {
				key += ": " + v.Reason
			}
			if of[key] == nil {
				order = append(order, key)
				of[key] = &open{}
			}
			o := of[key]
			if name := d.Name(); !slices.Contains(o.figures, name) {
				o.figures = append(o.figures, name)
			}
			if !slices.Contains(o.setups, s.Name) {
				o.setups = append(o.setups, s.Name)
			}
		}
	}
	if len(order) > 0 {
		fmt.Fprintln(w, "\nNot shown, not measured, or not met:")
	}
	for _, key := range order {
		o := of[key]
		fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("%s, %s: %s", strings.Join(o.setups, ", "), strings.Join(o.figures, ", "), key), "    "))
	}
}

// verdictsCSV writes one row a need, demand and setup, in full.
func verdictsCSV(w io.Writer, v resource.Verdicts) error {
	out := csv.NewWriter(w)
	full := func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }
	rows := [][]string{{"need", "use", "about", "figure", "asked", "setup", "runs", "verdict", "headroom", "headroom_least", "value", "value_low", "value_high", "price", "reason"}}
	for _, j := range v.Judged {
		for _, s := range j.Setups {
			for i, d := range j.Demands {
				of := s.Verdicts[i]
				row := []string{resource.Cell(j.Need.Name), resource.Cell(d.Use), string(d.About), d.Figure, resource.Cell(d.Words), resource.Cell(s.Name), runsOf(resource.Group{Runs: s.Runs}), string(of.Outcome), "", "", "", "", "", "", resource.Cell(of.Reason)}
				if of.Headroom > 0 {
					row[8], row[9] = full(of.Headroom), full(of.Least)
				}
				if of.Value != nil {
					row[10] = full(of.Value.Mean)
					if of.Value.Known {
						row[11], row[12] = full(of.Value.Low), full(of.Value.High)
					}
				}
				if s.Price > 0 {
					row[13] = full(s.Price)
				}
				rows = append(rows, row)
			}
		}
	}
	if err := out.WriteAll(rows); err != nil {
		return fmt.Errorf("write the verdicts: %w", err)
	}
	return nil
}
