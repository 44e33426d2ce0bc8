// Package localfile drives files, folders and block devices of this host,
// through io_uring where the kernel grants it and through threads where it
// does not.
//
// In a folder it makes a test file of its own, filled with real data and
// without a name, so that nothing is left behind even when the process is
// killed; where the file system cannot do that, the file has a name that is
// noted before it is made. An existing file or device is only ever read unless the user agreed
// that its content may be lost. The main type is Volume; Prepare makes one.
package localfile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// kindOf tells whether path is a "folder", a "file" or a "device".
func kindOf(path string) (string, error) {
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "", fmt.Errorf("%s does not exist on the host of the service; make it first, or name another place: %w", path, fs.ErrNotExist)
	case errors.Is(err, fs.ErrPermission):
		return "", fmt.Errorf("%s: %w: the service may not look there; grant it the right, or run it as another user", path, volume.ErrNotPermitted)
	case err != nil:
		return "", fmt.Errorf("look at %s: %w", path, err)
	case info.IsDir():
		return "folder", nil
	case info.Mode().IsRegular():
		return "file", nil
	case info.Mode()&fs.ModeDevice != 0 && info.Mode()&fs.ModeCharDevice == 0:
		return "device", nil
	}
	return "", fmt.Errorf("%s: %w; name one of these", path, volume.ErrNotStorage)
}

// look tells what stands behind path without writing anything.
func look(path, kind string) (setup.Facts, error) {
	var f setup.Facts
	var stat unix.Statfs_t
	if err := unix.Statfs(path, &stat); err != nil {
		return f, fmt.Errorf("look at the file system of %s: %w", path, err)
	}
	f.FileSystem = fileSystemName(int64(stat.Type))
	f.Size = quantity.Bytes(int64(stat.Blocks) * stat.Bsize)
	f.Free = quantity.Bytes(int64(stat.Bavail) * stat.Bsize)
	f.Writable = unix.Access(path, unix.W_OK) == nil
	var node unix.Stat_t
	if err := unix.Stat(path, &node); err != nil {
		return f, fmt.Errorf("look at %s: %w", path, err)
	}
	number := node.Dev
	if kind == "device" {
		number = node.Rdev
	}
	f.Devices = devicesBehind(path, number)
	f.Alignment = 512
	if kind == "device" {
		f.FileSystem = ""
		f.Alignment = deviceAlignment(deviceName(number))
		f.Serial = deviceSerial(deviceName(number))
	}
	if kind != "folder" {
		f.Free, f.Size = 0, quantity.Bytes(node.Size)
	}
	if kind == "device" {
		f.Size = deviceSize(deviceName(number))
	}
	if kind != "folder" {
		f.Unwritten = unwrittenOf(path, kind, f.Size)
	}
	return f, nil
}

// checkFolder reports why no test file can be made in a folder.
func (o Opener) checkFolder(path string, request volume.Request) error {
	if !request.NoBlocks && request.Size == 0 {
		return &mistake.Error{Of: workload.ErrInvalid, Field: "span", Reason: "a folder has no size of its own; say how large the test file shall be, such as --span 10GiB"}
	}
	if folder := keptAbove(path, o.Kept); folder != "" {
		return fmt.Errorf("%s: %w: the service keeps %s for itself, and a test file there would take the room of its results; name another folder", path, volume.ErrInUse, folder)
	}
	found, err := look(path, "folder")
	if err != nil {
		return err
	}
	if !found.Writable {
		return fmt.Errorf("%s: %w: the service may not write there; grant its user the right, or name another folder", path, volume.ErrNotPermitted)
	}
	if err := roomForFiles(path, request, found); err != nil {
		return err
	}
	if request.Size > found.Free {
		return fmt.Errorf("%w: the test file needs %s, and %s has %s free; use a smaller span, or make room", volume.ErrNoSpace, request.Size, path, found.Free)
	}
	return nil
}

// roomForFiles reports a tree of files that a file system has no room for: what they
// hold in whole blocks, beside a test file, and one entry for each of them.
func roomForFiles(path string, request volume.Request, found setup.Facts) error {
	var stat unix.Statfs_t
	if err := unix.Statfs(path, &stat); err != nil {
		return fmt.Errorf("look at the file system of %s: %w", path, err)
	}
	for _, spec := range request.Files {
		var files, entries int64
		var bytes quantity.Bytes
		ofFiles, _ := spec.OfFiles()
		for _, p := range ofFiles {
			if !loadfiles.Of(p).Known() { // it is looked at again when they were listed
				continue
			}
			set, err := loadfiles.Of(p).WorkedOut()
			if err != nil {
				return err
			}
			files, entries, bytes = files+set.Len(), entries+set.Len()+set.FolderCount(), bytes+set.Bytes()
		}
		need := bytes + quantity.Bytes(entries*max(stat.Bsize, 512)/2) // a file's last block is half full on average
		if need+request.Size > found.Free {
			return fmt.Errorf("%w: %d files, %s in all, need about %s, and %s has %s free; use fewer or smaller files, or make room", volume.ErrNoSpace, files, bytes, need, path, found.Free)
		}
		if stat.Files > 0 && uint64(entries) > stat.Ffree {
			return fmt.Errorf("%w: %d files and folders need as many inodes, and the file system of %s has %d free; use fewer files", volume.ErrNoSpace, entries, path, stat.Ffree)
		}
	}
	return nil
}

// Volume is a file or device made ready for a run.
type Volume struct {
	file  *os.File
	test  *testFile // in a folder
	trees []*tree   // in a folder, for loads of files: one for each of several at once
	path  string    // as the user named it
	size  quantity.Bytes
	// cachedWrites is set when the file system takes no uncached writes.
	cachedWrites bool
	// tenure is what of a file or device may be written; nil where nothing may.
	tenure *volume.Tenure
	kept   []string
	// alignment tells what uncached access through an opened file needs.
	alignment func(*os.File) quantity.Bytes
}

// Close closes it, and removes a test file that has a name; one without is gone
// with that.
func (v *Volume) Close() error {
	var errs []error
	for _, t := range v.trees {
		errs = append(errs, t.remove())
	}
	switch {
	case v.test != nil:
		errs = append(errs, v.test.remove())
	case v.file != nil:
		errs = append(errs, v.file.Close())
	}
	return errors.Join(errs...)
}

// Ready makes the files that a load of files finds.
func (v *Volume) Ready(ctx context.Context, spec workload.Spec, progress volume.Progress) error {
	ofFiles, _ := spec.OfFiles()
	var made, all quantity.Bytes
	makes := func(p workload.Spec) quantity.Bytes {
		if loadfiles.Of(p).Starts() {
			return 0
		}
		held, _ := loadfiles.Of(p).Holds()
		return held.Bytes
	}
	for _, p := range ofFiles {
		all += makes(p)
	}
	for i, p := range ofFiles {
		var ofAll volume.Progress
		if progress != nil {
			ofAll = func(done, _ quantity.Bytes) { progress(made+done, all) }
		}
		if err := v.trees[i].ready(ctx, p, ofAll); err != nil {
			return err
		}
		made += makes(p)
	}
	return nil
}

// open opens what the volume is once more, with other flags.
func (v *Volume) open(mode int, uncached bool) (*os.File, error) {
	if v.test != nil {
		return v.test.open(mode, uncached)
	}
	return reopen(v.file, mode, uncached)
}

// Use opens the volume for one measurement, cached or uncached, for reading
// alone or for both.
func (v *Volume) Use(ctx context.Context, spec workload.Spec) (load.Volume, error) {
	if ofFiles, _ := spec.OfFiles(); len(ofFiles) > 0 {
		return v.useFiles(spec)
	}
	return v.useBlocks(spec)
}

// useBlocks opens what is there of blocks.
func (v *Volume) useBlocks(spec workload.Spec) (load.Volume, error) {
	mode := unix.O_RDONLY
	if spec.Writes() {
		mode = unix.O_RDWR
	}
	file, err := v.open(mode, !spec.Cached)
	if err == nil && v.cachedWrites && spec.Writes() && !spec.Cached {
		return nil, errors.Join(fmt.Errorf("write to %s uncached: its file system does not take that (%w); measure writes with --cached and a span larger than this host's memory", v.path, load.ErrUnsupported), file.Close())
	}
	if errors.Is(err, unix.EINVAL) && !spec.Cached {
		return nil, fmt.Errorf("open %s uncached: its file system cannot do that (%w); measure it with --cached and a span larger than this host's memory", v.path, load.ErrUnsupported)
	}
	if err != nil {
		return nil, explain(err, v.path)
	}
	if err := v.begin(spec, file); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return &opened{file: file, facts: load.Facts{Size: v.size, Alignment: v.alignment(file), ReadOnly: !spec.Writes()}}, nil
}

// begin makes sure before a load that nobody has come to use what it writes to, or has
// changed it, and that what is there can do what the load asks for.
func (v *Volume) begin(spec workload.Spec, file *os.File) error {
	if v.tenure != nil && spec.Writes() {
		if err := v.still(); err != nil {
			return err
		}
		v.tenure.Writes(spec)
	}
	return v.allows(spec, file)
}

// still reports whether what may be written is unused, and nobody else has changed it.
func (v *Volume) still() error {
	if _, err := free(v.file, v.path, v.kept); err != nil {
		return err
	}
	found, err := identify(v.file)
	if err != nil {
		return err
	}
	return v.tenure.Still(found)
}

// allows finds out what of a load nothing there can do, at the beginning of its span.
func (v *Volume) allows(spec workload.Spec, file *os.File) error {
	if spec.Copies > 0 {
		return fmt.Errorf("%s: %w: offloaded copies of a file system are not measured; leave the copies out", v.path, load.ErrUnsupported)
	}
	if spec.Swaps > 0 {
		return fmt.Errorf("%s: %w: files and devices are not compared before they are written; leave the swaps out", v.path, load.ErrUnsupported)
	}
	for _, of := range []struct {
		share quantity.Share
		does  func(fd int, offset, length int64) error
		words string
	}{{spec.Trims, trim, "give a range of %s back: nothing there can do that (%w); leave the trims out"}, {spec.Zeroes, zero, "let zeros be written over a range of %s: nothing there can do that (%w); leave the zeroes out"}} {
		if of.share == 0 {
			continue
		}
		err := of.does(int(file.Fd()), int64(spec.Offset), int64(v.alignment(file)))
		if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOSYS) {
			err = fmt.Errorf(of.words, v.path, load.ErrUnsupported)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// How ranges are given back, and zeros written over them.
const (
	givesBack = unix.FALLOC_FL_PUNCH_HOLE | unix.FALLOC_FL_KEEP_SIZE
	zeroes    = unix.FALLOC_FL_ZERO_RANGE | unix.FALLOC_FL_KEEP_SIZE
)

// trim gives a range of a file or device back: it reads as zeros.
func trim(fd int, offset, length int64) error { return unix.Fallocate(fd, givesBack, offset, length) }

// zero lets zeros be written over a range of a file or device, which keeps its room.
func zero(fd int, offset, length int64) error { return unix.Fallocate(fd, zeroes, offset, length) }

// opened is a volume opened for one measurement.
type opened struct {
	file  *os.File
	facts load.Facts
}

// Facts tells size and alignment.
func (o *opened) Facts() load.Facts { return o.facts }

// Close closes the file of this measurement.
func (o *opened) Close() error { return o.file.Close() }

// Open makes a queue: an io_uring, or threads where the kernel refuses it.
func (o *opened) Open(options load.QueueOptions) (load.Queue, error) {
	return openQueue(int(o.file.Fd()), options)
}

// prepareExisting opens a file or device that is there: for reading, or for
// writing when that was agreed to.
func (o Opener) prepareExisting(path, kind string, request volume.Request) (*Volume, error) {
	v := &Volume{path: path, alignment: uncachedAlignment, kept: o.Kept}
	var err error
	if request.Writes {
		v.file, v.tenure, err = openForWriting(path, kind, request, o.Kept)
	} else {
		v.file, err = openToLook(path, kind)
	}
	if err != nil {
		return nil, err
	}
	if err := v.measureUp(kind); err != nil {
		v.file.Close()
		return nil, err
	}
	return v, nil
}

// measureUp finds size and alignment of what was opened.
func (v *Volume) measureUp(kind string) error {
	var stat unix.Stat_t
	if err := unix.Fstat(int(v.file.Fd()), &stat); err != nil {
		return fmt.Errorf("look at %s: %w", v.path, err)
	}
	v.size = quantity.Bytes(stat.Size)
	if kind == "device" {
		name := deviceName(stat.Rdev)
		v.size = deviceSize(name)
		v.alignment = func(*os.File) quantity.Bytes { return deviceAlignment(name) }
	}
	if v.size < pageSize {
		return fmt.Errorf("look at %s: it holds only %d bytes, too little to measure; name a larger file, or its folder to have a test file made", v.path, v.size)
	}
	return nil
}

// Identity tells what the opened file or device is and holds by now, so that
// consent goes on after what this run wrote. What others changed meanwhile ends it.
func (v *Volume) Identity(context.Context) (setup.Identity, error) {
	found, err := identify(v.file)
	if err == nil && v.tenure != nil {
		err = v.tenure.Still(found)
	}
	if err != nil {
		return found, err
	}
	return found, nil
}

// explain adds the next step to an error about opening path.
func explain(err error, path string) error {
	switch {
	case errors.Is(err, fs.ErrPermission), errors.Is(err, unix.EROFS):
		return fmt.Errorf("open %s: %w: %w; grant the service's user the right, or name another place", path, volume.ErrNotPermitted, err)
	case errors.Is(err, unix.ENOSPC):
		return fmt.Errorf("open %s: %w: %w", path, volume.ErrNoSpace, err)
	}
	return fmt.Errorf("open %s: %w", path, err)
}

// uncachedAlignment asks the file system what uncached access must be aligned
// to (statx(2), STATX_DIOALIGN), and assumes 512 where it does not say.
func uncachedAlignment(file *os.File) quantity.Bytes {
	var stat unix.Statx_t
	err := unix.Statx(int(file.Fd()), "", unix.AT_EMPTY_PATH, unix.STATX_DIOALIGN, &stat)
	if err == nil && stat.Mask&unix.STATX_DIOALIGN != 0 && stat.Dio_offset_align > 0 {
		return quantity.Bytes(stat.Dio_offset_align)
	}
	return 512
}

// fileSystemName names the common file systems by their magic number
// (statfs(2)); others by the number itself.
func fileSystemName(magic int64) string {
	names := map[int64]string{
		unix.EXT4_SUPER_MAGIC: "ext4", unix.XFS_SUPER_MAGIC: "xfs", unix.BTRFS_SUPER_MAGIC: "btrfs",
		unix.TMPFS_MAGIC: "tmpfs", unix.NFS_SUPER_MAGIC: "nfs", unix.FUSE_SUPER_MAGIC: "fuse",
		unix.OVERLAYFS_SUPER_MAGIC: "overlay", unix.F2FS_SUPER_MAGIC: "f2fs", 0xff534d42: "cifs", 0xfe534d42: "smb2",
		0x2fc12fc1: "zfs", unix.CEPH_SUPER_MAGIC: "ceph", unix.V9FS_MAGIC: "9p",
	}
	if name := names[magic]; name != "" {
		return name
	}
	return strings.ToLower(fmt.Sprintf("0x%x", magic))
}
