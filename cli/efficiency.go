package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/efficiency"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/resource"
)

func (a *app) efficiency() *cobra.Command {
	command := &cobra.Command{
		Use: "efficiency ARRAY MEMBER MEMBER...", Short: "Compare an array with its members: its share of their sum, and any outlier among them", Args: cobra.RangeArgs(1+efficiency.Fewest, 1+efficiency.Most),
		Long: `Compare an array with its members, each measured alone under the same loads: the sum of
the members, the part of it that the RAID level leaves, the share of that which the array
reaches, with its interval, and which member is an outlier. Each argument is a volume,
with all runs of its present setup, or runs joined by + (12+14).

Measure each member alone. Measure the array at the depth of a member times their number,
so that each member has as many operations in flight as when it was alone; or measure
all at one depth. If the members were also measured together ('heron measure --race'),
the result tells the cost of the RAID software from that of a shared link or bus.`,
		Example: "  heron measure /dev/sdb /dev/sdc /dev/sdd --depth 8 --repeats 3\n  heron measure /dev/sdb /dev/sdc /dev/sdd --depth 8 --repeats 3 --race\n  heron measure /dev/md0 --depth 24 --repeats 3\n  heron efficiency /dev/md0 /dev/sdb /dev/sdc /dev/sdd",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			volumes, err := c.Volumes(ctx)
			if err != nil {
				return err
			}
			var all []resource.MeasuredSetup
			for _, argument := range arguments {
				of, err := measuredSetup(volumes, argument)
				if err != nil {
					return err
				}
				all = append(all, of)
			}
			r, err := c.Efficiency(ctx, resource.NewEfficiency{Array: all[0], Members: all[1:]})
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), r)
			}
			printEfficiency(command, r)
			return nil
		}),
	}
	return command
}

// measuredSetup is a setup that an argument names: runs, or a volume.
func measuredSetup(volumes []resource.Volume, argument string) (of resource.MeasuredSetup, err error) {
	if volume, found := among(volumes, argument); found {
		return resource.MeasuredSetup{VolumeID: volume.ID}, nil
	}
	group, ok := runsIn(argument)
	if !ok {
		return of, fmt.Errorf("%q is no registered volume and no run; 'heron volume list' and 'heron run list' show what there is", argument)
	}
	return resource.MeasuredSetup{Runs: group.Runs}, nil
}

func printEfficiency(command *cobra.Command, r efficiency.Efficiency) {
	w := command.OutOrStdout()
	for _, words := range r.Words {
		fmt.Fprintln(w, wrapped(words, 100))
	}
	if len(r.Points) > 0 {
		fmt.Fprintln(w)
		t := newTable(w, 2, "load", "members", "sum", "RAID limit", "array", "efficiency", "together")
		names := newLoadNames(w, 78)
		for _, p := range r.Points {
			f := figure.Of(p.Figure)
			rates := make([]float64, len(p.Alone))
			for i, m := range p.Alone {
				rates[i] = m.Mean
			}
			row := table.Row{names.of(p.Title), f.Show(slices.Min(rates)), f.Show(p.Sum.Mean), "–", f.Show(p.Array.Mean), shareWithin(p.Efficiency), "–"}
			if low, high := slices.Min(rates), slices.Max(rates); f.Show(low) != f.Show(high) {
				row[1] = f.Show(low) + " to " + f.Show(high)
			}
			if p.Leaves > 0 {
				row[3] = quantity.Share(p.Leaves)
			}
			if p.AtOnce != nil {
				row[6] = shareWithin(*p.AtOnce)
			}
			t.AppendRow(row)
		}
		t.Render()
	}
	if len(r.LeftOut) > 0 {
		fmt.Fprintln(w, "\nLeft out:")
	}
	for _, words := range r.LeftOut {
		fmt.Fprintln(w, "  "+strings.ReplaceAll(wrapped(words, 98), "\n", "\n  "))
	}
}

// shareWithin is a share with half of its interval.
func shareWithin(m judge.Mean) string {
	if !m.Known {
		return quantity.Share(m.Mean).String()
	}
	return fmt.Sprintf("%s ± %s", quantity.Share(m.Mean), quantity.Share((m.High-m.Low)/2))
}
