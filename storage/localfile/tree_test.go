package localfile

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// noted remembers the names that were noted.
type noted map[string]string

func (n noted) Note(path, nonce string) error { n[path] = nonce; return nil }
func (n noted) Forget(path string)            { delete(n, path) }
func (n noted) Left(string)                   {}

func treeLoad(task loadfiles.Task, change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	loadfiles.Use(&s, fileset.Set{Classes: []fileset.Class{
		{Name: "scans", Number: 3, Ending: ".tif", Size: fileset.Sizes{Fixed: 2_000_001}, Compressible: 0.5},
		{Name: "notes", Number: 150, Size: fileset.Sizes{From: 0, To: 9000}, Folders: fileset.Folders{Files: 20, Deep: 2}},
	}})
	loadfiles.Of(s).Tasks = []loadfiles.TaskShare{{Task: task, Weight: 1}}
	loadfiles.Of(s).Piece, s.For, s.Passes, s.Depth = 64*quantity.KiB, 0, 1, 12
	change(&s)
	return s
}

// planted makes a folder ready for a load of files.
func planted(t *testing.T, folder string, traces volume.Traces, spec workload.Spec) *Volume {
	t.Helper()
	v, err := Opener{Traces: traces}.prepare(t.Context(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Files: []workload.Spec{spec}, NoBlocks: true})
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// run makes the files ready, and measures; by threads where that is asked for.
func run(t *testing.T, v *Volume, spec workload.Spec, threads bool) *load.Outcome {
	t.Helper()
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		t.Fatal(err)
	}
	opened, err := v.Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	if threads {
		opened = byThreads{opened.(*openedTree)}
	}
	outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil || outcome.Failure != nil {
		t.Fatal(err, outcome.Failure)
	}
	return outcome
}

// byThreads is a tree whose queues are the portable ones.
type byThreads struct{ *openedTree }

func (b byThreads) Open(options load.QueueOptions) (load.Queue, error) {
	memory, err := mapBuffers(options)
	if err != nil {
		return nil, err
	}
	names, err := mapNames(b.files, options.Depth)
	if err != nil {
		return nil, err
	}
	var from *source
	if b.from != nil {
		if from, err = openSource(loadfiles.Of(b.spec).Listed(), int(b.from.Fd()), options); err != nil {
			return nil, err
		}
	}
	return openTreeThreads(newTreeCalls(names, memory, int(b.root.Fd()), !b.cache, from, options), options.Depth), nil
}

// found is what a tree holds, by name.
func found(t *testing.T, v *Volume) map[string]int64 {
	t.Helper()
	files := map[string]int64{}
	err := filepath.WalkDir(filesOf(v), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		info, err := entry.Info()
		files[strings.TrimPrefix(path, filesOf(v)+"/")] = info.Size()
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// Every task leaves the files that it should, of the sizes that the set says, and counts
// what the file system holds; on a ring and on threads, through the host's memory and
// around it. Afterwards nothing is left of them.
func TestTasksOnRealFiles(t *testing.T) {
	for folder, ways := range map[string][]struct{ threads, cached bool }{
		t.TempDir():     {{false, false}, {true, true}},
		memoryFolder(t): {{false, true}, {true, false}},
	} {
		for _, c := range ways {
			traces := noted{}
			var v *Volume
			for _, task := range []loadfiles.Task{loadfiles.Put, loadfiles.Fetch, loadfiles.Save, loadfiles.Ask, loadfiles.Browse, loadfiles.Remove, loadfiles.Fetch} {
				spec := treeLoad(task, func(s *workload.Spec) {
					s.Cached = c.cached
					s.Workers = 2
				})
				if v == nil {
					v = planted(t, folder, traces, spec)
				}
				files, err := loadfiles.Of(spec).WorkedOut()
				if err != nil {
					t.Fatal(err)
				}
				o := run(t, v, spec, c.threads)
				s := o.Summary
				if done := s.Classes[measure.File].Operations; done != files.Len() || s.Ending != measure.ByPasses {
					t.Errorf("%s: %d of %d files, and it ended by %s", task, done, files.Len(), s.Ending)
				}
				if writes := task == loadfiles.Put || task == loadfiles.Save; writes != (s.Classes[measure.Write].Bytes == files.Bytes()) {
					t.Errorf("%s wrote %s", task, s.Classes[measure.Write].Bytes)
				}
				if reads := task == loadfiles.Fetch || task == loadfiles.Save; reads != (s.Classes[measure.Read].Bytes == files.Bytes()) {
					t.Errorf("%s read %s", task, s.Classes[measure.Read].Bytes)
				}
				if want := map[bool]string{true: "threads", false: "io_uring"}[c.threads]; s.Interface != want {
					t.Errorf("it went through %s", s.Interface)
				}
				have := found(t, v)
				if task == loadfiles.Remove {
					if len(have) != 0 {
						t.Errorf("%d files are left", len(have))
					}
					continue
				}
				if int64(len(have)) != files.Len() {
					t.Errorf("%s left %d files of %d", task, len(have), files.Len())
				}
				for i := range files.Len() {
					if name := string(files.Path(nil, i)); have[name] != int64(files.At(i).Size) {
						t.Fatalf("%s: %s has %d bytes, not %d", task, name, have[name], files.At(i).Size)
					}
				}
			}
			if err := v.Close(); err != nil || len(traces) > 0 {
				t.Errorf("closed with %v, and %d names are noted", err, len(traces))
			}
			if left, _ := os.ReadDir(folder); len(left) > 0 {
				t.Fatalf("left behind: %v", left)
			}
		}
	}
}

// memoryFolder is a folder on a file system in memory.
func memoryFolder(t *testing.T) string {
	folder, err := os.MkdirTemp("/dev/shm", "heron-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(folder) })
	return folder
}

// What is in the files is what their places say: made before a load, or written by it.
func TestContentsOfRealFiles(t *testing.T) {
	for _, task := range []loadfiles.Task{loadfiles.Fetch, loadfiles.Put} {
		spec := treeLoad(task, func(*workload.Spec) {})
		v := planted(t, t.TempDir(), noted{}, spec)
		run(t, v, spec, false)
		files, _ := loadfiles.Of(spec).WorkedOut()
		for i := range files.Len() {
			f := files.At(i)
			got, err := os.ReadFile(filepath.Join(filesOf(v), string(files.Path(nil, i))))
			if err != nil {
				t.Fatal(err)
			}
			if task == loadfiles.Fetch {
				want, content := make([]byte, f.Size), loadfiles.FileContent(spec, f.Class)
				for at := 0; at < len(want); at += 1 << 20 {
					loadfiles.FillFile(content, want[at:min(at+1<<20, len(want))], i, int64(at))
				}
				if !bytes.Equal(got, want) {
					t.Fatalf("file %d holds something else", i)
				}
				continue
			}
			source, err := workload.NewSource(spec, 0)
			if err != nil {
				t.Fatal(err)
			}
			if want := written(source, i, int64(f.Size)); !bytes.Equal(got, want) {
				t.Fatalf("file %d of %d bytes holds something else", i, len(got))
			}
		}
		if err := v.Close(); err != nil {
			t.Error(err)
		}
	}
}

// written is what a source writes to a file.
func written(source workload.Source, file, size int64) []byte {
	content := make([]byte, size)
	for now := int64(0); !source.Over(); now++ {
		var a workload.Access
		source.Next(&a)
		if a.Class == measure.Write {
			part := make([]byte, a.Length)
			source.Fill(part)
			if int64(a.Object) == file {
				copy(content[a.Offset:], part)
			}
		}
		source.Completed(&a, now, nil)
	}
	return content
}

// A tree that was partly used is completed for the next load, and made anew for another set.
func TestTreesAreMadeReady(t *testing.T) {
	spec := treeLoad(loadfiles.Fetch, func(*workload.Spec) {})
	v := planted(t, t.TempDir(), noted{}, spec)
	defer v.Close()
	run(t, v, spec, false)
	before := found(t, v)
	names := slices.Collect(func(yield func(string) bool) {
		for name := range before {
			if !yield(name) {
				return
			}
		}
	})
	slices.Sort(names)
	kept, err := os.Stat(filepath.Join(filesOf(v), names[5]))
	if err != nil {
		t.Fatal(err)
	}
	spoil := func(err error) {
		if err != nil {
			t.Fatal(err)
		}
	}
	spoil(os.Remove(filepath.Join(filesOf(v), names[0])))
	spoil(os.Truncate(filepath.Join(filesOf(v), names[2]), 1))
	spoil(os.WriteFile(filepath.Join(filesOf(v), names[3]+besides), nil, 0o600))
	v.trees[0].whole = false
	run(t, v, treeLoad(loadfiles.Save, func(*workload.Spec) {}), false)
	if after := found(t, v); len(after) != len(before) {
		t.Errorf("%d files, where %d were", len(after), len(before))
	}
	now, err := os.Stat(filepath.Join(filesOf(v), names[5]))
	if err != nil || os.SameFile(kept, now) {
		t.Errorf("save did not put another file in the place of the one before (%v)", err)
	}
	other := treeLoad(loadfiles.Fetch, func(s *workload.Spec) {
		loadfiles.Use(s, fileset.Set{Classes: []fileset.Class{{Name: "one", Number: 4}}})
	})
	run(t, v, other, false)
	if after := found(t, v); len(after) != 4 {
		t.Errorf("%d files of another set", len(after))
	}
}

// What there is no room for is refused before anything is made, and stops being made when
// the room is used up; nothing of it stays.
func TestTreesWithoutRoom(t *testing.T) {
	folder := t.TempDir()
	for _, set := range []fileset.Class{{Name: "large", Number: 1, Size: fileset.Sizes{Fixed: 1 << 50}}, {Name: "many", Number: 90_000_000}} {
		spec := treeLoad(loadfiles.Put, func(s *workload.Spec) { loadfiles.Use(s, fileset.Set{Classes: []fileset.Class{set}}) })
		_, err := Opener{Traces: noted{}}.Prepare(t.Context(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Files: []workload.Spec{spec}, NoBlocks: true})
		if !errors.Is(err, volume.ErrNoSpace) {
			t.Errorf("%s: %v", set.Name, err)
		}
	}
	spec := treeLoad(loadfiles.Put, func(*workload.Spec) {})
	if _, err := (Opener{}).prepare(t.Context(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Files: []workload.Spec{spec}, NoBlocks: true}); err == nil {
		t.Error("files are made that nobody notes")
	}
	traces := noted{}
	v := planted(t, folder, traces, spec)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	if err := v.Ready(stopped, treeLoad(loadfiles.Fetch, func(*workload.Spec) {}), nil); !errors.Is(err, context.Canceled) {
		t.Errorf("stopped, and %v", err)
	}
	if err := v.Close(); err != nil || len(traces) > 0 {
		t.Error(err, traces)
	}
	if left, _ := os.ReadDir(folder); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// Folders of files that were left behind are known by their name, measured and removed;
// what looks like them is not.
func TestTreesLeftBehind(t *testing.T) {
	folder := t.TempDir()
	spec := treeLoad(loadfiles.Fetch, func(*workload.Spec) {})
	traces := noted{}
	v := planted(t, folder, traces, spec)
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		t.Fatal(err)
	}
	files, _ := loadfiles.Of(spec).WorkedOut()
	if size, is, err := LeftBehind(v.trees[0].path, traces[v.trees[0].path]); !is || err != nil || size != files.Bytes() {
		t.Errorf("%s of %s, %t, %v", size, files.Bytes(), is, err)
	}
	outside := filepath.Join(folder, "precious")
	if err := errors.Join(os.Mkdir(outside, 0o700), os.WriteFile(filepath.Join(outside, "data"), []byte("x"), 0o600), os.Symlink(outside, filepath.Join(filesOf(v), "link"))); err != nil {
		t.Fatal(err)
	}
	if err := RemoveLeft(v.trees[0].path, traces[v.trees[0].path]); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(v.trees[0].path); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("it is still there: %v", err)
	}
	if _, err := os.Stat(filepath.Join(outside, "data")); err != nil {
		t.Errorf("what a link led to was removed: %v", err)
	}
	for _, name := range []string{".patient-heron-files-short", ".patient-heron-ABCDEFGHIJKLMNOPQRSTUVWX23"} {
		path := filepath.Join(folder, name)
		if err := os.Mkdir(path, 0o700); err != nil {
			t.Fatal(err)
		}
		if _, is, _ := LeftBehind(path, ""); is {
			t.Errorf("%s is taken for one of ours", name)
		}
		if err := RemoveLeft(path, ""); err != nil {
			t.Error(err)
		}
		if _, err := os.Stat(path); err != nil {
			t.Errorf("%s was removed: %v", name, err)
		}
	}
}

// Nothing is opened through a link that stands where a file should.
func TestLinksInTreesAreNotFollowed(t *testing.T) {
	folder := t.TempDir()
	spec := treeLoad(loadfiles.Fetch, func(s *workload.Spec) { s.OnError = workload.Continue })
	v := planted(t, folder, noted{}, spec)
	defer v.Close()
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		t.Fatal(err)
	}
	files, _ := loadfiles.Of(spec).WorkedOut()
	victim := filepath.Join(filesOf(v), string(files.Path(nil, 1)))
	if err := errors.Join(os.Remove(victim), os.Symlink("/etc/passwd", victim)); err != nil {
		t.Fatal(err)
	}
	opened, err := v.Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	o, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil || len(o.Summary.Faults) != 1 || o.Summary.Faults[0].Of != "opens" || !strings.Contains(o.Summary.Faults[0].First, unix.ELOOP.Error()) {
		t.Errorf("%v, %+v", err, o.Summary.Faults)
	}
}

// filesOf is where the files of a volume's first tree lie.
func filesOf(v *Volume) string { return filepath.Join(v.trees[0].path, inTree) }
