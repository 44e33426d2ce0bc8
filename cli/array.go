package cli

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/simulated"
)

func (a *app) array() *cobra.Command {
	command := &cobra.Command{
		Use: "array", Short: "Check, explain, measure and serve simulated arrays",
		Long:    "A simulated array is described in a file (docs/arrays.md) and measured like any\nvolume, in virtual time: a ten-minute measurement takes a moment and gives the same\nanswer every time.",
		Example: "  heron array explain plain.yaml\n  heron array measure plain.yaml --preset ledger",
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Check an array file, and report the first mistake with its line and column", Args: cobra.ExactArgs(1),
		Example: "  heron array check plain.yaml",
		RunE: func(command *cobra.Command, arguments []string) error {
			d, err := simulated.ReadFile(arguments[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(command.OutOrStdout(), "%s is possible: %s, %s for data.\n", arguments[0], d.Layout.Level, d.Explain().Usable)
			return nil
		},
	}
	var with []string
	explain := &cobra.Command{
		Use: "explain FILE", Short: "Describe an array: its parts, the limit of each hop, and the failures it survives", Args: cobra.ExactArgs(1),
		Example: "  heron array explain plain.yaml\n  heron array explain plain.yaml --set members.count=12 --set link.mtu=9000",
		RunE: func(command *cobra.Command, arguments []string) error {
			settings, err := readWith(with)
			if err != nil {
				return err
			}
			d, err := simulated.ReadFile(arguments[0], settings...)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), d.Explain())
			}
			printArray(command.OutOrStdout(), d)
			return nil
		},
	}
	explain.Flags().StringArrayVar(&with, "set", nil, "KEY=VALUE: use another value for a key of the array file, such as members.count=10; none removes it")
	var name string
	keep := &cobra.Command{
		Use: "add FILE", Short: "Store an array file in the service, and print its locator", Args: cobra.ExactArgs(1),
		Long: `Store an array file in the data folder of the service. The service reads array files
there and in the folders of "heron serve --arrays", and nowhere else. An array file of
the same name is replaced.`,
		Example: "  heron array add plain.yaml\n  heron array add plain.yaml --name rack-3",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			locator, err := keepArray(ctx, c, arguments[0], name)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), map[string]string{"locator": locator})
			}
			fmt.Fprintln(command.OutOrStdout(), locator)
			return nil
		}),
	}
	keep.Flags().StringVar(&name, "name", "", "name to keep it under (default: made from the path)")
	command.AddCommand(check, explain, keep, a.arrayMeasure(), a.arrayInject(), a.serveArray())
	return command
}

// readWith reads settings such as "members.count=12".
func readWith(texts []string) (settings []plan.Setting, err error) {
	for _, text := range texts {
		key, value, found := strings.Cut(text, "=")
		if !found {
			return nil, fmt.Errorf("--set %q is not understood; write it like members.count=12", text)
		}
		settings = append(settings, plan.Setting{Field: strings.TrimSpace(key), Value: strings.TrimSpace(value)})
	}
	return settings, nil
}

// keepArray reads an array file with the rights of the user and hands it over.
// Files of one name from different folders are kept apart.
func keepArray(ctx context.Context, c *client.Client, file, name string) (string, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return "", fmt.Errorf("find %s: %w", file, err)
	}
	if _, err := simulated.ReadFile(path); err != nil {
		return "", err
	}
	text, err := readText(path, nil)
	if err != nil {
		return "", fmt.Errorf("read the array file: %w", err)
	}
	if name == "" {
		digest := sha256.Sum256([]byte(path))
		name = fmt.Sprintf("%s-%x", strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), digest[:3])
	}
	return c.KeepArray(ctx, name, string(text))
}

func (a *app) arrayMeasure() *cobra.Command {
	o := &measureOptions{spec: workload.Default()}
	command := &cobra.Command{
		Use: "measure FILE", Short: "Measure a simulated array", Args: cobra.ExactArgs(1),
		Example: "  heron array measure plain.yaml --preset ledger\n  heron array measure plain.yaml --reads 0% --span 1TiB --for 10min --here\n  heron array measure plain.yaml --sweep members.count=4,6,8,12 --sweep depth=1..64",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			path, err := filepath.Abs(arguments[0])
			if err != nil {
				return err
			}
			return a.startMeasuring(ctx, c, command, []string{simulated.Locator(path)}, o)
		}),
	}
	o.flags(command)
	return command
}

func (a *app) arrayInject() *cobra.Command {
	return &cobra.Command{
		Use: "inject RUN FAULT", Short: "Inject a fault into the simulated array that a run is measuring, and mark it", Args: cobra.ExactArgs(2),
		Long: `Inject a fault now into the simulated array that a run is measuring. The fault is written
as in an array file (docs/arrays.md lists them all). A marker is set, so that the run
shows the rate before and after. Start the run with --pace, so that there is time to act.`,
		Example: "  heron array measure plain.yaml --for 10min --pace 20x &\n  heron array inject 12 '{kind: member fails, member: 2}'\n  heron array inject 12 '{kind: path drops, path: 1, for: 2s}'",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			id, err := number(arguments[0], "run")
			if err != nil {
				return err
			}
			marker, err := c.Inject(ctx, id, arguments[1])
			if err != nil {
				return err
			}
			return a.printMarker(command, marker)
		}),
	}
}

func printArray(w io.Writer, d array.Description) {
	fmt.Fprintln(w, d.Name)
	for _, sentence := range d.Words() {
		fmt.Fprintln(w, " ", indented(sentence, "  "))
	}
	for _, sentence := range append(d.Assumed(), d.Costs()) {
		fmt.Fprintln(w, " ", indented(sentence, "  "))
	}
	printCeilings(w, d.Setup())
	if len(d.Caches) > 0 {
		fmt.Fprintln(w, "\nA cache can be faster than the parts behind it, until it has to write back.")
	}
}

// printCeilings shows what each hop of a setup can pass of each use.
func printCeilings(w io.Writer, s setup.Setup) {
	for _, u := range setup.Uses {
		c := s.For(u)
		if limit := setup.Limit(c.Hops); limit != nil {
			fmt.Fprintf(w, "\n%s, %s each: at most %s, limited by %s%s\n", u.Name, u.Block, u.Show(limit.Rate), limit.Name, forLong(u, c.Hops, limit))
		} else {
			fmt.Fprintf(w, "\n%s, %s each: no ceiling is known\n", u.Name, u.Block)
		}
		t := newTable(w, 2, "hop", "limit", "formula")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, Align: text.AlignRight}})
		show := func(r quantity.OpRate) string {
			if r == 0 {
				return "not known"
			}
			return u.Show(r)
		}
		for _, h := range c.Hops {
			t.AppendRow(table.Row{"  " + h.Name, show(h.Rate), wrapped(h.Formula, 60)})
			if h.Long != h.Rate {
				t.AppendRow(table.Row{"    for long", show(h.Long), wrapped(h.LongFormula, 60)})
			}
		}
		t.Render()
	}
}

// forLong says what passes for long, where that is less than what passes at first.
func forLong(u setup.Use, hops []setup.Hop, fresh *setup.Hop) string {
	switch long := setup.ForLong(hops); {
	case long == nil:
		return "; how much for long is not known"
	case long.Long < fresh.Rate:
		return fmt.Sprintf("; for long %s, by %s", u.Show(long.Long), long.Name)
	}
	return ""
}
