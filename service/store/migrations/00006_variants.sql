-- +goose Up
CREATE TABLE variants (
  run_id  INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
  changed TEXT NOT NULL,        -- JSON, keys of the array file at the values that a sweep gave them
  setup   TEXT NOT NULL,        -- JSON, of the array with these values
  format  INTEGER NOT NULL DEFAULT 1,
  PRIMARY KEY (run_id, changed)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE variants;
