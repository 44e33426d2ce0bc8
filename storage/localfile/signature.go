package localfile

import (
	"bytes"
	"errors"
	"io"
)

// signatures are marks by which layers and file systems recognise their own
// on a device: name, offset and bytes, from the kernel's on-disk format
// headers. Partition tables come last, because a file system's boot sector
// carries the same mark.
var signatures = []struct {
	name   string
	offset int64
	magic  string
}{
	{"xfs", 0, "XFSB"},
	{"ext2/3/4", 0x438, "\x53\xef"},
	{"btrfs", 0x10040, "_BHRfS_M"},
	{"f2fs", 0x400, "\x10\x20\xf5\xf2"},
	{"erofs", 0x400, "\xe2\xe1\xf5\xe0"},
	{"squashfs", 0, "hsqs"},
	{"iso9660", 0x8001, "CD001"},
	{"ntfs", 3, "NTFS    "},
	{"exfat", 3, "EXFAT   "},
	{"fat", 0x52, "FAT32"},
	{"fat", 0x36, "FAT1"},
	{"encrypted volume", 0, "LUKS\xba\xbe"},
	{"LVM physical volume", 0x200, "LABELONE"},
	{"LVM physical volume", 0, "LABELONE"},
	{"RAID member (md)", 0x1000, "\xfc\x4e\x2b\xa9"},
	{"RAID member (md)", 0, "\xfc\x4e\x2b\xa9"},
	{"SSD cache member (bcache)", 0x1018, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81"},
	{"swap", 0xff6, "SWAPSPACE2"},
	{"swap", 0xfff6, "SWAPSPACE2"},
	{"partition table (GPT)", 0x200, "EFI PART"},
	{"partition table (GPT)", 0x1000, "EFI PART"},
	{"partition table or boot sector", 0x1fe, "\x55\xaa"},
}

// findSignature names what is recognised on a device, or "".
func findSignature(device io.ReaderAt) (string, error) {
	head := make([]byte, 0x10100)
	n, err := device.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	head = head[:n]
	for _, s := range signatures {
		if end := s.offset + int64(len(s.magic)); end <= int64(n) && bytes.Equal(head[s.offset:end], []byte(s.magic)) {
			return s.name, nil
		}
	}
	return "", nil
}
