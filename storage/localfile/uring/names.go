package uring

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// Opcodes on names and open files.
const (
	closeFile  Opcode = 19
	statAt     Opcode = 21
	openAt     Opcode = 28 // openat2
	renameAt   Opcode = 35
	unlinkAt   Opcode = 36
	makeDirAt  Opcode = 37
	truncateAt Opcode = 55
)

// OnNames are the opcodes that work on names and open files, from the oldest kernel on
// that has them: 5.6, 5.11 and 5.15, and 6.9 for setting a length.
var OnNames = struct{ Open, Close, Stat, Rename, Unlink, MakeDir, Truncate Opcode }{
	openAt, closeFile, statAt, renameAt, unlinkAt, makeDirAt, truncateAt,
}

// A Path ends with a zero byte, and is read when it is handed over. What is said of
// Prepare holds for all that follow.
type Path []byte

func (p Path) address() uint64 { return uint64(uintptr(unsafe.Pointer(&p[0]))) }

// How a file is opened (struct open_how, openat2(2)). It lies outside of Go's heap and stays
// as it is until it was handed over.
type How = unix.OpenHow

// HowFor is how a ring opens a file, without what its table of handles does not know.
func (r *Ring) HowFor(flags int, mode uint32, resolve uint64) How {
	if r.features.Files {
		flags &^= unix.O_CLOEXEC
	}
	return How{Flags: uint64(flags), Mode: uint64(mode), Resolve: resolve}
}

// OpenAt opens or makes a file beneath a folder. With a table of handles it goes into that
// at handle, and no descriptor is spent; otherwise the result is the descriptor.
func (r *Ring) OpenAt(folder int, path Path, how *How, handle int, token uint64) {
	s := r.next(openAt, folder, token)
	s.address, s.length = path.address(), uint32(unsafe.Sizeof(*how))
	s.offset = uint64(uintptr(unsafe.Pointer(how)))
	if r.features.Files {
		s.fileIndex = uint32(handle) + 1
	}
}

// CloseFile closes a handle of the table, or a descriptor.
func (r *Ring) CloseFile(file int, token uint64) {
	if r.features.Files {
		r.next(closeFile, 0, token).fileIndex = uint32(file) + 1
		return
	}
	r.next(closeFile, file, token)
}

// Truncate sets the length of an open file.
func (r *Ring) Truncate(file int, length int64, token uint64) {
	s := r.next(truncateAt, file, token)
	s.offset = uint64(length)
	if r.features.Files {
		s.flags = fixedFile
	}
}

// StatAt asks for the attributes of a file below a folder. They are written to into,
// which stays valid until the answer.
func (r *Ring) StatAt(folder int, path Path, mask uint32, into *unix.Statx_t, token uint64) {
	s := r.next(statAt, folder, token)
	s.address, s.length, s.opFlags = path.address(), mask, unix.AT_SYMLINK_NOFOLLOW
	s.offset = uint64(uintptr(unsafe.Pointer(into)))
}

// RenameAt gives a file below a folder another name there.
func (r *Ring) RenameAt(folder int, from, to Path, token uint64) {
	s := r.next(renameAt, folder, token)
	s.address, s.length, s.offset = from.address(), uint32(folder), to.address()
}

// UnlinkAt removes the name of a file below a folder.
func (r *Ring) UnlinkAt(folder int, path Path, token uint64) {
	r.next(unlinkAt, folder, token).address = path.address()
}

// MakeDirAt makes a folder below a folder.
func (r *Ring) MakeDirAt(folder int, path Path, mode uint32, token uint64) {
	s := r.next(makeDirAt, folder, token)
	s.address, s.length = path.address(), mode
}

// ReadDescriptor reads from a descriptor that is in no table.
func (r *Ring) ReadDescriptor(fd int, into []byte, token uint64) {
	s := r.next(ReadPlain, fd, token)
	s.address, s.length = uint64(uintptr(unsafe.Pointer(&into[0]))), uint32(len(into))
}
