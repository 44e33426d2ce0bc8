package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"patientheron/core/fileset"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/resource"
)

// manyFiles is a load over so many small files that they take a while to be made and removed.
func manyFiles() workload.Spec {
	return spec(func(w *workload.Spec) {
		*w = workload.Default()
		files.Use(w, fileset.Set{Classes: []fileset.Class{{Name: "notes", Number: 30_000, Size: fileset.Sizes{Fixed: 100}, Folders: fileset.Folders{Files: 500, Deep: 1}}}})
		files.Of(*w).Tasks = []files.TaskShare{{Task: files.Fetch, Weight: 1}}
		w.Cached, w.For, w.Passes = true, 600, 0
	})
}

// A service that is told to end, by whatever signal and whenever, leaves nothing behind that it
// does not name.
func TestASignalLeavesNothingUnnamed(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		signal syscall.Signal
		at     func(s *service, id int64) // waits until the moment
		twice  bool
	}{
		"SIGTERM while files are made": {syscall.SIGTERM, func(s *service, id int64) { s.until(id, resource.Preparing) }, false},
		"SIGINT while they are read":   {syscall.SIGINT, func(s *service, id int64) { s.until(id, resource.Running) }, false},
		"the terminal ends meanwhile":  {syscall.SIGHUP, func(s *service, id int64) { s.until(id, resource.Running) }, false},
		"SIGTERM while they are removed": {syscall.SIGTERM, func(s *service, id int64) {
			s.until(id, resource.Running)
			ok(s.t, s.StopRun(s.t.Context(), id, false))
		}, false},
		"twice": {syscall.SIGTERM, func(s *service, id int64) { s.until(id, resource.Running) }, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			folder := t.TempDir()
			s := serve(t, t.TempDir(), false)
			run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: s.volume(folder, nil).ID, Plan: onePlan(manyFiles())})
			ok(t, err)
			c.at(s, run.ID)
			if c.twice {
				ok(t, s.process.Process.Signal(c.signal))
				time.Sleep(1500 * time.Millisecond) // the first has begun to be seen to
			}
			s.end(c.signal)
			left, err := filepath.Glob(filepath.Join(folder, ".patient-heron-*"))
			ok(t, err)
			log, err := os.ReadFile(s.logFile)
			ok(t, err)
			if !c.twice && len(left) > 0 {
				t.Errorf("%v stays:\n%s", left, log)
			}
			if c.twice && len(left) > 0 && !strings.Contains(string(log), "leftover") {
				t.Errorf("%v stays without a word:\n%s", left, log)
			}
			s = serve(t, s.data, false)
			files, err := s.Leftovers(t.Context())
			ok(t, err)
			if len(files) != len(left) {
				t.Errorf("%v is left, and %+v is named", left, files)
			}
			for _, f := range files {
				err := s.RemoveLeftover(t.Context(), f.ID)
				for end := time.Now().Add(2 * time.Minute); err != nil && strings.Contains(err.Error(), "does not answer") && time.Now().Before(end); {
					time.Sleep(time.Second) // many files of a busy machine
					if gone, _ := filepath.Glob(filepath.Join(folder, ".patient-heron-*")); len(gone) == 0 {
						err = nil
						break
					}
					err = s.RemoveLeftover(t.Context(), f.ID)
				}
				ok(t, err)
			}
			if left, _ = filepath.Glob(filepath.Join(folder, ".patient-heron-*")); len(left) > 0 {
				t.Errorf("%v stays after it was removed", left)
			}
		})
	}
}

// until waits until a run stands so.
func (s *service) until(id int64, status resource.Status) {
	s.t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		run, err := s.Run(s.t.Context(), id)
		ok(s.t, err)
		if run.Status == status {
			return
		}
		if run.Status.Final() {
			s.t.Fatalf("it is %s: %s", run.Status, run.Reason)
		}
	}
	s.t.Fatalf("run %d is never %s", id, status)
}

// Threads that the kernel would refuse, which ends a process, are asked for before: the run is
// refused, and the service lives.
func TestALimitOfThreadsIsAskedFor(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	group := ""
	for _, root := range []string{"/sys/fs/cgroup/pids", "/sys/fs/cgroup"} {
		if group = filepath.Join(root, fmt.Sprintf("heron-test-%d", s.process.Process.Pid)); os.Mkdir(group, 0o755) == nil {
			break
		}
	}
	t.Cleanup(func() { s.end(syscall.SIGKILL); _ = os.Remove(group) })
	ok(t, os.WriteFile(filepath.Join(group, "pids.max"), []byte("90"), 0o600), os.WriteFile(filepath.Join(group, "cgroup.procs"), []byte(strconv.Itoa(s.process.Process.Pid)), 0o600))
	folder := s.volume(t.TempDir(), nil)
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: folder.ID, Plan: onePlan(spec(func(w *workload.Spec) { w.Span, w.Workers, w.Depth, w.For = 8<<20, 200, 1, 0.2 }))})
	if err == nil {
		detail := s.finished(run.ID)
		err = errors.New(detail.Reason)
	}
	if !strings.Contains(err.Error(), "pids.max 90") || !strings.Contains(err.Error(), "use at most") {
		t.Errorf("200 workers: %v", err)
	}
	if run := s.measured(folder, onePlan(spec(func(w *workload.Spec) { w.Span, w.Workers, w.Depth, w.For = 8<<20, 2, 1, 0.2 }))); run.Status != resource.Finished {
		t.Errorf("two workers: %s: %s", run.Status, run.Reason)
	}
}

// The program tells nothing of the machine that it was built on.
func TestTheProgramTellsNoPaths(t *testing.T) {
	program, err := os.ReadFile(heron)
	ok(t, err)
	here, err := filepath.Abs("../..")
	ok(t, err)
	places := []string{here + "/"}
	for _, name := range []string{"GOMODCACHE", "GOROOT", "GOCACHE"} {
		places = append(places, must(t, "go", "env", name)+"/")
	}
	for _, place := range places {
		if strings.Contains(string(program), place) {
			t.Errorf("it holds %s", place)
		}
	}
}

// A calculation that is told to end, or whose service is, ends in time, keeps nothing half
// made, and can be done again.
func TestASignalEndsACalculation(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	array := written(t, "array.yaml", fmt.Sprintf(deliveredDisks, 4))
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Name: "pool", Locator: "array:" + array}); err != nil {
		t.Fatal(err)
	}
	if _, trouble, err := s.cli("measure", "pool", "--plan", written(t, "know.yaml", knowDisks)); err != nil {
		t.Fatal(err, trouble)
	}
	to := t.TempDir()
	fit := []string{"twin", "fit", "pool", "--guess", written(t, "sold.yaml", soldDisks), "--name", "mine", "--to", filepath.Join(to, "twin.yaml")}
	of := func(arguments ...string) *exec.Cmd {
		command := exec.Command(heron, append(arguments, "--data", s.data)...)
		command.Stdout, command.Stderr = &bytes.Buffer{}, &bytes.Buffer{}
		ok(t, command.Start())
		time.Sleep(700 * time.Millisecond) // it is at work
		return command
	}
	ended := func(what string, command *exec.Cmd) string {
		t.Helper()
		over := time.AfterFunc(time.Minute, func() { _ = command.Process.Kill() })
		err := command.Wait()
		said := fmt.Sprint(command.Stdout, command.Stderr)
		if !over.Stop() || strings.Contains(said, "goroutine") {
			t.Errorf("%s: %v: %s", what, err, said)
		}
		return said
	}
	for n, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP} {
		command := of(fit...)
		ok(t, command.Process.Signal(signal))
		if said := ended("the command is told to end", command); said == "" || strings.Contains(said, "fitted") {
			t.Errorf("%v: it says %q", signal, said)
		}
		until(t, "the service ends the fit", func() bool { // there is one at a time
			f, err := s.Fit(t.Context(), int64(n+1))
			return err == nil && !f.Ended.IsZero()
		})
	}
	command := of(fit...)
	s.end(syscall.SIGTERM)
	if said := ended("its service is told to end", command); !strings.Contains(said, filepath.Join(s.data, "socket")) {
		t.Errorf("it says %q", said)
	}
	for _, signal := range []syscall.Signal{syscall.SIGTERM, syscall.SIGINT, syscall.SIGHUP} {
		command := of(append(fit, "--here")...)
		ok(t, command.Process.Signal(signal))
		if said := ended("a fit without a service", command); said == "" || strings.Contains(said, "fitted") {
			t.Errorf("%v: it says %q", signal, said)
		}
		command = of("array", "serve", array, "--listen", "127.0.0.1:0")
		ok(t, command.Process.Signal(signal))
		if said := ended("a served array", command); !strings.Contains(said, "iqn.") {
			t.Errorf("%v: it says %q", signal, said)
		}
	}
	s = serve(t, s.data, false)
	twins, err := s.Twins(t.Context())
	ok(t, err)
	files, err := os.ReadDir(to)
	ok(t, err)
	if len(twins) > 0 || len(files) > 0 {
		t.Errorf("left: %+v, %v", twins, files)
	}
	if out, trouble, err := s.cli(append(fit, "--free", "members[0].outerRate")...); err != nil || !strings.Contains(out, "fitted") {
		t.Errorf("again: %v: %s%s", err, out, trouble)
	}
}
