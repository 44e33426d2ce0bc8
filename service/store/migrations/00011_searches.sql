-- +goose Up
CREATE TABLE searches (
  id      INTEGER PRIMARY KEY,    -- the one it had while it was under way
  need    TEXT NOT NULL,          -- their names
  parts   TEXT NOT NULL,
  chosen  TEXT NOT NULL,          -- JSON, what it came to
  started DATETIME NOT NULL,
  ended   DATETIME NOT NULL
);

-- +goose Down
DROP TABLE searches;
