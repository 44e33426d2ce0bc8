package store

import (
	"context"
	"fmt"
	"time"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

type runRow struct {
	ID       int64
	Name     string
	VolumeID int64 `db:"volume_id"`
	Volume   document[resource.Volume]
	Plan     document[plan.Plan]
	Estimate document[plan.Estimate]
	Pace     float64
	Status   resource.Status
	Reason   string
	Progress document[resource.Progress]
	Host     string
	Version  string
	Created  time.Time
	Started  *time.Time
	Ended    *time.Time

	Setup     document[setup.Setup]
	Checks    document[[]setup.Check]
	Overrides document[[]string]
}

func (r runRow) record() resource.Run {
	return resource.Run{
		ID: r.ID, Name: r.Name, VolumeID: r.VolumeID, Volume: r.Volume.value, Plan: r.Plan.value,
		Estimate: r.Estimate.value, Pace: r.Pace, Status: r.Status, Reason: r.Reason, Progress: r.Progress.value,
		Host: r.Host, Version: r.Version, Created: r.Created.UTC(), Started: inUTC(r.Started), Ended: inUTC(r.Ended),
		Setup: known(r.Setup.value), Checks: r.Checks.value, Overrides: r.Overrides.value,
	}
}

// known is a setup whose list of facts is never absent.
func known(s setup.Setup) setup.Setup {
	if s.Facts == nil {
		s.Facts = []setup.Fact{}
	}
	return s
}

func inUTC(t *time.Time) *time.Time {
	if t == nil {
		return nil
	}
	utc := t.UTC()
	return &utc
}

// AddRun keeps a new run and returns it with its id.
func (s *Store) AddRun(ctx context.Context, r resource.Run) (resource.Run, error) {
	r.Created = time.Now().UTC()
	texts := make([]string, 5)
	for i, value := range []any{r.Volume, r.Plan, r.Estimate, r.Progress, r.Overrides} {
		var err error
		if texts[i], err = encode(value); err != nil {
			return r, err
		}
	}
	var err error
	r.ID, err = s.insert(ctx, fmt.Sprintf("keep run %q", r.Name),
		`INSERT INTO runs (name, volume_id, volume, plan, estimate, progress, overrides, pace, status, host, version, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Name, r.VolumeID, texts[0], texts[1], texts[2], texts[3], texts[4], r.Pace, r.Status, r.Host, r.Version, r.Created)
	return r, err
}

// UpdateRun keeps what changes while a run goes on: status, reason, progress,
// and when it started and ended.
func (s *Store) UpdateRun(ctx context.Context, r resource.Run) error {
	progress, err := encode(r.Progress)
	if err != nil {
		return err
	}
	return s.change(ctx, fmt.Sprintf("run %d", r.ID),
		`UPDATE runs SET status = ?, reason = ?, progress = ?, started = ?, ended = ? WHERE id = ?`,
		r.Status, r.Reason, progress, r.Started, r.Ended, r.ID)
}

// KeepLook keeps what was found before a run began.
func (s *Store) KeepLook(ctx context.Context, run int64, found setup.Setup, checks []setup.Check) error {
	facts, err := encode(found)
	if err != nil {
		return err
	}
	results, err := encode(checks)
	if err != nil {
		return err
	}
	return s.change(ctx, fmt.Sprintf("run %d", run), `UPDATE runs SET setup = ?, checks = ? WHERE id = ?`, facts, results, run)
}

// Run finds a run by id.
func (s *Store) Run(ctx context.Context, id int64) (resource.Run, error) {
	var row runRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM runs WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("run %d", id))
}

// RunFilter chooses runs.
type RunFilter struct {
	Before int64 // only runs with a smaller id; 0 for all
	Volume int64 // only runs of this volume; 0 for all
	Limit  int
}

// Runs lists runs, newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]resource.Run, error) {
	return s.selectRuns(ctx,
		`SELECT * FROM runs WHERE (?1 = 0 OR id < ?1) AND (?2 = 0 OR volume_id = ?2) ORDER BY id DESC LIMIT ?3`,
		f.Before, f.Volume, f.Limit)
}

// RunsWithStatus lists the runs that have one of the given statuses, oldest
// first.
func (s *Store) RunsWithStatus(ctx context.Context, status ...resource.Status) ([]resource.Run, error) {
	text, err := encode(status)
	if err != nil {
		return nil, err
	}
	return s.selectRuns(ctx, `SELECT * FROM runs WHERE status IN (SELECT value FROM json_each(?)) ORDER BY id`, text)
}

func (s *Store) selectRuns(ctx context.Context, query string, arguments ...any) ([]resource.Run, error) {
	var rows []runRow
	if err := s.db.SelectContext(ctx, &rows, query, arguments...); err != nil {
		return nil, explain(err, "list runs")
	}
	runs := make([]resource.Run, len(rows))
	for i, row := range rows {
		runs[i] = row.record()
	}
	return runs, nil
}

// CountRuns is the number of runs kept, of all volumes or of one.
func (s *Store) CountRuns(ctx context.Context, volume int64) (int, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT count(*) FROM runs WHERE ?1 = 0 OR volume_id = ?1`, volume)
	return n, explain(err, "count runs")
}

// DeleteRun removes a run with all its measurements.
func (s *Store) DeleteRun(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("run %d", id), `DELETE FROM runs WHERE id = ?`, id)
}

type measurementRow struct {
	ID       int64
	RunID    int64 `db:"run_id"`
	Position int
	Stage    int
	Name     string
	Fill     bool
	Point    document[[]plan.Setting]
	Repeat   int
	Repeats  int
	Load     document[workload.Spec]
	Status   resource.Status
	Reason   string
	Summary  document[*measure.Summary]
	Findings document[[]judge.Finding]
	Started  time.Time
	Ended    *time.Time
}

const measurementColumns = `id, run_id, position, stage, name, fill, point, repeat, repeats, load, status, reason, summary, findings, started, ended`

func (r measurementRow) record() resource.Measurement {
	return resource.Measurement{
		ID: r.ID, RunID: r.RunID, Position: r.Position, Stage: r.Stage, Name: r.Name, Fill: r.Fill,
		Point: r.Point.value, Repeat: r.Repeat, Repeats: r.Repeats, Load: r.Load.value, Status: r.Status,
		Reason: r.Reason, Summary: r.Summary.value, Findings: r.Findings.value, Started: r.Started.UTC(), Ended: inUTC(r.Ended),
	}
}

// AddMeasurement keeps a measurement that begins and returns it with its id.
func (s *Store) AddMeasurement(ctx context.Context, m resource.Measurement) (resource.Measurement, error) {
	m.Started = time.Now().UTC()
	point, err := encode(m.Point)
	if err != nil {
		return m, err
	}
	load, err := encode(m.Load)
	if err != nil {
		return m, err
	}
	m.ID, err = s.insert(ctx, fmt.Sprintf("keep measurement %d of run %d", m.Position, m.RunID),
		`INSERT INTO measurements (run_id, position, stage, name, fill, point, repeat, repeats, load, status, started) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		m.RunID, m.Position, m.Stage, m.Name, m.Fill, point, m.Repeat, m.Repeats, load, m.Status, m.Started)
	return m, err
}

// EndMeasurement keeps what a measurement came to. The histograms may be nil.
func (s *Store) EndMeasurement(ctx context.Context, m resource.Measurement, reads, writes *measure.Histogram) error {
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
	blobs := make([][]byte, 2)
	for i, h := range []*measure.Histogram{reads, writes} {
		if h == nil || h.Count() == 0 {
			continue
		}
		if blobs[i], err = h.Encode(); err != nil {
			return err
		}
	}
	return s.change(ctx, fmt.Sprintf("measurement %d", m.ID),
		`UPDATE measurements SET status = ?, reason = ?, summary = ?, findings = ?, reads = ?, writes = ?, ended = ? WHERE id = ?`,
		m.Status, m.Reason, summary, findings, blobs[0], blobs[1], m.Ended, m.ID)
}

// Measurements lists the measurements of a run in order.
func (s *Store) Measurements(ctx context.Context, run int64) ([]resource.Measurement, error) {
	var rows []measurementRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT `+measurementColumns+` FROM measurements WHERE run_id = ? ORDER BY position`, run); err != nil {
		return nil, explain(err, fmt.Sprintf("measurements of run %d", run))
	}
	measurements := make([]resource.Measurement, len(rows))
	for i, row := range rows {
		measurements[i] = row.record()
	}
	return measurements, nil
}

// Measurement finds a measurement by id.
func (s *Store) Measurement(ctx context.Context, id int64) (resource.Measurement, error) {
	var row measurementRow
	err := s.db.GetContext(ctx, &row, `SELECT `+measurementColumns+` FROM measurements WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("measurement %d", id))
}

// Histograms gives the latency histograms of a measurement; empty ones where
// nothing was recorded.
func (s *Store) Histograms(ctx context.Context, measurement int64) (reads, writes *measure.Histogram, err error) {
	var row struct{ Reads, Writes []byte }
	if err := s.db.GetContext(ctx, &row, `SELECT reads, writes FROM measurements WHERE id = ?`, measurement); err != nil {
		return nil, nil, explain(err, fmt.Sprintf("measurement %d", measurement))
	}
	decoded := [2]*measure.Histogram{measure.NewHistogram(3), measure.NewHistogram(3)}
	for i, blob := range [][]byte{row.Reads, row.Writes} {
		if len(blob) > 0 {
			if decoded[i], err = measure.DecodeHistogram(blob); err != nil {
				return nil, nil, fmt.Errorf("measurement %d: %w", measurement, err)
			}
		}
	}
	return decoded[0], decoded[1], nil
}

// InterruptUnfinished marks runs and measurements that were under way when
// the service ended, and returns how many runs.
func (s *Store) InterruptUnfinished(ctx context.Context, reason string) (int, error) {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return 0, explain(err, "mark interrupted runs")
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it has nothing to do
	now := time.Now().UTC()
	count := 0
	for _, statement := range []string{
		`UPDATE measurements SET status = 'interrupted', reason = ?, ended = ? WHERE status IN ('preparing', 'settling', 'running')`,
		`UPDATE runs SET status = 'interrupted', reason = ?, ended = ? WHERE status IN ('preparing', 'settling', 'running')`,
	} {
		result, err := tx.ExecContext(ctx, statement, reason, now)
		if err != nil {
			return 0, explain(err, "mark interrupted runs")
		}
		n, err := result.RowsAffected()
		if err != nil {
			return 0, explain(err, "mark interrupted runs")
		}
		count = int(n)
	}
	return count, explain(tx.Commit(), "mark interrupted runs")
}
