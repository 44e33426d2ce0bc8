package e2e

import (
	"bufio"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

// trap is storage that must not be written over, however exactly the consent
// states what is there.
type trap struct {
	name string
	// set makes it, and gives the locator to measure and what must not change.
	set func(t *testing.T, s *service) (locator, precious string)
	// spring changes something after consent was given; nil when consent itself
	// must be refused.
	spring func(t *testing.T, s *service, locator string, volume resource.Volume)
	holds  string // what the consent names; found out when empty
	size   int64  // what the consent states; found out when zero
	serial string
	words  string // of the refusal
}

const trapSize = 24 << 20

// blankFile makes a sparse file.
func blankFile(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "storage")
	if err := os.WriteFile(path, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(path, trapSize); err != nil {
		t.Fatal(err)
	}
	return path
}

// loopOver binds a loop device to a file.
func loopOver(t *testing.T, file string, options ...string) string {
	t.Helper()
	device := must(t, "losetup", append(append([]string{"--find", "--show"}, options...), file)...)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	return device
}

func mountAt(t *testing.T, arguments ...string) string {
	t.Helper()
	point := t.TempDir()
	must(t, "mount", append(arguments, point)...)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", point).Run() })
	return point
}

// beside runs a shell command that holds something until the test ends, and
// waits until it says "ready".
func beside(t *testing.T, command string, arguments ...string) {
	t.Helper()
	c := exec.Command("bash", append([]string{"-c", command, "beside"}, arguments...)...)
	in, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := c.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); _ = c.Wait() })
	if line, err := bufio.NewReader(out).ReadString('\n'); err != nil || line != "ready\n" {
		t.Fatalf("%s says %q (%v)", command, line, err)
	}
}

const untilInputEnds = "echo ready; read -r x"

func file(t *testing.T, _ *service) (string, string) { f := blankFile(t); return f, f }
func device(t *testing.T, _ *service) (string, string) {
	f := blankFile(t)
	return loopOver(t, f), f
}

// made is a device with a file system.
func made(make ...string) func(*testing.T, *service) (string, string) {
	return func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		must(t, make[0], append(make[1:], f)...)
		return loopOver(t, f), f
	}
}

// then does more to what another makes.
func then(set func(*testing.T, *service) (string, string), more func(t *testing.T, locator, precious string)) func(*testing.T, *service) (string, string) {
	return func(t *testing.T, s *service) (string, string) {
		locator, precious := set(t, s)
		more(t, locator, precious)
		return locator, precious
	}
}

// own is a file of the service's data folder.
func own(name string) func(*testing.T, *service) (string, string) {
	return func(t *testing.T, s *service) (string, string) {
		path := filepath.Join(s.data, name)
		return path, path
	}
}

func writeByte(t *testing.T, path string, at int64) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := f.WriteAt([]byte("x"), at); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		t.Fatal(err)
	}
}

func ok(t *testing.T, errs ...error) {
	t.Helper()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
}

var traps = []trap{
	// In use, as a device.
	{name: "mounted", set: then(made("mkfs.ext4", "-q"), func(t *testing.T, l, _ string) { mountAt(t, l) }), words: "mounted on"},
	{name: "mounted for reading", set: then(made("mkfs.ext4", "-q"), func(t *testing.T, l, _ string) { mountAt(t, "-o", "ro", l) }), words: "mounted on"},
	{name: "mounted with a blank in its place", set: then(made("mkfs.ext4", "-q"), func(t *testing.T, l, _ string) {
		point := filepath.Join(t.TempDir(), "a b")
		ok(t, os.Mkdir(point, 0o700))
		must(t, "mount", l, point)
		t.Cleanup(func() { _ = exec.Command("umount", "--lazy", point).Run() })
	}), words: "mounted on"},
	{name: "mounted where we cannot see", set: then(made("mkfs.ext4", "-q"), func(t *testing.T, l, _ string) {
		beside(t, `exec unshare --mount bash -c 'mount "$1" /mnt && exec 0<&3 && `+untilInputEnds+`' inner "$1" 3<&0`, l)
	}), words: "in use"},
	{name: "swap space", set: then(made("mkswap", "-q"), func(t *testing.T, l, _ string) {
		must(t, "swapon", l)
		t.Cleanup(func() { _ = exec.Command("swapoff", l).Run() })
	}), words: "swap space"},
	{name: "a loop device with another on it", set: then(device, func(t *testing.T, l, _ string) { loopOver(t, l) }), words: "the loop device"},
	{name: "a partition of it is mounted", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		l := loopOver(t, f, "--partscan")
		partition := partitionOf(t, l)
		must(t, "mkfs.ext4", "-q", partition)
		mountAt(t, partition)
		return l, f
	}, words: "mounted on"},
	{name: "the disk of the partition is bound elsewhere", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		l := loopOver(t, f, "--partscan")
		partition := partitionOf(t, l)
		loopOver(t, l)
		return partition, f
	}, words: "the loop device"},
	{name: "a member of a file system of several", set: func(t *testing.T, _ *service) (string, string) {
		first, second := filepath.Join(t.TempDir(), "a"), filepath.Join(t.TempDir(), "b")
		for _, f := range []string{first, second} {
			ok(t, os.WriteFile(f, nil, 0o600), os.Truncate(f, 256<<20))
		}
		a, b := loopOver(t, first), loopOver(t, second)
		must(t, "mkfs.btrfs", "-q", a, b)
		must(t, "btrfs", "device", "scan", a, b)
		mountAt(t, a)
		return b, second
	}, words: "in use"},
	{name: "open for reading by another", set: then(device, func(t *testing.T, l, _ string) { beside(t, `exec 3<"$1"; `+untilInputEnds, l) }), words: "has it open"},
	{name: "open for writing by another", set: then(device, func(t *testing.T, l, _ string) { beside(t, `exec 3<>"$1"; `+untilInputEnds, l) }), words: "has it open"},
	{name: "locked by another", set: then(device, func(t *testing.T, l, _ string) { beside(t, `exec 3<"$1"; flock 3; `+untilInputEnds, l) }), words: "locked"},
	{name: "open through another node", set: then(device, func(t *testing.T, l, _ string) {
		var stat unix.Stat_t
		ok(t, unix.Stat(l, &stat))
		node := filepath.Join("/dev", fmt.Sprintf("heron-trap-%d", os.Getpid()))
		ok(t, unix.Mknod(node, unix.S_IFBLK|0o600, int(stat.Rdev)))
		t.Cleanup(func() { os.Remove(node) })
		beside(t, `exec 3<"$1"; `+untilInputEnds, node)
	}), words: "has it open"},
	// In use, as a file.
	{name: "a file behind a loop device", set: then(file, func(t *testing.T, l, _ string) { loopOver(t, l) }), words: "the loop device"},
	{name: "a file behind a mounted loop device", set: func(t *testing.T, s *service) (string, string) {
		l, f := made("mkfs.ext4", "-q")(t, s)
		mountAt(t, l)
		return f, f
	}, words: "mounted on"},
	{name: "the same, renamed since", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		loopOver(t, f)
		ok(t, os.Rename(f, f+" renamed"))
		return f + " renamed", f + " renamed"
	}, words: "the loop device"},
	{name: "the same, by a symbolic link", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		loopOver(t, f)
		ok(t, os.Symlink(f, f+".link"))
		return f + ".link", f
	}, words: "the loop device"},
	{name: "the same, by a hard link", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		loopOver(t, f)
		ok(t, os.Link(f, f+".hard"))
		return f + ".hard", f
	}, words: "the loop device"},
	{name: "the same, by a bind mount", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		loopOver(t, f)
		return filepath.Join(mountAt(t, "--bind", filepath.Dir(f)), filepath.Base(f)), f
	}, words: "the loop device"},
	{name: "a file open for reading", set: then(file, func(t *testing.T, l, _ string) { beside(t, `exec 3<"$1"; `+untilInputEnds, l) }), words: "has it open"},
	{name: "a file open for writing", set: then(file, func(t *testing.T, l, _ string) { beside(t, `exec 3<>"$1"; `+untilInputEnds, l) }), words: "has it open"},
	{name: "a file that is locked", set: then(file, func(t *testing.T, l, _ string) { beside(t, `exec 3<"$1"; flock --shared 3; `+untilInputEnds, l) }), words: "locked"},
	{name: "a program that runs", set: func(t *testing.T, _ *service) (string, string) {
		f := filepath.Join(t.TempDir(), "program")
		must(t, "cp", must(t, "which", "sleep"), f)
		ok(t, os.Chmod(f, 0o700))
		c := exec.Command(f, "600")
		ok(t, c.Start())
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		return f, f
	}, words: "mapped"},
	{name: "a swap file", set: func(t *testing.T, _ *service) (string, string) {
		l := loopDevice(t, 96<<20)
		must(t, "mkfs.ext4", "-q", l)
		f := filepath.Join(mountAt(t, l), "swap")
		must(t, "dd", "if=/dev/zero", "of="+f, "bs=1M", "count=24", "status=none")
		ok(t, os.Chmod(f, 0o600))
		must(t, "mkswap", "-q", f)
		must(t, "swapon", f)
		t.Cleanup(func() { _ = exec.Command("swapoff", f).Run() })
		return f, ""
	}, words: "swap space"},
	// What the service keeps for itself.
	{name: "its database", set: own("heron.sqlite"), words: "keeps for itself"},
	{name: "its database's log", set: own("heron.sqlite-wal"), words: "keeps for itself"},
	{name: "its token", set: own("token"), words: "keeps for itself"},
	{name: "its lock", set: own("lock"), words: "keeps for itself"},
	{name: "its reserve of room", set: own("reserve"), words: "keeps for itself"},
	{name: "an array file it keeps", set: then(own("arrays/kept.yaml"), func(t *testing.T, l, _ string) {
		ok(t, os.WriteFile(l, []byte(strings.Repeat("# kept\n", 2000)), 0o600))
	}), words: "keeps for itself"},
	{name: "a file below its folder", set: then(own("below/file"), func(t *testing.T, l, _ string) {
		ok(t, os.MkdirAll(filepath.Dir(l), 0o700), os.WriteFile(l, make([]byte, trapSize), 0o600))
	}), words: "keeps for itself"},
	{name: "its database by a symbolic link", set: func(t *testing.T, s *service) (string, string) {
		link := filepath.Join(t.TempDir(), "link")
		ok(t, os.Symlink(filepath.Join(s.data, "heron.sqlite"), link))
		return link, link
	}, words: "keeps for itself"},
	{name: "its token by a hard link", set: func(t *testing.T, s *service) (string, string) {
		link := filepath.Join(filepath.Dir(s.data), "hard")
		ok(t, os.Link(filepath.Join(s.data, "token"), link))
		return link, link
	}, words: "keeps for itself"},
	{name: "its folder by a bind mount", set: func(t *testing.T, s *service) (string, string) {
		path := filepath.Join(mountAt(t, "--bind", s.data), "reserve")
		return path, path
	}, words: "keeps for itself"},
	{name: "its program", set: func(*testing.T, *service) (string, string) { return heron, heron }, words: "program of this service"},
	{name: "its log", set: func(t *testing.T, s *service) (string, string) { return s.logFile, s.logFile }, words: "its log"},
	// Consent that is not for what is there.
	{name: "another size", set: device, size: trapSize * 2, words: "look again"},
	{name: "another serial number", set: device, serial: "S1", words: "serial number"},
	{name: "a file system that is not named", set: made("mkfs.ext4", "-q"), holds: "-", words: `--holds "ext2/3/4"`},
	{name: "another file system is named", set: made("mkfs.ext4", "-q"), holds: "xfs", words: `it holds ext2/3/4`},
	{name: "content that is not named", set: then(device, func(t *testing.T, l, _ string) { writeByte(t, l, 5000) }), holds: "-", words: `--holds "unknown content"`},
	{name: "content at its end", set: then(device, func(t *testing.T, l, _ string) { writeByte(t, l, trapSize-1) }), holds: "-", words: `--holds "unknown content"`},
	{name: "a file with content", set: then(file, func(t *testing.T, l, _ string) { writeByte(t, l, 5000) }), holds: "-", words: `--holds "unknown content"`},
	{name: "a backup of a partition table", set: func(t *testing.T, s *service) (string, string) {
		f := blankFile(t)
		must(t, "bash", "-c", `echo , | sfdisk -q --label gpt "$1"; dd if=/dev/zero of="$1" bs=64K count=1 conv=notrunc status=none`, "x", f)
		return loopOver(t, f), f
	}, holds: "-", words: "partition table (GPT)"},
	// What changed after consent.
	{name: "a link to another file since", set: linkedFile, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		other := blankFile(t)
		ok(t, os.Remove(l), os.Symlink(other, l))
	}, words: "no longer holds"},
	{name: "a link to a device since", set: linkedFile, spring: func(t *testing.T, s *service, l string, _ resource.Volume) {
		d, _ := device(t, s)
		ok(t, os.Remove(l), os.Symlink(d, l))
	}, words: "it was registered as a file"},
	{name: "a node bound to another file since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		must(t, "losetup", "--detach", l)
		must(t, "losetup", l, blankFile(t))
	}, words: "no longer holds"},
	{name: "a node bound to a copy since", set: func(t *testing.T, _ *service) (string, string) {
		f := blankFile(t)
		must(t, "mkfs.ext4", "-q", f)
		must(t, "cp", f, f+".copy")
		return loopOver(t, f), f + ".copy"
	}, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		copied := must(t, "losetup", "--noheadings", "--output", "BACK-FILE", l) + ".copy"
		must(t, "losetup", "--detach", l)
		must(t, "losetup", l, copied)
	}, words: "no longer holds"},
	{name: "a file system made since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { must(t, "mkfs.ext4", "-q", l) }, words: "no longer holds"},
	{name: "a file system made anew since", set: made("mkfs.ext4", "-q"), spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { must(t, "mkfs.ext4", "-q", "-F", l) }, words: "no longer holds"},
	{name: "files put on the file system since", set: made("mkfs.ext4", "-q"), spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		point := mountAt(t, l)
		ok(t, os.WriteFile(filepath.Join(point, "samples"), make([]byte, 1<<20), 0o600))
		unmount(t, point)
	}, words: "no longer holds"},
	{name: "its first byte written since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { writeByte(t, l, 0) }, words: "no longer holds"},
	{name: "its last byte written since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { writeByte(t, l, trapSize-1) }, words: "no longer holds"},
	{name: "another file moved in its place", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		ok(t, os.Rename(l, l+".old"), os.Rename(blankFile(t), l))
	}, words: "no longer holds"},
	{name: "a file that grew since", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { ok(t, os.Truncate(l, trapSize*2)) }, words: "no longer holds"},
	{name: "mounted since", set: made("mkfs.ext4", "-q"), spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { mountAt(t, l) }, words: "mounted on"},
	{name: "swap space since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		must(t, "mkswap", "-q", l)
		must(t, "swapon", l)
		t.Cleanup(func() { _ = exec.Command("swapoff", l).Run() })
	}, words: "swap space"},
	{name: "opened by another since", set: device, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		beside(t, `exec 3<>"$1"; `+untilInputEnds, l)
	}, words: "has it open"},
	{name: "bound to a loop device since", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { loopOver(t, l) }, words: "the loop device"},
	{name: "a folder since", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		ok(t, os.Rename(l, l+".old"), os.Mkdir(l, 0o700))
	}, words: "folder"},
	{name: "a FIFO since", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) {
		ok(t, os.Rename(l, l+".old"), unix.Mkfifo(l, 0o600))
	}, words: "not a folder, a file or a block device"},
	{name: "gone since", set: file, spring: func(t *testing.T, _ *service, l string, _ resource.Volume) { ok(t, os.Rename(l, l+".old")) }, words: "does not exist"},
	{name: "consent withdrawn since", set: device, spring: func(t *testing.T, s *service, _ string, v resource.Volume) {
		ok(t, s.WithdrawConsent(t.Context(), v.ID))
	}, words: "was not agreed to"},
	{name: "consent lapsed, and all is as before", set: device, spring: func(t *testing.T, s *service, l string, v resource.Volume) {
		writeByte(t, l, 0)
		if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: v.ID, Plan: onePlan(writing())}); err == nil {
			t.Error("it was written over at once")
		}
		f, err := os.OpenFile(l, os.O_WRONLY, 0)
		ok(t, err)
		_, err = f.WriteAt([]byte{0}, 0)
		ok(t, err, f.Sync(), f.Close())
	}, words: "no longer holds"},
}

func linkedFile(t *testing.T, _ *service) (string, string) {
	f := blankFile(t)
	link := filepath.Join(t.TempDir(), "link")
	ok(t, os.Symlink(f, link))
	return link, f
}

// partitionOf makes a partition of a loop device, with its node.
func partitionOf(t *testing.T, l string) string {
	t.Helper()
	must(t, "addpart", l, "1", "2048", "40960") // in the kernel alone; no table is written
	partition := l + "p1"
	if _, err := os.Stat(partition); errors.Is(err, fs.ErrNotExist) { // where nobody makes nodes
		text, err := os.ReadFile("/sys/class/block/" + filepath.Base(partition) + "/dev")
		ok(t, err)
		var major, minor uint32
		_, err = fmt.Sscanf(string(text), "%d:%d", &major, &minor)
		ok(t, err, unix.Mknod(partition, unix.S_IFBLK|0o600, int(unix.Mkdev(major, minor))))
		t.Cleanup(func() { os.Remove(partition) })
	}
	return partition
}

func writing() workload.Spec {
	return spec(func(w *workload.Spec) { w.Reads, w.Span, w.For = 0, 8192, 0.2 })
}

// content is a digest of what a trap guards: of swap space the first page, because the
// kernel may use all others.
func (c trap) content(t *testing.T, path string) string {
	if c.words == "swap space" {
		return contentOf(t, path, 4096)
	}
	return contentOf(t, path, math.MaxInt64)
}

// contentOf is a digest of what must not change, of up to so many bytes.
func contentOf(t *testing.T, path string, most int64) string {
	t.Helper()
	if info, err := os.Stat(path); err != nil || info.IsDir() || info.Mode()&os.ModeNamedPipe != 0 {
		return "" // there is no content that could be lost
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, io.LimitReader(f, most)); err != nil {
		t.Fatal(err)
	}
	return hex.EncodeToString(hash.Sum(nil))
}

// changes reports whether a file changes by itself: what the service keeps.
func changes(s *service, path string) bool {
	return strings.HasPrefix(path, s.data+"/heron.sqlite") || path == s.logFile || strings.Contains(path, "/link")
}

// Nothing in use, nothing of our own and nothing that was not named exactly is
// ever written over. Each trap refuses with its reason, and what it guards stays
// as it is, bit for bit.
func TestDestroysNothingUnnamed(t *testing.T) {
	t.Parallel()
	all := append(traps, siblingTraps()...)
	if len(all) < 120 {
		t.Errorf("the drill has only %d traps", len(all))
	}
	s := serve(t, filepath.Join(t.TempDir(), "data"), false)
	for _, trap := range all {
		t.Run(trap.name, func(t *testing.T) {
			locator, precious := trap.set(t, s)
			consent := trap.consent(t, locator)
			before := ""
			if !changes(s, precious) {
				before = trap.content(t, precious)
			}
			volume, err := s.AddVolume(t.Context(), resource.NewVolume{Name: fmt.Sprintf("trap %d", time.Now().UnixNano()), Locator: locator, Consent: &consent})
			if trap.spring == nil {
				if err == nil || !strings.Contains(err.Error(), trap.words) || !strings.Contains(err.Error(), "nothing was written") && trap.size == 0 && trap.serial == "" {
					t.Fatalf("consent: %v, want %q", err, trap.words)
				}
				// Without consent it may be measured by reading, and no more.
				if volume, err = s.AddVolume(t.Context(), resource.NewVolume{Locator: locator}); err != nil {
					t.Fatal(err)
				}
			} else {
				if err != nil {
					t.Fatalf("consent: %v", err)
				}
				trap.spring(t, s, locator, volume)
				if !changes(s, precious) {
					before = trap.content(t, precious)
				}
			}
			_, err = s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(writing())})
			if err == nil {
				t.Fatal("a run that writes was begun")
			}
			ok(t, s.RemoveVolume(t.Context(), volume.ID)) // its device is another's next
			if trap.spring != nil && !strings.Contains(err.Error(), trap.words) {
				t.Errorf("refused with %v, want %q", err, trap.words)
			}
			if before != "" && trap.content(t, precious) != before {
				t.Error("it was changed")
			}
		})
	}
}

// consent states what is there as exactly as a user could.
func (c trap) consent(t *testing.T, locator string) resource.ConsentToWrite {
	t.Helper()
	consent := resource.ConsentToWrite{Size: quantity.Bytes(c.size), Serial: c.serial}
	if c.size == 0 {
		f, err := os.Open(locator)
		ok(t, err)
		size, err := f.Seek(0, io.SeekEnd)
		ok(t, err, f.Close())
		consent.Size = quantity.Bytes(max(size, 1))
	}
	switch {
	case c.holds == "-":
	case c.holds == "?": // whatever it is, it is in use
	case c.holds != "":
		consent.Holds = c.holds
	default:
		kind := exec.Command("blkid", "--probe", "--output", "value", "--match-tag", "TYPE", locator)
		out, _ := kind.Output()
		consent.Holds = map[string]string{"ext4": "ext2/3/4"}[strings.TrimSpace(string(out))]
		if consent.Holds == "" {
			consent.Holds = strings.TrimSpace(string(out))
		}
	}
	return consent
}

// What waits is written only under consent that stands when its turn comes.
func TestConsentIsLookedAtWhenARunBegins(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	l, f := device(t, s)
	volume := s.volume(l, &resource.ConsentToWrite{Size: trapSize})
	first := s.begun(s.volume("null:1TiB", nil), onePlan(spec(func(w *workload.Spec) { w.For = 600 })))
	waiting, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(writing())})
	ok(t, err, s.WithdrawConsent(t.Context(), volume.ID))
	before := contentOf(t, f, math.MaxInt64)
	ok(t, s.StopRun(t.Context(), first, false))
	if run := s.finished(waiting.ID); run.Status != resource.Failed || !strings.Contains(run.Reason, "not agreed to") || contentOf(t, f, math.MaxInt64) != before {
		t.Errorf("it is %s: %s", run.Status, run.Reason)
	}
	// Given anew, runs follow each other, each on what the one before left; what
	// another writes between ends it.
	_, err = s.GiveConsent(t.Context(), volume.ID, resource.ConsentToWrite{Size: trapSize})
	ok(t, err)
	for range 3 {
		if run := s.measured(volume, onePlan(writing())); run.Status != resource.Finished {
			t.Fatalf("%s: %s", run.Status, run.Reason)
		}
	}
	writeByte(t, l, 0)
	if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(writing())}); err == nil || !strings.Contains(err.Error(), "no longer holds") {
		t.Errorf("written by another since: %v", err)
	}
	out, _, err := s.cli("volume", "list")
	if err != nil || !strings.Contains(out, "consent lapsed") {
		t.Errorf("the list does not say so (%v):\n%s", err, out)
	}
}
