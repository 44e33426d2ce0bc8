package files

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"syscall"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/workload"
)

// fileWork is the work of one worker of a load of files. It has some files under way at
// a time, each at a step of its task; steps that are ready wait in a ring. The worker's
// files are every so many of the order in which files are visited, so that no two workers
// have the same.
type fileWork struct {
	spec   workload.Spec
	body   *Files
	files  *fileset.Files
	tasks  []fileTask
	worker int64
	of     int64 // workers
	random *rand.Rand
	order  *inOrder // that files are picked in
	draws  *draws   // or what picks them at random; nil for in order

	jobs   []fileJob
	ready  []int // numbers of jobs that have something to issue, a ring
	first  int
	count  int
	active int // jobs that work on a file
	begun  int // files of this pass
	pieces int // operations that one file may have in flight

	pass    int   // from 0
	apart   int   // passes that are told apart
	next    int64 // place in the pass
	flushes bool  // the flush that ends the pass is under way
	ended   bool  // nothing new is begun

	folders *folderMaker        // where the load makes folders
	content []*workload.Content // by class of file
	writing struct {            // what Fill fills
		class  int
		number uint64
	}
	whole workload.Whole
}

// fileTask is what is done to a file.
type fileTask struct {
	after   [ways][steps]step // what follows a step; the first follows taskOver
	onward  [ways][steps]step // the same where both are plain, otherwise taskOver
	folders bool              // it is done to a folder
	moves   bool              // it moves the bytes of the file
}

// way is how long a file is, as far as its task goes another way for it.
type way uint8

const (
	anyLength way = iota
	onePiece
	ways
)

// fileJob is a file that is worked on. It fits in a line of the processor's cache.
type fileJob struct {
	task    int16 // number among those of the load
	way     way
	class   int32
	flying  int32
	step    step
	busy    bool // it has a file
	queued  bool // in the ring
	failed  bool
	file    int64
	size    int64
	offset  int64 // of the next piece
	began   int64
	browsed struct{ next, end int64 } // files of a folder whose attributes are asked for
}

// step is one of the operations that a task consists of.
type step uint8

const (
	taskOver   step = iota // before the first and after the last
	makeFolder             // if it is not there yet
	openOld
	readAll
	readWhole // of a file of one piece
	closeOld
	createNew    // under its own name
	createBeside // under the name that stands beside it
	writeAll
	cutLength // where pieces are longer than the file
	flushFile
	closeNew
	renameOver
	askAttributes
	listFolder
	askEach
	removeFile
	steps // how many there are
)

// stepsOf are the steps of the tasks, in order. None is twice in a task.
var stepsOf = map[Task][]step{
	Put:    {makeFolder, createNew, writeAll, cutLength, flushFile, closeNew},
	Fetch:  {openOld, readAll, closeOld},
	Save:   {openOld, readAll, closeOld, createBeside, writeAll, cutLength, flushFile, closeNew, renameOver},
	Ask:    {askAttributes},
	Browse: {listFolder, askEach},
	Remove: {removeFile},
}

// kinds are the classes of the operations of the steps. A step is plain when nothing else
// about it is its own: it is one operation, on the file of the job, of none of its bytes or
// of all. Which step comes next is hard to predict for a processor, so that what is plain
// is done without asking.
var kinds = [steps]struct {
	class measure.Class
	plain bool
	bytes int8 // of the length of the file: these bits
}{
	makeFolder: {class: measure.MakeFolder}, openOld: {measure.Open, true, 0},
	readAll: {class: measure.Read}, readWhole: {measure.Read, true, -1}, closeOld: {measure.Close, true, 0},
	createNew: {measure.Create, true, 0}, createBeside: {class: measure.Create}, writeAll: {class: measure.Write},
	cutLength: {class: measure.Truncate}, flushFile: {measure.Flush, true, 0}, closeNew: {measure.Close, true, 0},
	renameOver: {class: measure.Rename}, askAttributes: {measure.Attributes, true, 0},
	listFolder: {class: measure.List}, askEach: {class: measure.Attributes}, removeFile: {measure.Remove, true, 0},
}

// Everything stands for the object of a flush of all files.
const Everything = -1

func newFileWork(spec workload.Spec, worker int) (*fileWork, error) {
	body := Of(spec)
	files, err := body.WorkedOut()
	if err != nil {
		return nil, err
	}
	atOnce := body.AtOnce
	if atOnce == 0 {
		atOnce = spec.Depth
	}
	w := &fileWork{
		spec: spec, body: body, files: files, worker: int64(worker), of: int64(spec.Workers), apart: body.apart(spec.Passes),
		random: rand.New(rand.NewPCG(spec.Seed, workload.Golden*uint64(worker+1))),
		jobs:   make([]fileJob, atOnce), ready: make([]int, atOnce), pieces: max(spec.Depth/atOnce, 1),
		content: make([]*workload.Content, len(body.Set.Classes)),
	}
	if body.Starts() {
		w.folders = newFolderMaker(files)
	}
	for _, t := range body.Tasks {
		after, onward := w.linked(t.Task)
		w.tasks = append(w.tasks, fileTask{after, onward, t.Task == Browse, t.Task != Ask && t.Task != Remove})
	}
	if len(w.tasks) > 1 {
		w.draws = newDraws(w)
	} else {
		w.order = newOrder(w)
	}
	for i := range w.jobs {
		w.begin(i, 0)
	}
	return w, nil
}

// linked are the steps of a task one after another, without those that this load never takes.
func (w *fileWork) linked(t Task) (after, onward [ways][steps]step) {
	flushes := w.body.Flush == FlushEach || w.body.Flush == "" && t == Save
	var before [ways]step
	link := func(way way, next step) {
		last := before[way]
		after[way][last], before[way] = next, next
		if kinds[last].plain && kinds[next].plain {
			onward[way][last] = next
		}
	}
	for _, s := range stepsOf[t] {
		if s == makeFolder && w.folders == nil || s == cutLength && w.spec.Cached || s == flushFile && !flushes {
			continue
		}
		link(anyLength, s)
		if s == readAll {
			s = readWhole
		}
		link(onePiece, s)
	}
	return after, onward
}

// begin gives a job its next file, or none when there is no more for now.
func (w *fileWork) begin(number int, now int64) {
	j := &w.jobs[number]
	*j = fileJob{began: now}
	if w.ended || w.flushes || !w.pick(j) {
		if w.active == 0 && !w.ended && !w.flushes {
			w.endPass(now)
		}
		return
	}
	j.busy = true
	w.active++
	w.begun++
	task := &w.tasks[j.task]
	if !task.folders {
		f := w.files.At(j.file)
		j.class, j.size = int32(f.Class), int64(f.Size)
		if f.Size > 0 && f.Size <= w.spec.Blocks[0].Size {
			j.way = onePiece
		}
	}
	j.step = task.after[j.way][taskOver]
	w.arrive(number)
}

// pick gives a job its task and its file; false when none is left in this pass.
func (w *fileWork) pick(j *fileJob) bool {
	if w.draws != nil {
		return w.draws.next(w, j)
	}
	return w.order.next(w, j)
}

// endPass is called when all files of a pass are done with.
func (w *fileWork) endPass(now int64) {
	if w.begun == 0 { // this worker has none
		w.ended = true
		return
	}
	if w.body.flushesAtEnd() {
		w.flushes = true
		w.push(0)
		return
	}
	w.startPass(now)
}

func (w *fileWork) startPass(now int64) {
	w.pass++
	w.next, w.begun = 0, 0
	if w.spec.Passes > 0 && w.pass >= w.spec.Passes || w.body.Does(Remove) && len(w.body.Tasks) == 1 {
		w.ended = true
		return
	}
	if w.order != nil {
		w.order.newPass(w)
	}
	for i := range w.jobs {
		w.begin(i, now)
	}
}

// arrive takes a job past the steps that have nothing to do, and puts it into the ring;
// or ends it.
func (w *fileWork) arrive(number int) (done bool) {
	j := &w.jobs[number]
	for !kinds[j.step].plain {
		passed := false
		switch j.step {
		case readAll, writeAll:
			passed = j.offset >= j.size
		case taskOver:
			return true
		case cutLength:
			passed = j.size%workload.Unit == 0
		case askEach:
			passed = j.browsed.next >= j.browsed.end
		case makeFolder:
			switch w.folders.toMake(number, w.files.FolderOf(j.file)) {
			case folderThere:
				passed = true
			case folderBeingMade:
				return false // it is put into the ring when that is made
			}
		}
		if !passed {
			break
		}
		w.advance(j)
	}
	w.push(number)
	return false
}

func (w *fileWork) push(number int) {
	if w.jobs[number].queued {
		return
	}
	w.jobs[number].queued = true
	at := w.first + w.count
	if at >= len(w.ready) {
		at -= len(w.ready)
	}
	w.ready[at] = number
	w.count++
}

func (w *fileWork) pop() int {
	number := w.ready[w.first]
	if w.first++; w.first == len(w.ready) {
		w.first = 0
	}
	w.count--
	w.jobs[number].queued = false
	return number
}

// Due is zero when a job is ready, and Never otherwise.
func (w *fileWork) Due() int64 {
	if w.count > 0 {
		return 0
	}
	return workload.Never
}

// Next gives the next operation of the job whose turn it is.
func (w *fileWork) Next(a *workload.Access) int64 {
	number := w.pop()
	j := &w.jobs[number]
	j.flying++
	if w.flushes {
		*a = workload.Access{Class: measure.Flush, Object: Everything, Handle: int32(number)}
		return w.Due()
	}
	kind := &kinds[j.step]
	*a = workload.Access{Class: kind.class, Object: int(j.file), Handle: int32(number), Length: int(j.size) & int(kind.bytes)}
	if !kind.plain {
		w.specify(a, number)
	}
	return w.Due()
}

// specify makes the operation of a step that is not plain what it is.
func (w *fileWork) specify(a *workload.Access, number int) {
	j := &w.jobs[number]
	switch j.step {
	case readAll, writeAll:
		a.Offset = j.offset
		a.Length = int(min(int64(w.spec.Blocks[0].Size), j.size-j.offset))
		j.offset += int64(a.Length)
		if j.step == writeAll {
			w.writing.class, w.writing.number = int(j.class), contentNumber(j.file, a.Offset, w.pass)
		}
		if j.offset < j.size && int(j.flying) < w.pieces && !j.failed {
			w.push(number)
		}
	case makeFolder:
		a.Object = int(w.folders.asked(number))
	case createBeside, renameOver:
		a.Beside = true
	case cutLength:
		a.Offset = j.size
	case askEach:
		a.Object, a.MayBeGone = int(j.browsed.next), w.body.Does(Remove)
		j.browsed.next++
		if j.browsed.next < j.browsed.end && int(j.flying) < w.pieces {
			w.push(number)
		}
	}
}

// contentNumber is what the content of a piece is made from.
func contentNumber(file, offset int64, pass int) uint64 {
	return workload.Mixed(uint64(file)*workload.Golden+uint64(offset/workload.Unit)) + uint64(pass)*workload.Golden
}

// Fill makes the bytes of a piece, the same for the same file, place and pass.
func (w *fileWork) Fill(buffer []byte) {
	c := w.content[w.writing.class]
	if c == nil {
		c = FileContent(w.spec, w.writing.class)
		w.content[w.writing.class] = c
	}
	c.At(w.writing.number)
	c.Fill(buffer)
}

// FileContent makes the content of files of a class.
func FileContent(spec workload.Spec, class int) *workload.Content {
	c := Of(spec).Set.Classes[class]
	return workload.NewContent(workload.Spec{Pattern: workload.Pattern{Compressible: c.Compressible, Duplicate: c.Duplicate}, Seed: spec.Seed}, class)
}

// FillFile makes the bytes of a piece of a file as a load finds them at its start.
func FillFile(c *workload.Content, buffer []byte, file, offset int64) {
	c.At(contentNumber(file, offset, -1))
	c.Fill(buffer)
}

// GoesOn makes of an operation that was answered well the one that follows it at once, where
// both are plain and no other job has been waiting.
func (w *fileWork) GoesOn(a *workload.Access) bool {
	j := &w.jobs[a.Handle]
	next := w.tasks[j.task].onward[j.way][j.step]
	if next == taskOver || w.count > 0 {
		return false
	}
	j.step = next
	kind := &kinds[next]
	a.Class, a.Length = kind.class, int(j.size)&int(kind.bytes)
	return true
}

// Completed moves the job on that the operation belongs to. One that failed ends its
// file, but for what the load can do without.
func (w *fileWork) Completed(a *workload.Access, now int64, err error) *workload.Whole {
	number := int(a.Handle)
	j := &w.jobs[number]
	j.flying--
	if w.flushes {
		w.flushes = false
		w.startPass(now)
		return nil
	}
	s := j.step
	if s == askEach {
		return w.browsed(number, a, now, err)
	}
	if err != nil && !w.skips(a, err) {
		j.failed = true
	}
	if !kinds[s].plain {
		switch {
		case s == makeFolder:
			w.madeFolder(int64(a.Object), err)
			if !j.failed { // the next folder, or the file
				return w.goOn(number, now)
			}
		case j.failed:
		case (s == readAll || s == writeAll) && j.offset < j.size:
			w.push(number)
			return nil
		case s == listFolder:
			first, count := w.files.In(j.file)
			j.browsed.next, j.browsed.end = first, first+count
		}
	}
	if j.flying > 0 || j.queued {
		return nil
	}
	if j.failed {
		return w.giveUp(number, s, now)
	}
	w.advance(j)
	return w.goOn(number, now)
}

// advance takes a job to what follows its step.
func (w *fileWork) advance(j *fileJob) {
	j.step = w.tasks[j.task].after[j.way][j.step]
	j.offset = 0
}

// goOn hands a job on to what it does next, or ends it.
func (w *fileWork) goOn(number int, now int64) *workload.Whole {
	if !w.arrive(number) {
		return nil
	}
	j := &w.jobs[number]
	task := &w.tasks[j.task]
	w.whole = workload.Whole{Group: w.group(int(j.task), int(j.class)), Began: j.began}
	if task.moves {
		w.whole.Bytes = j.size
	}
	w.done(number, now)
	if task.folders { // one without files
		return nil
	}
	return &w.whole
}

// browsed counts a file whose attributes were asked for, and goes on with the next of its
// folder.
func (w *fileWork) browsed(number int, a *workload.Access, now int64, err error) (whole *workload.Whole) {
	j := &w.jobs[number]
	if err == nil {
		w.whole = workload.Whole{Group: w.group(int(j.task), w.files.At(int64(a.Object)).Class), Began: j.began}
		whole = &w.whole
	}
	j.began = now
	switch {
	case j.browsed.next < j.browsed.end:
		w.push(number)
	case j.flying == 0:
		w.done(number, now)
	}
	return whole
}

// group is the number of the group of a file that is done with now.
func (w *fileWork) group(task, class int) int {
	number := (task*len(w.body.Set.Classes) + class) * w.apart
	if w.apart > 1 {
		number += w.pass
	}
	return number
}

// done gives a job another file.
func (w *fileWork) done(number int, now int64) {
	if w.draws != nil {
		w.draws.done(w, &w.jobs[number])
	}
	w.active--
	w.begin(number, now)
}

// giveUp ends a file of which an operation failed: what is open is closed first.
func (w *fileWork) giveUp(number int, failed step, now int64) *workload.Whole {
	j := &w.jobs[number]
	after := &w.tasks[j.task].after[j.way]
	for s := after[j.step]; s != taskOver && s != createBeside; s = after[s] { // nothing of the second half is open
		if (s == closeOld || s == closeNew) && failed != openOld && failed != createNew && failed != createBeside && failed != makeFolder {
			j.step = s
			w.push(number)
			return nil
		}
	}
	w.done(number, now)
	return nil
}

// madeFolder tells those who wait for it that a folder is there.
func (w *fileWork) madeFolder(folder int64, err error) {
	for _, waiting := range w.folders.answered(folder, err) {
		if w.arrive(waiting) {
			panic("a task ends with its folder")
		}
	}
}

// Words says what an operation is about, with the name of the file or folder.
func (w *fileWork) Words(a workload.Access) string {
	words := a.Class.Verb()
	if a.Class.Moves() {
		words = fmt.Sprintf("%s %d bytes at offset %d", words, a.Length, a.Offset)
	}
	switch {
	case a.Object == Everything:
		return words + " of all files"
	case a.Class == measure.MakeFolder || a.Class == measure.List:
		return words + " of " + string(w.files.Folder(nil, int64(a.Object)))
	}
	return words + " of " + string(w.files.Path(nil, int64(a.Object)))
}

// skips reports whether the rest of a file can be done without an operation that failed.
func (w *fileWork) skips(a *workload.Access, err error) bool {
	switch a.Class {
	case measure.Flush, measure.Truncate, measure.Rename:
		return w.Without(*a, err)
	}
	return false
}

// Without reports whether the load goes on: the file system lacks an operation, or does
// not take it, and the others tell the user what to expect of it.
func (w *fileWork) Without(a workload.Access, err error) bool {
	switch a.Class {
	case measure.Flush, measure.Truncate, measure.Attributes, measure.List, measure.Rename, measure.Remove:
	default:
		return false
	}
	for _, refused := range []error{syscall.EOPNOTSUPP, syscall.ENOSYS, syscall.EINVAL, syscall.EXDEV, syscall.EPERM} {
		if errors.Is(err, refused) {
			return true
		}
	}
	return false
}

// Over reports that all files were gone through.
func (w *fileWork) Over() bool { return w.ended && w.active == 0 && w.count == 0 }
