package localfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
)

// prepareDevice opens a block device.
func prepareDevice(path string, request Request) (*Volume, error) {
	if request.Writes && !request.Overwrite {
		return nil, fmt.Errorf("%s: %w: the workload would overwrite what this device holds; measure with reads 100%%, or register the device with consent to overwrite", path, ErrConsent)
	}
	mode := unix.O_RDONLY
	if request.Writes {
		// An exclusive open fails while anything else uses the device.
		mode = unix.O_RDWR | unix.O_EXCL
	}
	fd, err := unix.Open(path, mode|unix.O_CLOEXEC, 0)
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
