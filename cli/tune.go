package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

type tuneOptions struct {
	spec   workload.Spec
	name   string
	try    []string
	leave  []string
	figure string
	rounds int
	budget string
	pause  string
	list   bool
	detach bool
}

// Of each measurement of an experiment, unless the user says otherwise: they are many.
const (
	tuneFor    quantity.Seconds = 4
	tuneWarmUp quantity.Seconds = 1
	tuneBudget                  = "15m"
)

func (a *app) tune() *cobra.Command {
	o := &tuneOptions{spec: workload.Default()}
	o.spec.For, o.spec.WarmUp = tuneFor, tuneWarmUp
	command := &cobra.Command{
		Use: "tune VOLUME", Short: "Find out which parameters matter, and what to set them to", Args: cobra.ExactArgs(1),
		Long: `Find out by experiment which of several parameters matter for a load on a volume, and
which settings are worth keeping (docs/tuning.md).

The baseline is the volume and the load as given. In the first half every value is
measured alone, once in each round and in shuffled order. The baseline is measured several
times in each round, so that drift is detected and removed. In the second half the
promising values are measured together, and with one of them reset at a time.

The result lists which parameters matter, with intervals; which do not; which remain
undecided; and which values the target refused. The settings to keep are printed as plain
text, for the host and for the target.

Without --try the experiment tries the session keys of an iSCSI volume, the number of
sessions, depth and workers; --list shows them and measures nothing. With --try it tries
what you name: fields of the load, session keys, or keys of an array file.`,
		Example: `  heron tune iscsi://filer.example/iqn.2026-01.example:store/0 --span 10GiB --block 64KiB
  heron tune iscsi://filer.example/iqn.2026-01.example:store/0 --span 10GiB --list
  heron tune store-0 --reads 0% --try ImmediateData --try FirstBurstLength=65536,1048576
  heron tune /srv/pool --span 20GiB --try depth=1,4,64 --try workers=2,4 --budget 30m
  heron tune array:plain.yaml --try layout.chunk=16KiB,256KiB --rounds 5 --figure p99`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			return a.startTuning(ctx, c, command, arguments[0], o)
		}),
	}
	flags := command.Flags()
	flags.SortFlags = false
	flags.StringArrayVar(&o.try, "try", nil, "parameter to try at these values, such as depth=4,64; without values, at the usual ones (repeatable)")
	flags.StringSliceVar(&o.leave, "leave", nil, "parameters to leave out of the usual ones")
	flags.BoolVar(&o.list, "list", false, "list what would be tried, and measure nothing")
	flags.StringVar(&o.figure, "figure", "", "figure to improve, such as p99 (default: the most important one of the load)")
	flags.StringVar(&o.budget, "budget", tuneBudget, "time for the whole experiment; it decides the number of rounds")
	flags.IntVar(&o.rounds, "rounds", 0, "rounds of each half, instead of a time")
	flags.StringVar(&o.pause, "pause", "0", "wait this long before each measurement")
	flags.StringVar(&o.name, "name", "", "name of the run")
	flags.BoolVar(&o.detach, "detach", false, "start the run and return at once")
	loadFlags(flags, &o.spec)
	return command
}

func (a *app) startTuning(ctx context.Context, c *client.Client, command *cobra.Command, target string, o *tuneOptions) error {
	if a.here && o.detach {
		return errors.New("--here works only as long as this command runs; leave out --detach")
	}
	if flags := command.Flags(); flags.Changed("passes") && !flags.Changed("for") || flags.Changed("amount") && !flags.Changed("for") {
		o.spec.For, o.spec.WarmUp = 0, 0 // what is done ends it
	}
	volume, err := a.findVolume(ctx, c, target)
	if err != nil {
		return err
	}
	usual, err := c.Adjustments(ctx, volume.ID, o.spec)
	if err != nil {
		return err
	}
	tried, err := o.parameters(usual)
	if err != nil {
		return err
	}
	if o.list {
		if a.json {
			return printJSON(command.OutOrStdout(), tried)
		}
		return printAdjustments(command.OutOrStdout(), tried)
	}
	stage := plan.Stage{Load: o.spec, Tune: &plan.Tune{Figure: o.figure, Rounds: o.rounds}}
	for _, t := range tried {
		stage.Tune.Parameters = append(stage.Tune.Parameters, plan.Tried{Axis: t.Axis, Now: t.Now})
	}
	if o.rounds == 0 {
		if stage.Tune.Budget, err = quantity.ParseSeconds(o.budget); err != nil {
			return fmt.Errorf("--budget: %w", err)
		}
	}
	if stage.Settle.Pause, err = quantity.ParseSeconds(o.pause); err != nil {
		return fmt.Errorf("--pause: %w", err)
	}
	p := plan.Plan{Stages: []plan.Stage{stage}}
	if _, err := p.Steps(); err != nil {
		return err
	}
	run, err := c.StartRun(ctx, resource.NewRun{Name: o.name, VolumeID: volume.ID, Plan: p})
	if err != nil {
		return err
	}
	if !a.json {
		fmt.Fprintf(command.ErrOrStderr(), "At most %d measurements, about %s.\n", run.Estimate.Measurements, run.Estimate.Time)
	}
	if o.detach {
		if a.json {
			return printJSON(command.OutOrStdout(), run)
		}
		fmt.Fprintf(command.OutOrStdout(), "Run %d is %s; watch it with 'heron run watch %d', and see what it shows so far with 'heron run effects %d'.\n", run.ID, run.Status, run.ID, run.ID)
		return nil
	}
	return a.follow(ctx, c, command, run, true)
}

// parameters are what is tried: what the user names, or what is usual.
func (o *tuneOptions) parameters(usual []resource.Adjustment) (tried []resource.Adjustment, err error) {
	find := func(field string) (resource.Adjustment, bool) {
		i := slices.IndexFunc(usual, func(a resource.Adjustment) bool { return strings.EqualFold(a.Field, field) })
		if i < 0 {
			return resource.Adjustment{Axis: plan.Axis{Field: field}}, false
		}
		return usual[i], true
	}
	for _, text := range o.try {
		field, values, given := strings.Cut(text, "=")
		adjustment, known := find(strings.TrimSpace(field))
		if given {
			adjustment.Values = splitOutside(values)
		} else if !known {
			return nil, fmt.Errorf("--try %s: which values? Write it like depth=4,64", text)
		}
		tried = append(tried, adjustment)
	}
	if len(o.try) == 0 {
		tried = usual
	}
	for _, field := range o.leave {
		if _, known := find(field); !known {
			return nil, fmt.Errorf("--leave %s: it is not one of the usual parameters; --list shows them", field)
		}
		tried = slices.DeleteFunc(slices.Clone(tried), func(a resource.Adjustment) bool { return strings.EqualFold(a.Field, field) })
	}
	tried = slices.DeleteFunc(slices.Clone(tried), func(a resource.Adjustment) bool { return len(a.Values) == 0 })
	if len(tried) == 0 {
		return nil, errors.New("there are no usual parameters for this load on this volume; name some, such as --try depth=4,64")
	}
	return tried, nil
}

func printAdjustments(w io.Writer, adjustments []resource.Adjustment) error {
	t := newTable(w, 1, "parameter", "baseline", "tried", "meaning")
	for _, a := range adjustments {
		t.AppendRow([]any{a.Field, a.Now, strings.Join(a.Values, ", "), a.Of})
	}
	t.Render()
	return nil
}

func (a *app) effects() *cobra.Command {
	command := a.runCommand("effects RUN", "Show which parameters an experiment found to matter, and by how much", "  heron run effects 22\n  heron run effects 22 --json",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			shape, err := c.Shape(ctx, id, 0)
			if err != nil {
				return err
			}
			if len(shape.Tuned) == 0 {
				return fmt.Errorf("run %d is not an experiment; 'heron tune' makes one", id)
			}
			if a.json {
				return printJSON(command.OutOrStdout(), shape.Tuned)
			}
			return printTuned(command.OutOrStdout(), shape.Tuned)
		})
	command.Long = `Show the result of an experiment ("heron tune") as plain text: the effect of each value
alone, their effect together, and the settings to keep. It works while the experiment is
still running, too.`
	return command
}

func printTuned(w io.Writer, tuned []resource.StageTuned) error {
	for _, t := range tuned {
		if _, err := io.WriteString(exactly(w), t.Record); err != nil {
			return err
		}
	}
	return nil
}
