package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/quantity"
	"patientheron/resource"
	"patientheron/storage"
)

func (a *app) volume() *cobra.Command {
	command := &cobra.Command{Use: "volume", Short: "List, register and remove volumes", Example: "  heron volume list\n  heron volume add /srv/pool --name shelf"}
	list := &cobra.Command{
		Use: "list", Short: "List the registered volumes", Args: cobra.NoArgs, Example: "  heron volume list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			volumes, err := c.Volumes(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), volumes)
			}
			printVolumes(command.OutOrStdout(), volumes)
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a volume; its runs stay and nothing on it is touched", Args: cobra.ExactArgs(1), Example: "  heron volume remove pool",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			v, err := registered(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if err := c.RemoveVolume(ctx, v.ID); err != nil {
				return err
			}
			fmt.Fprintf(command.OutOrStdout(), "Volume %s is removed; its runs stay.\n", v.Name)
			return nil
		}),
	}
	command.AddCommand(list, a.volumeAdd(), a.volumeConsent(), remove)
	return command
}

func (a *app) volumeAdd() *cobra.Command {
	var name string
	var stated statedConsent
	command := &cobra.Command{
		Use: "add LOCATOR", Short: "Register a volume", Args: cobra.ExactArgs(1),
		Long: `Register a folder, a file, a block device, array:FILE of a simulated array,
iscsi://PORTAL/TARGET/LUN, or null:SIZE.

An existing file, device or LUN is registered for reading. To let workloads write
over it, and so lose what it holds, state its exact size in bytes with
--overwrite-size, its serial number with --serial if it has one, and what is
on it with --holds if there is anything: a refusal names it. Storage that is
mounted, open, locked or used by another layer is always refused.

Consent is for what is there now. When that is changed by anything but a run
of the heron, it lapses, and is given anew with "heron volume consent".`,
		Example: `  heron volume add /srv/pool --name shelf
  heron volume add null:1TiB
  heron volume add iscsi://192.0.2.10/iqn.2026-01.example:store/0 --name ledger
  heron volume add /dev/sdx --overwrite-size 960197124096 --holds xfs`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			locator, err := absolute(arguments[0])
			if err != nil {
				return err
			}
			v := resource.NewVolume{Name: name, Locator: locator}
			if v.Consent, err = stated.read(); err != nil {
				return err
			}
			volume, err := register(ctx, c, v, nil)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), volume)
			}
			printVolumes(command.OutOrStdout(), []resource.Volume{volume})
			return nil
		}),
	}
	command.Flags().StringVar(&name, "name", "", "short name (default: made from the locator)")
	stated.flags(command)
	return command
}

// statedConsent is what a user states to let a file or device be overwritten.
type statedConsent struct{ size, serial, holds string }

func (s *statedConsent) flags(command *cobra.Command) {
	command.Flags().StringVar(&s.size, "overwrite-size", "", "agree that what a file or device of exactly this size holds may be lost")
	command.Flags().StringVar(&s.serial, "serial", "", "its serial number, if it has one")
	command.Flags().StringVar(&s.holds, "holds", "", "what is on it, as a refusal names it, if that may be lost too")
}

// read gives nil when nothing is stated.
func (s *statedConsent) read() (*resource.ConsentToWrite, error) {
	if s.size == "" {
		if s.serial != "" || s.holds != "" {
			return nil, errors.New("--serial and --holds belong to --overwrite-size; state the size too")
		}
		return nil, nil
	}
	bytes, err := quantity.ParseBytes(s.size)
	if err != nil {
		return nil, fmt.Errorf("--overwrite-size: %w", err)
	}
	return &resource.ConsentToWrite{Size: bytes, Serial: s.serial, Holds: s.holds}, nil
}

func (a *app) volumeConsent() *cobra.Command {
	var stated statedConsent
	var revoke bool
	command := &cobra.Command{
		Use: "consent NAME", Short: "Agree that what a registered file or device holds may be lost, or take that back", Args: cobra.ExactArgs(1),
		Long: `Agree that workloads may write over a registered file or device, and so lose
what it holds: state its exact size in bytes, its serial number if it has one,
and what is on it if there is anything. What was agreed to before is replaced.

With --revoke nothing more is written, also by runs that wait.`,
		Example: `  heron volume consent spare --overwrite-size 960197124096 --holds xfs
  heron volume consent spare --overwrite-size 960197124096 --holds xfs
  heron volume consent spare --revoke`,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			volume, err := registered(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			consent, err := stated.read()
			switch {
			case err != nil:
				return err
			case revoke == (consent != nil):
				return errors.New("state --overwrite-size to agree, or --revoke to take consent back")
			case revoke:
				err = c.WithdrawConsent(ctx, volume.ID)
				volume.Consent = nil
			default:
				volume, err = c.GiveConsent(ctx, volume.ID, *consent)
			}
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), volume)
			}
			printVolumes(command.OutOrStdout(), []resource.Volume{volume})
			return nil
		}),
	}
	stated.flags(command)
	command.Flags().BoolVar(&revoke, "revoke", false, "take consent back")
	return command
}

// absolute turns what a user types into the locator a service knows it by.
func absolute(target string) (string, error) { return storage.Absolute(target) }

// describedBy is the path of the file that describes what a locator names, where one does.
func describedBy(locator string) (path string, is bool) {
	if storage.Scheme(locator) == "" {
		return "", false // a path, which may hang when it is looked at
	}
	l, err := storage.Parse(locator)
	return l.Name, err == nil && storage.TraitsOf(l.Kind).Described
}

func printVolumes(w io.Writer, volumes []resource.Volume) {
	if len(volumes) == 0 {
		fmt.Fprintln(w, "No volume is registered. Register one with 'heron volume add /some/folder'.")
		return
	}
	const widest = 44 // of a locator, beyond which it is wrapped
	t := newTable(w, 7, "name", "kind", "locator", "file system", "device", "writes", "size", "free")
	t.SetColumnConfigs([]table.ColumnConfig{{Number: 3, WidthMax: widest}, {Number: 7, Align: text.AlignRight, AlignHeader: text.AlignRight}, {Number: 8, Align: text.AlignRight, AlignHeader: text.AlignRight}})
	for _, v := range volumes {
		row := table.Row{v.Name, v.Kind, v.Locator, "", "", "", "", ""}
		row[5] = v.Writes
		if f := v.Facts; f != nil {
			row[3], row[4], row[6] = f.FileSystem, strings.Join(f.Devices, " "), f.Size
			if f.Free > 0 {
				row[7] = f.Free
			}
		} else {
			row[3] = "could not look: " + v.Trouble
		}
		t.AppendRow(row)
	}
	t.Render()
}

func (a *app) run() *cobra.Command {
	command := &cobra.Command{Use: "run", Short: "List, watch, mark, stop, show, report, export and remove runs", Example: "  heron run list\n  heron run watch 12\n  heron run show 12\n  heron run report 12 --to run.html"}
	var limit int
	var before int64
	list := &cobra.Command{
		Use: "list", Short: "List runs, newest first", Args: cobra.NoArgs, Example: "  heron run list --limit 100\n  heron run list --before 51",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			page, err := c.Runs(ctx, before, limit)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), page)
			}
			printRuns(command.OutOrStdout(), page)
			return nil
		}),
	}
	list.Flags().IntVar(&limit, "limit", 20, "how many, at most 500")
	list.Flags().Int64Var(&before, "before", 0, "only runs with a smaller number")

	show := a.runCommand("show RUN", "Show a run and its results", "  heron run show 12", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		detail, err := c.Run(ctx, id)
		if err != nil {
			return err
		}
		if a.json {
			return printJSON(command.OutOrStdout(), detail)
		}
		return printRun(command.OutOrStdout(), detail)
	})
	var after bool
	stop := a.runCommand("stop RUN", "Stop a run; what it measured is kept", "  heron run stop 12\n  heron run stop 12 --after-measurement", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		if err := c.StopRun(ctx, id, after); err != nil {
			return err
		}
		fmt.Fprintf(command.OutOrStdout(), "Run %d is being stopped.\n", id)
		return nil
	})
	stop.Flags().BoolVar(&after, "after-measurement", false, "let the measurement under way finish first")
	var yes bool
	remove := a.runCommand("remove RUN", "Remove a run with all its results", "  heron run remove 12\n  heron run remove 12 --yes", func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
		detail, err := c.Run(ctx, id)
		if err != nil {
			return err
		}
		if !yes && !confirmed(command, fmt.Sprintf("Remove run %d (%s) with its %d measurements?", id, detail.Name, len(detail.Measurements))) {
			return errors.New("nothing was removed; answer yes, or add --yes")
		}
		if err := c.RemoveRun(ctx, id); err != nil {
			return err
		}
		fmt.Fprintf(command.OutOrStdout(), "Run %d is removed.\n", id)
		return nil
	})
	remove.Flags().BoolVar(&yes, "yes", false, "do not ask")
	again := a.runCommand("rejudge RUN", "Apply the rules of this version to a run again; its figures stay", "  heron run rejudge 12",
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			detail, err := c.JudgeRun(ctx, id)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), detail)
			}
			findings := 0
			for _, m := range detail.Measurements {
				findings += len(m.Findings)
			}
			fmt.Fprintf(command.OutOrStdout(), "Run %d is judged; measurements: %d, findings: %d. See them with 'heron run show %d'.\n", id, len(detail.Measurements), findings, id)
			return nil
		})
	command.AddCommand(list, show, a.watch(), a.mark(), stop, a.repeats(), a.race(), a.effects(), a.session(), a.zones(), a.runReport(), a.export(), again, remove)
	return command
}

// runCommand makes a command about one run.
func (a *app) runCommand(use, short, example string, work func(context.Context, *client.Client, *cobra.Command, int64) error) *cobra.Command {
	return &cobra.Command{
		Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			id, err := number(arguments[0], "run")
			if err != nil {
				return err
			}
			return work(ctx, c, command, id)
		}),
	}
}

func confirmed(command *cobra.Command, question string) bool {
	fmt.Fprint(command.ErrOrStderr(), question, " [yes/no] ")
	answer, _ := bufio.NewReader(command.InOrStdin()).ReadString('\n')
	return strings.TrimSpace(answer) == "yes"
}

func printRuns(w io.Writer, page client.RunPage) {
	if len(page.Runs) == 0 {
		fmt.Fprintln(w, "Nothing was measured yet. Begin with 'heron measure /some/folder'.")
		return
	}
	t := newTable(w, 6, "run", "status", "volume", "name", "when", "measurements")
	for _, r := range page.Runs {
		t.AppendRow(table.Row{r.ID, r.Status, r.Volume.Name, shorten(r.Name, 44), r.Created.Local().Format("2006-01-02 15:04"), fmt.Sprintf("%d of %d", r.Progress.Step, r.Progress.Steps)})
	}
	t.Render()
	if last := page.Runs[len(page.Runs)-1].ID; page.Total > len(page.Runs)+len(page.Unreadable) {
		fmt.Fprintf(w, "%d of %d runs; the next page: heron run list --before %d\n", len(page.Runs), page.Total, last)
	}
}

func shorten(text string, length int) string {
	if runes := []rune(text); len(runes) > length {
		return string(runes[:length-1]) + "…"
	}
	return text
}

func (a *app) export() *cobra.Command {
	var format, of, to string
	command := a.runCommand("export RUN", "Write a run as JSON or CSV", `  heron run export 12 > run.json
  heron run export 12 --format csv --table series --to series.csv`,
		func(ctx context.Context, c *client.Client, command *cobra.Command, id int64) error {
			return writeNew(command, to, func(w io.Writer) error { return c.Export(ctx, id, format, of, w) })
		})
	command.Flags().StringVar(&format, "format", "json", "json or csv")
	command.Flags().StringVar(&of, "table", "summary", "which table for csv: summary, phases, series, counters, latency, files or races")
	command.Flags().StringVar(&to, "to", "", toHelp)
	return command
}

// registered finds a volume by its name.
func registered(ctx context.Context, c *client.Client, name string) (resource.Volume, error) {
	volumes, err := c.Volumes(ctx)
	if err != nil {
		return resource.Volume{}, err
	}
	if v, found := among(volumes, name); found {
		return v, nil
	}
	return resource.Volume{}, fmt.Errorf("no volume is called %q; 'heron volume list' shows them", name)
}
