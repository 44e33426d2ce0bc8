package files

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"slices"
	"syscall"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/block" // whose fields are refused
)

func fileLoad(change func(*workload.Spec, *Files)) workload.Spec {
	s := workload.Default()
	Use(&s, fileset.Set{Classes: []fileset.Class{
		{Name: "pieces", Number: 7, Size: fileset.Sizes{Fixed: 300_000}},
		{Name: "photographs", Number: 90, Size: fileset.Sizes{Median: 20_000, Spread: 2}, Folders: fileset.Folders{Files: 4, Deep: 3}},
		{Name: "notes", Total: 200_000, Size: fileset.Sizes{From: 0, To: 5000}, Folders: fileset.Folders{Files: 10}},
	}})
	Of(s).Piece, s.For, s.Passes = 64*quantity.KiB, 0, 1
	change(&s, Of(s))
	return s
}

// model is a file system that knows what may be done next: the plain rules of open, write
// and rename, none of the work's own.
type model struct {
	t       *testing.T
	files   *fileset.Files
	cached  bool
	piece   int // the longest that may be moved at once
	folders map[string]bool
	sizes   map[string]int64 // of what is there
	handles map[int32]*opened
	counts  map[measure.Class]int64
	read    map[string]int64
	wholes  map[int]int64
	bytes   int64
	refuse  func(workload.Access) error
}

type opened struct {
	name    string
	write   bool
	highest int64
	covered map[int64]int // pieces by their offset
}

func (m *model) name(a workload.Access) string {
	name := string(m.files.Path(nil, int64(a.Object)))
	if a.Beside && a.Class != measure.Rename {
		name += ".new"
	}
	return name
}

func (m *model) check(is bool, a workload.Access, format string, arguments ...any) {
	m.t.Helper()
	if !is {
		m.t.Fatalf("%+v: %s", a, fmt.Sprintf(format, arguments...))
	}
}

// do performs an operation, and fails the test where it makes no sense.
func (m *model) do(a workload.Access) error {
	m.counts[a.Class]++
	if m.refuse != nil {
		if err := m.refuse(a); err != nil {
			return err
		}
	}
	name, h := "", m.handles[a.Handle]
	m.check(a.Length <= m.piece, a, "a piece is %d bytes", m.piece)
	if a.Class.OfFiles() && a.Class != measure.MakeFolder && a.Class != measure.List || a.Class.Moves() {
		name = m.name(a)
	}
	switch a.Class {
	case measure.MakeFolder:
		folder := string(m.files.Folder(nil, int64(a.Object)))
		m.check(!m.folders[folder], a, "%s is there", folder)
		m.check(m.above(folder) == "" || m.folders[m.above(folder)], a, "nothing is above %s", folder)
		m.folders[folder] = true
	case measure.List:
		m.check(m.folders[string(m.files.Folder(nil, int64(a.Object)))], a, "no such folder")
	case measure.Create:
		m.check(h == nil, a, "handle %d is open", a.Handle)
		m.check(m.folders[m.above(name)], a, "no folder for %s", name)
		m.sizes[name] = 0
		m.handles[a.Handle] = &opened{name: name, write: true, covered: map[int64]int{}}
	case measure.Open:
		_, there := m.sizes[name]
		m.check(there && h == nil, a, "%s is not there, or the handle is open", name)
		m.handles[a.Handle] = &opened{name: name, covered: map[int64]int{}}
	case measure.Read:
		m.check(h != nil && !h.write && a.Offset+int64(a.Length) <= m.sizes[h.name] && a.Length > 0, a, "reads what is not there")
		m.read[h.name] += int64(a.Length)
		h.covered[a.Offset]++
	case measure.Write:
		m.check(h != nil && h.write && a.Length > 0, a, "writes to what is not open")
		h.covered[a.Offset]++
		h.highest = max(h.highest, a.Offset+int64(a.Length))
		m.sizes[h.name] = h.highest
		if !m.cached {
			m.sizes[h.name] = (h.highest + workload.Unit - 1) / workload.Unit * workload.Unit
		}
		m.bytes += int64(a.Length)
	case measure.Truncate:
		m.check(h != nil && h.write && a.Offset == h.highest, a, "cuts to %d of %d", a.Offset, h.highest)
		m.sizes[h.name] = a.Offset
	case measure.Flush:
		m.check(a.Object == Everything || h != nil && h.write, a, "flushes what is not open")
	case measure.Close:
		m.check(h != nil, a, "closes what is not open")
		for offset, count := range h.covered {
			m.check(count == 1, a, "the piece at %d was moved %d times", offset, count)
		}
		delete(m.handles, a.Handle)
	case measure.Rename:
		size, there := m.sizes[name+".new"]
		m.check(there && h == nil, a, "there is no %s.new, or it is open", name)
		delete(m.sizes, name+".new")
		m.sizes[name] = size
	case measure.Attributes, measure.Remove:
		if _, there := m.sizes[name]; !there {
			m.check(a.MayBeGone, a, "%s is gone", name)
			return syscall.ENOENT
		}
		if a.Class == measure.Remove {
			delete(m.sizes, name)
		}
	}
	return nil
}

func (m *model) above(name string) string {
	for i := len(name) - 1; i >= 0; i-- {
		if name[i] == '/' {
			return name[:i]
		}
	}
	return ""
}

// newModel is a file system on which the files are there, or none of them.
func newModel(t *testing.T, spec workload.Spec) *model {
	files, err := Of(spec).WorkedOut()
	if err != nil {
		t.Fatal(err)
	}
	m := &model{
		t: t, files: files, cached: spec.Cached, piece: int(Of(spec).Piece), folders: map[string]bool{}, sizes: map[string]int64{}, handles: map[int32]*opened{},
		counts: map[measure.Class]int64{}, read: map[string]int64{}, wholes: map[int]int64{},
	}
	if !Of(spec).Starts() {
		files.Folders(func(path []byte) bool { m.folders[string(path)] = true; return true })
		for i := range files.Len() {
			m.sizes[string(files.Path(nil, i))] = int64(files.At(i).Size)
		}
	}
	return m
}

// work lets a worker do its work to its end, or for so many operations: up to the depth
// in flight, answered in any order. Most often it is left to the source to go on at once.
func (m *model) work(spec workload.Spec, worker, most int) {
	source, err := workload.NewSource(spec, worker)
	if err != nil {
		m.t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(spec.Seed, uint64(worker)))
	var flying []workload.Access
	now := int64(0)
	for issued := 0; ; {
		for len(flying) < spec.Depth && source.Due() == 0 && issued < most {
			var a workload.Access
			source.Next(&a)
			if a.Class == measure.Write {
				source.Fill(make([]byte, a.Length))
			}
			flying = append(flying, a)
			issued++
		}
		if len(flying) == 0 {
			if !source.Over() && issued < most {
				m.t.Fatalf("nothing is in flight, and it is not over after %d operations", issued)
			}
			return
		}
		i := random.IntN(len(flying))
		a := flying[i]
		flying = slices.Delete(flying, i, i+1)
		now++
		err := m.do(a)
		if err == nil && issued < most && random.IntN(4) > 0 && source.(workload.Onward).GoesOn(&a) {
			flying = append(flying, a)
			issued++
			continue
		}
		if whole := source.Completed(&a, now, err); whole != nil {
			m.wholes[whole.Group]++
			if whole.Began > now || whole.Began < 0 {
				m.t.Fatalf("a file began at %d and ended at %d", whole.Began, now)
			}
		}
	}
}

// Each task does what it says to every file once in each pass, whatever the order of the
// answers, the depth and the number of files under way.
func TestTasksDoWhatTheySay(t *testing.T) {
	for _, task := range tasks {
		for n, change := range []func(*workload.Spec, *Files){
			func(*workload.Spec, *Files) {},
			func(s *workload.Spec, f *Files) { s.Depth = 1; f.Flush = FlushEach },
			func(s *workload.Spec, f *Files) {
				s.Depth, f.AtOnce, f.Visit = 32, 3, Shuffled
				f.Piece = 4096
				f.Flush = FlushEnd
			},
			func(s *workload.Spec, f *Files) { s.Depth, s.Workers, f.Visit, s.Cached = 5, 3, ByClass, true },
			func(s *workload.Spec, f *Files) { s.Depth, s.Seed, f.Flush = 200, 9, FlushNever },
		} {
			spec := fileLoad(func(s *workload.Spec, f *Files) {
				f.Tasks = []TaskShare{{task, 1}}
				change(s, f)
				f.Set.Classes = append(f.Set.Classes,
					fileset.Class{Name: "about a piece", Number: 20, Size: fileset.Sizes{From: f.Piece - 1, To: f.Piece + 1}},
					fileset.Class{Name: "hardly any bytes", Number: 20, Size: fileset.Sizes{From: 0, To: 2}})
			})
			if n == 2 && task != Remove {
				spec.Passes = 3
			}
			m := newModel(t, spec)
			for worker := range spec.Workers {
				if spec.Workers > 1 { // whose folders may be made by others
					m.folders = map[string]bool{"": true}
					m.files.Folders(func(path []byte) bool { m.folders[string(path)] = task != Put; return true })
				}
				m.work(spec, worker, math.MaxInt)
			}
			passes, count, bytes := int64(spec.Passes), m.files.Len(), int64(m.files.Bytes())
			if len(m.handles) > 0 {
				t.Errorf("%s %d: %d files are left open", task, n, len(m.handles))
			}
			var wholes, read int64
			if groups := int64(len(m.wholes)); groups != int64(len(Of(spec).Set.Classes))*passes {
				t.Errorf("%s %d: %d groups of %d passes", task, n, groups, passes)
			}
			for group, done := range m.wholes {
				wholes += done
				if of, _ := m.files.Of(group / int(passes)); done != of { // class by class, each pass by itself
					t.Errorf("%s %d: %d whole files of group %d, which has %d", task, n, done, group, of)
				}
			}
			for _, bytes := range m.read {
				read += bytes
			}
			if wholes != count*passes {
				t.Errorf("%s %d: %d of %d files", task, n, wholes, count*passes)
			}
			for i := range count {
				size, there := m.sizes[string(m.files.Path(nil, i))]
				if there == (task == Remove) || there && size != int64(m.files.At(i).Size) {
					t.Fatalf("%s %d: file %d is there: %t, with %d bytes", task, n, i, there, size)
				}
			}
			if task != Remove && int64(len(m.sizes)) != count {
				t.Errorf("%s %d: %d files are there", task, n, len(m.sizes))
			}
			writes, reads := task == Put || task == Save, task == Fetch || task == Save
			if writes && m.bytes != bytes*passes || !writes && m.bytes > 0 || reads && read != bytes*passes || !reads && read > 0 {
				t.Errorf("%s %d: %d bytes written and %d read of %d in %d passes", task, n, m.bytes, read, bytes, passes)
			}
			flushes := map[Flushing]int64{FlushEach: count * passes, FlushEnd: passes * int64(spec.Workers), FlushNever: 0, "": 0}[Of(spec).Flush]
			if task == Save && Of(spec).Flush == "" {
				flushes = count
			}
			if (writes || task == Remove && Of(spec).Flush == FlushEnd) && m.counts[measure.Flush] != flushes {
				t.Errorf("%s %d: %d flushes, not %d", task, n, m.counts[measure.Flush], flushes)
			}
			for class := range measure.EachClass() {
				if m.counts[class] > 0 && !slices.Contains(spec.Classes(), class) {
					t.Errorf("%s %d: %d %s, of which the load says nothing", task, n, m.counts[class], class)
				}
			}
			if task == Put && spec.Workers == 1 && m.counts[measure.MakeFolder] != m.files.FolderCount() {
				t.Errorf("%d of %d folders were made", m.counts[measure.MakeFolder], m.files.FolderCount())
			}
		}
	}
}

// What has been waiting comes before what could go on at once.
func TestGoingOnPassesNobody(t *testing.T) {
	spec := fileLoad(func(s *workload.Spec, f *Files) {
		f.Set.Classes = []fileset.Class{
			{Name: "of four pieces", Number: 1, Size: fileset.Sizes{Fixed: 4 * f.Piece}},
			{Name: "of one", Number: 1, Size: fileset.Sizes{Fixed: f.Piece}},
		}
		f.Tasks, f.AtOnce, s.Depth = []TaskShare{{Fetch, 1}}, 2, 4
	})
	source, err := workload.NewSource(spec, 0)
	if err != nil {
		t.Fatal(err)
	}
	next := func() (a workload.Access) { source.Next(&a); return a }
	long, short := next(), next()
	source.Completed(&long, 1, nil)
	if first := next(); first.Class != measure.Read || source.(workload.Onward).GoesOn(&short) { // another piece of the long one is due
		t.Errorf("after %+v the short file went on as %+v", first, short)
	}
	source.Completed(&short, 1, nil)
	if second, third := next(), next(); second.Handle != long.Handle || third.Handle != short.Handle {
		t.Errorf("%+v came before %+v", second, third)
	} else if !source.(workload.Onward).GoesOn(&third) || third.Class != measure.Close || third.Length != 0 {
		t.Errorf("a file that was read goes on as %+v", third)
	}
}

// A mix does each task in its share, never to a file that is not there, nor to one that
// is worked on already.
func TestMixesKeepTheirShares(t *testing.T) {
	spec := fileLoad(func(s *workload.Spec, f *Files) {
		s.Passes, s.For, s.Depth = 0, 10, 16
		f.Tasks = []TaskShare{{Fetch, 4}, {Save, 2}, {Put, 1}, {Remove, 1}, {Ask, 2}}
	})
	m := newModel(t, spec)
	m.work(spec, 0, 200_000)
	classes := len(Of(spec).Set.Classes)
	total := int64(0)
	by := make([]int64, len(Of(spec).Tasks))
	for group, count := range m.wholes {
		by[group/classes] += count
		total += count
	}
	for i, task := range Of(spec).Tasks {
		if share := float64(by[i]) / float64(total); math.Abs(share-task.Weight/10) > 0.01 {
			t.Errorf("%s has a share of %.3f", task.Task, share)
		}
	}
	if len(spec.Groups()) != len(by)*classes || spec.Groups()[classes+1] != "photographs (save)" {
		t.Errorf("groups %q", spec.Groups())
	}
	browsing := fileLoad(func(s *workload.Spec, f *Files) {
		s.Passes, s.For, s.Workers = 0, 10, 2
		f.Tasks = []TaskShare{{Browse, 1}, {Remove, 1}, {Put, 1}}
	})
	m = newModel(t, browsing)
	for worker := range 2 {
		m.handles = map[int32]*opened{}
		m.work(browsing, worker, 20_000)
	}
}

// What the storage refuses is done without where that is possible, and ends the file
// where it is not; whatever fails, nothing stays open.
func TestRefusalsAndFailures(t *testing.T) {
	for _, task := range tasks {
		for class := range measure.EachClass() {
			for _, err := range []error{syscall.EOPNOTSUPP, syscall.EIO} {
				spec := fileLoad(func(s *workload.Spec, f *Files) { f.Tasks = []TaskShare{{task, 1}}; s.Depth = 6; f.AtOnce = 2 })
				if !slices.Contains(spec.Classes(), class) {
					continue
				}
				m := newModel(t, spec)
				random := rand.New(rand.NewPCG(1, 1))
				failed := int64(0)
				m.refuse = func(a workload.Access) error {
					if a.Class == class && class != measure.Close && random.IntN(3) == 0 {
						failed++
						return err
					}
					return nil
				}
				m.work(spec, 0, 1_000_000)
				if len(m.handles) > 0 {
					t.Errorf("%s, %s fails with %v: %d files are left open", task, class, err, len(m.handles))
				}
				wholes := int64(0)
				for _, count := range m.wholes {
					wholes += count
				}
				goesOn := errors.Is(err, syscall.EOPNOTSUPP) && (class == measure.Flush || class == measure.Truncate || class == measure.Rename)
				if (goesOn || failed == 0) != (wholes == m.files.Len()) {
					t.Errorf("%s, %d %s fail with %v: %d of %d files are whole", task, failed, class, err, wholes, m.files.Len())
				}
			}
		}
	}
}

// A permutation visits every number once, and another key visits them otherwise.
func TestPermutationsVisitAll(t *testing.T) {
	for _, count := range []uint64{1, 2, 3, 7, 64, 1000, 4097} {
		seen := make([]bool, count)
		p, other, same := newPermutation(count, 1), newPermutation(count, 2), 0
		for i := range count {
			at := p.at(i)
			if at >= count || seen[at] {
				t.Fatalf("%d of %d goes to %d", i, count, at)
			}
			seen[at] = true
			if other.at(i) == at {
				same++
			}
		}
		if count >= 64 && same > 20 {
			t.Errorf("two keys agree on %d of %d", same, count)
		}
	}
}

// The same place of the same file holds the same bytes in a pass, however it is cut into
// pieces, and other bytes than any other place.
func TestContentIsThatOfItsPlace(t *testing.T) {
	spec := fileLoad(func(s *workload.Spec, f *Files) { f.Set.Classes[0].Compressible = 0.5 })
	one, other := FileContent(spec, 0), FileContent(spec, 0)
	a, b, c := make([]byte, workload.Unit), make([]byte, workload.Unit), make([]byte, workload.Unit)
	seen := map[string]bool{}
	for file := range int64(20) {
		for at := int64(0); at < 8*workload.Unit; at += workload.Unit {
			FillFile(one, a, file, at)
			other.Fill(c) // which changes its state
			FillFile(other, b, file, at)
			if !slices.Equal(a, b) || seen[string(a)] {
				t.Fatalf("file %d at %d holds other bytes, or those of another place", file, at)
			}
			seen[string(a)] = true
		}
	}
}

func TestFileLoadsAreRefused(t *testing.T) {
	for field, change := range map[string]func(*workload.Spec, *Files){
		"files":    func(_ *workload.Spec, f *Files) { f.Set.Classes = nil },
		"task":     func(_ *workload.Spec, f *Files) { f.Tasks = []TaskShare{{"burn", 1}} },
		"piece":    func(_ *workload.Spec, f *Files) { f.Piece = 1000 },
		"atOnce":   func(s *workload.Spec, f *Files) { f.AtOnce = s.Depth + 1 },
		"visit":    func(_ *workload.Spec, f *Files) { f.Visit = "backwards" },
		"flush":    func(_ *workload.Spec, f *Files) { f.Flush = "often" },
		"workers":  func(s *workload.Spec, _ *Files) { s.Workers = 1000 },
		"rate":     func(s *workload.Spec, _ *Files) { s.Rate = 5 },
		"passes":   func(s *workload.Spec, f *Files) { f.Tasks = []TaskShare{{Put, 1}, {Fetch, 1}} },
		"warmUp":   func(s *workload.Spec, _ *Files) { s.WarmUp = 1 },
		"for":      func(s *workload.Spec, _ *Files) { s.Passes = 0 },
		"order":    func(s *workload.Spec, _ *Files) { s.Order = workload.Descending },
		"reads":    func(s *workload.Spec, _ *Files) { s.Reads = 0.3 },
		"treeSeed": func(_ *workload.Spec, f *Files) { f.TreeSeed = 1 << 60 },
	} {
		var wrong *mistake.Error
		if err := fileLoad(change).Validate(); !errors.As(err, &wrong) || wrong.Field != field {
			t.Errorf("%s: got %v", field, err)
		}
	}
	good := fileLoad(func(*workload.Spec, *Files) {})
	completed := good.Completed()
	if err := good.Validate(); err != nil {
		t.Error(err)
	}
	if err := completed.Validate(); err != nil || completed.Span != 7*300_000+200_000+photographs(t, good) || completed.Reads != 0 {
		t.Errorf("%v, span %d", err, completed.Span)
	}
	twice := completed.Completed()
	if !reflect.DeepEqual(twice, completed) {
		t.Error("completing it once more changes it")
	}
}

func photographs(t *testing.T, s workload.Spec) quantity.Bytes {
	t.Helper()
	files, err := Of(s).WorkedOut()
	if err != nil {
		t.Fatal(err)
	}
	_, bytes := files.Of(1)
	return bytes
}

// A set is worked out once, however often what is done with it changes, and anew when it
// changes itself.
func TestSetsAreWorkedOutOnce(t *testing.T) {
	s := fileLoad(func(*workload.Spec, *Files) {})
	first, err := Of(s).WorkedOut()
	if err != nil {
		t.Fatal(err)
	}
	set := func(name, text string) *fileset.Files {
		t.Helper()
		field, err := workload.Lookup(name)
		if err == nil {
			err = field.Set(&s, text)
		}
		if err != nil {
			t.Fatal(err)
		}
		files, err := Of(s).WorkedOut()
		if err != nil {
			t.Fatal(err)
		}
		return files
	}
	if set("task", "fetch") != first || set("atOnce", "2") != first {
		t.Error("it was worked out again")
	}
	if set("treeSeed", "9") == first || set("files", "10 x 4KiB").Len() != 10 {
		t.Error("it is still the one before")
	}
}
