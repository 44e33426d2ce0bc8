-- +goose Up
CREATE TABLE twins (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  name      TEXT NOT NULL UNIQUE,
  volume_id INTEGER NOT NULL,       -- kept when the volume is forgotten
  volume    TEXT NOT NULL,          -- its name
  runs      TEXT NOT NULL,          -- JSON, the ids of the runs it was fitted to
  text      TEXT NOT NULL,          -- its array file
  fitted    TEXT NOT NULL,          -- JSON, what is known of it
  created   DATETIME NOT NULL
);
CREATE TABLE predictions (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  twin_id   INTEGER NOT NULL REFERENCES twins (id) ON DELETE CASCADE,
  changes   TEXT NOT NULL,          -- JSON, keys of the array file at other values
  volume_id INTEGER NOT NULL,       -- whose measurements it is confronted with
  volume    TEXT NOT NULL,
  foretold  TEXT NOT NULL,          -- JSON, by load and figure
  created   DATETIME NOT NULL
);
CREATE INDEX predictions_by_twin ON predictions (twin_id, id);

-- +goose Down
DROP TABLE predictions;
DROP TABLE twins;
