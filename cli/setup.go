package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/setup"
	"patientheron/format/arrayfile"
	"patientheron/format/setupfile"
	"patientheron/resource"
)

func (a *app) setup() *cobra.Command {
	command := &cobra.Command{
		Use: "setup", Short: "Show, edit, copy and compare the setup of volumes",
		Long:    "A setup is a list of facts about the hardware and software below a volume. What this host\ncan see is read; you enter the rest, fact by fact or as a file (docs/setups.md).\nEach change makes a new version.",
		Example: "  heron setup show pool\n  heron setup tell pool cache[0].mode=write-back cache[0].size=400GB\n  heron setup show pool --yaml > pool.yaml",
	}
	var asYAML bool
	show := &cobra.Command{
		Use: "show VOLUME", Short: "Show the setup of a volume", Args: cobra.ExactArgs(1), Example: "  heron setup show pool\n  heron setup show pool --yaml > pool.yaml",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			locator, err := a.locator(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			found, err := c.Look(ctx, locator, client.Asked{})
			switch {
			case err != nil:
				return err
			case found.Facts == nil && len(found.Setup.Facts) == 0:
				return fmt.Errorf("there is no volume or path %q: %s", arguments[0], strings.Join(failedChecks(found), " "))
			case a.json:
				return printJSON(command.OutOrStdout(), found.Setup)
			case asYAML:
				text, err := setupfile.Write(found.Setup)
				if err != nil {
					return err
				}
				_, err = exactly(command.OutOrStdout()).Write(text)
				return err
			}
			printFacts(command.OutOrStdout(), found.Setup)
			return nil
		}),
	}
	show.Flags().BoolVar(&asYAML, "yaml", false, "as a setup file, to edit")
	versions := &cobra.Command{
		Use: "versions VOLUME", Short: "List the versions of the setup of a volume", Args: cobra.ExactArgs(1), Example: "  heron setup versions pool",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			volume, err := a.findVolume(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			list, err := c.Setups(ctx, volume.ID)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), list)
			}
			if len(list) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "Nothing is recorded yet: a run or 'heron setup tell' begins it.")
				return nil
			}
			t := newTable(command.OutOrStdout(), 4, "version", "since", "changed")
			for _, v := range list {
				t.AppendRow(table.Row{v.Version, v.Created.Local().Format("2006-01-02 15:04"), wrapped(v.Changed.Words, 72)})
			}
			t.Render()
			return nil
		}),
	}
	command.AddCommand(show, a.setupTell(), a.setupCopy(), versions, a.setupDiff())
	return command
}

func (a *app) setupTell() *cobra.Command {
	var file string
	var replace bool
	var follows int
	command := &cobra.Command{
		Use: "tell VOLUME [FACT=VALUE...]", Short: "Tell facts of the setup of a volume", Args: cobra.MinimumNArgs(1),
		Long: `Tell facts that this host cannot see. A told fact replaces one that was read; an empty
value removes it again. docs/setups.md lists all facts.

Facts told by several people at once are all kept. With --follows nothing is changed if
there is a newer version than that one.`,
		Example: "  heron setup tell pool link[0].rate=1250MB/s link[0].mtuThere=9000\n  heron setup tell pool --file pool.yaml\n  heron setup tell pool cache[0].mode=",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			told := resource.ToldSetup{Replace: replace}
			if command.Flags().Changed("follows") {
				told.Version = &follows
			}
			if file != "" {
				text, err := readText(file, command.InOrStdin())
				if err != nil {
					return err
				}
				told.Text = string(text)
			}
			var err error
			if told.Facts, err = factsOf(arguments[1:]); err != nil {
				return err
			}
			if len(told.Facts) == 0 && file == "" && !replace {
				return errors.New("nothing is told; write facts such as layout.level=raid5, or name a file with --file")
			}
			return a.tell(ctx, c, command, arguments[0], told)
		}),
	}
	command.Flags().StringVar(&file, "file", "", "a setup file (- for standard input)")
	command.Flags().BoolVar(&replace, "replace", false, "replace all told and measured facts")
	command.Flags().IntVar(&follows, "follows", 0, "number of the version that this must follow (heron setup versions)")
	return command
}

func (a *app) setupCopy() *cobra.Command {
	return &cobra.Command{
		Use: "copy FROM TO [FACT=VALUE...]", Short: "Copy the setup of one volume to another, and change it", Args: cobra.MinimumNArgs(2),
		Long:    "Copy the setup of one volume to another, with some facts changed, such as an added cache.\nFacts of the host, and facts that were read from the other volume, are not copied.",
		Example: "  heron setup copy pool new-pool cache[0].medium=ssd cache[0].mode=read-only cache[0].size=400GB",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			locator, err := a.locator(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			from, err := c.Look(ctx, locator, client.Asked{})
			if err != nil {
				return err
			}
			changes, err := factsOf(arguments[2:])
			if err != nil {
				return err
			}
			target, err := a.locator(ctx, c, arguments[1])
			if err != nil {
				return err
			}
			to, err := c.Look(ctx, target, client.Asked{})
			if err != nil {
				return err
			}
			own := to.Setup.Only(setup.Read, setup.Simulated)
			told := resource.ToldSetup{Replace: true}
			for _, f := range from.Setup.Facts {
				if !strings.HasPrefix(f.Key, "host.") && own.Text(f.Key) == "" {
					told.Facts = append(told.Facts, resource.ToldFact{Key: f.Key, Value: f.Value})
				}
			}
			told.Facts = append(told.Facts, changes...)
			return a.tell(ctx, c, command, arguments[1], told)
		}),
	}
}

func (a *app) setupDiff() *cobra.Command {
	return &cobra.Command{
		Use: "diff A B...", Short: "List the differences of setups, the most important first", Args: cobra.MinimumNArgs(2),
		Long: `List the differences of two or more setups, and which are alike. Each is a volume or a
path, the number of a run, a setup file, or an array file.`,
		Example: "  heron setup diff pool new-pool\n  heron setup diff 12 14\n  heron setup diff planned.yaml pool\n  heron setup diff node-1 node-2 node-3 node-4",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			sides := make([]setup.Setup, len(arguments))
			for i, argument := range arguments {
				var err error
				if sides[i], err = a.setupOf(ctx, c, argument); err != nil {
					return err
				}
			}
			if len(sides) > 2 {
				among := setup.DiffAmong(sides)
				if a.json {
					return printJSON(command.OutOrStdout(), among)
				}
				printAmong(command.OutOrStdout(), among, arguments)
				return nil
			}
			d := setup.Diff(sides[0], sides[1])
			if a.json {
				return printJSON(command.OutOrStdout(), d)
			}
			printDifference(command.OutOrStdout(), d, arguments)
			return nil
		}),
	}
}

// printAmong prints what differs among several setups, and which are alike.
func printAmong(w io.Writer, a setup.Among, names []string) {
	if len(a.Rows) > 0 {
		heads := []any{"part", "fact"}
		for _, name := range names {
			heads = append(heads, name)
		}
		t := newTable(w, len(heads)+1, heads...)
		for _, r := range a.Rows {
			row := table.Row{"  " + r.Part, r.Label}
			for i, v := range r.Values {
				missing := "none"
				if !r.Known[i] {
					missing = "not known"
				}
				row = append(row, wrapped(cmp.Or(v, missing), 24))
			}
			t.AppendRow(row)
		}
		t.Render()
	}
	fmt.Fprintln(w, wrapped(a.Words(names), 100))
}

// setupOf finds the setup that an argument means.
func (a *app) setupOf(ctx context.Context, c *client.Client, argument string) (setup.Setup, error) {
	if id, err := strconv.ParseInt(argument, 10, 64); err == nil {
		run, err := c.Run(ctx, id)
		return run.Setup, err
	}
	if extension := filepath.Ext(argument); extension == ".yaml" || extension == ".yml" {
		text, err := readText(argument, nil)
		if err != nil {
			return setup.Setup{}, err
		}
		s, err := setupfile.Read(text, time.Now().UTC())
		if err == nil {
			return s, nil
		}
		array, arrayErr := arrayfile.Read(text)
		if arrayErr != nil {
			return s, fmt.Errorf("%s is neither a setup file (%w) nor a simulated array (%w)", argument, err, arrayErr)
		}
		return array.Setup(), nil
	}
	locator, err := a.locator(ctx, c, argument)
	if err != nil {
		return setup.Setup{}, err
	}
	found, err := c.Look(ctx, locator, client.Asked{})
	for _, check := range found.Checks {
		if check.Name == "reachable" && check.Result == setup.Failed {
			return found.Setup, fmt.Errorf("%s is no volume, and as a path: %s", argument, check.Sentence)
		}
	}
	return found.Setup, err
}

func printDifference(w io.Writer, d setup.Difference, names []string) {
	if len(d.Changes)+len(d.Unknown) == 0 {
		fmt.Fprintln(w, d.Words)
		return
	}
	t := newTable(w, 5, "part", "fact", names[0], names[1])
	for _, c := range slices.Concat(d.Changes, d.Unknown) {
		name := "all of it"
		if field, err := setup.Lookup(c.Key); err == nil {
			name = field.Label
		}
		missing := "none"
		if !c.Known {
			missing = "not known"
		}
		t.AppendRow(table.Row{"  " + c.Part, name, wrapped(cmp.Or(c.Before, missing), 30), wrapped(cmp.Or(c.After, missing), 30)})
	}
	t.Render()
	if d.Caution != "" {
		fmt.Fprintf(w, "%s\n", indented("Caution: "+d.Caution, "  "))
	}
}

func (a *app) tell(ctx context.Context, c *client.Client, command *cobra.Command, target string, told resource.ToldSetup) error {
	volume, err := a.findVolume(ctx, c, target)
	if err != nil {
		return err
	}
	version, err := c.TellSetup(ctx, volume.ID, told)
	if err != nil {
		return err
	}
	if a.json {
		return printJSON(command.OutOrStdout(), version)
	}
	fmt.Fprintf(command.OutOrStdout(), "Version %d of the setup of %s. %s\n\n", version.Version, volume.Name, version.Changed.Words)
	printFacts(command.OutOrStdout(), version.Setup)
	return nil
}

func factsOf(arguments []string) (facts []resource.ToldFact, err error) {
	for _, argument := range arguments {
		key, value, found := strings.Cut(argument, "=")
		if !found {
			return nil, fmt.Errorf("%q is not a fact; write it like layout.level=raid5", argument)
		}
		facts = append(facts, resource.ToldFact{Key: key, Value: value})
	}
	return facts, nil
}
