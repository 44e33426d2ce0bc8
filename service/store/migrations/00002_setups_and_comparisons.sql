-- +goose Up
ALTER TABLE runs ADD COLUMN setup TEXT;      -- JSON, as it was when the run began
ALTER TABLE runs ADD COLUMN checks TEXT;     -- JSON
ALTER TABLE runs ADD COLUMN overrides TEXT;  -- JSON, names of checks

CREATE TABLE setups (
  volume_id INTEGER NOT NULL,
  version   INTEGER NOT NULL,
  setup     TEXT NOT NULL,      -- JSON
  created   DATETIME NOT NULL,
  PRIMARY KEY (volume_id, version)
) WITHOUT ROWID;

CREATE TABLE markers (
  id             INTEGER PRIMARY KEY AUTOINCREMENT,
  run_id         INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
  measurement_id INTEGER NOT NULL,
  at             REAL NOT NULL, -- seconds since the measurement began
  name           TEXT NOT NULL,
  created        DATETIME NOT NULL
);
CREATE INDEX markers_by_run ON markers (run_id, id);

CREATE TABLE comparisons (
  id         INTEGER PRIMARY KEY AUTOINCREMENT,
  name       TEXT NOT NULL UNIQUE,
  baseline   TEXT NOT NULL,     -- JSON
  candidates TEXT NOT NULL,     -- JSON
  noise      REAL NOT NULL,
  created    DATETIME NOT NULL
);

-- +goose Down
DROP TABLE comparisons;
DROP TABLE markers;
DROP TABLE setups;
ALTER TABLE runs DROP COLUMN overrides;
ALTER TABLE runs DROP COLUMN checks;
ALTER TABLE runs DROP COLUMN setup;
