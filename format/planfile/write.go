package planfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/plan"
	"patientheron/core/workload"
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
	b.WriteString("stages:\n")
	for _, s := range p.Stages {
		writeStage(&b, s)
	}
	return b.String()
}

func writeStage(b *strings.Builder, s plan.Stage) {
	lead := "  - "
	line := func(format string, arguments ...any) {
		fmt.Fprintf(b, lead+format+"\n", arguments...)
		lead = "    "
	}
	if s.Name != "" {
		line("name: %s", quoted(s.Name))
	}
	if f := s.Fill; f != nil {
		parts := []string{"passes: " + strconv.Itoa(f.Passes)}
		if f.Order != "" {
			parts = append(parts, "order: "+string(f.Order))
		}
		if f.Block > 0 {
			size, _ := f.Block.MarshalYAML() // cannot fail
			parts = append(parts, "block: "+string(size))
		}
		line("fill: {%s}", strings.Join(parts, ", "))
	}
	fields := loadFields(s.Load)
	if len(fields) == 0 {
		line("load: {}")
	} else {
		line("load:")
		for _, f := range fields {
			line("  %s", f)
		}
	}
	if len(s.Sweep) > 0 {
		line("sweep:")
		for _, axis := range s.Sweep {
			values := make([]string, len(axis.Values))
			for i, v := range axis.Values {
				values[i] = quoted(v)
			}
			line("  - {field: %s, values: [%s]}", axis.Field, strings.Join(values, ", "))
		}
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

func loadFields(load workload.Spec) (lines []string) {
	if load.Name != "" {
		lines = append(lines, "name: "+quoted(load.Name))
	}
	for _, f := range workload.Fields() {
		if value := f.Get(load); value != "" && value != f.Get(workload.Default()) {
			lines = append(lines, f.Name+": "+quoted(value))
		}
	}
	if load.Files != nil && workload.FormatFileSet(load.Files.Set) == "" && len(load.Files.Set.Classes) > 0 {
		text := strings.TrimSuffix(string(filesetfile.Write(load.Files.Set)), "\n")
		lines = append(lines, "files:\n        "+strings.ReplaceAll(text, "\n", "\n        "))
	}
	return lines
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
