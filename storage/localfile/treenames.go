package localfile

import (
	"fmt"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/fileset"
)

// besides is what the name of a file beside another ends with.
const besides = ".new"

// pathed are the paths of files and folders by their numbers, below a folder.
type pathed interface {
	Path(buffer []byte, file int64) []byte
	Folder(buffer []byte, folder int64) []byte
	LongestPath() int
}

// ofSource are the paths of real files, of which none has a folder made for it.
type ofSource struct{ *fileset.Listed }

func (ofSource) Folder(buffer []byte, _ int64) []byte { return append(buffer, '.') }

// names makes the names that operations of a queue are about, outside of Go's heap: of
// each operation that of the object, that of what stands beside it, and attributes.
type names struct {
	files  pathed
	space  int    // for one name
	mapped []byte // and at the end the ways that files are opened, and eight bytes for whoever needs them

	set      *fileset.Files   // of files that are not a source's
	prefixes []fileset.Prefix // of the first and the second name of each operation
}

const attributeSpace = int(unsafe.Sizeof(unix.Statx_t{}))

const howSpace = int(unsafe.Sizeof(unix.OpenHow{}))

// how is where a way to open files is kept.
func (n *names) how(number int) *unix.OpenHow {
	return (*unix.OpenHow)(unsafe.Pointer(&n.mapped[len(n.mapped)-8-(hows-number)*howSpace]))
}

// mapNames gets memory for names, and what stands beside them.
func mapNames(files pathed, depth int) (names, error) {
	longest := files.LongestPath() + len(besides) + 1
	longest = (longest + 7) / 8 * 8 // attributes have to lie on a word
	mapped, err := unix.Mmap(-1, 0, depth*(2*longest+attributeSpace)+hows*howSpace+8, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE)
	if err != nil {
		return names{}, fmt.Errorf("get memory for the names of %d operations: %w", depth, err)
	}
	set, _ := files.(*fileset.Files)
	return names{files, longest, mapped, set, make([]fileset.Prefix, 2*depth)}, nil
}

func (n *names) unmap() {
	if n.mapped != nil {
		_ = unix.Munmap(n.mapped)
	}
}

// name is room for the first or the second name of an operation.
func (n *names) name(slot, number int) []byte {
	at := slot*(2*n.space+attributeSpace) + number*n.space
	return n.mapped[at : at : at+n.space]
}

// file is the path of a file, or of what stands beside it, that ends with a zero byte.
func (n *names) file(slot int, file int, beside bool) []byte {
	if !beside {
		return append(n.path(slot, 0, int64(file)), 0)
	}
	return append(append(n.path(slot, 1, int64(file)), besides...), 0)
}

func (n *names) path(slot, number int, file int64) []byte {
	if n.set == nil {
		return n.files.Path(n.name(slot, number), file)
	}
	return n.set.PathAfter(n.name(slot, number), file, &n.prefixes[2*slot+number])
}

// folder is the path of a folder, that ends with a zero byte.
func (n *names) folder(slot int, folder int) []byte {
	n.prefixes[2*slot] = fileset.Prefix{} // its place is taken
	return append(n.files.Folder(n.name(slot, 0), int64(folder)), 0)
}

// attributes is where those of a file are written.
func (n *names) attributes(slot int) *unix.Statx_t {
	return (*unix.Statx_t)(unsafe.Pointer(&n.mapped[slot*(2*n.space+attributeSpace)+2*n.space]))
}
