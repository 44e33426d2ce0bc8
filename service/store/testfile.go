package store

import (
	"context"
	"fmt"

	"patientheron/resource"
)

// AddTestFile notes the name of a test file that is about to be made, and the nonce that a
// folder of them bears.
func (s *Store) AddTestFile(ctx context.Context, path, nonce string) error {
	_, err := s.insert(ctx, "note the test file "+path, `INSERT INTO test_files (path, nonce, created) VALUES (?, ?, ?)`, path, nonce, s.Now().UTC())
	return err
}

// RemoveTestFile removes a test file that is gone.
func (s *Store) RemoveTestFile(ctx context.Context, path string) error {
	return s.change(ctx, "test file "+path, `DELETE FROM test_files WHERE path = ?`, path)
}

// TestFiles lists the test files that were noted, oldest first.
func (s *Store) TestFiles(ctx context.Context) ([]resource.LeftBehind, error) {
	files := []resource.LeftBehind{}
	err := s.db.SelectContext(ctx, &files, `SELECT id, path, nonce, created FROM test_files ORDER BY id`)
	return files, explain(err, "list test files")
}

// TestFile finds a test file by its number.
func (s *Store) TestFile(ctx context.Context, id int64) (f resource.LeftBehind, err error) {
	err = s.db.GetContext(ctx, &f, `SELECT id, path, nonce, created FROM test_files WHERE id = ?`, id)
	return f, explain(err, fmt.Sprintf("test file %d", id))
}
