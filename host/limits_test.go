package host

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// The lowest limit of all counts, with what is used of it already.
func TestThreadsLeft(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		left  int64
		by    string
	}{
		"version 2, the group above is lower": {map[string]string{
			"proc/self/cgroup": "0::/a/b\n", "sys/fs/cgroup/a/b/pids.max": "max\n", "sys/fs/cgroup/a/pids.max": "100\n", "sys/fs/cgroup/a/pids.current": "60\n", "proc/sys/kernel/threads-max": "5000\n", "proc/loadavg": "0.00 0.00 0.00 1/234 999\n",
		}, 40, "pids.max 100"},
		"version 1": {map[string]string{
			"proc/self/cgroup": "8:pids:/x\n1:cpu:/\n", "sys/fs/cgroup/pids/x/pids.max": "64\n", "sys/fs/cgroup/pids/x/pids.current": "70\n",
		}, 0, "pids.max 64"},
		"the host": {map[string]string{"proc/sys/kernel/threads-max": "5000\n", "proc/loadavg": "0.00 0.00 0.00 1/234 999\n"}, 4766, "threads-max"},
		"nothing":  {map[string]string{}, 1 << 40, "nothing"},
	} {
		root := t.TempDir()
		for path, text := range c.files {
			path = filepath.Join(root, path)
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if got := threadsLeft(root, 0); got.Left != c.left || !strings.Contains(got.By, c.by) {
			t.Errorf("%s: %+v", name, got)
		}
	}
	if here := ThreadsLeft(); here.Left < 1 {
		t.Errorf("no thread is left: %+v", here)
	}
	if threadsOf("/", os.Getuid()) < 1 {
		t.Error("this user has no thread")
	}
	if here := DescriptorsLeft(); here.Left < 1 {
		t.Errorf("no descriptor is left: %+v", here)
	}
}
