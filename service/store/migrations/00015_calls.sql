-- +goose Up
CREATE TABLE calls (
  key     TEXT PRIMARY KEY,          -- that a client gave to do something once
  asked   TEXT NOT NULL,             -- digest of what it asked for
  status  INTEGER NOT NULL,          -- of the answer; 0 while there is none
  answer  BLOB NOT NULL,
  made    DATETIME NOT NULL
);

-- Version of the JSON that their columns hold. What is kept already is read by its names, old and
-- new (core/renamed).
ALTER TABLE twins       ADD COLUMN format INTEGER NOT NULL DEFAULT 2;
ALTER TABLE predictions ADD COLUMN format INTEGER NOT NULL DEFAULT 2;
ALTER TABLE searches    ADD COLUMN format INTEGER NOT NULL DEFAULT 2;

-- The table workloads stays as it is: earlier versions kept loads in it, and nothing is thrown away.

-- +goose Down
ALTER TABLE searches    DROP COLUMN format;
ALTER TABLE predictions DROP COLUMN format;
ALTER TABLE twins       DROP COLUMN format;
DROP TABLE calls;
