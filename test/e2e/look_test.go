package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/judge"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// looked looks at a locator.
func (s *service) looked(locator string, asked client.Asked) resource.Look {
	s.t.Helper()
	l, err := s.Look(s.t.Context(), locator, asked)
	if err != nil {
		s.t.Fatal(err)
	}
	return l
}

// result is what a check came to; "" when it was not made.
func result(l resource.Look, name string) setup.Result {
	for _, c := range l.Checks {
		if c.Name == name {
			return c.Result
		}
	}
	return ""
}

// kinds are the kinds of layers from the top, in one line.
func kinds(layers []setup.Layer) string {
	var parts []string
	for _, l := range layers {
		part := l.Kind
		if below := kinds(l.Below); below != "" {
			part += " > " + below
		}
		parts = append(parts, part)
	}
	return strings.Join(parts, " + ")
}

// What stands behind real file systems of this kernel is found.
func TestLookFindsWhatStandsBehind(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	for name, c := range map[string]struct {
		make    func(*testing.T) string
		chain   string // beginning of it
		level   string
		members string
		missing string
	}{
		"ext4 on loop":    {func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.ext4", "-q") }, "file system > loop > file system", "single", "1", ""},
		"xfs on loop":     {func(t *testing.T) string { return mounted(t, loopDevice(t, 512<<20), "mkfs.xfs", "-q") }, "file system > loop > file system", "single", "1", ""},
		"btrfs RAID 0":    {func(t *testing.T) string { return btrfs(t, "raid0", 2, false) }, "file system > raid > loop", "raid0", "2", ""},
		"btrfs RAID 1":    {func(t *testing.T) string { return btrfs(t, "raid1", 2, false) }, "file system > raid > loop", "raid1", "2", ""},
		"btrfs RAID 10":   {func(t *testing.T) string { return btrfs(t, "raid10", 4, false) }, "file system > raid > loop", "raid10", "4", ""},
		"btrfs RAID 5":    {func(t *testing.T) string { return btrfs(t, "raid5", 3, false) }, "file system > raid > loop", "raid5", "3", ""},
		"btrfs, degraded": {func(t *testing.T) string { return btrfs(t, "raid1", 2, true) }, "file system > raid > loop", "raid1", "1", "1"},
	} {
		t.Run(name, func(t *testing.T) {
			l := s.looked(c.make(t), client.Asked{Span: 16 << 20})
			if chain := kinds(l.Chain); !strings.HasPrefix(chain, c.chain) {
				t.Errorf("chain %q, want %q", chain, c.chain)
			}
			for key, want := range map[string]string{"layout.level": c.level, "media[0].count": c.members, "layout.missing": c.missing, "fileSystem.type": strings.Fields(name)[0]} {
				if got := l.Setup.Text(key); got != strings.TrimSuffix(want, ",") {
					t.Errorf("%s = %q, want %q", key, got, want)
				}
			}
			complete := setup.Passed
			if c.missing != "" {
				complete = setup.Caution
			} else if c.level == "single" {
				complete = ""
			}
			if got := result(l, "complete"); got != complete {
				t.Errorf("complete: %q, want %q", got, complete)
			}
			if result(l, "reachable") != setup.Passed || result(l, "room") != setup.Passed {
				t.Errorf("checks %+v", l.Checks)
			}
		})
	}
}

func TestLookAtDevices(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	used, formatted := loopDevice(t, 64<<20), loopDevice(t, 64<<20)
	mounted(t, used, "mkfs.ext4", "-q")
	must(t, "mkfs.ext4", "-q", formatted)
	if l := s.looked(used, client.Asked{}); result(l, "nothing-of-value") != setup.Caution || !strings.Contains(fmt.Sprint(l.Checks), "mounted on") {
		t.Errorf("a mounted device: %+v", l.Checks)
	}
	if l := s.looked(formatted, client.Asked{Writes: true}); result(l, "nothing-of-value") != setup.Failed {
		t.Errorf("writing over a file system: %+v", l.Checks)
	}
	if l := s.looked("/nowhere/at/all", client.Asked{}); result(l, "reachable") != setup.Failed {
		t.Errorf("nothing there: %+v", l.Checks)
	}
	// A partition that begins off the physical blocks of its disk.
	file := filepath.Join(t.TempDir(), "backing")
	must(t, "truncate", "--size", "64M", file)
	device := must(t, "losetup", "--find", "--show", "--partscan", "--sector-size", "4096", file)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	if l := s.looked(device, client.Asked{}); result(l, "aligned") != "" {
		t.Errorf("no partition, yet %+v", l.Checks)
	}
}

// A failed check stops a run; passed over by name, it is recorded.
func TestFailedCheckStopsARunUnlessOverridden(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := mounted(t, loopDevice(t, 256<<20), "mkfs.ext4", "-q")
	volume := s.volume(folder, nil)
	// Room is looked at when the run is asked for and again when it begins;
	// what takes it away in between is seen.
	blocker := s.begun(s.volume("null:1TiB", nil), onePlan(spec(func(w *workload.Spec) { w.For = 600 })))
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(func(w *workload.Spec) { w.Span = 128 << 20 }))})
	if err != nil {
		t.Fatal(err)
	}
	must(t, "fallocate", "--length", "150M", filepath.Join(folder, "taken"))
	if err := s.StopRun(t.Context(), blocker, false); err != nil {
		t.Fatal(err)
	}
	detail := s.finished(run.ID)
	if detail.Status != resource.Failed || !strings.Contains(detail.Reason, "room: ") || len(detail.Measurements) != 0 {
		t.Fatalf("%s: %s", detail.Status, detail.Reason)
	}
	out, trouble, err := s.cli("look", folder, "--span", "128MiB")
	if err == nil || !strings.Contains(out, "room") || !strings.Contains(trouble, "a check failed: room") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	again, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil)), Override: []string{"room"}})
	if err != nil {
		t.Fatal(err)
	}
	if detail := s.finished(again.ID); detail.Status != resource.Finished || len(detail.Overrides) != 1 || len(detail.Checks) == 0 || detail.Setup.Text("fileSystem.type") != "ext4" {
		t.Errorf("%s: %s, overrides %v, %d checks", detail.Status, detail.Reason, detail.Overrides, len(detail.Checks))
	}
}

// Members measured alone take the place of rated figures; what then runs above
// them came from memory.
func TestRateAboveTheCeilingIsCalledOut(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	device := quietDevice(t, 256<<20)
	folder := mounted(t, device, "mkfs.ext4", "-q")
	throttle(t, s, device, 8<<20) // slow enough for a busy machine to keep
	out, trouble, err := s.cli("look", folder, "--measure-members")
	// The member behind the limit does what that allows, or a little less on a busy machine.
	if err != nil || !strings.Contains(out, "measured") || !strings.Contains(out, "limited by I/O limit") && !strings.Contains(out, "limited by 1 member") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	volume := s.volumeAt(folder)
	large := func(w *workload.Spec) {
		w.Blocks, w.Order, w.Span, w.For, w.WarmUp = workload.Block(256<<10), workload.Sequential, 64<<20, 3, 1
	}
	honest := s.measured(volume, onePlan(spec(large)))
	cached := s.measured(volume, onePlan(spec(func(w *workload.Spec) { large(w); w.Cached, w.Span = true, 8<<20 })))
	found := func(d resource.RunDetail, kind string) bool {
		for _, f := range d.Measurements[0].Findings {
			if f.Kind == kind {
				return true
			}
		}
		return false
	}
	limits := slices.ContainsFunc(honest.Measurements[0].Findings, func(f judge.Finding) bool {
		// The member was measured alone below the same limit, so that either may be the nearer.
		return f.Kind == "limited-by" && (strings.Contains(f.Sentence, `"I/O limit"`) || strings.Contains(f.Sentence, `"1 member"`))
	})
	if found(honest, "above-ceiling") || !limits {
		t.Errorf("read from the device: %+v", honest.Measurements[0].Findings)
	}
	if !found(cached, "above-ceiling") || !cached.Measurements[0].Unreliable("reads") {
		t.Errorf("read from memory: %+v", cached.Measurements[0].Findings)
	}
	reached, err := s.Reach(t.Context(), honest.ID)
	if err != nil || len(reached) != 1 || reached[0].Reached < 0.85 || reached[0].Reached > 1.1 {
		t.Errorf("reached %+v (%v), want nearly all of it", reached, err)
	}
}

// volumeAt is the registered volume of a locator.
func (s *service) volumeAt(locator string) resource.Volume {
	s.t.Helper()
	volumes, err := s.Volumes(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	for _, v := range volumes {
		if v.Locator == locator {
			return v
		}
	}
	return s.volume(locator, nil)
}

// Two hosts whose ends of the line disagree about the MTU: the interface sends
// what never arrives.
func TestUnequalMTUIsSeen(t *testing.T) {
	const here, there = "heron-here", "heron-there"
	for _, name := range []string{here, there} {
		must(t, "ip", "netns", "add", name)
		t.Cleanup(func() { _ = exec.Command("ip", "netns", "delete", name).Run() })
	}
	must(t, "ip", "link", "add", "heron0", "mtu", "9000", "netns", here, "type", "veth", "peer", "name", "heron1", "mtu", "1500", "netns", there)
	for name, address := range map[string][2]string{here: {"heron0", "10.99.7.1/24"}, there: {"heron1", "10.99.7.2/24"}} {
		must(t, "ip", "-n", name, "address", "add", address[1], "dev", address[0])
		must(t, "ip", "-n", name, "link", "set", address[0], "up")
	}
	folder := mounted(t, loopDevice(t, 128<<20), "mkfs.ext4", "-q")
	look := func() (resource.Look, string) {
		t.Helper()
		command := exec.Command("ip", "netns", "exec", here, heron, "--here", "--json", "--data", t.TempDir(), "look", folder, "--address", "10.99.7.2", "--timeout", "20s")
		out, err := command.Output()
		var l resource.Look
		if jsonErr := json.Unmarshal(out, &l); jsonErr != nil {
			t.Fatalf("%v, %v: %s", err, jsonErr, out)
		}
		return l, fmt.Sprint(err)
	}
	l, ended := look()
	if l.Probe == nil || l.Probe.MTU != 9000 || l.Probe.Largest != 1500 || result(l, "mtu-usable") != setup.Failed || ended == "<nil>" {
		t.Errorf("unequal ends: %+v, %+v, ended with %s", l.Probe, l.Checks, ended)
	}
	must(t, "ip", "-n", there, "link", "set", "heron1", "mtu", "9000")
	if l, _ := look(); l.Probe == nil || l.Probe.Largest != 9000 || result(l, "mtu-usable") != setup.Passed {
		t.Errorf("equal ends: %+v", l.Probe)
	}
}

// stuck is a file system whose server does not answer any more.
type stuck struct {
	fs.Inode
	release chan struct{}
}

func (s *stuck) Getattr(context.Context, fs.FileHandle, *fuse.AttrOut) syscall.Errno {
	<-s.release
	return syscall.EIO
}

func (s *stuck) Statfs(context.Context, *fuse.StatfsOut) syscall.Errno {
	<-s.release
	return syscall.EIO
}

func (s *stuck) Lookup(context.Context, string, *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	<-s.release
	return nil, syscall.EIO
}

// A dead mount holds nothing up: looking at it says so, and looking at other
// things beside it is as before.
func TestDeadMountHoldsNothingUp(t *testing.T) {
	t.Parallel()
	point := t.TempDir()
	root := &stuck{release: make(chan struct{})}
	options := &fs.Options{}
	options.DirectMount = true
	if _, err := fs.Mount(point, root, options); err != nil {
		t.Fatal(err)
	}
	s := serve(t, t.TempDir(), false)
	t.Cleanup(func() {
		close(root.release)
		_ = unix.Unmount(point, unix.MNT_DETACH)
	})
	dead := s.looked(filepath.Join(point, "share"), client.Asked{})
	if result(dead, "reachable") != setup.Failed {
		t.Errorf("a dead mount: %+v", dead.Checks)
	}
	t.Logf("looking at a dead mount took %s", dead.Took)
	// However often and for whatever it is looked at, listed or added: it holds a
	// handful of threads, each call ends in time, and says what the matter is.
	threads := func() int {
		tasks, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", s.process.Process.Pid))
		if err != nil {
			t.Fatal(err)
		}
		return len(tasks)
	}
	before := threads()
	var together sync.WaitGroup
	for i := range 40 {
		together.Go(func() {
			s.looked(filepath.Join(point, "share"), client.Asked{Span: quantity.Bytes(i+1) * quantity.MiB, Writes: i%2 == 0})
			began := time.Now()
			_, err := s.AddVolume(t.Context(), resource.NewVolume{Locator: filepath.Join(point, fmt.Sprint("other", i%4))})
			if err == nil || !strings.Contains(err.Error(), "does not answer") || time.Since(began) > 20*time.Second {
				t.Errorf("adding a volume on a dead mount took %s: %v", time.Since(began), err)
			}
		})
	}
	together.Wait()
	if now := threads(); now > before+40 {
		t.Errorf("the service had %d threads and has %d", before, now)
	}
	alive := s.looked(mounted(t, loopDevice(t, 64<<20), "mkfs.ext4", "-q"), client.Asked{})
	if result(alive, "reachable") != setup.Passed || alive.Setup.Text("layout.level") != "single" {
		t.Errorf("beside it: %+v", alive.Checks)
	}
	t.Logf("looking beside it took %s", alive.Took)
}

// late is a file system whose server answers only when it is released.
type late struct {
	fs.Inode
	release chan struct{}
}

func (l *late) Getattr(_ context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	<-l.release
	out.Mode = syscall.S_IFDIR | 0o755
	return 0
}

func (l *late) Statfs(_ context.Context, out *fuse.StatfsOut) syscall.Errno {
	<-l.release
	out.Bsize, out.Blocks, out.Bfree, out.Bavail = 4096, 1000, 500, 500
	return 0
}

// Storage that answers late is reached by a look that may take longer.
func TestALookMayTakeLonger(t *testing.T) {
	t.Parallel()
	point := t.TempDir()
	root := &late{release: make(chan struct{})}
	options := &fs.Options{}
	options.DirectMount = true
	server, err := fs.Mount(point, root, options)
	if err != nil {
		t.Fatal(err)
	}
	s := serve(t, t.TempDir(), false)
	t.Cleanup(func() { _ = server.Unmount() })
	if l := s.looked(point, client.Asked{}); result(l, "reachable") != setup.Failed {
		t.Errorf("looked at before it answers: %+v", l.Checks)
	}
	time.AfterFunc(time.Second, func() { close(root.release) })
	if l := s.looked(point, client.Asked{Timeout: 60}); result(l, "reachable") != setup.Passed {
		t.Errorf("looked at for longer: %+v", l.Checks)
	}
	if _, err := s.Look(t.Context(), point, client.Asked{Timeout: 61}); err == nil || !strings.Contains(err.Error(), "timeout") {
		t.Errorf("a look for longer than a minute: %v", err)
	}
}

// Setups are told, copied and changed, and every change is a version.
func TestSetupsAreToldAndCopied(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	file := filepath.Join(folder, "pool.yaml")
	if err := os.WriteFile(file, []byte("media:\n  - {kind: hard disk, count: 6, size: 4TB, randomReadRate: 190, randomWriteRate: 190, readRate: 220MB/s, writeRate: 220MB/s}\nlayout: {level: raid5, chunk: 64KiB}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"plain", "cached"} {
		if _, trouble, err := s.cli("volume", "add", "null:"+map[string]string{"plain": "1TiB", "cached": "2TiB"}[name], "--name", name); err != nil {
			t.Fatal(trouble)
		}
	}
	if out, trouble, err := s.cli("setup", "tell", "plain", "--file", file); err != nil || !strings.Contains(out, "raid5") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	out, trouble, err := s.cli("setup", "copy", "plain", "cached", "cache[0].medium=ssd", "cache[0].mode=read-only", "cache[0].size=400GB")
	if err != nil || !strings.Contains(out, "400GB") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if out, _, err := s.cli("look", "cached"); err != nil || !strings.Contains(out, "6 × 1 s ÷ (2 reads at 190 IOPS + 2 writes at 190 IOPS)") {
		t.Errorf("%v: %s", err, out)
	}
	if out, _, err := s.cli("setup", "tell", "cached", "cache[0].size=800GB"); err != nil || !strings.Contains(out, "cache 1: size went from 400GB to 800GB") {
		t.Errorf("%v: %s", err, out)
	}
	for _, wrong := range [][]string{{"layout.level=raid7"}, {"no.such=1"}, {"layout.level=raid6", "media[0].count=2"}, {"media[0].count"}} {
		if out, trouble, err := s.cli(append([]string{"setup", "tell", "plain"}, wrong...)...); err == nil {
			t.Errorf("%v was taken: %s%s", wrong, out, trouble)
		}
	}
	if out, _, err := s.cli("setup", "versions", "cached"); err != nil || strings.Count(out, "went from") != 1 {
		t.Errorf("%v: %s", err, out)
	}
	yaml, _, err := s.cli("setup", "show", "cached", "--yaml")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(yaml), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, trouble, err := s.cli("setup", "tell", "plain", "--replace", "--file", file); err != nil || !strings.Contains(out, "800GB") {
		t.Errorf("what was written does not read back: %v: %s%s\n%s", err, out, trouble, yaml)
	}
}
