package fileset

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

func files(t *testing.T, seed uint64, classes ...Class) *Files {
	t.Helper()
	f, err := New(Set{Classes: classes}, seed)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func within(t *testing.T, what string, got, want, tolerance float64) {
	t.Helper()
	if math.Abs(got-want) > math.Abs(want)*tolerance {
		t.Errorf("%s: %.5g, expected %.5g within %g %%", what, got, want, tolerance*100)
	}
}

// Sizes follow the distributions that a set names: by their means, medians and shares, as
// textbooks give them.
func TestSizesFollowTheirDistributions(t *testing.T) {
	const count = 200_000
	sizes := func(s Sizes) (list []float64, mean float64) {
		f := files(t, 7, Class{Name: "a", Number: count, Size: s})
		for i := range int64(count) {
			list = append(list, float64(f.At(i).Size))
			mean += list[i] / count
		}
		slices.Sort(list)
		if sum := quantity.Bytes(math.Round(mean * count)); math.Abs(float64(f.Bytes()-sum)) > 1e-6*float64(sum) {
			t.Errorf("%+v comes to %d bytes, says %d", s, sum, f.Bytes())
		}
		return list, mean
	}
	fixed, _ := sizes(Sizes{Fixed: 12345})
	if fixed[0] != 12345 || fixed[count-1] != 12345 {
		t.Errorf("fixed: %v to %v", fixed[0], fixed[count-1])
	}
	even, mean := sizes(Sizes{From: 1000, To: 9000})
	within(t, "mean of a range", mean, 5000, 0.01)
	within(t, "lower quarter of a range", even[count/4], 3000, 0.02)
	if even[0] != 1000 || even[count-1] != 9000 {
		t.Errorf("a range from 1000 to 9000 goes from %v to %v", even[0], even[count-1])
	}
	// A log-normal distribution: mean = median × exp(σ²/2), two thirds within the spread.
	normal, mean := sizes(Sizes{Median: 1 << 20, Spread: 2})
	sigma := math.Log(2)
	within(t, "log-normal mean", mean, float64(1<<20)*math.Exp(sigma*sigma/2), 0.01)
	within(t, "log-normal median", normal[count/2], 1<<20, 0.01)
	below, _ := slices.BinarySearch(normal, 1<<19)
	above, _ := slices.BinarySearch(normal, 1<<21)
	within(t, "share within the spread", float64(above-below)/count, math.Erf(1/math.Sqrt2), 0.01)
	cut, _ := sizes(Sizes{Median: 1 << 20, Spread: 4, Most: 2 << 20})
	if cut[count-1] > 2<<20 || cut[count-1] < 1.9*(1<<20) {
		t.Errorf("the largest is %v", cut[count-1])
	}
	bins, mean := sizes(Sizes{Bins: []Bin{{To: 0, Share: 1}, {To: 1000, Share: 2, Mean: 100}, {To: 2000}, {To: 3000, Share: 1}}})
	within(t, "mean of bins", mean, (0+2*100+2500)/4.0, 0.01)
	for edge, share := range map[float64]float64{1: 0.25, 1001: 0.75, 2001: 0.75, 3001: 1} {
		at, _ := slices.BinarySearch(bins, edge)
		within(t, fmt.Sprintf("share below %g", edge), float64(at)/count, share, 0.01)
	}
}

// A total is met to the byte.
func TestTotalsAreMet(t *testing.T) {
	for _, size := range []Sizes{{Fixed: 1000}, {From: 1, To: 5000}, {Median: 3000, Spread: 3}} {
		f := files(t, 3, Class{Name: "a", Total: 1_234_567, Size: size}, Class{Name: "b", Number: 3, Size: size})
		count, total := f.Of(0)
		sum := quantity.Bytes(0)
		for i := range count {
			sum += f.At(i).Size
		}
		if sum != 1_234_567 || total != sum || f.Len() != count+3 || f.At(count).Class != 1 {
			t.Errorf("%+v: %d bytes in %d files", size, sum, count)
		}
	}
}

// Every file has a path of its own, in a folder that the set names before it, with as many
// files in a folder and as many levels as it says; all of it again for the same seed.
func TestFilesHaveTheirPlaces(t *testing.T) {
	for _, c := range []Class{
		{Name: "All in one", Number: 11}, {Name: "b", Number: 1000, Folders: Folders{Files: 7}, Ending: ".tif"}, {Name: "c/..//../d", Number: 1001, Folders: Folders{Files: 10, Deep: 3}},
		{Name: "e", Number: 3, Folders: Folders{Files: 1, Deep: 16}}, {Name: "f", Number: 1, Folders: Folders{Files: 5, Deep: 2}},
	} {
		c.Size = Sizes{From: 0, To: 100}
		f, again := files(t, 5, c), files(t, 5, c)
		other := files(t, 6, c)
		folders := map[string]int{}
		f.Folders(func(path []byte) bool {
			if above := filepath.Dir(string(path)); above != "." {
				if _, is := folders[above]; !is {
					t.Fatalf("%s: %s comes before %s", c.Name, path, above)
				}
			}
			if _, is := folders[string(path)]; is {
				t.Fatalf("%s: folder %s comes twice", c.Name, path)
			}
			folders[string(path)] = 0
			return true
		})
		paths, differ := map[string]bool{}, false
		for i := range f.Len() {
			path := string(f.Path(nil, i))
			if paths[path] || !fs.ValidPath(path) || !strings.HasSuffix(path, c.Ending) || strings.Contains(path, "..") {
				t.Fatalf("%s: path %q", c.Name, path)
			}
			paths[path] = true
			if _, is := folders[filepath.Dir(path)]; !is {
				t.Fatalf("%s: no folder for %s", c.Name, path)
			}
			folders[filepath.Dir(path)]++
			if levels := strings.Count(path, "/"); c.Folders.Files > 0 && levels != 1+max(c.Folders.Deep, 1) {
				t.Fatalf("%s: %s is %d levels deep", c.Name, path, levels)
			}
			if f.At(i) != again.At(i) {
				t.Fatalf("%s: another file for the same seed", c.Name)
			}
			differ = differ || f.At(i) != other.At(i)
		}
		holding := int64(0)
		for folder, count := range folders {
			if count > 0 {
				holding++
			}
			if c.Folders.Files > 0 && count > c.Folders.Files {
				t.Errorf("%s: %d files in %s", c.Name, count, folder)
			}
		}
		if want := max((c.Number+int64(c.Folders.Files)-1)/max(int64(c.Folders.Files), 1), 1); c.Folders.Files > 0 && holding != want {
			t.Errorf("%s: %d folders hold files, want %d", c.Name, holding, want)
		}
		if !differ && c.Number > 5 {
			t.Errorf("%s: the same files for another seed", c.Name)
		}
	}
}

// variety are classes with paths of all shapes.
var variety = []Class{
	{Name: "one", Number: 1, Size: Sizes{Fixed: 1}}, {Name: "two", Number: 57, Size: Sizes{Fixed: 1}, Folders: Folders{Files: 7}, Ending: ".tif"},
	{Name: "three", Number: 1001, Size: Sizes{Fixed: 1}, Folders: Folders{Files: 10, Deep: 3}}, {Name: "four", Number: 100, Size: Sizes{Fixed: 1}},
	{Name: "a folder with few files", Number: 11, Size: Sizes{Fixed: 1}, Folders: Folders{Files: 1, Deep: 2}, Ending: ".x"},
}

// The longest path is the longest there is.
func TestLongestPath(t *testing.T) {
	for i := range variety {
		for _, f := range []*Files{files(t, 5, variety[i]), files(t, 5, variety[:i+1]...)} {
			longest := 0
			for n := range f.Len() {
				longest = max(longest, len(f.Path(nil, n)))
			}
			f.Folders(func(path []byte) bool { longest = max(longest, len(path)); return true })
			if got := f.LongestPath(); got != longest {
				t.Errorf("%d classes up to %q: %d, the longest has %d", len(f.classes), variety[i].Name, got, longest)
			}
		}
	}
}

// A path that is made over another one, whichever that was, is the same as one by itself.
func TestPathsOverOthers(t *testing.T) {
	f := files(t, 5, variety...)
	random := rand.New(rand.NewPCG(1, 1))
	buffer, p := make([]byte, 0, 200), Prefix{}
	i := int64(0)
	for range 20_000 {
		if i++; random.IntN(4) == 0 || i == f.Len() {
			i = random.Int64N(f.Len())
		}
		if got, want := string(f.PathAfter(buffer, i, &p)), string(f.Path(nil, i)); got != want {
			t.Fatalf("file %d is %s, and by itself %s", i, got, want)
		}
	}
}

// What cannot be is refused, with the place of it.
func TestSetsThatCannotBe(t *testing.T) {
	good := Class{Name: "a", Number: 1}
	change := func(change func(*Class)) Set {
		c := good
		change(&c)
		return Set{Classes: []Class{c}}
	}
	for field, s := range map[string]Set{
		"classes":                 {},
		"classes[0].name":         change(func(c *Class) { c.Name = "..//.." }),
		"classes[1].name":         {Classes: []Class{good, {Name: "A", Number: 1}}},
		"classes[0]":              change(func(c *Class) { c.Total = 5 }),
		"classes[0].number":       change(func(c *Class) { c.Number = 1 << 40 }),
		"classes[0].compressible": change(func(c *Class) { c.Compressible = 1.5 }),
		"classes[0].ending":       change(func(c *Class) { c.Ending = "./x" }),
		"classes[0].folders":      change(func(c *Class) { c.Folders.Deep = 17 }),
		"classes[0].size":         change(func(c *Class) { c.Size = Sizes{Fixed: 1, To: 2} }),
		"classes[0].size.from":    change(func(c *Class) { c.Size = Sizes{From: 3, To: 2} }),
		"classes[0].size.median":  change(func(c *Class) { c.Size = Sizes{Spread: 2} }),
		"classes[0].size.spread":  change(func(c *Class) { c.Size = Sizes{Median: 2, Spread: math.NaN()} }),
		"classes[0].size.most":    change(func(c *Class) { c.Size = Sizes{Median: 2, Spread: 2, Most: 1} }),
		"classes[0].size[1].to":   change(func(c *Class) { c.Size = Sizes{Bins: []Bin{{To: 5, Share: 1}, {To: 5, Share: 1}}} }),
		"classes[0].size[0].mean": change(func(c *Class) { c.Size = Sizes{Bins: []Bin{{To: 5, Share: 1, Mean: 6}}} }),
		"classes[0].total":        change(func(c *Class) { c.Number, c.Total = 0, 5 }),
	} {
		_, err := New(s, 1)
		var wrong *mistake.Error
		if !errors.As(err, &wrong) || wrong.Field != field || !errors.Is(err, ErrInvalid) {
			t.Errorf("%s: %v", field, err)
		}
	}
}

// A tree that was made of a set is described as one of the same numbers, sizes, depth and
// content, and a set made of that is like it once more.
func TestDescribingGivesTheShapeBack(t *testing.T) {
	set := Set{Classes: []Class{
		{Name: "scans", Number: 300, Ending: ".tif", Size: Sizes{Median: 20_000, Spread: 2}, Compressible: 0.5, Folders: Folders{Files: 10, Deep: 2}},
		{Name: "notes", Number: 2000, Ending: ".txt", Size: Sizes{From: 1, To: 900}, Folders: Folders{Files: 50}},
		{Name: "images", Number: 4, Ending: ".img", Size: Sizes{Fixed: 700_000}},
		{Name: "nothing", Number: 30, Ending: ".lock"},
	}}
	made := files(t, 9, set.Classes...)
	root := t.TempDir()
	made.Folders(func(path []byte) bool { return os.MkdirAll(filepath.Join(root, string(path)), 0o755) == nil })
	for i := range made.Len() {
		f := made.At(i)
		content := make([]byte, f.Size)
		random := rand.NewChaCha8([32]byte{byte(i), byte(i >> 8)})
		for at := 0; at < len(content); at += 512 { // random bytes, and then zeros
			piece := content[at:min(at+512, len(content))]
			_, _ = random.Read(piece[:int(float64(len(piece))*(1-float64(set.Classes[f.Class].Compressible)))])
		}
		if err := os.WriteFile(filepath.Join(root, string(made.Path(nil, i))), content, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/", filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	told := int64(0)
	d, err := Describe(t.Context(), os.DirFS(root), Look{Progress: func(files int64, _ quantity.Bytes) { told = files }})
	if err != nil {
		t.Fatal(err)
	}
	if d.Files != made.Len() || d.Bytes != made.Bytes() || d.Special != 1 || d.Unreadable != 0 || told == 0 {
		t.Errorf("%+v, of %d files and %d bytes", d, made.Len(), made.Bytes())
	}
	again := files(t, 1, d.Set.Classes...)
	for i, c := range d.Set.Classes {
		was := slices.IndexFunc(set.Classes, func(of Class) bool { return of.Ending == c.Ending })
		if was < 0 {
			t.Fatalf("a class of %q", c.Ending)
		}
		count, total := made.Of(was)
		gotCount, gotTotal := again.Of(i)
		if count != gotCount || math.Abs(float64(total-gotTotal)) > 0.12*float64(total) {
			t.Errorf("%s: %d files of %d bytes, described as %d of %d", c.Name, count, total, gotCount, gotTotal)
		}
		if math.Abs(float64(c.Compressible-set.Classes[was].Compressible)) > 0.06 {
			t.Errorf("%s: %v can be compressed, described as %v", c.Name, set.Classes[was].Compressible, c.Compressible)
		}
		if c.Folders != set.Classes[was].Folders && (c.Folders.Files != set.Classes[was].Folders.Files || c.Folders.Deep != max(set.Classes[was].Folders.Deep, 1)) {
			t.Errorf("%s: %+v, described as %+v", c.Name, set.Classes[was].Folders, c.Folders)
		}
	}
}

// What cannot be looked at is counted; an empty or missing tree, and one that nobody waits
// for any more, is an error.
func TestDescribingWhatIsNotThere(t *testing.T) {
	if _, err := Describe(t.Context(), os.DirFS(filepath.Join(t.TempDir(), "gone")), Look{}); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a folder that is not there: %v", err)
	}
	if _, err := Describe(t.Context(), fstest.MapFS{}, Look{}); err == nil || !strings.Contains(err.Error(), "no files") {
		t.Errorf("an empty folder: %v", err)
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	tree := fstest.MapFS{"a/b.txt": {Data: []byte("x")}, "a/c.txt": {Data: bytes.Repeat([]byte("y"), 100)}, "d": {Data: []byte("z")}, "mount/e.txt": {}}
	if _, err := Describe(ended, tree, Look{}); !errors.Is(err, context.Canceled) {
		t.Errorf("nobody waits: %v", err)
	}
	d, err := Describe(t.Context(), failing{tree, "a"}, Look{Elsewhere: func(e fs.DirEntry) bool { return e.Name() == "mount" }})
	if err != nil || d.Unreadable != 1 || d.Elsewhere != 1 || d.Files != 1 {
		t.Errorf("%+v, %v", d, err)
	}
}

// failing is a tree of which one folder cannot be read.
type failing struct {
	fs.FS
	folder string
}

func (f failing) ReadDir(name string) ([]fs.DirEntry, error) {
	if name == f.folder {
		return nil, fs.ErrPermission
	}
	return fs.ReadDir(f.FS, name)
}

// What a file is like is worked out without memory.
func TestTenMillionFilesTakeNoMemory(t *testing.T) {
	f := files(t, 1, Class{Name: "small", Number: 10_000_000, Size: Sizes{From: 0, To: 4096}, Folders: Folders{Files: 1000, Deep: 2}})
	buffer := make([]byte, 0, 64)
	n := int64(0)
	if allocated := testing.AllocsPerRun(1000, func() {
		n = (n + 7_654_321) % f.Len()
		_ = f.At(n)
		buffer = f.Path(buffer[:0], n)
	}); allocated > 0 {
		t.Errorf("%v allocations for each file", allocated)
	}
}

// Sets of more files than there may be, or of more bytes than can be counted, are refused
// at once.
func TestSetsHaveBounds(t *testing.T) {
	for _, classes := range [][]Class{
		{{Name: "a", Number: mostFiles}, {Name: "b", Number: 1}},
		{{Name: "a", Number: mostFiles, Size: Sizes{Fixed: largestFile}}},
		{{Name: "a", Number: 1000, Size: Sizes{From: largestFile - 1, To: largestFile}}},
		{{Name: "a", Total: mostBytes + 1, Size: Sizes{Fixed: largestFile}}},
	} {
		if _, err := New(Set{Classes: classes}, 1); !errors.Is(err, ErrInvalid) {
			t.Errorf("%+v: %v", classes, err)
		}
	}
}

// Numbers are written as the standard library writes them, into room that is there and into
// room that is not.
func TestNumbersInNames(t *testing.T) {
	for width, number := 1, int64(1); width <= 19; width, number = width+1, number*10 {
		for _, n := range []int64{0, number - 1, number, number*9 + number/3} {
			if n < 0 || len(fmt.Sprint(n)) > width {
				continue
			}
			want := fmt.Sprintf("a/%0*d", width, n)
			for _, room := range []int{2, 40} {
				if got := string(appendPadded(append(make([]byte, 0, room), "a/"...), n, width)); got != want {
					t.Errorf("%q for %q", got, want)
				}
			}
		}
	}
}
