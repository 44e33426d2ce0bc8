package host

import (
	"bytes"
	"strconv"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
)

// ThreadUse tells what the kernel counted of the calling thread: how long it ran,
// and how long it was ready to run while no core ran it (the first two numbers of
// /proc/thread-self/schedstat, in nanoseconds: Documentation/scheduler/sched-stats
// of the kernel). Kernels that do not count the second still count the first.
func ThreadUse() load.ThreadUse {
	var usage unix.Rusage
	var u load.ThreadUse
	if unix.Getrusage(unix.RUSAGE_THREAD, &usage) == nil {
		u.CPU = time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
	}
	fd, err := unix.Open("/proc/thread-self/schedstat", unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return u
	}
	defer unix.Close(fd)
	var text [80]byte
	n, err := unix.Read(fd, text[:])
	if err != nil {
		return u
	}
	if fields := bytes.Fields(text[:n]); len(fields) == 3 {
		ran, errRan := strconv.ParseInt(string(fields[0]), 10, 64)
		waited, errWaited := strconv.ParseInt(string(fields[1]), 10, 64)
		if errRan == nil && errWaited == nil && ran > 0 {
			u.CPU, u.Waited = time.Duration(ran), time.Duration(waited)
		}
	}
	return u
}
