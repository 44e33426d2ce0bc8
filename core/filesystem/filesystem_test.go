package filesystem

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"syscall"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
)

const (
	ms = int64(1e6)
	us = int64(1e3)
)

// device answers every operation after a time of its own, any number at a time.
type device struct {
	fs     *FS
	now    int64
	takes  func(Kind, int64, int) int64
	flying []flight
	log    []flight
}

type flight struct {
	tag        int
	kind       Kind
	offset     int64
	length     int
	begun, end int64
}

func (d *device) Submit(tag, _ int, kind Kind, offset int64, length int) {
	f := flight{tag, kind, offset, length, d.now, d.now + d.takes(kind, offset, length)}
	d.flying, d.log = append(d.flying, f), append(d.log, f)
}

func (d *device) Now() int64 { return d.now }

// step lets the next thing happen: of answers that come at the same time the first that
// was asked for.
func (d *device) step() bool {
	next := -1
	for i, f := range d.flying {
		if next < 0 || f.end < d.flying[next].end {
			next = i
		}
	}
	timer := d.fs.Timer()
	if next >= 0 && d.flying[next].end <= timer {
		f := d.flying[next]
		d.flying = slices.Delete(d.flying, next, next+1)
		d.now = max(d.now, f.end)
		d.fs.Done(f.tag, false)
		return true
	}
	if timer == math.MaxInt64 {
		return false
	}
	d.now = max(d.now, timer)
	d.fs.Wake()
	return true
}

func setOf(t *testing.T, classes ...fileset.Class) *fileset.Files {
	t.Helper()
	files, err := fileset.New(fileset.Set{Classes: classes}, 1)
	if err != nil {
		t.Fatal(err)
	}
	return files
}

func constant(Kind, int64, int) int64 { return ms }

func made(t *testing.T, s Settings, size quantity.Bytes, files *fileset.Files, takes func(Kind, int64, int) int64) (*FS, *device) {
	t.Helper()
	d := &device{takes: takes}
	f, err := New(s, size, files, d)
	if err != nil {
		t.Fatal(err)
	}
	d.fs = f
	f.Open(16, false)
	return f, d
}

// do performs an operation and tells how long it took.
func (d *device) do(t *testing.T, o Operation) (took int64, err error) {
	t.Helper()
	began := d.now
	d.fs.Begin(0, 0, o)
	for len(d.fs.Answers()) == 0 {
		if !d.step() {
			t.Fatalf("%+v is never answered", o)
		}
	}
	err = d.fs.Answers()[0].Err
	d.fs.Forget()
	return d.now - began, err
}

// Each operation costs what it does in life: nothing but the host's time where names and
// attributes are in memory, a read where they are not, the blocks of the data, and for a
// flush the blocks of the journal, a flush, the commit and a flush.
func TestOperationsCostTheirBlocks(t *testing.T) {
	files := setOf(t, fileset.Class{Name: "a", Number: 3, Size: fileset.Sizes{Fixed: 10_000}}, fileset.Class{Name: "b", Number: 1000, Size: fileset.Sizes{Fixed: 100}})
	call := 5 * us
	f, d := made(t, Settings{Call: 5e-6}, quantity.GiB, files, constant)
	expect := func(what string, o Operation, want int64, wrong error) {
		t.Helper()
		if took, err := d.do(t, o); took != want || !errors.Is(err, wrong) {
			t.Errorf("%s took %d µs, not %d (%v)", what, took/us, want/us, err)
		}
	}
	expect("a folder", Operation{Class: measure.MakeFolder, Object: 0}, call, nil)
	expect("a file that is not there", Operation{Class: measure.Open, Object: 0}, call, syscall.ENOENT)
	expect("making one", Operation{Class: measure.Create, Object: 0}, call, nil)
	expect("writing it", Operation{Class: measure.Write, Object: 0, Length: 10_000}, call+ms, nil)
	if w := d.log[len(d.log)-1]; w.kind != Write || w.length != 3*block {
		t.Errorf("10,000 bytes are written as %+v", w)
	}
	expect("setting its length", Operation{Class: measure.Truncate, Object: 0, Offset: 10_000}, call, nil)
	before := len(d.log)
	expect("flushing it", Operation{Class: measure.Flush, Object: 0}, call+4*ms, nil)
	var kinds []Kind
	var bytes int
	for _, one := range d.log[before:] {
		kinds = append(kinds, one.kind)
		bytes += one.length
	}
	// The folder, its inode, the bitmaps of inodes and of blocks, and the inode of the
	// file, which is in the same block as that of the folder: four blocks, a block that
	// lists them, and the commit.
	if !slices.Equal(kinds, []Kind{Write, Flush, Write, Flush}) || bytes != 6*block {
		t.Errorf("a commit is %v of %d bytes", kinds, bytes)
	}
	expect("flushing it again", Operation{Class: measure.Flush, Object: 0}, call+ms, nil)
	expect("closing it", Operation{Class: measure.Close, Object: 0}, call, nil)
	expect("opening it", Operation{Class: measure.Open, Object: 0}, call, nil)
	expect("reading it", Operation{Class: measure.Read, Object: 0, Offset: 4096, Length: 5904}, call+ms, nil)
	f.cache.clear()
	f.cache.most = 100
	expect("asking when nothing is in memory", Operation{Class: measure.Attributes, Object: 0}, call+ms, nil)
	expect("asking once more", Operation{Class: measure.Attributes, Object: 0}, call, nil)
	expect("a list of 1000 names", Operation{Class: measure.MakeFolder, Object: 1}, call, nil)
	expect("removing it, of which the maps of what is free are not in memory", Operation{Class: measure.Remove, Object: 0}, call+ms, nil)
	expect("what is removed", Operation{Class: measure.Attributes, Object: 0}, call, syscall.ENOENT)
	expect("making another", Operation{Class: measure.Create, Object: 1}, call, nil)
	expect("removing that, with all in memory", Operation{Class: measure.Remove, Object: 1}, call, nil)
	if f.folders[1].blocks != 16 { // 64 names in a block
		t.Errorf("a folder of 1000 names has %d blocks", f.folders[1].blocks)
	}
}

// Those who flush while a commit is under way share the next one.
func TestCommitsAreShared(t *testing.T) {
	files := setOf(t, fileset.Class{Name: "a", Number: 16, Size: fileset.Sizes{Fixed: 4096}})
	f, d := made(t, Settings{Call: 1e-9}, quantity.GiB, files, constant)
	if _, err := d.do(t, Operation{Class: measure.MakeFolder}); err != nil {
		t.Fatal(err)
	}
	for file := range 16 {
		for _, class := range []measure.Class{measure.Create, measure.Write} {
			if _, err := d.do(t, Operation{Class: class, Object: file, Handle: file, Length: 4096 * int(1-class/measure.Create)}); err != nil {
				t.Fatal(err)
			}
		}
	}
	began := d.now
	for file := range 16 {
		f.Begin(0, file, Operation{Class: measure.Flush, Object: file, Handle: file})
		d.step() // so that each comes by itself
		if file > 0 {
			f.change(f.inodeBlock(f.inodes[file]))
			f.queues[0].handles[file].changed = f.journal.running.serial
		}
	}
	for len(f.Answers()) < 16 && d.step() {
	}
	if took := d.now - began; f.Counts().Commits > 2 || took > 9*ms {
		t.Errorf("16 flushes were %d commits in %d µs", f.Counts().Commits, took/us)
	}
}

// work lets the work of a load go through the file system, up to so many operations.
func work(t *testing.T, f *FS, d *device, spec workload.Spec, most int) (done int) {
	t.Helper()
	source, err := workload.NewSource(spec, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.CloseQueues()
	f.Open(spec.Depth, false)
	slots := make([]workload.Access, spec.Depth)
	var idle []int
	for i := range slots {
		idle = append(idle, i)
	}
	for {
		for len(idle) > 0 && source.Due() == 0 && done < most {
			slot := idle[len(idle)-1]
			idle = idle[:len(idle)-1]
			var a workload.Access
			source.Next(&a)
			slots[slot] = a
			f.Begin(0, slot, Operation{Class: a.Class, Object: a.Object, Handle: int(a.Handle), Beside: a.Beside, Offset: a.Offset, Length: a.Length})
			done++
		}
		if len(idle) == len(slots) {
			return done
		}
		for len(f.Answers()) == 0 {
			if !d.step() {
				t.Fatal("nothing happens any more")
			}
		}
		for _, a := range f.Answers() {
			if a.Err != nil && !slots[a.Slot].MayBeGone {
				t.Fatalf("%+v: %v", slots[a.Slot], a.Err)
			}
			idle = append(idle, a.Slot)
			source.Completed(&slots[a.Slot], d.now, a.Err)
		}
		f.Forget()
	}
}

// owners tells who owns each block: files, folders, tables and the journal, none of them
// a block of another; and that what is free is what nobody owns.
func checkOwners(t *testing.T, f *FS) map[uint32]string {
	t.Helper()
	of := map[uint32]string{}
	own := func(start, count uint32, who string) {
		for b := start; b < start+count; b++ {
			if int64(b) >= f.size {
				t.Fatalf("%s owns block %d of %d", who, b, f.size)
			}
			if had := of[b]; had != "" {
				t.Fatalf("block %d is of %s and of %s", b, had, who)
			}
			of[b] = who
		}
	}
	own(f.journal.start, f.journal.length, "the journal")
	for i, g := range f.groups {
		own(g.start, g.data-g.start, fmt.Sprintf("the tables of group %d", i))
	}
	data := int64(0)
	for number, d := range f.folders {
		if d.there {
			own(d.start, d.blocks, fmt.Sprintf("folder %d", number))
			data += int64(d.blocks)
		}
	}
	inodes := map[uint32]bool{}
	for file := range f.files.Len() {
		if !f.isThere(file) {
			continue
		}
		if inodes[f.inodes[file]] {
			t.Fatalf("file %d has the inode of another", file)
		}
		inodes[f.inodes[file]] = true
		held := uint32(0)
		for _, e := range f.extentsOf(file) {
			own(e.start, e.count, fmt.Sprintf("file %d", file))
			held += e.count
		}
		if want := blocksOf(f.files.At(file).Size); held != want && held != 0 {
			t.Fatalf("file %d has %d blocks, not %d", file, held, want)
		}
		data += int64(held)
	}
	for file, e := range f.beside {
		for _, e := range e.extents {
			own(e.start, e.count, fmt.Sprintf("what is beside file %d", file))
			data += int64(e.count)
		}
	}
	room, free := int64(0), int64(0)
	for _, g := range f.groups {
		room += int64(g.end - g.data)
		free += g.free
	}
	if free != f.free || room-data != free {
		t.Fatalf("%d of %d blocks are free, %d by groups, and %d are owned", f.free, room, free, data)
	}
	return of
}

// Whatever is done to files, in whatever order it is answered, no block has two owners,
// none is lost, and every file's blocks were written since it was made. Blocks of
// metadata reach their places only after a commit that had them, and each commit is
// written between two flushes.
func TestBlocksHaveOneOwner(t *testing.T) {
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 7))
		files := setOf(t,
			fileset.Class{Name: "large", Number: 20, Size: fileset.Sizes{From: 1 << 20, To: 9 << 20}},
			fileset.Class{Name: "small", Number: 600, Size: fileset.Sizes{From: 0, To: 30_000}, Folders: fileset.Folders{Files: 9, Deep: 2}},
		)
		spec := workload.Default()
		loadfiles.Use(&spec, fileset.Set{Classes: []fileset.Class{
			{Name: "large", Number: 20, Size: fileset.Sizes{From: 1 << 20, To: 9 << 20}},
			{Name: "small", Number: 600, Size: fileset.Sizes{From: 0, To: 30_000}, Folders: fileset.Folders{Files: 9, Deep: 2}},
		}})
		spec.Depth, spec.Seed = 1+int(seed*3), seed+1
		loadfiles.Of(spec).Tasks = []loadfiles.TaskShare{{Task: loadfiles.Put, Weight: 2}, {Task: loadfiles.Remove, Weight: 2}, {Task: loadfiles.Save, Weight: 2}, {Task: loadfiles.Fetch, Weight: 1}, {Task: loadfiles.Browse, Weight: 0.1}}
		if seed%3 == 0 {
			loadfiles.Of(spec).Flush = loadfiles.FlushEach
		}
		// Groups that are smaller than files, and room that is nearly used up.
		s := Settings{Group: 8 * quantity.MiB, Journal: quantity.MiB, Memory: 256 * quantity.KiB, Commit: 0.05}
		f, d := made(t, s, 180*quantity.MiB, files, func(Kind, int64, int) int64 { return 1 + random.Int64N(2*ms) })
		written, open := map[uint32]bool{}, map[string]bool{} // open are files whose writing was cut short
		err := f.Lay(func(offset int64, length int, _ quantity.Bytes) bool {
			for b := offset / block; b < (offset+int64(length))/block; b++ {
				if written[uint32(b)] {
					t.Fatalf("block %d is laid twice", b)
				}
				written[uint32(b)] = true
			}
			return true
		})
		if err != nil || !f.Whole() {
			t.Fatal(err)
		}
		for b, who := range checkOwners(t, f) {
			if !written[b] && who[0] == 'f' {
				t.Fatalf("block %d of %s was not laid", b, who)
			}
		}
		for range 20 {
			work(t, f, d, spec, 300)
			spec.Seed++
			of := checkOwners(t, f)
			for _, h := range f.queues[0].handles {
				open[fmt.Sprintf("file %d", h.file)] = true
			}
			for _, w := range d.log {
				if w.kind == Write {
					for b := w.offset / block; b < (w.offset+int64(w.length))/block; b++ {
						written[uint32(b)] = true
					}
				}
			}
			for b, who := range of {
				if !written[b] && who[:4] == "file" && !open[who] {
					t.Fatalf("block %d of %s was never written", b, who)
				}
			}
			if !loadfiles.Of(spec).Does(loadfiles.Put) {
				continue
			}
			// The mix ends in the middle of files: they are removed or put before it goes on.
			for file := range f.files.Len() {
				if e, is := f.beside[file]; is {
					f.give(e.extents)
					f.giveInode(e.inode)
					delete(f.beside, file)
				}
				if !f.isThere(file) || f.extentsOf(file) == nil {
					if !f.isThere(file) {
						inode, err := f.newFile(file)
						if err != nil {
							t.Fatal(err)
						}
						f.keep(file, inode, nil)
						f.setThere(file, true)
					}
					extents, err := f.place(file, f.inodes[file])
					if err != nil {
						t.Fatal(err)
					}
					f.keep(file, f.inodes[file], extents)
					for _, e := range extents {
						for b := e.start; b < e.start+e.count; b++ {
							written[b] = true
						}
					}
				}
			}
		}
		checkJournal(t, f, d)
		if f.Counts().Commits == 0 {
			t.Error("nothing was committed")
		}
	}
}

// checkJournal reads what the device saw: each commit is its blocks, a flush when all of
// them are there, its end, and a flush when that is; and nothing is written back before
// the first commit is done.
func checkJournal(t *testing.T, f *FS, d *device) {
	t.Helper()
	j := &f.journal
	parts := [][]flight{nil}
	for _, one := range d.log {
		if tagOwner(one.tag) != ofJournal {
			continue
		}
		last := len(parts) - 1
		if n := len(parts[last]); n > 0 && parts[last][n-1].kind != one.kind {
			parts, last = append(parts, nil), last+1
		}
		parts[last] = append(parts[last], one)
		if one.kind == Write && (one.offset < int64(j.start)*block || one.offset+int64(one.length) > int64(j.start+j.length)*block) {
			t.Fatalf("a write of the journal at %d is not in it", one.offset)
		}
	}
	firstDone := int64(math.MaxInt64)
	for i, part := range parts {
		begun, isEnd := part[0].begun, i%4 == 2
		if wantFlush := i%2 == 1; wantFlush != (part[0].kind == Flush) || (wantFlush || isEnd) && len(part) != 1 || isEnd && part[0].length != block {
			t.Fatalf("part %d of the journal is %+v", i, part)
		}
		if i > 0 {
			for _, before := range parts[i-1] {
				if before.end > begun {
					t.Fatalf("part %d of the journal begins at %d, and %+v is before it", i, begun, before)
				}
			}
		}
		if i == 3 {
			firstDone = part[0].end
		}
	}
	for _, one := range d.log {
		if tagOwner(one.tag) == ofBack && one.begun < firstDone {
			t.Fatalf("%+v is written to its place before anything was committed", one)
		}
	}
}

func tagOwner(tag int) int { return tag % owners }

// Files that do not fit are refused with ENOSPC, inodes that run out too, and what was
// there stays whole.
func TestRoomEnds(t *testing.T) {
	files := setOf(t, fileset.Class{Name: "a", Number: 100, Size: fileset.Sizes{Fixed: 1 << 20}})
	f, _ := made(t, Settings{Group: 8 * quantity.MiB, Journal: quantity.MiB}, 64*quantity.MiB, files, constant)
	if err := f.Lay(func(int64, int, quantity.Bytes) bool { return true }); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("100 MiB on 64 MiB: %v", err)
	}
	checkOwners(t, f)
	many := setOf(t, fileset.Class{Name: "a", Number: 10_000})
	f, _ = made(t, Settings{Group: 8 * quantity.MiB, Journal: quantity.MiB}, 64*quantity.MiB, many, constant)
	if err := f.Lay(func(int64, int, quantity.Bytes) bool { return true }); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("10,000 files with an inode for each 16 KiB of 64 MiB: %v", err)
	}
	if _, err := New(Settings{}, 3*quantity.MiB, many, &device{}); !errors.Is(err, syscall.ENOSPC) {
		t.Errorf("3 MiB: %v", err)
	}
}

// cheMisses is how many blocks are read for each question that needs one of some blocks
// and one of others, each of them as likely as the next, when those stay that were used
// last (Che, Tung and Wang, Hierarchical Web caching systems, 2002).
func cheMisses(room float64, counts ...float64) (misses float64) {
	low, high := 0.0, 1e9
	for range 100 {
		time, held := (low+high)/2, 0.0
		for _, n := range counts {
			held += n * (1 - math.Exp(-time/n))
		}
		if held < room {
			low = time
		} else {
			high = time
		}
	}
	for _, n := range counts {
		misses += math.Exp(-low / n)
	}
	return misses
}

// Memory keeps what was used last: with room for all names and attributes they are read
// once, with room for a tenth as often as that says.
func TestMemoryForNames(t *testing.T) {
	files := setOf(t, fileset.Class{Name: "a", Number: 20_000, Size: fileset.Sizes{Fixed: 10}, Folders: fileset.Folders{Files: 64}})
	all := int64(20_000/perBlock + 20_000/64 + 20_000/64/perBlock) // blocks of inodes of files, of names, and of folders' inodes
	for _, share := range []float64{1.2, 0.1} {
		f, d := made(t, Settings{Memory: quantity.Bytes(share * float64(all) * block), Call: 1e-9}, 4*quantity.GiB, files, constant)
		if err := f.Lay(func(int64, int, quantity.Bytes) bool { return true }); err != nil {
			t.Fatal(err)
		}
		random := rand.New(rand.NewPCG(1, 2))
		ask := func(count int) int64 {
			before := f.Counts().Read
			for range count {
				if _, err := d.do(t, Operation{Class: measure.Attributes, Object: random.IntN(20_000)}); err != nil {
					t.Fatal(err)
				}
			}
			return (f.Counts().Read - before) / block
		}
		ask(40_000)
		read := ask(20_000)
		want := 0.0
		if share < 1 {
			want = 20_000 * cheMisses(share*float64(all), 20_000/64, 20_000/perBlock)
		}
		if math.Abs(float64(read)-want) > 0.02*40_000 {
			t.Errorf("with memory for %g of it %d blocks were read for 20,000 questions, not about %g", share, read, want)
		}
	}
}
