package host

import (
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
)

// controlGroup is a group that this process is in, or one above.
type controlGroup struct {
	folder string
	first  bool // of version 1, whose files have other names
}

// controlGroups are the groups of this process for a controller, with those above
// (cgroups(7), /proc/self/cgroup), of both versions.
func controlGroups(root, controller string) (groups []controlGroup) {
	text, err := os.ReadFile(filepath.Join(root, "proc/self/cgroup"))
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		fields := strings.SplitN(strings.TrimSpace(line), ":", 3)
		if len(fields) < 3 {
			continue
		}
		mount, first := "sys/fs/cgroup", false
		switch {
		case fields[0] == "0" && fields[1] == "":
		case strings.Contains(","+fields[1]+",", ","+controller+","):
			mount, first = "sys/fs/cgroup/"+controller, true
		default:
			continue
		}
		for at := path.Clean("/" + fields[2]); ; at = path.Dir(at) {
			groups = append(groups, controlGroup{filepath.Join(root, mount, at), first})
			if at == "/" {
				break
			}
		}
	}
	return groups
}

// throttle is what control groups let this process do to one device at most, a
// second; 0 for no limit.
type throttle struct{ reads, writes, readBytes, writtenBytes float64 }

// throttled reads the limits of a device, named as major:minor: io.max of version 2,
// the throttle files of version 1 (cgroup-v2 and blkio-controller of the kernel's
// documentation). The lowest of all groups counts.
func throttled(root, device string) (t throttle) {
	lower := func(limit *float64, text string) {
		if n, err := strconv.ParseFloat(text, 64); err == nil && n > 0 && (*limit == 0 || n < *limit) {
			*limit = n
		}
	}
	for _, g := range controlGroups(root, "blkio") {
		if !g.first {
			for _, field := range lineOf(filepath.Join(g.folder, "io.max"), device) {
				name, value, _ := strings.Cut(field, "=")
				if limit := map[string]*float64{"riops": &t.reads, "wiops": &t.writes, "rbps": &t.readBytes, "wbps": &t.writtenBytes}[name]; limit != nil {
					lower(limit, value)
				}
			}
			continue
		}
		for file, limit := range map[string]*float64{"read_iops": &t.reads, "write_iops": &t.writes, "read_bps": &t.readBytes, "write_bps": &t.writtenBytes} {
			for _, value := range lineOf(filepath.Join(g.folder, "blkio.throttle."+file+"_device"), device) {
				lower(limit, value)
			}
		}
	}
	return t
}

// lineOf gives what stands behind a device's number in a file of one line a device.
func lineOf(file, device string) []string {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		if fields := strings.Fields(line); len(fields) > 1 && fields[0] == device {
			return fields[1:]
		}
	}
	return nil
}
