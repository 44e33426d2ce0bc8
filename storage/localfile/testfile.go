package localfile

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

// The ways, from the best on. A file without a name is gone with the process,
// however that ends. File systems that live in other processes often cannot open
// such a file a second time, and some lose it when its name is removed.
const (
	Unnamed  volume.Way = "without a name"            // it never has one (O_TMPFILE, open(2))
	Unlinked volume.Way = "with its name removed"     // at once after it was made
	Named    volume.Way = "with a name until the end" // which is noted before it is made
)

// testName is what test files are called, and treeName what folders are that files are
// made in. Nobody else calls a file or a folder that.
var (
	testName = regexp.MustCompile(`^\.patient-heron-[A-Z2-7]{26}$`)
	treeName = regexp.MustCompile(`^\.patient-heron-files-[A-Z2-7]{26}$`)
)

// testFile is a file that was made to be measured.
type testFile struct {
	file   *os.File
	folder *os.File // that it is in
	path   string   // under which it was made
	way    volume.Way
	traces volume.Traces
}

// makeTestFile makes an empty file in a folder, in the best way that works there.
func makeTestFile(folder string, traces volume.Traces) (*testFile, error) {
	in, err := openFolder(folder)
	if err != nil {
		return nil, explain(err, folder)
	}
	t, err := makeTestFileIn(in, folder, traces)
	if err != nil {
		in.Close()
	}
	return t, err
}

func makeTestFileIn(in *os.File, folder string, traces volume.Traces) (*testFile, error) {
	fd, err := unix.Openat(int(in.Fd()), ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if err == nil {
		t := &testFile{file: os.NewFile(uintptr(fd), filepath.Join(folder, "test file")), folder: in, way: Unnamed}
		if t.opensAgain() {
			return t, nil
		}
		t.file.Close()
	} else if errors.Is(err, fs.ErrPermission) || errors.Is(err, unix.EROFS) || errors.Is(err, unix.ENOSPC) {
		return nil, explain(err, folder)
	}
	path := filepath.Join(folder, ".patient-heron-"+rand.Text())
	if traces != nil {
		if err := traces.Note(path, ""); err != nil {
			return nil, fmt.Errorf("note the name of the test file %s before it is made: %w", path, err)
		}
	}
	t := &testFile{path: path, folder: in, way: Unlinked, traces: traces}
	if !servedElsewhere(folder) {
		if err := t.make(folder); err != nil {
			return nil, err
		}
		if err := t.unlinkName(); err != nil {
			return nil, errors.Join(fmt.Errorf("remove the name of the test file %s: %w", path, err), t.file.Close())
		}
		if t.opensAgain() {
			t.forget()
			return t, nil
		}
		t.file.Close()
	}
	if traces == nil {
		return nil, fmt.Errorf("%s: its file system cannot open a file again whose name is gone, and nothing notes the name of one that keeps it", folder)
	}
	t.way = Named
	if err := t.make(folder); err != nil {
		return nil, err
	}
	return t, nil
}

// make makes the file under its name.
func (t *testFile) make(folder string) (err error) {
	fd, err := beneath(int(t.folder.Fd()), filepath.Base(t.path), unix.O_CREAT|unix.O_EXCL|unix.O_RDWR, 0o600)
	if err != nil {
		t.forget()
		return explain(err, folder)
	}
	t.file = os.NewFile(uintptr(fd), t.path)
	return nil
}

func (t *testFile) unlinkName() error {
	return unix.Unlinkat(int(t.folder.Fd()), filepath.Base(t.path), 0)
}

// opensAgain tries whether the file can be opened a second time.
func (t *testFile) opensAgain() bool {
	again, err := reopen(t.file, unix.O_RDWR, false)
	if err != nil {
		return false
	}
	again.Close()
	return true
}

// servedElsewhere reports whether a folder lies on a file system that another process
// or host serves. Many of these know no open files: when the name of one is removed
// they give it another, which stays when they are killed.
func servedElsewhere(folder string) bool {
	var stat unix.Statfs_t
	if unix.Statfs(folder, &stat) != nil {
		return true
	}
	switch fileSystemName(int64(stat.Type)) {
	case "fuse", "nfs", "cifs", "smb2", "9p", "ceph":
		return true
	}
	return false
}

func (t *testFile) forget() {
	if t.traces != nil {
		t.traces.Forget(t.path)
	}
}

// open opens the file once more with other flags.
func (t *testFile) open(mode int, uncached bool) (*os.File, error) {
	if t.way != Named {
		return reopen(t.file, mode, uncached)
	}
	if uncached {
		mode |= unix.O_DIRECT
	}
	fd, err := beneath(int(t.folder.Fd()), filepath.Base(t.path), mode, 0)
	if err != nil {
		return nil, err
	}
	file := os.NewFile(uintptr(fd), t.path)
	if err := t.same(file); err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// same reports an error when file is not the test file.
func (t *testFile) same(file *os.File) error {
	ours, err := t.file.Stat()
	if err != nil {
		return err
	}
	theirs, err := file.Stat()
	if err != nil {
		return err
	}
	if !os.SameFile(ours, theirs) {
		return fmt.Errorf("another file is now under the name of the test file %s", t.path)
	}
	return nil
}

// remove closes the file and removes its name.
func (t *testFile) remove() error {
	defer t.folder.Close()
	if t.way != Named {
		return t.file.Close()
	}
	err := t.unlink()
	if err == nil {
		t.forget()
	} else if t.traces != nil {
		t.traces.Left(t.path)
	}
	return errors.Join(err, t.file.Close())
}

func (t *testFile) unlink() error {
	file, err := t.open(unix.O_RDONLY, false)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // somebody else has removed it
	}
	if err != nil {
		return fmt.Errorf("remove the test file %s: %w", t.path, err)
	}
	defer file.Close()
	return t.unlinkName()
}

// reopen opens the file behind a descriptor once more with other flags.
func reopen(file *os.File, mode int, uncached bool) (*os.File, error) {
	if uncached {
		mode |= unix.O_DIRECT
	}
	fd, err := unix.Open(fmt.Sprintf("/proc/self/fd/%d", file.Fd()), mode|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), file.Name()), nil
}

// wayOf tells how a folder takes a test file, by making an empty one that is gone
// when it returns.
func wayOf(folder string, traces volume.Traces) (volume.Way, error) {
	t, err := makeTestFile(folder, traces)
	if err != nil {
		return "", err
	}
	return t.way, t.remove()
}

// LeftBehind reports whether a test file, or a folder of them that bears the nonce which was
// noted with it, is under path, and how much it holds.
func LeftBehind(path, nonce string) (size quantity.Bytes, is bool, err error) {
	l, err := openLeft(path, nonce)
	if l == nil || err != nil {
		return 0, false, err
	}
	defer l.close()
	if l.tree != nil {
		counted := 0
		return heldBeneath(l.tree, &counted, 0), true, nil
	}
	return l.size, true, nil
}

// left is what was left behind, with the folder that it is in.
type left struct {
	folder *os.File
	name   string
	tree   *os.File // nil for a file
	size   quantity.Bytes
}

func (l *left) close() {
	l.folder.Close()
	if l.tree != nil {
		l.tree.Close()
	}
}

// openLeft opens what was left behind; it gives nil where nothing is.
func openLeft(path, nonce string) (l *left, err error) {
	folder, err := openFolder(filepath.Dir(path))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, unix.ENOTDIR) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("look at the test file %s: %w", path, err)
	}
	l = &left{folder: folder, name: filepath.Base(path)}
	defer func() {
		if err != nil {
			folder.Close()
		}
	}()
	var stat unix.Stat_t
	err = unix.Fstatat(int(folder.Fd()), l.name, &stat, unix.AT_SYMLINK_NOFOLLOW)
	kind := stat.Mode & unix.S_IFMT
	switch {
	case errors.Is(err, unix.ENOENT):
		return nil, folder.Close()
	case err != nil:
		return nil, fmt.Errorf("look at the test file %s: %w", path, err)
	case kind == unix.S_IFREG && testName.MatchString(l.name):
		l.size = quantity.Bytes(stat.Size)
		return l, nil
	case kind != unix.S_IFDIR || !treeName.MatchString(l.name):
		return nil, folder.Close()
	}
	if l.tree, err = folderBeneath(folder, l.name); err != nil {
		return nil, err
	}
	if err = signed(l.tree, nonce); err != nil {
		if names, failed := namesIn(l.tree, 1); failed == nil && len(names) == 0 {
			return l, nil // it was killed right after making it, or before removing it
		}
		l.tree.Close()
		return nil, &StaysError{path, err}
	}
	return l, nil
}

// mostCounted is how many files of a folder are looked at to say what it holds: the rest
// is found when it is removed.
const mostCounted = 20_000

// RemoveLeft removes a test file that was left behind, or a folder of them that bears the
// nonce which was noted with it. That it is gone already is no error.
func RemoveLeft(path, nonce string) error {
	l, err := openLeft(path, nonce)
	if l == nil || err != nil {
		return err
	}
	defer l.close()
	if l.tree == nil {
		err = unix.Unlinkat(int(l.folder.Fd()), l.name, 0)
	} else if err = emptyTree(l.tree); err == nil {
		err = removeFolder(l.folder, l.name)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove the test file %s: %w", path, err)
	}
	return nil
}

// prepareFolder makes and fills a test file for loads of blocks, and an empty tree for
// those of files.
func (o Opener) prepareFolder(ctx context.Context, path string, request volume.Request) (v *Volume, err error) {
	v = &Volume{path: path, size: request.Size, alignment: uncachedAlignment}
	for _, spec := range request.Files {
		for ofFiles, _ := spec.OfFiles(); len(v.trees) < len(ofFiles); {
			t, err := makeTree(path, o.Traces)
			if err != nil {
				return nil, errors.Join(err, v.Close())
			}
			v.trees = append(v.trees, t)
		}
	}
	if request.NoBlocks {
		return v, nil
	}
	if v.test, err = makeTestFile(path, o.Traces); err != nil {
		return nil, errors.Join(err, v.Close())
	}
	v.file = v.test.file
	if err := v.fill(ctx, request); err != nil {
		return nil, errors.Join(fmt.Errorf("fill the test file in %s: %w", path, err), v.Close())
	}
	return v, nil
}

// fill writes the whole test file with the asked content and brings it to
// stable storage: uncached, or through the page cache where the file system does
// not take that.
func (v *Volume) fill(ctx context.Context, request volume.Request) error {
	file, err := v.open(unix.O_RDWR, true)
	if err == nil {
		err = v.fillThrough(ctx, file, request)
		file.Close()
	}
	if !errors.Is(err, unix.EINVAL) {
		return err
	}
	v.cachedWrites = true
	if file, err = v.open(unix.O_RDWR, false); err != nil {
		return err
	}
	defer file.Close()
	return v.fillThrough(ctx, file, request)
}

func (v *Volume) fillThrough(ctx context.Context, file *os.File, request volume.Request) error {
	const chunk = 4 << 20
	buffer, err := unix.Mmap(-1, 0, chunk, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return fmt.Errorf("get a buffer: %w", err)
	}
	defer unix.Munmap(buffer)
	content, size := workload.NewContent(request.Content, -1), int64(v.size)
	for at := int64(0); at < size; at += chunk {
		if err := ctx.Err(); err != nil {
			return err
		}
		// Whole pages keep uncached access aligned; the tail is cut below.
		part := buffer[:min(chunk, (size-at+pageSize-1)/pageSize*pageSize)]
		content.Fill(part)
		if _, err := file.WriteAt(part, at); err != nil {
			if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
				return fmt.Errorf("%w after %s; use a smaller span, or make room: %w", volume.ErrNoSpace, quantity.Bytes(at), err)
			}
			return err
		}
		if request.Progress != nil {
			request.Progress(quantity.Bytes(min(at+chunk, size)), v.size)
		}
	}
	if err := file.Truncate(size); err != nil {
		return err
	}
	if err := file.Sync(); err != nil {
		return err
	}
	// What went through the page cache shall not answer the first reads.
	_ = unix.Fadvise(int(file.Fd()), 0, 0, unix.FADV_DONTNEED)
	return nil
}
