package localfile

import (
	"os"
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
	"patientheron/storage/volume"
)

// Loads of files and of blocks are at once in one folder: each in a tree, or in the region of
// the test file, of its own; together they are all that was counted, and nothing is left.
func TestFilesBesideBlocks(t *testing.T) {
	folder, traces := t.TempDir(), noted{}
	few := func(name string, task loadfiles.Task, number int64) workload.Spec {
		return treeLoad(task, func(s *workload.Spec) {
			loadfiles.Use(s, fileset.Set{Classes: []fileset.Class{{Name: name, Number: number, Size: fileset.Sizes{Fixed: 40_000}}}})
			s.Name, s.Passes, s.For, s.Depth = name, 0, 1, 4
		})
	}
	blocks := func(name string, size quantity.Bytes) workload.Spec {
		s := workload.Default()
		s.Name, s.Span, s.Blocks, s.Reads, s.Rate = name, 4*quantity.MiB, workload.Block(size), 0.5, 200
		return s
	}
	spec := workload.Default()
	spec.SetTogether()
	spec.Together = []workload.Spec{few("scans", loadfiles.Put, 90), blocks("ledger", 4*quantity.KiB), few("notes", loadfiles.Save, 60), blocks("mail", 16*quantity.KiB)}
	spec.For, spec.WarmUp, spec.Cached = 1, 0, true
	spec = spec.Completed()
	if err := spec.Validate(); err != nil {
		t.Fatal(err)
	}
	reach, writes := spec.Reach()
	o := Opener{Traces: traces}
	l := volume.Locator{Kind: "folder", Name: folder}
	request := volume.Request{Files: []workload.Spec{spec}, Size: reach, Writes: writes}
	if err := o.Check(t.Context(), l, request); err != nil {
		t.Fatal(err)
	}
	v, err := o.prepare(t.Context(), l, request)
	if err != nil {
		t.Fatal(err)
	}
	if len(v.trees) != 2 || reach != 8*quantity.MiB {
		t.Fatalf("%d trees beside %s", len(v.trees), reach)
	}
	total := quantity.Bytes(0)
	for round := range 2 {
		var told, of quantity.Bytes
		if err := v.Ready(t.Context(), spec, func(done, all quantity.Bytes) { told, of = max(told, done), all }); err != nil {
			t.Fatal(err)
		}
		if round == 0 && (told != 60*40_000 || of != 60*40_000) {
			t.Errorf("%s of %s were made", told, of)
		}
		opened, err := v.Use(t.Context(), spec)
		if err != nil {
			t.Fatal(err)
		}
		outcome, err := load.Run(t.Context(), load.Job{Workload: spec, Volume: opened, Clock: load.NewMonotonic()})
		if err != nil || outcome.Failure != nil {
			t.Fatal(err, outcome.Failure)
		}
		if err := opened.Close(); err != nil {
			t.Fatal(err)
		}
		classes := outcome.Summary.Classes
		if len(outcome.Summary.Groups) != 4 {
			t.Fatalf("%d groups", len(outcome.Summary.Groups))
		}
		whole := int64(0)
		for i, p := range spec.Together {
			load, own := spec.Part(i, &outcome.Summary)
			if own.Total.Operations == 0 {
				t.Errorf("%q did nothing", load.Name)
			}
			if p.Kind == loadfiles.Kind {
				whole += own.Total.Operations
				continue
			}
			if n := own.Total.Operations; n > 201 || n*int64(p.Blocks[0].Size) != int64(own.Total.Bytes) {
				t.Errorf("%q did %d of %s, %s together", load.Name, n, p.Blocks[0].Size, own.Total.Bytes)
			}
		}
		if whole != classes[measure.File].Operations {
			t.Errorf("%d whole files of its loads, %d in all", whole, classes[measure.File].Operations)
		}
		total += outcome.Summary.Total.Bytes
	}
	if total == 0 || v.trees[0].whole {
		t.Errorf("%s moved, and files that were put over each other pass for whole", total)
	}
	if err := v.Close(); err != nil {
		t.Fatal(err)
	}
	left, err := os.ReadDir(folder)
	if err != nil || len(left) > 0 || len(traces) > 0 {
		t.Errorf("%d entries are left, %d noted: %v", len(left), len(traces), err)
	}
	small := o.Check(t.Context(), l, volume.Request{Files: []workload.Spec{few("vast", loadfiles.Put, 90_000_000)}, NoBlocks: true})
	if small == nil {
		t.Error("90 million files of 40 kB have room")
	}
}
