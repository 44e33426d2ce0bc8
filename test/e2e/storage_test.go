package e2e

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"

	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/planfile"
	"patientheron/resource"
)

// Presets, shortened, on the file systems this kernel has. The numbers must
// be there, come from the device, and fit each other.
func TestPresetsOnRealFileSystems(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	for name, make := range map[string]func(*testing.T) string{
		"ext4":                   func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.ext4", "-q") },
		"xfs":                    func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.xfs", "-q") },
		"btrfs":                  func(t *testing.T) string { return btrfs(t, "single", 1, false) },
		"btrfs RAID 0":           func(t *testing.T) string { return btrfs(t, "raid0", 2, false) },
		"btrfs RAID 1":           func(t *testing.T) string { return btrfs(t, "raid1", 2, false) },
		"btrfs RAID 10":          func(t *testing.T) string { return btrfs(t, "raid10", 4, false) },
		"btrfs RAID 5":           func(t *testing.T) string { return btrfs(t, "raid5", 3, false) },
		"btrfs RAID 1, degraded": func(t *testing.T) string { return btrfs(t, "raid1", 2, true) },
	} {
		t.Run(name, func(t *testing.T) {
			volume := s.volume(make(t), nil)
			if volume.Facts == nil || len(volume.Facts.Devices) == 0 {
				t.Fatalf("the devices behind it are not known: %+v", volume.Facts)
			}
			for _, preset := range []string{"ledger", "shared-folders"} {
				detail := s.measured(volume, shortened(t, preset))
				for range 3 { // a disk that others share may stand for longer than a short measurement
					if !slices.ContainsFunc(detail.Measurements, func(m resource.Measurement) bool { return m.Summary != nil && m.Summary.Total.Operations == 0 }) {
						break
					}
					detail = s.measured(volume, shortened(t, preset))
				}
				if detail.Status != resource.Finished || detail.Reason != "" {
					t.Fatalf("%s: %s: %s", preset, detail.Status, detail.Reason)
				}
				for _, m := range detail.Measurements {
					checkFigures(t, preset, m)
				}
			}
		})
	}
}

// A fast real block device, written to with consent.
func TestPresetOnZram(t *testing.T) {
	number, err := os.ReadFile("/sys/class/zram-control/hot_add")
	if err != nil {
		t.Fatal(err)
	}
	name := "zram" + strings.TrimSpace(string(number))
	t.Cleanup(func() {
		_ = os.WriteFile("/sys/block/"+name+"/reset", []byte("1"), 0o200)
		_ = os.WriteFile("/sys/class/zram-control/hot_remove", number, 0o200)
	})
	const size = 256 << 20
	if err := os.WriteFile("/sys/block/"+name+"/disksize", []byte(strconv.Itoa(size)), 0o200); err != nil {
		t.Fatal(err)
	}
	s := serve(t, t.TempDir(), false)
	volume := s.volume("/dev/"+name, &resource.ConsentToWrite{Size: size})
	detail := s.measured(volume, shortened(t, "guest-disks"))
	if detail.Status != resource.Finished || detail.Reason != "" {
		t.Fatalf("%s: %s", detail.Status, detail.Reason)
	}
	checkFigures(t, "guest-disks", detail.Measurements[0])
	s.end(syscall.SIGTERM) // the device is free again
}

// shortened is a preset with a small span, a short time and no repeats.
func shortened(t *testing.T, key string) plan.Plan {
	t.Helper()
	preset, err := planfile.FindPreset(key)
	if err != nil {
		t.Fatal(err)
	}
	p, err := planfile.Override(preset.Plan, []plan.Setting{
		{Field: "span", Value: "32MiB"}, {Field: "for", Value: "600ms"}, {Field: "warmUp", Value: "200ms"}, {Field: "interval", Value: "200ms"},
	})
	if err != nil {
		t.Fatal(err)
	}
	for i := range p.Stages {
		p.Stages[i].Repeats, p.Stages[i].Settle = 1, plan.Settle{}
	}
	return p
}

func checkFigures(t *testing.T, preset string, m resource.Measurement) {
	t.Helper()
	total := m.Summary.Total
	// Little's law: what is in flight is rate × latency; flushes and the
	// engine's own work make it less, never more. What completed in the measured time
	// may have begun as long before it as the longest took.
	inFlight := float64(total.Rate) * float64(total.Latency.Mean)
	if limit := float64(m.Load.Depth * m.Load.Workers); total.Operations == 0 || inFlight > limit*(1.001+float64(total.Latency.Max/m.Summary.Measured)) {
		t.Errorf("%s, %s: %d operations, %.1f in flight of %.0f", preset, m.Name, total.Operations, inFlight, limit)
	}
	for _, f := range m.Findings {
		if f.Kind == "silently-buffered" {
			t.Errorf("%s, %s: %s", preset, m.Name, f.Sentence)
		}
	}
}

// btrfs makes a btrfs over loop devices and a folder in it whose files are
// written in place, mounted without its last member when degraded.
func btrfs(t *testing.T, profile string, members int, degraded bool) string {
	t.Helper()
	devices := make([]string, members)
	for i := range devices {
		devices[i] = loopDevice(t, 512<<20)
	}
	must(t, "mkfs.btrfs", append([]string{"-q", "-f", "-d", profile, "-m", map[bool]string{true: "dup", false: profile}[members == 1]}, devices...)...)
	options := "noatime"
	if degraded {
		must(t, "losetup", "--detach", devices[members-1])
		must(t, "btrfs", "device", "scan", "--forget")
		options = "degraded"
	} else {
		must(t, "btrfs", append([]string{"device", "scan"}, devices...)...)
	}
	point := t.TempDir()
	must(t, "mount", "-o", options, devices[0], point)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", point).Run() })
	folder := filepath.Join(point, "in place")
	if err := os.Mkdir(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	must(t, "chattr", "+C", folder)
	return folder
}

// Where memory answers although uncached access was asked for, the figure is
// marked in every view.
func TestMemoryThatAnswersIsCalledOut(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	memory := t.TempDir()
	must(t, "mount", "-t", "tmpfs", "tmpfs", memory)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", memory).Run() })
	disk := mounted(t, loopDevice(t, 256<<20), "mkfs.ext4", "-q")
	for name, c := range map[string]struct {
		folder string
		change func(*workload.Spec)
		kind   string
	}{
		"tmpfs":              {memory, nil, "memory-file-system"},
		"through the cache":  {disk, func(w *workload.Spec) { w.Cached = true }, "span-fits-memory"},
		"uncached on a disk": {disk, nil, ""},
	} {
		var volume resource.Volume
		volumes, err := s.Volumes(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range volumes {
			if v.Locator == c.folder {
				volume = v
			}
		}
		if volume.ID == 0 {
			volume = s.volume(c.folder, nil)
		}
		detail := s.measured(volume, onePlan(spec(c.change)))
		kinds := ""
		for _, f := range detail.Measurements[0].Findings {
			if f.Weight == judge.Unreliable {
				kinds += f.Kind
			}
		}
		if kinds != c.kind {
			t.Errorf("%s: found %q, want %q", name, kinds, c.kind)
		}
		if c.kind == "" {
			continue
		}
		id := strconv.FormatInt(detail.ID, 10)
		if shown, _, err := s.cli("run", "show", id); err != nil || !strings.Contains(shown, "unreliable") {
			t.Errorf("%s: the command line does not say so (%v):\n%s", name, err, shown)
		}
		if table, _, err := s.cli("run", "export", id, "--format", "csv"); err != nil || !strings.Contains(table, "unreliable: ") {
			t.Errorf("%s: the table does not say so (%v):\n%s", name, err, table)
		}
	}
}

// throttle holds what a service reads from a device to a rate. It gives a
// function that sets another one.
func throttle(t *testing.T, s *service, device string, limit int) func(limit int) {
	t.Helper()
	limits := grouped(t, s)
	set := func(limit int) { limits("read_bps", device, limit) }
	set(limit)
	return set
}

// grouped puts a service into a control group of its own. It gives a function that sets a
// limit of that, such as read_bps, for a device.
func grouped(t *testing.T, s *service) func(limit, device string, value int) {
	t.Helper()
	group := fmt.Sprintf("/sys/fs/cgroup/blkio/heron-e2e-%d-%d", os.Getpid(), s.process.Process.Pid)
	if err := os.Mkdir(group, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		s.end(syscall.SIGTERM)
		if err := os.Remove(group); err != nil {
			t.Error(err)
		}
	})
	write := func(file, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(group, file), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("cgroup.procs", strconv.Itoa(s.process.Process.Pid))
	return func(limit, device string, value int) {
		t.Helper()
		var stat unix.Stat_t
		if err := unix.Stat(device, &stat); err != nil {
			t.Fatal(err)
		}
		write("blkio.throttle."+limit+"_device", fmt.Sprintf("%d:%d %d", unix.Major(stat.Rdev), unix.Minor(stat.Rdev), value))
	}
}

// keeps says whether a rate was reached that a limit of the kernel allows, give or take a
// share of it. More is never right; of less a machine that is busy with other things may be
// the cause, but hardly three times in a row.
func keeps(t *testing.T, limit, tolerance float64, measured func() float64) {
	t.Helper()
	var rates []float64
	for range 3 {
		rate := measured()
		rates = append(rates, rate/limit)
		if rate > limit*(1+tolerance) {
			break
		}
		if rate >= limit*(1-tolerance) {
			return
		}
	}
	t.Errorf("of the %.0f bytes a second that the kernel allows were measured %.3f", limit, rates)
}

// The kernel's own throttle is the oracle for a rate.
func TestThrottledDeviceIsMeasuredAtItsRate(t *testing.T) {
	const limit = 8 << 20 // slow enough for a busy machine to keep
	device := quietDevice(t, 128<<20)
	s := serve(t, t.TempDir(), false)
	throttle(t, s, device, limit)
	volume := s.volume(device, nil)
	keeps(t, limit, 0.05, func() float64 {
		detail := s.measured(volume, onePlan(spec(func(w *workload.Spec) {
			w.Blocks, w.Depth, w.WarmUp, w.For, w.Span = workload.Block(64<<10), 8, 1, 3, 128<<20
		})))
		if detail.Status != resource.Finished {
			t.Fatal(detail.Reason)
		}
		return float64(detail.Measurements[0].Summary.Total.Throughput)
	})
}

// Where the kernel refuses io_uring, threads do the work and the result says
// so.
func TestWithoutIoUring(t *testing.T) {
	const knob = "/proc/sys/kernel/io_uring_disabled"
	before, err := os.ReadFile(knob)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(knob, []byte("2"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := os.WriteFile(knob, before, 0o600); err != nil {
			t.Error(err)
		}
	})
	s := serve(t, t.TempDir(), false)
	folder := mounted(t, loopDevice(t, 128<<20), "mkfs.ext4", "-q")
	detail := s.measured(s.volume(folder, nil), onePlan(spec(func(w *workload.Spec) { w.Reads, w.SyncEvery, w.Depth = 0.5, 8, 4 })))
	m := detail.Measurements[0]
	if detail.Status != resource.Finished || m.Summary.Interface != "threads" || m.Summary.Total.Operations == 0 {
		t.Fatalf("%s: %s: %+v", detail.Status, detail.Reason, m.Summary)
	}
	if !slices.ContainsFunc(m.Findings, func(f judge.Finding) bool { return f.Kind == "portable-interface" }) {
		t.Errorf("findings %+v", m.Findings)
	}
}

func TestBlockSizeOfTheDeviceIsRespected(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	file := filepath.Join(t.TempDir(), "backing")
	if err := os.WriteFile(file, make([]byte, 16<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	device := must(t, "losetup", "--find", "--show", "--sector-size", "4096", file)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	_, trouble, err := s.cli("measure", device, "--block", "3000", "--span", "12MiB", "--for", "1s")
	if err == nil || !strings.Contains(trouble, "not a multiple of the 4096 bytes") {
		t.Errorf("%v: %s", err, trouble)
	}
	if out, trouble, err := s.cli("measure", device, "--block", "3000", "--span", "12MiB", "--for", "300ms", "--cached"); err != nil || !strings.Contains(out, "Status finished") {
		t.Errorf("cached: %v: %s", err, trouble)
	}
}

// A device without room for what is written: each failure is counted by kind,
// and the plan goes on.
func TestStorageRunsFullInMidRun(t *testing.T) {
	small := t.TempDir()
	must(t, "mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", small)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", small).Run() })
	backing := filepath.Join(small, "backing")
	must(t, "truncate", "--size", "128M", backing)
	device := must(t, "losetup", "--find", "--show", backing)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	s := serve(t, t.TempDir(), false)
	volume := s.volume(device, &resource.ConsentToWrite{Size: 128 << 20})
	writes := spec(func(w *workload.Spec) {
		w.Reads, w.Order, w.Span, w.Blocks = 0, workload.Sequential, 128<<20, workload.Block(1<<20)
	})
	goesOn := writes
	goesOn.OnError = workload.Continue
	reads := spec(func(w *workload.Spec) { w.Span = 8 << 20 })
	detail := s.measured(volume, plan.Plan{Stages: []plan.Stage{{Load: writes}, {Load: goesOn}, {Load: reads}}})
	if len(detail.Measurements) != 3 || !strings.Contains(detail.Reason, "1 of 3 measurements failed") {
		t.Fatalf("%d measurements, %s: %s", len(detail.Measurements), detail.Status, detail.Reason)
	}
	for i, wanted := range []resource.Status{resource.Failed, resource.Finished, resource.Finished} {
		if got := detail.Measurements[i]; got.Status != wanted {
			t.Errorf("measurement %d is %s: %s", i+1, got.Status, got.Reason)
		}
	}
	if faults := detail.Measurements[1].Summary.Faults; len(faults) != 1 || faults[0].Kind != "no space" || faults[0].Count < 2 {
		t.Errorf("faults %+v", faults)
	}
}

// silent is a file whose reads are never answered.
type silent struct {
	fs.Inode
	release chan struct{}
}

var _ fs.NodeOpener = (*silent)(nil)

func (*silent) Open(context.Context, uint32) (fs.FileHandle, uint32, syscall.Errno) {
	return nil, fuse.FOPEN_DIRECT_IO, 0
}

func (*silent) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	out.Size, out.Mode = 64<<20, 0o600
	return 0
}

func (s *silent) Read(context.Context, fs.FileHandle, []byte, int64) (fuse.ReadResult, syscall.Errno) {
	<-s.release
	return nil, syscall.EIO
}

// A volume that never answers: the live feed goes on, the stop takes about a
// second, and what was in flight is reported.
func TestVolumeThatNeverAnswers(t *testing.T) {
	t.Parallel()
	point := t.TempDir()
	file := &silent{release: make(chan struct{})}
	root := &fs.Inode{}
	options := &fs.Options{OnAdd: func(ctx context.Context) {
		root.AddChild("silent", root.NewPersistentInode(ctx, file, fs.StableAttr{Mode: syscall.S_IFREG}), true)
	}}
	options.DirectMount = true
	_, err := fs.Mount(point, root, options)
	if err != nil {
		t.Fatal(err)
	}
	s := serve(t, t.TempDir(), false)
	// The kernel lets no process end that waits for such a file system, so it
	// must answer before the service is ended.
	t.Cleanup(func() {
		close(file.release)
		_ = unix.Unmount(point, unix.MNT_DETACH)
	})
	volume := s.volume(filepath.Join(point, "silent"), nil)
	id := s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.For, w.Span, w.Depth = 600, 64<<20, 8 })))
	asked := time.Now()
	if err := s.StopRun(t.Context(), id, false); err != nil {
		t.Fatal(err)
	}
	detail := s.finished(id)
	took := detail.Ended.Sub(asked)
	if sum := detail.Measurements[0].Summary; detail.Status != resource.Stopped || sum.Unanswered != 8 || sum.Total.Operations != 0 {
		t.Errorf("%s: %+v", detail.Status, sum)
	}
	t.Logf("the run ended %v after the stop was asked for", took)
	// The service is as able as before.
	if after := s.measured(s.volume("null:1TiB", nil), onePlan(spec(nil))); after.Status != resource.Finished {
		t.Errorf("the run after it: %s: %s", after.Status, after.Reason)
	}
	// Nor is a folder that never answers when files are put from it, and those that are
	// made together with it end with it.
	put := workload.Default()
	put.SetBody(&files.Files{From: point, Tasks: []files.TaskShare{{Task: files.Put, Weight: 1}}})
	put.For, put.Passes = 0, 1
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: s.volume(t.TempDir(), nil).ID, Beside: []int64{s.volume(t.TempDir(), nil).ID}, Plan: onePlan(put)})
	ok(t, err)
	until(t, "it lists the folder", func() bool { d, err := s.Run(t.Context(), run.ID); return err == nil && d.Status == resource.Preparing })
	asked = time.Now()
	ok(t, s.StopRun(t.Context(), run.ID, false))
	for _, id := range run.Joint.Runs {
		if d := s.finished(id); d.Status != resource.Stopped || d.Ended.Sub(asked) > 5*time.Second {
			t.Errorf("run %d is %s after %v: %s", id, d.Status, d.Ended.Sub(asked), d.Reason)
		}
	}
}

// A device over a file that was never written in places answers reads of those without the
// storage: it is said before and after, whatever stands between, and no more once it is written.
func TestReadsOfWhatWasNeverWritten(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	file := filepath.Join(t.TempDir(), "half")
	ok(t, os.WriteFile(file, bytes.Repeat([]byte{7}, 32<<20), 0o600), os.Truncate(file, 64<<20))
	lower := loopOver(t, file)
	upper := loopOver(t, lower, "--offset", strconv.Itoa(16<<20)) // of which the last 32 MiB of 48 were not written
	load := func(w *workload.Spec) { w.Span = 48 << 20 }
	for device, share := range map[string]quantity.Share{file: 16. / 48, lower: 16. / 48, upper: 32. / 48} {
		detail := s.measured(s.volume(device, nil), onePlan(spec(load)))
		m := detail.Measurements[0]
		if !slices.ContainsFunc(m.Findings, func(f judge.Finding) bool {
			return f.Kind == "never-written" && f.Weight == judge.Unreliable
		}) || math.Abs(float64(m.Summary.Unwritten-share)) > 0.001 {
			t.Errorf("%s: %v of the span, want %v: %+v", device, m.Summary.Unwritten, share, m.Findings)
		}
		out, trouble, err := s.cli("look", device)
		if err != nil || !strings.Contains(out, "32 MiB of its ") || !strings.Contains(out, "were never written") {
			t.Errorf("%v: %s%s", err, out, trouble)
		}
	}
	ok(t, os.WriteFile(file, bytes.Repeat([]byte{7}, 64<<20), 0o600))
	volumes, err := s.Volumes(t.Context())
	ok(t, err)
	for _, v := range volumes {
		if m := s.measured(v, onePlan(spec(load))).Measurements[0]; m.Summary.Unwritten != 0 {
			t.Errorf("%s is written, and %v of it are not", v.Locator, m.Summary.Unwritten)
		}
	}
}
