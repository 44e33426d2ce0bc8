package identity

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Target is a range of a mapped device, in sectors, and what is behind it
// (Documentation/admin-guide/device-mapper).
type Target struct {
	Start, Length int64
	Kind          string
	Arguments     string
}

var deviceNumber = regexp.MustCompile(`^\d+:\d+$`)

// ofTable: what a mapped device stands on, by its table. Of targets whose arguments tell
// where bytes lie, these ranges; of all others every device that they name.
func (m *devices) ofTable(targets []Target) (over []piece) {
	for _, t := range targets {
		arguments := strings.Fields(t.Arguments)
		argument := func(i int) string {
			if i < len(arguments) {
				return arguments[i]
			}
			return ""
		}
		in := func(device, offset int) bool {
			from, err := strconv.ParseInt(argument(offset), 10, 64)
			if err != nil || !deviceNumber.MatchString(argument(device)) {
				return false
			}
			over = append(over, piece{at: t.Start * sector, extent: extent{Thing: Thing{Device: argument(device)}, from: from * sector, to: (from + t.Length) * sector}})
			return true
		}
		whole := func(device string) {
			over = append(over, piece{extent: extent{Thing: Thing{Device: device}, to: endless}, scattered: true})
		}
		switch {
		case t.Kind == "linear" && in(0, 1), t.Kind == "crypt" && in(3, 4), t.Kind == "delay" && in(0, 1), t.Kind == "flakey" && in(0, 1), t.Kind == "dust" && in(0, 1):
		case t.Kind == "thin": // a part of its own of the pool, under a number
			over = append(over, piece{at: t.Start * sector, extent: extent{Thing: Thing{Device: argument(0), Part: argument(1)}, to: t.Length * sector}})
		case t.Kind == "snapshot" && deviceNumber.MatchString(argument(1)): // what it is one of is only read
			whole(argument(1))
		default:
			for _, a := range arguments {
				if deviceNumber.MatchString(a) {
					whole(a)
				}
			}
		}
	}
	return over
}

// tableOf asks the kernel for the table of a mapped device (ioctl DM_TABLE_STATUS,
// linux/dm-ioctl.h).
func tableOf(name string) ([]Target, error) {
	const (
		headLength  = 312
		nameAt      = 48
		tableStatus = 0xc138fd0c // _IOWR(0xfd, 12, struct dm_ioctl)
		wantTable   = 1 << 4     // DM_STATUS_TABLE_FLAG
		bufferFull  = 1 << 8     // DM_BUFFER_FULL_FLAG
	)
	control, err := os.OpenFile("/dev/mapper/control", os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	defer control.Close()
	text, err := os.ReadFile("/sys/class/block/" + name + "/dm/name")
	if err != nil {
		return nil, err
	}
	for size := 16 << 10; size <= 1<<20; size *= 4 {
		b := make([]byte, size)
		put := func(at int, v uint32) { binary.NativeEndian.PutUint32(b[at:], v) }
		get := func(at int) uint32 { return binary.NativeEndian.Uint32(b[at:]) }
		put(0, 4) // version 4.0.0
		put(12, uint32(size))
		put(16, headLength)
		put(28, wantTable)
		copy(b[nameAt:nameAt+127], strings.TrimSpace(string(text)))
		if _, _, errno := unix.Syscall(unix.SYS_IOCTL, control.Fd(), tableStatus, uintptr(unsafe.Pointer(&b[0]))); errno != 0 {
			return nil, fmt.Errorf("ask for the table of %s: %w", name, errno)
		}
		if get(28)&bufferFull != 0 {
			continue
		}
		return readTable(b[min(int(get(16)), len(b)):], int(get(20)))
	}
	return nil, fmt.Errorf("the table of %s is too long", name)
}

// readTable reads so many struct dm_target_spec, each with its arguments behind it; next
// counts from the first.
func readTable(b []byte, count int) (targets []Target, err error) {
	const specLength = 40
	for at := 0; count > 0; count-- {
		if at < 0 || at+specLength > len(b) {
			return nil, fmt.Errorf("a table ends within its targets")
		}
		spec := b[at:]
		arguments, _, _ := bytes.Cut(spec[specLength:], []byte{0})
		kind, _, _ := bytes.Cut(spec[24:specLength], []byte{0})
		targets = append(targets, Target{
			Start: int64(binary.NativeEndian.Uint64(spec)), Length: int64(binary.NativeEndian.Uint64(spec[8:])), Kind: string(kind), Arguments: string(arguments),
		})
		at = int(binary.NativeEndian.Uint32(spec[20:]))
	}
	return targets, nil
}
