package localfile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// grown makes a folder with real files of many sizes in folders of its own, with names
// that need care.
func grown(t *testing.T) string {
	t.Helper()
	folder, random := t.TempDir(), rand.NewChaCha8([32]byte{1})
	long := strings.Repeat("/"+strings.Repeat("d", 200), 4)
	for i := range 120 {
		size := []int{0, 1, 511, 512, 4095, 4096, 4097, 65_536, 65_537, 300_001}[i%10]
		path := filepath.Join(folder, []string{"plain", "mit ümläuten", "a b/c", "deep" + long}[i%4], fmt.Sprintf("file %d%s", i, []string{".txt", ".wav", ""}[i%3]))
		content := make([]byte, size)
		_, _ = random.Read(content)
		must(t, os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, content, 0o644))
	}
	must(t, os.Symlink("/etc/passwd", filepath.Join(folder, "link")), os.Mkdir(filepath.Join(folder, treePrefix+"OTHER"), 0o755),
		os.WriteFile(filepath.Join(folder, treePrefix+"OTHER", "own.txt"), []byte("left by a load"), 0o644))
	return folder
}

func must(t *testing.T, errs ...error) {
	t.Helper()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
}

// putting is a load that puts the files of a folder.
func putting(t *testing.T, from string, cached bool) workload.Spec {
	t.Helper()
	listed, err := ListSource(t.Context(), from)
	must(t, err)
	s := workload.Default()
	s.SetBody(&loadfiles.Files{From: from, Tasks: []loadfiles.TaskShare{{Task: loadfiles.Put, Weight: 1}}, Piece: 64 * quantity.KiB})
	loadfiles.UseListed(&s, listed)
	s.For, s.Passes, s.Depth, s.Workers, s.Cached = 0, 1, 12, 2, cached
	return s
}

// Every file of a folder is put once, byte for byte, on a ring and on threads, through the
// host's memory and around it; the folder is as it was, and nothing stays open.
func TestFilesOfAFolderArePut(t *testing.T) {
	from := grown(t)
	before := snapshot(t, from)
	open := descriptors(t)
	for _, c := range []struct{ threads, cached bool }{{false, false}, {false, true}, {true, false}, {true, true}} {
		spec := putting(t, from, c.cached)
		if n := loadfiles.Of(spec).Listed().Numbered().Len(); n != 120 || loadfiles.Of(spec).Listed().Elsewhere != 1 || loadfiles.Of(spec).Listed().Special != 1 {
			t.Fatalf("%d files: %+v", n, loadfiles.Of(spec).Listed().Described)
		}
		traces := noted{}
		v := planted(t, t.TempDir(), traces, spec)
		outcome := run(t, v, spec, c.threads)
		total := outcome.Summary.Classes
		if total[measure.Create].Operations != 120 || total[measure.File].Operations != 120 || outcome.Summary.Total.Bytes != loadfiles.Of(spec).Listed().Bytes {
			t.Errorf("%+v: %d made, %d whole, %s of %s", c, total[measure.Create].Operations, total[measure.File].Operations, outcome.Summary.Total.Bytes, loadfiles.Of(spec).Listed().Bytes)
		}
		listed := loadfiles.Of(spec).Listed()
		for i := range listed.Numbered().Len() {
			source, err := os.ReadFile(filepath.Join(from, string(listed.Path(nil, i))))
			must(t, err)
			copied, err := os.ReadFile(filepath.Join(filesOf(v), string(listed.Numbered().Path(nil, i))))
			if err != nil || !bytes.Equal(source, copied) {
				t.Errorf("%+v: %s is another (%d and %d bytes, %v)", c, listed.Path(nil, i), len(source), len(copied), err)
			}
		}
		alone, err := OpenSource(spec.OfSource())
		must(t, err)
		read, err := load.Run(t.Context(), load.Job{Workload: spec.OfSource(), Volume: alone, Clock: load.NewMonotonic()})
		must(t, err, read.Failure, alone.Close())
		if read.Summary.Total.Bytes != listed.Bytes || read.Summary.Classes[measure.File].Operations != 120 {
			t.Errorf("%s were read of %s", read.Summary.Total.Bytes, listed.Bytes)
		}
		must(t, v.Close())
	}
	if after := snapshot(t, from); after != before {
		t.Errorf("the folder was changed:\n%s\nit was\n%s", after, before)
	}
	if left := descriptors(t); left > open {
		t.Errorf("%d descriptors are open, %d were", left, open)
	}
}

// snapshot is all that a folder holds: names, sizes, times and modes.
func snapshot(t *testing.T, folder string) string {
	t.Helper()
	var all strings.Builder
	must(t, filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := entry.Info()
		fmt.Fprintln(&all, path, info.Size(), info.Mode(), info.ModTime())
		return err
	}))
	return all.String()
}

func descriptors(t *testing.T) int {
	t.Helper()
	entries, err := os.ReadDir("/proc/self/fd")
	must(t, err)
	return len(entries)
}

// What happens to the folder after it was listed, or to where its files go, is said of the
// file that it is about; the rest is put, and nothing hangs or stays open.
func TestASourceThatChanges(t *testing.T) {
	for name, c := range map[string]struct {
		change func(t *testing.T, file, copied string)
		says   string
	}{
		"is cut short":     {func(t *testing.T, file, _ string) { must(t, os.Truncate(file, 70_000)) }, "shorter than it was"},
		"is gone":          {func(t *testing.T, file, _ string) { must(t, os.Remove(file)) }, "no such file"},
		"became a pipe":    {func(t *testing.T, file, _ string) { must(t, os.Remove(file), unix.Mkfifo(file, 0o644)) }, ""},
		"became a link":    {func(t *testing.T, file, _ string) { must(t, os.Remove(file), os.Symlink("/etc/passwd", file)) }, "symbolic links"},
		"cannot be copied": {func(t *testing.T, _, copied string) { must(t, os.MkdirAll(copied, 0o755)) }, "is a directory"},
	} {
		for _, threads := range []bool{false, true} {
			from := t.TempDir()
			for i := range 40 {
				must(t, os.WriteFile(filepath.Join(from, fmt.Sprintf("%02d.dat", i)), make([]byte, 150_000), 0o644))
			}
			spec := putting(t, from, false)
			spec.OnError = workload.Continue
			v := planted(t, t.TempDir(), noted{}, spec)
			must(t, v.Ready(t.Context(), spec, nil))
			opened, err := v.Use(t.Context(), spec)
			must(t, err)
			open := descriptors(t)
			c.change(t, filepath.Join(from, string(loadfiles.Of(spec).Listed().Path(nil, 7))), filepath.Join(filesOf(v), string(loadfiles.Of(spec).Listed().Numbered().Path(nil, 7))))
			if threads {
				opened = byThreads{opened.(*openedTree)}
			}
			outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
			must(t, err)
			faults := fmt.Sprintf("%+v", outcome.Summary.Faults)
			if n := outcome.Summary.Classes[measure.File].Operations; n != 39 || len(outcome.Summary.Faults) == 0 || !strings.Contains(faults, c.says) {
				t.Errorf("%s (threads: %t): %d whole files, %s", name, threads, n, faults)
			}
			if left := descriptors(t); left > open {
				t.Errorf("%s (threads: %t): %d descriptors are open, %d were", name, threads, left, open)
			}
			must(t, opened.Close(), v.Close())
		}
	}
}

func TestSourcesThatAreNone(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "file")
	if _, err := ListSource(t.Context(), folder); err == nil || !strings.Contains(err.Error(), "there are no files") {
		t.Errorf("an empty folder: %v", err)
	}
	must(t, os.WriteFile(file, []byte("x"), 0o644))
	for _, path := range []string{file, filepath.Join(folder, "none")} {
		if _, err := ListSource(t.Context(), path); err == nil {
			t.Errorf("%s was listed", path)
		}
	}
	if _, err := OpenSource(putting(t, folder, false)); !errors.Is(err, volume.ErrNotStorage) {
		t.Errorf("a load that writes opened the source: %v", err)
	}
}
