-- +goose Up
ALTER TABLE comparisons ADD COLUMN asked TEXT NOT NULL DEFAULT '{}'; -- JSON, stages under other names and a p99 that is wanted

-- +goose Down
ALTER TABLE comparisons DROP COLUMN asked;
