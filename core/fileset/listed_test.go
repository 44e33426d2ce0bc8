package fileset

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"testing"
	"testing/fstest"

	"patientheron/core/quantity"
)

// A tree is listed as it is: every file once, with its own size, under the class that its
// ending makes, and the numbers are those of the set that is described.
func TestListIsTheTree(t *testing.T) {
	tree, sum := fstest.MapFS{}, quantity.Bytes(0)
	for i := range 300 {
		ending := []string{".tif", ".txt", ".wav"}[i%3]
		name := fmt.Sprintf("a%d/b%d/file %03d%s", i%4, i%7, i, ending)
		tree[name] = &fstest.MapFile{Data: make([]byte, i*i%5000)}
		sum += quantity.Bytes(i * i % 5000)
	}
	tree["alone"] = &fstest.MapFile{Data: make([]byte, 77)}
	tree["odd.xyz"] = &fstest.MapFile{Data: make([]byte, 78)}
	tree["link"] = &fstest.MapFile{Mode: fs.ModeSymlink}
	sum += 77 + 78
	l, err := List(t.Context(), tree, Look{})
	if err != nil {
		t.Fatal(err)
	}
	described, err := Describe(t.Context(), tree, Look{})
	if err != nil || len(described.Set.Classes) != len(l.Set.Classes) || l.Special != 1 {
		t.Fatalf("%+v (%v), listed %+v", described, err, l.Described)
	}
	files := l.Numbered()
	if files.Len() != 302 || files.Bytes() != sum || l.Files != 302 || l.Bytes != sum {
		t.Fatalf("%d files of %s, %+v; there are 302 of %s", files.Len(), files.Bytes(), l.Described, sum)
	}
	seen, copies := map[string]bool{}, map[string]bool{}
	for i := range files.Len() {
		name := string(l.Path(nil, i))
		f := files.At(i)
		if seen[name] || quantity.Bytes(len(tree[name].Data)) != f.Size {
			t.Errorf("%s has %d bytes, listed %s (twice: %t)", name, len(tree[name].Data), f.Size, seen[name])
		}
		if ending := l.Set.Classes[f.Class].Ending; ending != "" && path.Ext(name) != ending {
			t.Errorf("%s is among those with %s", name, ending)
		}
		copies[string(files.Path(nil, i))] = true
		seen[name] = true
	}
	if len(copies) != 302 || l.LongestPath() != len("a0/b0/file 000.tif") {
		t.Errorf("%d names of copies, the longest path has %d", len(copies), l.LongestPath())
	}
	for class, c := range l.Set.Classes {
		if n, _ := files.Of(class); n != c.Number {
			t.Errorf("%s: %d files, the set says %d", c.Name, n, c.Number)
		}
	}
}

func TestListEnds(t *testing.T) {
	if _, err := List(t.Context(), fstest.MapFS{}, Look{}); err == nil {
		t.Error("nothing was listed")
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := List(ctx, fstest.MapFS{"a": {}}, Look{}); !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
}
