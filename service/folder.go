package service

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
)

// makePrivate makes the data folder, or what an earlier hand made there, what
// only its owner may read: results, token and database are nobody else's. It
// says what it changed. A folder that others may write to is refused, since
// they could put another database in the place of this one.
func makePrivate(folder string, log *slog.Logger) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w; name another with --data", err)
	}
	info, err := os.Stat(folder)
	if err != nil {
		return fmt.Errorf("look at the data folder: %w; name another with --data", err)
	}
	if !info.IsDir() {
		return fmt.Errorf("the data folder %s is no folder; name another with --data", folder)
	}
	if info.Mode().Perm()&0o022 != 0 {
		return fmt.Errorf("others may write to the data folder %s (%v); take that right away (chmod go-w %s), or name a folder of its own with --data", folder, info.Mode(), folder)
	}
	if err := os.MkdirAll(filepath.Join(folder, arrayFolder), 0o700); err != nil {
		return fmt.Errorf("make the folder of array files: %w", err)
	}
	for _, name := range []string{databaseFile, databaseFile + "-wal", databaseFile + "-shm", tokenFile, lockFile, AddressFile} {
		path := filepath.Join(folder, name)
		info, err := os.Lstat(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("look at the data folder: %w", err)
		}
		if !info.Mode().IsRegular() {
			return fmt.Errorf("%s is no regular file; move it away, or name another data folder with --data", path)
		}
		if info.Mode().Perm()&0o077 == 0 {
			continue
		}
		if err := os.Chmod(path, 0o600); err != nil {
			return fmt.Errorf("keep %s from others: %w", path, err)
		}
		log.Warn("others could read a file of the data folder; it is private now", "file", path, "before", info.Mode().Perm().String())
	}
	// What the database makes beside itself takes over its rights.
	database, err := os.OpenFile(filepath.Join(folder, databaseFile), os.O_CREATE|os.O_RDONLY, 0o600)
	if err != nil {
		return fmt.Errorf("make the database: %w; name another data folder with --data", err)
	}
	return database.Close()
}
