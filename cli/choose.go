package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"patientheron/core/choose"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/format/partsfile"
	"patientheron/report"
	"patientheron/storage/simulated"
)

func (a *app) choose() *cobra.Command {
	var partsPath, to, page string
	var seed uint64
	var short int
	command := &cobra.Command{
		Use: "choose SHEET --parts FILE", Short: "Find out what to buy for a need, from parts with prices", Args: cobra.ExactArgs(1),
		Long: `Combine parts into designs. Designs that cannot meet the need (capacity, budget,
redundancy, hardware limits) are discarded by arithmetic. The others are simulated in
virtual time on all cores: all of them briefly, the promising ones in full. The result is
a short list with verdicts, headroom, price and bill of materials, and the reasons why
cheaper designs fail (docs/choose.md). The same sheet, parts and seed give the same result.

Every use in the sheet needs a load. Results are simulated from the data of the parts:
they say what is worth trying; measure the real hardware before you rely on it.
Nothing is stored. --designs writes the short list as array files, to change and measure.`,
		Example: "  heron choose station.yaml --parts dealer.yaml\n  heron choose station.yaml --parts dealer.yaml --short 3 --designs designs --html what-to-buy.html",
		RunE: func(command *cobra.Command, arguments []string) error {
			_, n, err := readNeed(command, arguments[0])
			if err != nil {
				return err
			}
			parts, err := readParts(command, partsPath)
			if err != nil {
				return err
			}
			if err := errors.Join(isNew(to), isNew(page)); err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(command.Context(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			view := newProgressView(command.ErrOrStderr(), a.json)
			search := choose.Search{Need: n, Parts: parts, Seed: seed, Short: short, Measure: simulated.Measure, Progress: func(p choose.HowFar) { view.show(p.Round, searchInWords(p)) }}
			result, err := search.Run(ctx)
			view.end()
			if errors.Is(err, context.Canceled) {
				return errors.New("stopped; nothing was stored")
			}
			if err != nil {
				return err
			}
			if to != "" {
				if err := writeDesigns(to, result); err != nil {
					return err
				}
			}
			if page != "" {
				if err := writeNew(command, page, func(w io.Writer) error { return report.WriteChosen(w, result) }); err != nil {
					return err
				}
			}
			if a.json {
				return printJSON(command.OutOrStdout(), result)
			}
			printChosen(command.OutOrStdout(), result)
			return nil
		},
	}
	flags := command.Flags()
	flags.StringVar(&partsPath, "parts", "", "parts file: the parts that can be bought, with prices")
	flags.IntVar(&short, "short", 5, "number of designs in the short list; the Pareto front of price against headroom comes on top")
	flags.Uint64Var(&seed, "seed", 1, "seed of the random choices")
	flags.StringVar(&page, "html", "", "write a self-contained HTML page to this new file")
	flags.StringVar(&to, "designs", "", "write the designs of the short list as array files into this new folder")
	return command
}

func readParts(command *cobra.Command, path string) (p choose.Parts, err error) {
	if path == "" {
		return p, errors.New("name the list of parts with --parts FILE; docs/choose.md says how it is written")
	}
	text, err := readText(path, command.InOrStdin())
	if err != nil {
		return p, fmt.Errorf("read the parts: %w", err)
	}
	if p, err = partsfile.Read(text); err != nil {
		return p, fmt.Errorf("%s: %w", path, err)
	}
	return p, nil
}

// progressView tells how far something is, on a terminal in one line that changes, elsewhere
// every few seconds.
type progressView struct {
	w        io.Writer
	quiet    bool
	terminal bool
	began    time.Time
	last     time.Time
	step     string
}

func newProgressView(w io.Writer, quiet bool) *progressView {
	return &progressView{w: w, quiet: quiet, terminal: isTerminal(w), began: time.Now()}
}

// How often it is told how far something is, on a terminal and elsewhere.
const (
	progressTold  = 200 * time.Millisecond
	progressNoted = 5 * time.Second
)

// show tells how far a step is, in words.
func (v *progressView) show(step, words string) {
	now := time.Now()
	every := progressNoted
	if v.terminal {
		every = progressTold
	}
	if v.quiet || now.Sub(v.began) < 2*time.Second || now.Sub(v.last) < every && step == v.step {
		return
	}
	v.last, v.step = now, step
	if v.terminal {
		fmt.Fprintf(v.w, "\r\x1b[K%s", shorten(words, max(widthOf(v.w)-1, 40)))
		return
	}
	fmt.Fprintln(v.w, words)
}

func (v *progressView) end() {
	if v.terminal && !v.last.IsZero() {
		fmt.Fprint(v.w, "\r\x1b[K")
	}
}

// searchInWords says how far a search is.
func searchInWords(p choose.HowFar) string {
	words := fmt.Sprintf("%d of %d designs %s", p.Done, p.Of, p.Round)
	if p.Meeting > 0 {
		words += fmt.Sprintf("; %d meet it so far, the cheapest %s", p.Meeting, p.Cheapest)
	}
	return words
}

// writeDesigns writes the designs of an answer as array files into a new folder.
func writeDesigns(folder string, r choose.Chosen) error {
	if err := os.Mkdir(folder, 0o755); err != nil {
		return fmt.Errorf("write the designs: %w", err)
	}
	for i, d := range r.Finalists {
		path := filepath.Join(folder, fmt.Sprintf("design-%d.yaml", i+1))
		head := fmt.Sprintf("# Chosen from %q for %q; simulated from the data of the parts.\n", r.Parts, r.Judged.Need.Name)
		if err := os.WriteFile(path, []byte(head+d.Text), 0o644); err != nil {
			return fmt.Errorf("write a design: %w", err)
		}
	}
	return nil
}

func printChosen(w io.Writer, r choose.Chosen) {
	fmt.Fprintf(w, "Need: %s\nParts: %s (%d possible designs)\n", r.Judged.Need.Name, r.Parts, r.Designs)
	fmt.Fprintf(w, "  %s\n", indented(r.Judged.Words, "  "))
	for _, g := range r.Judged.GiveUp {
		if !strings.Contains(r.Judged.Words, g.Words) {
			fmt.Fprintf(w, "  %s\n", indented(g.Words, "  "))
		}
	}
	if r.Judged.Wanted != "" {
		fmt.Fprintf(w, "  %s\n", indented(r.Judged.Wanted, "  "))
	}
	fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("All figures are simulated from the data in %q: %d designs in %d simulations, seed %d.", r.Parts, r.Measured, r.Runs, r.Seed), "  "))
	if len(r.Out) > 0 {
		fmt.Fprintln(w, "\nExcluded by arithmetic:")
		t := newTable(w, 3, "  designs", "reason", "the cheapest of them")
		for _, o := range r.Out {
			t.AppendRow(table.Row{fmt.Sprintf("%9d", o.Count), o.Words, shorten(o.Example, 44)})
		}
		t.Render()
	}
	if len(r.Judged.Setups) == 0 {
		return
	}
	printAnswers(w, r.Judged)
	if r.Judged.Setups[0].Outcome == judge.Meets {
		fmt.Fprintf(w, "\n%s:\n", r.Finalists[0].Name)
		t := newTable(w, 1, "number", "part", "price")
		for _, line := range r.Finalists[0].Bill {
			t.AppendRow(table.Row{line.Number, line.Name, quantity.Price(line.Price)})
		}
		t.AppendRow(table.Row{"", "together", quantity.Price(r.Finalists[0].Price)})
		t.Render()
	}
	if len(r.Cheaper) > 0 {
		fmt.Fprintln(w, "\nWhy cheaper designs fail:")
		for _, c := range r.Cheaper {
			fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("%d: %s (the cheapest: %s)", c.Count, c.Words, c.Example), "    "))
		}
	}
}
