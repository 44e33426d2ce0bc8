package host

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"

	"patientheron/core/setup"
)

// system is a made-up /proc and /sys.
type system struct {
	t    *testing.T
	root string
}

func newSystem(t *testing.T) *system {
	s := &system{t, t.TempDir()}
	s.file("proc/meminfo", "MemTotal: 67108864 kB\nMemFree: 1 kB\n")
	s.file("proc/cpuinfo", "processor : 0\nmodel name : Made Up CPU\n\nprocessor : 1\nmodel name : Made Up CPU\n")
	s.file("proc/sys/kernel/osrelease", "6.6.6-made-up\n")
	s.file("sys/devices/system/cpu/cpu0/cpufreq/scaling_governor", "powersave\n")
	s.file("sys/devices/system/node/node0/x", "")
	s.file("sys/devices/system/node/node1/x", "")
	s.file("sys/class/block/.keep", "")
	return s
}

func (s *system) file(name, text string) {
	s.t.Helper()
	path := filepath.Join(s.root, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		s.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

// device puts a block device into the tree, below a folder of /sys/devices.
func (s *system) device(below, name string, files map[string]string) {
	s.t.Helper()
	real := filepath.Join("sys/devices", below, name)
	s.file(filepath.Join(real, "size"), "2097152\n")
	for file, text := range files {
		s.file(filepath.Join(real, file), text)
	}
	link := filepath.Join(s.root, "sys/class/block", name)
	if err := os.Symlink(filepath.Join(s.root, real), link); err != nil {
		s.t.Fatal(err)
	}
}

// link puts a symbolic link into the tree.
func (s *system) link(name, to string) {
	s.t.Helper()
	path := filepath.Join(s.root, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		s.t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(s.root, to), path); err != nil {
		s.t.Fatal(err)
	}
}

func (s *system) explorer() *Explorer {
	none := func(context.Context, string) (string, error) { return "", errors.New("no device mapper here") }
	return &Explorer{proc: filepath.Join(s.root, "proc"), sys: filepath.Join(s.root, "sys"), limit: 20 * time.Second, addresses: func() ([]net.Addr, error) { return nil, nil }, table: none, status: none}
}

// walkFrom explores from a device of the tree.
func (s *system) walkFrom(e *Explorer, name string) (setup.Layer, *walk) {
	w := e.walk(s.t.Context())
	layer := w.device(name, 0)
	w.machine()
	w.groupMedia()
	return layer, w
}

func check(t *testing.T, s setup.Setup, want map[string]string) {
	t.Helper()
	for key, value := range want {
		if got := s.Text(key); got != value {
			t.Errorf("%s = %q, want %q", key, got, value)
		}
	}
}

func TestArrayOfTheKernel(t *testing.T) {
	s := newSystem(t)
	bus := "pci0000:00/0000:00:1c.0"
	s.file("sys/devices/"+bus+"/current_link_speed", "8.0 GT/s PCIe\n")
	s.file("sys/devices/"+bus+"/max_link_speed", "16.0 GT/s PCIe\n")
	s.file("sys/devices/"+bus+"/current_link_width", "4\n")
	s.file("sys/devices/"+bus+"/max_link_width", "8\n")
	s.file("sys/class/ata_link/link3/sata_spd", "6.0 Gbps\n")
	for _, name := range []string{"sda", "sdb", "sdc"} {
		s.device(bus+"/ata3/host2/target2:0:0/2:0:0:0/block", name, map[string]string{
			"queue/rotational": "1\n", "queue/write_cache": "write back\n", "device/model": "Made Up Disk\n", "queue/physical_block_size": "4096\n",
		})
	}
	s.device("virtual/block", "md0", map[string]string{
		"md/level": "raid5\n", "md/raid_disks": "4\n", "md/degraded": "1\n", "md/chunk_size": "524288\n", "md/sync_action": "recover\n",
		"slaves/sda": "", "slaves/sdb": "", "slaves/sdc": "",
	})
	s.device("virtual/block/md0", "md0p1", map[string]string{"partition": "1\n", "start": "2047\n"})
	s.file("sys/devices/virtual/block/md0/queue/physical_block_size", "4096\n")
	layer, w := s.walkFrom(s.explorer(), "md0p1")
	if layer.Kind != "partition" || layer.Below[0].Kind != "raid" || len(layer.Below[0].Below) != 3 || !strings.Contains(layer.Below[0].Words, "1 missing, recover under way") {
		t.Errorf("layers %+v", layer)
	}
	if len(w.seen.Misaligned) != 1 || len(w.seen.Busy) != 1 || len(w.seen.Missing) != 1 {
		t.Errorf("seen %+v", w.seen)
	}
	check(t, w.facts, map[string]string{
		"layout.level": "raid5", "layout.missing": "1", "layout.chunk": "512KiB", "media[0].count": "3", "media[0].kind": "hard disk", "media[0].size": "1GiB",
		"media[0].writeCache": "yes", "media[0].interface": "600MB/s", "media[0].model": "Made Up Disk", "controller.busGeneration": "3",
		"controller.busGenerationMost": "4", "controller.busLanes": "4", "controller.busLanesMost": "8", "host.memory": "64GiB", "host.cores": "2",
		"host.cpu": "Made Up CPU", "host.numaNodes": "2", "host.kernel": "6.6.6-made-up", "host.governor": "powersave",
	})
}

func TestMappedDevices(t *testing.T) {
	s := newSystem(t)
	s.device("virtual/block", "sdx", map[string]string{"queue/rotational": "0\n"})
	s.device("virtual/block", "dm-0", map[string]string{"dm/name": "pool-thin\n", "dm/uuid": "LVM-abc\n", "slaves/sdx": ""})
	s.device("virtual/block", "dm-1", map[string]string{"dm/name": "fast\n", "dm/uuid": "LVM-def\n", "slaves/sdx": ""})
	s.device("virtual/block", "bcache0", map[string]string{"bcache/cache_mode": "writethrough [writeback] writearound none\n", "slaves/sdx": ""})
	e := s.explorer()
	tables := map[string]string{
		"pool-thin": "0 2097152 thin 253:4 7\n",
		"fast":      "0 2097152 cache 253:1 253:2 253:3 128 1 writethrough smq 0\n",
	}
	e.table = func(_ context.Context, name string) (string, error) { return tables[name], nil }
	if layer, w := s.walkFrom(e, "dm-0"); layer.Kind != "logical volume" || !w.seen.Thin || len(layer.Below) != 1 {
		t.Errorf("thin: %+v, %+v", layer, w.seen)
	}
	if _, w := s.walkFrom(e, "dm-1"); w.facts.Text("cache[0].mode") != "write-through" {
		t.Errorf("cache: %+v", w.facts)
	}
	if layer, w := s.walkFrom(e, "bcache0"); layer.Kind != "cache" || w.facts.Text("cache[0].mode") != "" || !strings.Contains(layer.Words, "with no cache attached") {
		t.Errorf("bcache without a cache: %+v %+v", layer, w.facts)
	}
	s.device("virtual/block", "sdy", map[string]string{"queue/rotational": "0\n", "bcache/x": ""})
	s.link("sys/devices/virtual/block/bcache0/bcache/cache/cache0", "sys/devices/virtual/block/sdy/bcache")
	if layer, w := s.walkFrom(e, "bcache0"); w.facts.Text("cache[0].mode") != "write-back" || w.facts.Text("cache[0].size") != "1GiB" || w.facts.Text("media[0].count") != "1" || len(layer.Below) != 2 || layer.Below[1].Name != "sdy" {
		t.Errorf("bcache: %+v %+v", layer, w.facts)
	}
	if layer, w := s.walkFrom(s.explorer(), "dm-0"); layer.Trouble == "" || len(w.seen.Troubles) == 0 {
		t.Errorf("without a table: %+v", layer)
	}
}

func TestDirtyBlocks(t *testing.T) {
	for status, want := range map[string]string{
		// 27 dirty blocks of 128 sectors.
		"0 98304 cache 8 14/2048 128 64/384 5 4 3 2 1 0 27 2 metadata2 writeback 2 migration_threshold 2048 smq 0 rw -\n": "1728 KiB dirty",
		"0 98304 cache 8 14/2048 128 64/384 5 4 3 2 1 0 0 1 writeback\n":                                                  "0 B dirty",
		"0 98304 cache Error": "how much is dirty is not told", "": "how much is dirty is not told", "0 1 linear": "how much is dirty is not told",
	} {
		if got := dirtyInWords(status); got != want {
			t.Errorf("%q: %q, want %q", status, got, want)
		}
	}
}

func TestTargets(t *testing.T) {
	roles := map[string]string{"1:1": "metadata of the cache", "1:2": "cache"}
	for table, want := range map[string]Target{
		"0 409600 linear 8:16 2048":                                {Kind: "linear", Words: "linear"},
		"0 409600 striped 2 128 8:16 0 8:32 0":                     {Kind: "striped", Words: "striped", Members: 2, Chunk: 65536},
		"0 100 cache 1:1 1:2 1:3 512 1 writeback smq 0":            {Kind: "cache", Words: "cache, write-back", Mode: "write-back", Roles: roles},
		"0 100 cache 1:1 1:2 1:3 512 1 passthrough smq 0":          {Kind: "cache", Words: "cache, read-only", Mode: "read-only", Roles: roles},
		"0 100 raid raid5_ls 3 128 region_size 1024 4 - 8:1 - 8:2": {Kind: "raid", Words: "raid", Level: "raid5", Members: 4, Chunk: 65536},
		"0 100 multipath 0 0 2 1 round-robin 0 1 1 8:1 1000":       {Kind: "multipath", Words: "multipath"},
		"0 100 striped -5 zzz":                                     {Kind: "striped", Words: "striped"},
	} {
		if got := Targets(table); len(got) != 1 || !reflect.DeepEqual(got[0], want) {
			t.Errorf("%s: %+v, want %+v", table, got, want)
		}
	}
	if got := Targets("nonsense\n\x00\n0 1\n"); got != nil {
		t.Errorf("nonsense: %+v", got)
	}
}

func TestSharesAndLinks(t *testing.T) {
	s := newSystem(t)
	s.file("proc/self/mountinfo", "21 1 8:1 / / rw - ext4 /dev/sda1 rw\n"+
		`40 21 0:50 / /mnt/station\040share rw,relatime - nfs4 keeper:/export rw,vers=4.2,nconnect=4,addr=10.1.2.3`+"\n")
	// 10.1.0.0/16 by bond0, everything else by eth9, in the host's order.
	s.file("proc/net/route", "Iface Destination Gateway Flags RefCnt Use Metric Mask MTU Window IRTT\n"+
		"eth9 00000000 0101A8C0 0003 0 0 0 00000000 0 0 0\nbond0 0000010A 00000000 0001 0 0 0 0000FFFF 0 0 0\n")
	s.file("sys/class/net/bond0/mtu", "9000\n")
	s.file("sys/class/net/bond0/bonding/slaves", "eth0 eth1\n")
	s.file("sys/class/net/bond0/bonding/mode", "802.3ad 4\n")
	s.file("sys/class/net/eth0/speed", "10000\n")
	w := s.explorer().walk(t.Context())
	layer := w.path("/mnt/station share/ledger", 0)
	if len(layer.Below) != 1 || layer.Below[0].Kind != "network" {
		t.Errorf("layers %+v", layer)
	}
	check(t, w.facts, map[string]string{
		"fileSystem.type": "nfs4", "transport.protocol": "nfs", "transport.address": "10.1.2.3", "transport.connections": "4", "link[0].interface": "bond0",
		"link[0].mtuHere": "9000", "link[0].count": "2", "link[0].combined": "hashed bundle", "link[0].rate": "1250MB/s", "tuning.bond-mode": "802.3ad 4",
	})
	other, troubles := s.explorer().Link(t.Context(), "192.0.2.9")
	if other.Text("link[0].interface") != "eth9" || len(troubles) != 1 {
		t.Errorf("another way: %+v, %v", other, troubles)
	}
	if _, troubles := s.explorer().Link(t.Context(), "not an address"); len(troubles) != 1 {
		t.Errorf("no address: %v", troubles)
	}
}

func TestSessions(t *testing.T) {
	s := newSystem(t)
	s.device("platform/host5/session2/target5:0:0/5:0:0:1/block", "sdq", nil)
	s.file("sys/class/iscsi_session/session2/first_burst_len", "65536\n")
	s.file("sys/class/iscsi_connection/connection2:0/address", "10.9.9.9\n")
	_, w := s.walkFrom(s.explorer(), "sdq")
	check(t, w.facts, map[string]string{"transport.protocol": "iscsi", "session.first_burst_len": "65536", "transport.address": "10.9.9.9"})
}

// Whatever the system says, an exploration ends with an answer.
func TestHostileSystems(t *testing.T) {
	s := newSystem(t)
	s.device("virtual/block", "sda", map[string]string{
		"size": "lots\n", "queue/rotational": "\x00\xff", "device/model": "two\nlines \x1b[31m" + strings.Repeat("x", 5000),
		"queue/write_cache": "sideways", "partition": "",
	})
	s.device("virtual/block", "dev with\nnewline", nil)
	s.device("virtual/block", "circle", map[string]string{"md/level": "raid0\n", "md/raid_disks": "-4\n", "slaves/circle": ""})
	s.file("proc/self/mountinfo", "garbage\n1 2 3 - \n\\999 - - -\n"+strings.Repeat("a b c d e f ", 100)+"\n")
	s.file("proc/net/route", "eth0 zz yy\n")
	s.file("proc/meminfo", "MemTotal: many kB\n")
	for _, name := range []string{"sda", "dev with\nnewline", "circle", "nothing", "../../etc"} {
		layer, w := s.walkFrom(s.explorer(), name)
		if layer.Name != name {
			t.Errorf("%q: %+v", name, layer)
		}
		for _, f := range w.facts.Facts {
			if strings.ContainsAny(f.Value, "\n\x1b\x00") {
				t.Errorf("%q gives the fact %q", name, f.Value)
			}
		}
	}
	if _, w := s.walkFrom(s.explorer(), "nothing"); len(w.seen.Troubles) == 0 {
		t.Error("a device that is not there gives no trouble")
	}
	found, err := s.explorer().Explore(t.Context(), "/some/where")
	if err != nil || len(found.Seen.Troubles) == 0 {
		t.Errorf("no mount: %v, %+v", err, found.Seen)
	}
}

// A file of the system that never answers costs its own deadline, not the
// answer.
func TestWhatHangsIsLeftBehind(t *testing.T) {
	s := newSystem(t)
	s.device("virtual/block", "sda", map[string]string{"queue/rotational": "1\n"})
	pipe := filepath.Join(s.root, "sys/devices/virtual/block/sda/device")
	if err := os.MkdirAll(pipe, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(filepath.Join(pipe, "model"), 0o600); err != nil { // a read waits for a writer
		t.Fatal(err)
	}
	e := s.explorer()
	e.limit = 200 * time.Millisecond
	layer, w := s.walkFrom(e, "sda")
	if layer.Kind != "disk" || w.facts.Text("media[0].kind") != "hard disk" || w.facts.Text("media[0].model") != "" {
		t.Errorf("%+v, %+v", layer, w.facts)
	}
}

// With more time for all, what answers late is told.
func TestWhatIsLateIsWaitedForWithMoreTime(t *testing.T) {
	s := newSystem(t)
	s.device("virtual/block", "sda", map[string]string{"queue/rotational": "1\n"})
	pipe := filepath.Join(s.root, "sys/devices/virtual/block/sda/device")
	if err := os.MkdirAll(pipe, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(filepath.Join(pipe, "model"), 0o600); err != nil {
		t.Fatal(err)
	}
	time.AfterFunc(500*time.Millisecond, func() {
		if err := os.WriteFile(filepath.Join(pipe, "model"), []byte("Late\n"), 0o600); err != nil {
			t.Error(err)
		}
	})
	e := s.explorer()
	e.limit = 100 * time.Millisecond
	e.Timeout(80 * time.Second)
	if _, w := s.walkFrom(e, "sda"); w.facts.Text("media[0].model") != "Late" {
		t.Errorf("%+v", w.facts)
	}
}

func TestManyDevices(t *testing.T) {
	s := newSystem(t)
	slaves := map[string]string{"md/level": "raid0\n", "md/raid_disks": "64\n"}
	for i := range 64 {
		name := fmt.Sprintf("nvme%dn1", i)
		s.device("pci0000:00/x/nvme", name, map[string]string{"queue/rotational": "0\n"})
		slaves["slaves/"+name] = ""
	}
	s.device("virtual/block", "md1", slaves)
	layer, w := s.walkFrom(s.explorer(), "md1")
	if len(layer.Below) != 64 || w.facts.Text("media[0].count") != "64" || w.facts.Text("media[0].kind") != "ssd" {
		t.Errorf("%d layers, %+v", len(layer.Below), w.facts)
	}
}

func TestMountsAreRead(t *testing.T) {
	list := mounts("1 0 8:1 / / rw shared:1 - ext4 /dev/sda1 rw\n2 1 0:9 / /a\\040b rw - btrfs /dev/sdb rw,space_cache\n3 1 0:8 / /a\\040b rw - tmpfs tmpfs rw\n")
	for path, want := range map[string]string{"/": "ext4", "/x": "ext4", "/a b/c": "tmpfs", "/a bc": "ext4"} {
		if m, ok := mountOf(list, path); !ok || m.kind != want {
			t.Errorf("%s is on %q, want %q", path, m.kind, want)
		}
	}
}

func TestChecksumOfTheStandard(t *testing.T) {
	// The example of RFC 1071, section 3.
	if got := checksum([]byte{0x00, 0x01, 0xf2, 0x03, 0xf4, 0xf5, 0xf6, 0xf7}); got != ^uint16(0xddf2) {
		t.Errorf("checksum %#x", got)
	}
	if p := ProbeMTU(t.Context(), "::1", 1500); p.Trouble == "" {
		t.Error("an IPv6 address was probed")
	}
}
