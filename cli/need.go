package cli

import (
	"cmp"
	"context"
	"encoding/csv"
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
	"patientheron/core/setup"
	"patientheron/format/needfile"
	"patientheron/resource"
)

func (a *app) need() *cobra.Command {
	command := &cobra.Command{
		Use: "need", Short: "Judge setups by what uses demand: who meets it, with what headroom, at what price",
		Long: `A need sheet says what uses demand of one storage (docs/needs.md): bounds for figures of
their loads, room and its growth, what has to be survived, a budget. Each setup is judged
by what was measured of it: it meets a demand and with how much headroom, falls short of
it, or that is not shown or not measured. A figure that is not to be trusted meets nothing.`,
		Example: "  heron need check station.yaml\n  heron need measure station.yaml /srv/pool\n  heron need judge station.yaml\n  heron need keep station.yaml",
	}
	command.AddCommand(a.needCheck(), a.needJudge(), a.needMeasure(), a.needReport(), a.needKeep(), a.needList(), a.needShow(), a.needForget())
	return command
}

func (a *app) needCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Read a need sheet, and say what it asks for or its first mistake", Args: cobra.ExactArgs(1),
		Example: "  heron need check station.yaml",
		RunE: func(command *cobra.Command, arguments []string) error {
			text, err := readSheet(command, arguments[0])
			if err != nil {
				return err
			}
			n, err := needfile.Read([]byte(text))
			if err != nil {
				return fmt.Errorf("%s: %w", arguments[0], err)
			}
			if a.json {
				return printJSON(command.OutOrStdout(), n)
			}
			printNeed(command.OutOrStdout(), n)
			return nil
		},
	}
}

// readSheet reads a need sheet from a file, or - for standard input.
func readSheet(command *cobra.Command, path string) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(io.LimitReader(command.InOrStdin(), needfile.Largest+1))
		return string(text), err
	}
	file, err := os.Open(path)
	if err != nil {
		return "", fmt.Errorf("read the need sheet: %w", err)
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, needfile.Largest+1))
	if err != nil {
		return "", fmt.Errorf("read the need sheet: %w", err)
	}
	return string(text), nil
}

// printNeed says what a need asks for.
func printNeed(w io.Writer, n need.Need) {
	fmt.Fprintf(w, "%s\n", n.Name)
	if n.Why != "" {
		fmt.Fprintf(w, "  %s\n", indented(n.Why, "  "))
	}
	fmt.Fprintln(w)
	t := newTable(w, 9, "use", "judged by", "what is asked")
	judgedBy := map[string]string{}
	for _, u := range n.Uses {
		judgedBy[u.Name] = fmt.Sprintf("the stage %q", u.Stage)
		if u.Load != nil {
			judgedBy[u.Name] = u.Load.Describe()
		}
	}
	last := ""
	for _, d := range n.Demands() {
		use, by := d.Use, judgedBy[d.Use]
		if use == last && use != "" {
			use, by = "", ""
		}
		last = d.Use
		t.AppendRow(table.Row{use, shorten(by, 44), d.Words})
	}
	t.Render()
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
		i := slices.IndexFunc(volumes, func(v resource.Volume) bool { return v.Name == argument || v.Locator == argument })
		if i < 0 {
			return asked, fmt.Errorf("%q is no registered volume and no run; 'heron volume list' and 'heron run list' show what there is", argument)
		}
		asked.Volumes = append(asked.Volumes, volumes[i].ID)
	}
	return asked, nil
}

// sheetOf finds a sheet: a file, or one that is kept under this name or number.
func (a *app) sheetOf(ctx context.Context, c *client.Client, command *cobra.Command, named string) (asked resource.NewVerdicts, err error) {
	if _, statErr := os.Stat(named); statErr == nil || named == "-" {
		asked.Text, err = readSheet(command, named)
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
	var gate, asCSV bool
	command := &cobra.Command{
		Use: "judge SHEET [SETUP...]", Short: "Judge setups by a need sheet", Args: cobra.MinimumNArgs(1),
		Long: `Judge setups by a need sheet: a file, or one that is kept, by its name or number. A setup
is a volume, with all runs of what stood behind it when it was last measured, or runs
joined by + (12+14). Without any, all volumes that were measured are judged.

With --gate a script gets its answer in the exit code: 0 when every setup that is judged
meets all demands, 3 when one falls short of one, 4 when that is not shown or not measured,
1 for any other error.`,
		Example: "  heron need judge station.yaml\n  heron need judge station.yaml pool pool-with-cache\n  heron need judge \"A day at the station\" 12+14 15\n  heron need judge station.yaml pool --gate",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
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
			if err != nil || !gate {
				return err
			}
			return needGate(v)
		}),
	}
	command.Flags().BoolVar(&gate, "gate", false, "answer in the exit code: 0 all meet it, 3 one falls short, 4 not shown")
	command.Flags().BoolVar(&asCSV, "csv", false, "write all verdicts as CSV")
	return command
}

// needGate turns verdicts into an exit code.
func needGate(v resource.Verdicts) error {
	var short, open []string
	for _, j := range v.Judged {
		if len(j.Setups) == 0 {
			open = append(open, "no setup was judged")
		}
		for _, s := range j.Setups {
			switch s.Standing {
			case judge.FallsShort:
				short = append(short, s.Name+" "+s.Words)
			case judge.Undecided, judge.NotMeasured:
				open = append(open, s.Name+": "+s.Words)
			}
		}
	}
	switch {
	case len(short) > 0:
		return &GateError{3, strings.Join(short, "\n")}
	case len(open) > 0:
		return &GateError{4, strings.Join(open, "\n")}
	}
	return nil
}

// printVerdicts prints each need: what to do, the setups by number, and demands against
// those.
func printVerdicts(w io.Writer, v resource.Verdicts) {
	for i, j := range v.Judged {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "Need: %s\n", j.Need.Name)
		if j.Error != "" {
			fmt.Fprintf(w, "  %s\n", indented("This sheet cannot be read: "+j.Error, "  "))
			continue
		}
		fmt.Fprintf(w, "  %s\n", indented(j.Words, "  "))
		for _, g := range j.GiveUp {
			if !strings.Contains(j.Words, g.Words) {
				fmt.Fprintf(w, "  %s\n", indented(g.Words, "  "))
			}
		}
		if j.Wanted != "" {
			fmt.Fprintf(w, "  %s\n", indented(j.Wanted, "  "))
		}
		for _, remark := range j.Remarks {
			fmt.Fprintf(w, "  %s\n", indented("Caution: "+remark, "  "))
		}
		if len(j.Setups) > 0 {
			printAnswers(w, j.Judged)
		}
		if len(j.Untouched) > 0 {
			fmt.Fprintf(w, "\n%s\n", indented("Of none of its uses anything was measured on: "+strings.Join(j.Untouched, ", ")+".", ""))
		}
	}
	for _, left := range v.Left {
		fmt.Fprintf(w, "\n%s\n", indented("Left out: "+left+".", ""))
	}
}

func printAnswers(w io.Writer, j need.Judged) {
	fmt.Fprintln(w)
	t := newTable(w, 4, "", "setup", "all together", "tightest", "price", "runs")
	for n, s := range j.Setups {
		row := table.Row{n + 1, shorten(s.Name, 44), s.Standing, "", "", runsOf(resource.Group{Runs: s.Runs})}
		if s.Carries > 0 {
			row[3] = need.Times(s.Carries)
		}
		if s.Price > 0 {
			row[4] = need.ShowPrice(s.Price)
			if s.Frontier {
				row[4] = "* " + row[4].(string)
			}
		}
		t.AppendRow(row)
	}
	t.Render()
	if slices.ContainsFunc(j.Setups, func(s need.Answer) bool { return s.Frontier }) {
		fmt.Fprintln(w, "  * no other setup carries as much for less, or more for as much")
	}
	width := cmp.Or(widthOf(w), usualWidth)
	for from := 0; from < len(j.Setups); {
		to := min(from+max((width-demandWidth)/cellWidth, 1), len(j.Setups))
		printMatrix(w, j, from, to)
		from = to
	}
	fmt.Fprintln(w, "  ×1.5 meets it so many times; -20% falls short by so much; ? not shown; . not measured or known")
	if j.Need.WantsHeadroom() {
		fmt.Fprintln(w, "  (×1.1) meets it, without the headroom that is wanted")
	}
	for _, words := range j.Worth {
		fmt.Fprintf(w, "  %s\n", indented(words.Words, "  "))
	}
	printFailures(w, j)
	printOpen(w, j)
}

// The widths of the table of demands against setups, in letters.
const (
	usualWidth  = 98
	demandWidth = 48
	cellWidth   = 8
)

// printMatrix prints demands against some of the setups, which go by their numbers.
func printMatrix(w io.Writer, j need.Judged, from, to int) {
	fmt.Fprintln(w)
	header := []any{"what is asked"}
	for n := from; n < to; n++ {
		header = append(header, n+1)
	}
	t := newTable(w, 2, header...)
	last := ""
	for i, d := range j.Demands {
		words := d.Words
		if d.Use != "" {
			words = "  " + words
		}
		if d.Use != last && d.Use != "" {
			t.AppendRow(table.Row{d.Use})
		}
		last = d.Use
		row := table.Row{shorten(words, demandWidth-2)}
		for _, s := range j.Setups[from:to] {
			row = append(row, s.Verdicts[i].Mark())
		}
		t.AppendRow(row)
	}
	t.Render()
}

// printFailures says what each failure does to the setups, which go by their numbers.
func printFailures(w io.Writer, j need.Judged) {
	width := cmp.Or(widthOf(w), usualWidth)
	for from := 0; from < len(j.Setups); {
		to := min(from+max((width-demandWidth)/cellWidth, 1), len(j.Setups))
		fmt.Fprintln(w)
		header := []any{"data survive, and can be had, without"}
		for n := from; n < to; n++ {
			header = append(header, n+1)
		}
		t := newTable(w, 2, header...)
		for i, f := range setup.Failures() {
			row := table.Row{"  " + string(f)}
			for _, s := range j.Setups[from:to] {
				mark := string(s.Failures[i].Survives)
				if s.Failures[i].Survives == setup.NotKnown {
					mark = "."
				}
				row = append(row, mark)
			}
			t.AppendRow(row)
		}
		t.Render()
		from = to
	}
	words := map[string][]string{}
	var order []string
	for _, s := range j.Setups {
		if words[s.Rebuilds] == nil {
			order = append(order, s.Rebuilds)
		}
		words[s.Rebuilds] = append(words[s.Rebuilds], s.Name)
	}
	for _, rebuilds := range order {
		fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("rebuilding a member, with nothing else to do: %s (%s)", rebuilds, strings.Join(words[rebuilds], ", ")), "    "))
	}
}

// printOpen says why verdicts are open, the same of several setups and figures once.
func printOpen(w io.Writer, j need.Judged) {
	type open struct{ figures, setups []string }
	var order []string
	of := map[string]*open{}
	for i, d := range j.Demands {
		for _, s := range j.Setups {
			v := s.Verdicts[i]
			if v.Standing != judge.Undecided && v.Standing != judge.NotMeasured {
				continue
			}
			key := v.Words
			if v.Reason != "" {
				key += ": " + v.Reason
			}
			if of[key] == nil {
				order = append(order, key)
				of[key] = &open{}
			}
			o := of[key]
			if name := d.Name(); !slices.Contains(o.figures, name) {
				o.figures = append(o.figures, name)
			}
			if !slices.Contains(o.setups, s.Name) {
				o.setups = append(o.setups, s.Name)
			}
		}
	}
	if len(order) > 0 {
		fmt.Fprintln(w, "\nNot shown, or not measured:")
	}
	for _, key := range order {
		o := of[key]
		fmt.Fprintf(w, "  %s\n", indented(fmt.Sprintf("%s, %s: %s", strings.Join(o.setups, ", "), strings.Join(o.figures, ", "), key), "    "))
	}
}

// verdictsCSV writes one row a need, demand and setup, in full.
func verdictsCSV(w io.Writer, v resource.Verdicts) error {
	out := csv.NewWriter(w)
	full := func(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }
	rows := [][]string{{"need", "use", "about", "figure", "asked", "setup", "runs", "verdict", "headroom", "headroom_least", "value", "value_low", "value_high", "price", "reason"}}
	for _, j := range v.Judged {
		for _, s := range j.Setups {
			for i, d := range j.Demands {
				of := s.Verdicts[i]
				row := []string{resource.Cell(j.Need.Name), resource.Cell(d.Use), string(d.About), d.Figure, resource.Cell(d.Words), resource.Cell(s.Name), runsOf(resource.Group{Runs: s.Runs}), string(of.Standing), "", "", "", "", "", "", resource.Cell(of.Reason)}
				if of.Headroom > 0 {
					row[8], row[9] = full(of.Headroom), full(of.Least)
				}
				if of.Value != nil {
					row[10] = full(of.Value.Mean)
					if of.Value.Known {
						row[11], row[12] = full(of.Value.Low), full(of.Value.High)
					}
				}
				if s.Price > 0 {
					row[13] = full(s.Price)
				}
				rows = append(rows, row)
			}
		}
	}
	if err := out.WriteAll(rows); err != nil {
		return fmt.Errorf("write the verdicts: %w", err)
	}
	return nil
}

func (a *app) needMeasure() *cobra.Command {
	var repeats int
	var all, detach bool
	var overrides []string
	command := &cobra.Command{
		Use: "measure SHEET VOLUME", Short: "Measure what is missing to judge a volume by a need sheet", Args: cobra.ExactArgs(2),
		Long: `Measure the loads of a need sheet's uses on a volume, each several times. Uses that were
measured at least three times are left out, unless --all is given. A use that names a
stage in place of a load cannot be measured from the sheet: measure the plan that it is of.`,
		Example: "  heron need measure station.yaml /srv/pool\n  heron need measure station.yaml pool --repeats 5 --all",
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
			needed, err := c.Needed(ctx, volume.ID, asked.Text, repeats, all)
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
				fmt.Fprintf(command.OutOrStdout(), "Run %d is %s; watch it with 'heron watch %d'.\n", run.ID, run.Status, run.ID)
				return nil
			}
			return a.follow(ctx, c, command, run, true)
		}),
	}
	command.Flags().IntVar(&repeats, "repeats", 3, "how often each use is measured")
	command.Flags().BoolVar(&all, "all", false, "measure uses again that were measured")
	command.Flags().BoolVar(&detach, "detach", false, "start the run and do not wait for it")
	command.Flags().StringSliceVar(&overrides, "override", nil, "measure although these checks failed")
	return command
}

func (a *app) needReport() *cobra.Command {
	var to string
	command := &cobra.Command{
		Use: "report SHEET [SETUP...]", Short: "Write how setups stand to a need as one page for people who were not there", Args: cobra.MinimumNArgs(1),
		Long: `Write one HTML file that needs no network and no other file and prints well: what to take
in a sentence, demands against setups, what each costs and carries, what is not shown,
and how to repeat it. Setups are named as for 'heron need judge'.`,
		Example: "  heron need report station.yaml --to decision.html\n  heron need report station.yaml pool pool-with-cache --to decision.html",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			asked, err := a.wanted(ctx, c, command, arguments)
			if err != nil {
				return err
			}
			return writeNew(command, to, func(w io.Writer) error { return c.ReportVerdicts(ctx, asked, w) })
		}),
	}
	command.Flags().StringVar(&to, "to", "", "file to write, which does not exist yet (default: standard output)")
	return command
}

func (a *app) needKeep() *cobra.Command {
	var replace bool
	command := &cobra.Command{
		Use: "keep FILE", Short: "Keep a need sheet under its name, for the console and for others", Args: cobra.ExactArgs(1),
		Example: "  heron need keep station.yaml\n  heron need keep station.yaml --replace",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			text, err := readSheet(command, arguments[0])
			if err != nil {
				return err
			}
			n, err := needfile.Read([]byte(text))
			if err != nil {
				return fmt.Errorf("%s: %w", arguments[0], err)
			}
			kept, err := c.KeepNeed(ctx, text)
			var failed *client.Problem
			if errors.As(err, &failed) && failed.Status == 409 {
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
	command.Flags().BoolVar(&replace, "replace", false, "put it in the place of the sheet that is kept under its name")
	return command
}

func (a *app) needList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List the kept need sheets", Args: cobra.NoArgs, Example: "  heron need list",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, _ []string) error {
			needs, err := c.Needs(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return printJSON(command.OutOrStdout(), needs)
			}
			if len(needs) == 0 {
				fmt.Fprintln(command.OutOrStdout(), "No need sheet is kept. Keep one with 'heron need keep FILE'.")
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
		Use: "show SHEET", Short: "Print a kept need sheet as it was written", Args: cobra.ExactArgs(1), Example: "  heron need show \"A day at the station\" > station.yaml",
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
		Use: "forget SHEET", Short: "Forget a kept need sheet; what was measured stays", Args: cobra.ExactArgs(1), Example: "  heron need forget 3",
		RunE: a.with(func(ctx context.Context, c *client.Client, command *cobra.Command, arguments []string) error {
			kept, err := a.keptNeed(ctx, c, arguments[0])
			if err != nil {
				return err
			}
			if err := c.ForgetNeed(ctx, kept.ID); err != nil {
				return err
			}
			fmt.Fprintf(command.OutOrStdout(), "Need %d, %q, is forgotten; what was measured stays.\n", kept.ID, kept.Name)
			return nil
		}),
	}
}
