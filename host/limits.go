package host

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Room is how much more of something this process may have, and what limits that.
type Room struct {
	Left int64
	By   string // in words
}

// ThreadsLeft is how many more threads this process may start: a thread that the kernel
// refuses ends the whole process. Control groups (pids.max), the user's limit (setrlimit(2),
// RLIMIT_NPROC, which root does not have) and the host's (kernel.threads-max) count.
func ThreadsLeft() Room { return threadsLeft("/", os.Geteuid()) }

func threadsLeft(root string, user int) Room {
	left := Room{1 << 40, "nothing"}
	lower := func(limit, used int64, by string) {
		if limit > 0 && limit-used < left.Left {
			left = Room{max(limit-used, 0), by}
		}
	}
	for _, g := range controlGroups(root, "pids") {
		most, err := numberIn(filepath.Join(g.folder, "pids.max")) // "max" is no number
		if err != nil {
			continue
		}
		used, _ := numberIn(filepath.Join(g.folder, "pids.current"))
		lower(most, used, fmt.Sprintf("the control group %s (pids.max %d)", strings.TrimPrefix(g.folder, root), most))
	}
	running := int64(0) // of the whole host (proc(5), /proc/loadavg: running/all)
	if text, err := os.ReadFile(filepath.Join(root, "proc/loadavg")); err == nil {
		if fields := strings.Fields(string(text)); len(fields) > 3 {
			_, all, _ := strings.Cut(fields[3], "/")
			running, _ = strconv.ParseInt(all, 10, 64)
		}
	}
	if most, err := numberIn(filepath.Join(root, "proc/sys/kernel/threads-max")); err == nil {
		lower(most, running, fmt.Sprintf("this host (kernel.threads-max %d)", most))
	}
	var limit unix.Rlimit
	if user != 0 && unix.Getrlimit(unix.RLIMIT_NPROC, &limit) == nil && limit.Cur < 1<<40 {
		lower(int64(limit.Cur), threadsOf(root, user), fmt.Sprintf("the user's limit of processes (%d)", limit.Cur))
	}
	return left
}

// threadsOf counts the threads of a user's processes, as far as they are shown.
func threadsOf(root string, user int) (count int64) {
	entries, _ := os.ReadDir(filepath.Join(root, "proc"))
	for _, e := range entries {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		var stat unix.Stat_t
		if unix.Stat(filepath.Join(root, "proc", e.Name()), &stat) != nil || int(stat.Uid) != user {
			continue
		}
		threads, _ := os.ReadDir(filepath.Join(root, "proc", e.Name(), "task"))
		count += int64(len(threads))
	}
	return count
}

// DescriptorsLeft is how many more files this process may open (setrlimit(2),
// RLIMIT_NOFILE).
func DescriptorsLeft() Room {
	var limit unix.Rlimit
	open, err := os.ReadDir("/proc/self/fd")
	if err != nil || unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return Room{1 << 40, "nothing"}
	}
	return Room{max(int64(min(limit.Cur, 1<<40))-int64(len(open)), 0), fmt.Sprintf("the process's limit of open files (%d)", limit.Cur)}
}

func numberIn(file string) (int64, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
}
