package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"patientheron/service/access"
)

// AddSession keeps a session.
func (s *Store) AddSession(ctx context.Context, a access.Session) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO sessions (id, proof, token, created, used) VALUES (?, ?, ?, ?, ?)`, a.ID, a.Proof, a.Token, a.Created, a.Used)
	return explain(err, "keep a session")
}

// Session finds a session; nil when there is none.
func (s *Store) Session(ctx context.Context, id string) (*access.Session, error) {
	var found access.Session
	err := s.db.GetContext(ctx, &found, `SELECT id, proof, token, created, used FROM sessions WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &found, explain(err, "a session")
}

// UseSession notes when a session was last used.
func (s *Store) UseSession(ctx context.Context, id string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE sessions SET used = ? WHERE id = ?`, at, id)
	return explain(err, "note the use of a session")
}

// EndSession removes a session, if it is there.
func (s *Store) EndSession(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE id = ?`, id)
	return explain(err, "end a session")
}

// EndSessions removes those of other tokens, and those that last no longer.
func (s *Store) EndSessions(ctx context.Context, otherThan string, made, used time.Time) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sessions WHERE token <> ? OR created < ? OR used < ?`, otherThan, made.UTC(), used.UTC())
	return explain(err, "end old sessions")
}
