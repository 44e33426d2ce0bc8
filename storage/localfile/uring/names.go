package uring

import (
	"unsafe"

	"golang.org/x/sys/unix"
)

// Opcodes on names and open files.
const (
	openAt     Opcode = 18
	closeFile  Opcode = 19
	statAt     Opcode = 21
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

func (r *Ring) next(s submission) {
	r.submissions[r.prepared&r.sqMask] = s
	r.prepared++
}

// OpenAt opens or makes a file below a folder. With a table of handles it goes into that
// at handle, and no descriptor is spent; otherwise the result is the descriptor.
func (r *Ring) OpenAt(folder int, path Path, flags int, mode uint32, handle int, token uint64) {
	s := submission{opcode: openAt, fd: int32(folder), address: path.address(), length: mode, opFlags: uint32(flags), userData: token}
	if r.features.Files {
		s.opFlags &^= unix.O_CLOEXEC // which the table does not know
		s.fileIndex = uint32(handle) + 1
	}
	r.next(s)
}

// CloseFile closes a handle of the table, or a descriptor.
func (r *Ring) CloseFile(file int, token uint64) {
	s := submission{opcode: closeFile, fd: int32(file), userData: token}
	if r.features.Files {
		s.fd, s.fileIndex = 0, uint32(file)+1
	}
	r.next(s)
}

// Truncate sets the length of an open file.
func (r *Ring) Truncate(file int, length int64, token uint64) {
	s := submission{opcode: truncateAt, fd: int32(file), offset: uint64(length), userData: token}
	if r.features.Files {
		s.flags = fixedFile
	}
	r.next(s)
}

// StatAt asks for the attributes of a file below a folder. They are written to into,
// which stays valid until the answer.
func (r *Ring) StatAt(folder int, path Path, mask uint32, into *unix.Statx_t, token uint64) {
	r.next(submission{
		opcode: statAt, fd: int32(folder), address: path.address(), length: mask,
		offset: uint64(uintptr(unsafe.Pointer(into))), opFlags: unix.AT_SYMLINK_NOFOLLOW, userData: token,
	})
}

// RenameAt gives a file below a folder another name there.
func (r *Ring) RenameAt(folder int, from, to Path, token uint64) {
	r.next(submission{opcode: renameAt, fd: int32(folder), address: from.address(), length: uint32(folder), offset: to.address(), userData: token})
}

// UnlinkAt removes the name of a file below a folder.
func (r *Ring) UnlinkAt(folder int, path Path, token uint64) {
	r.next(submission{opcode: unlinkAt, fd: int32(folder), address: path.address(), userData: token})
}

// MakeDirAt makes a folder below a folder.
func (r *Ring) MakeDirAt(folder int, path Path, mode uint32, token uint64) {
	r.next(submission{opcode: makeDirAt, fd: int32(folder), address: path.address(), length: mode, userData: token})
}

// ReadDescriptor reads from a descriptor that is in no table.
func (r *Ring) ReadDescriptor(fd int, into []byte, token uint64) {
	r.next(submission{opcode: ReadPlain, fd: int32(fd), address: uint64(uintptr(unsafe.Pointer(&into[0]))), length: uint32(len(into)), userData: token})
}
