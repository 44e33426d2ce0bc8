-- +goose Up
CREATE TABLE test_files (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  path    TEXT NOT NULL UNIQUE, -- noted before the file is made, removed once it is gone
  created DATETIME NOT NULL
);

-- +goose Down
DROP TABLE test_files;
