package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Call is a call that a client marked with a key, so that it takes effect once however often it is
// sent.
type Call struct {
	Key    string
	Asked  string // digest of what it asked for
	Status int    // of its answer; 0 while there is none
	Answer []byte
	Made   time.Time
}

// BeginCall notes a call before it takes effect. Where its key is known already, it gives the call
// that had it first, and known is true. Calls that were made before since are dropped.
func (s *Store) BeginCall(ctx context.Context, c Call, since time.Time) (first Call, known bool, err error) {
	err = s.transaction(ctx, "note a call", func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM calls WHERE made < ?`, since.UTC()); err != nil {
			return err
		}
		result, err := tx.ExecContext(ctx, `INSERT INTO calls (key, asked, status, answer, made) VALUES (?, ?, 0, '', ?) ON CONFLICT DO NOTHING`, c.Key, c.Asked, s.Now().UTC())
		if err != nil {
			return err
		}
		added, err := result.RowsAffected()
		if err != nil || added > 0 {
			return err
		}
		known = true
		return tx.GetContext(ctx, &first, `SELECT * FROM calls WHERE key = ?`, c.Key)
	})
	return first, known, err
}

// EndCall keeps the answer of a call that took effect.
func (s *Store) EndCall(ctx context.Context, key string, status int, answer []byte) error {
	_, err := s.db.ExecContext(ctx, `UPDATE calls SET status = ?, answer = ? WHERE key = ?`, status, answer, key)
	return explain(err, fmt.Sprintf("keep the answer of the call %q", key))
}

// DropCall forgets a call that took no effect.
func (s *Store) DropCall(ctx context.Context, key string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM calls WHERE key = ?`, key)
	return explain(err, fmt.Sprintf("drop the call %q", key))
}
