package localfile

import (
	"fmt"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
)

// nameSpace is the memory for the names of one operation: of the object, and of what
// stands beside it.
const (
	nameSpace = 512
	besides   = ".new" // what the name of a file beside another ends with
	slotSpace = 2*nameSpace + int(unsafe.Sizeof(unix.Statx_t{}))
)

// names makes the names that operations of a queue are about, outside of Go's heap.
type names struct {
	files  *fileset.Files
	mapped []byte // and eight bytes at the end, for whoever needs them
}

func mapNames(files *fileset.Files, depth int) (names, error) {
	mapped, err := unix.Mmap(-1, 0, depth*slotSpace+8, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return names{}, fmt.Errorf("get memory for the names of %d operations: %w", depth, err)
	}
	return names{files, mapped}, nil
}

func (n names) unmap() { _ = unix.Munmap(n.mapped) }

func (n names) space(slot, from, length int) []byte {
	at := slot*slotSpace + from
	return n.mapped[at : at : at+length]
}

// file is the path of a file, or of what stands beside it, that ends with a zero byte.
func (n names) file(slot int, file int, beside bool) []byte {
	if !beside {
		return append(n.files.Path(n.space(slot, 0, nameSpace), int64(file)), 0)
	}
	path := n.files.Path(n.space(slot, nameSpace, nameSpace), int64(file))
	return append(append(path, besides...), 0)
}

// folder is the path of a folder, that ends with a zero byte.
func (n names) folder(slot int, folder int) []byte {
	return append(n.files.Folder(n.space(slot, 0, nameSpace), int64(folder)), 0)
}

// attributes is where those of a file are written.
func (n names) attributes(slot int) *unix.Statx_t {
	return (*unix.Statx_t)(unsafe.Pointer(&n.mapped[slot*slotSpace+2*nameSpace]))
}
