package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"patientheron/core/setup"
	"patientheron/resource"
)

type volumeRow struct {
	ID      int64
	Name    string
	Locator string
	Kind    string
	Consent document[*resource.Consent]
	Created time.Time
	Format  format
}

func (r volumeRow) record() resource.Volume {
	return resource.Volume{ID: r.ID, Name: r.Name, Locator: r.Locator, Kind: r.Kind, Consent: r.Consent.value, Created: r.Created.UTC()}
}

// AddVolume keeps a volume and returns it with its id. It gives ErrTaken when
// the name or the locator is in use.
func (s *Store) AddVolume(ctx context.Context, v resource.Volume) (resource.Volume, error) {
	v.Created = s.Now().UTC()
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

// Volumes lists all volumes by name, and those that cannot be read.
func (s *Store) Volumes(ctx context.Context) ([]resource.Volume, []resource.Unreadable, error) {
	return listed[volumeRow](ctx, s.db, "volume", `SELECT * FROM volumes ORDER BY name`)
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

// RemoveVolume removes a volume; its runs stay.
func (s *Store) RemoveVolume(ctx context.Context, id int64) error {
	if err := s.change(ctx, fmt.Sprintf("volume %d", id), `DELETE FROM volumes WHERE id = ?`, id); err != nil {
		return err
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM setups WHERE volume_id = ?`, id)
	return explain(err, fmt.Sprintf("setups of volume %d", id))
}
