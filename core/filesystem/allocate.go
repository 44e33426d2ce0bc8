package filesystem

import (
	"syscall"

	"patientheron/core/pagecache"
)

// extent is blocks that follow each other.
type extent struct{ start, count uint32 }

// bytes is where an extent lies.
func (e extent) bytes() pagecache.Range {
	return pagecache.Range{Offset: int64(e.start) * block, Length: int64(e.count) * block}
}

// group is a part of the device with its own tables: two blocks of bitmaps, those of the
// inodes, and then data.
type group struct {
	start  uint32
	data   uint32 // first block of data
	next   uint32 // first that was never used
	end    uint32
	free   int64
	freed  []extent // given back
	inodes uint32   // that were used
	most   uint32
	spare  []uint32 // inodes that were given back
}

// layGroups divides what is behind the journal.
func (f *FS) layGroups(from uint32) {
	length := uint32(f.settings.Group / block)
	for start := alignedUp(from); int64(start)+int64(length) <= f.size || int64(start)+1024 <= f.size; start += length {
		count := min(int64(length), f.size-int64(start))
		most := uint32(count * block / perInode)
		g := group{start: start, data: alignedUp(start + 2 + (most+perBlock-1)/perBlock), end: uint32(int64(start) + count), most: most}
		g.next, g.free = g.data, int64(g.end-g.data)
		f.free += g.free
		f.groups = append(f.groups, g)
		if int64(start)+int64(length) > f.size {
			break
		}
	}
}

// aligned is what files of as many blocks begin at a multiple of, 1 MiB, so that they lie
// on whole stripes.
const aligned = 256

func alignedUp(at uint32) uint32 { return (at + aligned - 1) / aligned * aligned }

// near is how many groups are tried for a file as a whole before it is cut up.
const near = 16

// allocate takes blocks, as near to a group as there are: all together where that is
// possible.
func (f *FS) allocate(at int, count uint32) (taken []extent, err error) {
	if count == 0 {
		return nil, nil
	}
	if int64(count) > f.free {
		return nil, syscall.ENOSPC
	}
	for n := range min(near, len(f.groups)) {
		if e, ok := f.groups[(at+n)%len(f.groups)].whole(count); ok {
			f.free -= int64(count)
			return []extent{e}, nil
		}
	}
	f.free -= int64(count)
	for n := 0; n < len(f.groups) && count >= aligned; n++ { // whole pieces of what was never used
		g := &f.groups[(at+n)%len(f.groups)]
		g.align(aligned)
		if left := min(g.end-g.next, count) / aligned * aligned; left > 0 {
			e := extent{g.next, left}
			g.next += left
			g.free -= int64(left)
			taken = append(taken, e)
			count -= left
		}
	}
	for n := 0; count > 0; n++ { // and then whatever there is
		g := &f.groups[(at+n)%len(f.groups)]
		for count > 0 && g.free > 0 {
			e := g.some(count)
			taken = append(taken, e)
			count -= e.count
		}
	}
	return taken, nil
}

// mostSearched is how many of what was given back are looked at for one that is large
// enough.
const mostSearched = 64

// whole takes blocks that follow each other.
func (g *group) whole(count uint32) (extent, bool) {
	if g.free < int64(count) {
		return extent{}, false
	}
	if count >= aligned {
		g.align(count)
	} else if e, ok := g.search(count); ok {
		return e, true
	}
	if g.end-g.next >= count {
		e := extent{g.next, count}
		g.next += count
		g.free -= int64(count)
		return e, true
	}
	return g.search(count)
}

// align skips to where so many blocks can begin as they should, when they fit there; what
// is skipped is for smaller files.
func (g *group) align(count uint32) {
	if skip := alignedUp(g.next) - g.next; skip > 0 && uint64(g.next)+uint64(skip)+uint64(count) <= uint64(g.end) {
		g.freed = append(g.freed, extent{g.next, skip})
		g.next += skip
	}
}

// search looks for blocks among those that were given back.
func (g *group) search(count uint32) (extent, bool) {
	for i := len(g.freed) - 1; i >= max(len(g.freed)-mostSearched, 0); i-- {
		if g.freed[i].count >= count {
			return g.cut(i, count), true
		}
	}
	return extent{}, false
}

func (g *group) cut(i int, count uint32) extent {
	e := extent{g.freed[i].start, count}
	g.freed[i].start += count
	if g.freed[i].count -= count; g.freed[i].count == 0 {
		g.freed[i] = g.freed[len(g.freed)-1]
		g.freed = g.freed[:len(g.freed)-1]
	}
	g.free -= int64(count)
	return e
}

// some takes up to so many blocks, of a group that has any.
func (g *group) some(count uint32) extent {
	if left := g.end - g.next; left > 0 {
		e := extent{g.next, min(left, count)}
		g.next += e.count
		g.free -= int64(e.count)
		return e
	}
	return g.cut(0, min(g.freed[0].count, count))
}

// give takes blocks back. What the host's memory has of them is never written.
func (f *FS) give(extents []extent) {
	for _, e := range extents {
		if f.memory != nil {
			f.memory.Drop(e.bytes())
		}
		g := &f.groups[f.groupOf(e.start)]
		g.free += int64(e.count)
		f.free += int64(e.count)
		switch n := len(g.freed); {
		case g.free == int64(g.end-g.data): // all of it is free
			g.next, g.freed = g.data, g.freed[:0]
		case n > 0 && g.freed[n-1].start+g.freed[n-1].count == e.start:
			g.freed[n-1].count += e.count
		default:
			g.freed = append(g.freed, e)
		}
	}
}

func (f *FS) groupOf(block uint32) int {
	return int((block - f.groups[0].start) / uint32(f.settings.Group/4096))
}

// newInode takes an inode, as near to a group as there is one.
func (f *FS) newInode(at int) (uint32, error) {
	for n := range f.groups {
		number := (at + n) % len(f.groups)
		g := &f.groups[number]
		if count := len(g.spare); count > 0 {
			inode := g.spare[count-1]
			g.spare = g.spare[:count-1]
			return inode, nil
		}
		if g.inodes < g.most {
			g.inodes++
			return uint32(number)*f.groups[0].most + g.inodes - 1, nil
		}
	}
	return 0, syscall.ENOSPC
}

func (f *FS) groupOfInode(inode uint32) int { return int(inode / f.groups[0].most) }

func (f *FS) giveInode(inode uint32) {
	g := &f.groups[f.groupOfInode(inode)]
	g.spare = append(g.spare, inode)
}

// inodeBlock is the block that an inode is in.
func (f *FS) inodeBlock(inode uint32) uint32 {
	g := &f.groups[f.groupOfInode(inode)]
	return g.start + 2 + inode%f.groups[0].most/perBlock
}

// home is the group of a folder: from that of the folder above on the first that has as
// much room as groups have on average, so that folders spread evenly.
func (f *FS) home(number int64) int {
	at := 0
	if above := f.files.Above(number); above >= 0 {
		at = f.groupOfInode(f.folders[above].inode)
	} else if number > 0 {
		at = int(number % int64(len(f.groups)))
	}
	average := f.free / int64(len(f.groups))
	for n := range f.groups {
		if g := (at + n) % len(f.groups); f.groups[g].free >= average {
			return g
		}
	}
	return at
}

// makeFolder allocates a folder: its inode, and blocks for all names it will hold.
func (f *FS) makeFolder(number int64) error {
	home := f.home(number)
	_, names := f.files.In(number)
	blocks := max(uint32((names+inFolder-1)/inFolder), 1)
	inode, err := f.newInode(home)
	if err != nil {
		return err
	}
	// The names of a folder lie together; a group that has no room for that gives way.
	for n := range f.groups {
		if e, ok := f.groups[(home+n)%len(f.groups)].whole(blocks); ok {
			f.free -= int64(blocks)
			f.folders[number] = folder{start: e.start, blocks: blocks, inode: inode, there: true}
			return nil
		}
	}
	f.giveInode(inode)
	return syscall.ENOSPC
}

// newFile takes an inode near the folder that a file is in.
func (f *FS) newFile(file int64) (inode uint32, err error) {
	return f.newInode(f.groupOfInode(f.folders[f.files.FolderOf(file)].inode))
}

// place allocates the blocks of a file near its inode.
func (f *FS) place(file int64, inode uint32) ([]extent, error) {
	return f.allocate(f.groupOfInode(inode), blocksOf(f.files.At(file).Size))
}

// keep notes where a file lies.
func (f *FS) keep(file int64, inode uint32, extents []extent) {
	f.inodes[file], f.starts[file] = inode, 0
	if len(f.more) > 0 {
		delete(f.more, file)
	}
	switch len(extents) {
	case 0:
	case 1:
		f.starts[file] = extents[0].start
	default:
		f.more[file] = extents
	}
}

// extentsOf is where a file lies; the list is valid until the next call.
func (f *FS) extentsOf(file int64) []extent {
	if len(f.more) > 0 && f.more[file] != nil {
		return f.more[file]
	}
	if f.starts[file] == 0 {
		return nil
	}
	f.one[0] = extent{f.starts[file], blocksOf(f.files.At(file).Size)}
	return f.one[:]
}

// entryBlock is the block of a folder that holds the name of a file.
func (f *FS) entryBlock(file int64) uint32 {
	d := &f.folders[f.files.FolderOf(file)]
	return d.start + uint32(uint64(file)*0x9e3779b97f4a7c15>>32)%d.blocks
}
