package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/judge"
	"patientheron/core/need"
	"patientheron/core/quantity"
	"patientheron/format/needfile"
	"patientheron/resource"
)

func (a *app) need() *cobra.Command {
	command := &cobra.Command{
		Use: "need", Short: "Judge setups by requirements: which meet them, with what headroom, at what price",
		Long: `A need sheet lists what uses require of one storage (docs/needs.md): limits for figures of
their loads, capacity and its growth, failures to survive, a budget. Each setup is judged
by its measurements. It meets a requirement, with a headroom, or falls short of it, or the
measurements do not show which, or there are none. An unreliable figure meets nothing.`,
		Example: "  heron need check station.yaml\n  heron need measure station.yaml /srv/pool\n  heron need judge station.yaml\n  heron need add station.yaml",
	}
	command.AddCommand(a.needCheck(), a.needJudge(), a.needMeasure(), a.needReport(), a.needKeep(), a.needList(), a.needShow(), a.needForget())
	return command
}

func (a *app) needCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Check a need sheet: print what it requires, or its first mistake", Args: cobra.ExactArgs(1),
		Example: "  heron need check station.yaml",
		RunE: func(command *cobra.Command, arguments []string) error {
			_, n, err := readNeed(command, arguments[0])
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), n)
			}
			printNeed(command.OutOrStdout(), n)
			return nil
		},
	}
}

// readNeed reads a need sheet, or standard input for "-", and makes sure that it can be.
func readNeed(command *cobra.Command, path string) (text string, n need.Need, err error) {
	content, err := readText(path, command.InOrStdin())
	if err != nil {
		return "", n, fmt.Errorf("read the need sheet: %w", err)
	}
	if n, err = needfile.Read(content); err != nil {
		return "", n, fmt.Errorf("%s: %w", path, err)
	}
	return string(content), n, nil
}

// wanted is what is judged: the sheet, by its file or under its name, and the setups.
func (a *app) wanted(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) (asked resource.NewVerdicts, err error) {
	if asked, err = a.sheetOf(ctx, c, command, arguments[0]); err != nil {
		return asked, err
	}
	var volumes []resource.Volume
	for _, argument := range arguments[1:] {
		group, ok := runsIn(argument)
		if ok {
			asked.Setups = append(asked.Setups, group)
			continue
		}
		if volumes == nil {
			if volumes, err = c.Volumes(ctx); err != nil {
				return asked, err
			}
		}
		volume, found := among(volumes, argument)
		if !found {
			return asked, fmt.Errorf("%q is no registered volume and no run; 'heron volume list' and 'heron run list' show what there is", argument)
		}
		asked.Volumes = append(asked.Volumes, volume.ID)
	}
	return asked, nil
}

// sheetOf finds a sheet: a file, or one that is kept under this name or number.
func (a *app) sheetOf(ctx context.Context, c *client.Client, command *cobra.Command, named string) (asked resource.NewVerdicts, err error) {
	if _, statErr := os.Stat(named); statErr == nil || named == "-" {
		asked.Text, _, err = readNeed(command, named)
		return asked, err
	}
	kept, err := a.keptNeed(ctx, c, named)
	asked.Needs = []int64{kept.ID}
	return asked, err
}

func (a *app) keptNeed(ctx context.Context, c *client.Client, named string) (resource.NeedSheet, error) {
	needs, err := c.Needs(ctx)
	if err != nil {
		return resource.NeedSheet{}, err
	}
	if i := slices.IndexFunc(needs, func(n resource.NeedSheet) bool { return n.Name == named || strconv.FormatInt(n.ID, 10) == named }); i >= 0 {
		return needs[i], nil
	}
	return resource.NeedSheet{}, fmt.Errorf("%q is no file, and no need is kept under this name or number; 'heron need list' shows those that are", named)
}

// runsIn reads runs joined by +.
func runsIn(argument string) (group resource.Group, ok bool) {
	for part := range strings.SplitSeq(argument, "+") {
		id, err := number(part, "run")
		if err != nil {
			return group, false
		}
		group.Runs = append(group.Runs, id)
	}
	return group, true
}

func (a *app) needJudge() *cobra.Command {
	var failIf string
	var asCSV bool
	command := &cobra.Command{
		Use: "judge SHEET [SETUP...]", Short: "Judge setups by a need sheet", Args: cobra.MinimumNArgs(1),
		Long: `Judge setups by a need sheet: a file, or a stored sheet by its name or number. A setup is a
volume, with all runs of its present setup, or runs joined by + (12+14). Without any
SETUP all measured volumes are judged.

With --fail-if 'falls short' a script gets its answer in the exit code: 0 when every setup
meets all requirements, 3 when one falls short, 4 when that cannot be decided or was not
measured, 1 for any other error.`,
		Example: "  heron need judge station.yaml\n  heron need judge station.yaml pool pool-with-cache\n  heron need judge \"A day at the station\" 12+14 15\n  heron need judge station.yaml pool --fail-if 'falls short'",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			if failIf != "" && failIf != string(judge.FallsShort) {
				return fmt.Errorf("--fail-if %q is not understood; write --fail-if '%s'", failIf, judge.FallsShort)
			}
			asked, err := a.wanted(ctx, c, command, arguments)
			if err != nil {
				return err
			}
			v, err := c.Judge(ctx, asked)
			if err != nil {
				return err
			}
			switch {
			case a.json:
				err = printJSON(command.OutOrStdout(), v)
			case asCSV:
				err = verdictsCSV(exactly(command.OutOrStdout()), v)
			default:
				printVerdicts(command.OutOrStdout(), v)
			}
			if err != nil || failIf == "" {
				return err
			}
			return needGate(v)
		}),
	}
	command.Flags().StringVar(&failIf, "fail-if", "", "condition for the exit code: 'falls short'")
	command.Flags().BoolVar(&asCSV, "csv", false, "write all verdicts as CSV")
	return command
}

func (a *app) needMeasure() *cobra.Command {
	var wanted resource.NewNeeded
	var rebuild string
	var detach bool
	var overrides []string
	command := &cobra.Command{
		Use: "measure SHEET VOLUME", Short: "Measure what is missing to judge a volume by a need sheet", Args: cobra.ExactArgs(2),
		Long: `Measure the loads of a need sheet on a volume, each several times. Uses that were measured
at least three times are skipped, unless --all is given. A use that names a stage instead
of a load cannot be measured from the sheet: measure the plan of that stage.

With --degraded a simulated array is measured degraded, with one member of each kind
missing in turn, and during a rebuild at the rate of --rebuild. The verdicts then include
both states, and how long a rebuild takes.`,
		Example: "  heron need measure station.yaml /srv/pool\n  heron need measure station.yaml pool --repeats 5 --all\n  heron need measure station.yaml array:plain.yaml --degraded --rebuild 50MB/s",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			if a.here && detach {
				return errors.New("--here works only as long as this command runs; leave out --detach")
			}
			asked, err := a.sheetOf(ctx, c, command, arguments[0])
			if err != nil {
				return err
			}
			if asked.Text == "" {
				kept, err := c.Need(ctx, asked.Needs[0])
				if err != nil {
					return err
				}
				asked.Text = kept.Text
			}
			volume, err := a.findVolume(ctx, c, arguments[1])
			if err != nil {
				return err
			}
			wanted.Text = asked.Text
			if rebuild != "" && !wanted.Degraded {
				return errors.New("--rebuild is the rate at which a member is filled with --degraded; give both")
			}
			if rebuild != "" {
				if wanted.Rebuild, err = quantity.ParseByteRate(rebuild); err != nil {
					return fmt.Errorf("--rebuild: %w", err)
				}
				if wanted.Rebuild == 0 {
					return errors.New("--rebuild: nothing is filled at 0 B/s; try 50MB/s")
				}
			}
			needed, err := c.Needed(ctx, volume.ID, wanted)
			if err != nil {
				return err
			}
			said := command.ErrOrStderr()
			if len(needed.There) > 0 {
				fmt.Fprintf(said, "Measured already: %s.\n", strings.Join(needed.There, ", "))
			}
			if len(needed.Without) > 0 {
				fmt.Fprintf(said, "Without a load in the sheet, measure their plans: %s.\n", strings.Join(needed.Without, ", "))
			}
			if len(needed.Plan.Stages) == 0 {
				fmt.Fprintln(said, "Nothing is left to be measured from this sheet.")
				return nil
			}
			run, err := c.StartRun(ctx, resource.NewRun{VolumeID: volume.ID, Plan: needed.Plan, Override: overrides})
			if err != nil {
				return err
			}
			if detach {
				if a.json {
					return printJSON(command.OutOrStdout(), run)
				}
				fmt.Fprintf(command.OutOrStdout(), "Run %d is %s; watch it with 'heron run watch %d'.\n", run.ID, run.Status, run.ID)
				return nil
			}
			return a.follow(ctx, c, command, run, true)
		}),
	}
	command.Flags().IntVar(&wanted.Repeats, "repeats", 3, "repeats of each use")
	command.Flags().BoolVar(&wanted.All, "all", false, "measure all uses, also those that were measured")
	command.Flags().BoolVar(&wanted.Degraded, "degraded", false, "measure a simulated array degraded and during a rebuild, instead of whole")
	command.Flags().StringVar(&rebuild, "rebuild", "", "rebuild rate, such as 50MB/s (default 100MB/s)")
	command.Flags().BoolVar(&detach, "detach", false, "start the run and return at once")
	command.Flags().StringSliceVar(&overrides, "override", nil, "measure although this check failed, such as room; recorded with the run")
	return command
}

func (a *app) needReport() *cobra.Command {
	var to string
	command := &cobra.Command{
		Use: "report SHEET [SETUP...]", Short: "Write the verdicts on setups as a self-contained HTML page", Args: cobra.MinimumNArgs(1),
		Long: `Write one HTML file that needs no network and no other file, and prints well: the
recommendation in a sentence, requirements against setups, the price and headroom of each,
open questions, and how to repeat it. Setups are named as for 'heron need judge'.`,
		Example: "  heron need report station.yaml --to decision.html\n  heron need report station.yaml pool pool-with-cache --to two.html",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			asked, err := a.wanted(ctx, c, command, arguments)
			if err != nil {
				return err
			}
			return writeNew(command, to, func(w io.Writer) error { return c.ReportVerdicts(ctx, asked, w) })
		}),
	}
	command.Flags().StringVar(&to, "to", "", "new file to write to (default: standard output)")
	return command
}

func (a *app) needKeep() *cobra.Command {
	var replace bool
	command := &cobra.Command{
		Use: "add FILE", Short: "Store a need sheet under its name, for the console and for others", Args: cobra.ExactArgs(1),
		Example: "  heron need add station.yaml\n  heron need add station.yaml --replace",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			text, n, err := readNeed(command, arguments[0])
			if err != nil {
				return err
			}
			kept, err := c.KeepNeed(ctx, text)
			if client.IsProblem(err, resource.ProblemTaken) {
				if !replace {
					return fmt.Errorf("%w; --replace puts this sheet in its place", err)
				}
				old, findErr := a.keptNeed(ctx, c, n.Name)
				if findErr != nil {
					return findErr
				}
				kept, err = c.ChangeNeed(ctx, old.ID, text)
			}
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), kept)
			}
			fmt.Fprintf(command.OutOrStdout(), "Kept as need %d, %q.\n", kept.ID, kept.Name)
			return nil
		}),
	}
	command.Flags().BoolVar(&replace, "replace", false, "replace the stored sheet of that name")
	return command
}

func (a *app) needList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the stored need sheets", Args: cobra.NoArgs, Example: "  heron need list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			needs, err := c.Needs(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), needs)
			}
			if len(needs) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "No need sheet is kept. Keep one with 'heron need add FILE'.")
				return nil
			}
			t := newTable(command.OutOrStdout(), 9, "need", "name", "changed")
			for _, n := range needs {
				t.AppendRow(table.Row{n.ID, shorten(n.Name, 60), n.Changed.Local().Format("2006-01-02 15:04")})
			}
			t.Render()
			return nil
		}),
	}
}

func (a *app) needShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SHEET", Short: "Print a stored need sheet", Args: cobra.ExactArgs(1), Example: "  heron need show \"A day at the station\" > station.yaml",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			kept, err := a.keptNeed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), kept)
			}
			_, err = io.WriteString(exactly(command.OutOrStdout()), kept.Text)
			return err
		}),
	}
}

func (a *app) needForget() *cobra.Command {
	return &cobra.Command{
		Use: "remove SHEET", Short: "Remove a stored need sheet; measurements stay", Args: cobra.ExactArgs(1), Example: "  heron need remove 3",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			kept, err := a.keptNeed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if err := c.RemoveNeed(ctx, kept.ID); err != nil {
				return err
			}
			fmt.Fprintf(command.OutOrStdout(), "Need %d, %q, is removed; what was measured stays.\n", kept.ID, kept.Name)
			return nil
		}),
	}
}
