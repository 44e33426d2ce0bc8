package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"text/template"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"patientheron/core/renamed"
)

// widest is how many columns help may take.
const widest = 100

// groupKey annotates a flag with the group that it is listed in.
const groupKey = "group"

// The groups of flags that are not those of a load.
const (
	planFlags = "Plan"
	waitFlags = "Waiting and safety"
)

// inGroup lists flags under a heading of their own in help.
func inGroup(flags *pflag.FlagSet, group string, names ...string) {
	for _, name := range names {
		f := flags.Lookup(name)
		if f.Annotations == nil {
			f.Annotations = map[string][]string{}
		}
		f.Annotations[groupKey] = []string{group}
	}
}

var usage = template.Must(template.New("usage").Parse(`Usage:{{if .Runnable}}
  {{.UseLine}}{{end}}{{if .Commands}}
  {{.Path}} COMMAND{{end}}
{{if .Example}}
Examples:
{{.Example}}
{{end}}{{if .Commands}}
Commands:
{{range .Commands}}{{.}}
{{end}}{{end}}{{range .Flags}}
{{.Heading}}:
{{.Text}}{{end}}{{if .Commands}}
"{{.Path}} COMMAND --help" tells more about a command.
{{end}}`))

// flagGroup is a heading of help with the flags below it.
type flagGroup struct{ Heading, Text string }

// printUsage writes how a command is used: its flags in groups, no line wider than help may be.
func printUsage(w io.Writer, command *cobra.Command) error {
	var commands []string
	longest := 0
	for _, below := range command.Commands() {
		if below.IsAvailableCommand() {
			longest = max(longest, len(below.Name()))
		}
	}
	for _, below := range command.Commands() {
		if below.IsAvailableCommand() {
			text := wrapped(below.Short, widest-longest-4)
			commands = append(commands, fmt.Sprintf("  %-*s  %s", longest, below.Name(), strings.ReplaceAll(text, "\n", "\n"+strings.Repeat(" ", longest+4))))
		}
	}
	return usage.Execute(w, map[string]any{
		"Runnable": command.Runnable() && !command.HasSubCommands(), "UseLine": command.UseLine(), "Path": command.CommandPath(),
		"Example": command.Example, "Commands": commands, "Flags": grouped(command),
	})
}

// grouped are the flags of a command by group, in the order in which they were added; those
// without one first, those of every command last.
func grouped(command *cobra.Command) (groups []flagGroup) {
	sets := map[string]*pflag.FlagSet{}
	headings := []string{"Flags"}
	command.LocalFlags().VisitAll(func(f *pflag.Flag) {
		heading := "Flags"
		if of := f.Annotations[groupKey]; len(of) > 0 {
			heading = of[0]
		}
		if !slices.Contains(headings, heading) {
			headings = append(headings, heading)
		}
		if sets[heading] == nil {
			sets[heading] = pflag.NewFlagSet(heading, pflag.ContinueOnError)
			sets[heading].SortFlags = command.LocalFlags().SortFlags
		}
		sets[heading].AddFlag(f)
	})
	for _, heading := range headings {
		if sets[heading] != nil && sets[heading].HasAvailableFlags() {
			groups = append(groups, flagGroup{heading, sets[heading].FlagUsagesWrapped(widest)})
		}
	}
	if command.HasAvailableInheritedFlags() {
		groups = append(groups, flagGroup{"Flags of every command", command.InheritedFlags().FlagUsagesWrapped(widest)})
	}
	return groups
}

// wrongFlag says what to write in place of a flag that there is not.
func wrongFlag(command *cobra.Command, err error) error {
	name, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !unknown {
		return fmt.Errorf("%w; '%s --help' shows how it is written", err, command.CommandPath())
	}
	for _, now := range renamed.Flags(name) {
		if command.Flags().Lookup(now) != nil {
			return fmt.Errorf("--%s is called --%s now; write that", name, now)
		}
	}
	near, distance := "", len(name)/3+2
	command.Flags().VisitAll(func(f *pflag.Flag) {
		if d := edits(name, f.Name); d < distance && !f.Hidden && f.Name != "help" {
			near, distance = f.Name, d
		}
	})
	if near != "" {
		return fmt.Errorf("'%s' has no flag --%s. Did you mean --%s?", command.CommandPath(), name, near)
	}
	return fmt.Errorf("'%s' has no flag --%s; '%s --help' shows those that it has", command.CommandPath(), name, command.CommandPath())
}

// nearest is the path of the command that somebody may have meant: what it is called in the group
// now, one of that name anywhere, or else one of the group whose name is nearly that; "" where there
// is none.
func nearest(group *cobra.Command, name string) (path string) {
	var find func(*cobra.Command)
	find = func(command *cobra.Command) {
		for _, below := range command.Commands() {
			if path == "" && below.Name() == name && below.IsAvailableCommand() {
				path = below.CommandPath()
			}
			find(below)
		}
	}
	for _, below := range group.Commands() {
		if below.Name() == renamed.Command(name) && below.IsAvailableCommand() {
			return below.CommandPath()
		}
	}
	if find(group.Root()); path != "" {
		return path
	}
	distance := len(name)/3 + 2
	for _, below := range group.Commands() {
		if d := edits(name, below.Name()); d < distance && below.IsAvailableCommand() {
			path, distance = below.CommandPath(), d
		}
	}
	return path
}

// edits is how many characters have to be put in, left out or exchanged to make one word of
// another (Levenshtein 1966).
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		last := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			last, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, last+cost)
		}
	}
	return row[len(b)]
}

// counted makes the words of a command line that are too few or too many an error that names
// what the command takes, with its examples where there are none.
func counted(command *cobra.Command) {
	takes := command.Args
	if takes == nil {
		return
	}
	command.Args = func(command *cobra.Command, arguments []string) error {
		err := takes(command, arguments)
		if err == nil {
			return nil
		}
		_, wanted, _ := strings.Cut(command.Use, " ")
		switch {
		case wanted == "":
			return fmt.Errorf("'%s' takes flags alone, and %q is none; '%s --help' shows them", command.CommandPath(), arguments[0], command.CommandPath())
		case len(arguments) == 0:
			return fmt.Errorf("'%s' needs %s, such as\n%s", command.CommandPath(), wanted, command.Example)
		}
		if from, to := 0, 0; strings.HasPrefix(err.Error(), "accepts between ") {
			if n, _ := fmt.Sscanf(err.Error(), "accepts between %d and %d", &from, &to); n == 2 {
				wanted += fmt.Sprintf(" (%d to %d words)", from, to)
			}
		}
		return fmt.Errorf("'%s' takes %s, and given %s: %s. Quote a name that has spaces", command.CommandPath(), wanted, wordsGiven(len(arguments)), strings.Join(arguments, ", "))
	}
}

// wordsGiven says how many words were typed behind a command.
func wordsGiven(n int) string {
	if n == 1 {
		return "is 1 word"
	}
	return fmt.Sprintf("are %d words", n)
}
