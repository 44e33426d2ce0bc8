package inuse

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"patientheron/storage/identity"
)

// processes looks for processes that have a member open, mapped or locked.
func (l *look) processes() *Use {
	for _, m := range l.stack.Members {
		if use := l.locked(m); use != nil {
			return l.of(m, use)
		}
	}
	return l.opened(l.stack.Members)
}

// opened looks for a process that has any of some members open, or mapped.
func (l *look) opened(members []identity.Member) *Use {
	entries, _ := os.ReadDir(filepath.Join(l.host.Root, "proc"))
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || slices.Contains(l.except, pid) {
			continue
		}
		if m, how := heldBy(filepath.Join(l.host.Root, "proc", e.Name()), members); how != "" {
			return l.of(m, &Use{fmt.Sprintf("%s has it %s", process(l.host.Root, pid), how), "end that, or let it close it"})
		}
	}
	return nil
}

// heldBy says how a process has a member: open, mapped, or not at all. A device that others
// stand on is looked at by those who watch over it; only who may write to it is in the way.
func heldBy(process string, members []identity.Member) (identity.Member, string) {
	descriptors, _ := os.ReadDir(filepath.Join(process, "fd"))
	for _, d := range descriptors {
		at, ok := thingAt(filepath.Join(process, "fd", d.Name()))
		if !ok {
			continue
		}
		for _, m := range members {
			if !m.Has(at) {
				continue
			}
			if m.Relation == identity.Below && !m.IsFile() && !writes(filepath.Join(process, "fdinfo", d.Name())) {
				continue
			}
			return m, "open"
		}
	}
	maps, err := os.ReadFile(filepath.Join(process, "maps"))
	if err != nil {
		return identity.Member{}, ""
	}
	for line := range strings.Lines(string(maps)) {
		// Fields: addresses rights offset major:minor inode path, the numbers of
		// the device in hexadecimal (proc(5)).
		fields := strings.Fields(line)
		if len(fields) < 6 || fields[4] == "0" {
			continue
		}
		inode, err := strconv.ParseUint(fields[4], 10, 64)
		if err != nil {
			continue
		}
		mapped := identity.FileThing(decimal(fields[3]), inode)
		for _, m := range members {
			if m.Has(mapped) {
				return m, "mapped"
			}
		}
	}
	return identity.Member{}, ""
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

// locked looks for a lock that another process holds (proc(5), /proc/locks): of a file by
// its own inode, of a device by that of a node which names it.
func (l *look) locked(m identity.Member) *Use {
	locks, err := os.ReadFile(filepath.Join(l.host.Root, "proc/locks"))
	if err != nil {
		return nil
	}
	keys := m.Keys
	if !m.IsFile() {
		keys = []identity.Thing{m.Node}
		if node, ok := nodeAt("/dev/" + m.Name); ok {
			keys = append(keys, node)
		}
	}
	for line := range strings.Lines(string(locks)) {
		// Fields: number kind mode access pid major:minor:inode from to.
		fields := strings.Fields(line)
		if len(fields) < 6 || fields[1] == "->" {
			continue
		}
		device, text, found := cutLast(fields[5])
		inode, err := strconv.ParseUint(text, 10, 64)
		if !found || err != nil || !(identity.Member{Keys: keys}).Has(identity.FileThing(decimal(device), inode)) {
			continue
		}
		if pid, _ := strconv.Atoi(fields[4]); !slices.Contains(l.except, pid) {
			return &Use{fmt.Sprintf("%s has locked it", process(l.host.Root, pid)), "end that, or let it give the lock back"}
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
func process(root string, pid int) string {
	name, err := os.ReadFile(filepath.Join(root, "proc", strconv.Itoa(pid), "comm"))
	if err != nil || pid <= 0 {
		return "another process"
	}
	return fmt.Sprintf("process %d (%s)", pid, strings.TrimSpace(string(name)))
}
