package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/resource"
)

// someFiles is a load of a few hundred files of two classes, gone through once.
func someFiles(task files.Task, change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	files.Use(&s, fileset.Set{Classes: []fileset.Class{
		{Name: "scans", Number: 4, Size: fileset.Sizes{Fixed: 3_000_001}, Ending: ".tif"},
		{Name: "notes", Number: 400, Size: fileset.Sizes{From: 0, To: 20_000}, Folders: fileset.Folders{Files: 30, Deep: 2}},
	}})
	files.Of(s).Tasks = []files.TaskShare{{Task: task, Weight: 1}}
	s.For, s.Passes, s.Depth = 0, 1, 8
	if change != nil {
		change(&s)
	}
	return s
}

// allTasks does everything with the files, one task after the other.
func allTasks(change func(*workload.Spec)) (p plan.Plan) {
	for _, task := range []files.Task{files.Put, files.Fetch, files.Save, files.Browse, files.Ask, files.Remove} {
		p.Stages = append(p.Stages, plan.Stage{Load: someFiles(task, change)})
	}
	return p
}

// counted is how many files lie in a folder and below, and what they hold.
func counted(t *testing.T, folder string) (files int64, bytes quantity.Bytes) {
	t.Helper()
	_ = filepath.WalkDir(folder, func(_ string, entry fs.DirEntry, err error) error {
		if err == nil && entry.Type().IsRegular() && entry.Name() != "owner" { // which says whose the tree is
			if info, err := entry.Info(); err == nil {
				files++
				bytes += quantity.Bytes(info.Size())
			}
		}
		return nil
	})
	return files, bytes
}

// Files are worked on in folders of many kinds: what is counted is what the file system
// holds meanwhile, what it refuses is said, and afterwards nothing is left.
func TestFilesOnManyFileSystems(t *testing.T) {
	for name, where := range map[string]struct {
		make   func(*testing.T) string
		cached bool
	}{
		"ext4":  {func(t *testing.T) string { return mounted(t, loopDevice(t, 256<<20), "mkfs.ext4", "-q") }, false},
		"xfs":   {func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.xfs", "-q") }, false},
		"btrfs": {func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.btrfs", "-q") }, true},
		"tmpfs": {func(t *testing.T) string { return mountAt(t, "-t", "tmpfs", "tmpfs") }, false},
		"overlay": {func(t *testing.T) string {
			lower, upper := t.TempDir(), mountAt(t, "-t", "tmpfs", "tmpfs")
			must(t, "mkdir", upper+"/upper", upper+"/work")
			return mountAt(t, "-t", "overlay", "-o", "lowerdir="+lower+",upperdir="+upper+"/upper,workdir="+upper+"/work", "overlay")
		}, true},
		"union, most room first":  {unionBy("mfs"), true},
		"union, one after other":  {unionBy("ff"), true},
		"union, paths stay where": {unionBy("epmfs"), true},
		"remote":                  {func(t *testing.T) string { point, _ := remote(t); return point }, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := where.make(t)
			before := held(t, []string{folder})
			s := serve(t, t.TempDir(), false)
			volume := s.volume(folder, nil)
			cached := func(l *workload.Spec) { l.Cached = where.cached }
			p := allTasks(cached)
			detail := s.measured(volume, p)
			if detail.Status != resource.Finished {
				t.Fatalf("%s: %s", detail.Status, detail.Reason)
			}
			set, err := files.Of(p.Stages[0].Load).WorkedOut()
			if err != nil {
				t.Fatal(err)
			}
			for _, m := range detail.Measurements {
				done := m.Summary.Classes[measure.File]
				refused := int64(0)
				for _, f := range m.Summary.Faults {
					if f.Of == "" || f.Kind == "other" {
						t.Errorf("%s: %+v", m.Name, f)
					}
					refused += f.Count
				}
				if done.Operations+refused < set.Len() || refused == 0 && done.Operations != set.Len() || m.Summary.Ending != measure.ByPasses {
					t.Errorf("%s: %d of %d files, %d refusals, ended by %s", m.Name, done.Operations, set.Len(), refused, m.Summary.Ending)
				}
			}
			if left := held(t, []string{folder}); len(left) != len(before) {
				t.Errorf("left behind: %v", left)
			}

			// While a load reads, the file system holds what the set says.
			id := s.begun(volume, onePlan(someFiles(files.Fetch, func(l *workload.Spec) { cached(l); l.For, l.Passes = 60, 0 })))
			until(t, "it measures", func() bool {
				detail, err := s.Run(t.Context(), id)
				return err == nil && detail.Status == resource.Running
			})
			if count, bytes := counted(t, folder); count != set.Len() || bytes != set.Bytes() {
				t.Errorf("%d files of %s, and the file system holds %d of %s", set.Len(), set.Bytes(), count, bytes)
			}
			if err := s.StopRun(t.Context(), id, false); err != nil {
				t.Error(err)
			}
			s.finished(id)
			until(t, "nothing is left behind", func() bool { return len(held(t, []string{folder})) == len(before) })
		})
	}
}

// unionBy mounts three folders as one, with a policy for where files are made.
func unionBy(policy string) func(*testing.T) string {
	return func(t *testing.T) string {
		point := t.TempDir()
		branches := []string{t.TempDir(), t.TempDir(), t.TempDir()}
		must(t, "mergerfs", "-o", "category.create="+policy, strings.Join(branches, ":"), point)
		t.Cleanup(func() { _ = unix.Unmount(point, unix.MNT_DETACH) })
		return point
	}
}

// A service that is killed while it works on files finds them at its next start, says how
// much they hold, and removes them when it is told to, and nothing else.
func TestFilesOfAKilledServiceAreFound(t *testing.T) {
	folder, data := t.TempDir(), t.TempDir()
	precious := filepath.Join(folder, "precious")
	ok(t, os.WriteFile(precious, []byte("precious"), 0o600))
	s := serve(t, data, false)
	load := someFiles(files.Fetch, func(l *workload.Spec) { l.For, l.Passes = 60, 0 })
	id := s.begun(s.volume(folder, nil), onePlan(load))
	until(t, "it measures", func() bool {
		detail, err := s.Run(t.Context(), id)
		return err == nil && detail.Status == resource.Running
	})
	if left, err := s.Leftovers(t.Context()); err != nil || len(left) > 0 {
		t.Errorf("what is worked on counts as left behind: %+v (%v)", left, err)
	}
	_ = s.process.Process.Signal(syscall.SIGKILL)
	_, _ = s.process.Process.Wait()
	again := serve(t, data, false)
	files, _ := files.Of(load).WorkedOut()
	left, err := again.Leftovers(t.Context())
	if err != nil || len(left) != 1 || left[0].Size != files.Bytes() {
		t.Fatalf("%+v is listed, and %s are there (%v)", left, files.Bytes(), err)
	}
	if out, _, err := again.cli("leftover", "list"); err != nil || !strings.Contains(out, left[0].Path) {
		t.Errorf("%v: %s", err, out)
	}
	if out, trouble, err := again.cli("leftover", "remove", "--all"); err != nil {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if names := held(t, []string{folder}); len(names) != 1 || names[0] != precious {
		t.Errorf("the folder holds %v", names)
	}
}

// A disk that becomes full while files are copied is a recorded result, with what worked
// before; there is room again when the run has ended.
func TestDiskFullAmongFiles(t *testing.T) {
	folder := mounted(t, loopDevice(t, 128<<20), "mkfs.ext4", "-q")
	s := serve(t, t.TempDir(), false)
	load := someFiles(files.Put, func(l *workload.Spec) { l.For, l.Passes = 60, 0 })
	files.Of(load).Set.Classes[0].Number = 10
	id := s.begun(s.volume(folder, nil), onePlan(load))
	until(t, "it measures", func() bool {
		detail, err := s.Run(t.Context(), id)
		return err == nil && detail.Status == resource.Running
	})
	free := filled(t, folder)
	detail := s.finished(id)
	free()
	if detail.Status != resource.Failed || !strings.Contains(detail.Reason, "no space") {
		t.Errorf("%s: %s", detail.Status, detail.Reason)
	}
	m := detail.Measurements[0]
	if m.Summary == nil || len(m.Summary.Faults) == 0 || m.Summary.Faults[0].Kind != "no space" || m.Summary.Classes[measure.File].Operations == 0 {
		t.Errorf("recorded: %+v", m.Summary)
	}
	until(t, "nothing is left behind", func() bool {
		for _, name := range held(t, []string{folder}) {
			if strings.Contains(name, "patient-heron") {
				return false
			}
		}
		return true
	})
	// What does not fit at all is refused before anything is made.
	large := someFiles(files.Put, func(l *workload.Spec) {
		files.Use(l, fileset.Set{Classes: []fileset.Class{{Name: "large", Number: 2, Size: fileset.Sizes{Fixed: quantity.GiB}}}})
	})
	if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: s.volumeAt(folder).ID, Plan: onePlan(large)}); err == nil || !strings.Contains(err.Error(), "free") {
		t.Errorf("got %v", err)
	}
	if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: s.volume("null:1TiB", nil).ID, Plan: onePlan(large)}); err == nil || !strings.Contains(err.Error(), "folder") {
		t.Errorf("got %v", err)
	}
}

// A share that goes away while its files are worked on fails the measurement in so many
// words; what may still be there is kept in mind, and can be forgotten.
func TestShareVanishesAmongFiles(t *testing.T) {
	point, branches := remote(t)
	s := serve(t, t.TempDir(), false)
	load := someFiles(files.Fetch, func(l *workload.Spec) { l.For, l.Passes, l.Cached = 60, 0, true })
	id := s.begun(s.volume(point, nil), onePlan(load))
	until(t, "it measures", func() bool {
		detail, err := s.Run(t.Context(), id)
		return err == nil && detail.Status == resource.Running
	})
	ok(t, unix.Unmount(point, unix.MNT_FORCE|unix.MNT_DETACH))
	detail := s.finished(id)
	if detail.Status != resource.Failed || detail.Measurements[0].Summary == nil || len(detail.Measurements[0].Summary.Faults) == 0 {
		t.Fatalf("%s: %s", detail.Status, detail.Reason)
	}
	if f := detail.Measurements[0].Summary.Faults[0]; f.Kind == "other" || f.Of == "" {
		t.Errorf("%+v", f)
	}
	// Its files are on the other side, and nothing of them is here any more.
	if len(held(t, branches)) != 1 {
		t.Errorf("the share holds %v", held(t, branches))
	}
	until(t, "nothing of it is listed", func() bool {
		left, err := s.Leftovers(t.Context())
		return err == nil && len(left) == 0
	})
}

// A stop ends a run at once although its files take longer to be removed; the next run
// waits for that, so that it measures nothing of it.
func TestNextRunWaitsForFilesToBeRemoved(t *testing.T) {
	t.Parallel()
	point, branches := remote(t) // which removes slowly
	s := serve(t, t.TempDir(), false)
	volume := s.volume(point, nil)
	many := someFiles(files.Fetch, func(l *workload.Spec) {
		files.Use(l, fileset.Set{Classes: []fileset.Class{{Name: "notes", Number: 15_000, Size: fileset.Sizes{Fixed: 100}, Folders: fileset.Folders{Files: 100}}}})
		l.For, l.Passes, l.Cached = 60, 0, true
	})
	running := func(id int64) {
		t.Helper()
		until(t, "it measures", func() bool {
			detail, err := s.Run(t.Context(), id)
			return err == nil && detail.Status == resource.Running
		})
	}
	first := s.begun(volume, onePlan(many))
	running(first)
	ok(t, s.StopRun(t.Context(), first, false))
	if detail := s.finished(first); detail.Status != resource.Stopped {
		t.Fatalf("%s: %s", detail.Status, detail.Reason)
	}
	left := held(t, branches)
	second := s.begun(volume, onePlan(someFiles(files.Ask, func(l *workload.Spec) { l.For, l.Passes, l.Cached = 60, 0, true })))
	running(second)
	for _, name := range left {
		if _, err := os.Stat(name); err == nil {
			t.Errorf("%s is still being removed while the next run measures", name)
		}
	}
	if len(left) == 0 {
		t.Log("they were removed before the run had ended")
	}
	ok(t, s.StopRun(t.Context(), second, false))
	s.finished(second)
}

// Files are put from a folder whose device the kernel holds to a rate: that it is the limit
// is said, with the rate that it has by itself; each is there once, and the folder is as
// it was.
func TestASlowSourceIsNamed(t *testing.T) {
	device := quietDevice(t, 96<<20)
	from := mounted(t, device, "mkfs.ext4", "-q")
	for i := range 30 {
		ok(t, os.WriteFile(filepath.Join(from, fmt.Sprintf("take %02d.wav", i)), bytes.Repeat([]byte{byte(i)}, 1<<20), 0o644))
	}
	must(t, "sync", "-f", from)
	s := serve(t, t.TempDir(), false)
	throttle(t, s, device, 12<<20)
	target := t.TempDir()
	load := workload.Default()
	load.SetBody(&files.Files{From: from, Tasks: []files.TaskShare{{Task: files.Put, Weight: 1}}})
	load.For, load.Passes = 0, 1
	p := onePlan(load)
	run := s.measured(s.volume(target, nil), p)
	if run.Status != resource.Finished || len(run.Measurements) != 2 || run.Progress.Steps != 2 {
		t.Fatalf("%s: %s, %+v", run.Status, run.Reason, run.Progress)
	}
	alone, put := run.Measurements[0], run.Measurements[1]
	if rate := float64(alone.Summary.Total.Throughput); !files.ReadsSource(alone.Load) || rate > 1.15*(12<<20) || rate < 0.3*(12<<20) || !strings.HasSuffix(alone.Name, "the source alone") {
		t.Errorf("%s by itself: %.0f bytes a second", alone.Name, rate)
	}
	if put.Summary.Classes[measure.File].Operations != 30 || put.Summary.Total.Bytes != 30<<20 {
		t.Errorf("%+v", put.Summary.Classes[measure.File])
	}
	if !slices.ContainsFunc(put.Findings, func(f judge.Finding) bool { return f.Kind == "limited-by-source" && strings.Contains(f.Sentence, from) }) {
		t.Errorf("%.0f bytes a second, %+v", float64(put.Summary.Total.Throughput), put.Findings)
	}
	if out, said, err := s.cli("run", "show", "1"); err != nil || !strings.Contains(out, "put 30 files, 30 MiB in all, from "+from) {
		t.Errorf("%v %s %s", err, said, out)
	}
	if files, size := counted(t, from); files != 30 || size != 30<<20 {
		t.Errorf("%d files of %s are in the source", files, size)
	}
	if files, _ := counted(t, target); files != 0 {
		t.Errorf("%d files were left", files)
	}
	for arguments, says := range map[string]string{
		"--from " + from + " --task fetch":    "use task put",
		"--from " + from + "/none":            "does not exist",
		"--from " + from + " --files 10x4KiB": "leave files out",
		"--from " + device:                    "files are put from a folder",
	} {
		if _, said, err := s.cli(append([]string{"measure", target, "--passes", "1"}, strings.Fields(arguments)...)...); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %s", arguments, said)
		}
	}
}
