package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"patientheron/core/plan"
	"patientheron/core/setup"
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
	Joint     document[*resource.Joint]
	Format    format
}

func (r runRow) record() resource.Run {
	return resource.Run{
		ID: r.ID, Name: r.Name, VolumeID: r.VolumeID, Volume: r.Volume.value, Plan: r.Plan.value,
		Estimate: r.Estimate.value, Pace: r.Pace, Status: r.Status, Reason: r.Reason, Progress: r.Progress.value,
		Host: r.Host, Version: r.Version, Created: r.Created.UTC(), Started: inUTC(r.Started), Ended: inUTC(r.Ended),
		Setup: known(r.Setup.value), Checks: r.Checks.value, Overrides: r.Overrides.value, Joint: r.Joint.value,
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
	runs, err := s.AddRuns(ctx, []resource.Run{r}, "")
	if err != nil {
		return r, err
	}
	return runs[0], nil
}

// AddRuns keeps new runs, all or none, and returns them with their ids. Several are a
// joint of the kind.
func (s *Store) AddRuns(ctx context.Context, runs []resource.Run, as plan.Beside) ([]resource.Run, error) {
	runs = slices.Clone(runs)
	err := s.transaction(ctx, "keep new runs", func(tx *sqlx.Tx) error {
		joint := &resource.Joint{As: as}
		for i := range runs {
			runs[i].Created = s.Now().UTC()
			id, err := insertRun(ctx, tx, runs[i])
			if err != nil {
				return err
			}
			runs[i].ID, joint.Runs = id, append(joint.Runs, id)
		}
		if len(runs) < 2 {
			return nil
		}
		text, err := encode(joint)
		if err != nil {
			return err
		}
		for i := range runs {
			runs[i].Joint = joint
			if _, err := tx.ExecContext(ctx, `UPDATE runs SET joint = ? WHERE id = ?`, text, runs[i].ID); err != nil {
				return err
			}
		}
		return nil
	})
	return runs, err
}

func insertRun(ctx context.Context, tx *sqlx.Tx, r resource.Run) (int64, error) {
	texts := make([]string, 5)
	for i, value := range []any{r.Volume, r.Plan, r.Estimate, r.Progress, r.Overrides} {
		var err error
		if texts[i], err = encode(value); err != nil {
			return 0, err
		}
	}
	result, err := tx.ExecContext(ctx,
		`INSERT INTO runs (name, volume_id, volume, plan, estimate, progress, overrides, pace, status, host, version, created) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		r.Name, r.VolumeID, texts[0], texts[1], texts[2], texts[3], texts[4], r.Pace, r.Status, r.Host, r.Version, r.Created)
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
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

// ChangeQueued changes where a run stands if it still waits, and reports whether it
// did: only one of those who take it from the queue and those who take it out of it
// can have it.
func (s *Store) ChangeQueued(ctx context.Context, r resource.Run) (changed bool, err error) {
	what := fmt.Sprintf("run %d", r.ID)
	result, err := s.db.ExecContext(ctx, `UPDATE runs SET status = ?, reason = ?, started = ?, ended = ? WHERE id = ? AND status = 'queued'`,
		r.Status, r.Reason, r.Started, r.Ended, r.ID)
	if err != nil {
		return false, explain(err, what)
	}
	n, err := result.RowsAffected()
	return n > 0, explain(err, what)
}

// EndRun keeps how a run ended. A measurement that is still under way in the
// store, because its own end could not be kept, ends with it.
func (s *Store) EndRun(ctx context.Context, r resource.Run) error {
	progress, err := encode(r.Progress)
	if err != nil {
		return err
	}
	return s.transaction(ctx, fmt.Sprintf("run %d", r.ID), func(tx *sqlx.Tx) error {
		result, err := tx.ExecContext(ctx, `UPDATE runs SET status = ?, reason = ?, progress = ?, started = ?, ended = ? WHERE id = ?`,
			r.Status, r.Reason, progress, r.Started, r.Ended, r.ID)
		if err != nil {
			return err
		}
		if n, err := result.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, sql.ErrNoRows)
		}
		_, err = tx.ExecContext(ctx, `UPDATE measurements SET status = ?, reason = ?, ended = ? WHERE run_id = ? AND status IN ('preparing', 'settling', 'running')`,
			r.Status, r.Reason, r.Ended, r.ID)
		return err
	})
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

// RunStatus is how a run stands, also of one that cannot be read otherwise.
func (s *Store) RunStatus(ctx context.Context, id int64) (status resource.Status, err error) {
	err = s.db.GetContext(ctx, &status, `SELECT status FROM runs WHERE id = ?`, id)
	return status, explain(err, fmt.Sprintf("run %d", id))
}

// RunFilter chooses runs.
type RunFilter struct {
	Before int64 // only runs with a smaller id; 0 for all
	Volume int64 // only runs of this volume; 0 for all
	Limit  int
}

// Runs lists runs, newest first, and those that cannot be read.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]resource.Run, []resource.Unreadable, error) {
	return listed[runRow](ctx, s.db, "run",
		`SELECT * FROM runs WHERE (?1 = 0 OR id < ?1) AND (?2 = 0 OR volume_id = ?2) ORDER BY id DESC LIMIT ?3`,
		f.Before, f.Volume, f.Limit)
}

// RunsWithStatus lists the runs that have one of the given statuses, oldest
// first, and those that cannot be read.
func (s *Store) RunsWithStatus(ctx context.Context, status ...resource.Status) ([]resource.Run, []resource.Unreadable, error) {
	text, err := encode(status)
	if err != nil {
		return nil, nil, err
	}
	return listed[runRow](ctx, s.db, "run", `SELECT * FROM runs WHERE status IN (SELECT value FROM json_each(?)) ORDER BY id`, text)
}

// CountRuns is the number of runs kept, of all volumes or of one.
func (s *Store) CountRuns(ctx context.Context, volume int64) (int, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT count(*) FROM runs WHERE ?1 = 0 OR volume_id = ?1`, volume)
	return n, explain(err, "count runs")
}

// RemoveRun removes a run with all its measurements.
func (s *Store) RemoveRun(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("run %d", id), `DELETE FROM runs WHERE id = ?`, id)
}

// InterruptUnfinished marks runs and measurements that were under way when
// the service ended, and returns how many runs.
func (s *Store) InterruptUnfinished(ctx context.Context, reason string) (count int, err error) {
	now := s.Now().UTC()
	err = s.transaction(ctx, "mark interrupted runs", func(tx *sqlx.Tx) error {
		for _, table := range []string{"measurements", "runs"} {
			result, err := tx.ExecContext(ctx, `UPDATE `+table+` SET status = 'interrupted', reason = ?, ended = ? WHERE status IN ('preparing', 'settling', 'waiting', 'running')`, reason, now)
			if err != nil {
				return err
			}
			n, err := result.RowsAffected()
			if err != nil {
				return err
			}
			count = int(n)
		}
		return nil
	})
	return count, err
}
