// Package files is the kind of load that works on the files of a set, as those who keep them
// do: it puts, fetches, saves, lists and removes them.
//
// Its type is Files, the body. The storage makes the tree of files that it works in.
package files

import (
	"encoding/json"
	"fmt"
	"slices"
	"sync/atomic"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Kind is the kind that works on the files of a set, as those who keep them do.
const Kind workload.Kind = "files"

// Files is the body of a load of files: which files there are, and what is done with
// each. Its pattern is worked out of it: blocks are the pieces in which files are read
// and written, the span is what they hold together.
type Files struct {
	Set      fileset.Set    `json:"set" doc:"The shape of the tree of files"`
	Tasks    []TaskShare    `json:"tasks" doc:"What is done with the files; one entry for a single task" minItems:"1" maxItems:"16"`
	AtOnce   int            `json:"atOnce,omitempty" doc:"Files that each worker has under way at a time; 0 means as many as its depth" minimum:"0" maximum:"4096"`
	Piece    quantity.Bytes `json:"pieceBytes,omitempty" doc:"Bytes that are read or written at a time; 0 means 1 MiB" minimum:"0"`
	Visit    Visit          `json:"visit,omitempty" doc:"Order in which files are gone through; absent for listed" enum:"listed,shuffled,by-class"`
	Flush    Flushing       `json:"flush,omitempty" doc:"When what was written is forced to stable storage; absent for where the task asks for it, which only save does" enum:"never,each,end"`
	TreeSeed uint64         `json:"treeSeed,omitempty" doc:"Number that the sizes of files are drawn with; 0 means 1" maximum:"9007199254740991"`
	From     string         `json:"from,omitempty" maxLength:"4095" doc:"Folder of the service's host whose own files are put: each piece is read from there before it is written. The set is like them once they were listed"`
	Held     *Held          `json:"held,omitempty" doc:"What that folder held when it was listed: the set is like its files, and its sizes are theirs only by and large"`

	worked atomic.Pointer[fileset.Files]
	listed *fileset.Listed // of the folder that the files come from
}

// Held is what a folder held.
type Held struct {
	Files int64          `json:"files" minimum:"0"`
	Bytes quantity.Bytes `json:"bytes" minimum:"0"`
}

// Task is what is done with one file.
type Task string

// The tasks.
const (
	Put    Task = "put"    // copy a file up: make it, write it, close it
	Fetch  Task = "fetch"  // copy a file down: open it, read it, close it
	Save   Task = "save"   // change a file the way editors do: read it, write a new one, rename that over it
	Ask    Task = "ask"    // ask for the attributes of a file
	Browse Task = "browse" // read the names in a folder, and ask for the attributes of each file in it
	Remove Task = "remove" // take a file away
)

var tasks = []Task{Put, Fetch, Save, Ask, Browse, Remove}

// TaskShare is one task of a mix and its weight in it.
type TaskShare struct {
	Task   Task    `json:"task" enum:"put,fetch,save,ask,browse,remove"`
	Weight float64 `json:"weight" doc:"Weight of this task; the weights need not add up to anything" exclusiveMinimum:"0"`
}

// Visit is an order in which files are gone through.
type Visit string

// The orders of visits.
const (
	Listed   Visit = "listed"   // as they stand in the set, class by class and folder by folder
	Shuffled Visit = "shuffled" // all of them in a drawn order, another one in each pass
	ByClass  Visit = "by-class" // class by class, each in a drawn order
)

// Flushing is when what was written is forced to stable storage.
type Flushing string

// The times of flushes.
const (
	FlushNever Flushing = "never"
	FlushEach  Flushing = "each" // each file, before it is closed
	FlushEnd   Flushing = "end"  // the file system, when all files were gone through
)

// WorkedOut are the files of the set, with their numbers. They are worked out once.
func (f *Files) WorkedOut() (*fileset.Files, error) {
	if files := f.worked.Load(); files != nil {
		return files, nil
	}
	files, err := fileset.New(f.Set, max(f.TreeSeed, 1))
	if err != nil {
		return nil, err
	}
	f.worked.Store(files)
	return files, nil
}

// Shape tells the files of one load from those of another: the same files have the same.
func (f *Files) Shape() string {
	text, err := json.Marshal(struct {
		Set  fileset.Set
		Seed uint64
		From string
	}{f.Set, max(f.TreeSeed, 1), f.From})
	if err != nil { // which only a number that is none can bring about
		return ""
	}
	return string(text)
}

// clone is a copy that can be changed.
func (f *Files) clone() *Files {
	if f == nil {
		return &Files{Tasks: []TaskShare{{Put, 1}}}
	}
	return &Files{Set: f.Set, Tasks: f.Tasks, AtOnce: f.AtOnce, Piece: f.Piece, Visit: f.Visit, Flush: f.Flush, TreeSeed: f.TreeSeed, From: f.From, Held: f.Held, listed: f.listed}
}

// Of is the body of a load of files; nil for a load of another kind.
func Of(s workload.Spec) *Files {
	f, _ := s.Body.(*Files)
	return f
}

// Change makes s a load of files, if it is none yet, and changes it; other loads that share its
// files keep theirs.
func Change(s *workload.Spec, how func(*Files)) {
	before := Of(*s)
	f := before.clone()
	how(f)
	if before.sameSet(f) { // it need not be worked out once more
		f.worked.Store(before.worked.Load())
	}
	s.SetBody(f)
}

// sameSet reports whether two have one set between them.
func (f *Files) sameSet(other *Files) bool {
	return f != nil && f.TreeSeed == other.TreeSeed && f.Set.Name == other.Set.Name && len(f.Set.Classes) > 0 &&
		len(f.Set.Classes) == len(other.Set.Classes) && &f.Set.Classes[0] == &other.Set.Classes[0]
}

// Use makes s a load of the files of a set.
func Use(s *workload.Spec, set fileset.Set) { Change(s, func(f *Files) { f.Set = set }) }

// UseListed makes s a load of the files of a folder as they were listed there.
func UseListed(s *workload.Spec, l *fileset.Listed) {
	Change(s, func(f *Files) {
		f.Set, f.listed, f.Held = l.Set, l, &Held{l.Numbered().Len(), l.Numbered().Bytes()}
		f.worked.Store(l.Numbered())
	})
}

// FromFolder is the folder whose files a load puts; "" for a load that makes them.
func FromFolder(s workload.Spec) string {
	if f := Of(s); f != nil {
		return f.From
	}
	return ""
}

// Listed are the files of the folder that the load puts; nil when it makes them, or they
// were not listed yet.
func (f *Files) Listed() *fileset.Listed { return f.listed }

// ReadsSource reports whether a load reads the folder alone that another puts.
func ReadsSource(s workload.Spec) bool { return FromFolder(s) != "" && Of(s).Does(Fetch) }

// Holds is what all files come to; not known of a folder that was not listed yet, or of a
// set that cannot be.
func (f *Files) Holds() (held Held, known bool) {
	if f.Held != nil {
		return *f.Held, true
	}
	files, err := f.WorkedOut()
	if err != nil {
		return held, false
	}
	return Held{files.Len(), files.Bytes()}, true
}

// Known reports whether it is known which files there are: not of a folder that was not
// listed yet.
func (f *Files) Known() bool { return f.From == "" || len(f.Set.Classes) > 0 }

// OfSource is the load that reads the files of the folder alone, once, in the way in which
// s reads them to put them.
func (*Files) OfSource(s workload.Spec) workload.Spec {
	Change(&s, func(f *Files) { f.Tasks, f.Flush = []TaskShare{{Fetch, 1}}, "" })
	s.Passes = 1
	return s
}

// pattern is what the load comes to as blocks: for buffers, ceilings and judgement.
func (f *Files) pattern(cached bool) workload.Pattern {
	piece := f.Piece
	if piece == 0 {
		piece = workload.DefaultPiece
	}
	p := workload.Pattern{Blocks: workload.Block(piece), Order: workload.Sequential, Streams: max(f.AtOnce, 1), Cached: cached, Reads: f.reads()}
	if held, known := f.Holds(); known {
		p.Span = max(held.Bytes, piece)
	}
	return p
}

// reads is the share of reads among what moves bytes; one where nothing does.
func (f *Files) reads() quantity.Share {
	reads, writes := 0.0, 0.0
	for _, t := range f.Tasks {
		switch t.Task {
		case Put:
			writes += t.Weight
		case Fetch:
			reads += t.Weight
		case Save:
			reads, writes = reads+t.Weight, writes+t.Weight
		}
	}
	if reads+writes == 0 {
		return 1
	}
	return quantity.Share(reads / (reads + writes))
}

// Does reports whether a task is among those of the load.
func (f *Files) Does(t Task) bool {
	return slices.ContainsFunc(f.Tasks, func(s TaskShare) bool { return s.Task == t })
}

// Starts reports how the tree of files stands before the load: empty where files are
// only put, otherwise with all of them there.
func (f *Files) Starts() (empty bool) { return len(f.Tasks) == 1 && f.Tasks[0].Task == Put }

// mixOf is how far the files of a set can be reduced, on average over their bytes.
func mixOf(set fileset.Set) *workload.Mix {
	compressible, duplicate, weights := 0.0, 0.0, 0.0
	for _, c := range set.Classes {
		weight := float64(c.Total)
		if weight == 0 {
			weight = float64(c.Number) * float64(max(c.Size.At(0.5), 1))
		}
		compressible += weight * float64(c.Compressible)
		duplicate += weight * float64(c.Duplicate)
		weights += weight
	}
	if weights == 0 {
		return &workload.Mix{}
	}
	return &workload.Mix{Compressible: compressible / weights, Duplicate: duplicate / weights}
}

// smallFile is the mean size below which what a file costs is more than what its bytes do.
const smallFile = quantity.MiB

// uneven reports whether what the load does changes along the way by itself: files that are
// gone through as they are listed, or class by class, are of one size after another.
func (f *Files) uneven() bool {
	return len(f.Tasks) == 1 && f.Visit != Shuffled && len(f.Set.Classes) > 1
}

// small reports whether files count rather than their bytes: most tasks move none, or
// files are small.
func (f *Files) small() bool {
	held, known := f.Holds()
	if !known || !f.Moves() {
		return true
	}
	return held.Bytes/quantity.Bytes(max(held.Files, 1)) < smallFile
}

// Moves reports whether bytes of files are read or written.
func (f *Files) Moves() bool { return f.Does(Put) || f.Does(Fetch) || f.Does(Save) }

// MeanPiece is about the mean size of what is read or written at a time, from a sample of
// the files.
func (f *Files) MeanPiece(workload.Spec) quantity.Bytes {
	files, err := f.WorkedOut()
	if err != nil || files.Len() == 0 {
		return workload.DefaultPiece
	}
	piece := f.pattern(false).LargestBlock()
	bytes, pieces := quantity.Bytes(0), quantity.Bytes(0)
	const sample = 4096
	for i := range min(files.Len(), sample) {
		size := files.At(i * files.Len() / min(files.Len(), sample)).Size
		bytes, pieces = bytes+size, pieces+(size+piece-1)/piece
	}
	return max(bytes/max(pieces, 1), 1)
}

// flushesAtEnd reports whether the file system is flushed at the end of each pass.
func (f *Files) flushesAtEnd() bool {
	return f.Flush == FlushEnd && (f.Does(Put) || f.Does(Save) || f.Does(Remove))
}

// Classes are the classes of operation that the load issues.
func (f *Files) Classes(s workload.Spec) (issued []measure.Class) {
	does := func(any ...Task) bool { return slices.ContainsFunc(any, f.Does) }
	for _, of := range []struct {
		class  measure.Class
		issued bool
	}{
		{measure.Read, does(Fetch, Save)},
		{measure.Write, does(Put, Save)},
		{measure.Flush, f.flushesAtEnd() || f.Flush == FlushEach && does(Put, Save) || f.Flush == "" && does(Save)},
		{measure.Open, does(Fetch, Save)},
		{measure.Create, does(Put, Save)},
		{measure.Close, does(Put, Fetch, Save)},
		{measure.Truncate, does(Put, Save) && !s.Cached},
		{measure.Attributes, does(Ask, Browse)},
		{measure.List, does(Browse)},
		{measure.Rename, does(Save)},
		{measure.Remove, does(Remove)},
		{measure.MakeFolder, f.Starts()},
		{measure.File, true},
	} {
		if of.issued {
			issued = append(issued, of.class)
		}
	}
	return issued
}

// Group is what whole files are sorted into: a class, of a task, and of one pass where
// passes are told apart.
type Group struct {
	Class int // number in the set
	Task  int // number among those of the load
	Pass  int // from 1; 0 for all together
}

// apart is how many passes over the files are told apart; 1 when they are counted
// together, as where they would make more groups than an interval has room for.
func (f *Files) apart(passes int) int {
	if len(f.Tasks) == 1 && passes > 1 && passes*len(f.Set.Classes) <= workload.MostGroups {
		return passes
	}
	return 1
}

// groups are those of a load that goes through its files so often: by task, class and pass.
func (f *Files) groups(passes int) (groups []Group) {
	apart := f.apart(passes)
	for task := range f.Tasks {
		for class := range f.Set.Classes {
			for pass := range apart {
				g := Group{Class: class, Task: task}
				if apart > 1 {
					g.Pass = pass + 1
				}
				groups = append(groups, g)
			}
		}
	}
	return groups
}

// named is what people call a group.
func (f *Files) named(g Group) string {
	name := f.Set.Classes[g.Class].Name
	if len(f.Tasks) > 1 {
		name = fmt.Sprintf("%s (%s)", name, f.Tasks[g.Task].Task)
	}
	if g.Pass > 0 {
		name = fmt.Sprintf("%s, pass %d", name, g.Pass)
	}
	return name
}

// Kind is that of files.
func (f *Files) Kind() workload.Kind { return Kind }

// Complete works out what the load comes to as blocks.
func (f *Files) Complete(s *workload.Spec) { s.Pattern = f.pattern(s.Cached) }

// Alone says which loads of files cannot be one of several.
func (f *Files) Alone(workload.Spec) string {
	switch {
	case f.From != "":
		return "puts the files of a folder, which a load alone does; describe the folder (heron files describe), and put files like them"
	case len(f.Tasks) == 1 && f.Does(Remove):
		return "ends when all files are gone, and loads at once go on for a time; let it put files as well"
	}
	return ""
}

// Traits are those of a load that works in a tree.
func (f *Files) Traits(s workload.Spec) workload.Traits {
	t := workload.Traits{
		OwnSizes: true, OnFiles: true, Still: !f.Moves(), Uneven: f.uneven(), Ends: true,
		Main: "throughput", Done: "files", Handles: s.Depth, Source: f.From,
	}
	if f.small() {
		t.Main = "files"
	}
	t.Content = mixOf(f.Set)
	return t
}

// WholeFiles is how many files there are in all passes.
func (f *Files) WholeFiles(s workload.Spec) int64 {
	held, known := f.Holds()
	if !known {
		return 0
	}
	return held.Files * int64(s.Passes)
}

// PassGroups are the groups of a load whose passes are told apart.
func (f *Files) PassGroups(s workload.Spec) (groups []workload.PassGroup) {
	if f.apart(s.Passes) == 1 {
		return nil
	}
	for _, g := range f.groups(s.Passes) {
		groups = append(groups, workload.PassGroup{Of: f.Set.Classes[g.Class].Name, Pass: g.Pass})
	}
	return groups
}

// InWords says how many whole files were done.
func (f *Files) InWords(_ workload.Spec, i measure.Interval) []string {
	return []string{quantity.FileRate(i.Classes[measure.File].Rate).String()}
}

// Groups name the classes, by task and by pass where those are told apart.
func (f *Files) Groups(s workload.Spec) (names []string) {
	for _, g := range f.groups(s.Passes) {
		names = append(names, f.named(g))
	}
	return names
}

// Source prepares the files of one worker.
func (f *Files) Source(s workload.Spec, worker int) (workload.Source, error) {
	return newFileWork(s, worker)
}

// Describe says in a few words what a load of files does.
func (f *Files) Describe(s workload.Spec) string {
	text := FormatTasks(f.Tasks)
	if len(f.Tasks) == 1 {
		text = string(f.Tasks[0].Task)
	}
	if held, known := f.Holds(); known {
		text += fmt.Sprintf(" %d files, %s in all", held.Files, held.Bytes)
	}
	if f.From != "" {
		text += ", from " + f.From
	}
	if f.Set.Name != "" {
		text += " (" + f.Set.Name + ")"
	}
	if f.Visit != "" && f.Visit != Listed {
		text += ", " + string(f.Visit)
	}
	workers := "1 worker"
	if s.Workers > 1 {
		workers = fmt.Sprintf("%d workers", s.Workers)
	}
	text += fmt.Sprintf(", %s × depth %d", workers, s.Depth)
	if f.AtOnce > 0 && f.AtOnce < s.Depth {
		text += fmt.Sprintf(", %d at once", f.AtOnce)
	}
	if f.Flush != "" {
		text += ", flush " + string(f.Flush)
	}
	if s.Passes > 1 {
		text += fmt.Sprintf(", %d passes", s.Passes)
	}
	if s.Cached {
		text += ", cached"
	}
	return text
}
