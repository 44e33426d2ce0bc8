// Package e2e tests the built product: the binary's service on loopback, its
// client, its command line and its console in Chromium, on real storage of
// this machine.
//
// The tests need the binary (make build), root, loop devices and Chromium, and
// fail where one of them is missing.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

var heron string // the built binary

func TestMain(m *testing.M) {
	var err error
	heron, err = filepath.Abs("../../bin/heron")
	if err == nil {
		_, err = os.Stat(heron)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "the binary is missing; run 'make build' first:", err)
		os.Exit(1)
	}
	if os.Geteuid() != 0 {
		fmt.Fprintln(os.Stderr, "these tests set up loop devices and other users; run them as root ('make test' uses sudo)")
		os.Exit(1)
	}
	os.Exit(m.Run())
}

// service is a running 'heron serve'.
type service struct {
	*client.Client
	t       *testing.T
	data    string
	url     string
	token   string
	link    string // signs in to the console
	process *exec.Cmd
	logFile string
}

var servesAt = regexp.MustCompile(`serves (http://\S+) from`)

// serve starts a service on a data folder, as the user nobody when asked.
func serve(t *testing.T, data string, asNobody bool, options ...string) *service {
	t.Helper()
	s := &service{t: t, data: data, logFile: filepath.Join(t.TempDir(), "log")}
	s.process = exec.Command(heron, append([]string{"serve", "--data", data, "--listen", "127.0.0.1:0", "--arrays", os.TempDir()}, options...)...)
	if asNobody {
		s.process.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	out := &lines{found: make(chan []string, 1)}
	log, err := os.Create(s.logFile)
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	s.process.Stdout, s.process.Stderr = out, log
	if err := s.process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.end(syscall.SIGKILL) })
	select {
	case found := <-out.found:
		s.url = found[1]
	case <-time.After(time.Minute):
		t.Fatalf("the service does not start:\n%s", s.said())
	}
	token, err := os.ReadFile(filepath.Join(data, "token"))
	if err != nil {
		t.Fatal(err)
	}
	s.token = strings.TrimSpace(string(token))
	s.link = s.url + "/sign-in#token=" + s.token
	s.Client = client.New(s.url, s.token, nil)
	return s
}

// lines looks for the address in what the service prints.
type lines struct {
	text  bytes.Buffer
	found chan []string
}

func (l *lines) Write(p []byte) (int, error) {
	l.text.Write(p)
	if found := servesAt.FindStringSubmatch(l.text.String()); found != nil && bytes.HasSuffix(p, []byte("\n")) {
		select {
		case l.found <- found:
		default:
		}
	}
	return len(p), nil
}

// said is what the service wrote to its log.
func (s *service) said() string {
	text, _ := os.ReadFile(s.logFile)
	return string(text)
}

// end sends the service a signal and waits until it is gone.
func (s *service) end(signal syscall.Signal) {
	if s.process.ProcessState == nil {
		_ = s.process.Process.Signal(signal)
		_ = s.process.Wait()
	}
}

// cli runs the command line against the service and gives its two outputs.
func (s *service) cli(arguments ...string) (string, string, error) {
	s.t.Helper()
	return runHeron(s.t, append([]string{"--data", s.data}, arguments...)...)
}

func runHeron(t *testing.T, arguments ...string) (string, string, error) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 6*time.Minute)
	defer cancel()
	command := exec.CommandContext(ctx, heron, arguments...)
	command.Dir = t.TempDir()
	var out, trouble bytes.Buffer
	command.Stdout, command.Stderr = &out, &trouble
	err := command.Run()
	return out.String(), trouble.String(), err
}

// must runs a system tool.
func must(t *testing.T, name string, arguments ...string) string {
	t.Helper()
	out, err := exec.Command(name, arguments...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(arguments, " "), err, out)
	}
	return strings.TrimSpace(string(out))
}

// loopDevice makes a block device of a sparse file.
func loopDevice(t *testing.T, size int64) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "backing")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if err := f.Truncate(size); err != nil {
		t.Fatal(err)
	}
	device := must(t, "losetup", "--find", "--show", file)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	return device
}

// mounted makes a file system on a device and mounts it.
func mounted(t *testing.T, device string, make ...string) string {
	t.Helper()
	must(t, make[0], append(make[1:], device)...)
	point := t.TempDir()
	must(t, "mount", device, point)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", point).Run() })
	return point
}

// unmount takes a file system away. Whoever is just looking at it (another
// test's service, a child between fork and exec) is waited for.
func unmount(t *testing.T, point string) {
	t.Helper()
	err := unix.Unmount(point, 0)
	for end := time.Now().Add(time.Minute); errors.Is(err, unix.EBUSY) && time.Now().Before(end); err = unix.Unmount(point, 0) {
		time.Sleep(10 * time.Millisecond)
	}
	if err != nil {
		t.Fatalf("unmount %s: %v", point, err)
	}
}

// spec is a short load.
func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span, s.For, s.Interval = 32<<20, 1, 0.25
	if change != nil {
		change(&s)
	}
	return s
}

func onePlan(s workload.Spec) plan.Plan { return plan.Plan{Stages: []plan.Stage{{Load: s}}} }

// volume registers a volume.
func (s *service) volume(locator string, consent *resource.ConsentToWrite) resource.Volume {
	s.t.Helper()
	v, err := s.AddVolume(s.t.Context(), resource.NewVolume{Locator: locator, Consent: consent})
	if err != nil {
		s.t.Fatal(err)
	}
	return v
}

// measured starts a plan and waits for its end.
func (s *service) measured(volume resource.Volume, p plan.Plan) resource.RunDetail {
	s.t.Helper()
	run, err := s.StartRun(s.t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		s.t.Fatal(err)
	}
	return s.finished(run.ID)
}

func (s *service) finished(id int64) resource.RunDetail {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), 3*time.Minute)
	defer cancel()
	if err := s.Watch(ctx, id, client.Watcher{}); err != nil {
		s.t.Fatal(err)
	}
	detail, err := s.Run(ctx, id)
	if err != nil {
		s.t.Fatal(err)
	}
	return detail
}

// begun starts a long run and waits until its first interval is there.
func (s *service) begun(volume resource.Volume, p plan.Plan) int64 {
	s.t.Helper()
	run, err := s.StartRun(s.t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		s.t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(s.t.Context(), 3*time.Minute)
	defer cancel()
	err = s.Watch(ctx, run.ID, client.Watcher{Point: func(resource.Point) { cancel() }})
	if ctx.Err() == nil || s.t.Context().Err() != nil {
		s.t.Fatalf("run %d did not begin: %v", run.ID, err)
	}
	return run.ID
}

// kept is how many intervals of a run's first measurement are kept by now.
func (s *service) kept(run int64) int {
	s.t.Helper()
	detail, err := s.Run(s.t.Context(), run)
	if err != nil || len(detail.Measurements) == 0 {
		s.t.Fatalf("%d measurements of run %d: %v", len(detail.Measurements), run, err)
	}
	series, err := s.Series(s.t.Context(), detail.Measurements[0].ID)
	if err != nil {
		s.t.Fatal(err)
	}
	return len(series.Intervals)
}
