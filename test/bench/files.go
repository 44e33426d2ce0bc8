package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"time"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/core/workload/streams"
	"patientheron/host"
	"patientheron/storage/localfile"
	"patientheron/storage/simulated"
	"patientheron/storage/volume"
)

// nowhere forgets the names of what is made.
type nowhere struct{}

func (nowhere) Note(string, string) error { return nil }
func (nowhere) Forget(string)             {}
func (nowhere) Left(string)               {}

// filesOf is a load that goes once through so many files.
func filesOf(task files.Task, count int64, size quantity.Bytes) workload.Spec {
	s := workload.Default()
	files.Use(&s, fileset.Set{Classes: []fileset.Class{{Name: "small", Number: count, Size: fileset.Sizes{Fixed: size}, Folders: fileset.Folders{Files: 1000}}}})
	files.Of(s).Tasks = []files.TaskShare{{Task: task, Weight: 1}}
	files.Of(s).Piece = max(size, 4096)
	s.For, s.Passes, s.Depth, s.Cached = 0, 1, 16, true
	return s
}

// benched are files in a folder that a load goes through.
type benched struct {
	volume volume.Volume
	spec   workload.Spec
}

// ready makes the files that a load finds, in a folder.
func ready(folder string, s workload.Spec) (benched, error) {
	v, err := localfile.Opener{Traces: nowhere{}}.Prepare(context.Background(), volume.Locator{Kind: "folder", Name: folder}, volume.Request{Files: []workload.Spec{s}, NoBlocks: true})
	if err != nil {
		return benched{}, err
	}
	if err := v.(volume.Readier).Ready(context.Background(), s, nil); err != nil {
		return benched{}, errors.Join(err, v.Close())
	}
	return benched{v, s}, nil
}

// through goes through the files, and gives how many were done a second and how many
// allocations were made meanwhile.
func (b benched) through(passes int) (rate float64, allocated uint64, err error) {
	s := b.spec
	s.Passes = passes
	opened, err := b.volume.Use(context.Background(), s)
	if err != nil {
		return 0, 0, err
	}
	defer opened.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	outcome, err := load.Run(context.Background(), load.Job{Workload: s, Volume: opened, Clock: load.NewMonotonic(), Observe: func(measure.Interval) {}})
	if err != nil {
		return 0, 0, err
	}
	runtime.ReadMemStats(&after)
	return float64(outcome.Summary.Classes[measure.File].Rate), after.Mallocs - before.Mallocs, outcome.Failure
}

// putFiles is how many files a second are made in a folder.
func putFiles(folder string, count int64) (float64, error) {
	b, err := ready(folder, filesOf(files.Put, count, 4096))
	if err != nil {
		return 0, err
	}
	rate, _, err := b.through(1)
	return rate, errors.Join(err, b.volume.Close())
}

// bareFolder is a folder with those within that the loop in C puts files into.
func bareFolder(in string, count int64) (string, error) {
	folder, err := os.MkdirTemp(in, "bare-")
	if err != nil {
		return "", err
	}
	digits := len(strconv.FormatInt((count-1)/1000, 10))
	for i := range count / 1000 {
		if err := os.MkdirAll(filepath.Join(folder, "small", fmt.Sprintf("%0*d", digits, i)), 0o700); err != nil {
			return "", err
		}
	}
	return folder, nil
}

// bareFiles runs the loop in C over as many files in a folder.
func bareFiles(folder string, count int64, task files.Task) (float64, error) {
	out, err := exec.Command(filepath.Join(filepath.Dir(os.Args[0]), "bare-files"), folder, strconv.FormatInt(count, 10), "16", string(task)).Output()
	if err != nil {
		return 0, fmt.Errorf("run the bare loop over files: %w; 'make bench' builds it", err)
	}
	return strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
}

// barePut makes files anew, and removes them.
func barePut(in string, count int64) (float64, error) {
	folder, err := bareFolder(in, count)
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(folder)
	return bareFiles(folder, count, files.Put)
}

// smallFiles holds the engine against the bare loop on a file system in memory.
func smallFiles() error {
	folder, err := os.MkdirTemp("/dev/shm", "heron-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if err := errors.Join(puts(folder), fetches(folder)); err != nil {
		return err
	}
	if err := manyFeeds(); err != nil {
		return err
	}
	return simulatedFiles()
}

const againstLoop = "files of 4 KiB in memory, %s, depth 16: engine against a bare io_uring loop in C"

func puts(folder string) error {
	const count = 50_000
	made, err := paired(narrow,
		func() (float64, error) { return putFiles(folder, count) },
		func() (float64, error) { return barePut(folder, count) },
	)
	if err != nil {
		return err
	}
	row(fmt.Sprintf(againstLoop, "make, write, close"), "0.9", "%s, %.0f k against %.0f k a second", made, made.ours/1e3, made.theirs/1e3)
	return nil
}

func fetches(folder string) error {
	const count = 100_000
	b, err := ready(folder, filesOf(files.Fetch, count, 4096))
	if err != nil {
		return err
	}
	defer b.volume.Close()
	same, err := filepath.Glob(filepath.Join(folder, ".*", "files")) // what they read are the same files
	if err != nil || len(same) != 1 {
		return fmt.Errorf("the files to read lie in %q: %w", same, err)
	}
	read, err := paired(narrow,
		func() (float64, error) { rate, _, err := b.through(1); return rate, err },
		func() (float64, error) { return bareFiles(same[0], count, files.Fetch) },
	)
	if err != nil {
		return err
	}
	row(fmt.Sprintf(againstLoop, "open, read, close"), "0.9", "%s, %.0f k against %.0f k a second", read, read.ours/1e3, read.theirs/1e3)
	_, once, err := b.through(1)
	if err != nil {
		return err
	}
	_, thrice, err := b.through(3)
	if err != nil {
		return err
	}
	row("allocations for each further file", "0", "%.5f", max(float64(thrice)-float64(once), 0)/(2*count))
	return nil
}

// manyFeeds is what a hundred feeds cost beyond their bytes, which the null volume does not
// move.
func manyFeeds() error {
	s := workload.Default()
	s.SetBody(&streams.Feeds{Count: 100, Rate: 1e6})
	s.For, s.Span = 5, 10*quantity.GiB
	outcome, err := load.Run(context.Background(), load.Job{Workload: s, Volume: nothing, Clock: load.NewMonotonic(), Thread: host.ThreadUse, Observe: func(measure.Interval) {}})
	if err != nil {
		return err
	}
	share := float64(outcome.Summary.WorkerCPUPerOp) * float64(outcome.Summary.Total.Rate)
	row("a hundred feeds of 1 MB/s on the null volume: share of a core", "2 %", "%.2f %%", 100*share)
	return nil
}

// simulatedFiles is how fast virtual time goes with files, and what many of them take.
func simulatedFiles() error {
	s := workload.Default()
	files.Use(&s, fileset.Set{Classes: []fileset.Class{
		{Name: "notes", Number: 400_000, Size: fileset.Sizes{From: 1024, To: 16 << 10}, Folders: fileset.Folders{Files: 500}},
		{Name: "photographs", Number: 2000, Size: fileset.Sizes{Median: 200 << 10, Spread: 2}, Folders: fileset.Folders{Files: 200}},
	}})
	s.For, s.Passes, s.Depth = 0, 1, 16
	d := array.Description{Name: "mirror stripe", Members: []array.Group{{Count: 4, Medium: array.Flash, Capacity: 400 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}}
	for _, task := range []files.Task{files.Put, files.Fetch} {
		files.Of(s).Tasks = []files.TaskShare{{Task: task, Weight: 1}}
		rate, err := virtualFiles(d, s)
		if err != nil {
			return err
		}
		row(fmt.Sprintf("simulated mirror stripe of SSDs, a mixed set, %s: files a second of the wall", task), "200 k", "%.0f k", rate/1e3)
	}
	many := filesOf(files.Fetch, 10_000_000, 8192)
	files.Of(many).Set.Classes[0].Size = fileset.Sizes{From: 0, To: 16 << 10}
	many.Passes, many.For = 0, 0.5
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	if _, err := virtualFiles(d, many); err != nil {
		return err
	}
	runtime.ReadMemStats(&after) // with what is no longer used
	row("ten million files on a simulated array: memory, at most", "1 GiB", "%s", quantity.Bytes(after.HeapAlloc-min(before.HeapAlloc, after.HeapAlloc)))
	return nil
}

// virtualFiles measures on a simulated array, and gives the files a second of the wall's
// clock.
func virtualFiles(d array.Description, s workload.Spec) (float64, error) {
	v, err := simulated.New(d)
	if err != nil {
		return 0, err
	}
	if err := v.Ready(context.Background(), s, nil); err != nil {
		return 0, err
	}
	opened, err := v.Use(context.Background(), s)
	if err != nil {
		return 0, err
	}
	defer opened.Close()
	began := time.Now()
	outcome, err := load.Run(context.Background(), load.Job{Workload: s, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil {
		return 0, err
	}
	return float64(outcome.Summary.Classes[measure.File].Operations) / time.Since(began).Seconds(), outcome.Failure
}
