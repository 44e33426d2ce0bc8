package signature

import "encoding/binary"

// marks is the table, from the on-disk formats as their standards, the
// kernel's headers and the documentation of their makers give them.
var marks = func() []mark {
	all := []mark{
		// File systems.
		{"xfs", 0, "XFSB", nil},
		{"ext2/3/4", 0x438, "\x53\xef", func(at func(int64, int) []byte) bool { // its revision, and a block size of at most 64 KiB
			b := at(0x400, 0x60)
			return b != nil && binary.LittleEndian.Uint32(b[0x4c:]) <= 1 && binary.LittleEndian.Uint32(b[0x18:]) <= 6
		}},
		{"btrfs", 0x10040, "_BHRfS_M", nil},
		{"bcachefs", 0x1018, "\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef", nil},
		{"f2fs", 0x400, "\x10\x20\xf5\xf2", nil},
		{"jfs", 0x8000, "JFS1", nil},
		{"nilfs2", 0x406, "\x34\x34", func(at func(int64, int) []byte) bool { return nilfs(at(0x400, 16)) }},
		{"ocfs2", 0x400, "OCFSV2", nil}, {"ocfs2", 0x800, "OCFSV2", nil}, {"ocfs2", 0x1000, "OCFSV2", nil}, {"ocfs2", 0x2000, "OCFSV2", nil},
		{"ocfs2", 0x4000, "OCFSV2", nil},
		{"gfs2", 0x10000, "\x01\x16\x19\x70", nil},
		{"reiserfs", 0x2034, "ReIsErFs", nil}, {"reiserfs", 0x10034, "ReIsErFs", nil}, {"reiserfs", 0x10034, "ReIsEr2Fs", nil},
		{"reiserfs", 0x10034, "ReIsEr3Fs", nil}, {"reiserfs", 0x10014, "ReIsEr2Fs", nil}, {"reiser4", 0x10000, "ReIsEr4", nil},
		{"erofs", 0x400, "\xe2\xe1\xf5\xe0", nil},
		{"squashfs", 0, "hsqs", nil}, {"squashfs", 0, "sqsh", nil},
		{"cramfs", 0, "\x45\x3d\xcd\x28", nil}, {"cramfs", 0, "\x28\xcd\x3d\x45", nil},
		{"romfs", 0, "-rom1fs-", nil},
		{"iso9660", 0x8001, "CD001", nil}, {"udf", 0x8001, "BEA01", nil}, {"udf", 0x8001, "NSR0", nil}, {"udf", 0x8801, "NSR0", nil}, {"udf", 0x9001, "NSR0", nil},
		{"ntfs", 3, "NTFS    ", nil}, {"refs", 3, "ReFS\x00", nil},
		{"exfat", 3, "EXFAT   ", nil},
		{"fat", 0x52, "FAT32   ", nil}, {"fat", 0x36, "FAT1", nil},
		{"hfs", 0x400, "BD", func(at func(int64, int) []byte) bool { // an allocation block is a multiple of 512 bytes
			b := at(0x400, 0x20)
			size := binary.BigEndian.Uint32(b[0x14:])
			return size >= 512 && size%512 == 0
		}},
		{"hfs+", 0x400, "H+\x00\x04", nil}, {"hfs+", 0x400, "HX\x00\x05", nil},
		{"apfs", 0x20, "NXSB", nil},
		{"minix", 0x418, "\x5a\x4d", minix}, {"minix", 0x418, "\x4d\x5a", minix},
		{"vxfs", 0x400, "\xf5\xfc\x01\xa5", nil},
		{"bfs", 0, "\xce\xfa\xad\x1b", nil},
		{"befs", 0x220, "1SFB", nil}, {"befs", 0x220, "BFS1", nil}, {"befs", 0x20, "1SFB", nil}, {"befs", 0x20, "BFS1", nil},
		{"hpfs", 0x2000, "\x49\xe8\x95\xf9", nil},
		{"ubifs", 0, "\x31\x18\x10\x06", nil}, {"ubi", 0, "UBI#", nil},
		// What joins or shares disks.
		{"encrypted volume (LUKS)", 0, "LUKS\xba\xbe", nil}, {"encrypted volume (LUKS)", 0x4000, "SKUL\xba\xbe", nil},
		{"encrypted volume (BitLocker)", 3, "-FVE-FS-", nil},
		{"RAID member (md)", 0x1000, "\xfc\x4e\x2b\xa9", nil},
		{"SSD cache member (bcache)", 0x1018, "\xc6\x85\x73\xf6\x4e\x1a\x45\xca\x82\x65\xf5\x7f\x48\xba\x6d\x81", nil},
		{"Ceph store", 0, "bluestore block device", nil},
		{"VMFS member", 0x100000, "\x0d\xd0\x01\xc0", nil}, {"VMFS", 0x200000, "\x5e\xf1\xab\x2f", nil},
		{"VDO", 0, "dmvdo001", nil},
		{"Stratis", 0x210, "!Stra0tis\x86\xff\x02^\x41rh", nil}, {"Stratis", 0x1210, "!Stra0tis\x86\xff\x02^\x41rh", nil},
		{"snapshot (device mapper)", 0, "SnAp", nil}, {"verity", 0, "verity\x00\x00", nil}, {"integrity", 0, "integrt\x00", nil},
		{"LVM1 physical volume", 0, "HM\x01\x00", nil}, {"LVM1 physical volume", 0, "HM\x02\x00", nil},
		{"Oracle ASM", 0x20, "ORCLDISK", nil},
		{"mirrored device (DRBD)", -4096 + 0x3c, "\x83\x74\x02\x6b", nil}, {"mirrored device (DRBD)", -4096 + 0x3c, "\x83\x74\x02\x6c", nil}, {"mirrored device (DRBD)", -4096 + 0x3c, "\x83\x74\x02\x6d", nil},
		// Metadata of RAID controllers at the end.
		{"RAID member (Intel)", -1024, "Intel Raid ISM Cfg Sig. ", nil},
		{"RAID member (Adaptec)", -512, "DPTM", nil},
		{"RAID member (LSI)", -512, "$XIDE$", nil},
		{"RAID member (NVIDIA)", -1024, "NVIDIA", nil},
		{"RAID member (HighPoint)", 0x1220, "\xf0\x16\x78\x5a", nil}, {"RAID member (HighPoint)", 0x1220, "\xfd\x16\x78\x5a", nil},
		// Partition tables.
		{"partition table (GPT)", 0x200, "EFI PART", nil}, {"partition table (GPT)", 0x1000, "EFI PART", nil},
		{"partition table (GPT)", -512, "EFI PART", nil}, {"partition table (GPT)", -4096, "EFI PART", nil},
		{"partition table (sgi)", 0, "\x0b\xe5\xa9\x41", nil},
		{"partition table (mac)", 0x200, "PM\x00\x00", nil},
		{"partition table (BSD)", 0x200, "\x57\x45\x56\x82", nil}, {"partition table (BSD)", 0x40, "\x57\x45\x56\x82", nil},
		{"partition table (dynamic disk)", 0xc00, "PRIVHEAD", nil}, {"partition table (dynamic disk)", -512, "PRIVHEAD", nil},
	}
	for sector := int64(0); sector < 4; sector++ {
		all = append(all, mark{"LVM physical volume", sector * 512, "LABELONE", nil})
	}
	for _, magic := range []string{"\x7f\x13", "\x8f\x13", "\x68\x24", "\x78\x24", "\x13\x7f", "\x13\x8f", "\x24\x68", "\x24\x78"} {
		all = append(all, mark{"minix", 0x410, magic, minix})
	}
	for _, size := range []int64{4 << 10, 8 << 10, 16 << 10, 32 << 10, 64 << 10} { // the last ten bytes of a page
		all = append(all, mark{"swap", size - 10, "SWAPSPACE2", nil}, mark{"swap", size - 10, "SWAP-SPACE", nil},
			mark{"hibernated system", size - 10, "S1SUSPEND\x00", nil}, mark{"hibernated system", size - 10, "S2SUSPEND\x00", nil})
	}
	for _, start := range []int64{0, 8 << 10, 64 << 10, 256 << 10} { // UFS keeps its magic at the end of the superblock
		for _, magic := range []string{"\x54\x19\x01\x00", "\x00\x01\x19\x54", "\x19\x01\x54\x19", "\x19\x54\x01\x19"} {
			all = append(all, mark{"ufs", start + 1372, magic, nil})
		}
	}
	for _, sectors := range []int64{63, 255, 256, 16, 399, 591, 675, 735, 911, 974, 991, 951, 3087} {
		all = append(all, mark{"RAID member (Promise)", -sectors * 512, "Promise Technology, Inc.", nil})
	}
	return all
}()

// nilfs reports whether a superblock of nilfs2 is of the revision in use.
func nilfs(b []byte) bool { return b != nil && binary.LittleEndian.Uint32(b) == 2 }

// minix reports whether a superblock of minix counts zones: 16 bits wide in
// version 1, 32 bits in 2 and 3, in either byte order.
func minix(at func(int64, int) []byte) bool {
	b := at(0x400, 32)
	if b == nil {
		return false
	}
	first := min(binary.LittleEndian.Uint16(b[8:]), binary.BigEndian.Uint16(b[8:])) // of the data zones
	state := min(binary.LittleEndian.Uint16(b[18:]), binary.BigEndian.Uint16(b[18:]))
	return first > 0 && first < 0x4000 && (state <= 3 || b[24] == 0x5a || b[24] == 0x4d)
}
