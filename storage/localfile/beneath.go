package localfile

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/core/quantity"
)

// What is made in a folder that others may write to is worked on by descriptors alone: names
// are looked up once, beneath a folder that is held open, without following links, without
// /proc's own links, and without crossing into whatever is mounted there.

// resolveBeneath is how names are looked up beneath a folder (openat2(2)).
const resolveBeneath = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS | unix.RESOLVE_NO_XDEV

// beneath opens or makes what a path below a folder names. On kernels before 5.6 the last
// part of a path alone is no link.
func beneath(folder int, path string, flags int, mode uint32) (fd int, err error) {
	flags |= unix.O_CLOEXEC | unix.O_NOFOLLOW
	how := unix.OpenHow{Flags: uint64(flags), Resolve: resolveBeneath}
	if flags&unix.O_CREAT != 0 {
		how.Mode = uint64(mode)
	}
	for {
		fd, err = unix.Openat2(folder, path, &how)
		if err == unix.ENOSYS || err == unix.EPERM { // EPERM: of a filter that does not know it
			fd, err = unix.Openat(folder, path, flags, mode)
		}
		if err != unix.EINTR {
			return fd, err
		}
	}
}

// openFolder opens a folder that the user named, through links where there are any.
func openFolder(path string) (*os.File, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), path), nil
}

// folderBeneath opens a folder beneath another.
func folderBeneath(folder *os.File, name string) (*os.File, error) {
	fd, err := beneath(int(folder.Fd()), name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", filepath.Join(folder.Name(), name), err)
	}
	return os.NewFile(uintptr(fd), filepath.Join(folder.Name(), name)), nil
}

// ownerName is the file within a tree that says whose it is.
const ownerName = "owner"

// sign writes into a tree whose it is, and makes sure that the folder is the one that was
// made: whoever puts another in its place owns that.
func sign(tree *os.File, nonce string) error {
	fd, err := beneath(int(tree.Fd()), ownerName, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, fileMode)
	if err != nil {
		return fmt.Errorf("make %s: %w", filepath.Join(tree.Name(), ownerName), err)
	}
	file := os.NewFile(uintptr(fd), ownerName)
	_, err = file.WriteString(nonce)
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	return signed(tree, nonce)
}

// errNotOurs is given for a folder under the name of a tree that is another.
var errNotOurs = errors.New("another folder is under its name now; nothing of that was touched")

// signed reports a folder that is not the one that was made as a tree: without its owner's
// nonce, or of another user than what was made in it. Of trees of old the nonce is not known.
func signed(tree *os.File, nonce string) error {
	var folder, owner unix.Stat_t
	if err := unix.Fstat(int(tree.Fd()), &folder); err != nil {
		return err
	}
	if folder.Mode&0o077 != 0 {
		return errNotOurs
	}
	if nonce == "" {
		if folder.Uid != uint32(os.Geteuid()) {
			return errNotOurs
		}
		return nil
	}
	fd, err := beneath(int(tree.Fd()), ownerName, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ELOOP) || errors.Is(err, unix.EXDEV) {
		return errNotOurs
	}
	if err != nil {
		return err
	}
	file := os.NewFile(uintptr(fd), ownerName)
	defer file.Close()
	if err := unix.Fstat(fd, &owner); err != nil {
		return err
	}
	said, err := io.ReadAll(io.LimitReader(file, 256))
	if err != nil {
		return err
	}
	if string(said) != nonce || owner.Uid != folder.Uid || owner.Mode&unix.S_IFMT != unix.S_IFREG {
		return errNotOurs
	}
	return nil
}

// namesIn lists what a folder holds, up to so many names.
func namesIn(folder *os.File, most int) ([]string, error) {
	// From its start, with a descriptor of its own: the folder's is used again.
	fd, err := beneath(int(folder.Fd()), ".", unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	again := os.NewFile(uintptr(fd), folder.Name())
	defer again.Close()
	names, err := again.Readdirnames(most)
	if errors.Is(err, io.EOF) {
		err = nil // there are none
	}
	return names, err
}

// deepestTree is how many folders a tree has above each other at most; what is deeper was not
// made here.
const deepestTree = 256

// StaysError tells what is left of a tree because it is not ours to remove.
type StaysError struct {
	Path string
	Why  error
}

func (e *StaysError) Error() string {
	return fmt.Sprintf("%s stays: %v", e.Path, e.Why)
}

func (e *StaysError) Unwrap() error { return e.Why }

// emptyTree removes everything beneath a tree, and what says whose it is when nothing else is
// left.
func emptyTree(tree *os.File) error {
	if err := empty(tree, 0); err != nil {
		return err
	}
	if err := unix.Unlinkat(int(tree.Fd()), ownerName, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return &os.PathError{Op: "remove", Path: filepath.Join(tree.Name(), ownerName), Err: err}
	}
	return nil
}

// empty removes everything beneath a folder, but for what says whose a tree is. What is mounted there stays, with the folders
// above it.
func empty(folder *os.File, depth int) error {
	if depth > deepestTree {
		return &StaysError{folder.Name(), errors.New("it lies too deep to have been made here")}
	}
	// A folder may hold millions of names: they are taken some at a time, from its start
	// anew, with room for those that stay.
	for most := manyNames; ; {
		names, err := namesIn(folder, most)
		if err != nil {
			return fmt.Errorf("list %s: %w", folder.Name(), err)
		}
		var stays error
		left := 0
		for _, name := range names {
			if depth == 0 && name == ownerName {
				left++
				continue
			}
			if err := removeBeneath(folder, name, depth); err != nil && !errors.Is(err, unix.ENOENT) {
				left++
				if stays == nil {
					stays = err
				}
			}
		}
		if len(names) < most {
			return stays
		}
		if left == len(names) {
			most *= 2
		}
	}
}

// manyNames is how many names of a folder are taken at a time.
const manyNames = 4096

// removeBeneath removes a file, or a folder with all that is in it.
func removeBeneath(folder *os.File, name string, depth int) error {
	path := filepath.Join(folder.Name(), name)
	err := unix.Unlinkat(int(folder.Fd()), name, 0)
	if err == nil || errors.Is(err, unix.ENOENT) {
		return nil
	}
	if !errors.Is(err, unix.EISDIR) && !errors.Is(err, unix.EPERM) && !errors.Is(err, unix.EBUSY) {
		return &os.PathError{Op: "remove", Path: path, Err: err}
	}
	inner, failed := folderBeneath(folder, name)
	switch {
	case errors.Is(failed, unix.EXDEV), errors.Is(failed, unix.ENOTDIR) && errors.Is(err, unix.EBUSY):
		return &StaysError{path, errors.New("something is mounted there; unmount that")}
	case errors.Is(failed, unix.ENOTDIR):
		return &os.PathError{Op: "remove", Path: path, Err: err}
	case failed != nil:
		return failed
	}
	defer inner.Close()
	if crosses(folder, inner) {
		return &StaysError{path, errors.New("something is mounted there; unmount that")}
	}
	if err := empty(inner, depth+1); err != nil {
		return err
	}
	return removeFolder(folder, name)
}

// crosses reports whether a folder lies on another file system than the one it is in, for
// kernels that are not asked to look.
func crosses(outer, inner *os.File) bool {
	var a, b unix.Stat_t
	return unix.Fstat(int(outer.Fd()), &a) == nil && unix.Fstat(int(inner.Fd()), &b) == nil && a.Dev != b.Dev
}

// removeFolder removes an empty folder. The kernel closes files of a ring some time after the
// ring is gone, and where another process serves the file system a file that is still open
// keeps a name until then: so it is tried again for some seconds.
func removeFolder(folder *os.File, name string) (err error) {
	for pause := 10 * time.Millisecond; pause < 3*time.Second; pause *= 2 {
		err = unix.Unlinkat(int(folder.Fd()), name, unix.AT_REMOVEDIR)
		switch {
		case err == nil, errors.Is(err, unix.ENOENT):
			return nil
		case !errors.Is(err, unix.ENOTEMPTY) && !errors.Is(err, unix.EBUSY):
			return &os.PathError{Op: "remove", Path: filepath.Join(folder.Name(), name), Err: err}
		}
		time.Sleep(pause)
	}
	return &os.PathError{Op: "remove", Path: filepath.Join(folder.Name(), name), Err: err}
}

// heldBeneath is what the files beneath a folder come to, as far as they are counted.
func heldBeneath(folder *os.File, counted *int, depth int) (size quantity.Bytes) {
	names, err := namesIn(folder, mostCounted)
	if err != nil || depth > deepestTree {
		return 0 // what cannot be looked at is found when it is removed
	}
	for _, name := range names {
		if depth == 0 && name == ownerName {
			continue
		}
		if *counted++; *counted > mostCounted {
			return size
		}
		var stat unix.Stat_t
		if unix.Fstatat(int(folder.Fd()), name, &stat, unix.AT_SYMLINK_NOFOLLOW) != nil {
			continue
		}
		switch stat.Mode & unix.S_IFMT {
		case unix.S_IFREG:
			size += quantity.Bytes(stat.Size)
		case unix.S_IFDIR:
			if inner, err := folderBeneath(folder, name); err == nil {
				size += heldBeneath(inner, counted, depth+1)
				inner.Close()
			}
		}
	}
	return size
}
