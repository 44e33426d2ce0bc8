package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"patientheron/client"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// Every command explains itself with an example.
func TestEveryCommandExplainsItself(t *testing.T) {
	var visit func(*cobra.Command)
	visit = func(c *cobra.Command) {
		if c.Short == "" || c.Example == "" {
			t.Errorf("%s has no short help or no example", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			if sub.Name() != "help" && sub.Name() != "completion" {
				visit(sub)
			}
		}
	}
	visit(Root())
}

// run calls the command line inside this process.
func run(t *testing.T, arguments ...string) (string, error) {
	t.Helper()
	var out bytes.Buffer
	root := Root()
	root.SetOut(&out)
	root.SetErr(&out)
	root.SetArgs(arguments)
	err := root.ExecuteContext(t.Context())
	return out.String(), err
}

func TestPresetsAndPlansNeedNoService(t *testing.T) {
	if out, err := run(t, "preset", "list"); err != nil || strings.Count(out, "?") != 13 {
		t.Errorf("%v\n%s", err, out)
	}
	if out, err := run(t, "preset", "show", "ledger"); err != nil || !strings.Contains(out, "commit log") {
		t.Errorf("%v\n%s", err, out)
	}
	if _, err := run(t, "preset", "show", "nothing"); err == nil || !strings.Contains(err.Error(), "there are camera-traps") {
		t.Errorf("an unknown preset: %v", err)
	}
	if _, err := run(t, "plan", "check", "/no/such/file"); err == nil {
		t.Error("a missing plan was checked")
	}
	if out, err := run(t, "version", "--json"); err != nil || !strings.Contains(out, `"product": "Patient Heron"`) {
		t.Errorf("%v\n%s", err, out)
	}
}

func TestFlagsBecomeAPlan(t *testing.T) {
	planOf := func(arguments ...string) (plan.Plan, error) {
		o := &measureOptions{spec: workload.Default()}
		command := &cobra.Command{Use: "test"}
		o.flags(command)
		if err := command.ParseFlags(arguments); err != nil {
			return plan.Plan{}, err
		}
		return o.plan(command)
	}
	p, err := planOf("--block", "4KiB:3,64KiB:1", "--reads", "70%", "--hot", "80%/20%", "--order", "skewed", "--cached", "--repeats", "3", "--pause", "2s", "--for", "60s")
	if err != nil {
		t.Fatal(err)
	}
	stage := p.Stages[0]
	if len(stage.Load.Blocks) != 2 || stage.Load.Reads != 0.7 || stage.Load.HotSpan != 0.2 || !stage.Load.Cached || stage.Repeats != 3 || stage.Settle.Pause != 2 || stage.Load.For != 60 {
		t.Errorf("%+v", stage)
	}
	p, err = planOf("--preset", "ledger", "--span", "4GiB", "--repeats", "1")
	if err != nil || len(p.Stages) != 2 || p.Stages[0].Load.Span != 4<<30 || p.Stages[1].Load.Span != 4<<30 || p.Stages[0].Load.Skew != 0.9 || p.Stages[0].Repeats != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	for words, arguments := range map[string][]string{
		"name two plans":       {"--preset", "ledger", "--plan", "x"},
		"keeps from 1 to 4096": {"--depth", "0"},
		"--pause":              {"--pause", "soon"},
		"neither true":         {"--cached=perhaps"},
	} {
		if _, err := planOf(arguments...); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v: %v, want %q", arguments, err, words)
		}
	}
	for text, want := range map[string]float64{"": 0, "1x": 1, "20": 20} {
		if got, err := readPace(text); err != nil || got != want {
			t.Errorf("pace %q is %g, %v", text, got, err)
		}
	}
	if _, err := readPace("fast"); err == nil {
		t.Error("pace fast was understood")
	}
}

func TestPrintedRunsAreReadable(t *testing.T) {
	begun := time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)
	ended := begun.Add(12 * time.Second)
	load := workload.Default()
	load.Reads, load.SyncEvery = 0.7, 8
	service := measure.Latency{P50: 0.001}
	detail := resource.RunDetail{
		Run: resource.Run{
			ID: 12, Name: "the ledger", Status: resource.Finished, Reason: "1 of 2 measurements failed; each says why", Started: &begun, Ended: &ended,
			Volume: resource.Volume{Name: "pool", Locator: "/srv/pool", Facts: &setup.Facts{Size: 1 << 40, FileSystem: "btrfs", Devices: []string{"sda", "sdb"}}},
		},
		Measurements: []resource.Measurement{
			{
				Position: 1, Name: "ledger", Point: []plan.Setting{{Field: "depth", Value: "8"}}, Repeat: 2, Repeats: 3, Load: load, Status: resource.Finished,
				Summary: &measure.Summary{
					Measured: 10, WarmUp: 2, Interface: "threads", Service: &service, Unanswered: 3,
					Classes: map[measure.Class]measure.Figures{
						measure.Read:  {Rate: 12_345, Throughput: 50.5e6, Latency: measure.Latency{P50: 0.00042, P99: 0.0123}},
						measure.Write: {}, measure.Flush: {Rate: 12},
					},
					Faults: []measure.Fault{{Kind: "i/o error", Count: 2, First: "read of 4096 bytes at offset 0: input/output error"}},
				},
				Findings: []judge.Finding{{Kind: "k", Weight: judge.Unreliable, Figure: "reads", Sentence: "Memory answered.", Next: "Use a larger span."}},
			},
			{Position: 2, Name: "writes", Load: load, Status: resource.Failed, Reason: "it could not start"},
		},
	}
	var out bytes.Buffer
	if err := printRun(&out, detail); err != nil {
		t.Fatal(err)
	}
	for _, words := range []string{
		"Run 12  the ledger", "1 TiB, btrfs on sda, sdb", "took 12.0 s", "1  ledger at depth 8, repeat 2 of 3", "reads (?)", "12.3 k", "50.5", "0.420", "12.3",
		"flushes", "after 2 s of warm-up", "threads (this kernel refuses io_uring", "service time p50 1 ms", "2 × i/o error", "3 operations did not complete",
		"(?) unreliable: Memory answered. Use a larger span.", "failed: it could not start",
	} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("%q is not in\n%s", words, &out)
		}
	}
	for line := range strings.Lines(out.String()) {
		if strings.HasSuffix(strings.TrimSuffix(line, "\n"), " ") {
			t.Errorf("a line ends in blanks: %q", line)
		}
	}
}

func TestListsSayWhatToDoWhenTheyAreEmpty(t *testing.T) {
	var out bytes.Buffer
	printVolumes(&out, nil)
	printRuns(&out, client.RunPage{})
	if text := out.String(); !strings.Contains(text, "heron volume add") || !strings.Contains(text, "heron measure") {
		t.Errorf("%s", text)
	}
	out.Reset()
	printVolumes(&out, []resource.Volume{
		{Name: "a", Kind: "device", Writes: "may overwrite all"}, {Name: "b", Kind: "file", Writes: "no"}, {Name: "c", Kind: "folder", Trouble: "it is gone"},
	})
	for _, words := range []string{"may overwrite all", "no", "could not look: it is gone"} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("%q is not in\n%s", words, &out)
		}
	}
}

func TestLiveViewElsewhereThanOnATerminal(t *testing.T) {
	var out bytes.Buffer
	v := newLiveView(&out, false)
	load := workload.Default()
	v.run(resource.Run{ID: 3, Status: resource.Preparing, Volume: resource.Volume{Name: "pool"}, Progress: resource.Progress{Steps: 2, Prepare: 1 << 30, Prepared: 1 << 29}})
	v.measurement(resource.Measurement{ID: 1, Position: 1, Name: "ledger", Load: load, Status: resource.Running})
	for i := range 50 {
		v.point(resource.Point{MeasurementID: 1, Interval: measure.Interval{Index: i}})
	}
	v.end()
	if text := out.String(); !strings.Contains(text, "512 MiB of 1 GiB written") || !strings.Contains(text, "1 of 2  ledger") || strings.Count(text, "\n") != 2 || strings.Contains(text, "\r") {
		t.Errorf("%q", text)
	}
	if line := v.describe(measure.Interval{Start: 4, Length: 1, WarmUp: true, Failed: 2, Classes: map[measure.Class]measure.Flow{measure.Read: {Rate: 1200, Throughput: 5e6, P99: 0.004}}}); !strings.Contains(line, "5 s of 10.0 s") ||
		!strings.Contains(line, "warm-up") || !strings.Contains(line, "reads 1.20 k IOPS 5.00 MB/s p99 4 ms") || !strings.Contains(line, "2 failed") {
		t.Errorf("%q", line)
	}
	out.Reset()
	quiet := newLiveView(&out, true)
	quiet.measurement(resource.Measurement{ID: 1, Load: load})
	quiet.end()
	if out.Len() != 0 {
		t.Errorf("quiet, it says %q", &out)
	}
}

// Without a service an array file is kept in the data folder too, and nowhere else.
func TestArrayFilesAreKeptInTheDataFolder(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(t.TempDir(), "plain.yaml")
	if err := os.WriteFile(file, []byte("members: {count: 2, medium: ssd, capacity: 1TB}\nlayout: {level: raid1}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	root := Root()
	root.SetOut(&out)
	root.SetArgs([]string{"array", "add", file, "--name", "of-a-test", "--here", "--data", folder})
	if err := root.ExecuteContext(t.Context()); err != nil {
		t.Fatal(err)
	}
	kept := filepath.Join(folder, "arrays", "of-a-test.yaml")
	if _, err := os.Stat(kept); err != nil || strings.TrimSpace(out.String()) != "array:"+kept {
		t.Errorf("%q, %v", out.String(), err)
	}
}
