package filesystem

import (
	"math"
	"syscall"

	"patientheron/core/measure"
	"patientheron/core/pagecache"
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

// Begin takes an operation of a queue, at the present time.
func (f *FS) Begin(queue, slot int, o Operation) {
	number := f.newActivity()
	a := &f.activities[number]
	a.queue, a.slot, a.operation = queue, slot, o
	q := &f.queues[queue]
	q.busy = max(q.busy, f.device.Now()) + int64(f.settings.Call.Duration())
	if q.cached && (o.Class == measure.Read || o.Class == measure.Write) {
		q.busy += f.memory.CopyTime(o.Length)
	}
	f.due.Add(q.busy, number)
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
	return min(f.journal.commitAt, f.journal.backAt, f.due.Next())
}

// Wake lets happen what is due.
func (f *FS) Wake() {
	now := f.device.Now()
	for f.due.Next() <= now {
		f.goOn(f.due.Take())
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
	return len(f.due) == 0 && f.journal.state == resting && f.journal.writing == 0 && len(f.unused) == len(f.activities)
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
	case measure.Open, measure.Attributes, measure.Rename, measure.Remove:
		f.need(number, f.entryBlock(file))
		if f.isThere(file) {
			f.need(number, f.inodeBlock(f.inodes[file]))
		}
		if o.Class == measure.Remove && f.isThere(file) {
			f.needToFree(number, file)
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
	case measure.Flush:
		f.flushData(number)
	}
}

// needToFree asks for what is changed where a file goes: the folder, and the maps of the groups that
// its inode and its blocks are in.
func (f *FS) needToFree(number int, file int64) {
	f.need(number, f.inodeBlock(f.folders[f.files.FolderOf(file)].inode))
	f.need(number, f.groups[f.groupOfInode(f.inodes[file])].start)
	for _, e := range f.extentsOf(file) {
		f.need(number, f.groups[f.groupOf(e.start)].start+1)
	}
}

// flushData lets a flush wait until the data that it is for has left the host's memory.
func (f *FS) flushData(number int) {
	a := &f.activities[number]
	q := &f.queues[a.queue]
	if !q.cached {
		return
	}
	parts := []pagecache.Range{{Length: f.size * block}}
	if a.operation.Object >= 0 {
		parts = parts[:0]
		for _, e := range f.lies(&q.handles[a.operation.Handle]) {
			parts = append(parts, e.bytes())
		}
	}
	a.pending += f.memory.Flush(tagOf(number, ofActivity), parts...)
}

// lies is where the file of a handle lies; valid until the next call.
func (f *FS) lies(h *handle) []extent {
	if h.beside {
		return f.beside[h.file].extents
	}
	return f.extentsOf(h.file)
}

// perform does what is left when names and attributes are known. It may let the activity
// wait for more.
func (f *FS) perform(number int) error {
	o := f.activities[number].operation
	q := &f.queues[f.activities[number].queue]
	file := int64(o.Object)
	var h *handle
	if o.Handle < len(q.handles) {
		h = &q.handles[o.Handle]
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
	extents := f.lies(h)
	if o.Class == measure.Write {
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
	first, last := o.Offset/block, (o.Offset+int64(o.Length)+block-1)/block
	at := int64(0)
	for _, e := range extents {
		from, to := max(first, at), min(last, at+int64(e.count))
		if from < to {
			f.transfer(number, h, o.Class == measure.Write, extent{e.start + uint32(from-at), uint32(to - from)}, e)
		}
		at += int64(e.count)
	}
	return nil
}

// transfer reads or writes a part of an extent, and lets an activity wait for that.
func (f *FS) transfer(number int, h *handle, write bool, part, of extent) {
	a := &f.activities[number]
	tag := tagOf(number, ofActivity)
	if f.queues[a.queue].cached {
		if write { // whole files are written: there is nothing to keep in a block that is written in part
			a.pending += f.memory.Write(tag, a.queue, part.bytes())
			return
		}
		if h.reader == nil {
			h.reader = pagecache.NewReader(int64(of.start)*block, 1)
		}
		a.pending += f.memory.Read(tag, a.queue, h.reader, part.bytes(), int64(of.start+of.count)*block)
		return
	}
	kind := Read
	if write {
		kind = Write
		if f.memory != nil {
			f.memory.Drop(part.bytes())
		}
	}
	for part.count > 0 {
		length := min(part.count, largestData/block)
		a.pending++
		f.device.Submit(tag, a.queue, kind, int64(part.start)*block, int(length)*block)
		part.start, part.count = part.start+length, part.count-length
	}
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
