package host

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/patient"
)

// probeTime is how long one look at the system may take unless an Explorer says
// otherwise. Whatever takes longer is "could not look".
const probeTime = 400 * time.Millisecond

// Explorer walks from a path or a device down to the media and tells what it
// finds on the way. Each look has a deadline of its own, so that a file system
// whose server is gone costs a moment and a note, not the answer. It never
// writes. It is safe for concurrent use.
type Explorer struct {
	proc, sys string // mount points of the two file systems
	limit     time.Duration
	// table reads the device-mapper table of a device; the kernel gives it only
	// through a control device.
	table func(ctx context.Context, name string) (string, error)
	// status reads what a device of the device mapper tells of its state.
	status func(ctx context.Context, name string) (string, error)
	// addresses are those of this host.
	addresses func() ([]net.Addr, error)
}

// NewExplorer looks at this host.
func NewExplorer() *Explorer {
	mapper := func(what string) func(context.Context, string) (string, error) {
		return func(ctx context.Context, name string) (string, error) {
			text, err := exec.CommandContext(ctx, "dmsetup", what, name).Output()
			return string(text), err
		}
	}
	return &Explorer{proc: "/proc", sys: "/sys", limit: probeTime, addresses: net.InterfaceAddrs, table: mapper("table"), status: mapper("status")}
}

// Timeout lets each look take longer, where there is more time for all of them: a quarter
// of it, so that one that hangs does not take all.
func (e *Explorer) Timeout(all time.Duration) { e.limit = max(e.limit, all/4) }

// Found is what an exploration came to.
type Found struct {
	Setup setup.Setup
	Chain []setup.Layer // what stands below, from the top
	Seen  setup.Seen    // state beside the facts, as far as the host tells
}

// Explore walks down from a folder, a file or a block device. The error is
// about the context; what cannot be looked at is in Seen.Troubles.
func (e *Explorer) Explore(ctx context.Context, path string) (Found, error) {
	w := e.walk(ctx)
	var top setup.Layer
	if name, isDevice := e.deviceName(ctx, path); isDevice {
		top = w.device(name, 0)
		w.queue(name)
	} else {
		top = w.path(path, 0)
	}
	w.machine()
	w.groupMedia()
	w.knowAllowed(top)
	return Found{Setup: w.facts, Chain: []setup.Layer{top}, Seen: w.seen}, ctx.Err()
}

// Machine tells of this host alone: for volumes that have nothing below.
func (e *Explorer) Machine(ctx context.Context) setup.Setup {
	w := e.walk(ctx)
	w.machine()
	return w.facts
}

// walk is one exploration under way.
type walk struct {
	*Explorer
	ctx    context.Context
	now    time.Time
	facts  setup.Setup
	seen   setup.Seen
	media  []medium
	joined bool                // below a device that joins several paths
	held   map[string]throttle // what control groups let this process do, by the device
}

func (e *Explorer) walk(ctx context.Context) *walk {
	return &walk{Explorer: e, ctx: ctx, now: time.Now().UTC(), held: map[string]throttle{}}
}

// medium is one device at the bottom.
type medium struct {
	kind, model, writeCache string
	size                    quantity.Bytes
	connection              quantity.ByteRate
}

func (w *walk) know(key string, value any) { w.facts.Know(key, value, setup.Read, w.now) }

func (w *walk) trouble(format string, arguments ...any) string {
	text := fmt.Sprintf(format, arguments...)
	if !slices.Contains(w.seen.Troubles, text) {
		w.seen.Troubles = append(w.seen.Troubles, text)
	}
	return text
}

// ask makes one look, for at most so long. What is looked at that hangs costs one
// thread, however often it is looked at.
func ask[T any](ctx context.Context, limit time.Duration, thing, question string, look func() (T, error)) (T, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	return patient.Ask(ctx, thing, "host: "+question, func(context.Context) (T, error) { return look() })
}

// resolve follows the symbolic links of a path.
func resolve(ctx context.Context, limit time.Duration, path string) (string, error) {
	return ask(ctx, limit, path, "resolve", func() (string, error) { return filepath.EvalSymlinks(path) })
}

// longestText bounds what is read of one file of the system.
const longestText = 1 << 20

// text reads a small file, without the white space around it.
func (e *Explorer) text(ctx context.Context, parts ...string) (string, error) {
	path := filepath.Join(parts...)
	return ask(ctx, e.limit, path, "text", func() (string, error) {
		file, err := os.Open(path)
		if err != nil {
			return "", err
		}
		defer file.Close()
		text, err := io.ReadAll(io.LimitReader(file, longestText))
		if err != nil {
			return "", err
		}
		return strings.TrimSpace(string(text)), nil
	})
}

// number reads a file that holds a whole number.
func (e *Explorer) number(ctx context.Context, parts ...string) (int64, bool) {
	text, err := e.text(ctx, parts...)
	if err != nil {
		return 0, false
	}
	n, err := strconv.ParseInt(text, 10, 64)
	return n, err == nil
}

// names lists a folder; none when it is not there.
func (e *Explorer) names(ctx context.Context, parts ...string) []string {
	path := filepath.Join(parts...)
	names, err := ask(ctx, e.limit, path, "names", func() ([]string, error) {
		entries, err := os.ReadDir(path)
		names := make([]string, len(entries))
		for i, entry := range entries {
			names[i] = entry.Name()
		}
		return names, err
	})
	if err != nil {
		return nil
	}
	return names
}

func (e *Explorer) exists(ctx context.Context, parts ...string) bool {
	path := filepath.Join(parts...)
	_, err := ask(ctx, e.limit, path, "exists", func() (os.FileInfo, error) { return os.Lstat(path) })
	return err == nil
}

// deviceName is the kernel's name of a block device, from its path or through
// links such as those below /dev/mapper.
func (e *Explorer) deviceName(ctx context.Context, path string) (string, bool) {
	resolved, err := resolve(ctx, e.limit, path)
	if err != nil || !strings.HasPrefix(resolved, "/dev/") {
		return "", false
	}
	name := strings.ReplaceAll(strings.TrimPrefix(resolved, "/dev/"), "/", "!") // as in sysfs
	return name, e.exists(ctx, e.sys, "class/block", name)
}

// mount is one line of /proc/self/mountinfo.
type mount struct {
	point, kind, source, options string
	device                       string // major:minor
}

// mounts parses /proc/self/mountinfo (proc_pid_mountinfo(5)). Lines that are
// not understood are left out.
func mounts(text string) (list []mount) {
	for line := range strings.Lines(text) {
		before, after, found := strings.Cut(line, " - ")
		head, tail := strings.Fields(before), strings.Fields(after)
		if !found || len(head) < 6 || len(tail) < 2 {
			continue
		}
		m := mount{device: head[2], point: unescape(head[4]), options: head[5], kind: tail[0], source: unescape(tail[1])}
		if len(tail) > 2 && tail[2] != head[5] {
			m.options += "," + tail[2]
		}
		list = append(list, m)
	}
	return list
}

// unescape reads the octal escapes of mountinfo.
func unescape(text string) string {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+3 < len(text) {
			if n, err := strconv.ParseUint(text[i+1:i+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		b.WriteByte(text[i])
	}
	return b.String()
}

// mountOf finds the mount that a path is on: the longest point that leads to
// it, the last one where several lie over each other.
func mountOf(list []mount, path string) (found mount, ok bool) {
	for _, m := range list {
		inside := m.point == "/" || path == m.point || strings.HasPrefix(path, m.point+"/")
		if inside && len(m.point) >= len(found.point) {
			found, ok = m, true
		}
	}
	return found, ok
}
