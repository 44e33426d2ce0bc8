package fileset

import (
	"path/filepath"
	"testing"
)

// Folders have the numbers in which they are named; each lies in the one above it, and
// holds the files whose paths say so.
func TestFoldersHaveNumbers(t *testing.T) {
	f := files(t, 3,
		Class{Name: "flat", Number: 9}, Class{Name: "deep", Number: 1234, Folders: Folders{Files: 7, Deep: 3}},
		Class{Name: "none", Total: 0, Number: 1, Folders: Folders{Files: 5, Deep: 4}}, Class{Name: "wide", Number: 100, Folders: Folders{Files: 3}},
	)
	numbers := map[string]int64{}
	f.Folders(func(path []byte) bool { numbers[string(path)] = -1; return true })
	if f.FolderCount() != int64(len(numbers)) {
		t.Fatalf("%d folders, and %d are named", f.FolderCount(), len(numbers))
	}
	for n := range f.FolderCount() {
		path := string(f.Folder(nil, n))
		if number, named := numbers[path]; !named || number != -1 {
			t.Fatalf("folder %d is %s, which is named: %t", n, path, named)
		}
		numbers[path] = n
		above := f.Above(n)
		if want, is := numbers[filepath.Dir(path)]; is && above != want || !is && above != -1 {
			t.Errorf("%s lies in folder %d, not %d", path, above, want)
		}
	}
	held := map[int64]int64{}
	for i := range f.Len() {
		in := f.FolderOf(i)
		if path := string(f.Path(nil, i)); numbers[filepath.Dir(path)] != in {
			t.Fatalf("%s is in folder %d", path, in)
		}
		held[in]++
		if first, count := f.In(in); i < first || i >= first+count {
			t.Fatalf("file %d is not among those of its folder: %d from %d on", i, count, first)
		}
	}
	for n := range f.FolderCount() {
		if _, count := f.In(n); count != held[n] {
			t.Errorf("folder %d holds %d files, not %d", n, held[n], count)
		}
	}
}
