package simulated

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/format/arrayfile"
)

// Errors about an array file that may not be read.
var (
	ErrOutside      = errors.New("not in a folder of array files")
	ErrNotArrayFile = errors.New("not an array file")
)

// largest is how long an array file may be.
const largest = 1 << 20

// ReadFile reads the array file at path for a user who may read it, with some of its
// keys at other values.
func ReadFile(path string, with ...plan.Setting) (array.Description, error) {
	file, err := os.Open(path)
	if err != nil {
		return array.Description{}, notRead(path, err)
	}
	defer file.Close()
	text, err := readAll(file, path)
	if err != nil {
		return array.Description{}, err
	}
	return described(text, path, with)
}

// ReadWithin reads the array file at path as TextWithin does, with some of its keys at other
// values.
func ReadWithin(folders []string, path string, with ...plan.Setting) (array.Description, error) {
	text, err := textWithin(folders, path)
	if err != nil {
		return array.Description{}, err
	}
	return described(text, path, with)
}

// TextWithin is the text of the array file at path, as ReadWithin reads it.
func TextWithin(folders []string, path string, with ...plan.Setting) ([]byte, error) {
	text, err := textWithin(folders, path)
	if err != nil || len(with) == 0 {
		return text, err
	}
	if text, err = arrayfile.WriteWith(text, with); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return text, nil
}

// textWithin reads the text of the array file at path, when that lies in or below one of the
// folders, whatever its links say. The service reads with more rights than whoever names the
// path, so nothing else is opened, and of a file that does not begin like an array file nothing
// is repeated.
func textWithin(folders []string, path string) ([]byte, error) {
	for _, folder := range folders {
		name, err := filepath.Rel(folder, path)
		if err != nil || !filepath.IsLocal(name) {
			continue
		}
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, notRead(path, err)
		}
		defer root.Close()
		file, err := root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
		if err != nil {
			return nil, notRead(path, err)
		}
		defer file.Close()
		return textGuarded(file, path)
	}
	return nil, fmt.Errorf("%s: %w: the service reads array files in %s; hand the file over with 'heron array add', or start the service with --arrays and its folder",
		path, ErrOutside, strings.Join(folders, " and "))
}

func notRead(path string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s does not exist on the host of the service; write an array file first: %w", path, err)
	}
	return fmt.Errorf("read the array file %s: %w", path, err)
}

// textGuarded reads an opened file for somebody who may not read it.
func textGuarded(file *os.File, path string) ([]byte, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, notRead(path, err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: %w: it is no regular file", path, ErrNotArrayFile)
	}
	text, err := readAll(file, path)
	if err != nil {
		return nil, err
	}
	if !arrayfile.Looks(text) {
		return nil, fmt.Errorf("%s: %w: it has no line that begins with 'members:' (docs/arrays.md)", path, ErrNotArrayFile)
	}
	return text, nil
}

func readAll(file *os.File, path string) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(file, largest+1))
	if err != nil {
		return nil, notRead(path, err)
	}
	if len(text) > largest {
		return nil, fmt.Errorf("%s: %w: it has more than the %d bytes that are read", path, ErrNotArrayFile, largest)
	}
	return text, nil
}

func described(text []byte, path string, with []plan.Setting) (array.Description, error) {
	d, err := arrayfile.ReadWith(text, with)
	if err != nil {
		return d, fmt.Errorf("%s: %w", path, err)
	}
	return d, nil
}

// Keep checks the text of an array file and keeps it under a name in a folder,
// in place of what was there. It gives the path. A file is there whole or not at
// all.
func Keep(folder, name string, text []byte) (string, error) {
	if _, err := arrayfile.Read(text); err != nil {
		return "", err
	}
	path := filepath.Join(folder, strings.TrimSuffix(name, ".yaml")+".yaml")
	file, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return "", fmt.Errorf("keep the array file: %w", err)
	}
	defer os.Remove(file.Name()) // after the rename there is none
	_, err = file.Write(text)
	if err := errors.Join(err, file.Sync(), file.Close()); err != nil {
		return "", fmt.Errorf("keep the array file: %w", err)
	}
	if err := os.Rename(file.Name(), path); err != nil {
		return "", fmt.Errorf("keep the array file: %w", err)
	}
	return path, nil
}
