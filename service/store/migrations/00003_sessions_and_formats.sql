-- +goose Up
CREATE TABLE sessions (
  id      TEXT PRIMARY KEY,     -- digest of the cookie
  proof   TEXT NOT NULL,        -- digest
  token   TEXT NOT NULL,        -- digest of the token it was signed in with
  created DATETIME NOT NULL,
  used    DATETIME NOT NULL
) WITHOUT ROWID;

-- Version of the JSON that a record's columns hold; that of its intervals is
-- the measurement's.
ALTER TABLE volumes      ADD COLUMN format INTEGER NOT NULL DEFAULT 1;
ALTER TABLE workloads    ADD COLUMN format INTEGER NOT NULL DEFAULT 1;
ALTER TABLE runs         ADD COLUMN format INTEGER NOT NULL DEFAULT 1;
ALTER TABLE measurements ADD COLUMN format INTEGER NOT NULL DEFAULT 1;
ALTER TABLE setups       ADD COLUMN format INTEGER NOT NULL DEFAULT 1;
ALTER TABLE comparisons  ADD COLUMN format INTEGER NOT NULL DEFAULT 1;

-- +goose Down
ALTER TABLE comparisons  DROP COLUMN format;
ALTER TABLE setups       DROP COLUMN format;
ALTER TABLE measurements DROP COLUMN format;
ALTER TABLE runs         DROP COLUMN format;
ALTER TABLE workloads    DROP COLUMN format;
ALTER TABLE volumes      DROP COLUMN format;
DROP TABLE sessions;
