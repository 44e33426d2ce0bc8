package identity

import (
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// made is a host made of files.
type made struct {
	Host
	t      *testing.T
	tables map[string][]Target
	loops  map[string]*unix.LoopInfo64
	number int
}

func newHost(t *testing.T) *made {
	t.Helper()
	h := &made{t: t, tables: map[string][]Target{}, loops: map[string]*unix.LoopInfo64{}}
	h.Host = Host{
		Root: t.TempDir(),
		Loop: func(name string) (*unix.LoopInfo64, error) {
			if l := h.loops[name]; l != nil {
				return l, nil
			}
			return nil, unix.ENXIO
		},
		Table: func(name string) ([]Target, error) {
			if table, is := h.tables[name]; is {
				return table, nil
			}
			return nil, unix.EPERM
		},
	}
	h.file("proc/self/mountinfo", "")
	return h
}

func (h *made) file(path, text string) {
	h.t.Helper()
	path = filepath.Join(h.Root, path)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		h.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		h.t.Fatal(err)
	}
}

// device adds one, with files in its folder, and gives its number.
func (h *made) device(name string, files ...string) string {
	h.number++
	number := fmt.Sprintf("8:%d", h.number)
	h.file("sys/class/block/"+name+"/dev", number+"\n")
	for _, f := range files {
		place, text, _ := strings.Cut(f, "=")
		h.file("sys/class/block/"+name+"/"+place, text+"\n")
	}
	return number
}

// partition adds one of a disk, by its sectors.
func (h *made) partition(disk, name string, start, size int) string {
	number := h.device(disk+"/"+name, "partition=1", fmt.Sprintf("start=%d", start), fmt.Sprintf("size=%d", size))
	if err := os.Symlink(disk+"/"+name, filepath.Join(h.Root, "sys/class/block", name)); err != nil {
		h.t.Fatal(err)
	}
	return number
}

// mapped adds a mapped device with its table.
func (h *made) mapped(name string, table ...Target) string {
	h.tables[name] = table
	return h.device(name, "dm/name="+name, "dm/uuid=LVM-"+name)
}

// members are the names of a stack's members of a relation.
func members(t *testing.T, h *made, of string, r Relation) (names []string) {
	t.Helper()
	s, err := h.OfDevice(of)
	if err != nil {
		t.Fatalf("%s: %v", of, err)
	}
	for _, m := range s.Members {
		if m.Relation == r {
			names = append(names, m.Name)
		}
	}
	slices.Sort(names)
	return names
}

// What stands on the same bytes is found, and what only stands on the same disk is not.
func TestWhatStandsOnTheSame(t *testing.T) {
	h := newHost(t)
	disk := h.device("sda")
	first, second := h.partition("sda", "sda1", 2048, 2048), h.partition("sda", "sda2", 4096, 1<<20)
	h.mapped("dm-0", Target{0, 1000, "linear", second + " 2048"}, Target{1000, 1000, "linear", second + " 9000"})
	h.mapped("dm-1", Target{0, 1000, "linear", second + " 4000"})
	h.mapped("dm-2", Target{0, 10, "linear", second + " 9999"}) // the last sector of dm-0 and nine that follow
	h.mapped("dm-3", Target{0, 900, "crypt", "aes-xts-plain64 :64:logon:x 0 " + first + " 8"})
	for _, name := range []string{"sdb", "sdc", "sdd"} {
		h.device(name)
	}
	raid := h.device("md0", "md/uuid=1-2", "slaves/sdb/x=", "slaves/sdc/x=")
	h.mapped("dm-4", Target{0, 100, "linear", raid + " 0"})
	h.mapped("dm-5", Target{0, 100, "linear", raid + " 100"})
	pool := h.mapped("dm-6", Target{0, 1 << 20, "thin-pool", "8:99 8:98 128 0"})
	h.mapped("dm-7", Target{0, 1000, "thin", pool + " 1"})
	h.mapped("dm-8", Target{0, 1000, "thin", pool + " 2"})
	h.mapped("dm-9", Target{0, 1000, "thin", pool + " 1"})
	one, other := h.device("sde", "device/wwid=naa.6001"), h.device("sdf", "device/wwid=naa.6001")
	paths := h.mapped("dm-10", Target{0, 1000, "multipath", "0 0 1 1 service-time 0 2 2 " + one + " 1 1 " + other + " 1 1"})
	h.mapped("dm-11", Target{0, 10, "linear", paths + " 10"})
	h.mapped("dm-12", Target{0, 10, "linear", paths + " 20"})
	h.device("sdg", "device/wwid=naa.6002")
	h.device("nvme0n1", "wwid=eui.0025")
	h.device("nvme1n1", "wwid=eui.0025")
	cow := h.device("sdh")
	h.mapped("dm-13", Target{0, 1000, "snapshot", disk + " " + cow + " P 8"})
	h.tables["dm-14"] = nil
	delete(h.tables, "dm-14")
	h.device("dm-14", "dm/name=secret", "slaves/sdd/x=")
	for name, c := range map[string]struct{ below, beside []string }{
		"sda":     {nil, []string{"dm-0", "dm-1", "dm-2", "dm-3", "sda1", "sda2"}},
		"sda1":    {[]string{"sda"}, []string{"dm-3"}},
		"sda2":    {[]string{"sda"}, []string{"dm-0", "dm-1", "dm-2"}},
		"dm-0":    {[]string{"sda", "sda2"}, []string{"dm-2"}},
		"dm-1":    {[]string{"sda", "sda2"}, nil},
		"dm-2":    {[]string{"sda", "sda2"}, []string{"dm-0"}},
		"dm-3":    {[]string{"sda", "sda1"}, nil},
		"sdb":     {nil, []string{"dm-4", "dm-5", "md0"}},
		"md0":     {[]string{"sdb", "sdc"}, []string{"dm-4", "dm-5"}},
		"dm-4":    {[]string{"md0", "sdb", "sdc"}, nil},
		"dm-7":    {nil, []string{"dm-9"}},
		"dm-8":    {nil, nil},
		"sde":     {nil, []string{"dm-10", "dm-11", "dm-12", "sdf"}},
		"dm-11":   {[]string{"dm-10", "sde", "sdf"}, nil},
		"sdg":     {nil, nil},
		"nvme0n1": {nil, []string{"nvme1n1"}},
		"sdh":     {nil, []string{"dm-13"}},
		"dm-13":   {[]string{"sdh"}, nil},
		"sdd":     {nil, []string{"dm-14"}}, // whose table may not be read
	} {
		if below := members(t, h, name, Below); !slices.Equal(below, c.below) {
			t.Errorf("%s stands on %v, want %v", name, below, c.below)
		}
		if beside := members(t, h, name, Beside); !slices.Equal(beside, c.beside) {
			t.Errorf("beside %s stand %v, want %v", name, beside, c.beside)
		}
	}
}

// Two loop devices over parts of a file are beside each other where the parts are.
func TestLoopsOverPartsOfAFile(t *testing.T) {
	h := newHost(t)
	over := func(name string, offset, limit uint64) {
		h.loops[name] = &unix.LoopInfo64{Device: 64769, Inode: 7, Offset: offset, Sizelimit: limit}
		h.device(name, "loop/backing_file=/srv/image")
	}
	over("loop0", 0, 1<<20)
	over("loop1", 1<<20, 1<<20)
	over("loop2", 1<<19, 1<<20)
	over("loop3", 3<<20, 0)
	h.loops["loop4"] = &unix.LoopInfo64{Device: 64769, Inode: 8}
	h.device("loop4", "loop/backing_file=/srv/other")
	h.device("loop5")
	for name, want := range map[string][]string{"loop0": {"loop2"}, "loop1": {"loop2"}, "loop2": {"loop0", "loop1"}, "loop3": nil, "loop4": nil, "loop5": nil} {
		if beside := members(t, h, name, Beside); !slices.Equal(beside, want) {
			t.Errorf("beside %s stand %v, want %v", name, beside, want)
		}
	}
	if below := members(t, h, "loop3", Below); !slices.Equal(below, []string{"/srv/image"}) {
		t.Errorf("loop3 stands on %v", below)
	}
}

// What cannot be told is an error, and not free.
func TestWhatCannotBeTold(t *testing.T) {
	h := newHost(t)
	h.Loop = func(string) (*unix.LoopInfo64, error) { return nil, unix.EACCES }
	h.device("loop0", "loop/backing_file=/srv/gone")
	h.device("md0", "slaves/sdz/x=")
	circle := h.mapped("dm-0")
	h.tables["dm-0"] = []Target{{0, 10, "linear", circle + " 0"}}
	for name, words := range map[string]string{"loop0": "/srv/gone", "md0": "sdz", "dm-0": "layers stand on each other", "sdq": "no block device"} {
		if _, err := h.OfDevice(name); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, want %q", name, err, words)
		}
	}
}

// A table as the kernel writes it.
func TestReadTable(t *testing.T) {
	spec := func(start, length uint64, next uint32, kind, arguments string) []byte {
		b := make([]byte, 40)
		binary.NativeEndian.PutUint64(b, start)
		binary.NativeEndian.PutUint64(b[8:], length)
		binary.NativeEndian.PutUint32(b[20:], next)
		copy(b[24:], kind)
		return append(b, append([]byte(arguments), make([]byte, 8-len(arguments)%8)...)...)
	}
	first := spec(0, 100, 56, "linear", "8:1 2048")
	targets, err := readTable(append(first, spec(100, 50, 120, "zero", "")...), 2)
	if err != nil || len(first) != 56 || len(targets) != 2 || targets[0] != (Target{0, 100, "linear", "8:1 2048"}) || targets[1] != (Target{100, 50, "zero", ""}) {
		t.Errorf("%+v, %v", targets, err)
	}
	for cut := range len(first) - 17 {
		if _, err := readTable(first[:cut], 1); err == nil {
			t.Errorf("a table of %d bytes is read", cut)
		}
	}
}

// The same file under an overlay has another number, and is known by both.
func TestAFileUnderAnOverlay(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("mounts need root; the drill of test/e2e covers them too")
		return
	}
	run := func(name string, arguments ...string) {
		t.Helper()
		if out, err := exec.Command(name, arguments...).CombinedOutput(); err != nil {
			t.Fatalf("%s %v: %v: %s", name, arguments, err, out)
		}
	}
	ground := t.TempDir()
	run("mount", "-t", "tmpfs", "tmpfs", ground)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", ground).Run() })
	for _, folder := range []string{"lower/deep", "upper", "work", "shown"} {
		if err := os.MkdirAll(filepath.Join(ground, folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	for _, path := range []string{"lower/deep/kept", "lower/covered", "upper/covered"} {
		if err := os.WriteFile(filepath.Join(ground, path), []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	shown := filepath.Join(ground, "shown")
	run("mount", "-t", "overlay", "overlay", "-o", fmt.Sprintf("lowerdir=%s/lower,upperdir=%s/upper,workdir=%s/work", ground, ground, ground), shown)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", shown).Run() })
	keys := func(path string) []Thing {
		t.Helper()
		file, err := os.Open(filepath.Join(ground, path))
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		stack, err := This.Resolve(file)
		if err != nil {
			t.Fatal(err)
		}
		return stack.Files()
	}
	for _, same := range [][2]string{{"shown/deep/kept", "lower/deep/kept"}, {"shown/covered", "upper/covered"}} {
		a, b := keys(same[0]), keys(same[1])
		if len(a) != 2 || !slices.Equal(a, b) {
			t.Errorf("%s is known by %v, %s by %v", same[0], a, same[1], b)
		}
	}
	if covered := keys("lower/covered"); len(covered) != 1 {
		t.Errorf("what is covered is known by %v", covered)
	}
}
