-- +goose Up
ALTER TABLE comparisons ADD COLUMN weights TEXT NOT NULL DEFAULT 'null'; -- JSON, what an index counts how much

-- +goose Down
ALTER TABLE comparisons DROP COLUMN weights;
