package cli

import (
	"bufio"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"patientheron/core/workload"
)

// each calls visit with every command that a user can give.
func each(visit func(*cobra.Command)) {
	root := Root()
	root.InitDefaultHelpCmd()
	var walk func(*cobra.Command)
	walk = func(command *cobra.Command) {
		if command.Name() == "help" || command.Name() == "completion" {
			return
		}
		visit(command)
		for _, below := range command.Commands() {
			walk(below)
		}
	}
	walk(root)
}

// helpOf is what --help prints of a command.
func helpOf(command *cobra.Command) string {
	var out strings.Builder
	command.SetOut(&out)
	command.InitDefaultHelpFlag()
	_ = command.Help()
	return out.String()
}

// words are the rows of a table of docs/words.md below a heading, by columns.
func words(t *testing.T, heading string) (rows [][]string) {
	t.Helper()
	file, err := os.Open("../docs/words.md")
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	within := false
	for lines := bufio.NewScanner(file); lines.Scan(); {
		line := lines.Text()
		if strings.HasPrefix(line, "## ") {
			within = line == "## "+heading
		}
		if within && strings.HasPrefix(line, "| ") {
			var row []string
			for cell := range strings.SplitSeq(strings.Trim(line, "| "), "|") {
				row = append(row, strings.TrimSpace(cell))
			}
			rows = append(rows, row)
		}
	}
	if len(rows) < 3 {
		t.Fatalf("docs/words.md has no table of %s", heading)
	}
	return rows[1:]
}

// Help fits a terminal, and uses none of the words that the glossary says not to use.
func TestHelpIsPlainAndFits(t *testing.T) {
	var not []string
	for _, row := range words(t, "Terms") {
		if len(row) == 5 {
			for word := range strings.SplitSeq(row[4], ", ") {
				if !slices.Contains([]string{"", "target", "object", "first", "growth", "wrong", "demand", "within", "leg", "strain"}, word) { // which have other uses
					not = append(not, word)
				}
			}
		}
	}
	if len(not) < 10 {
		t.Fatalf("the glossary says not to use %d words", len(not))
	}
	each(func(command *cobra.Command) {
		help := helpOf(command)
		for line := range strings.Lines(help) {
			if len([]rune(strings.TrimRight(line, "\n"))) > widest {
				t.Errorf("%s: a line is longer than %d characters: %s", command.CommandPath(), widest, line)
			}
		}
		for _, word := range not {
			if regexp.MustCompile(`(?i)\b` + regexp.QuoteMeta(word) + `\b`).MatchString(help) {
				t.Errorf("the help of %s says %q, which docs/words.md has another word for", command.CommandPath(), word)
			}
		}
	})
}

// Every verb, and every flag of more than one command, is in the tables.
func TestVerbsAndSharedFlagsAreListed(t *testing.T) {
	listed := func(heading string) (all []string) {
		for _, row := range words(t, heading) {
			for word := range strings.SplitSeq(row[0], ", ") {
				all = append(all, strings.Trim(word, "`-"))
			}
		}
		return all
	}
	verbs, shared, of := listed("Verbs"), listed("Flags of several commands"), map[string][]string{}
	loads := map[string]bool{}
	for _, field := range workload.Fields() {
		loads[field.Flag] = true
	}
	var used []string
	each(func(command *cobra.Command) {
		if command.Runnable() && !command.HasSubCommands() {
			used = append(used, command.Name())
			if nouns := []string{"demo", "contract", "version"}; !slices.Contains(verbs, command.Name()) && !slices.Contains(nouns, command.Name()) {
				t.Errorf("%s is no verb of docs/words.md", command.CommandPath())
			}
		}
		command.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) { of[f.Name] = append(of[f.Name], command.CommandPath()) })
	})
	for name, commands := range of {
		if len(commands) > 1 && name != "help" && !loads[name] && !slices.Contains(shared, name) && !(len(commands) == 2 && slices.Contains(commands, "heron measure")) {
			t.Errorf("--%s of %s is not in docs/words.md", name, strings.Join(commands, ", "))
		}
	}
	for _, verb := range verbs {
		if !slices.Contains(used, verb) {
			t.Errorf("docs/words.md has the verb %q, which no command has", verb)
		}
	}
}

// Every example of help is a command that there is, with flags that it has and as many words as
// it takes.
func TestExamplesAreCommands(t *testing.T) {
	inFolderWithFiles(t)
	each(func(command *cobra.Command) {
		if command.Runnable() && command.Example == "" {
			t.Errorf("%s has no example", command.CommandPath())
		}
		for line := range strings.Lines(command.Example) {
			isCommand(t, "the help of "+command.CommandPath(), line)
		}
	})
}

// Every command of a block of the README and the docs is one that there is.
func TestDocsAreCommands(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string]string{}
	for _, page := range append(pages, "../README.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		texts[page] = strings.ReplaceAll(string(text), "\\\n", " ")
	}
	inFolderWithFiles(t)
	for page, text := range texts {
		inside := false
		for line := range strings.Lines(text) {
			if strings.HasPrefix(line, "```") {
				inside = !inside && strings.TrimSpace(line) == "```sh"
				continue
			}
			if inside {
				isCommand(t, page, line)
			}
		}
	}
}

// inFolderWithFiles goes to a folder with the file that some examples read.
func inFolderWithFiles(t *testing.T) {
	t.Helper()
	t.Chdir(t.TempDir())
	for _, name := range []string{"photographs.yaml", "summer.yaml"} {
		if err := os.WriteFile(name, []byte("classes: [{name: photographs, number: 10, size: 5MiB}]\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// isCommand reports a line of a shell whose commands of the heron are none, or have flags or
// arguments that they do not take.
func isCommand(t *testing.T, where, line string) {
	t.Helper()
	for part := range strings.SplitSeq(line, " | ") {
		arguments := shellWords(t, strings.TrimSpace(part))
		if len(arguments) == 0 || arguments[0] != "heron" {
			continue
		}
		found, rest, err := Root().Find(arguments[1:])
		if err != nil || found.HasSubCommands() && found.HasParent() && !slices.Contains(rest, "--help") {
			t.Errorf("%q of %s is no command: %v", line, where, err)
			continue
		}
		if err := found.ParseFlags(rest); err != nil {
			t.Errorf("%q of %s: %v", line, where, err)
		} else if found.Args != nil {
			if err := found.ValidateArgs(found.Flags().Args()); err != nil {
				t.Errorf("%q of %s: %v", line, where, err)
			}
		}
	}
}

// shellWords splits a line as a shell does, up to a comment, a redirection or an ampersand.
func shellWords(t *testing.T, line string) (all []string) {
	t.Helper()
	word, quote, open := "", rune(0), false
	for _, r := range line + " " {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word += string(r)
		case r == '\'' || r == '"':
			quote, open = r, true
		case r == ' ':
			if word == ">" || word == "&" || strings.HasPrefix(word, "#") {
				return all
			}
			if word != "" || open {
				all = append(all, word)
			}
			word, open = "", false
		default:
			word += string(r)
		}
	}
	if quote != 0 {
		t.Errorf("a quote of %q is not closed", line)
	}
	return all
}
