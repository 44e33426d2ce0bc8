package localfile

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/storage/identity"
	"patientheron/storage/signature"
)

// identify tells what an opened file or device is and what it holds. It reads
// its first and last MiB and some places between.
func identify(file *os.File) (setup.Identity, error) {
	var id setup.Identity
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return id, fmt.Errorf("look at %s: %w", file.Name(), err)
	}
	number := stat.Dev
	if stat.Mode&unix.S_IFMT == unix.S_IFBLK {
		number = stat.Rdev
		ofDevice(deviceName(number), &id)
	} else {
		id.Size, id.Inode = quantity.Bytes(stat.Size), stat.Ino
		id.Generation, id.Born = ofInode(file)
	}
	id.Device = identity.Pair(number)
	stack, err := identity.This.Resolve(file)
	if err != nil {
		return id, err
	}
	id.Below = stack.Behind()
	return id, contents(file, &id)
}

// contents tells what an opened file or device holds.
func contents(file *os.File, id *setup.Identity) (err error) {
	// What was written around the page cache shall be read, not what is kept.
	_ = unix.Fadvise(int(file.Fd()), 0, 0, unix.FADV_DONTNEED)
	size := int64(id.Size)
	if id.Holds, err = signature.Find(file, size); err != nil {
		return fmt.Errorf("look at what %s holds: %w", file.Name(), err)
	}
	patience, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	kind, uuid, err := signature.Ask(patience, file)
	if err != nil && !errors.Is(err, signature.ErrNoHelper) {
		return fmt.Errorf("look at what %s holds: %w", file.Name(), err)
	}
	id.UUID = uuid
	if len(id.Holds) == 0 && kind != "" {
		id.Holds = []string{kind}
	}
	if len(id.Holds) == 0 {
		if id.Holds, err = signature.Recognised(file, size); err != nil {
			return fmt.Errorf("look at what %s holds: %w", file.Name(), err)
		}
	}
	if err = signature.Digest(file, id); err != nil {
		return fmt.Errorf("%s: %w", file.Name(), err)
	}
	return nil
}

// ofDevice tells what the kernel knows of a device. A loop device is what is
// behind it, a mapped or RAID device has a UUID; one that has no mark of its
// own at all is told by the kernel's count of disks (since Linux 5.15).
func ofDevice(name string, id *setup.Identity) {
	id.Size = deviceSize(name)
	id.Serial = deviceSerial(name)
	attribute := func(place string) string {
		text, _ := os.ReadFile(filepath.Join("/sys/class/block", name, place))
		return strings.TrimSpace(string(text))
	}
	for _, place := range []string{"wwid", "device/wwid", "../wwid", "../device/wwid"} {
		if id.WWN == "" {
			id.WWN = attribute(place)
		}
	}
	for _, place := range []string{"dm/uuid", "md/uuid", "../dm/uuid", "../md/uuid"} {
		if id.Behind == "" {
			id.Behind = attribute(place)
		}
	}
	if status, err := identity.LoopStatus(name); err == nil && strings.HasPrefix(name, "loop") {
		id.Behind = fmt.Sprintf("%d:%d inode %d at %d", unix.Major(status.Device), unix.Minor(status.Device), status.Inode, status.Offset)
	}
	if id.Serial == "" && id.WWN == "" && id.Behind == "" {
		for _, place := range []string{"diskseq", "../diskseq"} {
			if number := attribute(place); number != "" && id.Behind == "" {
				id.Behind = "disk number " + number + " of this host's kernel"
			}
		}
	}
}

// ofInode tells the generation of a file's inode (ioctl FS_IOC_GETVERSION) and
// when it was made (statx(2)), as far as its file system keeps them.
func ofInode(file *os.File) (generation uint64, born string) {
	const getVersion = 0x80087601 // _IOR('v', 1, long)
	var version uint64
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, file.Fd(), getVersion, uintptr(unsafe.Pointer(&version))); errno == 0 {
		generation = version & 0xffffffff // the kernel writes 32 bits
	}
	var stat unix.Statx_t
	if unix.Statx(int(file.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_BTIME, &stat) == nil && stat.Mask&unix.STATX_BTIME != 0 {
		born = time.Unix(stat.Btime.Sec, int64(stat.Btime.Nsec)).UTC().Format(time.RFC3339Nano)
	}
	return generation, born
}
