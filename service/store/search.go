package store

import (
	"context"
	"fmt"
	"time"

	"patientheron/core/choose"
	"patientheron/resource"
)

type searchRow struct {
	ID      int64
	Need    string
	Parts   string
	Started time.Time
	Ended   time.Time
	Chosen  document[*choose.Chosen]
	Format  format
}

func (r searchRow) record() resource.Search {
	return resource.Search{
		Aside: resource.Aside{ID: r.ID, Status: resource.Finished, Started: r.Started.UTC(), Ended: r.Ended.UTC()},
		Need:  r.Need, Parts: r.Parts, Chosen: r.Chosen.value,
	}
}

// KeepSearch keeps a search that is finished, under the id it had while it was under way.
func (s *Store) KeepSearch(ctx context.Context, r resource.Search) error {
	chosen, err := encode(r.Chosen)
	if err != nil {
		return err
	}
	_, err = s.insert(ctx, fmt.Sprintf("keep search %d", r.ID), `INSERT INTO searches (id, need, parts, chosen, started, ended, format) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		r.ID, r.Need, r.Parts, chosen, r.Started, r.Ended, present)
	return err
}

// Searches lists the searches that are kept, newest first, without what they came to, and those
// that cannot be read.
func (s *Store) Searches(ctx context.Context) ([]resource.Search, []resource.Unreadable, error) {
	return listed[searchRow](ctx, s.db, "search", `SELECT id, need, parts, started, ended, format FROM searches ORDER BY id DESC`)
}

// Search finds a kept search by id.
func (s *Store) Search(ctx context.Context, id int64) (resource.Search, error) {
	var row searchRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM searches WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("search %d", id))
}

// RemoveSearch removes a kept search.
func (s *Store) RemoveSearch(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("search %d", id), `DELETE FROM searches WHERE id = ?`, id)
}
