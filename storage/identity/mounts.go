package identity

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Mount is a mount of this host, in this process's mount namespace or in another.
type Mount struct {
	Process int    // one that sees it; 0 for this one
	Device  string // major:minor of the file system
	Root    string // which part of it is mounted
	Point   string // where, as that process sees it
	Kind    string // of file system
	Source  string
	Options []string // of the file system
}

// Mounts lists what is mounted in every mount namespace that a process is in, that of this
// process first.
func (h Host) Mounts() ([]Mount, error) {
	text, err := os.ReadFile(filepath.Join(h.Root, "proc/self/mountinfo"))
	if err != nil {
		return nil, fmt.Errorf("cannot see what is mounted: %w", err)
	}
	all := readMounts(0, string(text))
	own, _ := os.Readlink(filepath.Join(h.Root, "proc/self/ns/mnt"))
	known := map[string]bool{own: true}
	entries, _ := os.ReadDir(filepath.Join(h.Root, "proc"))
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		space, err := os.Readlink(filepath.Join(h.Root, "proc", e.Name(), "ns/mnt"))
		if err != nil || known[space] {
			continue
		}
		if text, err := os.ReadFile(filepath.Join(h.Root, "proc", e.Name(), "mountinfo")); err == nil {
			known[space] = true
			all = append(all, readMounts(pid, string(text))...)
		}
	}
	return all, nil
}

// readMounts reads lines of mountinfo (proc(5)): id parent major:minor root mount-point
// options … - type source options.
func readMounts(process int, text string) (all []Mount) {
	for line := range strings.Lines(text) {
		before, after, _ := strings.Cut(line, " - ")
		fields, of := strings.Fields(before), strings.Fields(after)
		if len(fields) < 5 {
			continue
		}
		of = append(of, "", "", "")
		all = append(all, Mount{
			Process: process, Device: fields[2], Root: Unescape(fields[3]), Point: Unescape(fields[4]), Kind: of[0], Source: Unescape(of[1]), Options: strings.Split(of[2], ","),
		})
	}
	return all
}

// Unescape undoes the octal escapes of /proc (proc(5)).
func Unescape(text string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(text)
}

// option is the value of an option of a mount.
func (m Mount) option(name string) string {
	for _, o := range m.Options {
		if value, is := strings.CutPrefix(o, name+"="); is {
			return Unescape(value)
		}
	}
	return ""
}

// layers are the folders that an overlay shows, the upper one first.
func (m Mount) layers() (folders []string) {
	if upper := m.option("upperdir"); upper != "" {
		folders = append(folders, upper)
	}
	// Colons within a name are escaped with a backslash.
	const colon = "\x00"
	for folder := range strings.SplitSeq(strings.ReplaceAll(m.option("lowerdir"), `\:`, colon), ":") {
		if folder != "" {
			folders = append(folders, strings.ReplaceAll(folder, colon, ":"))
		}
	}
	return folders
}

// seen is where the process of a mount sees it, as this one can reach it.
func (m Mount) seen() string {
	if m.Process == 0 {
		return m.Point
	}
	return filepath.Join("/proc", strconv.Itoa(m.Process), "root", m.Point)
}

// keysOf are the numbers that a file is known by: where an overlay shows it, those that it
// has there, and last those of the file system in which its bytes are kept. An overlay may
// give a file the number of another device than its own, so that the path decides.
func (m *devices) keysOf(path string, thing Thing) []Thing {
	keys := []Thing{thing}
	for range deepest {
		mount := m.mountOf(path)
		if at, err := FileAt(path); err != nil || at != thing || mount == nil || mount.Kind != "overlay" {
			break
		}
		rest, _ := within(path, mount.Point)
		under, its, found := mount.under(rest)
		if !found || slices.Contains(keys, its) {
			break
		}
		path, thing = under, its
		keys = append(keys, thing)
	}
	return append(m.shownBy(path, thing, keys), keys...)
}

// mountOf is the mount of this process's namespace that a path lies in.
func (m *devices) mountOf(path string) (found *Mount) {
	for i, mount := range m.mounts {
		if _, inside := within(path, mount.Point); inside && mount.Process == 0 && (found == nil || len(mount.Point) >= len(found.Point)) {
			found = &m.mounts[i] // a later one on the same point covers the one before
		}
	}
	return found
}

// under finds the file that an overlay shows at a path below its mount point.
func (m Mount) under(rest string) (path string, its Thing, found bool) {
	for _, folder := range m.layers() {
		path = filepath.Join(folder, m.Root, rest)
		if its, err := FileAt(path); err == nil {
			return path, its, true
		}
	}
	return "", Thing{}, false
}

// shownBy are further numbers that overlays show a file under.
func (m *devices) shownBy(path string, thing Thing, known []Thing) (keys []Thing) {
	for _, mount := range m.mounts {
		if mount.Kind != "overlay" {
			continue
		}
		for _, folder := range mount.layers() {
			rest, inside := below(path, folder)
			if !inside {
				continue
			}
			if rest, inside = within(rest, mount.Root); !inside {
				continue
			}
			if _, its, found := mount.under(rest); !found || its != thing {
				continue // another layer covers it
			}
			key, err := FileAt(filepath.Join(mount.seen(), rest))
			if err == nil && !slices.Contains(known, key) && !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	return keys
}

// within is the rest of a path below a folder, by their names.
func within(path, folder string) (rest string, inside bool) {
	if folder == "/" {
		return path, true
	}
	rest, inside = strings.CutPrefix(path, folder)
	return rest, inside && (rest == "" || rest[0] == '/')
}

// below is the rest of a path below a folder, under whatever name that is reached.
func below(path, folder string) (rest string, inside bool) {
	wanted, err := os.Stat(folder)
	if err != nil {
		return "", false
	}
	for at := filepath.Dir(path); ; at = filepath.Dir(at) {
		if info, err := os.Stat(at); err == nil && os.SameFile(info, wanted) {
			return "/" + strings.TrimPrefix(path[len(at):], "/"), true
		}
		if at == "/" || at == "." {
			return "", false
		}
	}
}

var errNoFile = errors.New("not a regular file")

// FileAt is the regular file at a path. It asks no server.
func FileAt(path string) (Thing, error) {
	var stat unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, path, unix.AT_STATX_DONT_SYNC, unix.STATX_TYPE|unix.STATX_INO, &stat); err != nil {
		return Thing{}, err
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFREG {
		return Thing{}, errNoFile
	}
	return FileThing(fmt.Sprintf("%d:%d", stat.Dev_major, stat.Dev_minor), stat.Ino), nil
}
