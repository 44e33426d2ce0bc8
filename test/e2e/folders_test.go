package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
)

// union mounts three folders as one with Debian's mergerfs, which cannot open a
// file again whose name is gone. It gives the mount and the folders.
func union(t *testing.T) (point string, branches []string) {
	t.Helper()
	point = t.TempDir()
	for range 3 {
		branches = append(branches, t.TempDir())
	}
	must(t, "mergerfs", strings.Join(branches, ":"), point)
	t.Cleanup(func() { _ = unix.Unmount(point, unix.MNT_DETACH) })
	return point, branches
}

// remote mounts a folder through sshfs and a server of its protocol that it talks
// to directly.
func remote(t *testing.T) (point string, branches []string) {
	t.Helper()
	point, branches = t.TempDir(), []string{t.TempDir()}
	ours, theirs, err := pair()
	if err != nil {
		t.Fatal(err)
	}
	server := exec.Command("/usr/lib/openssh/sftp-server")
	server.Stdin, server.Stdout = theirs, theirs
	mount := exec.Command("sshfs", "-f", "-o", "passive", "here:"+branches[0], point)
	mount.Stdin, mount.Stdout = ours, ours
	for _, c := range []*exec.Cmd{server, mount} {
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
	}
	ours.Close()
	theirs.Close()
	t.Cleanup(func() {
		_ = unix.Unmount(point, unix.MNT_DETACH)
		for _, c := range []*exec.Cmd{mount, server} {
			_ = c.Process.Kill()
			_ = c.Wait()
		}
	})
	until(t, "it is mounted", func() bool {
		var stat unix.Statfs_t
		return unix.Statfs(point, &stat) == nil && stat.Type == unix.FUSE_SUPER_MAGIC
	})
	return point, branches
}

// pair is two ends of a socket.
func pair() (a, b *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(fds[0]), "a"), os.NewFile(uintptr(fds[1]), "b"), nil
}

// held lists what folders hold.
func held(t *testing.T, folders []string) (names []string) {
	t.Helper()
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		if err != nil {
			t.Fatal(err)
		}
		for _, entry := range entries {
			names = append(names, filepath.Join(folder, entry.Name()))
		}
	}
	return names
}

// Every folder that takes files can be measured, leaves nothing behind when it was,
// and what a killed service leaves is found and removed when the user says so.
func TestFoldersOfOtherFileSystems(t *testing.T) {
	t.Parallel()
	for name, mount := range map[string]func(*testing.T) (string, []string){"union": union, "remote": remote} {
		t.Run(name, func(t *testing.T) {
			folder, branches := mount(t)
			data := t.TempDir()
			s := serve(t, data, false)
			l := s.looked(folder, client.Asked{Span: 16 << 20, Writes: true})
			if result(l, "test-file") != setup.Passed || result(l, "writable") != setup.Passed {
				t.Errorf("look: %+v", l.Checks)
			}
			volume := s.volume(folder, nil)
			for what, change := range map[string]func(*workload.Spec){
				"reads":         func(w *workload.Spec) {},
				"cached writes": func(w *workload.Spec) { w.Reads, w.Cached = 0.5, true },
			} {
				detail := s.measured(volume, onePlan(spec(func(w *workload.Spec) { w.Span, w.For = 16<<20, 0.5; change(w) })))
				if detail.Status != resource.Finished || detail.Measurements[0].Summary.Total.Operations == 0 {
					t.Errorf("%s: %s %s", what, detail.Status, detail.Reason)
				}
			}
			until(t, "nothing is left behind", func() bool { return len(held(t, branches)) == 0 })

			id := s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.Span, w.For = 16<<20, 60 })))
			until(t, "it measures", func() bool {
				detail, err := s.Run(t.Context(), id)
				return err == nil && detail.Status == resource.Running
			})
			if files, err := s.Leftovers(t.Context()); err != nil || len(files) != 0 {
				t.Errorf("what is being measured counts as left behind: %+v (%v)", files, err)
			}
			_ = s.process.Process.Signal(syscall.SIGKILL)
			_, _ = s.process.Process.Wait()
			again := serve(t, data, false)
			files, err := again.Leftovers(t.Context())
			if left := held(t, branches); err != nil || len(files) != len(left) {
				t.Fatalf("%v were left behind, %+v is listed (%v)", left, files, err)
			}
			if len(files) != 1 {
				t.Errorf("%+v is listed", files)
			}
			for _, f := range files {
				if f.Size != 16<<20 {
					t.Errorf("%+v", f)
				}
			}
			if out, trouble, err := again.cli("leftover", "remove", "--all"); err != nil {
				t.Errorf("%v: %s%s", err, out, trouble)
			}
			// A file that is removed while the kernel still closes it lives on under a hidden name for a moment.
			until(t, "what was removed is gone", func() bool { return len(held(t, branches)) == 0 })
			if out, _, err := again.cli("leftover", "list"); err != nil || !strings.Contains(out, "There are no leftover test files.") {
				t.Errorf("%v: %s", err, out)
			}
		})
	}
}
