-- +goose Up
-- What a folder of test files bears, so that no other under its name is taken for it.
ALTER TABLE test_files ADD COLUMN nonce TEXT NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE test_files DROP COLUMN nonce;
