// Package filesystem is a thin file system in virtual time: it turns operations on the
// files of a set into reads, writes and flushes of the blocks of a device. Files lie in
// extents, names and attributes in blocks that the host's memory keeps some of, and what
// changes of these goes through a journal before it goes to its place. So the copy of a
// large file costs what its blocks cost, and small files cost what they do in life.
//
// It keeps no contents. The main type is FS; whoever drives the device hands its answers
// to Done and calls Wake when the time of Timer has come. Data goes around the host's
// memory, or through it where a queue asks for that (Remember).
//
// The kind of file system is that of Cao et al., State of the art: where we are with the
// ext3 filesystem (2005), with extents and late allocation (Mathur et al., The new ext4
// filesystem, 2007): groups with their own tables, folders spread over them, a journal of
// metadata blocks with one commit at a time for all who wait.
package filesystem

import (
	"fmt"
	"math"
	"syscall"

	"patientheron/core/agenda"
	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
)

// Settings describe a file system. Zero values take defaults.
type Settings struct {
	Group   quantity.Bytes   // of blocks with their own tables; default a 64th of the device, from 128 MiB to 1 GiB
	Journal quantity.Bytes   // default a 64th of the device, from 4 MiB to 128 MiB
	Commit  quantity.Seconds // after which changes go to the journal when nobody asks; default 5 s
	Memory  quantity.Bytes   // of the host, for names and attributes; default 256 MiB
	Call    quantity.Seconds // CPU time of the host for each operation; default 2 µs
}

// Completed is s with defaults in place of zeros, for a device of a size.
func (s Settings) Completed(size quantity.Bytes) Settings {
	if s.Group == 0 {
		s.Group = min(max(size/64/quantity.MiB*quantity.MiB, 128*quantity.MiB), quantity.GiB)
	}
	if s.Journal == 0 {
		s.Journal = min(max(size/64, 4*quantity.MiB), 128*quantity.MiB)
	}
	if s.Commit == 0 {
		s.Commit = 5
	}
	if s.Memory == 0 {
		s.Memory = 256 * quantity.MiB
	}
	if s.Call == 0 {
		s.Call = 2e-6
	}
	return s
}

// Validate reports the first thing about s that cannot be.
func (s Settings) Validate() error {
	const most = 64 * quantity.GiB
	for _, size := range []struct {
		what            string
		is, least, unit quantity.Bytes
	}{{"group", s.Group, 8 * quantity.MiB, quantity.MiB}, {"journal", s.Journal, quantity.MiB, block}, {"memory", s.Memory, 64 * quantity.KiB, block}} {
		if size.is != 0 && (size.is < size.least || size.is > most || size.is%size.unit != 0) {
			return fmt.Errorf("a %s of %s; a multiple of %s from %s to %s", size.what, size.is, size.unit, size.least, most)
		}
	}
	if !(s.Commit >= 0 && s.Commit <= 3600) || !(s.Call >= 0 && s.Call <= 1) {
		return fmt.Errorf("commits every %s, and %s of CPU time for a call; up to an hour, and up to a second", s.Commit, s.Call)
	}
	return nil
}

const (
	block      = 4096
	inodeSize  = 256
	entrySize  = 64                // of a name in a folder
	perInode   = 16 * 1024         // bytes of a group for each file it can have
	perBlock   = block / inodeSize // inodes
	inFolder   = block / entrySize // names in a block of a folder
	background = 0                 // host that commits and writes back
)

// Kind is what is asked of the device.
type Kind uint8

// The kinds.
const (
	Read Kind = iota
	Write
	Flush
)

// Device is what the file system lies on.
type Device interface {
	// Submit takes an operation. It is answered by calling Done with its tag.
	Submit(tag, host int, kind Kind, offset int64, length int)
	// Now is the virtual time in nanoseconds.
	Now() int64
}

// Memory is what the host keeps of data, of whatever lies on the device. An operation that
// has to wait for it is told by so many calls of Done with its tag.
type Memory interface {
	Read(tag, host int, by *pagecache.Reader, part pagecache.Range, end int64) (waits int)
	Write(tag, host int, part pagecache.Range) (waits int)
	Flush(tag int, parts ...pagecache.Range) (waits int)
	Drop(part pagecache.Range)
	// CopyTime is how many nanoseconds a thread copies so many bytes.
	CopyTime(length int) int64
}

// Operation is one operation on a file.
type Operation struct {
	Class  measure.Class
	Object int // number of a file of the set, or of a folder; -1 for all files
	Handle int // of the queue
	Beside bool
	Offset int64
	Length int
}

// Answer tells that an operation completed.
type Answer struct {
	Queue, Slot int
	Err         error
}

// FS is a file system with the files of a set. It is not safe for concurrent use.
type FS struct {
	settings Settings
	size     int64 // blocks
	files    *fileset.Files
	device   Device
	memory   Memory // nil while nothing went through it

	groups  []group
	free    int64 // blocks
	there   []uint64
	inodes  []uint32 // of files
	starts  []uint32 // first block of files
	one     [1]extent
	more    map[int64][]extent // of files that lie in more than one extent
	beside  map[int64]entry
	folders []folder

	cache   cache
	loads   map[uint32]int // activities that load a block
	journal journal

	activities []activity
	unused     []int
	due        agenda.Agenda // activities whose host computes
	queues     []queue
	answers    []Answer
	counts     Counts
}

// Counts are what it did beside the data.
type Counts struct {
	Commits, Read, Written int64 // metadata: commits of the journal, bytes read, and bytes written there and in place
}

// queue is a thread that asks, and the files that it has open.
type queue struct {
	busy    int64 // until when its core works
	cached  bool  // its data goes through the host's memory
	handles []handle
}

// folder is where the names of a folder are.
type folder struct {
	start  uint32 // block
	blocks uint32
	inode  uint32
	there  bool
}

// entry is a file that has no number of its own.
type entry struct {
	inode   uint32
	extents []extent
}

// handle is an open file.
type handle struct {
	file    int64
	beside  bool
	changed uint64 // transaction that its last change is in
	reader  *pagecache.Reader
}

// New makes an empty file system for the files of a set. The error is ENOSPC when the
// tables and the journal alone do not fit.
func New(s Settings, size quantity.Bytes, files *fileset.Files, device Device) (*FS, error) {
	s = s.Completed(size)
	f := &FS{
		settings: s, size: int64(size) / block, files: files, device: device,
		there: make([]uint64, (files.Len()+63)/64), inodes: make([]uint32, files.Len()), starts: make([]uint32, files.Len()),
		more: map[int64][]extent{}, beside: map[int64]entry{}, loads: map[uint32]int{}, folders: make([]folder, files.FolderCount()),
	}
	if f.size > math.MaxUint32 {
		f.size = math.MaxUint32 // 16 TiB
	}
	f.cache.most = max(int(s.Memory/block), 16)
	f.cache.clear()
	f.journal.reset(1, uint32(s.Journal/block))
	f.layGroups(1 + uint32(s.Journal/block))
	if len(f.groups) == 0 {
		return nil, fmt.Errorf("a journal of %s and a group do not fit into %s: %w", s.Journal, size, syscall.ENOSPC)
	}
	return f, nil
}

// Remember lets data go through the host's memory from now on where a queue asks for it.
func (f *FS) Remember(m Memory) { f.memory = m }

// Open gives a queue, of a thread of its own, and handles for files. Its data goes through
// the host's memory where it is cached.
func (f *FS) Open(handles int, cached bool) (number int) {
	f.queues = append(f.queues, queue{cached: cached, handles: make([]handle, handles)})
	return len(f.queues) - 1
}

// CloseQueues forgets the queues that were opened.
func (f *FS) CloseQueues() { f.queues = nil }

// Counts are what it did beside the data since it was made.
func (f *FS) Counts() Counts { return f.counts }

// Answers are the operations that were completed since Forget.
func (f *FS) Answers() []Answer { return f.answers }

// Forget empties the list of answers.
func (f *FS) Forget() { f.answers = f.answers[:0] }

func (f *FS) isThere(file int64) bool { return f.there[file/64]>>(file%64)&1 == 1 }

func (f *FS) setThere(file int64, is bool) {
	if is {
		f.there[file/64] |= 1 << (file % 64)
	} else {
		f.there[file/64] &^= 1 << (file % 64)
	}
}

// blocksOf is how many blocks a file takes.
func blocksOf(size quantity.Bytes) uint32 { return uint32((size + block - 1) / block) }
