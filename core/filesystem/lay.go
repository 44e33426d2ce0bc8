package filesystem

import "patientheron/core/quantity"

// Lay puts all folders and files of the set onto an empty file system, and calls write
// for all that would have been written: neighbours together, up to 1 MiB. Nothing of it
// is in the host's memory afterwards. It ends early when write reports false, and with
// ENOSPC where they do not fit.
func (f *FS) Lay(write func(offset int64, length int, done quantity.Bytes) bool) error {
	for number := range f.files.FolderCount() {
		if err := f.makeFolder(number); err != nil {
			return err
		}
	}
	at, length, done := int64(0), int64(0), quantity.Bytes(0)
	goesOn := true
	flush := func() {
		for length > 0 && goesOn {
			part := min(length, largestPart)
			goesOn = write(at, int(part), done)
			at, length = at+part, length-part
		}
	}
	add := func(start, count uint32) {
		if from := int64(start) * block; from == at+length && length > 0 {
			length += int64(count) * block
		} else {
			flush()
			at, length = from, int64(count)*block
		}
		if length >= largestPart {
			flush()
		}
	}
	for file := int64(0); file < f.files.Len() && goesOn; file++ {
		inode, err := f.newFile(file)
		if err != nil {
			return err
		}
		extents, err := f.place(file, inode)
		if err != nil {
			return err
		}
		f.keep(file, inode, extents)
		f.setThere(file, true)
		for _, e := range extents {
			add(e.start, e.count)
		}
		done += f.files.At(file).Size
	}
	for _, d := range f.folders {
		add(d.start, d.blocks)
	}
	for _, g := range f.groups {
		if g.inodes > 0 {
			add(g.start, 2+(g.inodes+perBlock-1)/perBlock)
		}
	}
	flush()
	return nil
}

// Whole reports whether all files of the set are there.
func (f *FS) Whole() bool {
	for file := range f.files.Len() {
		if !f.isThere(file) || f.extentsOf(file) == nil && f.files.At(file).Size > 0 {
			return false
		}
	}
	return true
}
