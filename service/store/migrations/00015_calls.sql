-- +goose Up
CREATE TABLE calls (
  key     TEXT PRIMARY KEY,          -- that a client gave to do something once
  asked   TEXT NOT NULL,             -- digest of what it asked for
  status  INTEGER NOT NULL,          -- of the answer; 0 while there is none
  answer  BLOB NOT NULL,
  made    DATETIME NOT NULL
);

-- The table workloads stays as it is: earlier versions kept loads in it, and nothing is thrown away.

-- +goose Down
DROP TABLE calls;
