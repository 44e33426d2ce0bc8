// Package report writes stored results in forms for people and other
// programs. So far: comma-separated values (RFC 4180).
//
// Every column names its unit. Values are in full, not rounded for reading.
package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/resource"
)

// Table is one of the tables a run can be written as.
type Table string

// The tables: one row a measurement, a phase, an interval, a counter in an interval,
// a bucket of a latency histogram, a group of whole files, or a moment of a racer.
const (
	SummaryTable  Table = "summary"
	PhasesTable   Table = "phases"
	SeriesTable   Table = "series"
	CountersTable Table = "counters"
	LatencyTable  Table = "latency"
	FilesTable    Table = "files"
	RacesTable    Table = "races"
)

// Tables are the names of all of them.
const Tables = "summary, phases, series, counters, latency, files and races"

var tables = map[Table]func(Results, row) error{
	SummaryTable: writeSummary, PhasesTable: writePhases, SeriesTable: writeSeries, CountersTable: writeCounters, LatencyTable: writeLatency, FilesTable: writeFiles, RacesTable: writeRaces,
}

// WriteCSV writes one table of a run with a header line. Text that a
// spreadsheet would take for a formula is quoted for it with an apostrophe.
func WriteCSV(w io.Writer, r Results, table Table) error {
	write := tables[table]
	if write == nil {
		return fmt.Errorf("there is no table %q; there are %s", table, Tables)
	}
	out := csv.NewWriter(w)
	err := write(r, out.Write)
	if out.Flush(); err == nil {
		err = out.Error()
	}
	if err != nil {
		return fmt.Errorf("write the %s of run %d: %w", table, r.Run.ID, err)
	}
	return nil
}

// row writes one row of a table.
type row func(columns []string) error

func writeSummary(e Results, write row) error {
	header := []string{
		"run", "volume", "position", "stage", "point", "repeat", "preconditioning", "status", "reason", "workload",
		"measured_seconds", "warm_up_seconds", "state", "fell_after_seconds", "fell_after_bytes", "ending", "interface", "failed_operations", "unanswered_operations",
		"reads_unreliable", "writes_unreliable", "findings",
	}
	kinds, classes := []string{"total"}, classesOf(e)
	for _, class := range classes {
		kinds = append(kinds, class.Verb())
	}
	for _, kind := range kinds {
		header = append(header, figureColumns(kind+"_")...)
	}
	if err := write(header); err != nil {
		return err
	}
	for _, m := range e.Measurements {
		row := []string{
			number(e.Run.ID), resource.Cell(e.Run.Volume.Name), number(int64(m.Position)), resource.Cell(m.Name), resource.Cell(plan.Describe(m.Point)),
			number(int64(m.Repeat)), strconv.FormatBool(m.Preconditioning), string(m.Status), resource.Cell(m.Reason), resource.Cell(m.Load.Describe()),
		}
		if m.Summary == nil {
			if err := write(append(row, make([]string, len(header)-len(row))...)); err != nil {
				return err
			}
			continue
		}
		var failed int64
		for _, f := range m.Summary.Faults {
			failed += f.Count
		}
		row = append(row, m.Summary.Measured.Full(), m.Summary.WarmUp.Full())
		row = append(row, stateOf(m.Summary.Phases)...)
		row = append(row, string(m.Summary.Ending), m.Summary.Interface, number(failed), number(m.Summary.Unanswered),
			strconv.FormatBool(m.Unreliable("reads")), strconv.FormatBool(m.Unreliable("writes")), resource.Cell(findingsInWords(m)))
		figures := []measure.Figures{m.Summary.Total}
		for _, class := range classes {
			figures = append(figures, m.Summary.Classes[class])
		}
		for _, f := range figures {
			row = append(row, figuresInFull(f)...)
		}
		if err := write(row); err != nil {
			return err
		}
	}
	return nil
}

// stateOf is whether it settled, and when it fell.
func stateOf(p *measure.Phases) []string {
	columns := make([]string, 3)
	if p == nil {
		return columns
	}
	if columns[0] = string(p.State); p.Fall != nil {
		columns[1], columns[2] = p.Fall.After.Full(), p.Fall.Bytes.Full()
	}
	return columns
}

func writePhases(e Results, write row) error {
	if err := write([]string{"run", "position", "phase", "kind", "start_seconds", "length_seconds", "intervals", "bytes", "operations_per_second", "bytes_per_second", "latency_mean_seconds"}); err != nil {
		return err
	}
	for _, m := range e.Measurements {
		if m.Summary == nil || m.Summary.Phases == nil {
			continue
		}
		for i, p := range m.Summary.Phases.List {
			if err := write([]string{
				number(e.Run.ID), number(int64(m.Position)), number(int64(i + 1)), string(p.Kind), p.Start.Full(), p.Length.Full(), number(int64(p.Intervals)),
				p.Bytes.Full(), p.Rate.Full(), p.Throughput.Full(), p.Mean.Full(),
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// writeCounters writes what stood beside the load, a row a counter: which hosts,
// devices and parts of an array there are differs from run to run.
func writeCounters(e Results, write row) error {
	if err := write([]string{"run", "position", "interval", "start_seconds", "of", "counter", "unit", "value"}); err != nil {
		return err
	}
	for _, m := range e.Measurements {
		err := e.Series(m.ID, func(i measure.Interval) error {
			for _, c := range counters(i) {
				if err := write([]string{number(e.Run.ID), number(int64(m.Position)), number(int64(i.Index)), i.Start.Full(), resource.Cell(c.of), resource.Cell(c.name), c.unit, c.value}); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}

type counter struct{ of, name, unit, value string }

// counters are all that an interval has beside its operations.
func counters(i measure.Interval) (all []counter) {
	for _, b := range i.Beside {
		host := strings.TrimSpace("host " + b.Host)
		for core, busy := range b.CPU {
			all = append(all, counter{host, fmt.Sprintf("core %d busy", core), "share", busy.Full()})
		}
		all = append(all,
			counter{host, "CPU time given to other guests", "share", b.Stolen.Full()},
			counter{host, "engine", "cores", quantity.Share(b.EngineCores).Full()},
			counter{host, "workers", "cores", quantity.Share(b.WorkerCores).Full()},
			counter{host, "workers waiting for a core", "workers", quantity.Share(b.WorkerWaits).Full()},
			counter{host, "memory available", "bytes", b.Available.Full()},
			counter{host, "page cache", "bytes", b.PageCache.Full()},
			counter{host, "network received", "bytes per second", b.NetReceived.Full()},
			counter{host, "network sent", "bytes per second", b.NetSent.Full()})
		for _, d := range b.Devices {
			device := host + " device " + d.Name
			all = append(all,
				counter{device, "reads", "per second", d.ReadRate.Full()}, counter{device, "read", "bytes per second", d.Read.Full()},
				counter{device, "writes", "per second", d.WriteRate.Full()}, counter{device, "written", "bytes per second", d.Written.Full()},
				counter{device, "in flight", "operations", number(d.InFlight)}, counter{device, "busy", "share", d.Busy.Full()})
		}
	}
	for _, c := range i.Inside {
		all = append(all, counter{"array", c.Name, c.Unit, quantity.Share(c.Value).Full()})
	}
	return all
}

// classesOf are the classes of operation that have columns: those on blocks, and of those
// on files what some measurement of the run has.
func classesOf(e Results) (classes []measure.Class) {
	for class := range measure.EachClass() {
		has := func(m resource.Measurement) bool {
			if m.Summary == nil {
				return false
			}
			_, is := m.Summary.Classes[class]
			return is
		}
		if !class.OfFiles() || slices.ContainsFunc(e.Measurements, has) {
			classes = append(classes, class)
		}
	}
	return classes
}

func figureColumns(prefix string) (columns []string) {
	for _, name := range []string{
		"operations", "bytes", "operations_per_second", "bytes_per_second",
		"latency_mean_seconds", "latency_deviation_seconds", "latency_min_seconds", "latency_p50_seconds", "latency_p90_seconds",
		"latency_p95_seconds", "latency_p99_seconds", "latency_p999_seconds", "latency_p9999_seconds", "latency_max_seconds",
	} {
		columns = append(columns, prefix+name)
	}
	return columns
}

// figuresInFull are the values of the columns of figures.
func figuresInFull(f measure.Figures) []string {
	values := []string{number(f.Operations), f.Bytes.Full(), f.Rate.Full(), f.Throughput.Full()}
	l := f.Latency
	for _, s := range []quantity.Seconds{l.Mean, l.Deviation, l.Min, l.P50, l.P90, l.P95, l.P99, l.P999, l.P9999, l.Max} {
		values = append(values, s.Full())
	}
	return values
}

// writeFiles writes what the whole files of each group came to, in each measurement of a
// load of files.
func writeFiles(e Results, write row) error {
	if err := write(append([]string{"run", "position", "stage", "point", "repeat", "group", "took_seconds"}, figureColumns("")...)); err != nil {
		return err
	}
	for _, m := range e.Measurements {
		if m.Summary == nil {
			continue
		}
		for _, g := range m.Summary.Groups {
			row := []string{number(e.Run.ID), number(int64(m.Position)), resource.Cell(m.Name), resource.Cell(plan.Describe(m.Point)), number(int64(m.Repeat)), resource.Cell(g.Name), g.Took.Full()}
			if err := write(append(row, figuresInFull(g.Figures)...)); err != nil {
				return err
			}
		}
	}
	return nil
}

// writeRaces writes how far each racer was at each moment.
func writeRaces(e Results, write row) error {
	if err := write([]string{"position", "measured", "repeat", "racer", "run", "counts", "at_seconds", "done", "ahead_of_last"}); err != nil {
		return err
	}
	for _, r := range e.Races {
		for _, s := range r.Racers {
			for _, m := range s.Line {
				if err := write([]string{number(int64(r.Position)), resource.Cell(r.Title), number(int64(r.Repeat)), resource.Cell(s.Name), number(s.Run), r.Counts, m.At.Full(), amount(m.Done), amount(m.Ahead)}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func findingsInWords(m resource.Measurement) string {
	sentences := make([]string, len(m.Findings))
	for i, f := range m.Findings {
		sentences[i] = fmt.Sprintf("%s: %s", f.Weight, f.Sentence)
	}
	return strings.Join(sentences, " ")
}

func writeSeries(e Results, write row) error {
	header, classes := []string{"run", "position", "interval", "start_seconds", "length_seconds", "warm_up"}, classesOf(e)
	for _, class := range classes {
		kind := class.Verb()
		header = append(header, kind+"_operations", kind+"_bytes", kind+"_latency_mean_seconds", kind+"_latency_p50_seconds",
			kind+"_latency_p99_seconds", kind+"_latency_max_seconds")
	}
	err := write(append(header,
		"in_flight", "failed_operations", "host_cpu_busy_cores", "engine_cpu_cores", "worker_cpu_cores",
		"devices", "device_read_operations_per_second", "device_read_bytes_per_second",
		"device_write_operations_per_second", "device_written_bytes_per_second", "device_in_flight", "busiest_device_busy_share",
	))
	if err != nil {
		return err
	}
	for _, m := range e.Measurements {
		err := e.Series(m.ID, func(i measure.Interval) error {
			row := []string{
				number(e.Run.ID), number(int64(m.Position)), number(int64(i.Index)), i.Start.Full(), i.Length.Full(), strconv.FormatBool(i.WarmUp),
			}
			for _, class := range classes {
				f := i.Classes[class]
				row = append(row, number(f.Operations), f.Bytes.Full(), f.Mean.Full(), f.P50.Full(), f.P99.Full(), f.Max.Full())
			}
			row = append(row, number(int64(i.InFlight)), number(i.Failed))
			return write(append(row, besideColumns(i)...))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// besideColumns sum up what all hosts did.
func besideColumns(i measure.Interval) []string {
	columns := make([]string, 10)
	if len(i.Beside) == 0 {
		return columns
	}
	var busy, engine, workers quantity.Share
	for _, core := range i.Cores() {
		busy += core
	}
	for _, b := range i.Beside {
		engine += quantity.Share(b.EngineCores)
		workers += quantity.Share(b.WorkerCores)
	}
	columns[0], columns[1], columns[2] = busy.Full(), engine.Full(), workers.Full()
	if devices := i.Devices(); len(devices) > 0 {
		var sum measure.Device
		var names []string
		for _, d := range devices {
			names = append(names, d.Name)
			sum.ReadRate += d.ReadRate
			sum.Read += d.Read
			sum.WriteRate += d.WriteRate
			sum.Written += d.Written
			sum.InFlight += d.InFlight
			sum.Busy = max(sum.Busy, d.Busy)
		}
		copy(columns[3:], []string{
			resource.Cell(strings.Join(names, " ")), sum.ReadRate.Full(), sum.Read.Full(), sum.WriteRate.Full(), sum.Written.Full(), number(sum.InFlight), sum.Busy.Full(),
		})
	}
	return columns
}

func writeLatency(e Results, write row) error {
	if err := write([]string{"run", "position", "kind", "from_seconds", "to_seconds", "operations"}); err != nil {
		return err
	}
	for _, m := range e.Measurements {
		latency, err := e.Latency(m.ID)
		if err != nil {
			return err
		}
		for class := range measure.EachClass() {
			for _, b := range latency.Classes[class].Bars {
				if err := write([]string{number(e.Run.ID), number(int64(m.Position)), class.Verb(), b.From.Full(), b.To.Full(), number(b.Count)}); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

func number(n int64) string { return strconv.FormatInt(n, 10) }

// amount writes a number of bytes or files that may lie between two of them.
func amount(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }
