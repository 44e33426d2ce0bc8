package files

import (
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func init() {
	workload.Register(Kind, workload.Registration{
		New: func() workload.Body { return &Files{} }, Heading: "Files", Fields: fields,
		Words: "Files, and the tasks on them. What a load of blocks says is derived from these",
	})
}

var fields = []workload.Field{
	workload.NewField("files", "files", "work on files: so many of a size, such as '1000 x 64KiB + 3 x 1GiB', or a file set (docs/files.md): its path on the command line, its text elsewhere", setFiles, func(s *workload.Spec) string { return read(s, func(f *Files) string { return FormatSet(f.Set) }) }),
	workload.NewField("task", "task", "task on each file: put, fetch, save, ask, browse or remove, or a mix such as fetch:3,save:1", setTasks, func(s *workload.Spec) string { return read(s, func(f *Files) string { return FormatTasks(f.Tasks) }) }),
	workload.OwnField("from", "from", "put the files of this folder of the service's host, read from there as they are written; how fast it can be read is measured first", folder, func(f *Files) *string { return &f.From }, Change, Of),
	workload.SpecField("passes", "passes", "passes over all files, instead of or besides a time", strconv.Atoi, func(s *workload.Spec) *int { return &s.Passes }),
	workload.OwnField("atOnce", "at-once", "files that each worker has in progress (default: its depth)", strconv.Atoi, func(f *Files) *int { return &f.AtOnce }, Change, Of),
	workload.OwnField("piece", "piece", "bytes of a file read or written at a time (default: 1MiB)", quantity.ParseBytes, func(f *Files) *quantity.Bytes { return &f.Piece }, Change, Of),
	workload.OwnField("visit", "visit", "order of the files: listed, shuffled or by-class", workload.OneOf(Listed, Shuffled, ByClass), func(f *Files) *Visit { return &f.Visit }, Change, Of),
	workload.OwnField("flush", "flush", "when written data are flushed to stable storage: never, each (file) or end (of a pass)", workload.OneOf(FlushNever, FlushEach, FlushEnd), func(f *Files) *Flushing { return &f.Flush }, Change, Of),
	workload.OwnField("treeSeed", "tree-seed", "seed of the random file sizes", workload.Unsigned, func(f *Files) *uint64 { return &f.TreeSeed }, Change, Of),
}

// read reads something of the body of a load of files; "" of another.
func read(s *workload.Spec, what func(*Files) string) string {
	if f := Of(*s); f != nil {
		return what(f)
	}
	return ""
}

func setFiles(s *workload.Spec, text string) error {
	set, err := ParseSet(text)
	if err != nil {
		return err
	}
	Use(s, set)
	return nil
}

func setTasks(s *workload.Spec, text string) error {
	shares, err := ParseTasks(text)
	if err != nil {
		return err
	}
	Change(s, func(f *Files) { f.Tasks = shares })
	return nil
}

// folder reads the whole path of one.
func folder(text string) (string, error) {
	text = strings.TrimSpace(text)
	if !filepath.IsAbs(text) {
		return "", fmt.Errorf("%q is not a whole path; name a folder of the service's host", text)
	}
	return filepath.Clean(text), nil
}
