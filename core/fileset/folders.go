package fileset

// Folders of a set have numbers: class by class those of each level, from that of the
// class down to those that hold its files.

// FolderCount is how many folders there are.
func (f *Files) FolderCount() (sum int64) {
	for i := range f.classes {
		sum += f.classes[i].folders()
	}
	return sum
}

// folders is how many the class has, its own included.
func (c *class) folders() int64 { return c.below(c.levels() + 1) }

// below is how many folders the class has in its first levels.
func (c *class) below(levels int) (sum int64) {
	for level := range levels {
		sum += c.inLevel(level)
	}
	return sum
}

// inLevel is how many folders a level has: level 0 is the folder of the class.
func (c *class) inLevel(level int) int64 {
	each := power(c.branch, c.levels()-level)
	return (c.leaves + each - 1) / each
}

// FolderOf is the number of the folder that holds a file.
func (f *Files) FolderOf(i int64) int64 {
	c := &f.classes[f.classOf(i)]
	if c.Folders.Files == 0 {
		return c.leaf
	}
	return c.leaf + (i-c.first)/int64(c.Folders.Files)
}

// folderAt finds the class of a folder, its level and its number there.
func (f *Files) folderAt(folder int64) (c *class, level int, number int64) {
	n := len(f.classes) - 1
	for f.classes[n].above > folder {
		n--
	}
	c = &f.classes[n]
	for folder -= c.above; folder >= c.inLevel(level); {
		folder -= c.inLevel(level)
		level++
	}
	return c, level, folder
}

// Above is the number of the folder that a folder lies in; -1 for that of the set.
func (f *Files) Above(folder int64) int64 {
	c, level, number := f.folderAt(folder)
	if level == 0 {
		return -1
	}
	return c.above + c.below(level-1) + number/c.branch
}

// Folder appends the path of a folder to a buffer.
func (f *Files) Folder(buffer []byte, folder int64) []byte {
	c, level, number := f.folderAt(folder)
	return c.appendFolder(buffer, number, level)
}

// In is the first of the files in a folder, and how many there are; none in a folder that
// holds folders.
func (f *Files) In(folder int64) (first, count int64) {
	c, level, number := f.folderAt(folder)
	if level < c.levels() {
		return c.first, 0
	}
	if c.Folders.Files == 0 {
		return c.first, c.count
	}
	each := int64(c.Folders.Files)
	return c.first + number*each, min(each, c.count-number*each)
}

// First is the number of the first file of a class.
func (f *Files) First(class int) int64 { return f.classes[class].first }
