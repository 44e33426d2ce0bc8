package load

import (
	"syscall"
	"unsafe"
)

// asleep is how long the host was suspended since it was started: by so much the clock that
// counts it is ahead of the one that does not (clock_gettime(2), CLOCK_BOOTTIME and
// CLOCK_MONOTONIC).
func asleep() int64 {
	const monotonic, boot = 1, 7
	at := func(clock uintptr) int64 {
		var t syscall.Timespec
		_, _, _ = syscall.Syscall(syscall.SYS_CLOCK_GETTIME, clock, uintptr(unsafe.Pointer(&t)), 0)
		return t.Nano()
	}
	before := at(monotonic)
	return at(boot) - before
}
