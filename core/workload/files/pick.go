package files

import (
	"math/bits"

	"patientheron/core/fileset"
	"patientheron/core/workload"
)

// inOrder goes through all files, or folders, once in each pass.
type inOrder struct {
	count   int64
	folders bool
	places  []permutation // of the classes, or of all files; empty for as they are listed
	starts  []int64
}

func newOrder(w *fileWork) *inOrder {
	p := &inOrder{count: w.files.Len()}
	if w.tasks[0].folders {
		p.folders, p.count = true, w.files.FolderCount()
	}
	p.newPass(w)
	return p
}

func (p *inOrder) newPass(w *fileWork) {
	key := workload.Mixed(w.spec.Seed) ^ workload.Mixed(uint64(w.pass)+workload.Golden) // the same for all workers
	p.places, p.starts = p.places[:0], p.starts[:0]
	switch {
	case w.body.Visit == Shuffled || p.folders && w.body.Visit == ByClass:
		p.places, p.starts = append(p.places, newPermutation(uint64(p.count), key)), append(p.starts, 0)
	case w.body.Visit == ByClass:
		for class := range w.body.Set.Classes {
			count, _ := w.files.Of(class)
			p.places = append(p.places, newPermutation(uint64(count), key^uint64(class)))
			p.starts = append(p.starts, w.files.First(class))
		}
	}
}

// next is the one at the next place.
func (p *inOrder) next(w *fileWork, j *fileJob) bool {
	for {
		place := w.next*w.of + w.worker
		if place >= p.count {
			return false
		}
		w.next++
		for i := len(p.places) - 1; i >= 0; i-- {
			if place >= p.starts[i] {
				place = p.starts[i] + int64(p.places[i].at(uint64(place-p.starts[i])))
				break
			}
		}
		j.file = place
		if !p.folders {
			return true
		}
		if _, files := w.files.In(place); files > 0 {
			return true
		}
	}
}

// permutation visits each of so many numbers once, in an order that a key gives: a
// network of four rounds on as many bits as it takes, and again where the number is none
// of them (Black and Rogaway, Ciphers with arbitrary finite domains, 2002).
type permutation struct {
	count uint64
	half  int // bits
	key   uint64
}

func newPermutation(count, key uint64) permutation {
	return permutation{count: count, half: max((bits.Len64(max(count, 1)-1)+1)/2, 1), key: key}
}

func (p permutation) at(i uint64) uint64 {
	mask := uint64(1)<<p.half - 1
	for {
		left, right := i>>p.half, i&mask
		for round := range uint64(4) {
			left, right = right, left^(workload.Mixed(right^workload.Mixed(p.key+round*workload.Golden))&mask)
		}
		if i = left<<p.half | right; i < p.count {
			return i
		}
	}
}

// draws picks tasks and files at random, as a mix asks for. Where files are removed it
// knows which are there.
type draws struct {
	below []uint64 // a draw below this chooses the task
	own   int64    // files of this worker
	there []uint64 // bits of those that are; nil for all
	count int64    // of those that are there
	lacks []bool   // whether a task needs a file that is not there: a put where files are removed
}

func newDraws(w *fileWork) *draws {
	d := &draws{own: (w.files.Len() - w.worker + w.of - 1) / w.of}
	sum, total := 0.0, 0.0
	for _, t := range w.body.Tasks {
		total += t.Weight
	}
	for _, t := range w.body.Tasks {
		sum += t.Weight
		d.below = append(d.below, workload.Threshold(sum/total))
		d.lacks = append(d.lacks, t.Task == Put && w.body.Does(Remove))
	}
	d.below[len(d.below)-1] = ^uint64(0)
	if w.body.Does(Remove) {
		d.there, d.count = make([]uint64, (d.own+63)/64), d.own
		for i := range d.own {
			d.there[i/64] |= 1 << (i % 64)
		}
	}
	return d
}

// tries is how many files are drawn before all of them are looked through.
const tries = 32

// next draws a task, and a file for it.
func (d *draws) next(w *fileWork, j *fileJob) bool {
	draw := w.random.Uint64()
	for j.task = 0; draw >= d.below[j.task] && int(j.task) < len(d.below)-1; j.task++ {
	}
	if w.tasks[j.task].folders {
		for range tries {
			j.file = w.random.Int64N(w.files.FolderCount())
			if _, files := w.files.In(j.file); files > 0 {
				return true
			}
		}
		j.file = w.files.FolderOf(w.random.Int64N(w.files.Len()))
		return true
	}
	if d.find(w, j, d.lacks[j.task]) {
		return true
	}
	// None is there, or all are: what can be done instead is to turn that round.
	for task := range d.lacks {
		if j.task = int16(task); !w.tasks[task].folders && d.find(w, j, d.lacks[task]) {
			return true
		}
	}
	return false
}

// find draws a file that is there, or that is not, and that no job works on.
func (d *draws) find(w *fileWork, j *fileJob, lacking bool) bool {
	at := w.random.Int64N(d.own)
	for i := range tries + d.own {
		if i < tries {
			at = w.random.Int64N(d.own)
		} else if at++; at == d.own {
			at = 0
		}
		if file := at*w.of + w.worker; d.is(at) != lacking && !w.worksOn(file) {
			j.file = file
			return true
		}
	}
	return false
}

func (d *draws) is(own int64) bool { return d.there == nil || d.there[own/64]>>(own%64)&1 == 1 }

// done notes what a job did to its file.
func (d *draws) done(w *fileWork, j *fileJob) {
	if d.there == nil || j.failed {
		return
	}
	own := (j.file - w.worker) / w.of
	switch w.body.Tasks[j.task].Task {
	case Put:
		d.there[own/64] |= 1 << (own % 64)
	case Remove:
		d.there[own/64] &^= 1 << (own % 64)
	}
}

// worksOn reports whether a job has a file.
func (w *fileWork) worksOn(file int64) bool {
	for i := range w.jobs {
		if j := &w.jobs[i]; j.busy && j.file == file && !w.tasks[j.task].folders {
			return true
		}
	}
	return false
}

// folderMaker knows which folders a worker has made. Those that others make at the same
// time are made twice, which costs an operation and no harm.
type folderMaker struct {
	files   *fileset.Files
	made    []uint64 // bits
	making  map[int64]bool
	asks    map[int]int64 // folder that each job is to make
	waiting []int         // jobs that wait for others
}

func newFolderMaker(files *fileset.Files) *folderMaker {
	return &folderMaker{files: files, made: make([]uint64, (files.FolderCount()+63)/64), making: map[int64]bool{}, asks: map[int]int64{}}
}

type folderState int

const (
	folderThere     folderState = iota
	folderBeingMade             // by another job
	folderMissing               // the job is to make it
)

// toMake finds the uppermost folder that is missing on the way to one.
func (m *folderMaker) toMake(job int, folder int64) folderState {
	missing := int64(-1)
	for ; folder >= 0 && m.made[folder/64]>>(folder%64)&1 == 0; folder = m.files.Above(folder) {
		missing = folder
	}
	switch {
	case missing < 0:
		return folderThere
	case m.making[missing]:
		m.waiting = append(m.waiting, job)
		return folderBeingMade
	}
	m.making[missing] = true
	m.asks[job] = missing
	return folderMissing
}

func (m *folderMaker) asked(job int) int64 { return m.asks[job] }

// answered notes what came of making a folder, and gives the jobs that waited.
func (m *folderMaker) answered(folder int64, err error) (waiting []int) {
	delete(m.making, folder)
	if err == nil {
		m.made[folder/64] |= 1 << (folder % 64)
	}
	waiting, m.waiting = m.waiting, nil
	return waiting
}
