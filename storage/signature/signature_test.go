package signature

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"
)

// blank is a sparse file of a size.
func blank(t *testing.T, size int64) *os.File {
	t.Helper()
	file, err := os.Create(filepath.Join(t.TempDir(), "image"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { file.Close() })
	if err := file.Truncate(size); err != nil {
		t.Fatal(err)
	}
	return file
}

func found(t *testing.T, file *os.File) []string {
	t.Helper()
	info, err := file.Stat()
	if err != nil {
		t.Fatal(err)
	}
	names, err := Find(file, info.Size())
	if err != nil {
		t.Fatal(err)
	}
	return names
}

// Every kind that a tool of Debian makes is recognised by our own table, with
// the tool as the oracle. In the commands $F is the image.
func TestWhatRealToolsMake(t *testing.T) {
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	const mib = 1 << 20
	for name, c := range map[string]struct {
		size    int64
		command string
		want    string
	}{
		"ext2":             {16 * mib, "mke2fs -q -t ext2 $F", "ext2/3/4"},
		"ext4":             {16 * mib, "mke2fs -q -t ext4 $F", "ext2/3/4"},
		"xfs":              {320 * mib, "mkfs.xfs -q $F", "xfs"},
		"btrfs":            {128 * mib, "mkfs.btrfs -q $F", "btrfs"},
		"f2fs":             {64 * mib, "mkfs.f2fs -q $F", "f2fs"},
		"jfs":              {32 * mib, "mkfs.jfs -q $F", "jfs"},
		"nilfs2":           {134 * mib, "mkfs.nilfs2 -q $F", "nilfs2"},
		"ocfs2":            {64 * mib, "yes | mkfs.ocfs2 -q -M local -b 4096 -F $F", "ocfs2"},
		"ocfs2, 1 KiB":     {64 * mib, "yes | mkfs.ocfs2 -q -M local -b 1024 -F $F", "ocfs2"},
		"gfs2":             {64 * mib, "mkfs.gfs2 -q -O -p lock_nolock -J 8 $F", "gfs2"},
		"reiserfs":         {64 * mib, "mkfs.reiserfs -q -f $F", "reiserfs"},
		"reiser4":          {64 * mib, "mkfs.reiser4 -fy $F", "reiser4"},
		"minix 1":          {4 * mib, "mkfs.minix -1 $F", "minix"},
		"minix 2":          {4 * mib, "mkfs.minix -2 $F", "minix"},
		"minix 3":          {4 * mib, "mkfs.minix -3 $F", "minix"},
		"bfs":              {mib, "mkfs.bfs $F", "bfs"},
		"cramfs":           {0, "mkdir -p $D/d; echo x > $D/d/x; mkfs.cramfs $D/d $F", "cramfs"},
		"squashfs":         {0, "mkdir -p $D/d; rm $F; mksquashfs $D/d $F -quiet", "squashfs"},
		"erofs":            {0, "mkdir -p $D/d; mkfs.erofs $F $D/d", "erofs"},
		"romfs":            {0, "mkdir -p $D/d; genromfs -f $F -d $D/d", "romfs"},
		"iso9660":          {0, "mkdir -p $D/d; echo x > $D/d/x; genisoimage -quiet -o $F $D/d", "iso9660"},
		"udf":              {16 * mib, "mkudffs $F", "udf"},
		"ntfs":             {16 * mib, "mkntfs -q -F $F", "ntfs"},
		"exfat":            {16 * mib, "mkfs.exfat $F", "exfat"},
		"fat 12":           {mib, "mkfs.fat -F 12 $F", "fat"},
		"fat 32":           {64 * mib, "mkfs.fat -F 32 $F", "fat"},
		"ufs":              {0, "mkdir -p $D/d; echo x > $D/d/x; makefs -t ffs -s 4m $F $D/d", "ufs"},
		"swap":             {4 * mib, "mkswap -q $F", "swap"},
		"swap, 64 KiB":     {4 * mib, "mkswap -q -p 65536 $F", "swap"},
		"LUKS 1":           {16 * mib, "echo secret words | cryptsetup -q luksFormat --type luks1 --iter-time 1 $F", "encrypted volume (LUKS)"},
		"LUKS 2":           {32 * mib, "echo secret words | cryptsetup -q luksFormat --type luks2 --pbkdf pbkdf2 --iter-time 1 $F", "encrypted volume (LUKS)"},
		"LUKS 2, head cut": {32 * mib, "echo secret words | cryptsetup -q luksFormat --type luks2 --pbkdf pbkdf2 --iter-time 1 $F; dd if=/dev/zero of=$F bs=4096 count=1 conv=notrunc status=none", "encrypted volume (LUKS)"},
		"verity":           {4 * mib, "veritysetup format $F $D/hashes; cp $D/hashes $F", "verity"},
		"bcache":           {16 * mib, "make-bcache -B $F", "SSD cache member (bcache)"},
		"MBR":              {16 * mib, "echo , | sfdisk -q --label dos $F", "partition table"},
		"GPT":              {16 * mib, "echo , | sfdisk -q --label gpt $F", "partition table (GPT)"},
		"GPT, backup only": {16 * mib, "echo , | sfdisk -q --label gpt $F; dd if=/dev/zero of=$F bs=64K count=1 conv=notrunc status=none", "partition table (GPT)"},
		"sun":              {64 * mib, "echo , | sfdisk -q --label sun $F", "partition table (sun)"},
		"sgi":              {64 * mib, "echo , | sfdisk -q --label sgi $F", "partition table (sgi)"},
		"mac":              {64 * mib, "parted -s $F mklabel mac", "partition table (mac)"},
		"BSD":              {64 * mib, "parted -s $F mklabel bsd", "partition table (BSD)"},
	} {
		t.Run(name, func(t *testing.T) {
			file := blank(t, c.size)
			command := exec.Command("bash", "-c", c.command)
			command.Env = append(os.Environ(), "F="+file.Name(), "D="+filepath.Dir(file.Name()))
			if out, err := command.CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			made, err := os.Open(file.Name()) // some tools replace it
			if err != nil {
				t.Fatal(err)
			}
			defer made.Close()
			if names := found(t, made); !slices.Contains(names, c.want) {
				t.Errorf("recognised %q, want %q", names, c.want)
			}
		})
	}
}

// Kinds that no tool here makes, at the places their formats give; blkid is the
// oracle for those that it takes without a checksum.
func TestMarksAtTheirPlaces(t *testing.T) {
	const size = 64<<20 + 512*3 // no round number
	le := func(n uint64, bytes int) string {
		return string(binary.LittleEndian.AppendUint64(nil, n)[:bytes])
	}
	repeated := func(text string, at, step int64, times int) map[int64]string {
		marks := map[int64]string{}
		for i := range int64(times) {
			marks[at+i*step] = text
		}
		return marks
	}
	const zfsEnd = size / (256 << 10) * (256 << 10)
	for name, c := range map[string]struct {
		marks map[int64]string
		want  string
		blkid string // its name for it; "" where it wants more than a mark
	}{
		"LVM in sector 0":   {map[int64]string{0: "LABELONE"}, "LVM physical volume", ""},
		"LVM in sector 3":   {map[int64]string{3 * 512: "LABELONE"}, "LVM physical volume", ""},
		"md 1.0":            {map[int64]string{(size/512 - 16) / 8 * 8 * 512: le(0xa92b4efc, 4) + le(1, 4)}, "RAID member (md)", ""},
		"md 0.90":           {map[int64]string{size/65536*65536 - 65536: le(0xa92b4efc, 4) + le(0, 4) + le(90, 4)}, "RAID member (md)", "linux_raid_member"},
		"md 1.1":            {map[int64]string{0: le(0xa92b4efc, 4) + le(1, 4)}, "RAID member (md)", ""},
		"md 1.2":            {map[int64]string{4096: le(0xa92b4efc, 4) + le(1, 4)}, "RAID member (md)", ""},
		"ZFS, first label":  {repeated(le(0x00bab10c, 8), 128<<10, 1<<10, 16), "ZFS member", "zfs_member"},
		"ZFS, last label":   {repeated(le(0x00bab10c, 8), zfsEnd-128<<10, 1<<10, 16), "ZFS member", "zfs_member"},
		"ZFS, big endian":   {map[int64]string{128 << 10: "\x00\x00\x00\x00\x00\xba\xb1\x0c"}, "ZFS member", ""},
		"GPT, 4 KiB":        {map[int64]string{4096: "EFI PART"}, "partition table (GPT)", ""},
		"GPT backup, 4 KiB": {map[int64]string{size - 4096: "EFI PART"}, "partition table (GPT)", ""},
		"Ceph":              {map[int64]string{0: "bluestore block device\n00000000-0000-0000-0000-000000000000\n"}, "Ceph store", "ceph_bluestore"},
		"VMFS member":       {map[int64]string{1 << 20: "\x0d\xd0\x01\xc0"}, "VMFS member", "VMFS_volume_member"},
		"VMFS":              {map[int64]string{2 << 20: "\x5e\xf1\xab\x2f"}, "VMFS", "VMFS"},
		"VDO":               {map[int64]string{0: "dmvdo001"}, "VDO", "vdo"},
		"DDF":               {map[int64]string{size - 512: "\xde\x11\xde\x11"}, "RAID member (DDF)", ""},
		"Intel RAID":        {map[int64]string{size - 1024: "Intel Raid ISM Cfg Sig. 1.1.00"}, "RAID member (Intel)", "isw_raid_member"},
		"Promise RAID":      {map[int64]string{size - 63*512: "Promise Technology, Inc."}, "RAID member (Promise)", "promise_fasttrack_raid_member"},
		"LSI RAID":          {map[int64]string{size - 512: "$XIDE$"}, "RAID member (LSI)", "lsi_mega_raid_member"},
		"Oracle ASM":        {map[int64]string{32: "ORCLDISK"}, "Oracle ASM", "oracleasm"},
		"Stratis":           {map[int64]string{528: "!Stra0tis\x86\xff\x02^\x41rh"}, "Stratis", ""},
		"BitLocker":         {map[int64]string{3: "-FVE-FS-"}, "encrypted volume (BitLocker)", ""},
		"apfs":              {map[int64]string{32: "NXSB"}, "apfs", ""},
		"refs":              {map[int64]string{3: "ReFS\x00\x00\x00\x00"}, "refs", ""},
		"bcachefs":          {map[int64]string{4120: "\xc6\x85\x73\xf6\x66\xce\x90\xa9\xd9\x6a\x60\xcf\x80\x3d\xf7\xef"}, "bcachefs", ""},
		"a lone boot mark":  {map[int64]string{510: "\x55\xaa"}, "partition table or boot sector", ""},
		"snapshot":          {map[int64]string{0: "SnAp\x01\x00\x00\x00\x01\x00\x00\x00"}, "snapshot (device mapper)", "DM_snapshot_cow"},
		"hibernated system": {map[int64]string{4086: "S1SUSPEND\x00"}, "hibernated system", "swsuspend"},
	} {
		file := blank(t, size)
		for offset, text := range c.marks {
			if _, err := file.WriteAt([]byte(text), offset); err != nil {
				t.Fatal(err)
			}
		}
		if names := found(t, file); !slices.Equal(names, []string{c.want}) {
			t.Errorf("%s: recognised %q, want %q", name, names, c.want)
		}
		if kind, _, err := Ask(t.Context(), file); c.blkid != "" && (err != nil || kind != c.blkid) {
			t.Errorf("%s: blkid says %q (%v), want %q", name, kind, err, c.blkid)
		}
	}
}

func TestNothingIsRecognisedInNothing(t *testing.T) {
	for name, image := range map[string]string{"empty": "", "short": "XFS", "zeros": string(make([]byte, 3<<20)), "ones": strings.Repeat("\xff", 1<<20)} {
		if got, err := Find(strings.NewReader(image), int64(len(image))); err != nil || len(got) > 0 {
			t.Errorf("%s: found %q, %v", name, got, err)
		}
	}
	if _, err := Find(broken{}, 1<<20); err == nil {
		t.Error("storage that cannot be read was taken for empty")
	}
}

type broken struct{}

func (broken) ReadAt([]byte, int64) (int, error) { return 0, os.ErrPermission }

func TestContent(t *testing.T) {
	const size = 64 << 20
	middle := int64(size-4<<10) / (samples + 1) * 30 / 512 * 512
	for name, c := range map[string]struct {
		at   int64
		want bool
	}{"nothing": {-1, false}, "the first byte": {0, true}, "the last byte": {size - 1, true}, "in the first MiB": {1<<20 - 1, true}, "in the last MiB": {size - 1<<20, true}, "in the middle": {middle, true}} {
		file := blank(t, size)
		if c.at >= 0 {
			if _, err := file.WriteAt([]byte{1}, c.at); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := Content(file, size); err != nil || got != c.want {
			t.Errorf("%s: %t, %v", name, got, err)
		}
	}
	for _, size := range []int64{0, 1, 511, 1 << 20, 2<<20 + 1} {
		zeros := bytes.NewReader(make([]byte, size))
		if got, err := Content(zeros, size); err != nil || got {
			t.Errorf("%d zeros: %t, %v", size, got, err)
		}
	}
}

// What blkid says of a disk may have been written there to deceive; and it is
// not waited for longer than asked.
func TestAsk(t *testing.T) {
	file := blank(t, 16<<20)
	if out, err := exec.Command("/usr/sbin/mke2fs", "-q", "-t", "ext4", "-U", "11111111-2222-3333-4444-555555555555", file.Name()).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if kind, uuid, err := Ask(t.Context(), file); err != nil || kind != "ext4" || uuid != "11111111-2222-3333-4444-555555555555" {
		t.Errorf("%q %q %v", kind, uuid, err)
	}
	if kind, uuid, err := Ask(t.Context(), blank(t, 1<<20)); err != nil || kind != "" || uuid != "" {
		t.Errorf("of nothing: %q %q %v", kind, uuid, err)
	}
	if got := printable("a\x1b[31mb\u202ec"); got != "a[31mbc" {
		t.Errorf("printable: %q", got)
	}
	ended, cancel := context.WithTimeout(t.Context(), -time.Second)
	defer cancel()
	if _, _, err := Ask(ended, file); err == nil {
		t.Error("it was asked although there was no time")
	}
}

// Whatever a disk holds, looking at it ends, without reading beyond its end.
func FuzzFind(f *testing.F) {
	for _, seed := range []string{"XFSB", "LABELONE", "\x55\xaa", strings.Repeat("\x00", 510) + "\x55\xaa", "EFI PART"} {
		f.Add([]byte(seed), uint16(0))
	}
	f.Fuzz(func(t *testing.T, content []byte, at uint16) {
		image := make([]byte, int(at)+len(content))
		copy(image[at:], content)
		if _, err := Find(bytes.NewReader(image), int64(len(image))); err != nil {
			t.Error(err)
		}
		something, err := Content(bytes.NewReader(image), int64(len(image)))
		if err != nil || something != (len(bytes.Trim(content, "\x00")) > 0) {
			t.Errorf("content %q at %d: %t, %v", content, at, something, err)
		}
	})
}
