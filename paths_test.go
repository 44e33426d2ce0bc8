package patientheron_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// ofAMachine are paths that only the machine has that something was made on.
var ofAMachine = regexp.MustCompile(`/root/[a-z]|/work/[a-z]|/home/[a-z]+/|/tmp/[a-z]+/|pkg/mod/`)

// What is made by a program and kept here, such as the compiler's profile and golden stores,
// tells nothing of the machine that it was made on.
func TestWhatIsKeptTellsNoPaths(t *testing.T) {
	looked := 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := entry.Name(); entry.IsDir() && (name == "node_modules" || name == "bin" || name == "dist" || strings.HasPrefix(name, ".") && path != ".") {
			return filepath.SkipDir
		}
		switch filepath.Ext(path) {
		case ".pgo", ".sqlite", ".json", ".golden", ".png", ".svg":
		default:
			return nil
		}
		looked++
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if packed, err := gzip.NewReader(bytes.NewReader(content)); err == nil {
			if content, err = io.ReadAll(packed); err != nil {
				return err
			}
		}
		if found := ofAMachine.Find(content); found != nil {
			t.Errorf("%s holds %q", path, found)
		}
		return nil
	})
	if err != nil || looked < 5 {
		t.Errorf("looked at %d files: %v", looked, err)
	}
	for _, text := range []string{"/root/go/pkg/mod/x", "/home/ada/heron", "/tmp/golden/plain.yaml"} {
		if !ofAMachine.MatchString(text) {
			t.Errorf("%s is not seen", text)
		}
	}
}
