package report

import (
	"bytes"
	"encoding/csv"
	"maps"
	"slices"
	"strconv"
	"strings"
	"testing"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

func export() resource.Export {
	result := resource.ExportedResult{
		Measurement: resource.Measurement{
			ID: 1, Position: 1, Name: `ledger, "small"`, Point: []plan.Setting{{Field: "depth", Value: "4"}}, Load: workload.Default(), Status: resource.Finished,
			Summary: &measure.Summary{
				Measured: 2, Phases: &measure.Phases{State: measure.Steady, Fall: &measure.Fall{After: 8, Bytes: 4096}, List: []measure.Phase{{Kind: measure.Burst, Length: 8, Rate: 90}, {Kind: measure.Sustained, Start: 8}}},
				Classes: map[measure.Class]measure.Figures{measure.Read: {Operations: 100, Rate: 50, Latency: measure.Latency{P99: 0.0123456789}}},
				Faults:  []measure.Fault{{Kind: "i/o error", Count: 3}},
			},
			Findings: []judge.Finding{{Weight: judge.Unreliable, Figure: "reads", Sentence: "Memory answered."}},
		},
		Series: []measure.Interval{{Start: 0, Length: 1, Beside: []measure.Beside{{CPU: nil, Devices: []measure.Device{
			{Name: "sda", Read: 10, Busy: 0.2}, {Name: "sdb", Read: 5, Busy: 0.9},
		}, NetReceived: 77}}, Inside: []measure.Counter{{Name: "cache hits", Unit: "share", Value: 0.75}}}, {Start: 1, Length: 1}},
		Latency: resource.Distribution{Classes: map[measure.Class]resource.ClassLatency{measure.Read: {Bars: []measure.Bar{{From: 0.001, To: 0.002, Count: 100}}}}},
	}
	failed := resource.ExportedResult{Measurement: resource.Measurement{Position: 2, Name: "x", Load: workload.Default(), Status: resource.Failed, Reason: "=cmd()"}}
	return resource.Export{Run: resource.Run{ID: 7}, Measurements: []resource.ExportedResult{result, failed}}
}

// table writes and reads a table back, as columns by name.
func table(t *testing.T, of Table) (header []string, rows []map[string]string) {
	t.Helper()
	var b bytes.Buffer
	if err := WriteCSV(&b, ResultsOf(export()), of); err != nil {
		t.Fatal(err)
	}
	records, err := csv.NewReader(&b).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	for _, record := range records[1:] {
		row := map[string]string{}
		for i, name := range records[0] {
			row[name] = record[i]
		}
		rows = append(rows, row)
	}
	return records[0], rows
}

func TestTablesHoldFullValues(t *testing.T) {
	_, summary := table(t, SummaryTable)
	first, second := summary[0], summary[1]
	for column, want := range map[string]string{
		"run": "7", "stage": `ledger, "small"`, "point": "depth 4", "read_latency_p99_seconds": "0.0123456789",
		"failed_operations": "3", "reads_unreliable": "true", "writes_unreliable": "false", "findings": "unreliable: Memory answered.",
	} {
		if first[column] != want {
			t.Errorf("%s is %q, want %q", column, first[column], want)
		}
	}
	if second["status"] != "failed" || second["read_operations"] != "" {
		t.Errorf("a failed measurement: %v", second)
	}
	_, series := table(t, SeriesTable)
	if series[0]["devices"] != "sda sdb" || series[0]["device_read_bytes_per_second"] != "15" || series[0]["busiest_device_busy_share"] != "0.9" || series[1]["devices"] != "" {
		t.Errorf("series %v", series)
	}
	if first["state"] != "steady" || first["fell_after_seconds"] != "8" || first["fell_after_bytes"] != "4096" {
		t.Errorf("summary of phases %v", first)
	}
	_, phases := table(t, PhasesTable)
	if len(phases) != 2 || phases[0]["kind"] != "burst" || phases[0]["operations_per_second"] != "90" || phases[1]["start_seconds"] != "8" {
		t.Errorf("phases %v", phases)
	}
	_, counters := table(t, CountersTable)
	found := map[string]string{}
	for _, row := range counters {
		found[row["of"]+": "+row["counter"]] = row["value"] + " " + row["unit"]
	}
	if found["array: cache hits"] != "0.75 share" || found["host: network received"] != "77 bytes per second" || found["host device sdb: busy"] != "0.9 share" {
		t.Errorf("counters %v", found)
	}
	_, latency := table(t, LatencyTable)
	if len(latency) != 1 || latency[0]["kind"] != "read" || latency[0]["operations"] != strconv.Itoa(100) {
		t.Errorf("latency %v", latency)
	}
}

// A number without a unit in its column's name is a count, an index or a word.
func TestColumnsNameTheirUnit(t *testing.T) {
	for _, of := range slices.Sorted(maps.Keys(tables)) {
		header, _ := table(t, of)
		for _, name := range header {
			if strings.Contains(name, "latency_") && !strings.HasSuffix(name, "_seconds") {
				t.Errorf("%s: column %s names no unit", of, name)
			}
		}
	}
	if err := WriteCSV(&bytes.Buffer{}, ResultsOf(export()), "colours"); err == nil {
		t.Error("a table that does not exist was written")
	}
}
