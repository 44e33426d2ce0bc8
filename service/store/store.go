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
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"patientheron/core/renamed"
	"patientheron/resource"
)

// Errors that callers branch on.
var (
	ErrNotFound = errors.New("not found")
	ErrTaken    = errors.New("already taken")
	ErrNewer    = errors.New("a newer heron has written it")
	ErrFull     = errors.New("the data folder has no room")
	ErrChanged  = errors.New("it was changed meanwhile")
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database. It is safe for concurrent use.
type Store struct {
	db *sqlx.DB // what it commits is on stable storage
	// group commits intervals together, without waiting for stable storage: the
	// next commit of db brings them there too, since both write one log, and the
	// end of each measurement is such a commit.
	group *sqlx.DB

	// Now is the wall's clock, by which records are dated.
	Now func() time.Time
}

// Open opens the database file at path, making or upgrading it as needed. It
// gives ErrNewer for a file that a newer heron has written.
func Open(ctx context.Context, path string) (*Store, error) {
	db, err := connect(path, "FULL", 4)
	if err != nil {
		return nil, err
	}
	if err := migrate(ctx, db.DB); err != nil {
		db.Close()
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	group, err := connect(path, "NORMAL", 1)
	if err != nil {
		db.Close()
		return nil, err
	}
	return &Store{db: db, group: group, Now: time.Now}, nil
}

// connect opens a pool of connections that wait for stable storage as
// synchronous says (sqlite.org, PRAGMA synchronous): FULL at each commit, NORMAL
// at checkpoints alone.
func connect(path, synchronous string, connections int) (*sqlx.DB, error) {
	options := url.Values{
		"_pragma":      {"journal_mode(WAL)", "busy_timeout(10000)", "foreign_keys(1)", "synchronous(" + synchronous + ")"},
		"_txlock":      {"immediate"},
		"_time_format": {"sqlite"},
	}
	db, err := sqlx.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+options.Encode())
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	db.SetMaxOpenConns(connections)
	return db, nil
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
	kept, known, err := provider.GetVersions(ctx)
	if err != nil {
		return err
	}
	if kept > known {
		return fmt.Errorf("%w (its schema is %d, this heron knows up to %d); start that one, or name another data folder with --data", ErrNewer, kept, known)
	}
	_, err = provider.Up(ctx)
	return err
}

// Close closes the database.
func (s *Store) Close() error { return errors.Join(s.group.Close(), s.db.Close()) }

// ErrUnreadable is given when a record was kept by another version, or was changed by hand, so
// that it cannot be read.
var ErrUnreadable = errors.New("it is kept, but cannot be read; the version that made it may read it, or it can be removed")

// listed reads the records of a query whose first column is their number. One
// that cannot be read is named beside those that can.
func listed[R interface{ record() V }, V any](ctx context.Context, db *sqlx.DB, kind, query string, arguments ...any) ([]V, []resource.Unreadable, error) {
	rows, err := db.QueryxContext(ctx, query, arguments...)
	if err != nil {
		return nil, nil, explain(err, "list "+kind+"s")
	}
	defer rows.Close()
	records, unreadable := []V{}, []resource.Unreadable{}
	for rows.Next() {
		var row R
		if err := rows.StructScan(&row); err != nil {
			u := resource.Unreadable{Kind: kind, Reason: unscannable(err)}
			if columns, scanErr := rows.SliceScan(); scanErr == nil {
				u.ID, _ = columns[0].(int64)
			}
			unreadable = append(unreadable, u)
			continue
		}
		records = append(records, row.record())
	}
	return records, unreadable, explain(rows.Err(), "list "+kind+"s")
}

// unscannable says which part of a record cannot be read, and why, in place of
// the database's count of columns.
func unscannable(err error) string {
	text := err.Error()
	if _, named, found := strings.Cut(text, `, name "`); found {
		return "its " + strings.Replace(named, `": `, ": ", 1)
	}
	return text
}

// document is a value kept as JSON text in one column, read under present names.
type document[T any] struct{ value T }

func (d *document[T]) Scan(source any) error {
	return scan(source, func(text []byte) error { return json.Unmarshal(renamed.JSON(text), &d.value) })
}

// point is one of the many documents of a series, whose type itself knows the names of every
// format: looking for old ones would cost half as much again as reading it.
type point[T any] struct{ value T }

func (p *point[T]) Scan(source any) error {
	return scan(source, func(text []byte) error { return json.Unmarshal(text, &p.value) })
}

// scan reads the text of a JSON column; nothing where it holds none.
func scan(source any, read func([]byte) error) error {
	switch text := source.(type) {
	case nil:
		return nil
	case string:
		return read([]byte(text))
	case []byte:
		return read(text)
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
	if errors.As(err, &failed) {
		switch failed.Code() {
		case sqlite3.SQLITE_CONSTRAINT_UNIQUE:
			return fmt.Errorf("%s: %w", what, ErrTaken)
		case sqlite3.SQLITE_FULL:
			return fmt.Errorf("%s: %w; make room on its file system: %w", what, ErrFull, err)
		}
	}
	if err != nil && strings.Contains(err.Error(), "sql: Scan error") {
		return fmt.Errorf("%s: %w: %s", what, ErrUnreadable, unscannable(err))
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
