// Package identity tells what an opened file or block device stands on, layer by layer
// down to the media, and what else of this host stands on the same: loop devices over one
// file, partitions, mapped devices, RAID members, other paths to one unit, files that an
// overlay shows under another number.
//
// Resolve looks at a descriptor, so that what was looked at is what is written. Who uses
// any of it is found by package inuse; whether a service keeps any of it for itself, and
// whether it still is what was agreed to, is asked of the same Stack. What cannot be
// resolved is an error: nobody knows then what a write would overwrite.
package identity

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Thing is what bytes can be written to, by what the kernel knows it by.
type Thing struct {
	Device string // major:minor of a block device; "" for a file
	File   string // of a file: major:minor of its file system, and the number of its inode
	Part   string // of a device that gives parts out under numbers, such as a thin pool
}

// IsFile reports a file.
func (t Thing) IsFile() bool { return t.File != "" }

// FileThing is a file by the device of its file system and its inode.
func FileThing(device string, inode uint64) Thing {
	return Thing{File: fmt.Sprintf("%s inode %d", device, inode)}
}

// Relation is how something stands to what was resolved.
type Relation uint8

// The relations.
const (
	Itself Relation = iota // what was opened
	Below                  // it stands on this
	Beside                 // this stands on the same storage, on all of it or on a part
)

// Kind is what a member of a stack is.
type Kind string

// The kinds.
const (
	File      Kind = "file"
	Disk      Kind = "disk" // or whatever stands on nothing that is known
	Path      Kind = "path" // one of several disks that are the same unit
	Partition Kind = "partition"
	Loop      Kind = "loop device"
	Layer     Kind = "layer" // a mapped device, a RAID, a cache
)

// Member is one device or file of a stack.
type Member struct {
	Relation
	Kind
	Thing
	Name string  // of a device, such as sda1; the path of a file, as far as it is known
	Keys []Thing // under which others may know it: its own, and those of an overlay
	Node Thing   // the file that a device was opened by, which locks are about
}

// Stack is what was opened, what it stands on, and what else stands on that.
type Stack struct {
	Members []Member // what was opened comes first
	names   []string // what tells those below from others later, from the top down
}

// Resolve finds the stack of an opened file or block device.
func (h Host) Resolve(file *os.File) (*Stack, error) {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return nil, fmt.Errorf("look at %s: %w", file.Name(), err)
	}
	if stat.Mode&unix.S_IFMT == unix.S_IFBLK {
		link, err := os.Readlink(filepath.Join(h.Root, "sys/dev/block", Pair(stat.Rdev)))
		if err != nil {
			return nil, fmt.Errorf("find the device behind %s: %w", file.Name(), err)
		}
		s, err := h.OfDevice(filepath.Base(link))
		if err == nil {
			s.Members[0].Node = FileThing(Pair(stat.Dev), stat.Ino)
		}
		return s, err
	}
	m, err := h.devices()
	if err != nil {
		return nil, err
	}
	path, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", file.Fd()))
	if err != nil {
		path = file.Name()
	}
	return m.stack(m.file(path, FileThing(Pair(stat.Dev), stat.Ino)))
}

// FileRange is a range of a file on which a range of something lies.
type FileRange struct {
	Path     string
	Keys     []Thing // under which the file may be known
	From, To int64
}

// FileRanges are the ranges of files on which a range of an opened file or device lies, as far as
// they are known byte by byte: what a layer scatters over others, and what lies on a disk, is in
// none of them.
func (h Host) FileRanges(file *os.File, from, to int64) (ranges []FileRange, err error) {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return nil, fmt.Errorf("look at %s: %w", file.Name(), err)
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFBLK {
		return []FileRange{{fmt.Sprintf("/proc/self/fd/%d", file.Fd()), []Thing{FileThing(Pair(stat.Dev), stat.Ino)}, from, to}}, nil
	}
	m, err := h.devices()
	if err != nil {
		return nil, err
	}
	var descend func(n *node, e extent, depth int)
	descend = func(n *node, e extent, depth int) {
		switch {
		case n == nil || n.trouble != nil || depth > deepest:
			return
		case n.kind == File:
			ranges = append(ranges, FileRange{n.name, n.keys, e.from, e.to})
			return
		}
		for _, p := range n.over {
			if part, any := p.under(e); any && !p.scattered {
				descend(m.byThing[p.Thing], part, depth+1)
			}
		}
	}
	descend(m.byThing[Thing{Device: Pair(stat.Rdev)}], extent{from: from, to: to}, 0)
	return ranges, nil
}

// OfDevice finds the stack of a block device by its name.
func (h Host) OfDevice(name string) (*Stack, error) {
	m, err := h.devices()
	if err != nil {
		return nil, err
	}
	self := m.byName[name]
	if self == nil {
		return nil, fmt.Errorf("the kernel shows no block device %s", name)
	}
	return m.stack(self)
}

// stack collects what a node stands on, and what else stands on that.
func (m *devices) stack(self *node) (*Stack, error) {
	s := &Stack{}
	reached, below, err := m.ground(self)
	if err != nil {
		return nil, fmt.Errorf("what %s stands on cannot be told, and so not what a write would overwrite: %w", self.name, err)
	}
	seen := map[*node]bool{}
	add := func(n *node, r Relation) {
		if !seen[n] {
			seen[n] = true
			s.Members = append(s.Members, Member{Relation: r, Kind: n.kind, Thing: n.thing, Name: n.name, Keys: n.keys})
		}
	}
	add(self, Itself)
	for _, n := range below {
		if !seen[n] {
			s.names = append(s.names, m.nameOf(n))
		}
		add(n, Below)
	}
	for _, n := range m.all {
		// Where on the devices that it holds something lies may not be known; then it may
		// lie anywhere.
		theirs, _, err := m.ground(n)
		if err != nil {
			theirs = m.heldBy(n)
		}
		if !seen[n] && meet(reached, theirs) {
			add(n, Beside)
		}
	}
	return s, nil
}

// heldBy are the devices that the kernel shows a device to hold, all of each.
func (m *devices) heldBy(n *node) (held []extent) {
	below, _ := os.ReadDir(filepath.Join(m.Root, "sys/class/block", n.name, "slaves"))
	for _, b := range below {
		if slave := m.byName[b.Name()]; slave != nil {
			held = append(held, extent{Thing: slave.thing, to: endless})
		}
	}
	return held
}

// Files are the files that what was resolved lies in: itself, or what is below.
func (s *Stack) Files() (keys []Thing) {
	for _, m := range s.Members {
		if m.Relation != Beside && m.IsFile() {
			keys = append(keys, m.Keys...)
		}
	}
	return keys
}

// Behind names what is below, from the top down: another stack under the same name has
// other words.
func (s *Stack) Behind() string { return strings.Join(s.names, ", ") }

// nameOf is what tells a member from another that has its number later.
func (m *devices) nameOf(n *node) string {
	if n.thing.IsFile() {
		return "file " + n.keys[0].File
	}
	for _, place := range []string{"dm/uuid", "md/uuid", "wwid", "device/wwid", "serial", "device/serial"} {
		if id := m.attribute(n.name, place); id != "" {
			return fmt.Sprintf("%s %s", n.kind, id)
		}
	}
	return fmt.Sprintf("%s %s", n.kind, n.thing.Device)
}

// Has reports whether a member is known by any of some keys.
func (m Member) Has(keys ...Thing) bool {
	return slices.ContainsFunc(m.Keys, func(k Thing) bool { return slices.Contains(keys, k) })
}

// Pair is a device number as /proc and /sys write it.
func Pair(number uint64) string {
	return fmt.Sprintf("%d:%d", unix.Major(number), unix.Minor(number))
}
