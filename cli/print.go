package cli

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/resource"
)

// newTable makes a table in the style of all commands: a header, no lines
// but one below it, numbers to the right from column numbersFrom on.
func newTable(w io.Writer, numbersFrom int, header ...any) table.Writer {
	t := table.NewWriter()
	t.SuppressTrailingSpaces()
	t.SetOutputMirror(w)
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.MiddleHorizontal, style.Box.PaddingLeft, style.Box.PaddingRight = "─", "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	t.AppendHeader(header)
	var columns []table.ColumnConfig
	for i := numbersFrom; i <= len(header); i++ {
		columns = append(columns, table.ColumnConfig{Number: i, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(columns)
	return t
}

// widthOf is how many columns a terminal has; 0 where nothing limits a line.
func widthOf(w io.Writer) int {
	if !isTerminal(w) {
		return 0
	}
	width, _, err := term.GetSize(int(fileOf(w).Fd()))
	if err != nil {
		return 0
	}
	return width
}

// pointNames names the points of a table's rows: where a stage has several, by what
// varies, under a heading; broken so that there is room for the other columns.
type pointNames struct {
	width int // of the first column
	stage string
}

func namesFor(w io.Writer, others int) *pointNames {
	return &pointNames{width: max(cmp.Or(widthOf(w), 100)-others, 24)}
}

// row gives the name of a point, and the heading before it when its stage begins.
func (n *pointNames) row(stage string, point []plan.Setting) (heading, name string) {
	if len(point) == 0 {
		n.stage = ""
		return "", n.broken("  ", stage)
	}
	if stage != n.stage {
		n.stage, heading = stage, n.broken("  ", stage)
	}
	return heading, n.broken("    ", plan.Describe(point))
}

func (n *pointNames) broken(by, text string) string {
	return by + strings.ReplaceAll(wrapped(text, n.width-len(by)), "\n", "\n"+by)
}

// printRun writes a run with its results for reading.
func printRun(w io.Writer, d resource.RunDetail) error {
	fmt.Fprintf(w, "Run %d  %s\n", d.ID, d.Name)
	fmt.Fprintf(w, "Volume %s (%s)%s\n", d.Volume.Name, d.Volume.Locator, factsInWords(d.Volume))
	if words := d.Beside(); words != "" {
		fmt.Fprintln(w, words)
	}
	fmt.Fprintf(w, "Status %s", d.Status)
	if d.Reason != "" {
		fmt.Fprintf(w, ": %s", d.Reason)
	}
	if d.Started != nil && d.Ended != nil {
		fmt.Fprintf(w, ", %s, took %s", d.Started.Local().Format("2006-01-02 15:04:05"), quantity.Of(d.Ended.Sub(*d.Started).Round(time.Second)))
	}
	fmt.Fprintln(w)
	printChecks(w, d.Run)
	for _, m := range d.Markers {
		words := fmt.Sprintf("Marker %d at %s of measurement %d: %s", m.ID, m.At, m.MeasurementID, m.Name)
		if m.Went != nil {
			words += ". " + m.Went.Words
		}
		fmt.Fprintf(w, "%s\n", indented(words, "  "))
	}
	for _, m := range d.Measurements {
		fmt.Fprintln(w)
		if err := printMeasurement(w, m); err != nil {
			return err
		}
	}
	return nil
}

// printChecks says which checks before a run did not pass.
func printChecks(w io.Writer, r resource.Run) {
	for _, c := range r.Checks {
		if c.Result != setup.Passed {
			fmt.Fprintf(w, "%s\n", indented(fmt.Sprintf("Check %s: %s: %s", c.Name, c.Result, c.Sentence), "  "))
		}
	}
	if len(r.Overrides) > 0 {
		fmt.Fprintf(w, "Failed checks that were overridden: %s\n", strings.Join(r.Overrides, ", "))
	}
}

func factsInWords(v resource.Volume) string {
	if v.Facts == nil {
		return ""
	}
	words := ", " + v.Facts.Size.String()
	if v.Facts.FileSystem != "" {
		words += ", " + v.Facts.FileSystem
	}
	if len(v.Facts.Devices) > 0 {
		words += " on " + strings.Join(v.Facts.Devices, ", ")
	}
	return words
}

func printMeasurement(w io.Writer, m resource.Measurement) error {
	fmt.Fprintf(w, "%d  %s", m.Position, m.Title())
	if m.Repeats > 1 {
		fmt.Fprintf(w, ", repeat %d of %d", m.Repeat, m.Repeats)
	}
	if m.Name != m.Load.Describe() {
		fmt.Fprintf(w, "\n   %s", indented(m.Load.Describe(), "   "))
	}
	fmt.Fprintln(w)
	if m.Status != resource.Finished {
		fmt.Fprintf(w, "   %s: %s\n", m.Status, m.Reason)
	}
	s := m.Summary
	if s == nil {
		return nil
	}
	if m.Load.Traits().OnFiles {
		printFileFigures(w, m)
	} else {
		printFigures(w, m)
	}
	if m.Load.Several() {
		printTogether(w, *s)
	}
	if s.Feeds != nil {
		printFeeds(w, *s)
	}
	if s.Stores != nil {
		printStores(w, *s)
	}
	words := "measured " + s.Measured.String()
	if s.Ending == measure.ByPasses {
		words = "finished in " + s.Measured.String()
	}
	if s.WarmUp > 0 {
		words += fmt.Sprintf(" after %s of warm-up%s", s.WarmUp, cutInWords(s))
	}
	words += fmt.Sprintf(", %s moved, through %s", s.Total.Bytes, interfaceInWords(s.Interface))
	if len(s.Sessions) > 0 {
		words += fmt.Sprintf(", %s ('heron run session %d' shows what was agreed on)", sessionsInWords(s.Sessions), m.RunID)
	}
	fmt.Fprintf(w, "   %s\n", indented(words, "   "))
	if words := insideInWords(s.Inside); words != "" {
		fmt.Fprintf(w, "   %s\n", indented("inside: "+words, "   "))
	}
	if p := s.Phases; p != nil && !m.Load.Traits().Uneven && (len(p.List) > 1 || p.Dips != nil || p.Wave != nil) {
		fmt.Fprintf(w, "   %s\n", indented("phases: "+p.Words, "   "))
	}
	if s.Patience != nil {
		fmt.Fprintf(w, "   %s\n", indented(s.Patience.Words, "   "))
	}
	if s.Service != nil {
		fmt.Fprintf(w, "   latency counts from the intended start; service time p50 %s, p99 %s\n", s.Service.P50, s.Service.P99)
	}
	for _, f := range m.Findings {
		mark := ""
		if f.Weight == judge.Unreliable {
			mark = "(?) "
		}
		words := f.Sentence
		if f.Weight != judge.Info {
			words += " " + f.Next
		}
		fmt.Fprintf(w, "   %s\n", indented(fmt.Sprintf("%s%s: %s", mark, f.Weight, words), "     "))
	}
	for _, f := range s.Faults {
		kind := f.Kind
		if f.Of != "" {
			kind = f.Of + ": " + f.Kind
		}
		fmt.Fprintf(w, "   %d × %s; the first: %s\n", f.Count, kind, f.First)
	}
	if s.Unanswered > 0 {
		fmt.Fprintf(w, "   %d operations did not complete before the measurement stopped waiting\n", s.Unanswered)
	}
	return nil
}

// printFigures prints the figures of a load of blocks.
func printFigures(w io.Writer, m resource.Measurement) {
	s := m.Summary
	t := newTable(w, 2, "", "IOPS", "MB/s", "mean ms", "p50 ms", "p99 ms", "p99.9 ms", "max ms")
	add := func(name string, f measure.Figures) {
		l := f.Latency
		if m.Unreliable(name) {
			name += " (?)"
		}
		row := table.Row{"   " + name, withoutUnit(f.Rate), quantity.Digits(float64(f.Throughput) / 1e6)}
		for _, latency := range []quantity.Seconds{l.Mean, l.P50, l.P99, l.P999, l.Max} {
			row = append(row, quantity.Digits(float64(latency)*1e3))
		}
		t.AppendRow(row)
	}
	moving, others := split(s.Classes)
	for _, class := range moving {
		add(class.String(), s.Classes[class])
	}
	if len(moving) > 1 {
		add("total", s.Total)
	}
	for _, class := range others {
		add(class.String(), s.Classes[class])
	}
	t.Render()
}

// mostFeedRows is how many feeds are printed; of more, those that were latest.
const mostFeedRows = 12

// printFeeds prints whether the pieces of feeds came in time.
func printFeeds(w io.Writer, s measure.Summary) {
	groups := slices.Clone(s.Groups)
	slices.SortStableFunc(groups, func(a, b measure.FileGroup) int {
		return cmp.Or(cmp.Compare(b.WorstLate, a.WorstLate), cmp.Compare(b.Latency.Max, a.Latency.Max))
	})
	more := max(len(groups)-mostFeedRows, 0)
	fmt.Fprintln(w)
	t := newTable(w, 2, "   streams, the latest first", "pieces", "late", "worst late", "longest stall", "MB/s", "mean ms", "max ms")
	for _, g := range groups[:len(groups)-more] {
		late := []any{g.Late, "", ""}
		if g.Late > 0 {
			late[1], late[2] = g.WorstLate, g.LongestStall
		}
		t.AppendRow(table.Row{"   " + g.Name, g.Operations, late[0], late[1], late[2], quantity.Digits(float64(g.Throughput) / 1e6), quantity.Digits(float64(g.Latency.Mean) * 1e3), quantity.Digits(float64(g.Latency.Max) * 1e3)})
	}
	t.Render()
	if more > 0 {
		fmt.Fprintf(w, "   and %d more\n", more)
	}
}

// printStores prints what stores did for their requests, and what that took.
func printStores(w io.Writer, s measure.Summary) {
	fmt.Fprintln(w)
	t := newTable(w, 2, "   requests", "done", "per second", "MB/s", "mean ms", "p50 ms", "p99 ms", "p99.9 ms", "max ms")
	for _, g := range s.Groups {
		if g.Operations == 0 {
			continue
		}
		throughput := ""
		if g.Bytes > 0 {
			throughput = quantity.Digits(float64(g.Throughput) / 1e6)
		}
		row := table.Row{"   " + g.Name, g.Operations, withoutUnit(g.Rate), throughput}
		for _, latency := range []quantity.Seconds{g.Latency.Mean, g.Latency.P50, g.Latency.P99, g.Latency.P999, g.Latency.Max} {
			row = append(row, quantity.Digits(float64(latency)*1e3))
		}
		t.AppendRow(row)
	}
	t.Render()
	fmt.Fprintf(w, "%s\n", indented("   "+storesInWords(s), "   "))
}

// printTogether prints what each of several loads at once came to.
func printTogether(w io.Writer, s measure.Summary) {
	fmt.Fprintln(w)
	t := newTable(w, 2, "   together", "done", "per second", "MB/s", "late", "mean ms", "p50 ms", "p99 ms", "p99.9 ms", "max ms")
	for _, g := range s.Groups {
		if g.Operations == 0 {
			continue
		}
		row := table.Row{"   " + g.Name, g.Operations, withoutUnit(g.Rate), quantity.Digits(float64(g.Throughput) / 1e6), ""}
		if g.Late > 0 {
			row[4] = g.Late
		}
		for _, latency := range []quantity.Seconds{g.Latency.Mean, g.Latency.P50, g.Latency.P99, g.Latency.P999, g.Latency.Max} {
			row = append(row, quantity.Digits(float64(latency)*1e3))
		}
		t.AppendRow(row)
	}
	t.Render()
}

// storesInWords says what requests took of the storage.
func storesInWords(s measure.Summary) string {
	f := s.Stores
	words := fmt.Sprintf("%s, %s storage reads per request", quantity.RequestRate(f.Requests), quantity.Digits(f.Read))
	if f.Written > 0 {
		words += fmt.Sprintf("; write amplification %s", quantity.Digits(f.Written))
	}
	if f.CPU > 0 {
		words += fmt.Sprintf("; %s of CPU time per request", f.CPU)
	}
	if f.Waits > 0 {
		words += fmt.Sprintf("; %d write stalls, the longest %s", f.Waits, f.Longest)
	}
	return words
}

// printFileFigures prints what whole files came to by their class, and below that what
// each kind of operation did.
func printFileFigures(w io.Writer, m resource.Measurement) {
	s := m.Summary
	mark := func(name, figure string) string {
		if m.Unreliable(figure) {
			name += " (?)"
		}
		return "   " + name
	}
	times := func(row table.Row, l measure.Latency) table.Row {
		for _, latency := range []quantity.Seconds{l.Mean, l.P50, l.P99, l.P999, l.Max} {
			row = append(row, quantity.Digits(float64(latency)*1e3))
		}
		return row
	}
	t := newTable(w, 2, "   whole files", "done", "took", "files/s", "MB/s", "mean ms", "p50 ms", "p99 ms", "p99.9 ms", "max ms")
	add := func(name string, took quantity.Seconds, f measure.Figures) {
		t.AppendRow(times(table.Row{mark(name, "files"), f.Operations, took, strings.TrimSuffix(quantity.FileRate(f.Rate).String(), " files/s"), quantity.Digits(float64(f.Throughput) / 1e6)}, f.Latency))
	}
	for _, g := range s.Groups {
		add(g.Name, g.Took, g.Figures)
	}
	if len(s.Groups) != 1 {
		add("all", s.Measured, s.Classes[measure.File])
	}
	t.Render()
	fmt.Fprintln(w)
	t = newTable(w, 2, "   operations", "done", "per second", "MB/s", "mean ms", "p50 ms", "p99 ms", "p99.9 ms", "max ms")
	moving, others := split(s.Classes)
	for _, class := range append(moving, others...) {
		f := s.Classes[class]
		if class == measure.File || f.Operations == 0 {
			continue
		}
		throughput := ""
		if class.Moves() {
			throughput = quantity.Digits(float64(f.Throughput) / 1e6)
		}
		t.AppendRow(times(table.Row{mark(class.String(), class.String()), f.Operations, withoutUnit(f.Rate), throughput}, f.Latency))
	}
	t.Render()
}

// insideInWords says what a volume tells of its inside: of like parts, such as
// members, the busiest alone.
func insideInWords(counters []measure.Counter) string {
	var words []string
	busiest := map[string]measure.Counter{}
	spent, verbs := map[string][]string{}, []string{}
	for _, c := range counters {
		if kind, isBusy := strings.CutSuffix(c.Name, " busy"); isBusy {
			kind = judge.KindOfPart(kind)
			if had, known := busiest[kind]; !known || c.Value > had.Value {
				busiest[kind] = c
			}
			continue
		}
		if c.Value == 0 && c.Unit != "share" {
			continue
		}
		if verb, place, is := c.Spent(); is {
			if spent[verb] == nil {
				verbs = append(verbs, verb)
			}
			spent[verb] = append(spent[verb], fmt.Sprintf("%s %s", quantity.Seconds(c.Value), place))
			continue
		}
		value := quantity.Digits(c.Value) + " " + c.Unit
		switch c.Unit {
		case "share":
			value = quantity.Share(c.Value).String()
		case "seconds":
			value = quantity.Seconds(c.Value).String()
		case "bytes":
			value = quantity.Bytes(c.Value).String()
		case "bytes per second":
			value = quantity.ByteRate(c.Value).String()
		}
		words = append(words, c.Name+" "+value)
	}
	for _, kind := range slices.Sorted(maps.Keys(busiest)) {
		words = append(words, fmt.Sprintf("%s %s", busiest[kind].Name, quantity.Share(busiest[kind].Value)))
	}
	for _, verb := range verbs {
		words = append(words, fmt.Sprintf("mean time of the %s %s", verb, strings.Join(spent[verb], " + ")))
	}
	return strings.Join(words, ", ")
}

// cutInWords says how much of a warm-up was not asked for.
func cutInWords(s *measure.Summary) string {
	if s.Phases == nil || s.Phases.Cut == 0 || s.Phases.Cut == s.WarmUp {
		return ""
	}
	return fmt.Sprintf(" (%s requested, %s of earlier phases)", s.WarmUp-s.Phases.Cut, s.Phases.Cut)
}

// split gives the classes that move bytes of the load, which a total adds up, and
// the others.
func split(of map[measure.Class]measure.Figures) (moving, others []measure.Class) {
	for class := range measure.EachClass() {
		if _, counted := of[class]; !counted {
			continue
		}
		if class.Moves() {
			moving = append(moving, class)
		} else {
			others = append(others, class)
		}
	}
	return moving, others
}

// withoutUnit prints a rate for a column whose head says IOPS.
func withoutUnit(r quantity.OpRate) string {
	return strings.TrimSpace(strings.TrimSuffix(r.String(), "IOPS"))
}

func interfaceInWords(name string) string {
	switch name {
	case "threads":
		return "threads (this kernel refuses io_uring; they cost more CPU time)"
	case "simulated":
		return "a simulated array in virtual time"
	case "none":
		return "no storage at all"
	}
	return name
}
