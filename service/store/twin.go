package store

import (
	"context"
	"fmt"
	"time"

	"patientheron/core/plan"
	"patientheron/core/twin"
	"patientheron/resource"
)

type twinRow struct {
	ID       int64
	Name     string
	VolumeID int64 `db:"volume_id"`
	Volume   string
	Runs     document[[]int64]
	Text     string
	Fitted   document[twin.Fitted]
	Created  time.Time
	Format   format
}

func (r twinRow) record() resource.Twin {
	return resource.Twin{
		ID: r.ID, Name: r.Name, VolumeID: r.VolumeID, Volume: r.Volume, Runs: r.Runs.value, Text: r.Text, Created: r.Created.UTC(),
		Fitted: &r.Fitted.value, Off: r.Fitted.value.Off, Unseen: r.Fitted.value.Unseen,
	}
}

// AddTwin keeps a twin and returns it with its id. It gives ErrTaken when the name is in use.
func (s *Store) AddTwin(ctx context.Context, t resource.Twin) (resource.Twin, error) {
	t.Created = s.Now().UTC()
	runs, err := encode(t.Runs)
	if err != nil {
		return t, err
	}
	fitted, err := encode(t.Fitted)
	if err != nil {
		return t, err
	}
	t.ID, err = s.insert(ctx, fmt.Sprintf("keep twin %q", t.Name), `INSERT INTO twins (name, volume_id, volume, runs, text, fitted, created, format) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		t.Name, t.VolumeID, t.Volume, runs, t.Text, fitted, t.Created, present)
	return t, err
}

// Twins lists all twins, newest first, and those that cannot be read.
func (s *Store) Twins(ctx context.Context) ([]resource.Twin, []resource.Unreadable, error) {
	return listed[twinRow](ctx, s.db, "twin", `SELECT * FROM twins ORDER BY id DESC`)
}

// Twin finds a twin by id.
func (s *Store) Twin(ctx context.Context, id int64) (resource.Twin, error) {
	var row twinRow
	err := s.db.GetContext(ctx, &row, `SELECT * FROM twins WHERE id = ?`, id)
	return row.record(), explain(err, fmt.Sprintf("twin %d", id))
}

// TwinNamed reports whether a twin has a name.
func (s *Store) TwinNamed(ctx context.Context, name string) (is bool, err error) {
	err = s.db.GetContext(ctx, &is, `SELECT count(*) FROM twins WHERE name = ?`, name)
	return is, explain(err, fmt.Sprintf("twin %q", name))
}

// RemoveTwin removes a twin with what was predicted with it; what was measured stays.
func (s *Store) RemoveTwin(ctx context.Context, id int64) error {
	return s.change(ctx, fmt.Sprintf("twin %d", id), `DELETE FROM twins WHERE id = ?`, id)
}

type predictionRow struct {
	ID        int64
	TwinID    int64 `db:"twin_id"`
	Changes   document[[]plan.Setting]
	VolumeID  int64 `db:"volume_id"`
	Volume    string
	Predicted document[[]twin.Predicted]
	Created   time.Time
	Format    format
}

func (r predictionRow) record() resource.Prediction {
	return resource.Prediction{ID: r.ID, Changes: r.Changes.value, VolumeID: r.VolumeID, Volume: r.Volume, Predicted: r.Predicted.value, Created: r.Created.UTC()}
}

// AddPrediction keeps what a twin predicted and returns it with its id.
func (s *Store) AddPrediction(ctx context.Context, twinID int64, p resource.Prediction) (resource.Prediction, error) {
	p.Created = s.Now().UTC()
	changes, err := encode(p.Changes)
	if err != nil {
		return p, err
	}
	predicted, err := encode(p.Predicted)
	if err != nil {
		return p, err
	}
	p.ID, err = s.insert(ctx, fmt.Sprintf("keep what twin %d predicts", twinID), `INSERT INTO predictions (twin_id, changes, volume_id, volume, predicted, created, format) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		twinID, changes, p.VolumeID, p.Volume, predicted, p.Created, present)
	return p, err
}

// Predictions lists what a twin predicted, newest first, and what of it cannot be read.
func (s *Store) Predictions(ctx context.Context, twinID int64) ([]resource.Prediction, []resource.Unreadable, error) {
	return listed[predictionRow](ctx, s.db, "prediction", `SELECT * FROM predictions WHERE twin_id = ? ORDER BY id DESC`, twinID)
}

// RemovePrediction removes one that a twin predicted.
func (s *Store) RemovePrediction(ctx context.Context, twinID, id int64) error {
	return s.change(ctx, fmt.Sprintf("prediction %d of twin %d", id, twinID), `DELETE FROM predictions WHERE twin_id = ? AND id = ?`, twinID, id)
}
