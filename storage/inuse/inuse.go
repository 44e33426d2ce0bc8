// Package inuse finds who uses a file or a block device, so that nothing in
// use is written over: mounts, swap space, layers that hold a device, loop
// devices, targets that serve it, processes that have it open, mapped or
// locked.
//
// Find looks at an opened descriptor, so that what was looked at is what is
// written. It sees what this host's /proc and /sys show; what they cannot
// show, the kernel is asked for by opening exclusively (Claim).
package inuse

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Use is one use of storage.
type Use struct {
	What string // in words: "sda1 holds ext4 mounted on /srv"
	Next string // what frees it: "unmount it"
}

// target is what is looked for.
type target struct {
	root    string            // where /proc and /sys are found; "/" but in tests
	numbers map[string]string // of a device, its partitions and the disk it is part of: major:minor to name
	device  string            // of a file: major:minor of its file system
	inode   uint64            // of the file, or of the node that names the device
	node    string            // major:minor of the file system that holds the node
	own     string            // of a device: its own major:minor
	isFile  bool
}

// Find names the first use that is found of what is opened, or gives nil. It
// tries again for a moment before it blames a process, since some open every
// device for an instant when it changes.
func Find(file *os.File) (*Use, error) {
	t, err := targetOf(file)
	if err != nil {
		return nil, err
	}
	if use, err := t.layers(); use != nil || err != nil {
		return use, err
	}
	var use *Use
	for range 5 {
		if use = t.processes(); use == nil {
			return nil, nil
		}
		time.Sleep(60 * time.Millisecond)
	}
	return use, nil
}

// targetOf tells what a descriptor is about.
func targetOf(file *os.File) (target, error) {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return target{}, fmt.Errorf("look at %s: %w", file.Name(), err)
	}
	t := target{root: "/", inode: stat.Ino, node: pair(stat.Dev)}
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		t.isFile, t.device = true, pair(stat.Dev)
	case unix.S_IFBLK:
		name, err := os.Readlink("/sys/dev/block/" + pair(stat.Rdev))
		if err != nil {
			return t, fmt.Errorf("find the device behind %s: %w", file.Name(), err)
		}
		t.own = pair(stat.Rdev)
		t.family(filepath.Base(name))
	}
	return t, nil
}

func pair(number uint64) string {
	return fmt.Sprintf("%d:%d", unix.Major(number), unix.Minor(number))
}

// family collects the numbers of a device, its partitions, and of the disk
// that it is a partition of; and the same of other disks that say they are the
// same storage, because they are other paths to it.
func (t *target) family(name string) {
	t.numbers = map[string]string{}
	disk := t.relatives(name)
	id, err := os.ReadFile(filepath.Join(t.root, "sys/class/block", disk, "device/wwid"))
	if err != nil || strings.TrimSpace(string(id)) == "" {
		return
	}
	others, _ := filepath.Glob(filepath.Join(t.root, "sys/class/block/*/device/wwid"))
	for _, place := range others {
		if its, err := os.ReadFile(place); err == nil && string(its) == string(id) {
			t.relatives(filepath.Base(filepath.Dir(filepath.Dir(place))))
		}
	}
}

// relatives collects the numbers of a device, its partitions, and of the disk that
// it is a partition of. It gives the name of the disk.
func (t *target) relatives(name string) (disk string) {
	disk = name
	add := func(folder, name string) {
		if text, err := os.ReadFile(filepath.Join(folder, "dev")); err == nil {
			t.numbers[strings.TrimSpace(string(text))] = name
		}
	}
	block := filepath.Join(t.root, "sys/class/block", name)
	add(block, name)
	entries, _ := os.ReadDir(block + "/.")
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), name) {
			add(filepath.Join(block, e.Name()), e.Name())
		}
	}
	if _, err := os.Stat(filepath.Join(block, "partition")); err == nil {
		if real, err := filepath.EvalSymlinks(block); err == nil {
			disk = filepath.Base(filepath.Dir(real))
			add(filepath.Dir(real), disk)
		}
	}
	return disk
}

// layers looks for uses within the kernel.
func (t *target) layers() (*Use, error) {
	for _, look := range []func() (*Use, error){t.held, t.mounted, t.swapped, t.looped, t.served} {
		if use, err := look(); use != nil || err != nil {
			return use, err
		}
	}
	return nil, nil
}

// held looks for layers of the kernel that a device belongs to.
func (t *target) held() (*Use, error) {
	for _, name := range t.names() {
		folders, _ := filepath.Glob(filepath.Join(t.root, "sys/class/block", name, "holders"))
		more, _ := filepath.Glob(filepath.Join(t.root, "sys/class/block/*", name, "holders"))
		for _, folder := range append(folders, more...) {
			if holders, _ := os.ReadDir(folder); len(holders) > 0 {
				return &Use{fmt.Sprintf("%s is in use by %s", name, holders[0].Name()), "take it out of there"}, nil
			}
		}
	}
	return nil, nil
}

func (t *target) names() []string {
	var names []string
	for _, name := range t.numbers {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// mounted looks for a mount of a device.
func (t *target) mounted() (*Use, error) {
	if t.isFile {
		return nil, nil // it is mounted through a loop device, if at all
	}
	mounts, err := os.ReadFile(filepath.Join(t.root, "proc/self/mountinfo"))
	if err != nil {
		return nil, fmt.Errorf("cannot see what is mounted: %w", err)
	}
	for line := range strings.Lines(string(mounts)) {
		// Fields: id parent major:minor root mount-point … - type source options
		// (proc(5)).
		before, after, _ := strings.Cut(line, " - ")
		fields, of := strings.Fields(before), strings.Fields(after)
		if len(fields) < 5 {
			continue
		}
		part, mounted := t.numbers[fields[2]]
		if !mounted && len(of) > 1 && strings.HasPrefix(of[1], "/dev/") {
			// btrfs shows a number of its own; the source names the device.
			part = filepath.Base(of[1])
			mounted = slices.Contains(t.names(), part)
		}
		if mounted {
			kind := "a file system"
			if len(of) > 0 {
				kind = of[0]
			}
			return &Use{fmt.Sprintf("%s holds %s mounted on %s", part, kind, fields[4]), "unmount it"}, nil
		}
	}
	return nil, nil
}

// swapped looks for swap space: of a device, or of a file.
func (t *target) swapped() (*Use, error) {
	swaps, _ := os.ReadFile(filepath.Join(t.root, "proc/swaps"))
	for line := range strings.Lines(string(swaps)) {
		source, _, _ := strings.Cut(line, " ")
		source = Unescape(source)
		name := filepath.Base(source)
		if filepath.Dir(source) == "/dev" && slices.Contains(t.names(), name) || t.same(source) {
			return &Use{name + " is swap space of this host", "switch that off"}, nil
		}
	}
	return nil, nil
}

// Unescape undoes the octal escapes of /proc (proc(5)).
func Unescape(text string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(text)
}

// same reports whether a path leads to the target. It asks no server.
func (t *target) same(path string) bool {
	if !strings.HasPrefix(path, "/") {
		return false
	}
	device, inode, rdev, ok := number(path)
	if t.isFile {
		return ok && device == t.device && inode == t.inode
	}
	_, is := t.numbers[rdev]
	return ok && is
}

// number tells what a path leads to without asking a server that may not
// answer: major:minor of its file system, inode, and major:minor of a block
// device.
func number(path string) (device string, inode uint64, rdev string, ok bool) {
	var stat unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, path, unix.AT_STATX_DONT_SYNC, unix.STATX_TYPE|unix.STATX_INO, &stat) != nil {
		return "", 0, "", false
	}
	if stat.Mode&unix.S_IFMT == unix.S_IFBLK {
		rdev = fmt.Sprintf("%d:%d", stat.Rdev_major, stat.Rdev_minor)
	}
	return fmt.Sprintf("%d:%d", stat.Dev_major, stat.Dev_minor), stat.Ino, rdev, true
}

// looped looks for loop devices over a file or over another device.
func (t *target) looped() (*Use, error) {
	loops, _ := filepath.Glob(filepath.Join(t.root, "sys/block/loop*/loop/backing_file"))
	for _, place := range loops {
		text, err := os.ReadFile(place)
		if err != nil {
			continue
		}
		name := filepath.Base(filepath.Dir(filepath.Dir(place)))
		backing := strings.TrimSuffix(string(text), "\n")
		if t.same(backing) || t.backs(name) {
			return &Use{fmt.Sprintf("the loop device %s is bound to it", name), "detach that (losetup --detach /dev/" + name + ")"}, nil
		}
	}
	return nil, nil
}

// backs asks a loop device itself what is behind it, since the name of a
// backing file may have changed (ioctl LOOP_GET_STATUS64, linux/loop.h).
func (t *target) backs(name string) bool {
	status, err := LoopStatus(name)
	if err != nil {
		return false
	}
	if t.isFile {
		return pair(status.Device) == t.device && status.Inode == t.inode
	}
	_, is := t.numbers[pair(status.Rdevice)]
	return status.Rdevice != 0 && is
}

// LoopStatus tells what is behind a loop device.
func LoopStatus(name string) (*unix.LoopInfo64, error) {
	fd, err := unix.Open("/dev/"+name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return unix.IoctlLoopGetStatus64(fd)
}

// served looks for targets in the kernel that serve it to other hosts, and for
// compressed memory that spills to it. They name paths.
func (t *target) served() (*Use, error) {
	for pattern, what := range map[string]string{
		"sys/kernel/config/target/core/*/*/udev_path":                   "an iSCSI target of this host serves it",
		"sys/kernel/config/nvmet/subsystems/*/namespaces/*/device_path": "an NVMe target of this host serves it",
		"sys/block/zram*/backing_dev":                                   "compressed memory of this host spills to it",
	} {
		places, _ := filepath.Glob(filepath.Join(t.root, pattern))
		for _, place := range places {
			if text, err := os.ReadFile(place); err == nil && t.same(strings.TrimSpace(string(text))) {
				return &Use{what, "take it out of there"}, nil
			}
		}
	}
	return nil, nil
}

// processes looks for processes that have it open, mapped or locked.
func (t *target) processes() *Use {
	if use := t.locked(); use != nil {
		return use
	}
	entries, _ := os.ReadDir(filepath.Join(t.root, "proc"))
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		if how := t.heldBy(filepath.Join(t.root, "proc", e.Name())); how != "" {
			return &Use{fmt.Sprintf("%s has it %s", t.process(pid), how), "end that, or let it close it"}
		}
	}
	return nil
}

// heldBy says how a process has it: open, mapped, or not at all.
func (t *target) heldBy(process string) string {
	descriptors, _ := os.ReadDir(filepath.Join(process, "fd"))
	for _, d := range descriptors {
		device, inode, rdev, ok := number(filepath.Join(process, "fd", d.Name()))
		if !ok {
			continue
		}
		if _, is := t.numbers[rdev]; is || t.isFile && rdev == "" && device == t.device && inode == t.inode {
			return "open"
		}
	}
	if !t.isFile {
		return ""
	}
	maps, err := os.ReadFile(filepath.Join(process, "maps"))
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(maps)) {
		// Fields: addresses rights offset major:minor inode path, the numbers of
		// the device in hexadecimal (proc(5)).
		fields := strings.Fields(line)
		if len(fields) < 6 || fields[4] == "0" {
			continue
		}
		if fields[4] == strconv.FormatUint(t.inode, 10) && decimal(fields[3]) == t.device {
			return "mapped"
		}
	}
	return ""
}

// decimal turns "fd:01" into "253:1".
func decimal(hexadecimal string) string {
	major, minor, _ := strings.Cut(hexadecimal, ":")
	a, errA := strconv.ParseUint(major, 16, 32)
	b, errB := strconv.ParseUint(minor, 16, 32)
	if errors.Join(errA, errB) != nil {
		return ""
	}
	return fmt.Sprintf("%d:%d", a, b)
}

// locked looks for a lock that another process holds (proc(5), /proc/locks).
func (t *target) locked() *Use {
	locks, err := os.ReadFile(filepath.Join(t.root, "proc/locks"))
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(locks)) {
		// Fields: number kind mode access pid major:minor:inode from to.
		fields := strings.Fields(line)
		if len(fields) < 6 || fields[1] == "->" {
			continue
		}
		device, inode, found := cutLast(fields[5])
		if !found || inode != strconv.FormatUint(t.inode, 10) || decimal(device) != t.node {
			continue
		}
		if pid, _ := strconv.Atoi(fields[4]); pid != os.Getpid() {
			return &Use{fmt.Sprintf("%s has locked it", t.process(pid)), "end that, or let it give the lock back"}
		}
	}
	return nil
}

func cutLast(text string) (before, after string, found bool) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 {
		return text, "", false
	}
	return text[:i], text[i+1:], true
}

// process names a process.
func (t *target) process(pid int) string {
	name, err := os.ReadFile(filepath.Join(t.root, "proc", strconv.Itoa(pid), "comm"))
	if err != nil || pid <= 0 {
		return "another process"
	}
	return fmt.Sprintf("process %d (%s)", pid, strings.TrimSpace(string(name)))
}
