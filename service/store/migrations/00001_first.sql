-- +goose Up
CREATE TABLE volumes (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  name     TEXT NOT NULL UNIQUE,
  locator  TEXT NOT NULL UNIQUE,
  kind     TEXT NOT NULL,
  consent  TEXT,                -- JSON, when the user agreed to lose what it holds
  created  DATETIME NOT NULL
);

CREATE TABLE workloads (
  id       INTEGER PRIMARY KEY AUTOINCREMENT,
  name     TEXT NOT NULL UNIQUE,
  load     TEXT NOT NULL,       -- JSON
  created  DATETIME NOT NULL
);

CREATE TABLE runs (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  name      TEXT NOT NULL,
  volume_id INTEGER NOT NULL,   -- kept when the volume is forgotten
  volume    TEXT NOT NULL,      -- JSON, as it was when the run was asked for
  plan      TEXT NOT NULL,      -- JSON
  estimate  TEXT NOT NULL,      -- JSON
  pace      REAL NOT NULL DEFAULT 0,
  status    TEXT NOT NULL,
  reason    TEXT NOT NULL DEFAULT '',
  progress  TEXT NOT NULL,      -- JSON
  host      TEXT NOT NULL DEFAULT '',
  version   TEXT NOT NULL DEFAULT '',
  created   DATETIME NOT NULL,
  started   DATETIME,
  ended     DATETIME
);
CREATE INDEX runs_by_status ON runs (status);
CREATE INDEX runs_by_volume ON runs (volume_id, id);

CREATE TABLE measurements (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  run_id    INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
  position  INTEGER NOT NULL,
  stage     INTEGER NOT NULL,
  name      TEXT NOT NULL,
  fill      BOOLEAN NOT NULL DEFAULT FALSE,
  point     TEXT NOT NULL,      -- JSON
  repeat    INTEGER NOT NULL,
  repeats   INTEGER NOT NULL,
  load      TEXT NOT NULL,      -- JSON
  status    TEXT NOT NULL,
  reason    TEXT NOT NULL DEFAULT '',
  summary   TEXT,               -- JSON
  findings  TEXT,               -- JSON
  reads     BLOB,               -- latency histogram, HdrHistogram V2 compressed
  writes    BLOB,
  started   DATETIME NOT NULL,
  ended     DATETIME,
  UNIQUE (run_id, position)
);

CREATE TABLE intervals (
  measurement_id INTEGER NOT NULL REFERENCES measurements (id) ON DELETE CASCADE,
  position       INTEGER NOT NULL,
  data           TEXT NOT NULL, -- JSON
  PRIMARY KEY (measurement_id, position)
) WITHOUT ROWID;

-- +goose Down
DROP TABLE intervals;
DROP TABLE measurements;
DROP TABLE runs;
DROP TABLE workloads;
DROP TABLE volumes;
