package simulated

import (
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"

	"patientheron/core/array"
	"patientheron/core/fileset"
	"patientheron/core/judge"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

func mirrorStripe() array.Description {
	return array.Description{Name: "mirror stripe", Members: []array.Group{{Count: 4, Medium: array.Flash, Capacity: 200 * quantity.GiB}}, Layout: array.Layout{Level: array.MirrorStripe}}
}

func simulate(t *testing.T, d array.Description) *Volume {
	t.Helper()
	v, err := New(d)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func filesLoad(task loadfiles.Task, classes ...fileset.Class) workload.Spec {
	s := workload.Default()
	loadfiles.Use(&s, fileset.Set{Classes: classes})
	loadfiles.Of(s).Tasks = []loadfiles.TaskShare{{Task: task, Weight: 1}}
	s.For, s.Passes, s.Depth = 0, 1, 16
	return s
}

// measured makes the files ready and measures.
func measured(t *testing.T, v *Volume, spec workload.Spec) measure.Summary {
	t.Helper()
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		t.Fatal(err)
	}
	opened, err := v.Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	o, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil {
		t.Fatal(err)
	}
	if o.Failure != nil {
		t.Fatal(o.Failure)
	}
	return o.Summary
}

// Every task is done with every file, on a file system that stays from one measurement
// to the next, and blocks can be measured on the array between them.
func TestTasksOnSimulatedArrays(t *testing.T) {
	v := simulate(t, mirrorStripe())
	classes := []fileset.Class{{Name: "large", Number: 5, Size: fileset.Sizes{Fixed: 30_000_000}}, {Name: "small", Number: 3000, Size: fileset.Sizes{From: 1, To: 20_000}, Folders: fileset.Folders{Files: 100}}}
	for _, task := range []loadfiles.Task{loadfiles.Put, loadfiles.Fetch, loadfiles.Save, loadfiles.Ask, loadfiles.Browse, loadfiles.Remove, loadfiles.Fetch} {
		spec := filesLoad(task, classes...)
		spec.Workers = 3
		s := measured(t, v, spec)
		files, err := loadfiles.Of(spec).WorkedOut()
		if err != nil {
			t.Fatal(err)
		}
		if s.Classes[measure.File].Operations != files.Len() || s.Ending != measure.ByPasses {
			t.Errorf("%s: %d of %d files, ended by %s", task, s.Classes[measure.File].Operations, files.Len(), s.Ending)
		}
		if moved := task == loadfiles.Put || task == loadfiles.Fetch || task == loadfiles.Save; moved && s.Total.Bytes%files.Bytes() != 0 {
			t.Errorf("%s moved %d bytes of %d", task, s.Total.Bytes, files.Bytes())
		}
		blocks := workload.Default()
		blocks.For = 0.5
		if s := measured(t, v, blocks); s.Total.Operations == 0 {
			t.Error("no blocks were read")
		}
	}
}

// The same load gives the same figures each time.
func TestSimulatedFilesAreRepeatable(t *testing.T) {
	spec := filesLoad(loadfiles.Save, fileset.Class{Name: "small", Number: 2000, Size: fileset.Sizes{Median: 8000, Spread: 2}})
	one, other := measured(t, simulate(t, mirrorStripe()), spec), measured(t, simulate(t, mirrorStripe()), spec)
	if !reflect.DeepEqual(one, other) {
		t.Errorf("%+v is not %+v", one.Total, other.Total)
	}
}

// Large files cost what their blocks cost.
func TestLargeFilesCostTheirBlocks(t *testing.T) {
	for _, d := range []array.Description{mirrorStripe(), {Name: "disks", Members: []array.Group{{Count: 6, Medium: array.HardDisk, Capacity: 400 * quantity.GiB}}, Layout: array.Layout{Level: array.DoubleParity}}} {
		for _, task := range []loadfiles.Task{loadfiles.Put, loadfiles.Fetch} {
			spec := filesLoad(task, fileset.Class{Name: "images", Number: 1, Size: fileset.Sizes{Fixed: 4 * quantity.GiB}})
			loadfiles.Of(spec).AtOnce = 1
			blocks := workload.Default()
			blocks.Blocks, blocks.Order, blocks.Depth, blocks.Span, blocks.For, blocks.Amount = workload.Block(quantity.MiB), workload.Sequential, 16, 4*quantity.GiB, 0, 4*quantity.GiB
			if task == loadfiles.Put {
				blocks.Reads = 0
			}
			// A fresh array for each, and the same place on the disks.
			files, plain := measured(t, simulate(t, d), spec).Total.Throughput, measured(t, simulate(t, d), blocks).Total.Throughput
			if ratio := float64(files) / float64(plain); math.Abs(ratio-1) > 0.02 {
				t.Errorf("%s, %s: files %s, blocks %s, ratio %.3f", d.Name, task, files, plain, ratio)
			}
		}
	}
}

// Passes over an array with a cache rise as far as it covers the classes: what fits is
// answered by the cache from the second pass on, what does not stays as it was.
func TestClassesThatFitTheCacheGain(t *testing.T) {
	d := mirrorStripe()
	d.Members = []array.Group{{Count: 6, Medium: array.HardDisk, Capacity: 400 * quantity.GiB}}
	d.Caches = []array.Cache{{Name: "memory", Mode: array.ReadOnly, Size: quantity.GiB}}
	v := simulate(t, d)
	notes := fileset.Class{Name: "notes", Number: 6000, Size: fileset.Sizes{Fixed: 32 * quantity.KiB}, Folders: fileset.Folders{Files: 500}}
	images := fileset.Class{Name: "images", Number: 12, Size: fileset.Sizes{Fixed: 512 * quantity.MiB}}
	rate := func(c fileset.Class) (first, second float64) {
		spec := filesLoad(loadfiles.Fetch, c)
		loadfiles.Of(spec).Visit = loadfiles.Shuffled
		for pass, at := range []*float64{&first, &second} {
			spec.Seed = uint64(pass + 1)
			*at = float64(measured(t, v, spec).Total.Throughput)
		}
		return first, second
	}
	if first, second := rate(notes); second < 4*first {
		t.Errorf("notes of 190 MiB: %.0f and then %.0f MB/s", first/1e6, second/1e6)
	}
	if first, second := rate(images); second > 1.3*first {
		t.Errorf("images of 6 GiB: %.0f and then %.0f MB/s", first/1e6, second/1e6)
	}
}

// Passes within one measurement are counted apart, class by class, and add up to all.
func TestPassesAreCountedApart(t *testing.T) {
	d := mirrorStripe()
	d.Members = []array.Group{{Count: 6, Medium: array.HardDisk, Capacity: 400 * quantity.GiB}}
	d.Caches = []array.Cache{{Name: "memory", Mode: array.ReadOnly, Size: quantity.GiB, Bypass: 512 * quantity.KiB}}
	notes := fileset.Class{Name: "notes", Number: 6000, Size: fileset.Sizes{Fixed: 32 * quantity.KiB}, Folders: fileset.Folders{Files: 500}}
	images := fileset.Class{Name: "images", Number: 12, Size: fileset.Sizes{Fixed: 512 * quantity.MiB}}
	spec := filesLoad(loadfiles.Fetch, notes, images)
	spec.Passes, loadfiles.Of(spec).Visit, spec.Workers = 4, loadfiles.ByClass, 2
	s := measured(t, simulate(t, d), spec)
	var files, bytes int64
	for i, g := range s.Groups {
		files, bytes = files+g.Operations, bytes+int64(g.Bytes)
		c := []fileset.Class{notes, images}[i/4]
		if want := fmt.Sprintf("%s, pass %d", c.Name, i%4+1); g.Name != want || g.Operations != int64(c.Number) {
			t.Errorf("%d files of %q, and %q has %d", g.Operations, g.Name, want, c.Number)
		}
	}
	if len(s.Groups) != 8 || files != s.Classes[measure.File].Operations || bytes != int64(s.Total.Bytes) {
		t.Errorf("%d groups with %d files and %d bytes, of %d and %d", len(s.Groups), files, bytes, s.Classes[measure.File].Operations, s.Total.Bytes)
	}
	findings := judge.Findings(judge.Observed{Load: spec, Summary: s})
	i := slices.IndexFunc(findings, func(f judge.Finding) bool { return f.Kind == "passes" })
	if i < 0 {
		t.Fatalf("what went past the cache and what fits is not told apart: %+v", findings)
	}
	// What fits gains, and what goes past it stays.
	if e := findings[i].Evidence; e[0].Value > -0.75 || math.Abs(e[1].Value) > 0.05 || !strings.Contains(findings[i].Sentence, `"images" took the same in all passes`) {
		t.Errorf("%s %+v", findings[i].Sentence, e)
	}
	spec.Passes = 33 // of two classes more than an interval tells apart
	if names := spec.Groups(); len(names) != 2 || names[0] != "notes" {
		t.Errorf("%d groups: %v", len(names), names)
	}
}

func TestFilesThatDoNotFit(t *testing.T) {
	d := mirrorStripe()
	d.Members[0].Capacity = 4 * quantity.GiB
	v := simulate(t, d)
	err := v.Ready(t.Context(), filesLoad(loadfiles.Fetch, fileset.Class{Name: "images", Number: 8, Size: fileset.Sizes{Fixed: 2 * quantity.GiB}}), nil)
	if !errors.Is(err, volume.ErrNoSpace) {
		t.Errorf("got %v", err)
	}
	// What is put until the room ends is counted, and the failure is that of the room.
	spec := filesLoad(loadfiles.Put, fileset.Class{Name: "images", Number: 8, Size: fileset.Sizes{Fixed: 1200 * quantity.MiB}})
	loadfiles.Of(spec).Piece = 64 * quantity.MiB
	if err := v.Ready(t.Context(), spec, nil); err != nil {
		t.Fatal(err)
	}
	opened, err := v.Use(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	o, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
	if err != nil || o.Failure == nil || o.Summary.Ending != measure.ByFailure || len(o.Summary.Faults) == 0 || o.Summary.Faults[0].Kind != "no space" || o.Summary.Faults[0].Of != "writes" {
		t.Errorf("%v, %v, %+v", err, o.Failure, o.Summary.Faults)
	}
}
