-- +goose Up
ALTER TABLE runs ADD COLUMN joint TEXT NOT NULL DEFAULT 'null'; -- JSON, with which runs it is made together

-- +goose Down
ALTER TABLE runs DROP COLUMN joint;
