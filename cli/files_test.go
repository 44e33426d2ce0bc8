package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A folder is described into a file, which is explained as what is there; an existing file
// stays as it is.
func TestFoldersAreDescribedAndExplained(t *testing.T) {
	folder := t.TempDir()
	for i := range 40 {
		where := filepath.Join(folder, fmt.Sprint("year", i%4))
		if err := os.MkdirAll(where, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(where, fmt.Sprint(i, ".tif")), make([]byte, 3000), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	to := filepath.Join(t.TempDir(), "set.yaml")
	out, err := run(t, "files", "describe", folder, "--to", to)
	if err != nil || !strings.Contains(out, "40 files, 117 KiB in all, in 5 folders") {
		t.Errorf("%v\n%s", err, out)
	}
	out, err = run(t, "files", "explain", to)
	if err != nil || !strings.Contains(out, "40 files, 117 KiB in all, in 5 folders") || !strings.Contains(out, "tif-files/0/00.tif") {
		t.Errorf("%v\n%s", err, out)
	}
	if text, err := os.ReadFile(to); err != nil || !strings.Contains(string(text), "compressible: 9") {
		t.Errorf("zeros: %v\n%s", err, text)
	}
	if _, err := run(t, "files", "describe", folder, "--to", to); err == nil || !strings.Contains(err.Error(), "does not exist yet") {
		t.Errorf("written over: %v", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	if _, err := interruptible(ended, func() (int, error) { cancel(); select {} }); !errors.Is(err, context.Canceled) {
		t.Errorf("work that never ends: %v", err)
	}
	if out, err := run(t, "files", "describe", folder, "--json"); err != nil || !strings.Contains(out, `"files": 40`) || strings.Contains(out, "were read.") {
		t.Errorf("%v\n%s", err, out)
	}
	for arguments, words := range map[string]string{
		"describe " + to: "no folder", "describe " + to + "/gone": "not a directory", "describe " + t.TempDir(): "no files in it", "explain " + folder: "is a directory", "explain /dev/null": "empty",
	} {
		if _, err := run(t, append([]string{"files"}, strings.Fields(arguments)...)...); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v", arguments, err)
		}
	}
}
