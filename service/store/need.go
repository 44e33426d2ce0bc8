package store

import (
	"context"
	"fmt"
	"time"

	"patientheron/core/renamed"
	"patientheron/resource"
)

type needRow struct {
	ID      int64
	Name    string
	Text    string
	Created time.Time
	Changed time.Time
}

func (r needRow) record() resource.NeedSheet {
	return resource.NeedSheet{ID: r.ID, Name: r.Name, Text: renamed.Sheet(r.Text), Created: r.Created.UTC(), Changed: r.Changed.UTC()}
}

// AddNeed keeps a need sheet and returns it with its id. It gives ErrTaken when the name
// is in use.
func (s *Store) AddNeed(ctx context.Context, n resource.NeedSheet) (resource.NeedSheet, error) {
	n.Created = s.Now().UTC()
	n.Changed = n.Created
	var err error
	n.ID, err = s.insert(ctx, fmt.Sprintf("keep need %q", n.Name), `INSERT INTO needs (name, text, created, changed) VALUES (?, ?, ?, ?)`, n.Name, n.Text, n.Created, n.Changed)
	return n, err
}

// ChangeNeed puts another sheet in the place of one. It gives ErrTaken when another need
// has the name.
func (s *Store) ChangeNeed(ctx context.Context, n resource.NeedSheet) (resource.NeedSheet, error) {
	if err := s.change(ctx, fmt.Sprintf("need %d", n.ID), `UPDATE needs SET name = ?, text = ?, changed = ? WHERE id = ?`, n.Name, n.Text, s.Now().UTC(), n.ID); err != nil {
		return n, err
	}
	return s.Need(ctx, n.ID)
}

// Needs lists all need sheets by their names, and those that cannot be read.
func (s *Store) Needs(ctx context.Context) ([]resource.NeedSheet, []resource.Unreadable, error) {
	return listed[needRow](ctx, s.db, "need", `SELECT * FROM needs ORDER BY name`)
}

// Need finds a need sheet by id.
func (s *Store) Need(ctx context.Context, id int64) (resource.NeedSheet, error) {
	var row needRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM needs WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("need %d", id))
}

// RemoveNeed removes a need sheet; what was measured stays.
func (s *Store) RemoveNeed(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("need %d", id), `DELETE FROM needs WHERE id = ?`, id)
}
