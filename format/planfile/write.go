package planfile

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/fileset"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/filesetfile"
)

// Write writes a plan so that Read gives it back. Fields of a load that have
// their default are left out.
func Write(p plan.Plan) string {
	var b strings.Builder
	top := func(key, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", key, quoted(value))
		}
	}
	top("name", p.Name)
	top("why", p.Why)
	top("beside", string(p.Beside))
	shared := sharedSet(p)
	if shared != nil {
		writeSet(&b, "", *shared)
	}
	b.WriteString("stages:\n")
	for _, s := range p.Stages {
		writeStage(&b, s, shared)
	}
	return b.String()
}

// sharedSet is the first file set of all loads, when another load has it too.
func sharedSet(p plan.Plan) *fileset.Set {
	var first *fileset.Set
	for _, s := range p.Stages {
		for _, load := range s.Load.Parts() {
			switch {
			case files.Of(load) == nil || files.Of(load).From != "": // which has its own
			case first == nil:
				first = &files.Of(load).Set
			case reflect.DeepEqual(*first, files.Of(load).Set):
				return first
			}
		}
	}
	return nil
}

// ownSet reports whether a load has a file set that is to be written with it.
func ownSet(load workload.Spec, shared *fileset.Set) bool {
	return files.Of(load) != nil && files.Of(load).From == "" && (shared == nil || !reflect.DeepEqual(*shared, files.Of(load).Set))
}

// writeSet writes a file set under a key, each line after an indent.
func writeSet(b *strings.Builder, indent string, set fileset.Set) {
	if text := files.FormatSet(set); text != "" {
		fmt.Fprintf(b, "%sfiles: %s\n", indent, quoted(text))
		return
	}
	fmt.Fprintf(b, "%sfiles:\n", indent)
	for line := range strings.Lines(string(filesetfile.Write(set))) {
		b.WriteString(indent + "  " + line)
	}
}

func writeStage(b *strings.Builder, s plan.Stage, shared *fileset.Set) {
	lead := "  - "
	line := func(format string, arguments ...any) {
		fmt.Fprintf(b, lead+format+"\n", arguments...)
		lead = "    "
	}
	if s.Name != "" {
		line("name: %s", quoted(s.Name))
	}
	if f := s.Precondition; f != nil {
		parts := []string{"passes: " + strconv.Itoa(f.Passes)}
		if f.Order != "" {
			parts = append(parts, "order: "+string(f.Order))
		}
		if f.Block > 0 {
			size, _ := f.Block.MarshalYAML() // cannot fail
			parts = append(parts, "block: "+string(size))
		}
		line("precondition: {%s}", strings.Join(parts, ", "))
	}
	fields := loadFields(s.Load)
	own := ownSet(s.Load, shared)
	if len(fields) == 0 && !own && len(s.Load.Together) == 0 {
		line("load: {}")
	} else {
		line("load:")
		for _, f := range fields {
			line("  %s", f)
		}
	}
	if own {
		writeSet(b, "      ", files.Of(s.Load).Set)
	}
	if len(s.Load.Together) > 0 {
		line("  together:")
		for _, part := range s.Load.Together {
			if !ownSet(part, shared) {
				line("    - {%s}", strings.Join(partFields(part), ", "))
				continue
			}
			for i, field := range partFields(part) {
				mark := " "
				if i == 0 {
					mark = "-"
				}
				line("    %s %s", mark, field)
			}
			writeSet(b, "          ", files.Of(part).Set)
		}
	}
	if len(s.Sweep) > 0 {
		line("sweep:")
		for _, axis := range s.Sweep {
			line("  - {%s}", writtenAxis(axis))
		}
	}
	if t := s.Tune; t != nil {
		line("tune:")
		if t.Figure != "" {
			line("  figure: %s", t.Figure)
		}
		if t.Rounds > 0 {
			line("  rounds: %d", t.Rounds)
		}
		if t.Budget > 0 {
			budget, _ := t.Budget.MarshalYAML() // cannot fail
			line("  budget: %s", budget)
		}
		line("  parameters:")
		for _, tried := range t.Parameters {
			now := ""
			if tried.Now != "" {
				now = ", now: " + quoted(tried.Now)
			}
			line("    - {%s%s}", writtenAxis(tried.Axis), now)
		}
	}
	if f := s.Fit; f != nil {
		parts := []string{"field: " + f.Field, "from: " + strconv.Itoa(f.From), "to: " + strconv.Itoa(f.To)}
		if f.Late > 0 {
			share, _ := f.Late.MarshalYAML() // cannot fail
			parts = append(parts, "late: "+string(share))
		}
		line("fit: {%s}", strings.Join(parts, ", "))
	}
	if s.Shuffle {
		line("shuffle: true")
	}
	if s.Repeats > 0 {
		line("repeats: %d", s.Repeats)
	}
	if s.Settle != (plan.Settle{}) {
		pause, _ := s.Settle.Pause.MarshalYAML() // cannot fail
		quiet, _ := s.Settle.Quiet.MarshalYAML()
		line("settle: {pause: %s, quiet: %s}", pause, quiet)
	}
}

func writtenAxis(axis plan.Axis) string {
	values := make([]string, len(axis.Values))
	for i, v := range axis.Values {
		values[i] = quoted(v)
	}
	return fmt.Sprintf("field: %s, values: [%s]", axis.Field, strings.Join(values, ", "))
}

func loadFields(load workload.Spec) (lines []string) {
	if load.Name != "" {
		lines = append(lines, "name: "+quoted(load.Name))
	}
	for _, f := range workload.Fields() {
		if value := f.Get(load); f.Name != "files" && f.Of(load.Kind) && value != "" && value != f.Get(workload.Default()) {
			lines = append(lines, f.Name+": "+quoted(value))
		}
	}
	return lines
}

// partFields are the fields of one of several loads at once, without those that all share.
func partFields(part workload.Spec) []string {
	part.Ending, part.Seed, part.Cached = workload.Default().Ending, workload.Default().Seed, false
	return loadFields(part)
}

// quoted writes a value so that YAML takes it as text where it could be taken
// for something else.
func quoted(value string) string {
	plain := value != "" && strings.TrimSpace(value) == value && !strings.ContainsAny(value, ":#{}[],&*!|>'\"%@`\n\\?-") &&
		!slices.Contains([]string{"true", "false", "null", "yes", "no", "on", "off", "~"}, strings.ToLower(value))
	if _, err := strconv.ParseFloat(value, 64); plain || err == nil {
		return value
	}
	if trimmed, isShare := strings.CutSuffix(value, "%"); isShare {
		if _, err := strconv.ParseFloat(trimmed, 64); err == nil {
			return value
		}
	}
	return strconv.Quote(value)
}
