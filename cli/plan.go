package cli

import (
	"fmt"
	"io"
	"os"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/format/planfile"
)

func (a *app) preset() *cobra.Command {
	command := &cobra.Command{Use: "preset", Short: "List the plans that ship with the heron, and print them to edit", Example: "  heron preset list\n  heron preset show ledger > my-plan.yaml"}
	list := &cobra.Command{
		Use: "list", Short: "List the presets and the question each answers", Args: cobra.NoArgs, Example: "  heron preset list",
		RunE: func(command *cobra.Command, _ []string) error {
			presets, err := planfile.Presets()
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), presets)
			}
			t := newTable(command.OutOrStdout(), 4, "preset", "for", "question", "points", "time")
			for _, p := range presets {
				estimate, err := p.Plan.Estimate()
				if err != nil {
					return err
				}
				t.AppendRow(table.Row{p.Key, wrapped(p.Purpose, 18), wrapped(p.Plan.Why, 34), estimate.Measurements, estimateTime(estimate)})
			}
			t.Render()
			return nil
		},
	}
	show := &cobra.Command{
		Use: "show PRESET", Short: "Print a preset as a plan file", Args: cobra.ExactArgs(1), Example: "  heron preset show ledger > my-plan.yaml",
		RunE: func(command *cobra.Command, arguments []string) error {
			p, err := planfile.FindPreset(arguments[0])
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), p)
			}
			_, err = io.WriteString(exactly(command.OutOrStdout()), p.Text)
			return err
		},
	}
	command.AddCommand(list, show)
	return command
}

func (a *app) plan() *cobra.Command {
	command := &cobra.Command{Use: "plan", Short: "Check plan files", Example: "  heron plan check my-plan.yaml"}
	command.AddCommand(&cobra.Command{
		Use: "check FILE", Short: "Check a plan file, and list its measurements and their time", Args: cobra.ExactArgs(1),
		Long:    "Read a plan file (- for standard input), report the first mistake with its line and\ncolumn, or list its measurements and what they take.",
		Example: "  heron plan check my-plan.yaml\n  heron preset show ledger | heron plan check -",
		RunE: func(command *cobra.Command, arguments []string) error {
			p, err := readPlan(arguments[0], command.InOrStdin())
			if err != nil {
				return err
			}
			estimate, err := p.Estimate()
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), map[string]any{"plan": p, "estimate": estimate})
			}
			steps, err := p.Steps()
			if err != nil {
				return err
			}
			t := newTable(command.OutOrStdout(), 5, "no.", "stage", "point", "load")
			for i, s := range steps {
				t.AppendRow(table.Row{i + 1, wrapped(s.Name, 26), wrapped(plan.Describe(s.Point), 20), wrapped(s.Load.Describe(), 44)})
			}
			t.Render()
			printEstimate(command.OutOrStdout(), estimate, 1, "")
			return nil
		},
	})
	return command
}

// readPlan reads a plan file, or standard input for "-".
func readPlan(name string, in io.Reader) (plan.Plan, error) {
	text, err := readText(name, in)
	if err != nil {
		return plan.Plan{}, fmt.Errorf("read the plan: %w", err)
	}
	p, err := planfile.Read(text)
	if err != nil {
		return p, fmt.Errorf("%s: %w", name, err)
	}
	return p, nil
}

// mostText is how much of a file that people write is read; its reader says what
// it takes.
const mostText = 1 << 20

// readText reads a file, or standard input for "-" where there is one.
func readText(name string, in io.Reader) ([]byte, error) {
	if name != "-" || in == nil {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		in = file
	}
	return io.ReadAll(io.LimitReader(in, mostText))
}

// printEstimate says what a plan takes, on so many volumes together.
func printEstimate(w io.Writer, e plan.Estimate, volumes int, as plan.Beside) {
	e.Measurements *= volumes
	e.Written *= quantity.Bytes(volumes)
	if as != plan.Race {
		e.Time *= quantity.Seconds(volumes)
	}
	words := fmt.Sprintf("%d measurements, %s", e.Measurements, estimateTime(e))
	if e.Written > 0 {
		words += fmt.Sprintf(", %s written by preconditioning, amounts and set rates", e.Written)
	}
	if e.Open {
		words += "; loads without a set rate write more, and loads with an amount may end sooner"
	}
	fmt.Fprintln(w, wrapped(words+". The time to prepare a test file comes on top.", widest))
}

func estimateTime(e plan.Estimate) string {
	if e.Time == 0 && e.Open {
		return "until done"
	}
	return e.Time.String()
}
