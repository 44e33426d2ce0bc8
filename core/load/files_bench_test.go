package load_test

import (
	"testing"

	"patientheron/core/fileset"
	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/storage/null"
)

// nullFiles takes operations on files, and answers them at once.
type nullFiles struct{ null.Volume }

func (nullFiles) Facts() load.Facts {
	return load.Facts{Size: quantity.TiB, Alignment: 1, Files: true}
}

// BenchmarkFilesFetched is what a small file costs in the engine alone: one that is opened,
// read and closed.
func BenchmarkFilesFetched(b *testing.B) {
	s := workload.Default()
	files.Use(&s, fileset.Set{Classes: []fileset.Class{{Name: "small", Number: int64(b.N), Size: fileset.Sizes{Fixed: 4096}, Folders: fileset.Folders{Files: 1000}}}})
	files.Of(s).Tasks = []files.TaskShare{{Task: files.Fetch, Weight: 1}}
	s.For, s.Passes, s.Depth, s.Cached = 0, 1, 16, true
	if _, err := load.Run(b.Context(), load.Job{Workload: s, Volume: nullFiles{}, Clock: load.NewMonotonic()}); err != nil {
		b.Fatal(err)
	}
}
