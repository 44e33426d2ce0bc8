package iscsi

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/storage/identity"
	"patientheron/storage/inuse"
)

// servedHere says who else uses what a target of this host serves a unit from: over a portal
// of this host, the files and devices of the unit's size that the process has open which
// listens there. It is "" where nobody does, or the target is another host's or the kernel's.
func servedHere(portal string, size int64) (user string, err error) {
	for _, process := range listening(portal) {
		descriptors, _ := os.ReadDir(filepath.Join(process, "fd"))
		for _, d := range descriptors {
			use, err := usedBeside(process, filepath.Join(process, "fd", d.Name()), size)
			if err != nil {
				return "", err
			}
			if use != nil {
				return fmt.Sprintf("the target of this host serves it from storage of which %s", use.What), nil
			}
		}
	}
	return "", nil
}

// usedBeside is who uses a file or device of a size beside the process that has it open.
func usedBeside(process, descriptor string, size int64) (*inuse.Use, error) {
	var stat unix.Stat_t
	if unix.Stat(descriptor, &stat) != nil {
		return nil, nil // closed meanwhile
	}
	kind := stat.Mode & unix.S_IFMT
	if kind != unix.S_IFBLK && (kind != unix.S_IFREG || stat.Size != size) {
		return nil, nil
	}
	file, err := os.OpenFile(descriptor, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("look at what the target serves: %w", err)
	}
	defer file.Close()
	if end, err := file.Seek(0, 2); err != nil || end != size {
		return nil, nil
	}
	stack, err := identity.This.Resolve(file)
	if err != nil {
		return nil, err
	}
	pid, _ := strconv.Atoi(filepath.Base(process))
	return inuse.Of(identity.This, stack, pid)
}

// listening are the folders in /proc of the processes that listen at a portal of this host.
func listening(portal string) (processes []string) {
	at, err := net.ResolveTCPAddr("tcp", portal)
	if err != nil || !ofThisHost(at.IP) {
		return nil
	}
	sockets := map[string]bool{}
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		text, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(text)) {
			// Fields: number local remote state … inode, with the port in hexadecimal;
			// state 0A listens (proc(5)).
			fields := strings.Fields(line)
			if len(fields) > 9 && fields[3] == "0A" && strings.HasSuffix(fields[1], fmt.Sprintf(":%04X", at.Port)) {
				sockets["socket:["+fields[9]+"]"] = true
			}
		}
	}
	entries, _ := os.ReadDir("/proc")
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil || len(sockets) == 0 {
			continue
		}
		folder := filepath.Join("/proc", e.Name())
		descriptors, _ := os.ReadDir(filepath.Join(folder, "fd"))
		for _, d := range descriptors {
			if link, err := os.Readlink(filepath.Join(folder, "fd", d.Name())); err == nil && sockets[link] {
				processes = append(processes, folder)
				break
			}
		}
	}
	return processes
}

// ofThisHost reports an address of this host.
func ofThisHost(ip net.IP) bool {
	if ip.IsLoopback() || ip.IsUnspecified() {
		return true
	}
	addresses, err := net.InterfaceAddrs()
	if err != nil {
		return false
	}
	for _, a := range addresses {
		if network, is := a.(*net.IPNet); is && network.IP.Equal(ip) {
			return true
		}
	}
	return false
}
