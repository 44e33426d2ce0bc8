package tune

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/plan"
)

// Heading says what an experiment was made on.
type Heading struct {
	Run     int64
	Volume  string
	Locator string
	Load    string
	When    string
	// Kept is the locator with the settings that are worth keeping; "" where none is one of
	// the volume's.
	Kept string
}

// Record is an answer as plain text, for whoever sets the storage up and for the files of
// the house: what was tried, what it brought, and what to set on either side.
func (a Answer) Record(h Heading) string {
	var b strings.Builder
	f, besides := figure.Of(a.Figure), figure.Of(a.Beside)
	better := "more is better"
	if f.Lower {
		better = "less is better"
	}
	fmt.Fprintf(&b, "Tuning of %s, run %d, %s\n", h.Volume, h.Run, h.When)
	fmt.Fprintf(&b, "  volume    %s\n  load      %s\n  figure    %s, %s; beside it %s\n", h.Locator, h.Load, f.Label, better, besides.Label)
	fmt.Fprintf(&b, "  measured  %s, in %d of %d rounds\n", counted(a.Measured, "measurement"), a.Round, 2*a.Rounds)
	if n := len(a.Baseline.Values); n > 0 {
		fmt.Fprintf(&b, "  baseline  %s, %s, varying by %s\n", f.Show(a.Baseline.Mean.Mean), counted(n, "measurement"), a.Baseline.Variation)
	}
	b.WriteString("\n" + wrapped(a.Words))
	for _, caution := range a.Cautions {
		b.WriteString(wrapped("Caution: " + caution))
	}
	b.WriteString("\nEach value alone, against the baseline\n")
	lines := tabwriter.NewWriter(&b, 0, 0, 2, ' ', 0)
	for _, p := range a.Parameters {
		fmt.Fprintf(lines, "  %s\t%s\t\t\t%s\n", p.Field, p.From, p.Matter)
		for _, v := range p.Values {
			fmt.Fprintf(lines, "    %s\t%s\t%s\t%s\t%s\n", v.Value, v.Words, v.Between, v.verdict(), v.BesideWords)
		}
	}
	_ = lines.Flush()
	for _, p := range a.Parameters {
		for _, v := range p.Values {
			if v.Failed != "" {
				b.WriteString(wrapped(fmt.Sprintf("%s %s failed: %s", p.Field, v.Value, v.Failed)))
			}
		}
	}
	if t := a.Together; t != nil {
		fmt.Fprintf(&b, "\nTogether: %s\n  %s%s against the baseline%s\n", settingsInWords(t.Settings), t.Words, bracketed(t.Between), after("; ", t.BesideWords))
		for _, w := range t.Without {
			fmt.Fprintf(&b, "  without %s %s: %s%s, %s\n", w.Setting.Field, w.Setting.Value, w.Words, bracketed(w.Between), w.Ratio.Verdict)
		}
	}
	b.WriteString("\nSettings to keep\n")
	if len(a.Keep) == 0 {
		b.WriteString("  the present ones\n")
	}
	for _, s := range a.Keep {
		fmt.Fprintf(&b, "  %s\n", a.Where(s))
	}
	if h.Kept != "" {
		fmt.Fprintf(&b, "  as a volume: %s\n", h.Kept)
	}
	var tidy strings.Builder
	for line := range strings.Lines(b.String()) {
		tidy.WriteString(strings.TrimRight(line, " \n") + "\n")
	}
	return tidy.String()
}

// verdict is what is shown of a value; "" where it was not measured.
func (v Value) verdict() judge.Verdict {
	if v.Refused || v.Ratio.Verdict == judge.Missing {
		return ""
	}
	return v.Ratio.Verdict
}

// columns is how long the lines of a record are at most, where they are sentences.
const columns = 92

// wrapped breaks a text into lines.
func wrapped(text string) string {
	var b strings.Builder
	length := 0
	for _, word := range strings.Fields(text) {
		if length > 0 && length+1+len(word) > columns {
			b.WriteByte('\n')
			length = 0
		} else if length > 0 {
			b.WriteByte(' ')
			length++
		}
		b.WriteString(word)
		length += len(word)
	}
	return b.String() + "\n"
}

// after is words with others before them, where there are any.
func after(before, words string) string {
	if words == "" {
		return ""
	}
	return before + words
}

func bracketed(words string) string {
	if words == "" {
		return ""
	}
	return " (" + words + ")"
}

// Where says on which side a setting that is kept is made.
func (a Answer) Where(s plan.Setting) string {
	at := s.Field + " = " + s.Value
	switch instead := a.value(s).InEffect; {
	case instead != "":
		return fmt.Sprintf("%s: on the host; the target allowed only %s, and would have to allow more", at, instead)
	case plan.OfSession(s.Field):
		return at + ": on the host; the target accepts it"
	case plan.OfArray(s.Field):
		return at + ": in the array"
	}
	return at + ": in the load"
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
