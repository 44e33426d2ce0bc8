package identity

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Host is where the kernel shows what there is.
type Host struct {
	Root string // where /proc and /sys are found; "/" but in tests
	// Loop tells what is behind a loop device, and Table what a mapped device is made of.
	Loop  func(name string) (*unix.LoopInfo64, error)
	Table func(name string) ([]Target, error)
}

// This is the host that the process runs on.
var This = Host{Root: "/", Loop: LoopStatus, Table: tableOf}

// extent is a range of a thing in bytes; to is endless for its end.
type extent struct {
	Thing
	from, to int64
	through  *node // a layer that scatters its bytes over what is below, through which this was reached
}

const endless = 1<<63 - 1

// meets reports whether two ranges have bytes in common. Those that were reached through
// the same layer that scatters its bytes have met, or not, above it.
func (e extent) meets(other extent) bool {
	return e.Thing == other.Thing && e.from < other.to && other.from < e.to && (e.through == nil || e.through != other.through)
}

func meet(some, others []extent) bool {
	for _, e := range some {
		for _, other := range others {
			if e.meets(other) {
				return true
			}
		}
	}
	return false
}

// piece is a range that a device stands on.
type piece struct {
	extent
	at        int64 // where in the device the range lies
	scattered bool  // not in one piece: any byte of the device may lie anywhere in it
}

// under is the part of a piece that a range of the device lies on.
func (p piece) under(of extent) (part extent, any bool) {
	part = extent{p.Thing, p.from, p.to, of.through}
	if p.scattered {
		return part, true
	}
	length := p.to - p.from // nearly endless for a piece without an end
	first, last := max(of.from-p.at, 0), min(of.to-p.at, length)
	if of.to == endless {
		last = length
	}
	if first >= last {
		return part, false
	}
	part.from = p.from + first
	if last < length || p.to != endless {
		part.to = p.from + last
	}
	return part, true
}

// node is a block device, or a file that one stands on.
type node struct {
	name    string
	kind    Kind
	thing   Thing
	keys    []Thing
	over    []piece
	trouble error // why it cannot be told what it stands on
}

// devices are the block devices of a host, with what each stands on.
type devices struct {
	Host
	mounts  []Mount
	all     []*node // by name
	byName  map[string]*node
	byThing map[Thing]*node
}

func (h Host) devices() (*devices, error) {
	m := &devices{Host: h, byName: map[string]*node{}, byThing: map[Thing]*node{}}
	entries, err := os.ReadDir(filepath.Join(h.Root, "sys/class/block"))
	if err != nil {
		return nil, fmt.Errorf("cannot see which block devices there are: %w", err)
	}
	if m.mounts, err = h.Mounts(); err != nil {
		return nil, err
	}
	for _, e := range entries {
		m.add(e.Name(), e.Name())
		// A disk's partitions have links of their own beside it; not so where /sys is
		// made of files.
		inner, _ := os.ReadDir(filepath.Join(h.Root, "sys/class/block", e.Name()) + "/.")
		for _, i := range inner {
			if strings.HasPrefix(i.Name(), e.Name()) {
				m.add(i.Name(), filepath.Join(e.Name(), i.Name()))
			}
		}
	}
	for _, n := range m.all {
		n.over, n.trouble = m.below(n)
	}
	m.joinPaths()
	return m, nil
}

// add adds a device whose folder is at a place below /sys/class/block.
func (m *devices) add(name, place string) {
	number := m.attribute(place, "dev")
	if number == "" || m.byName[name] != nil {
		return
	}
	n := &node{name: name, kind: Disk, thing: Thing{Device: number}}
	n.keys = []Thing{n.thing}
	m.all = append(m.all, n)
	m.byName[name], m.byThing[n.thing] = n, n
}

// attribute is what a file in a device's folder in /sys says.
func (m *devices) attribute(name, place string) string {
	text, _ := os.ReadFile(filepath.Join(m.Root, "sys/class/block", name, place))
	return strings.TrimSpace(string(text))
}

func (m *devices) number(name, place string) int64 {
	n, _ := strconv.ParseInt(m.attribute(name, place), 10, 64)
	return n
}

const sector = 512

// below finds what a device stands on, and what kind it is by that.
func (m *devices) below(n *node) ([]piece, error) {
	switch {
	case m.attribute(n.name, "partition") != "":
		n.kind = Partition
		return m.ofPartition(n)
	case strings.HasPrefix(n.name, "loop"):
		return m.ofLoop(n)
	case m.attribute(n.name, "dm/name") != "":
		n.kind = Layer
		targets, err := m.Table(n.name)
		if err == nil {
			return m.ofTable(targets), nil
		}
	}
	return m.ofSlaves(n)
}

// ofPartition: a partition is a range of its disk (Documentation/ABI/stable/sysfs-block).
func (m *devices) ofPartition(n *node) ([]piece, error) {
	real, err := filepath.EvalSymlinks(filepath.Join(m.Root, "sys/class/block", n.name))
	if err != nil {
		return nil, fmt.Errorf("find the disk of the partition %s: %w", n.name, err)
	}
	disk := m.byName[filepath.Base(filepath.Dir(real))]
	if disk == nil {
		return nil, fmt.Errorf("the disk of the partition %s is not shown", n.name)
	}
	from, length := m.number(n.name, "start")*sector, m.number(n.name, "size")*sector
	p := piece{extent: extent{Thing: disk.thing, from: from, to: from + length}}
	if length == 0 {
		p.to = endless
	}
	return []piece{p}, nil
}

// ofLoop: a loop device is a range of a file or of another device.
func (m *devices) ofLoop(n *node) ([]piece, error) {
	status, err := m.Loop(n.name)
	backing := m.attribute(n.name, "loop/backing_file")
	switch {
	case err == nil:
	case errors.Is(err, unix.ENXIO) || backing == "":
		return nil, nil // nothing is behind it
	default: // it may not be asked; /sys tells the same, but for what was renamed
		if status, err = m.loopByName(n.name, backing); err != nil {
			return nil, err
		}
	}
	n.kind = Loop
	p := piece{extent: extent{from: int64(status.Offset), to: endless}}
	if status.Sizelimit > 0 {
		p.to = p.from + int64(status.Sizelimit)
	}
	if status.Rdevice != 0 {
		p.Thing = Thing{Device: Pair(status.Rdevice)}
		return []piece{p}, nil
	}
	p.Thing = m.file(strings.TrimSuffix(backing, " (deleted)"), FileThing(Pair(status.Device), status.Inode)).thing
	return []piece{p}, nil
}

func (m *devices) loopByName(name, backing string) (*unix.LoopInfo64, error) {
	var stat unix.Stat_t
	if err := unix.Stat(backing, &stat); err != nil {
		return nil, fmt.Errorf("look at %s, which the loop device %s is bound to: %w", backing, name, err)
	}
	status := &unix.LoopInfo64{Device: stat.Dev, Inode: stat.Ino, Offset: uint64(m.number(name, "loop/offset")), Sizelimit: uint64(m.number(name, "loop/sizelimit"))}
	if stat.Mode&unix.S_IFMT == unix.S_IFBLK {
		status.Rdevice = stat.Rdev
	}
	return status, nil
}

// LoopStatus tells what is behind a loop device (ioctl LOOP_GET_STATUS64, linux/loop.h),
// since the name of a backing file may have changed. Without one it gives ENXIO.
func LoopStatus(name string) (*unix.LoopInfo64, error) {
	fd, err := unix.Open("/dev/"+name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	return unix.IoctlLoopGetStatus64(fd)
}

// ofSlaves: of whatever else stands on devices the kernel shows which these are. Where its
// bytes lie on them is not known.
func (m *devices) ofSlaves(n *node) (over []piece, err error) {
	below, _ := os.ReadDir(filepath.Join(m.Root, "sys/class/block", n.name, "slaves"))
	for _, b := range below {
		slave := m.byName[b.Name()]
		if slave == nil {
			return nil, fmt.Errorf("%s, which %s is made of, is not shown", b.Name(), n.name)
		}
		over = append(over, piece{extent: extent{Thing: slave.thing, to: endless}, scattered: true})
	}
	if len(over) > 0 {
		n.kind = Layer
	}
	return over, nil
}

// joinPaths makes disks that say they are the same unit, because they are paths to it,
// stand on one thing.
func (m *devices) joinPaths() {
	same := map[string][]*node{}
	for _, n := range m.all {
		id := m.attribute(n.name, "device/wwid") // of SCSI; NVMe has it beside
		if id == "" {
			id = m.attribute(n.name, "wwid")
		}
		if id != "" && n.kind == Disk {
			same[id] = append(same[id], n)
		}
	}
	for id, paths := range same {
		for _, n := range paths {
			if len(paths) > 1 {
				n.kind = Path
				n.over = append(n.over, piece{extent: extent{Thing: Thing{Part: "unit " + id}, to: endless}})
			}
		}
	}
}

// file is the node of a file that a device stands on, or that was opened. Its thing is
// that of the file system in which its bytes are kept.
func (m *devices) file(path string, thing Thing) *node {
	keys := m.keysOf(path, thing)
	own := keys[len(keys)-1]
	if n := m.byThing[own]; n != nil {
		return n
	}
	n := &node{name: path, kind: File, thing: own, keys: keys}
	m.byThing[own] = n
	return n
}

// deepest is how many layers may stand on each other.
const deepest = 32

// ground is every range that a write to a node may reach, and the nodes on the way.
func (m *devices) ground(of *node) (reached []extent, below []*node, err error) {
	var descend func(n *node, e extent, depth int) error
	descend = func(n *node, e extent, depth int) error {
		reached = append(reached, e)
		switch {
		case n == nil:
			return nil // such as a unit that disks are paths to
		case n.trouble != nil:
			return n.trouble
		case depth > deepest:
			return fmt.Errorf("more than %d layers stand on each other", deepest)
		}
		for _, p := range n.over {
			part, any := p.under(e)
			if !any {
				continue
			}
			if p.scattered && part.through == nil {
				part.through = n
			}
			next := m.byThing[p.Thing]
			if next != nil {
				below = append(below, next)
			}
			if err := descend(next, part, depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	return reached, below, descend(of, extent{Thing: of.thing, to: endless}, 0)
}
