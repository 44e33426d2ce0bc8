package fileset

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"slices"

	"patientheron/core/quantity"
)

// MostListed is how many files a tree has at most that is listed: their names take memory.
const MostListed = 5_000_000

// longestListed is how long the path of a listed file is at most, in bytes: what the
// kernel takes, and a zero byte.
const longestListed = 4095

// Listed are real files: the set that is like them, with the sizes and the paths that they
// have. A path stays here, and is no part of any set.
type Listed struct {
	Described
	files *Files
	paths []string // by the numbers of files
}

// List looks at a tree of files as Describe does, and keeps their paths and sizes. The
// same tree gives the same numbers. A path that is too long counts as unreadable.
func List(ctx context.Context, tree fs.FS, look Look) (*Listed, error) {
	type found struct {
		path string
		size quantity.Bytes
	}
	of, count, long := map[string][]found{}, 0, int64(0)
	d, kinds, err := describe(ctx, tree, look, func(ending, name string, size int64) error {
		if len(name) > longestListed {
			long++
			return nil
		}
		if count++; count > MostListed {
			return fmt.Errorf("%w: it holds more than the %d files that are listed at most; name a folder below it, or describe it (heron files describe) and let the files be made", ErrInvalid, MostListed)
		}
		of[ending] = append(of[ending], found{name, quantity.Bytes(size)})
		return nil
	})
	if err != nil {
		return nil, err
	}
	l := &Listed{Described: d}
	if l.Unreadable += long; long > 0 {
		l.Files -= long
	}
	l.files = &Files{set: d.Set}
	for i, k := range kinds {
		var files []found
		for _, ending := range k.of {
			files = append(files, of[ending]...)
		}
		slices.SortFunc(files, func(a, b found) int { return cmp.Compare(a.path, b.path) })
		c := class{Class: d.Set.Classes[i], count: int64(len(files)), listed: make([]quantity.Bytes, len(files)), first: l.files.Len(), last: -1, folder: folderName(d.Set.Classes[i].Name)}
		for n, f := range files {
			c.listed[n] = f.size
			c.bytes += f.size
			l.paths = append(l.paths, f.path)
		}
		c.lay()
		c.above = l.files.FolderCount()
		c.leaf = c.above + c.below(c.levels())
		l.files.classes = append(l.files.classes, c)
	}
	return l, nil
}

// Numbered are the files with their numbers: paths of copies are those of the set, their
// sizes are those of the real files.
func (l *Listed) Numbered() *Files { return l.files }

// Path appends the path of a real file to a buffer, below the folder that was listed.
func (l *Listed) Path(buffer []byte, i int64) []byte { return append(buffer, l.paths[i]...) }

// LongestPath is the length of the longest of the paths, in bytes.
func (l *Listed) LongestPath() (longest int) {
	for _, p := range l.paths {
		longest = max(longest, len(p))
	}
	return longest
}
