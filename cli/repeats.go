package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/quantity"
	"patientheron/resource"
)

func (a *app) repeats() *cobra.Command {
	var wanted string
	command := a.runCommand("repeats RUN", "Show the spread of repeats, and the shape of sweeps", "  heron run repeats 12\n  heron run repeats 12 --p99 5ms",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			p99, err := quantity.ParseSeconds(wanted)
			if err != nil {
				return fmt.Errorf("--p99: %w", err)
			}
			shape, err := c.Shape(ctx, id, p99)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), shape)
			}
			printShape(command.OutOrStdout(), shape)
			return nil
		})
	command.Flags().StringVar(&wanted, "p99", "0", "limit of the p99 latency: find the largest rate in sweeps that keeps it")
	return command
}

// brief are the figures that are shown of a point beside the one that matters most.
var brief = []string{"iops", "p99", "files", "finish", "file-p99", "late", "stall"}

func printShape(w io.Writer, s resource.Shape) {
	if len(s.Points) == 0 {
		fmt.Fprintln(w, "This run has no results.")
		return
	}
	t := newTable(w, 3, "stage", "figure", "mean", "95 % interval", "spread", "repeats")
	names := namesFor(w, 66)
	for _, p := range s.Points {
		heading, name := names.row(p.Stage, p.Point)
		if heading != "" {
			t.AppendRow(table.Row{heading})
		}
		for _, r := range p.Rows {
			f := figure.Of(r.Figure)
			if r.Figure != p.Main && !slices.Contains(brief, r.Figure) && !f.OfPhases() || len(r.Values.Values) == 0 {
				continue
			}
			row := table.Row{name, r.Figure, f.Show(r.Mean.Mean), "not known", "", strconv.Itoa(len(r.Values.Values))}
			if r.Unreliable != "" {
				row[2] = f.Show(r.Mean.Mean) + " (?)"
			}
			if r.Mean.Known {
				row[3], row[4] = f.Show(r.Mean.Low)+" to "+f.Show(r.Mean.High), r.Variation.String()
			}
			t.AppendRow(row)
			name = ""
		}
	}
	t.Render()
	for _, p := range s.Points {
		if p.Words != "" {
			fmt.Fprintf(w, "%s\n", indented(p.Title+": "+p.Words+".", "  "))
		}
	}
	for _, l := range s.Lines {
		fmt.Fprintf(w, "%s\n", indented(l.Title()+": "+l.Words, "  "))
		if l.Worth >= 0 {
			printWorth(w, l)
		}
	}
	printAnswered(w, s.Answers)
}

// printWorth prints what the rate is for its price along a sweep.
func printWorth(w io.Writer, l compare.Line) {
	t := newTable(w, 2, "    "+l.Field, "price", "per second", "per 1,000", "gain for the added price")
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, Align: text.AlignRight}, {Number: 3, Align: text.AlignRight}, {Number: 4, Align: text.AlignRight}})
	for i, s := range l.Spots {
		mark := "    "
		if i == l.Worth {
			mark = "  * "
		}
		t.AppendRow(table.Row{mark + s.Value, quantity.Price(s.Price), quantity.Digits(s.Rate.Mean), quantity.Digits(s.ForPrice.Mean), s.Brings})
	}
	t.Render()
}
