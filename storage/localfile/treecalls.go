package localfile

import (
	"sync"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
)

const (
	fileMode   = 0o600
	folderMode = 0o700
)

// wanted is what is asked for when attributes are: what a listing with sizes and times
// shows.
const wanted = unix.STATX_BASIC_STATS

// treeCalls performs operations on files by plain system calls, one at a time on each of
// its goroutines.
type treeCalls struct {
	names   names
	memory  buffers
	root    int  // descriptor of the folder that the files are in
	direct  bool // around the host's memory
	source  *source
	handles []int // of open files; those of the source's come after
	work    chan load.Operation
	done    chan load.Completion
	over    sync.WaitGroup
}

func newTreeCalls(names names, memory buffers, root int, direct bool, from *source, options load.QueueOptions) *treeCalls {
	c := &treeCalls{
		names: names, memory: memory, root: root, direct: direct, source: from, handles: make([]int, from.handles(options.Handles)),
		work: make(chan load.Operation, options.Depth), done: make(chan load.Completion, options.Depth),
	}
	for i := range c.handles {
		c.handles[i] = -1
	}
	return c
}

// start lets so many goroutines perform what comes, and calls answered after each.
func (c *treeCalls) start(count int, answered func()) {
	for range count {
		c.over.Go(func() {
			var listing []byte
			for o := range c.work {
				if o.Class == measure.List && listing == nil {
					listing = make([]byte, 64<<10)
				}
				c.done <- walled(o, func() load.Completion { return c.perform(o, listing) })
				answered()
			}
		})
	}
}

// flags are those that a file is opened or made with.
func (c *treeCalls) flags(class measure.Class) int {
	flags := unix.O_RDONLY | unix.O_CLOEXEC | unix.O_NOFOLLOW
	if class == measure.Create {
		flags = unix.O_WRONLY | unix.O_CREAT | unix.O_TRUNC | unix.O_CLOEXEC | unix.O_NOFOLLOW
	}
	if c.direct {
		flags |= unix.O_DIRECT
	}
	return flags
}

// data is the memory of an operation. Around the host's memory whole units are moved:
// what is too much of a write is cut off afterwards.
func (c *treeCalls) data(o *load.Operation) []byte {
	length := o.Length
	if c.direct {
		length = (length + workload.Unit - 1) / workload.Unit * workload.Unit
	}
	return c.memory.slots[o.Slot][o.From:cap(c.memory.slots[o.Slot])][:length]
}

// perform makes the calls of an operation: of one that copies that on the source first.
func (c *treeCalls) perform(o load.Operation, listing []byte) load.Completion {
	if !c.source.before(&o) {
		return c.one(o, listing)
	}
	twin := c.source.twin(o.Handle)
	switch o.Class {
	case measure.Create:
		path := c.source.names.file(o.Slot, o.Object, false)
		fd, err := unix.Openat(c.source.root, text(path), c.source.flags(c.direct), 0) // the user's own, links included
		if err != nil {
			return load.Completion{Slot: o.Slot, Err: ofTheSource(err)}
		}
		c.handles[twin] = fd
	case measure.Write:
		n, err := unix.Pread(c.handles[twin], c.data(&o), o.Offset)
		if err = enough(n, &o, err); err != nil {
			return load.Completion{Slot: o.Slot, Err: err}
		}
	case measure.Close:
		_ = unix.Close(c.handles[twin])
		c.handles[twin] = -1
	}
	done := c.one(o, listing)
	if o.Class == measure.Create && done.Err != nil {
		_ = unix.Close(c.handles[twin])
		c.handles[twin] = -1
	}
	return done
}

// one makes the call of an operation.
func (c *treeCalls) one(o load.Operation, listing []byte) load.Completion {
	done := load.Completion{Slot: o.Slot}
	switch o.Class {
	case measure.Open, measure.Create:
		path := c.names.file(o.Slot, o.Object, o.Beside)
		c.handles[o.Handle], done.Err = beneath(c.root, text(path), c.flags(o.Class), fileMode)
	case measure.Close:
		done.Err = unix.Close(c.handles[o.Handle])
		c.handles[o.Handle] = -1
	case measure.Read:
		done.Bytes, done.Err = unix.Pread(c.handles[o.Handle], c.data(&o), o.Offset)
	case measure.Write:
		done.Bytes, done.Err = unix.Pwrite(c.handles[o.Handle], c.data(&o), o.Offset)
	case measure.Truncate:
		done.Err = unix.Ftruncate(c.handles[o.Handle], o.Offset)
	case measure.Flush:
		if o.Object == loadfiles.Everything {
			done.Err = unix.Syncfs(c.root)
		} else {
			done.Err = unix.Fsync(c.handles[o.Handle])
		}
	case measure.Attributes:
		path := c.names.file(o.Slot, o.Object, false)
		done.Err = unix.Statx(c.root, text(path), unix.AT_SYMLINK_NOFOLLOW, wanted, c.names.attributes(o.Slot))
	case measure.List:
		done.Err = list(c.root, text(c.names.folder(o.Slot, o.Object)), listing)
	case measure.Rename:
		from, to := c.names.file(o.Slot, o.Object, true), c.names.file(o.Slot, o.Object, false)
		done.Err = unix.Renameat(c.root, text(from), c.root, text(to))
	case measure.Remove:
		done.Err = unix.Unlinkat(c.root, text(c.names.file(o.Slot, o.Object, false)), 0)
	case measure.MakeFolder:
		done.Err = made(unix.Mkdirat(c.root, text(c.names.folder(o.Slot, o.Object)), folderMode))
	default:
		done.Err = unix.EOPNOTSUPP
	}
	return moved(done, &o)
}

// moved makes the count of a completion that of the operation's own bytes.
func moved(done load.Completion, o *load.Operation) load.Completion {
	done.Bytes = min(max(done.Bytes, 0), o.Length)
	return done
}

// made is nil for a folder that another worker has made meanwhile.
func made(err error) error {
	if err == unix.EEXIST {
		return nil
	}
	return err
}

// list reads all names of a folder.
func list(root int, path string, into []byte) error {
	fd, err := beneath(root, path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	for {
		n, err := unix.Getdents(fd, into)
		if n <= 0 || err != nil {
			return err
		}
	}
}

// text is a path without the zero byte at its end, without a copy.
func text(path []byte) string { return unsafe.String(&path[0], len(path)-1) }

// buffer is the memory of an operation that its content is made in; nil where that comes
// from a source.
func (c *treeCalls) buffer(slot int) []byte {
	if c.source != nil {
		return nil
	}
	return c.memory.slots[slot]
}

// free gives memory back that nobody uses any more.
func (c *treeCalls) free() {
	c.memory.unmap()
	c.names.unmap()
	if c.source != nil {
		c.source.names.unmap()
	}
}

// closeAll closes what is still open.
func (c *treeCalls) closeAll() {
	for i, fd := range c.handles {
		if fd >= 0 {
			_ = unix.Close(fd)
			c.handles[i] = -1
		}
	}
}

// treeThreads is the portable queue for files: as many goroutines as it is deep.
type treeThreads struct {
	*treeCalls
	timer *time.Timer
}

func openTreeThreads(calls *treeCalls, depth int) *treeThreads {
	calls.start(depth, func() {})
	return &treeThreads{calls, time.NewTimer(time.Hour)}
}

func (q *treeThreads) Buffer(slot int) []byte { return q.buffer(slot) }

func (q *treeThreads) Submit(operations []*load.Operation) error {
	for _, o := range operations {
		q.work <- *o
	}
	return nil
}

func (q *treeThreads) Collect(into []load.Completion, wait time.Duration) (int, error) {
	return collect(q.done, q.timer, into, wait)
}

func (q *treeThreads) Interface() string { return "threads" }

func (q *treeThreads) Close(unanswered int) error {
	close(q.work)
	if unanswered == 0 {
		q.over.Wait()
		q.closeAll()
		q.free()
	}
	return nil
}
