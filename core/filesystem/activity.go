package filesystem

import (
	"math"
	"syscall"

	"patientheron/core/measure"
)

// activity is one operation under way.
type activity struct {
	queue, slot int
	operation   Operation
	stage       stage
	pending     int // answers it waits for
	err         error
	loads       uint32 // block that it loads, when it is a load
	waiters     []int  // activities that wait for that
}

type stage uint8

const (
	computing stage = iota // the host does its part
	looking                // for names and attributes
	moving                 // data, or waiting for the journal
)

// Whom a tag belongs to.
const (
	ofActivity = iota
	ofLoad
	ofJournal
	ofBack
	owners
)

func tagOf(number, owner int) int { return number*owners + owner }

// timers are when activities go on whose host computes, as a heap.
type timers []timer

type timer struct {
	at     int64
	number int
}

func (t timer) before(other timer) bool {
	return t.at < other.at || t.at == other.at && t.number < other.number
}

func (t *timers) add(one timer) {
	*t = append(*t, one)
	h := *t
	for i := len(h) - 1; i > 0 && h[i].before(h[(i-1)/2]); i = (i - 1) / 2 {
		h[i], h[(i-1)/2] = h[(i-1)/2], h[i]
	}
}

func (t *timers) take() timer {
	h := *t
	first, last := h[0], len(h)-1
	h[0] = h[last]
	*t = h[:last]
	for i := 0; ; {
		child := 2*i + 1
		if child+1 < last && h[child+1].before(h[child]) {
			child++
		}
		if child >= last || !h[child].before(h[i]) {
			return first
		}
		h[i], h[child] = h[child], h[i]
		i = child
	}
}

// Begin takes an operation of a queue, at the present time.
func (f *FS) Begin(queue, slot int, o Operation) {
	number := f.newActivity()
	a := &f.activities[number]
	a.queue, a.slot, a.operation = queue, slot, o
	f.busy[queue] = max(f.busy[queue], f.device.Now()) + int64(f.settings.Call.Duration())
	f.timers.add(timer{f.busy[queue], number})
}

func (f *FS) newActivity() int {
	if n := len(f.unused); n > 0 {
		number := f.unused[n-1]
		f.unused = f.unused[:n-1]
		f.activities[number] = activity{waiters: f.activities[number].waiters[:0]}
		return number
	}
	f.activities = append(f.activities, activity{})
	return len(f.activities) - 1
}

// Timer is when Wake is to be called; math.MaxInt64 for never.
func (f *FS) Timer() int64 {
	at := min(f.journal.commitAt, f.journal.backAt)
	if len(f.timers) > 0 {
		at = min(at, f.timers[0].at)
	}
	return at
}

// Wake lets happen what is due.
func (f *FS) Wake() {
	now := f.device.Now()
	for len(f.timers) > 0 && f.timers[0].at <= now {
		f.goOn(f.timers.take().number)
	}
	if f.journal.commitAt <= now {
		f.journal.commitAt = math.MaxInt64
		f.commit()
	}
	if f.journal.backAt <= now {
		f.journal.backAt = math.MaxInt64
		f.writeBack()
	}
}

// Quiet reports whether it waits for nothing: neither for the device nor for a time that
// an operation or a commit needs.
func (f *FS) Quiet() bool {
	return len(f.timers) == 0 && f.journal.state == resting && f.journal.writing == 0 && len(f.unused) == len(f.activities)
}

// Done takes an answer of the device.
func (f *FS) Done(tag int, failed bool) {
	switch number := tag / owners; tag % owners {
	case ofActivity:
		f.partDone(number, failed)
	case ofLoad:
		f.loaded(number, failed)
	case ofJournal:
		f.committed(failed)
	case ofBack:
		f.wroteBack()
	}
}

func (f *FS) partDone(number int, failed bool) {
	a := &f.activities[number]
	if failed {
		a.err = syscall.EIO
	}
	if a.pending--; a.pending == 0 {
		f.goOn(number)
	}
}

// goOn takes an activity to its next stage.
func (f *FS) goOn(number int) {
	a := &f.activities[number]
	switch a.stage {
	case computing:
		a.stage = looking
		a.pending = 1 // until all was asked for
		f.look(number)
		f.partDone(number, false)
	case looking:
		a.stage = moving
		a.pending = 1
		if a.err == nil {
			err := f.perform(number)
			if a = &f.activities[number]; err != nil {
				a.err = err
			}
		}
		f.partDone(number, false)
	case moving:
		f.answers = append(f.answers, Answer{a.queue, a.slot, a.err})
		f.unused = append(f.unused, number)
	}
}

// need makes an activity wait until a block of metadata is in memory.
func (f *FS) need(number int, b uint32) {
	if f.cache.has(b) {
		return
	}
	f.activities[number].pending++
	if load, is := f.loads[b]; is {
		f.activities[load].waiters = append(f.activities[load].waiters, number)
		return
	}
	load := f.newActivity()
	f.activities[load].loads = b
	f.activities[load].waiters = append(f.activities[load].waiters, number)
	f.loads[b] = load
	f.counts.Read += block
	f.device.Submit(tagOf(load, ofLoad), f.activities[number].queue, Read, int64(b)*block, block)
}

// loaded is called when a block of metadata was read.
func (f *FS) loaded(load int, failed bool) {
	b := f.activities[load].loads
	delete(f.loads, b)
	if !failed {
		f.cache.put(b)
	}
	waiters := f.activities[load].waiters
	f.activities[load].waiters = nil // new activities may take its place below
	f.unused = append(f.unused, load)
	for _, waiting := range waiters {
		f.partDone(waiting, failed)
	}
}

// look asks for the names and attributes that an operation needs.
func (f *FS) look(number int) {
	o := f.activities[number].operation
	switch file := int64(o.Object); o.Class {
	case measure.Open, measure.Attributes, measure.Remove, measure.Rename:
		f.need(number, f.entryBlock(file))
		if f.isThere(file) {
			f.need(number, f.inodeBlock(f.inodes[file]))
		}
	case measure.Create:
		f.need(number, f.entryBlock(file))
	case measure.MakeFolder:
		if above := f.files.Above(file); above >= 0 {
			f.need(number, f.folders[above].start)
		}
	case measure.List:
		d := f.folders[file]
		for b := range d.blocks {
			f.need(number, d.start+b)
		}
	}
}

// perform does what is left when names and attributes are known. It may let the activity
// wait for more.
func (f *FS) perform(number int) error {
	o := f.activities[number].operation
	queue := f.activities[number].queue
	file := int64(o.Object)
	var h *handle
	if o.Handle < len(f.handles[queue]) {
		h = &f.handles[queue][o.Handle]
	}
	switch o.Class {
	case measure.Open:
		if !f.isThere(file) {
			return syscall.ENOENT
		}
		*h = handle{file: file}
	case measure.Create:
		*h = handle{file: file, beside: o.Beside}
		return f.create(h)
	case measure.Read, measure.Write:
		return f.move(number, h, o)
	case measure.Truncate:
		if inode, is := f.inodeOf(h); is {
			f.changeOf(h, f.inodeBlock(inode))
		}
	case measure.Flush:
		f.activities[number].pending++
		serial := f.journal.running.serial
		if o.Object >= 0 {
			serial = h.changed
		}
		f.await(number, serial)
	case measure.Attributes:
		if !f.isThere(file) {
			return syscall.ENOENT
		}
	case measure.Rename:
		return f.rename(file)
	case measure.Remove:
		return f.remove(file)
	case measure.MakeFolder:
		return f.folder(file)
	}
	return nil
}

// changeOf notes changed blocks that a flush of an open file has to wait for.
func (f *FS) changeOf(h *handle, blocks ...uint32) {
	f.change(blocks...)
	h.changed = f.journal.running.serial
}

func (f *FS) inodeOf(h *handle) (uint32, bool) {
	if h.beside {
		e, is := f.beside[h.file]
		return e.inode, is
	}
	return f.inodes[h.file], f.isThere(h.file)
}

// create makes a file that is open, without blocks; what had its name is empty then.
func (f *FS) create(h *handle) error {
	if h.beside {
		if e, is := f.beside[h.file]; is {
			f.give(e.extents)
			f.giveInode(e.inode)
		}
	} else if f.isThere(h.file) {
		old := f.extentsOf(h.file)
		f.give(old)
		f.keep(h.file, f.inodes[h.file], nil)
		f.changeOf(h, f.inodeBlock(f.inodes[h.file]))
		f.changeGroups(old)
		return nil
	}
	inode, err := f.newFile(h.file)
	if err != nil {
		return err
	}
	if h.beside {
		f.beside[h.file] = entry{inode: inode}
	} else {
		f.keep(h.file, inode, nil)
		f.setThere(h.file, true)
	}
	d := &f.folders[f.files.FolderOf(h.file)]
	f.changeOf(h, f.entryBlock(h.file), f.inodeBlock(inode), f.groups[f.groupOfInode(inode)].start, f.inodeBlock(d.inode))
	return nil
}

// changeGroups notes the bitmaps of groups whose blocks were taken or given back.
func (f *FS) changeGroups(extents []extent) {
	for _, e := range extents {
		f.change(f.groups[f.groupOf(e.start)].start + 1)
	}
}

// move reads or writes data. Blocks are allocated at the first write, all of them: late,
// when it is known how many there are.
func (f *FS) move(number int, h *handle, o Operation) error {
	inode, is := f.inodeOf(h)
	if !is {
		return syscall.EBADF
	}
	var extents []extent
	if h.beside {
		extents = f.beside[h.file].extents
	} else {
		extents = f.extentsOf(h.file)
	}
	kind := Read
	if o.Class == measure.Write {
		kind = Write
		if len(extents) == 0 {
			var err error
			if extents, err = f.place(h.file, inode); err != nil {
				return err
			}
			if h.beside {
				f.beside[h.file] = entry{inode, extents}
			} else {
				f.keep(h.file, inode, extents)
			}
			f.changeGroups(extents)
			f.changeOf(h, f.inodeBlock(inode))
		}
	}
	queue := f.activities[number].queue
	first, last := o.Offset/block, (o.Offset+int64(o.Length)+block-1)/block
	at := int64(0)
	for _, e := range extents {
		from, to := max(first, at), min(last, at+int64(e.count))
		for from < to {
			part := min(to-from, largestData/block)
			f.activities[number].pending++
			f.device.Submit(tagOf(number, ofActivity), queue, kind, (int64(e.start)+from-at)*block, int(part)*block)
			from += part
		}
		at += int64(e.count)
	}
	return nil
}

// largestData is the most that is asked of the device at once.
const largestData = 64 << 20

// rename puts what stands beside a file in its place.
func (f *FS) rename(file int64) error {
	e, is := f.beside[file]
	if !is {
		return syscall.ENOENT
	}
	delete(f.beside, file)
	d := &f.folders[f.files.FolderOf(file)]
	f.change(f.entryBlock(file), f.inodeBlock(e.inode), f.inodeBlock(d.inode))
	if f.isThere(file) {
		old := f.extentsOf(file)
		f.change(f.inodeBlock(f.inodes[file]), f.groups[f.groupOfInode(f.inodes[file])].start)
		f.changeGroups(old)
		f.give(old)
		f.giveInode(f.inodes[file])
	}
	f.keep(file, e.inode, e.extents)
	f.setThere(file, true)
	return nil
}

// remove takes a file away.
func (f *FS) remove(file int64) error {
	if !f.isThere(file) {
		return syscall.ENOENT
	}
	old, inode := f.extentsOf(file), f.inodes[file]
	d := &f.folders[f.files.FolderOf(file)]
	f.change(f.entryBlock(file), f.inodeBlock(inode), f.groups[f.groupOfInode(inode)].start, f.inodeBlock(d.inode))
	f.changeGroups(old)
	f.give(old)
	f.giveInode(inode)
	f.keep(file, 0, nil)
	f.setThere(file, false)
	return nil
}

// folder makes a folder, unless it is there already.
func (f *FS) folder(number int64) error {
	if f.folders[number].there {
		return nil
	}
	if err := f.makeFolder(number); err != nil {
		return err
	}
	d := f.folders[number]
	if above := f.files.Above(number); above >= 0 {
		f.change(f.folders[above].start, f.inodeBlock(f.folders[above].inode))
	}
	f.change(f.inodeBlock(d.inode), f.groups[f.groupOfInode(d.inode)].start, f.groups[f.groupOf(d.start)].start+1, d.start)
	return nil
}
