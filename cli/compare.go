package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/quantity"
	"patientheron/resource"
)

// GateError is given when a gate says so. Its code is that of the process: 3
// when the condition is met, 4 when it cannot be told.
type GateError struct {
	Code   int
	reason string
}

func (e *GateError) Error() string { return e.reason }

// ExitCode is what the process ends with.
func (e *GateError) ExitCode() int { return e.Code }

type compareOptions struct {
	noise, figure, keep, html string
	within                    string
	weigh, match              []string
	csv                       bool
	failIf                    []string
}

func (a *app) compare() *cobra.Command {
	o := &compareOptions{}
	command := &cobra.Command{
		Use: "compare BASE CANDIDATE...", Short: "Is the candidate better than the baseline, by how much, and how sure is that?", Args: cobra.RangeArgs(2, 1+compare.Most),
		Long: `Compare up to eight candidates with a baseline. Each side is a run, or several
runs of one setup joined by + (12+14+15). Stages are matched by name, point of
the sweep and load; stages without a counterpart are listed. --match compares a stage
with one of another name, which may do the same by other means; a run may then be on
both sides. RUN@before:MARKER and RUN@after:MARKER are the parts of a run before and
after a marker.

A verdict is better, worse, the same (a difference of --noise or more is ruled out),
not shown (neither can be concluded), or a hint (a side has only one repeat).
docs/judgement.md describes the tests and their error rates.

With --fail-if a script gets its answer in the exit code: 0 when the condition
is not met, 3 when it is, 4 when that cannot be decided (one repeat, no value, or
an unreliable figure), 1 for any other error.`,
		Example: `  heron compare 12 14
  heron compare 12+13+14 15+16+17 --figure p99
  heron compare 12 12 --match 'small=single'     # one stage against another
  heron compare 26@before:'member fails (member 1)' 26@after:'member fails (member 1)'
  heron compare 12 14 --html caches.html
  heron compare 1 2 3 --noise 3% --name "three caches"
  heron compare 12 14 --fail-if 'p99 of "ledger" worse by 10%'`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			request, err := o.request(arguments)
			if err != nil {
				return err
			}
			gates, key, err := o.parsed()
			if err != nil {
				return err
			}
			if err := isNew(o.html); err != nil {
				return err
			}
			compared, err := c.Compare(ctx, request)
			if err != nil {
				return err
			}
			switch {
			case a.json:
				err = printJSON(command.OutOrStdout(), compared)
			case o.csv:
				err = comparisonCSV(exactly(command.OutOrStdout()), compared)
			default:
				printCompared(command.OutOrStdout(), compared, key)
			}
			if err != nil {
				return err
			}
			if o.html != "" {
				if err := writeNew(command, o.html, func(w io.Writer) error { return c.ReportComparison(ctx, request, w) }); err != nil {
					return err
				}
			}
			return check(gates, o.failIf, compared.Result)
		}),
	}
	flags := command.Flags()
	o.sides(command)
	flags.StringVar(&o.figure, "figure", "", "show this figure for all points, such as p99 (default: the most important one of each load)")
	flags.StringVar(&o.keep, "name", "", "keep the comparison under this name")
	flags.StringVar(&o.html, "html", "", "write a self-contained HTML page to this new file")
	flags.BoolVar(&o.csv, "csv", false, "write all figures as CSV")
	flags.StringArrayVar(&o.failIf, "fail-if", nil, `condition for the exit code, such as 'p99 of "ledger" worse by 10%'`)
	return command
}

func (o *compareOptions) sides(command *cobra.Command) {
	command.Flags().StringVar(&o.noise, "noise", "5%", "smallest difference that matters")
	command.Flags().StringArrayVar(&o.weigh, "weigh", nil, `weight of a stage in an index over all stages, such as 'ledger lookups=3'; stages without a weight do not count`)
	command.Flags().StringArrayVar(&o.match, "match", nil, "compare stages of different names: BASELINE=CANDIDATE, such as 'copied by host=copied by storage'")
	command.Flags().StringVar(&o.within, "p99", "0", "limit of the p99 latency: loads above it do not count as kept up with")
}

// readWeights reads weights such as "ledger lookups=3".
func readWeights(texts []string) (weights []compare.Weight, err error) {
	for _, text := range texts {
		at := strings.LastIndex(text, "=")
		if at < 1 {
			return nil, fmt.Errorf("--weigh %q is not understood; write it like 'ledger lookups=3'", text)
		}
		w := compare.Weight{Stage: strings.TrimSpace(text[:at])}
		if w.Weight, err = quantity.ParseNumber(strings.TrimSpace(text[at+1:])); err != nil {
			return nil, fmt.Errorf("--weigh %q: %w", text, err)
		}
		weights = append(weights, w)
	}
	return weights, compare.CheckWeights(weights)
}

// request reads the sides of a comparison.
func (o *compareOptions) request(arguments []string) (n resource.NewComparison, err error) {
	if n.Noise, err = quantity.ParseShare(o.noise); err != nil {
		return n, fmt.Errorf("--noise: %w", err)
	}
	if n.Noise == 0 {
		return n, errors.New("--noise 0%: some difference must be too small to matter; write 0.1% if you mean it")
	}
	if n.Weights, err = readWeights(o.weigh); err != nil {
		return n, err
	}
	if n.Asked.As, err = readAs(o.match); err != nil {
		return n, err
	}
	if n.Asked.Within, err = quantity.ParseSeconds(o.within); err != nil {
		return n, fmt.Errorf("--p99: %w", err)
	}
	n.Name, n.Keep = o.keep, o.keep != ""
	for i, argument := range arguments {
		group, argument, err := half(argument)
		if err != nil {
			return n, err
		}
		for part := range strings.SplitSeq(argument, "+") {
			id, err := number(part, "run")
			if err != nil {
				return n, err
			}
			group.Runs = append(group.Runs, id)
		}
		if i == 0 {
			n.Baseline = group
		} else {
			n.Candidates = append(n.Candidates, group)
		}
	}
	return n, nil
}

// half reads which half of its measurements a side is, as in "12@before:disk fails".
func half(argument string) (group resource.Group, runs string, err error) {
	runs, at, found := strings.Cut(argument, "@")
	if !found {
		return group, argument, nil
	}
	side, marker, named := strings.Cut(at, ":")
	if group.Half, group.Marker = resource.Half(side), marker; !named || marker == "" || side != "before" && side != "after" {
		return group, "", fmt.Errorf("%q is not understood; write it like '12@before:disk fails' or '12@after:disk fails', with the name of a marker of the run", argument)
	}
	return group, runs, nil
}

// readAs reads stages that are compared, such as "copied by host=copied by storage".
func readAs(texts []string) (as []compare.As, err error) {
	for _, text := range texts {
		baseline, candidate, found := strings.Cut(text, "=")
		one := compare.As{Baseline: strings.TrimSpace(baseline), Candidate: strings.TrimSpace(candidate)}
		if !found || one.Baseline == "" || one.Candidate == "" {
			return nil, fmt.Errorf("--match %q is not understood; write it like 'copied by host=copied by storage', the baseline's stage first", text)
		}
		as = append(as, one)
	}
	return as, nil
}

func (o *compareOptions) parsed() (gates []compare.Gate, key string, err error) {
	for _, condition := range o.failIf {
		gate, err := compare.ParseGate(condition)
		if err != nil {
			return nil, "", fmt.Errorf("--fail-if: %w", err)
		}
		gates = append(gates, gate)
	}
	if o.figure != "" {
		f, err := figure.Lookup(o.figure)
		if err != nil {
			return nil, "", fmt.Errorf("--figure: %w", err)
		}
		key = f.Key
	}
	return gates, key, nil
}

// check applies gates to a comparison.
func check(gates []compare.Gate, texts []string, c compare.Result) error {
	var failed, unknown []string
	for i, gate := range gates {
		answer, err := gate.Check(c)
		if err != nil {
			return err
		}
		for _, f := range answer.Failed {
			failed = append(failed, fmt.Sprintf("%s: %s", texts[i], f))
		}
		for _, across := range answer.NotShown {
			unknown = append(unknown, fmt.Sprintf("%s is not shown: %s", texts[i], across))
		}
		for _, u := range answer.Unknown {
			unknown = append(unknown, fmt.Sprintf("%s cannot be told: %s", texts[i], u))
		}
	}
	switch {
	case len(failed) > 0:
		return &GateError{3, strings.Join(failed, "\n")}
	case len(unknown) > 0:
		return &GateError{4, strings.Join(unknown, "\n")}
	}
	return nil
}

func (a *app) comparison() *cobra.Command {
	command := &cobra.Command{Use: "comparison", Short: "List, show and remove kept comparisons", Example: "  heron comparison list\n  heron comparison show 3"}
	list := &cobra.Command{
		Use: "list", Short: "List the kept comparisons", Args: cobra.NoArgs, Example: "  heron comparison list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			comparisons, err := c.Comparisons(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), comparisons)
			}
			if len(comparisons) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "No comparison is kept. Keep one with 'heron compare 1 2 --name NAME'.")
				return nil
			}
			t := newTable(command.OutOrStdout(), 5, "comparison", "name", "baseline", "candidates")
			for _, k := range comparisons {
				var candidates []string
				for _, g := range k.Candidates {
					candidates = append(candidates, runsOf(g))
				}
				t.AppendRow(table.Row{k.ID, shorten(k.Name, 50), runsOf(k.Baseline), strings.Join(candidates, " ")})
			}
			t.Render()
			return nil
		}),
	}
	var chosen string
	show := a.comparisonCommand("show COMPARISON", "Show a kept comparison", "  heron comparison show 3", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		compared, err := c.Comparison(ctx, id)
		if err != nil {
			return err
		}
		if a.json {
			return printJSON(command.OutOrStdout(), compared)
		}
		printCompared(command.OutOrStdout(), compared, chosen)
		return nil
	})
	show.Flags().StringVar(&chosen, "figure", "", "one figure for all points, such as p99")
	remove := a.comparisonCommand("remove COMPARISON", "Remove a comparison; its runs stay", "  heron comparison remove 3", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		if err := c.RemoveComparison(ctx, id); err != nil {
			return err
		}
		fmt.Fprintf(command.OutOrStdout(), "Comparison %d is removed; its runs stay.\n", id)
		return nil
	})
	command.AddCommand(list, show, a.comparisonReport(), remove)
	return command
}

// comparisonCommand makes a command about one kept comparison.
func (a *app) comparisonCommand(use, short, example string, work func(context.Context, *client.Client, *cobra.Command, int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			id, err := number(arguments[0], "comparison")
			if err != nil {
				return err
			}
			return work(ctx, c, command, id)
		}),
	}
}

func runsOf(g resource.Group) string {
	parts := make([]string, len(g.Runs))
	for i, id := range g.Runs {
		parts[i] = strconv.FormatInt(id, 10)
	}
	runs := strings.Join(parts, "+")
	if g.Marker != "" {
		runs += fmt.Sprintf("@%s:%s", g.Half, g.Marker)
	}
	return runs
}

// comparisonReport writes a kept comparison as a page.
func (a *app) comparisonReport() *cobra.Command {
	var to string
	return asPage(&to, a.comparisonCommand("report COMPARISON", "Write a kept comparison as a self-contained HTML page", "  heron comparison report 3 --to caches.html",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			return writeNew(command, to, func(w io.Writer) error { return c.ReportKept(ctx, id, w) })
		}))
}

// runReport writes a run as a page.
func (a *app) runReport() *cobra.Command {
	var to string
	return asPage(&to, a.runCommand("report RUN", "Write a run as a self-contained HTML page", "  heron run report 12 --to run.html",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			return writeNew(command, to, func(w io.Writer) error { return c.ReportRun(ctx, id, w) })
		}))
}

const toHelp = "new file to write to (default: standard output)"

// asPage makes a command one that writes a page, and lets it be said where to.
func asPage(to *string, command *cobra.Command) *cobra.Command {
	command.Long = `Write one HTML file that needs no network and no other file and prints well: the
question, the setups, the differences, the result in a sentence, the figures with
their spread, the findings, the method, and how to repeat it.`
	command.Flags().StringVar(to, "to", "", toHelp)
	return command
}

// isNew reports a file or folder that is to be made and is there already, before any work is
// done for it; "" is none.
func isNew(path string) error {
	if path == "" {
		return nil
	}
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is there already; name one that does not exist yet", path)
	}
	return nil
}

// writeNew writes to a file that does not exist yet, or to standard output;
// nothing half-written stays.
func writeNew(command *cobra.Command, to string, write func(io.Writer) error) error {
	if to == "" {
		return write(exactly(command.OutOrStdout()))
	}
	file, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return fmt.Errorf("write %s: %w; name a file that does not exist yet", to, err)
	}
	if err := errors.Join(write(file), file.Close()); err != nil {
		return errors.Join(err, os.Remove(to))
	}
	return nil
}

// printMarker tells of a marker that was set.
func (a *app) printMarker(command *cobra.Command, marker resource.Marker) error {
	if a.json {
		return printJSON(command.OutOrStdout(), marker)
	}
	fmt.Fprintf(command.OutOrStdout(), "Marker %d, %q, at %s of the measurement under way.\n", marker.ID, marker.Name, marker.At)
	return nil
}

func (a *app) mark() *cobra.Command {
	return &cobra.Command{
		Use: "mark RUN NAME", Short: "Set a marker on a run that is measuring", Args: cobra.ExactArgs(2),
		Long:    "Mark this moment on the time axis of a run: what was switched on or off. The run then\nshows the rate before and after it.",
		Example: "  heron run mark 12 'switched offload on'",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			id, err := number(arguments[0], "run")
			if err != nil {
				return err
			}
			marker, err := c.Mark(ctx, id, arguments[1])
			if err != nil {
				return err
			}
			return a.printMarker(command, marker)
		}),
	}
}
