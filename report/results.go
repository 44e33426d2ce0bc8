package report

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"

	"patientheron/core/measure"
	"patientheron/resource"
)

// Results is a whole run. What is long is fetched as it is written, so that a
// day's series is never held at once.
type Results struct {
	Run          resource.Run
	Measurements []resource.Measurement
	Markers      []resource.Marker
	Races        []resource.NamedRace // of a run that was made as a race
	// Series gives the intervals of a measurement to each, in order.
	Series func(measurement int64, each func(measure.Interval) error) error
	// Latency is the distribution of a measurement, all as recorded.
	Latency func(measurement int64) (resource.Distribution, error)
}

// ResultsOf are the results of a document that is held at once.
func ResultsOf(e resource.Export) Results {
	r := Results{Run: e.Run}
	of := map[int64]resource.ExportedResult{}
	for _, m := range e.Measurements {
		r.Measurements = append(r.Measurements, m.Measurement)
		of[m.ID] = m
	}
	r.Series = func(id int64, each func(measure.Interval) error) error {
		for _, interval := range of[id].Series {
			if err := each(interval); err != nil {
				return err
			}
		}
		return nil
	}
	r.Latency = func(id int64) (resource.Distribution, error) { return of[id].Latency, nil }
	return r
}

// WriteJSON writes a run as one document, as resource.Export describes it, with
// one interval a line.
func WriteJSON(w io.Writer, r Results) error {
	out := bufio.NewWriter(w)
	write := func(text string, values ...any) error {
		if _, err := out.WriteString(text); err != nil {
			return err
		}
		for _, value := range values {
			encoded, err := json.Marshal(value)
			if err != nil {
				return err
			}
			if _, err := out.Write(encoded); err != nil {
				return err
			}
		}
		return nil
	}
	fail := func(err error) error { return fmt.Errorf("write run %d as JSON: %w", r.Run.ID, err) }
	if err := write(`{"format":`, resource.ExportFormat); err != nil {
		return fail(err)
	}
	if err := write(",\n\"run\":", r.Run); err != nil {
		return fail(err)
	}
	if err := write(",\n\"measurements\":["); err != nil {
		return fail(err)
	}
	for i, m := range r.Measurements {
		head, err := json.Marshal(m)
		if err != nil {
			return fail(err)
		}
		// The members of the measurement, then its series and distribution.
		if err := write(separator(i) + string(head[:len(head)-1]) + ",\n\"series\":["); err != nil {
			return fail(err)
		}
		n := 0
		err = r.Series(m.ID, func(interval measure.Interval) error {
			n++
			return write(separator(n-1), interval)
		})
		if err != nil {
			return fail(err)
		}
		latency, err := r.Latency(m.ID)
		if err != nil {
			return fail(err)
		}
		if err := write("],\n\"latency\":", latency); err != nil {
			return fail(err)
		}
		if err := write("}"); err != nil {
			return fail(err)
		}
	}
	if err := write("]}\n"); err != nil {
		return fail(err)
	}
	if err := out.Flush(); err != nil {
		return fail(err)
	}
	return nil
}

func separator(i int) string {
	if i == 0 {
		return "\n"
	}
	return ",\n"
}
