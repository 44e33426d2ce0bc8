package localfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/storage/identity"
)

// devicesBehind names the block devices whose counters move with a path: the
// one its file system is on, or all members of a file system that has several.
func devicesBehind(path string, number uint64) []string {
	if name := deviceName(number); name != "" {
		return []string{name}
	}
	members, _ := filepath.Glob("/sys/fs/btrfs/*/devices/*")
	source := filepath.Base(mountSource("/", path))
	for _, member := range members {
		if filepath.Base(member) != source {
			continue
		}
		all, _ := os.ReadDir(filepath.Dir(member))
		names := make([]string, len(all))
		for i, device := range all {
			names[i] = device.Name()
		}
		return names
	}
	return nil
}

// mountSource is what the mount that path lies below was mounted from.
func mountSource(root, path string) (source string) {
	mounts, err := os.ReadFile(filepath.Join(root, "proc/self/mountinfo"))
	if err != nil {
		return ""
	}
	longest := -1
	for line := range strings.Lines(string(mounts)) {
		before, after, _ := strings.Cut(line, " - ")
		fields, of := strings.Fields(before), strings.Fields(after)
		if len(fields) < 5 || len(of) < 2 {
			continue
		}
		point := identity.Unescape(fields[4])
		inside := path == point || point == "/" || strings.HasPrefix(path, point+"/")
		// A later mount on the same point covers the earlier one.
		if inside && len(point) >= longest {
			longest, source = len(point), identity.Unescape(of[1])
		}
	}
	return source
}

// deviceSerial is the serial number a device tells, or "".
func deviceSerial(name string) string {
	for _, place := range []string{"device/serial", "serial", "device/vpd_pg80"} {
		text, err := os.ReadFile(filepath.Join("/sys/class/block", name, place))
		if err != nil {
			continue
		}
		clean := strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' {
				return -1
			}
			return r
		}, string(text))
		if clean = strings.TrimSpace(clean); clean != "" {
			return clean
		}
	}
	return ""
}

// deviceName is the kernel's name of a block device, or "" when the number is
// not one (of a network or memory file system, for example).
func deviceName(number uint64) string {
	target, err := os.Readlink(fmt.Sprintf("/sys/dev/block/%d:%d", unix.Major(number), unix.Minor(number)))
	if err != nil {
		return ""
	}
	return filepath.Base(target)
}

func deviceSize(name string) quantity.Bytes {
	return quantity.Bytes(sysfsNumber("/sys/class/block/"+name+"/size", 0) * 512)
}

// deviceAlignment is the device's logical block size; a partition has that of
// its disk.
func deviceAlignment(name string) quantity.Bytes {
	for _, place := range []string{"/queue/logical_block_size", "/../queue/logical_block_size"} {
		if n := sysfsNumber("/sys/class/block/"+name+place, 0); n > 0 {
			return quantity.Bytes(n)
		}
	}
	return 4096
}

func sysfsNumber(path string, otherwise int64) int64 {
	text, err := os.ReadFile(path)
	if err != nil {
		return otherwise
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
	if err != nil {
		return otherwise
	}
	return n
}
