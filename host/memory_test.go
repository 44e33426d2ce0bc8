package host

import (
	"os"
	"path/filepath"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

func TestMemory(t *testing.T) {
	const meminfo = "MemTotal: 16777216 kB\nMemAvailable: 8388608 kB\n"
	for name, c := range map[string]struct {
		files       map[string]string
		left, limit quantity.Bytes
	}{
		"no groups":        {nil, 8 << 30, 0},
		"version 2":        {map[string]string{"proc/self/cgroup": "0::/a/b\n", "sys/fs/cgroup/a/b/memory.max": "max\n", "sys/fs/cgroup/a/b/memory.current": "1\n", "sys/fs/cgroup/a/memory.max": "1073741824\n", "sys/fs/cgroup/a/memory.current": "268435456\n"}, 768 << 20, 1 << 30},
		"version 1":        {map[string]string{"proc/self/cgroup": "4:cpu,memory:/x\n1:name=systemd:/y\n", "sys/fs/cgroup/memory/x/memory.limit_in_bytes": "2147483648\n", "sys/fs/cgroup/memory/x/memory.usage_in_bytes": "0\n", "sys/fs/cgroup/memory/memory.limit_in_bytes": "9223372036854771712\n"}, 2 << 30, 2 << 30},
		"over its limit":   {map[string]string{"proc/self/cgroup": "0::/\n", "sys/fs/cgroup/memory.max": "100\n", "sys/fs/cgroup/memory.current": "200\n"}, 0, 100},
		"a path that lies": {map[string]string{"proc/self/cgroup": "0::/../../etc\n"}, 8 << 30, 0},
	} {
		root := t.TempDir()
		write := func(path, text string) {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(root, path), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		write("proc/meminfo", meminfo)
		for path, text := range c.files {
			write(path, text)
		}
		if left, err := memoryLeft(root); err != nil || left != c.left {
			t.Errorf("%s: %d left, want %d (%v)", name, left, c.left, err)
		}
		if limit := memoryLimit(root); limit != c.limit {
			t.Errorf("%s: limit %d, want %d", name, limit, c.limit)
		}
	}
	if _, err := memoryLeft(t.TempDir()); err == nil {
		t.Error("memory that cannot be looked at was taken for some")
	}
}

// The lowest limit of all groups counts, of either version, and only that of the
// device.
func TestThrottles(t *testing.T) {
	root := t.TempDir()
	for name, text := range map[string]string{
		"proc/self/cgroup":                                       "7:blkio:/a\n0::/b/c\n",
		"sys/fs/cgroup/b/c/io.max":                               "8:0 rbps=9 wbps=9 riops=9 wiops=9\n8:16 rbps=2097152 wbps=max riops=500 wiops=max\n",
		"sys/fs/cgroup/b/io.max":                                 "8:16 rbps=max wbps=max riops=400 wiops=120\n",
		"sys/fs/cgroup/blkio/a/blkio.throttle.read_bps_device":   "8:16 1048576\n",
		"sys/fs/cgroup/blkio/a/blkio.throttle.write_iops_device": "8:0 5\n",
		"sys/fs/cgroup/blkio/blkio.throttle.write_bps_device":    "8:16 3000000\n",
	} {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if got, want := throttled(root, "8:16"), (throttle{400, 120, 1048576, 3000000}); got != want {
		t.Errorf("%+v, want %+v", got, want)
	}
	if got := throttled(root, "253:0"); got != (throttle{}) {
		t.Errorf("a device without limits: %+v", got)
	}
}

// What a process may do to an array is what it may do to all members together, and none of
// it where one of them is not limited; along one way the lowest limit counts. What is below a
// loop device is not done by the process.
func TestLimitsOfSeveralDevicesAddUp(t *testing.T) {
	w := (&Explorer{}).walk(t.Context())
	w.held = map[string]throttle{"sda": {100, 0, 1000, 50}, "sdb": {200, 30, 3000, 0}, "sdc": {readBytes: 500}, "sda1": {reads: 80}, "md0": {readBytes: 3500}, "loop0": {reads: 7}}
	leaf := func(name string) setup.Layer { return setup.Layer{Kind: "disk", Name: name} }
	over := func(name string, below ...setup.Layer) setup.Layer {
		return setup.Layer{Kind: "raid", Name: name, Below: below}
	}
	for name, c := range map[string]struct {
		layer setup.Layer
		want  throttle
	}{
		"one":                     {leaf("sda"), throttle{100, 0, 1000, 50}},
		"two":                     {over("pool", leaf("sda"), leaf("sdb")), throttle{300, 0, 4000, 0}},
		"one is not limited":      {over("pool", leaf("sda"), leaf("sdb"), leaf("sdz")), throttle{}},
		"three":                   {over("pool", leaf("sda"), leaf("sdb"), leaf("sdc")), throttle{0, 0, 4500, 0}},
		"the array itself":        {over("md0", leaf("sda"), leaf("sdb")), throttle{300, 0, 3500, 0}},
		"a partition":             {setup.Layer{Kind: "partition", Name: "sda1", Below: []setup.Layer{leaf("sda")}}, throttle{80, 0, 1000, 50}},
		"a file system":           {setup.Layer{Kind: "file system", Name: "/srv", Below: []setup.Layer{over("md0", leaf("sdc"), leaf("sdc"))}}, throttle{readBytes: 1000}},
		"what a loop lies on":     {setup.Layer{Kind: "loop", Name: "loop0", Below: []setup.Layer{leaf("sda")}}, throttle{reads: 7}},
		"nothing that is limited": {over("pool", leaf("sdx"), leaf("sdy")), throttle{}},
	} {
		if got := w.allowed(c.layer); got != c.want {
			t.Errorf("%s: %+v, not %+v", name, got, c.want)
		}
	}
}
