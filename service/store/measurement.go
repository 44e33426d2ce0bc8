package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

type measurementRow struct {
	ID              int64
	RunID           int64 `db:"run_id"`
	Position        int
	Stage           int
	Name            string
	Preconditioning bool
	Point           document[[]plan.Setting]
	Repeat          int
	Repeats         int
	Load            document[workload.Spec]
	Status          resource.Status
	Reason          string
	Summary         document[*summary]
	Findings        document[[]judge.Finding]
	Started         time.Time
	Ended           *time.Time
	Format          format
}

const measurementColumns = `id, run_id, position, stage, name, preconditioning, point, repeat, repeats, load, status, reason, summary, findings, started, ended, format`

func (r measurementRow) record() resource.Measurement {
	return resource.Measurement{
		ID: r.ID, RunID: r.RunID, Position: r.Position, Stage: r.Stage, Name: r.Name, Preconditioning: r.Preconditioning,
		Point: r.Point.value, Repeat: r.Repeat, Repeats: r.Repeats, Load: r.Load.value, Status: r.Status,
		Reason: r.Reason, Summary: r.Summary.value.now(), Findings: r.Findings.value, Started: r.Started.UTC(), Ended: inUTC(r.Ended),
	}
}

// AddMeasurement keeps a measurement that begins and returns it with its id.
func (s *Store) AddMeasurement(ctx context.Context, m resource.Measurement) (resource.Measurement, error) {
	m.Started = s.Now().UTC()
	point, err := encode(m.Point)
	if err != nil {
		return m, err
	}
	load, err := encode(m.Load)
	if err != nil {
		return m, err
	}
	m.ID, err = s.insert(ctx, fmt.Sprintf("keep measurement %d of run %d", m.Position, m.RunID),
		`INSERT INTO measurements (run_id, position, stage, name, preconditioning, point, repeat, repeats, load, status, started, format) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		m.RunID, m.Position, m.Stage, m.Name, m.Preconditioning, point, m.Repeat, m.Repeats, load, m.Status, m.Started, present)
	return m, err
}

// EndMeasurement keeps what a measurement came to, with its latencies by class of
// operation.
func (s *Store) EndMeasurement(ctx context.Context, m resource.Measurement, latencies map[measure.Class]*measure.Histogram) error {
	var summary *string
	if m.Summary != nil {
		text, err := encode(m.Summary)
		if err != nil {
			return err
		}
		summary = &text
	}
	findings, err := encode(m.Findings)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("measurement %d", m.ID)
	return s.transaction(ctx, what, func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE measurements SET status = ?, reason = ?, summary = ?, findings = ?, ended = ? WHERE id = ?`,
			m.Status, m.Reason, summary, findings, m.Ended, m.ID)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, sql.ErrNoRows)
		}
		for class, h := range latencies {
			encoded, err := h.Encode()
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO latencies (measurement_id, class, histogram) VALUES (?, ?, ?)`, m.ID, class.String(), encoded); err != nil {
				return err
			}
		}
		return nil
	})
}

// Measurements lists the measurements of a run in order, and those that cannot
// be read.
func (s *Store) Measurements(ctx context.Context, run int64) ([]resource.Measurement, []resource.Unreadable, error) {
	return listed[measurementRow](ctx, s.db, "measurement", `SELECT `+measurementColumns+` FROM measurements WHERE run_id = ? ORDER BY position`, run)
}

// Measurement finds a measurement by id.
func (s *Store) Measurement(ctx context.Context, id int64) (resource.Measurement, error) {
	var row measurementRow
	err := s.db.GetContext(ctx, &row, `SELECT `+measurementColumns+` FROM measurements WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("measurement %d", id))
}

// MeasurementAt finds the measurement of a run by its number within it.
func (s *Store) MeasurementAt(ctx context.Context, run int64, position int) (resource.Measurement, error) {
	var row measurementRow
	err := s.db.GetContext(ctx, &row, `SELECT `+measurementColumns+` FROM measurements WHERE run_id = ? AND position = ?`, run, position)
	return row.record(), explain(err, fmt.Sprintf("measurement %d of run %d", position, run))
}

// Histograms gives the latency histograms of a measurement by class of operation;
// none where nothing was recorded.
func (s *Store) Histograms(ctx context.Context, measurement int64) (map[measure.Class]*measure.Histogram, error) {
	what := fmt.Sprintf("measurement %d", measurement)
	var found int
	if err := s.db.GetContext(ctx, &found, `SELECT 1 FROM measurements WHERE id = ?`, measurement); err != nil {
		return nil, explain(err, what)
	}
	var rows []struct {
		Class     string
		Histogram []byte
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT class, histogram FROM latencies WHERE measurement_id = ?`, measurement); err != nil {
		return nil, explain(err, what)
	}
	of := map[measure.Class]*measure.Histogram{}
	for _, row := range rows {
		var class measure.Class
		if err := class.UnmarshalText([]byte(row.Class)); err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		h, err := measure.DecodeHistogram(row.Histogram)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", what, err)
		}
		of[class] = h
	}
	return of, nil
}

// AddIntervals keeps points of a measurement's series, all or none; kept again,
// when nobody knows whether they were, they are there once. They reach stable
// storage with the next record that is kept.
func (s *Store) AddIntervals(ctx context.Context, measurement int64, intervals []measure.Interval) error {
	what := fmt.Sprintf("keep %d intervals of measurement %d", len(intervals), measurement)
	tx, err := s.group.BeginTxx(ctx, nil)
	if err != nil {
		return explain(err, what)
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it has nothing to do
	for _, interval := range intervals {
		text, err := encode(interval)
		if err != nil {
			return fmt.Errorf("%s: %w", what, err)
		}
		if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO intervals (measurement_id, position, data) VALUES (?, ?, ?)`, measurement, interval.Index, text); err != nil {
			return explain(err, what)
		}
	}
	return explain(tx.Commit(), what)
}

// EachInterval gives the points of a measurement's series to each, in order,
// from a position on and without holding them all. A point that cannot be read
// is left out and counted.
func (s *Store) EachInterval(ctx context.Context, measurement int64, from int, each func(measure.Interval) error) (unreadable int, err error) {
	return s.eachInterval(ctx, measurement, `position >= ?`, from, each)
}

// eachInterval gives the points that a condition with one argument chooses.
func (s *Store) eachInterval(ctx context.Context, measurement int64, condition string, argument any, each func(measure.Interval) error) (unreadable int, err error) {
	what := fmt.Sprintf("series of measurement %d", measurement)
	// How much was warm-up may have been known only at the end.
	var ended document[*summary]
	if err := s.db.GetContext(ctx, &ended, `SELECT summary FROM measurements WHERE id = ?`, measurement); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, explain(err, what)
	}
	rows, err := s.db.QueryxContext(ctx, `SELECT data FROM intervals WHERE measurement_id = ? AND `+condition+` ORDER BY position`, measurement, argument)
	if err != nil {
		return 0, explain(err, what)
	}
	defer rows.Close()
	for rows.Next() {
		var stored point[interval]
		if err := rows.Scan(&stored); err != nil {
			unreadable++
			continue
		}
		one := []measure.Interval{stored.value.now()}
		if ended.value != nil {
			measure.CutWarmUp(one, ended.value.WarmUp)
		}
		if err := each(one[0]); err != nil {
			return unreadable, err
		}
	}
	return unreadable, explain(rows.Err(), what)
}

// Intervals is all points of a measurement's series in order.
func (s *Store) Intervals(ctx context.Context, measurement int64) ([]measure.Interval, error) {
	intervals := []measure.Interval{}
	unreadable, err := s.EachInterval(ctx, measurement, 0, func(i measure.Interval) error { intervals = append(intervals, i); return nil })
	if err == nil && unreadable > 0 {
		err = fmt.Errorf("series of measurement %d: %d of its intervals cannot be read", measurement, unreadable)
	}
	return intervals, err
}

// CountIntervals is how many points a measurement's series has.
func (s *Store) CountIntervals(ctx context.Context, measurement int64) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT count(*) FROM intervals WHERE measurement_id = ?`, measurement)
	return n, explain(err, fmt.Sprintf("series of measurement %d", measurement))
}

// outline is what Thinner looks at of an interval: reading no more of a long
// series is several times as fast.
type outline struct {
	Index         int
	Classes       map[measure.Class]peak
	Reads, Writes *peak // format 1
}

type peak struct {
	Rate quantity.OpRate
	Max  quantity.Seconds `json:"maxSeconds"`
}

func (o outline) interval() measure.Interval {
	i := measure.Interval{Index: o.Index, Classes: map[measure.Class]measure.Flow{}}
	for class, p := range byClass(o.Classes, o.Reads, o.Writes, nil) {
		i.Classes[class] = measure.Flow{Rate: p.Rate, Max: p.Max}
	}
	return i
}

// Outline is at most about so many points of a measurement's series, as
// measure.Thinner chooses them, with how many there are in all and how many
// cannot be read.
func (s *Store) Outline(ctx context.Context, measurement int64, points int) (kept []measure.Interval, total, unreadable int, err error) {
	what := fmt.Sprintf("series of measurement %d", measurement)
	if total, err = s.CountIntervals(ctx, measurement); err != nil {
		return nil, 0, 0, err
	}
	keep := func(i measure.Interval) error { kept = append(kept, i); return nil }
	if total <= points {
		unreadable, err = s.EachInterval(ctx, measurement, 0, keep)
		return kept, total, unreadable, err
	}
	rows, err := s.db.QueryxContext(ctx, `SELECT data FROM intervals WHERE measurement_id = ? ORDER BY position`, measurement)
	if err != nil {
		return nil, total, 0, explain(err, what)
	}
	defer rows.Close()
	thin := measure.NewThinner(total, points)
	for rows.Next() {
		var stored point[outline]
		if err := rows.Scan(&stored); err != nil {
			unreadable++
			continue
		}
		thin.Add(stored.value.interval())
	}
	if err := rows.Err(); err != nil {
		return nil, total, unreadable, explain(err, what)
	}
	chosen := map[int]bool{}
	for _, i := range thin.Kept() {
		chosen[i.Index] = true
	}
	positions, err := encode(slices.Sorted(maps.Keys(chosen)))
	if err != nil {
		return nil, total, unreadable, err
	}
	_, err = s.eachInterval(ctx, measurement, `position IN (SELECT value FROM json_each(?))`, positions, keep)
	return kept, total, unreadable, err
}
