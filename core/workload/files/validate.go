package files

import (
	"path/filepath"
	"slices"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Validate reports what cannot be of a load of files.
func (f *Files) Validate(s workload.Spec) error {
	if f.From != "" {
		if err := f.validateFrom(); err != nil || len(f.Set.Classes) == 0 {
			return err // what is in the folder is known when it was listed
		}
	}
	if len(f.Set.Classes) == 0 {
		return workload.Invalid("files", "it does not say which files; try 1000 x 64KiB, or the classes of a file set (docs/files.md)")
	}
	if err := f.Set.Validate(); err != nil {
		return workload.Invalid("files", "%v", err)
	}
	if len(f.Tasks) == 0 || len(f.Tasks) > 16 {
		return workload.Invalid("task", "%d tasks; from 1 to 16 of %s", len(f.Tasks), listTasks())
	}
	seen := map[Task]bool{}
	for _, t := range f.Tasks {
		switch {
		case !slices.Contains(tasks, t.Task):
			return workload.Invalid("task", "%q; there are %s", t.Task, listTasks())
		case seen[t.Task]:
			return workload.Invalid("task", "%s is there twice", t.Task)
		case !(t.Weight > 0) || t.Weight > 1e9:
			return workload.Invalid("task", "weight %g of %s; a weight is above 0 and at most 1e9", t.Weight, t.Task)
		}
		seen[t.Task] = true
	}
	if f.Piece < 0 || f.Piece > 64*quantity.MiB || f.Piece > 0 && f.Piece%4096 != 0 {
		return workload.Invalid("piece", "%s; a multiple of 4 KiB up to 64 MiB", f.Piece)
	}
	if f.AtOnce < 0 || f.AtOnce > s.Depth {
		return workload.Invalid("atOnce", "%d files at a time need as many operations in flight, and the depth is %d", f.AtOnce, s.Depth)
	}
	if v := f.Visit; v != "" && v != Listed && v != Shuffled && v != ByClass {
		return workload.Invalid("visit", "%q; listed, shuffled or by-class", v)
	}
	if w := f.Flush; w != "" && w != FlushNever && w != FlushEach && w != FlushEnd {
		return workload.Invalid("flush", "%q; never, each or end", w)
	}
	if f.TreeSeed > 1<<53-1 {
		return workload.Invalid("treeSeed", "%d; at most 9007199254740991, so that every JSON reader keeps it exact", f.TreeSeed)
	}
	files, err := f.WorkedOut()
	if err != nil {
		return workload.Invalid("files", "%v", err)
	}
	switch {
	case files.Len() == 0:
		return workload.Invalid("files", "the set has no files")
	case files.Len() < int64(s.Workers):
		return workload.Invalid("workers", "%d for %d files; each worker has files of its own", s.Workers, files.Len())
	case s.Open() || s.Think > 0:
		return workload.Invalid("rate", "a load of files is worked on as fast as it goes; leave rate and think out")
	case len(f.Tasks) > 1 && s.Passes > 0:
		return workload.Invalid("passes", "a mix draws files and never is through with all of them; say for how long (for), or keep one task")
	case s.Passes > 1 && f.Tasks[0].Task == Remove:
		return workload.Invalid("passes", "files can be removed once")
	}
	return f.validateUnused(s)
}

// validateFrom reports what cannot be of a load that puts the files of a folder.
func (f *Files) validateFrom() error {
	switch {
	case !filepath.IsAbs(f.From):
		return workload.Invalid("from", "%q is not a whole path; name a folder of the service's host", f.From)
	case f.listed != nil:
		return nil
	case len(f.Set.Classes) > 0 || f.Held != nil:
		return workload.Invalid("from", "the files of the folder are what is put; leave files out")
	case !f.Starts():
		return workload.Invalid("from", "the files of a folder can be put, and nothing else is done with them; use task put")
	}
	return nil
}

// validateUnused reports fields of block loads that were set for a load of files.
func (f *Files) validateUnused(s workload.Spec) error {
	worked, plain := s, workload.Default()
	worked.Pattern = f.pattern(s.Cached)
	for _, field := range workload.Fields() {
		value := field.Get(s)
		if !field.Of(Kind) && value != field.Get(worked) && value != field.Get(plain) && value != field.Get(workload.Spec{Pattern: workload.Pattern{Streams: 1}}) {
			return workload.Invalid(field.Name, "is about loads of blocks, and this one is of files; leave it out (files are read and written in pieces of the size piece)")
		}
	}
	return nil
}
