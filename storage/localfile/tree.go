package localfile

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/wall"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// tree is a folder that was made for loads of files, and is worked on by descriptors from
// its making to its removal. Its name is noted before it is made: files that have names are
// left behind when the process is killed.
type tree struct {
	path   string // of the folder that was made
	folder *os.File
	own    *os.File // the folder that was made
	inner  *os.File // the one within that the files are in, so that all can be taken away at once
	traces volume.Traces
	shape  string // of the files that are in it; "" for none
	whole  bool   // all of them are, with their sizes
}

// treePrefix is what the names of such folders begin with.
const treePrefix = ".patient-heron-files-"

// inTree is the folder within that the files are in.
const inTree = "files"

// makeTree makes an empty tree in a folder.
func makeTree(folder string, traces volume.Traces) (_ *tree, err error) {
	if traces == nil {
		return nil, fmt.Errorf("%s: files that are made there have names, and nothing notes them", folder)
	}
	name, nonce := treePrefix+rand.Text(), rand.Text()
	t := &tree{path: filepath.Join(folder, name), traces: traces}
	if t.folder, err = openFolder(folder); err != nil {
		return nil, explain(err, folder)
	}
	if err := traces.Note(t.path, nonce); err != nil {
		return nil, errors.Join(fmt.Errorf("note the name of the folder %s before it is made: %w", t.path, err), t.folder.Close())
	}
	if err := unix.Mkdirat(int(t.folder.Fd()), name, folderMode); err != nil {
		traces.Forget(t.path)
		return nil, errors.Join(explain(err, folder), t.folder.Close())
	}
	if t.own, err = folderBeneath(t.folder, name); err == nil {
		err = sign(t.own, nonce)
	}
	if err != nil {
		t.traces.Left(t.path)
		return nil, errors.Join(fmt.Errorf("make the folder %s: %w", t.path, err), t.close())
	}
	if err := t.makeInner(); err != nil {
		return nil, errors.Join(explain(err, t.path), t.remove())
	}
	return t, nil
}

// makeInner makes the folder that the files are in.
func (t *tree) makeInner() (err error) {
	if t.inner != nil {
		t.inner.Close()
		t.inner = nil
	}
	if err := unix.Mkdirat(int(t.own.Fd()), inTree, folderMode); err != nil {
		return err
	}
	t.inner, err = folderBeneath(t.own, inTree)
	return err
}

// remove takes the tree away: everything beneath the folder that was made, wherever that has
// come to lie, and the folder itself where it still has its name.
func (t *tree) remove() error {
	err := emptyTree(t.own)
	if err == nil {
		err = t.removeOwn()
	}
	if err != nil {
		t.traces.Left(t.path)
		return errors.Join(fmt.Errorf("remove the files that were made in %s: %w", t.path, err), t.close())
	}
	t.traces.Forget(t.path)
	return t.close()
}

func (t *tree) removeOwn() error {
	name := filepath.Base(t.path)
	var ours, there unix.Stat_t
	if err := unix.Fstat(int(t.own.Fd()), &ours); err != nil {
		return err
	}
	err := unix.Fstatat(int(t.folder.Fd()), name, &there, unix.AT_SYMLINK_NOFOLLOW)
	if err == nil && there.Dev == ours.Dev && there.Ino == ours.Ino {
		return removeFolder(t.folder, name)
	}
	if ours.Nlink == 0 {
		return nil // somebody else has removed it
	}
	now, _ := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", t.own.Fd()))
	return &StaysError{now, errors.New("the folder was moved away by somebody; all that was in it is removed, the empty folder is left")}
}

func (t *tree) close() error {
	var errs []error
	for _, f := range []*os.File{t.inner, t.own, t.folder} {
		if f != nil {
			errs = append(errs, f.Close())
		}
	}
	return errors.Join(errs...)
}

// ready brings the tree into the state in which a load finds it: empty, or with all files.
func (t *tree) ready(ctx context.Context, spec workload.Spec, progress volume.Progress) error {
	shape := loadfiles.Of(spec).Shape()
	if t.shape != "" && (loadfiles.Of(spec).Starts() || t.shape != shape) {
		if err := removeBeneath(t.own, inTree, 0); err != nil {
			return fmt.Errorf("remove the files of the measurement before from %s: %w", t.path, err)
		}
		if err := t.makeInner(); err != nil {
			return explain(err, t.path)
		}
		t.shape, t.whole = "", false
	}
	if loadfiles.Of(spec).Starts() || t.whole {
		return t.settle()
	}
	t.shape = shape
	m := &maker{tree: t, spec: spec, progress: progress}
	if err := m.make(ctx); err != nil {
		return fmt.Errorf("make the files in %s: %w", t.path, noRoom(err))
	}
	t.whole = true
	return nil
}

// settle forces all that was written to stable storage, so that no measurement has to
// wait for what came before it.
func (t *tree) settle() error {
	if err := unix.Syncfs(int(t.inner.Fd())); err != nil && !errors.Is(err, unix.EOPNOTSUPP) && !errors.Is(err, unix.ENOSYS) {
		return fmt.Errorf("flush the file system of %s: %w", t.path, err)
	}
	return nil
}

func noRoom(err error) error {
	if errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT) {
		return fmt.Errorf("%w; use fewer or smaller files, or make room: %w", volume.ErrNoSpace, err)
	}
	return err
}

// used notes what a load leaves of the tree.
func (t *tree) used(f *loadfiles.Files) {
	if f.Starts() {
		t.shape = f.Shape()
	}
	if f.Does(loadfiles.Put) || f.Does(loadfiles.Save) || f.Does(loadfiles.Remove) {
		t.whole = false
	}
}

// maker makes the files of a tree that are not there yet.
type maker struct {
	tree     *tree
	spec     workload.Spec
	progress volume.Progress
	next     atomic.Int64 // file
	done     atomic.Int64 // bytes
	failed   atomic.Pointer[error]
}

// makers is how many files are made at a time.
const makers = 8

// batch is how many files a goroutine takes at once.
const batch = 64

func (m *maker) make(ctx context.Context) error {
	files, err := loadfiles.Of(m.spec).WorkedOut()
	if err != nil {
		return err
	}
	root := int(m.tree.inner.Fd())
	files.Folders(func(path []byte) bool {
		err = made(unix.Mkdirat(root, string(path), folderMode))
		return err == nil && ctx.Err() == nil
	})
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	for range makers {
		all.Go(func() {
			if err := wall.Do(func() error { return m.some(ctx, root, files) }); err != nil {
				m.failed.Store(&err)
			}
		})
	}
	all.Wait()
	if err := m.failed.Load(); err != nil {
		return *err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return m.tree.settle()
}

// some makes files until there are no more.
func (m *maker) some(ctx context.Context, root int, files *fileset.Files) error {
	buffer := make([]byte, 1<<20)
	content := make([]*workload.Content, len(loadfiles.Of(m.spec).Set.Classes))
	var path []byte
	for {
		first := m.next.Add(batch) - batch
		if first >= files.Len() {
			return nil
		}
		for i := first; i < min(first+batch, files.Len()); i++ {
			if ctx.Err() != nil || m.failed.Load() != nil {
				return ctx.Err()
			}
			f := files.At(i)
			if content[f.Class] == nil {
				content[f.Class] = loadfiles.FileContent(m.spec, f.Class)
			}
			path = files.Path(path[:0], i)
			if err := m.file(ctx, root, string(path), i, int64(f.Size), content[f.Class], buffer); err != nil {
				return err
			}
			if done := m.done.Add(int64(f.Size)); m.progress != nil {
				m.progress(quantity.Bytes(done), files.Bytes())
			}
		}
	}
}

// file makes a file that is not there with its size. What was written of it shall not
// answer the reads of a measurement from memory.
func (m *maker) file(ctx context.Context, root int, path string, number, size int64, content *workload.Content, buffer []byte) error {
	if loadfiles.Of(m.spec).Does(loadfiles.Save) {
		_ = unix.Unlinkat(root, path+besides, 0) // of a save that was cut short
	}
	var there unix.Stat_t
	if unix.Fstatat(root, path, &there, unix.AT_SYMLINK_NOFOLLOW) == nil && there.Mode&unix.S_IFMT == unix.S_IFREG && there.Size == size {
		return nil
	}
	fd, err := beneath(root, path, unix.O_CREAT|unix.O_TRUNC|unix.O_WRONLY, fileMode)
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	for at := int64(0); at < size; {
		if err = ctx.Err(); err != nil {
			break
		}
		part := buffer[:min(int64(len(buffer)), size-at)]
		loadfiles.FillFile(content, part, number, at)
		n, failed := unix.Pwrite(fd, part, at)
		if n == 0 && failed == nil { // a file system that takes nothing and does not say why
			failed = unix.EIO
		}
		if failed != nil && failed != unix.EINTR {
			err = fmt.Errorf("%s: %w", path, failed)
			break
		}
		at += int64(max(n, 0))
	}
	if err == nil && size >= largeFile && !m.spec.Cached {
		_ = unix.Fdatasync(fd)
		_ = unix.Fadvise(fd, 0, 0, unix.FADV_DONTNEED)
	}
	if closed := unix.Close(fd); err == nil && closed != nil {
		err = fmt.Errorf("%s: %w", path, closed)
	}
	return err
}

// largeFile is how large a file is whose writing is not slowed down by forcing it out.
const largeFile = 8 << 20

// openedTree is a tree opened for one measurement.
type openedTree struct {
	root  *os.File
	from  *os.File // folder that the files come from; nil where they are made
	spec  workload.Spec
	files *fileset.Files
	facts load.Facts
	cache bool // the host's memory may help
}

// open opens the tree for a load, and tries whether it can be written around the host's
// memory where that is asked for.
func (t *tree) open(spec workload.Spec) (load.Volume, error) {
	files, err := loadfiles.Of(spec).WorkedOut()
	if err != nil {
		return nil, err
	}
	root, err := folderBeneath(t.inner, ".")
	if err != nil {
		return nil, explain(err, t.path)
	}
	if !spec.Cached {
		if err := t.tryUncached(); err != nil {
			return nil, errors.Join(err, root.Close())
		}
	}
	o := &openedTree{root: root, spec: spec, files: files, cache: spec.Cached, facts: load.Facts{Size: files.Bytes(), Alignment: 1, Files: true}}
	if loadfiles.Of(spec).Listed() != nil {
		if o.from, err = os.Open(loadfiles.FromFolder(spec)); err != nil {
			return nil, errors.Join(explain(err, loadfiles.FromFolder(spec)), root.Close())
		}
	}
	t.used(loadfiles.Of(spec))
	return o, nil
}

func (t *tree) tryUncached() error {
	const name = "uncached"
	defer unix.Unlinkat(int(t.own.Fd()), name, 0)
	fd, err := beneath(int(t.own.Fd()), name, unix.O_CREAT|unix.O_RDWR|unix.O_DIRECT, fileMode)
	if err == nil {
		file := os.NewFile(uintptr(fd), name)
		var page []byte
		if page, err = unix.Mmap(-1, 0, pageSize, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE); err == nil {
			_, err = file.WriteAt(page, 0)
			_ = unix.Munmap(page)
		}
		file.Close()
	}
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.EOPNOTSUPP) {
		return fmt.Errorf("work on files in %s uncached: its file system cannot do that (%w); measure it with --cached and more files than this host's memory holds", filepath.Dir(t.path), load.ErrUnsupported)
	}
	if err != nil {
		return fmt.Errorf("try to work on files in %s: %w", t.path, noRoom(err))
	}
	return nil
}

func (o *openedTree) Facts() load.Facts { return o.facts }

func (o *openedTree) Close() error {
	if o.from != nil {
		return errors.Join(o.root.Close(), o.from.Close())
	}
	return o.root.Close()
}

func (o *openedTree) Open(options load.QueueOptions) (load.Queue, error) {
	names, err := mapNames(o.files, options.Depth)
	if err != nil {
		return nil, err
	}
	var from *source
	if o.from != nil {
		if from, err = openSource(loadfiles.Of(o.spec).Listed(), int(o.from.Fd()), options); err != nil {
			names.unmap()
			return nil, err
		}
	}
	return openTreeQueue(names, int(o.root.Fd()), !o.cache, from, options)
}
