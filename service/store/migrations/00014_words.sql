-- +goose Up
ALTER TABLE measurements RENAME COLUMN fill TO preconditioning;
ALTER TABLE predictions  RENAME COLUMN foretold TO predicted;

-- +goose Down
ALTER TABLE predictions  RENAME COLUMN predicted TO foretold;
ALTER TABLE measurements RENAME COLUMN preconditioning TO fill;
