package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/figure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/twin"
	"patientheron/core/workload"
	"patientheron/format/arrayfile"
	"patientheron/resource"
)

func (a *app) twin() *cobra.Command {
	command := &cobra.Command{
		Use: "twin", Short: "Fit a simulated array to a real one, and predict with it",
		Long: `A twin is a simulated array that is fitted to measurements of a real one (docs/twins.md).
It reports how well each parameter is identified, which are correlated, and which load
would narrow them down most. It is validated on loads that were left out of the fit.
It is an array file like any other: change one thing, and measure it. Predictions are
stored, and compared with the real measurement once there is one.`,
		Example: "  heron twin fit pool --name \"pool's twin\"\n  heron twin show \"pool's twin\"\n  heron twin predict \"pool's twin\" --set members.count=10 --preset ledger",
	}
	command.AddCommand(a.twinFit(), a.twinGuess(), a.twinList(), a.twinShow(), a.twinFile(), a.twinPredict(), a.twinForget())
	return command
}

func (a *app) twinFit() *cobra.Command {
	var guess, name, to string
	var free []string
	var runs string
	var seed uint64
	command := &cobra.Command{
		Use: "fit VOLUME", Short: "Fit a twin to the measurements of a volume", Args: cobra.ExactArgs(1),
		Long: `Fit a twin to what was measured of a volume: to all runs of what stood behind it when it
was last measured, or to those that --runs names. Unreliable figures are left out, and so
are loads that cannot be simulated.

The fit starts from a guess: an array file with the parts of the volume. Without --guess
it is built from the known facts of the setup ('heron setup'); 'heron twin guess' prints
it, to be corrected. All rates and times in the guess are fitted, or those that --free
names. The fit waits while a run is measuring. Ctrl-C stops it.`,
		Example: "  heron twin fit pool\n  heron twin fit pool --guess guess.yaml --free members[0].seekAverage,members[0].outerRate\n  heron twin fit pool --name before --to before.yaml",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			volume, err := measured(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			asked := resource.NewTwin{Name: name, VolumeID: volume.ID, Free: free, Seed: seed}
			if name == "" {
				asked.Name = shorten(volume.Name, 58) + ", " + time.Now().Format("2006-01-02 15:04:05")
			}
			if runs != "" {
				group, ok := runsIn(runs)
				if !ok {
					return fmt.Errorf("--runs %q is not understood; join runs by +, such as 12+14", runs)
				}
				asked.Runs = group.Runs
			}
			if guess != "" {
				text, err := readText(guess, command.InOrStdin())
				if err != nil {
					return fmt.Errorf("read the guess: %w", err)
				}
				if _, err := arrayfile.Read(text); err != nil {
					return fmt.Errorf("%s: %w", guess, err)
				}
				asked.Guess = string(text)
			}
			if err := isNew(to); err != nil {
				return err
			}
			begun, err := c.FitTwin(ctx, asked)
			if err != nil {
				return err
			}
			kept, err := a.fitting(ctx, c, command, begun)
			if err != nil {
				return err
			}
			if to != "" {
				if err := writeNew(command, to, func(w io.Writer) error { _, err := io.WriteString(w, kept.Text); return err }); err != nil {
					return err
				}
			}
			if a.json {
				return printJSON(command.OutOrStdout(), kept)
			}
			printTwin(command.OutOrStdout(), kept)
			return nil
		}),
	}
	flags := command.Flags()
	flags.StringVar(&name, "name", "", "name of the twin (default: that of the volume, with the time)")
	flags.StringVar(&runs, "runs", "", "runs to fit to, joined by +")
	flags.StringVar(&guess, "guess", "", "array file to start from (- for standard input)")
	flags.StringSliceVar(&free, "free", nil, "keys of the array file to fit (default: all rates and times of the guess)")
	flags.StringVar(&to, "to", "", "new file to write the twin's array file to")
	flags.Uint64Var(&seed, "seed", 1, "seed of the random choices")
	return command
}

// measured finds a volume that is registered already: of another nothing was measured.
func measured(ctx context.Context, c *client.Client, target string) (resource.Volume, error) {
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return resource.Volume{}, err
	}
	volume, found := among(volumes, target)
	if !found {
		return volume, fmt.Errorf("%q is no registered volume; 'heron volume list' shows those that there are, and 'heron measure' registers one", target)
	}
	return volume, nil
}

// fitting waits until a twin is fitted. An interrupt stops the fit.
func (a *app) fitting(ctx context.Context, c *client.Client, command *cobra.Command, fit resource.Fitting) (resource.Twin, error) {
	interrupted, release := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer release()
	kept, err := followFit(interrupted, c, newProgressView(command.ErrOrStderr(), a.json), fit)
	if interrupted.Err() != nil {
		if err := c.StopFit(context.WithoutCancel(ctx), fit.ID); err != nil {
			return kept, err
		}
		return kept, errors.New("stopped; nothing was stored")
	}
	return kept, err
}

// followFit waits until a twin is fitted, and says how far it is.
func followFit(ctx context.Context, c *client.Client, view *progressView, fit resource.Fitting) (kept resource.Twin, err error) {
	defer view.end()
	for !fit.Status.Final() {
		select {
		case <-ctx.Done():
			return kept, ctx.Err()
		case <-time.After(progressTold):
		}
		if fit, err = c.Fit(ctx, fit.ID); err != nil {
			return kept, err
		}
		view.show(fit.Progress.Step, fitInWords(fit))
	}
	if fit.Status != resource.Finished {
		return kept, fmt.Errorf("the fit is %s: %s", fit.Status, fit.Reason)
	}
	return c.Twin(ctx, fit.TwinID)
}

func fitInWords(fit resource.Fitting) string {
	if fit.Waiting {
		return "waiting for a run to end"
	}
	words := fmt.Sprintf("%s; %d simulations", fit.Progress.Step, fit.Progress.Tried)
	if fit.Progress.Off > 0 {
		words += fmt.Sprintf("; error %s so far", quantity.Share(fit.Progress.Off))
	}
	return words
}

func (a *app) twinGuess() *cobra.Command {
	return &cobra.Command{
		Use: "guess VOLUME", Short: "Print the array file that a fit would start from, to be corrected", Args: cobra.ExactArgs(1),
		Example: "  heron twin guess pool > guess.yaml",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			volume, err := measured(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			text, err := c.GuessTwin(ctx, volume.ID)
			if err != nil {
				return err
			}
			_, err = io.WriteString(exactly(command.OutOrStdout()), text)
			return err
		}),
	}
}

func (a *app) twinList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the twins", Args: cobra.NoArgs, Example: "  heron twin list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			twins, err := c.Twins(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), twins)
			}
			if len(twins) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "There is no twin yet. Fit one with 'heron twin fit VOLUME'.")
				return nil
			}
			t := newTable(command.OutOrStdout(), 4, "twin", "name", "of", "off", "unseen", "fitted")
			for _, kept := range twins {
				t.AppendRow(table.Row{kept.ID, shorten(kept.Name, 50), shorten(kept.Volume, 30), quantity.Share(kept.Off), unseenInWords(kept.Unseen), kept.Created.Local().Format("2006-01-02 15:04")})
			}
			t.Render()
			return nil
		}),
	}
}

func unseenInWords(unseen *float64) string {
	if unseen == nil {
		return "not tried"
	}
	return quantity.Share(*unseen).String()
}

// ofTwin is a command about one twin, named by its name or number.
func (a *app) ofTwin(use, short, example string, work func(context.Context, *client.Client, *cobra.Command, resource.Twin) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			twins, err := c.Twins(ctx)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(twins, func(t resource.Twin) bool {
				return t.Name == arguments[0] || strconv.FormatInt(t.ID, 10) == arguments[0]
			})
			if i < 0 {
				return fmt.Errorf("no twin has the name or number %q; 'heron twin list' shows them", arguments[0])
			}
			return work(ctx, c, command, twins[i])
		}),
	}
}

func (a *app) twinShow() *cobra.Command {
	return a.ofTwin("show TWIN", "Show a twin, and its predictions beside later measurements", "  heron twin show \"mine\"\n  heron twin show 2 --json",
		func(ctx context.Context, c *client.Client, command *cobra.Command, named resource.Twin) error {
			kept, err := c.Twin(ctx, named.ID)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), kept)
			}
			printTwin(command.OutOrStdout(), kept)
			return nil
		})
}

func (a *app) twinFile() *cobra.Command {
	return a.ofTwin("file TWIN", "Print the array file of a twin, to change and measure", "  heron twin file \"mine\" > twin.yaml\n  heron measure array:twin.yaml --sweep members.count=4..8",
		func(_ context.Context, _ *client.Client, command *cobra.Command, named resource.Twin) error {
			_, err := io.WriteString(exactly(command.OutOrStdout()), named.Text)
			return err
		})
}

func (a *app) twinForget() *cobra.Command {
	return a.ofTwin("remove TWIN", "Remove a twin and its predictions; measurements stay", "  heron twin remove 3",
		func(ctx context.Context, c *client.Client, command *cobra.Command, named resource.Twin) error {
			if err := c.RemoveTwin(ctx, named.ID); err != nil {
				return err
			}
			fmt.Fprintf(command.OutOrStdout(), "Twin %d, %q, is removed.\n", named.ID, named.Name)
			return nil
		})
}

func (a *app) twinPredict() *cobra.Command {
	o := &measureOptions{spec: workload.Default(), pause: "0", quiet: "0"}
	var with []string
	var on string
	command := a.ofTwin("predict TWIN", "Predict the results of loads, to compare with later measurements", `  heron twin predict "mine" --block 16KiB --depth 64
  heron twin predict "mine" --set members.count=10 --preset ledger
  heron twin predict "mine" --set "caches={size: 200GB, mode: read-only}" --plan p.yaml`,
		func(ctx context.Context, c *client.Client, command *cobra.Command, named resource.Twin) error {
			asked := resource.NewPrediction{}
			var err error
			if asked.Plan, err = o.plan(command); err != nil {
				return err
			}
			for _, change := range with {
				key, value, found := strings.Cut(change, "=")
				if !found || value == "" {
					return fmt.Errorf("--set %q is not understood; write it like members.count=10", change)
				}
				if err := arrayfile.CheckKey(key); err != nil {
					return fmt.Errorf("--set: %w", err)
				}
				asked.Changes = append(asked.Changes, plan.Setting{Field: key, Value: value})
			}
			if on != "" {
				volume, err := a.findVolume(ctx, c, on)
				if err != nil {
					return err
				}
				asked.VolumeID = volume.ID
			}
			made, err := c.Predict(ctx, named.ID, asked)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), made)
			}
			printPrediction(command.OutOrStdout(), made)
			return nil
		})
	command.Long = `Predict the results of a plan, a preset or a load with a twin, with 95 % intervals from
the uncertainty of its parameters. The prediction is stored. 'heron twin show' compares it
with later measurements of the volume under the same loads. --set changes a key of the
array file, such as the number of members; name the volume that will be measured then
with --on.`
	flags := command.Flags()
	flags.SortFlags = false
	flags.StringArrayVar(&with, "set", nil, "KEY=VALUE: use another value for a key of the array file, such as members.count=10; none removes it")
	flags.StringVar(&on, "on", "", "volume to compare with (default: the one that was fitted)")
	flags.StringVar(&o.preset, "preset", "", "predict a preset (heron preset list)")
	flags.StringVar(&o.file, "plan", "", "predict a plan file (- for standard input)")
	flags.StringArrayVar(&o.sweep, "sweep", nil, "predict at each value of a field, such as depth=1..64")
	loadFlags(flags, &o.spec)
	return command
}

// printTwin prints all that is known of a twin.
func printTwin(w io.Writer, t resource.Twin) {
	say := func(words string) { fmt.Fprintln(w, wrapped(words, 100)) }
	say(fmt.Sprintf("Twin %d, %q, of %q, fitted to %s in %d simulations.", t.ID, t.Name, t.Volume, resource.Group{Runs: t.Runs}.InWords(), t.Fitted.Tried))
	for _, words := range t.Fitted.Words {
		say(words)
	}
	fmt.Fprintln(w)
	parameters := newTable(w, 3, "parameter", "identified", "guess", "twin", "uncertainty")
	for _, p := range t.Fitted.Parameters {
		parameters.AppendRow(table.Row{p.Key, string(p.Known), twin.Show(p.Unit, p.Guess), p.Shown, p.Spread})
	}
	parameters.Render()
	fmt.Fprintln(w)
	loads := newTable(w, 3, "load", "figure", "measured", "twin", "off", "unseen")
	names := newLoadNames(w, 72)
	for _, l := range t.Fitted.Loads {
		f := figure.Of(l.Figure)
		loads.AppendRow(table.Row{names.of(l.Name), l.Label, f.Show(l.Measured), f.Show(l.Twin), signed(l.Off), unseenBy(l.UnseenBy)})
	}
	loads.Render()
	list := func(heading string, all []string) {
		if len(all) > 0 {
			fmt.Fprintf(w, "\n%s\n", heading)
		}
		for _, words := range all {
			fmt.Fprintln(w, "  "+strings.ReplaceAll(wrapped(words, 98), "\n", "\n  "))
		}
	}
	next := make([]string, len(t.Fitted.Next))
	for i, n := range t.Fitted.Next {
		next[i] = n.Words
	}
	list("What to measure next:", next)
	list("Left out:", t.Fitted.LeftOut)
	for _, p := range t.Predictions {
		fmt.Fprintln(w)
		printPrediction(w, p)
	}
}

// loadNames names loads in the rows of a table, each once where several rows are about it.
type loadNames struct {
	*pointNames
	last string
}

func newLoadNames(w io.Writer, others int) *loadNames {
	return &loadNames{pointNames: namesFor(w, others)}
}

func (n *loadNames) of(load string) string {
	if load == n.last {
		return ""
	}
	n.last = load
	return n.broken("", load)
}

// signed is a share with its sign.
func signed(share float64) string {
	rounded := math.Round(share*1e4) / 1e4
	switch {
	case rounded < 0:
		return "−" + quantity.Share(-rounded).String()
	case rounded > 0:
		return "+" + quantity.Share(rounded).String()
	}
	return "0 %"
}

func unseenBy(share *float64) string {
	if share == nil {
		return "–"
	}
	return signed(*share)
}

// printPrediction prints what was predicted, beside what was measured since.
func printPrediction(w io.Writer, p resource.Prediction) {
	changed := ""
	if len(p.Changes) > 0 {
		changed = " with " + plan.Describe(p.Changes)
	}
	fmt.Fprintln(w, wrapped(fmt.Sprintf("Predicted %s%s. %s", p.Created.Local().Format("2006-01-02 15:04"), changed, p.Words), 100))
	t := newTable(w, 3, "load", "figure", "predicted", "uncertainty", "measured", "error")
	names := newLoadNames(w, 76)
	for _, c := range p.Confronted {
		f := figure.Of(c.Figure.Figure)
		row := table.Row{names.of(c.Name), c.Figure.Label, f.Show(c.Figure.Value), twin.Spread(c.Figure.Value, c.Figure.High), "–", "–"}
		if c.Measured != nil {
			row[4], row[5] = f.Show(*c.Measured), signed(*c.Off)
			if !c.Within {
				row[5] = signed(*c.Off) + ", " + cmp.Or(string(c.State), "outside")
			}
		}
		t.AppendRow(row)
	}
	t.Render()
}
