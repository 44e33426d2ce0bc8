package cli

import (
	"bytes"
	"encoding/csv"
	"errors"
	"strings"
	"testing"
	"time"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// compared is a comparison with a gain, a loss, a doubt, a failure and a name
// that is too long.
func compared() resource.Compared {
	sample := func(run int64, stage string, rates ...float64) (samples []compare.Sample) {
		for i, rate := range rates {
			f := measure.Figures{Rate: quantity.OpRate(rate), Throughput: quantity.ByteRate(rate * 4096), Latency: measure.Latency{Mean: 0.001, P99: quantity.Seconds(1 / rate)}}
			samples = append(samples, compare.Sample{Run: run, Measurement: run*10 + int64(i), Stage: stage, Load: workload.Default(), Summary: &measure.Summary{Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}})
		}
		return samples
	}
	long := strings.Repeat("a very long name ", 5)
	base := compare.Side{Name: "plain", Runs: []int64{1}}
	base.Samples = append(base.Samples, sample(1, "lookups", 1000, 1010, 990)...)
	base.Samples = append(base.Samples, sample(1, long, 500, 505, 495)...)
	base.Samples = append(base.Samples, compare.Sample{Run: 1, Stage: "broken", Load: workload.Default(), Reason: "no space left on the device, and none in sight either, for as long as anyone remembers"})
	other := compare.Side{Name: "cached", Runs: []int64{2}}
	other.Samples = append(other.Samples, sample(2, "lookups", 3000, 3010, 2990)...)
	other.Samples = append(other.Samples, sample(2, long, 250, 252, 249)...)
	other.Samples = append(other.Samples, sample(2, "broken", 5)...)
	other.Samples[0].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "Memory answered. " + strings.Repeat("It did. ", 20)}}
	return resource.Compared{Comparison: resource.Comparison{ID: 7, Name: "kept"}, Result: compare.Sides(base, []compare.Side{other}, 0.05), Figures: figure.All()}
}

func TestComparisonFitsATerminal(t *testing.T) {
	for _, figure := range []string{"", "p99", "writes-p99"} {
		var out bytes.Buffer
		printCompared(&out, compared(), figure)
		for line := range strings.Lines(out.String()) {
			if length := len([]rune(strings.TrimRight(line, "\n"))); length > 100 {
				t.Errorf("figure %q: %d characters: %s", figure, length, line)
			}
		}
		wanted := []string{"Baseline: plain", "Candidate: cached", "no space left", "unreliable", "Kept as comparison 7"}
		if figure == "writes-p99" {
			wanted = append(wanted, "no such figure")
		} else {
			wanted = append(wanted, "better", "worse", "3.00", "(?)")
		}
		for _, words := range wanted {
			if !strings.Contains(out.String(), words) {
				t.Errorf("figure %q: %q is not in\n%s", figure, words, &out)
			}
		}
	}
}

func TestComparisonAsCSV(t *testing.T) {
	var out bytes.Buffer
	if err := comparisonCSV(&out, compared()); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil || len(rows) < 10 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	for _, row := range rows[1:] {
		if row[0] == "lookups" && row[1] == "iops" && (row[5] != "better" || row[14] != "" || !strings.HasPrefix(row[19], "Memory answered")) {
			t.Errorf("row %v", row)
		}
		if strings.Contains(strings.Join(row, " "), "NaN") {
			t.Errorf("row %v", row)
		}
	}
}

func TestGatesDecideTheExitCode(t *testing.T) {
	c := compared().Result
	for text, code := range map[string]int{"iops worse by 10%": 3, `iops of "a very" worse by 90%`: 0, "iops better": 4} {
		gate, err := compare.ParseGate(text)
		if err != nil {
			t.Fatal(err)
		}
		var failed *GateError
		err = check([]compare.Gate{gate}, []string{text}, c)
		if got := 0; errors.As(err, &failed) {
			if got = failed.ExitCode(); got != code {
				t.Errorf("%s: %d (%v), want %d", text, got, err, code)
			}
		} else if code != 0 || err != nil {
			t.Errorf("%s: %v, want the code %d", text, err, code)
		}
	}
}

func TestLookFitsATerminal(t *testing.T) {
	var s setup.Setup
	for key, value := range map[string]string{"media[0].count": "4", "media[0].model": strings.Repeat("model ", 30), "fileSystem.options": strings.Repeat("x", 190), "link[0].rate": "125MB/s"} {
		if err := s.Set(key, value, setup.Read, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	var out bytes.Buffer
	printLook(&out, resource.Look{
		Locator: "/srv/pool", Kind: "folder", Setup: s, Took: 0.2,
		Chain:  []setup.Layer{{Kind: "file system", Name: "/srv", Words: "ext4", Below: []setup.Layer{{Kind: "disk", Name: "sda", Trouble: "no answer"}}}},
		Checks: []setup.Check{{Name: "room", Result: setup.Failed, Sentence: strings.Repeat("Too little. ", 12), Next: "Make room."}},
	})
	for line := range strings.Lines(out.String()) {
		if length := len([]rune(strings.TrimRight(line, "\n"))); length > 104 {
			t.Errorf("%d characters: %s", length, line)
		}
	}
	for _, words := range []string{"└ file system /srv", "could not look: no answer", "failed", "Make room.", "not known", "119 MB/s", "29.0 k IOPS"} {
		if !strings.Contains(out.String(), words) {
			t.Errorf("%q is not in\n%s", words, &out)
		}
	}
}

func TestWrapped(t *testing.T) {
	for text, want := range map[string]string{"": "", "one two three": "one two\nthree", "abcdefghijkl": "abcdefgh\nijkl", "a abcdefghijkl b": "a abcdefgh\nijkl b"} {
		if got := wrapped(text, 8); strings.Join(strings.Fields(got), "") != strings.Join(strings.Fields(want), "") {
			t.Errorf("%q became %q, want %q", text, got, want)
		} else if longest := longestLine(got); longest > 8+2 {
			t.Errorf("%q became %q, %d characters wide", text, got, longest)
		}
	}
}

func longestLine(text string) (longest int) {
	for line := range strings.Lines(text) {
		longest = max(longest, len([]rune(strings.TrimRight(line, "\n"))))
	}
	return longest
}

func TestMembersMeasuredAloneKeepTheSlowest(t *testing.T) {
	alone := func(rate, throughput float64) resource.RunDetail {
		figures := func(r, b float64) *measure.Summary {
			return &measure.Summary{Total: measure.Figures{Rate: quantity.OpRate(r), Throughput: quantity.ByteRate(b)}}
		}
		return resource.RunDetail{Measurements: []resource.Measurement{{Stage: 1, Summary: figures(rate, 0)}, {Stage: 2, Summary: figures(0, throughput)}}}
	}
	facts := slowest(slowest(slowest(nil, alone(200, 2e8)), alone(150, 3e8)), alone(180, 1e8))
	if len(facts) != 2 || facts[0].Value != "150" || facts[1].Value != "100000000B/s" || !facts[0].Measured {
		t.Errorf("facts %+v", facts)
	}
	layers := []setup.Layer{{Kind: "raid", Below: []setup.Layer{{Kind: "loop", Name: "loop0", Below: []setup.Layer{{Kind: "disk", Name: "vda"}}}, {Kind: "partition", Below: []setup.Layer{{Kind: "disk", Name: "sdb"}}}}}}
	if names := bottom(layers); len(names) != 2 || names[0] != "loop0" || names[1] != "sdb" {
		t.Errorf("members %v", names)
	}
}
