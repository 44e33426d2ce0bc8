package inuse

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Lock takes an opened file for writing as far as the kernel can tell others: a
// lock that goes with the descriptor, after asking whether anyone has locked a
// part of it or has it open for writing, visible in /proc or not. It gives a
// use when someone has.
func Lock(file *os.File) *Use {
	all := unix.Flock_t{Type: unix.F_WRLCK}
	if err := unix.FcntlFlock(file.Fd(), unix.F_OFD_GETLK, &all); err == nil && all.Type != unix.F_UNLCK {
		return &Use{"another process has locked a part of it", "end that, or let it give the lock back"}
	}
	if err := unix.Flock(int(file.Fd()), unix.LOCK_EX|unix.LOCK_NB); errors.Is(err, unix.EWOULDBLOCK) {
		return &Use{"another process has locked it", "end that, or let it give the lock back"}
	}
	// A lease for writing is granted where nobody else has it open (fcntl(2));
	// file systems without leases say EINVAL and the like. A look of this service
	// may have it open for a moment.
	for range 10 {
		_, err := unix.FcntlInt(file.Fd(), unix.F_SETLEASE, unix.F_WRLCK)
		if err == nil {
			_, _ = unix.FcntlInt(file.Fd(), unix.F_SETLEASE, unix.F_UNLCK)
		}
		if !errors.Is(err, unix.EAGAIN) || openHere(file, false) {
			return nil
		}
		time.Sleep(60 * time.Millisecond)
	}
	return &Use{"a process or a layer of this host that cannot be seen has it open", "find and end that"}
}

// Ourselves reports whether this process writes to the same file or device
// through another descriptor: a run that is under way.
func Ourselves(file *os.File) bool { return openHere(file, true) }

// openHere reports whether this process has it open through another descriptor,
// for writing when that is asked.
func openHere(file *os.File, writing bool) bool {
	wanted, ok := thingAt(fmt.Sprintf("/proc/self/fd/%d", file.Fd()))
	if !ok {
		return false
	}
	own, _ := os.ReadDir("/proc/self/fd")
	for _, d := range own {
		if d.Name() == strconv.Itoa(int(file.Fd())) {
			continue
		}
		if at, ok := thingAt("/proc/self/fd/" + d.Name()); ok && at == wanted && (!writing || writes("/proc/self/fdinfo/"+d.Name())) {
			return true
		}
	}
	return false
}

// writes reads the access mode of a descriptor (proc(5), fdinfo: the flags of
// open(2) in octal).
func writes(info string) bool {
	text, err := os.ReadFile(info)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if rest, found := strings.CutPrefix(line, "flags:"); found {
			flags, err := strconv.ParseInt(strings.TrimSpace(rest), 8, 64)
			return err == nil && flags&unix.O_ACCMODE != unix.O_RDONLY
		}
	}
	return false
}
