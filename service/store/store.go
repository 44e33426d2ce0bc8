// Package store keeps the records of Patient Heron in one SQLite file.
//
// It maps records to rows and back and decides nothing. Results are added,
// never rewritten. The main type is Store; Open makes or upgrades the file.
package store

import (
	"context"
	"database/sql"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"patientheron/core/measure"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// Errors that callers branch on.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("already taken")
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database. It is safe for concurrent use.
type Store struct{ db *sqlx.DB }

// Open opens the database file at path, making or upgrading it as needed.
func Open(ctx context.Context, path string) (*Store, error) {
	options := url.Values{
		"_pragma":      {"journal_mode(WAL)", "busy_timeout(10000)", "foreign_keys(1)", "synchronous(NORMAL)"},
		"_txlock":      {"immediate"},
		"_time_format": {"sqlite"},
	}
	db, err := sqlx.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options.Encode())
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	db.SetMaxOpenConns(4)
	if err := migrate(ctx, db.DB); err != nil {
		db.Close()
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	return &Store{db}, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectSQLite3, db, files)
	if err != nil {
		return err
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return s.db.Close() }

// document is a value kept as JSON text in one column.
type document[T any] struct{ value T }

func (d *document[T]) Scan(source any) error {
	switch text := source.(type) {
	case nil:
		return nil
	case string:
		return json.Unmarshal([]byte(text), &d.value)
	case []byte:
		return json.Unmarshal(text, &d.value)
	}
	return fmt.Errorf("a JSON column holds %T", source)
}

func encode(value any) (string, error) {
	text, err := json.Marshal(value)
	return string(text), err
}

// explain turns the database's words into errors callers branch on.
func explain(err error, what string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	var failed *sqlite.Error
	if errors.As(err, &failed) && failed.Code() == sqlite3.SQLITE_CONSTRAINT_UNIQUE {
		return fmt.Errorf("%s: %w", what, ErrTaken)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// insert executes an INSERT and returns the new row's id.
func (s *Store) insert(ctx context.Context, what, query string, arguments ...any) (int64, error) {
	result, err := s.db.ExecContext(ctx, query, arguments...)
	if err != nil {
		return 0, explain(err, what)
	}
	id, err := result.LastInsertId()
	return id, explain(err, what)
}

// change executes a statement that must touch a row.
func (s *Store) change(ctx context.Context, what, query string, arguments ...any) error {
	result, err := s.db.ExecContext(ctx, query, arguments...)
	if err != nil {
		return explain(err, what)
	}
	if n, err := result.RowsAffected(); err != nil || n == 0 {
		return explain(errors.Join(err, sql.ErrNoRows), what)
	}
	return nil
}

type volumeRow struct {
	ID      int64
	Name    string
	Locator string
	Kind    string
	Consent document[*resource.Consent]
	Created time.Time
}

func (r volumeRow) record() resource.Volume {
	return resource.Volume{ID: r.ID, Name: r.Name, Locator: r.Locator, Kind: r.Kind, Consent: r.Consent.value, Created: r.Created.UTC()}
}

// AddVolume keeps a volume and returns it with its id. It gives ErrTaken when
// the name or the locator is in use.
func (s *Store) AddVolume(ctx context.Context, v resource.Volume) (resource.Volume, error) {
	v.Created = time.Now().UTC()
	var consent *string
	if v.Consent != nil {
		text, err := encode(v.Consent)
		if err != nil {
			return v, err
		}
		consent = &text
	}
	var err error
	v.ID, err = s.insert(ctx, fmt.Sprintf("keep volume %q", v.Name),
		`INSERT INTO volumes (name, locator, kind, consent, created) VALUES (?, ?, ?, ?, ?)`, v.Name, v.Locator, v.Kind, consent, v.Created)
	return v, err
}

// Volumes lists all volumes by name.
func (s *Store) Volumes(ctx context.Context) ([]resource.Volume, error) {
	var rows []volumeRow
	if err := s.db.SelectContext(ctx, &rows, `SELECT * FROM volumes ORDER BY name`); err != nil {
		return nil, explain(err, "list volumes")
	}
	volumes := make([]resource.Volume, len(rows))
	for i, row := range rows {
		volumes[i] = row.record()
	}
	return volumes, nil
}

// Volume finds a volume by id.
func (s *Store) Volume(ctx context.Context, id int64) (resource.Volume, error) {
	var row volumeRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM volumes WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("volume %d", id))
}

// ChangeConsent changes the consent of a volume in one transaction. It is given
// what is kept now, nil for none.
func (s *Store) ChangeConsent(ctx context.Context, volume int64, change func(*resource.Consent) *resource.Consent) error {
	what := fmt.Sprintf("consent of volume %d", volume)
	return s.transaction(ctx, what, func(tx *sqlx.Tx) error {
		var now document[*resource.Consent]
		if err := tx.GetContext(ctx, &now, `SELECT consent FROM volumes WHERE id = ?`, volume); err != nil {
			return err
		}
		var text *string
		if next := change(now.value); next != nil {
			encoded, err := encode(next)
			if err != nil {
				return err
			}
			text = &encoded
		}
		_, err := tx.ExecContext(ctx, `UPDATE volumes SET consent = ? WHERE id = ?`, text, volume)
		return err
	})
}

// LapseConsent records that the consent of a volume no longer holds, and why.
func (s *Store) LapseConsent(ctx context.Context, volume int64, why string) error {
	return s.ChangeConsent(ctx, volume, func(c *resource.Consent) *resource.Consent {
		if c != nil && c.Lapsed == "" {
			c.Lapsed = why
		}
		return c
	})
}

// RenewConsent records what a volume is after a run that wrote under a consent,
// unless that was withdrawn, given anew or has lapsed meanwhile.
func (s *Store) RenewConsent(ctx context.Context, volume int64, given time.Time, identity setup.Identity) error {
	return s.ChangeConsent(ctx, volume, func(c *resource.Consent) *resource.Consent {
		if c != nil && c.Lapsed == "" && c.Given.Equal(given) {
			c.Identity = &identity
		}
		return c
	})
}

// transaction does work in one transaction, all of it or nothing.
func (s *Store) transaction(ctx context.Context, what string, work func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return explain(err, what)
	}
	defer tx.Rollback() //nolint:errcheck // after Commit it has nothing to do
	if err := work(tx); err != nil {
		return explain(err, what)
	}
	return explain(tx.Commit(), what)
}

// ForgetVolume removes a volume; its runs stay.
func (s *Store) ForgetVolume(ctx context.Context, id int64) error {
	if err := s.change(ctx, fmt.Sprintf("volume %d", id), `DELETE FROM volumes WHERE id = ?`, id); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM setups WHERE volume_id = ?`, id)
	return explain(err, fmt.Sprintf("setups of volume %d", id))
}

// AddWorkload keeps a workload and returns it with its id.
func (s *Store) AddWorkload(ctx context.Context, w resource.Workload) (resource.Workload, error) {
	w.Created = time.Now().UTC()
	text, err := encode(w.Load)
	if err != nil {
		return w, err
	}
	w.ID, err = s.insert(ctx, fmt.Sprintf("keep workload %q", w.Name),
		`INSERT INTO workloads (name, load, created) VALUES (?, ?, ?)`, w.Name, text, w.Created)
	return w, err
}

// Workloads lists all saved workloads by name.
func (s *Store) Workloads(ctx context.Context) ([]resource.Workload, error) {
	var rows []struct {
		ID      int64
		Name    string
		Load    document[workload.Spec]
		Created time.Time
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT * FROM workloads ORDER BY name`); err != nil {
		return nil, explain(err, "list workloads")
	}
	workloads := make([]resource.Workload, len(rows))
	for i, row := range rows {
		workloads[i] = resource.Workload{ID: row.ID, Name: row.Name, Load: row.Load.value, Created: row.Created.UTC()}
	}
	return workloads, nil
}

// ForgetWorkload removes a saved workload; runs keep their own copy.
func (s *Store) ForgetWorkload(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("workload %d", id), `DELETE FROM workloads WHERE id = ?`, id)
}

// AddInterval keeps one point of a measurement's series.
func (s *Store) AddInterval(ctx context.Context, measurement int64, interval measure.Interval) error {
	text, err := encode(interval)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO intervals (measurement_id, position, data) VALUES (?, ?, ?)`, measurement, interval.Index, text)
	return explain(err, fmt.Sprintf("keep interval %d of measurement %d", interval.Index, measurement))
}

// Intervals lists the points of a measurement's series in order.
func (s *Store) Intervals(ctx context.Context, measurement int64) ([]measure.Interval, error) {
	var rows []document[measure.Interval]
	if err := s.db.SelectContext(ctx, &rows, `SELECT data FROM intervals WHERE measurement_id = ? ORDER BY position`, measurement); err != nil {
		return nil, explain(err, fmt.Sprintf("series of measurement %d", measurement))
	}
	intervals := make([]measure.Interval, len(rows))
	for i, row := range rows {
		intervals[i] = row.value
	}
	// How much was lead-in may have been known only at the end.
	var summary document[*measure.Summary]
	err := s.db.GetContext(ctx, &summary, `SELECT summary FROM measurements WHERE id = ?`, measurement)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, explain(err, fmt.Sprintf("series of measurement %d", measurement))
	}
	if summary.value != nil {
		measure.CutLeadIn(intervals, summary.value.LeadIn)
	}
	return intervals, nil
}
