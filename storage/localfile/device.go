package localfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
)

// Claim states what a user agrees to lose: it must match what is found.
type Claim struct {
	Size      quantity.Bytes
	Serial    string
	Signature string
}

// CheckClaim reports, without writing anything, why consent to overwrite a
// file or device may not be taken: it is another size or serial number than
// stated, it is in use, or it holds something that was not named.
func CheckClaim(path, kind string, claim Claim) error {
	if kind != "file" && kind != "device" {
		return fmt.Errorf("%s is a %s: %w: consent to overwrite is about a file or a device; leave it out", path, kind, ErrConsent)
	}
	found, err := Look(path, kind)
	if err != nil {
		return err
	}
	if found.Size != claim.Size {
		return fmt.Errorf("%s: %w: it is %s bytes large, the consent names %s bytes; look again at which %s you mean", path, ErrConsent, found.Size.Full(), claim.Size.Full(), kind)
	}
	if kind == "file" {
		return nil
	}
	if found.Serial != claim.Serial {
		return fmt.Errorf("%s: %w: its serial number is %q, the consent names %q; look again at which device you mean", path, ErrConsent, found.Serial, claim.Serial)
	}
	if err := deviceInUse("/", path, found.Devices[0]); err != nil {
		return err
	}
	device, err := os.Open(path)
	if err != nil {
		return explain(err, path)
	}
	defer device.Close()
	signature, err := findSignature(device)
	if err != nil {
		return fmt.Errorf("look at what %s holds: %w", path, err)
	}
	if signature != "" && signature != claim.Signature {
		return fmt.Errorf("%s: %w: it holds a recognised signature: %s; nothing was written. If that may be lost, name it in the consent (--holds %q)", path, ErrConsent, signature, signature)
	}
	return nil
}

// deviceInUse reports who uses a device or one of its partitions. Root is
// where /proc and /sys are found, "/" but in tests.
func deviceInUse(root, path, name string) error {
	block := filepath.Join(root, "sys/class/block", name)
	numbers := map[string]string{} // major:minor to name, of the device and its partitions
	add := func(dir, name string) {
		if text, err := os.ReadFile(filepath.Join(dir, "dev")); err == nil {
			numbers[strings.TrimSpace(string(text))] = name
		}
	}
	add(block, name)
	entries, _ := os.ReadDir(block + "/.")
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), name) {
			add(filepath.Join(block, e.Name()), e.Name())
		}
	}
	for _, part := range numbers {
		dir := block
		if part != name {
			dir = filepath.Join(block, part)
		}
		if holders, _ := os.ReadDir(filepath.Join(dir, "holders")); len(holders) > 0 {
			return fmt.Errorf("open %s for writing: %w: %s is in use by %s; nothing was written. Name another device, or take it out of there", path, ErrInUse, part, holders[0].Name())
		}
	}
	mounts, err := os.ReadFile(filepath.Join(root, "proc/self/mountinfo"))
	if err != nil {
		return fmt.Errorf("open %s for writing: cannot see what is mounted: %w", path, err)
	}
	for line := range strings.Lines(string(mounts)) {
		// Fields: id parent major:minor root mount-point … - type source options
		// (proc(5)).
		fields := strings.Fields(line)
		if len(fields) < 5 {
			continue
		}
		_, after, _ := strings.Cut(line, " - ")
		of := strings.Fields(after)
		part, mounted := numbers[fields[2]]
		if !mounted && len(of) > 1 {
			// btrfs shows a number of its own; the source names the device.
			if source := filepath.Base(of[1]); strings.HasPrefix(of[1], "/dev/") {
				for _, n := range numbers {
					if n == source {
						part, mounted = n, true
					}
				}
			}
		}
		if mounted {
			kind := "a file system"
			if len(of) > 0 {
				kind = of[0]
			}
			return fmt.Errorf("open %s for writing: %w: %s holds %s mounted on %s; nothing was written. Name another device, or unmount it", path, ErrInUse, part, kind, fields[4])
		}
	}
	swaps, _ := os.ReadFile(filepath.Join(root, "proc/swaps"))
	for line := range strings.Lines(string(swaps)) {
		source, _, _ := strings.Cut(line, " ")
		for _, n := range numbers {
			if source == "/dev/"+n {
				return fmt.Errorf("open %s for writing: %w: %s is swap space of this host; nothing was written. Name another device", path, ErrInUse, n)
			}
		}
	}
	return nil
}

// prepareDevice opens a block device.
func prepareDevice(path string, request Request) (*Volume, error) {
	mode := unix.O_RDONLY
	if request.Writes {
		// An exclusive open fails while anything else uses the device.
		mode = unix.O_RDWR | unix.O_EXCL
	}
	fd, err := unix.Open(path, mode|unix.O_CLOEXEC, 0)
	if errors.Is(err, unix.EBUSY) {
		return nil, fmt.Errorf("open %s for writing: %w: another layer of this host holds it; nothing was written. Name another device", path, ErrInUse)
	}
	if err != nil {
		return nil, explain(err, path)
	}
	v := &Volume{file: os.NewFile(uintptr(fd), path), path: path}
	found, err := Look(path, "device")
	if err != nil {
		v.Close()
		return nil, err
	}
	v.size = found.Size
	v.alignment = func(*os.File) quantity.Bytes { return found.Alignment }
	return v, nil
}

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
		point := unescape(fields[4])
		inside := path == point || point == "/" || strings.HasPrefix(path, point+"/")
		// A later mount on the same point covers the earlier one.
		if inside && len(point) >= longest {
			longest, source = len(point), unescape(of[1])
		}
	}
	return source
}

// unescape undoes the octal escapes of mountinfo (proc(5)).
func unescape(text string) string {
	return strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`).Replace(text)
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

// Holds tells what is recognised on a file or device, and who uses a device;
// both are empty when nothing is found.
func Holds(path, kind string) (signature, user string, err error) {
	if kind != "file" && kind != "device" {
		return "", "", nil
	}
	file, err := os.Open(path)
	if err != nil {
		return "", "", explain(err, path)
	}
	defer file.Close()
	if kind == "device" {
		found, err := Look(path, kind)
		if err != nil {
			return "", "", err
		}
		if used := deviceInUse("/", path, found.Devices[0]); used != nil {
			user, _, _ = strings.Cut(strings.TrimPrefix(used.Error(), fmt.Sprintf("open %s for writing: %v: ", path, ErrInUse)), ";")
		}
		signature, err = findSignature(file)
		return signature, user, err
	}
	return "", "", nil
}
