package localfile

import (
	"fmt"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
)

// nameSpace is the memory for one name of an operation on files of a set.
const (
	nameSpace = 512
	besides   = ".new" // what the name of a file beside another ends with
)

// pathed are the paths of files and folders by their numbers, below a folder.
type pathed interface {
	Path(buffer []byte, file int64) []byte
	Folder(buffer []byte, folder int64) []byte
}

// ofSource are the paths of real files, of which none has a folder made for it.
type ofSource struct{ *fileset.Listed }

func (ofSource) Folder(buffer []byte, _ int64) []byte { return append(buffer, '.') }

// names makes the names that operations of a queue are about, outside of Go's heap: of
// each operation that of the object, that of what stands beside it, and attributes.
type names struct {
	files  pathed
	space  int    // for one name
	mapped []byte // and eight bytes at the end, for whoever needs them
}

const attributeSpace = int(unsafe.Sizeof(unix.Statx_t{}))

// mapNames gets memory for names of at most so many bytes, a zero byte among them.
func mapNames(files pathed, longest, depth int) (names, error) {
	longest = (longest + 7) / 8 * 8 // attributes have to lie on a word
	mapped, err := unix.Mmap(-1, 0, depth*(2*longest+attributeSpace)+8, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return names{}, fmt.Errorf("get memory for the names of %d operations: %w", depth, err)
	}
	return names{files, longest, mapped}, nil
}

func (n names) unmap() {
	if n.mapped != nil {
		_ = unix.Munmap(n.mapped)
	}
}

// name is room for the first or the second name of an operation.
func (n names) name(slot, number int) []byte {
	at := slot*(2*n.space+attributeSpace) + number*n.space
	return n.mapped[at : at : at+n.space]
}

// file is the path of a file, or of what stands beside it, that ends with a zero byte.
func (n names) file(slot int, file int, beside bool) []byte {
	if !beside {
		return append(n.files.Path(n.name(slot, 0), int64(file)), 0)
	}
	path := n.files.Path(n.name(slot, 1), int64(file))
	return append(append(path, besides...), 0)
}

// folder is the path of a folder, that ends with a zero byte.
func (n names) folder(slot int, folder int) []byte {
	return append(n.files.Folder(n.name(slot, 0), int64(folder)), 0)
}

// attributes is where those of a file are written.
func (n names) attributes(slot int) *unix.Statx_t {
	return (*unix.Statx_t)(unsafe.Pointer(&n.mapped[slot*(2*n.space+attributeSpace)+2*n.space]))
}
