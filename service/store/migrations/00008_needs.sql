-- +goose Up
CREATE TABLE needs (
  id      INTEGER PRIMARY KEY AUTOINCREMENT,
  name    TEXT NOT NULL UNIQUE,
  text    TEXT NOT NULL,          -- the sheet as its user wrote it
  created DATETIME NOT NULL,
  changed DATETIME NOT NULL
);

-- +goose Down
DROP TABLE needs;
