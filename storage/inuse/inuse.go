// Package inuse finds who uses a file or a block device, so that nothing in use is written
// over: mounts, swap space, layers that stand on it, loop devices, targets that serve it,
// processes that have it open, mapped or locked; the same of what it stands on itself, and
// of whatever else stands on that.
//
// Find looks at an opened descriptor, so that what was looked at is what is written. It
// sees what this host's /proc and /sys show; what they cannot show, the kernel is asked for
// by opening exclusively (Lock).
package inuse

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/storage/identity"
)

// Use is one use of storage.
type Use struct {
	What string // in words: "sda1 holds ext4 mounted on /srv"
	Next string // what frees it: "unmount it"
}

// Find names the first use that is found of what is opened, or gives nil, with the stack
// that it was found in.
func Find(file *os.File) (*Use, *identity.Stack, error) {
	stack, err := identity.This.Resolve(file)
	if err != nil {
		return nil, nil, err
	}
	use, err := Of(identity.This, stack)
	return use, stack, err
}

// Of names the first use that is found of a stack by others than this process and some more,
// or gives nil. It tries again for a moment before it blames a process, since some open every
// device for an instant when it changes.
func Of(host identity.Host, stack *identity.Stack, except ...int) (*Use, error) {
	l := &look{host: host, stack: stack, except: append(except, os.Getpid())}
	var err error
	if l.mounts, err = host.Mounts(); err != nil {
		return nil, err
	}
	if use := l.layers(); use != nil {
		return use, nil
	}
	var use *Use
	for range 5 {
		if use = l.processes(); use == nil {
			return nil, nil
		}
		time.Sleep(60 * time.Millisecond)
	}
	return use, nil
}

// look is a look for uses of a stack.
type look struct {
	host   identity.Host
	stack  *identity.Stack
	mounts []identity.Mount
	except []int // processes that are not looked at
}

// layers looks for uses within the kernel: of each member, and that a layer stands on the
// same storage at all.
func (l *look) layers() *Use {
	for _, m := range l.stack.Members {
		for _, find := range []func(identity.Member) *Use{l.mounted, l.swapped, l.served, l.held} {
			if use := find(m); use != nil {
				return l.of(m, use)
			}
		}
	}
	var use *Use
	for _, m := range l.stack.Members {
		switch {
		case m.Relation != identity.Beside:
		case m.Kind == identity.Loop:
			use = &Use{fmt.Sprintf("the loop device %s is bound to it", m.Name), fmt.Sprintf("detach that (losetup --detach /dev/%s)", m.Name)}
		case m.Kind == identity.Layer:
			use = &Use{fmt.Sprintf("it is in use by %s", m.Name), "take it out of there"}
		}
		if use != nil {
			if busy := l.opened(l.stack.Members); busy != nil {
				return busy // which says more
			}
			return use
		}
	}
	return nil
}

// of adds to a use of a member how that stands to what was looked at.
func (l *look) of(m identity.Member, use *Use) *Use {
	own := l.stack.Members[0].Name
	words := ""
	switch {
	case m.Relation == identity.Itself:
		return use
	case m.Relation == identity.Below:
		words = fmt.Sprintf("%s, which %s stands on", m.Name, own)
	case m.Kind == identity.Path:
		words = m.Name + ", another path to the same unit"
	case m.Kind == identity.Partition:
		return use // whose name says of which disk
	default:
		words = fmt.Sprintf("%s, a %s on the same storage", m.Name, m.Kind)
	}
	return &Use{use.What + " (" + words + ")", use.Next}
}

// mounted looks for a mount of a device, in any mount namespace.
func (l *look) mounted(m identity.Member) *Use {
	if m.IsFile() {
		return nil // it is mounted through a loop device, if at all
	}
	for _, mount := range l.mounts {
		// btrfs shows a number of its own; the source names the device.
		named := strings.HasPrefix(mount.Source, "/dev/") && filepath.Base(mount.Source) == m.Name
		if mount.Device != m.Device && !named {
			continue
		}
		kind, where := mount.Kind, ""
		if kind == "" {
			kind = "a file system"
		}
		if mount.Process != 0 {
			where = fmt.Sprintf(" for %s alone, and others beside it", process(l.host.Root, mount.Process))
		}
		return &Use{fmt.Sprintf("%s holds %s mounted on %s%s", m.Name, kind, mount.Point, where), "unmount it"}
	}
	return nil
}

// swapped looks for swap space: of a device, or of a file.
func (l *look) swapped(m identity.Member) *Use {
	swaps, _ := os.ReadFile(filepath.Join(l.host.Root, "proc/swaps"))
	for line := range strings.Lines(string(swaps)) {
		source, _, _ := strings.Cut(line, " ")
		source = strings.TrimSuffix(identity.Unescape(source), " (deleted)")
		name := filepath.Base(source)
		if filepath.Dir(source) == "/dev" && name == m.Name && !m.IsFile() || same(m, source) {
			return &Use{name + " is swap space of this host", "switch that off"}
		}
	}
	return nil
}

// served looks for targets in the kernel that serve it to other hosts, and for compressed
// memory that spills to it. They name paths.
func (l *look) served(m identity.Member) *Use {
	for _, by := range [][2]string{
		{"sys/kernel/config/target/core/*/*/udev_path", "an iSCSI target of this host serves it"},
		{"sys/kernel/config/nvmet/subsystems/*/namespaces/*/device_path", "an NVMe target of this host serves it"},
		{"sys/block/zram*/backing_dev", "compressed memory of this host spills to it"},
	} {
		places, _ := filepath.Glob(filepath.Join(l.host.Root, by[0]))
		for _, place := range places {
			if text, err := os.ReadFile(place); err == nil && same(m, strings.TrimSpace(string(text))) {
				return &Use{by[1], "take it out of there"}
			}
		}
	}
	return nil
}

// held looks for layers of the kernel that hold a device and are no members: of those that
// are, it is known whether they are in the way.
func (l *look) held(m identity.Member) *Use {
	if m.IsFile() {
		return nil
	}
	folders, _ := filepath.Glob(filepath.Join(l.host.Root, "sys/class/block", m.Name, "holders"))
	inner, _ := filepath.Glob(filepath.Join(l.host.Root, "sys/class/block/*", m.Name, "holders"))
	for _, folder := range append(folders, inner...) {
		holders, _ := os.ReadDir(folder)
		for _, h := range holders {
			if _, err := os.Stat(filepath.Join(l.host.Root, "sys/class/block", h.Name(), "dev")); err != nil {
				return &Use{fmt.Sprintf("%s is in use by %s", m.Name, h.Name()), "take it out of there"}
			}
		}
	}
	return nil
}

// same reports whether a path leads to a member. It asks no server.
func same(m identity.Member, path string) bool {
	if !strings.HasPrefix(path, "/") {
		return false
	}
	at, ok := thingAt(path)
	return ok && m.Has(at)
}

// nodeAt is the file itself that a path leads to, whatever device it may name.
func nodeAt(path string) (identity.Thing, bool) {
	var stat unix.Stat_t
	if unix.Stat(path, &stat) != nil {
		return identity.Thing{}, false
	}
	return identity.FileThing(identity.Pair(stat.Dev), stat.Ino), true
}

// thingAt tells what a path leads to without asking a server that may not answer.
func thingAt(path string) (identity.Thing, bool) {
	var stat unix.Statx_t
	if unix.Statx(unix.AT_FDCWD, path, unix.AT_STATX_DONT_SYNC, unix.STATX_TYPE|unix.STATX_INO, &stat) != nil {
		return identity.Thing{}, false
	}
	if stat.Mode&unix.S_IFMT == unix.S_IFBLK {
		return identity.Thing{Device: fmt.Sprintf("%d:%d", stat.Rdev_major, stat.Rdev_minor)}, true
	}
	return identity.FileThing(fmt.Sprintf("%d:%d", stat.Dev_major, stat.Dev_minor), stat.Ino), true
}
