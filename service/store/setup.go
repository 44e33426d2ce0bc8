package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"patientheron/core/compare"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/resource"
)

type setupRow struct {
	VolumeID int64 `db:"volume_id"`
	Version  int
	Setup    document[setup.Setup]
	Created  time.Time
	Format   format
}

func (r setupRow) record() resource.SetupVersion {
	return resource.SetupVersion{VolumeID: r.VolumeID, Version: r.Version, Setup: r.Setup.value, Created: r.Created.UTC()}
}

// Setups lists the versions of a volume's setup, newest first, each with what
// changed against the one before, and the versions that cannot be read.
func (s *Store) Setups(ctx context.Context, volume int64) ([]resource.SetupVersion, []resource.Unreadable, error) {
	versions, unreadable, err := listed[setupRow](ctx, s.db, "setup", `SELECT version, volume_id, setup, created, format FROM setups WHERE volume_id = ? ORDER BY version DESC`, volume)
	for i := range versions {
		if i > 0 {
			versions[i-1].Changed = setup.Diff(versions[i].Setup, versions[i-1].Setup)
		}
	}
	if n := len(versions); n > 0 {
		versions[n-1].Changed = setup.Diff(setup.Setup{}, setup.Setup{})
		versions[n-1].Changed.Words = "This is the first version."
	}
	return versions, unreadable, err
}

const latestSetup = `SELECT version, volume_id, setup, created, format FROM setups WHERE volume_id = ? ORDER BY version DESC LIMIT 1`

// LatestSetup is the newest version of a volume's setup; an empty one when
// there is none.
func (s *Store) LatestSetup(ctx context.Context, volume int64) (resource.SetupVersion, error) {
	return newest(ctx, s.db, volume)
}

func newest(ctx context.Context, from sqlx.QueryerContext, volume int64) (resource.SetupVersion, error) {
	var row setupRow
	err := sqlx.GetContext(ctx, from, &row, latestSetup, volume)
	if errors.Is(err, sql.ErrNoRows) {
		return resource.SetupVersion{VolumeID: volume}, nil
	}
	return row.record(), explain(err, fmt.Sprintf("the latest setup of volume %d", volume))
}

// ChangeSetup keeps what change makes of the newest version of a volume's setup
// as the next version, unless it says the same. Nothing comes between.
func (s *Store) ChangeSetup(ctx context.Context, volume int64, change func(resource.SetupVersion) (setup.Setup, error)) (kept resource.SetupVersion, err error) {
	err = s.transaction(ctx, fmt.Sprintf("keep the setup of volume %d", volume), func(tx *sqlx.Tx) error {
		latest, err := newest(ctx, tx, volume)
		if err != nil {
			return err
		}
		next, err := change(latest)
		if err != nil {
			return err
		}
		if kept = latest; latest.Version > 0 && latest.Setup.Same(next) {
			return nil
		}
		text, err := encode(next)
		if err != nil {
			return err
		}
		kept = resource.SetupVersion{VolumeID: volume, Version: latest.Version + 1, Setup: next, Changed: setup.Diff(latest.Setup, next), Created: s.Now().UTC()}
		_, err = tx.ExecContext(ctx, `INSERT INTO setups (volume_id, version, setup, created) VALUES (?, ?, ?, ?)`, volume, kept.Version, text, kept.Created)
		return err
	})
	return kept, err
}

type variantRow struct {
	Changed document[[]plan.Setting]
	Setup   document[setup.Setup]
	Format  format
}

func (r variantRow) record() resource.Variant {
	return resource.Variant{Changed: r.Changed.value, Setup: r.Setup.value}
}

// KeepVariant keeps the setup of a run's array as a sweep changed it.
func (s *Store) KeepVariant(ctx context.Context, run int64, v resource.Variant) error {
	changed, err := encode(v.Changed)
	if err != nil {
		return err
	}
	text, err := encode(v.Setup)
	if err != nil {
		return err
	}
	return s.change(ctx, fmt.Sprintf("keep the setup of run %d with %s", run, plan.Describe(v.Changed)),
		`INSERT OR REPLACE INTO variants (run_id, changed, setup, format) VALUES (?, ?, ?, ?)`, run, changed, text, present)
}

// Variants are the setups of a run's array as its sweeps changed it.
func (s *Store) Variants(ctx context.Context, run int64) ([]resource.Variant, error) {
	variants, _, err := listed[variantRow](ctx, s.db, "variant", `SELECT changed, setup, format FROM variants WHERE run_id = ?`, run)
	return variants, err
}

// AddMarker keeps a marker and returns it with its id.
func (s *Store) AddMarker(ctx context.Context, m resource.Marker) (resource.Marker, error) {
	m.Created = s.Now().UTC()
	var err error
	m.ID, err = s.insert(ctx, fmt.Sprintf("keep marker %q", m.Name),
		`INSERT INTO markers (run_id, measurement_id, at, name, created) VALUES (?, ?, ?, ?, ?)`, m.RunID, m.MeasurementID, m.At, m.Name, m.Created)
	return m, err
}

// Markers lists the markers of a run in order.
func (s *Store) Markers(ctx context.Context, run int64) ([]resource.Marker, error) {
	var rows []struct {
		ID            int64
		RunID         int64 `db:"run_id"`
		MeasurementID int64 `db:"measurement_id"`
		At            quantity.Seconds
		Name          string
		Created       time.Time
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT * FROM markers WHERE run_id = ? ORDER BY id`, run); err != nil {
		return nil, explain(err, fmt.Sprintf("markers of run %d", run))
	}
	markers := make([]resource.Marker, len(rows))
	for i, r := range rows {
		markers[i] = resource.Marker{ID: r.ID, RunID: r.RunID, MeasurementID: r.MeasurementID, At: r.At, Name: r.Name, Created: r.Created.UTC()}
	}
	return markers, nil
}

type comparisonRow struct {
	ID         int64
	Name       string
	Baseline   document[resource.Group]
	Candidates document[[]resource.Group]
	Noise      quantity.Share
	Weights    document[[]compare.Weight]
	Asked      document[resource.Asked]
	Created    time.Time
	Format     format
}

func (r comparisonRow) record() resource.Comparison {
	return resource.Comparison{ID: r.ID, Name: r.Name, Baseline: r.Baseline.value, Candidates: r.Candidates.value, Noise: r.Noise, Weights: r.Weights.value, Asked: r.Asked.value, Created: r.Created.UTC()}
}

// AddComparison keeps a comparison and returns it with its id. It gives
// ErrTaken when the name is in use.
func (s *Store) AddComparison(ctx context.Context, c resource.Comparison) (resource.Comparison, error) {
	c.Created = s.Now().UTC()
	baseline, err := encode(c.Baseline)
	if err != nil {
		return c, err
	}
	candidates, err := encode(c.Candidates)
	if err != nil {
		return c, err
	}
	weights, err := encode(c.Weights)
	if err != nil {
		return c, err
	}
	asked, err := encode(c.Asked)
	if err != nil {
		return c, err
	}
	c.ID, err = s.insert(ctx, fmt.Sprintf("keep comparison %q", c.Name),
		`INSERT INTO comparisons (name, baseline, candidates, noise, weights, asked, created) VALUES (?, ?, ?, ?, ?, ?, ?)`, c.Name, baseline, candidates, c.Noise, weights, asked, c.Created)
	return c, err
}

// Comparisons lists all comparisons, newest first, and those that cannot be
// read.
func (s *Store) Comparisons(ctx context.Context) ([]resource.Comparison, []resource.Unreadable, error) {
	return listed[comparisonRow](ctx, s.db, "comparison", `SELECT * FROM comparisons ORDER BY id DESC`)
}

// Comparison finds a comparison by id.
func (s *Store) Comparison(ctx context.Context, id int64) (resource.Comparison, error) {
	var row comparisonRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM comparisons WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("comparison %d", id))
}

// RemoveComparison removes a comparison; its runs stay.
func (s *Store) RemoveComparison(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("comparison %d", id), `DELETE FROM comparisons WHERE id = ?`, id)
}
