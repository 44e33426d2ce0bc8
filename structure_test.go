// Package patientheron_test holds the project to its own map.
package patientheron_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// rules say what each package may import of this module, and of others. A package
// without a rule is in no room of the map.
var rules = []struct {
	folder string
	own    []string // packages of this module; "…/..." for those below too
	others []string // prefixes of other modules; "*" for any
}{
	{"core/quantity", nil, nil},
	{"core/measure", []string{"core/quantity"}, []string{"github.com/HdrHistogram"}},
	{"core/workload", []string{"core/mistake", "core/quantity", "core/measure"}, nil},
	{"core/workload/block", []string{"core/quantity", "core/measure", "core/figure", "core/workload"}, nil},
	{"core/workload/files", []string{"core/quantity", "core/measure", "core/figure", "core/workload", "core/fileset"}, nil},
	{"core/workload/streams", []string{"core/quantity", "core/measure", "core/figure", "core/workload"}, nil},
	{"core/workload/stores", []string{"core/quantity", "core/measure", "core/figure", "core/workload", "core/fileset", "core/logstore"}, nil},
	{"core/workload/kinds", []string{"core/workload/..."}, nil},
	{"core/logstore", nil, nil},
	{"core/statistics", nil, []string{"gonum.org"}},
	{"core/claim", nil, nil},
	{"core/renamed", nil, nil},
	{"core/mistake", nil, nil},
	{"core/wall", nil, nil},
	{"core/quiet", []string{"core/wall"}, nil},
	{"core/plan", []string{"core/quantity", "core/workload", "core/workload/kinds", "core/figure"}, nil},
	{"core/load", []string{"core/mistake", "core/quantity", "core/wall", "core/measure", "core/workload", "core/workload/kinds"}, nil},
	{"core/figure", []string{"core/quantity", "core/measure", "core/workload"}, nil},
	{"core/setup", []string{"core/mistake", "core/quantity", "core/mechanics", "core/workload", "core/workload/kinds"}, nil},
	{"core/judge", []string{"core/claim", "core/quantity", "core/statistics", "core/measure", "core/workload", "core/setup"}, []string{"gonum.org"}},
	{"core/compare", []string{"core/claim", "core/quantity", "core/quiet", "core/measure", "core/workload", "core/setup", "core/plan", "core/figure", "core/judge"}, []string{"gonum.org"}},
	{"core/answer", []string{"core/quantity", "core/measure", "core/workload", "core/plan", "core/figure", "core/judge", "core/compare"}, nil},
	{"core/need", []string{"core/mistake", "core/claim", "core/quantity", "core/workload", "core/setup", "core/plan", "core/figure", "core/judge", "core/compare"}, nil},
	{"core/choose", []string{"core/mistake", "core/claim", "core/quantity", "core/wall", "core/measure", "core/workload", "core/array", "core/setup", "core/judge", "core/compare", "core/need"}, []string{"golang.org/x/sync"}},
	{"core/tune", []string{"core/claim", "core/quantity", "core/measure", "core/workload", "core/plan", "core/figure", "core/judge", "core/compare"}, nil},
	{"core/efficiency", []string{"core/claim", "core/quantity", "core/workload", "core/figure", "core/judge", "core/compare"}, nil},
	{"core/twin", []string{"core/claim", "core/quantity", "core/wall", "core/statistics", "core/measure", "core/workload", "core/plan", "core/array", "core/figure", "core/compare"}, []string{"gonum.org", "golang.org/x/sync"}},
	{"core/race", []string{"core/quantity", "core/statistics", "core/measure", "core/workload", "core/setup", "core/judge"}, []string{"gonum.org"}},
	{"core/fileset", []string{"core/mistake", "core/quantity"}, nil},
	{"core/mechanics", []string{"core/quantity"}, nil},
	{"core/agenda", nil, nil},
	{"core/pagecache", []string{"core/quantity"}, nil},
	{"core/filesystem", []string{"core/quantity", "core/measure", "core/fileset", "core/agenda", "core/pagecache"}, nil},
	{"core/array", []string{"core/mistake", "core/quantity", "core/mechanics", "core/setup", "core/filesystem", "core/pagecache"}, nil},
	{"patient", []string{"core/wall"}, nil},
	{"storage/volume", []string{"core/..."}, nil},
	{"storage/volume/volumetest", []string{"core/..."}, nil},
	{"storage/signature", []string{"core/..."}, []string{"golang.org/x/sys"}},
	{"storage/identity", nil, []string{"golang.org/x/sys"}},
	{"storage/inuse", []string{"storage/identity"}, []string{"golang.org/x/sys"}},
	{"storage/null", []string{"core/...", "storage/volume"}, nil},
	{"storage/simulated", []string{"core/...", "storage/volume", "format/arrayfile"}, []string{"golang.org/x/sys"}},
	{"storage/localfile", []string{"core/...", "storage/volume", "storage/signature", "storage/identity", "storage/inuse", "storage/localfile/uring"}, []string{"golang.org/x/sys"}},
	{"storage/iscsi", []string{"core/...", "storage/volume", "storage/signature", "storage/identity", "storage/inuse", "protocol/...", "format/secretfile"}, []string{"golang.org/x/sys"}},
	{"storage/localfile/uring", nil, []string{"golang.org/x/sys"}},
	{"storage", []string{"core/...", "storage/..."}, nil},
	{"protocol/iscsi", nil, nil},
	{"protocol/iscsi/wire", []string{"core/mistake", "protocol/iscsi"}, []string{"golang.org/x/sys"}},
	{"protocol/scsi", nil, nil},
	{"protocol/httpsign", nil, nil},
	{"served/iscsi", []string{"core/quantity", "core/wall", "core/array", "protocol/..."}, []string{"golang.org/x/sys", "github.com/prometheus"}},
	{"host", []string{"core/...", "patient"}, []string{"golang.org/x/sys", "github.com/prometheus/procfs"}},
	{"format/strictyaml", []string{"core/renamed"}, []string{"github.com/goccy/go-yaml"}},
	{"format/planfile", []string{"core/...", "format/strictyaml", "format/arrayfile", "format/filesetfile"}, []string{"github.com/goccy/go-yaml"}},
	{"format/arrayfile", []string{"core/...", "format/strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"format/filesetfile", []string{"core/...", "format/strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"format/secretfile", []string{"format/strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"format/setupfile", []string{"core/...", "format/strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"format/needfile", []string{"core/...", "format/strictyaml", "format/planfile"}, []string{"github.com/goccy/go-yaml"}},
	{"format/partsfile", []string{"core/...", "format/strictyaml", "format/arrayfile"}, []string{"github.com/goccy/go-yaml"}},
	{"demo", []string{"core/...", "format/planfile"}, nil},
	{"resource", []string{"core/..."}, nil},
	{"report", []string{"core/...", "resource", "format/planfile"}, nil},
	{"client", []string{"core/...", "resource", "protocol/httpsign"}, nil},
	{"console", nil, nil},
	{"service/access", nil, []string{"golang.org/x/sys"}},
	{"service/room", []string{"core/..."}, []string{"golang.org/x/sys"}},
	{"service/store", []string{"core/...", "resource", "service/access"}, []string{"*"}},
	{"service/aside", []string{"core/quantity", "core/wall", "core/array", "core/measure", "core/workload", "resource", "storage/simulated"}, nil},
	{"service/leftover", []string{"resource", "patient", "storage/localfile", "service/store"}, nil},
	{"service/counters", []string{"core/measure"}, []string{"github.com/prometheus"}},
	{"service/look", []string{"core/...", "resource", "host", "storage", "storage/volume", "patient", "service/counters"}, nil},
	{"service/runner", []string{"core/...", "resource", "host", "storage", "storage/volume", "service/store", "service/look", "service/room", "service/counters", "patient"}, nil},
	{"service/api", []string{
		"core/...", "console", "resource", "storage", "storage/volume", "storage/simulated", "patient", "report", "format/...", "protocol/httpsign",
		"service/access", "service/leftover", "service/look", "service/runner", "service/aside", "service/store",
	}, []string{"*"}},
	{"service", []string{"client", "console", "storage", "service/..."}, []string{"golang.org/x/sys"}},
	{"service/servicetest", []string{"client", "service"}, nil},
	{"cli", []string{"core/...", "host", "resource", "report", "client", "format/...", "demo", "protocol/iscsi", "storage", "storage/simulated", "service", "service/api", "served/..."}, []string{"*"}},
	{"cmd/heron", []string{"cli"}, nil},
	{"test/peer", nil, nil},
	{"test/trials", nil, nil},
	{"test/bench", []string{"core/...", "format/...", "storage", "storage/...", "host", "resource", "client", "service/...", "test/peer"}, []string{"golang.org/x/sys"}},
	{"test/lab/proof", []string{"core/...", "storage", "storage/volume"}, nil},
	{"test/e2e/browser", nil, []string{"*"}},
	{"test/pictures", []string{"client", "core/...", "resource", "test/e2e/browser"}, []string{"*"}},
}

func TestImportsFollowTheMap(t *testing.T) {
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if entry.IsDir() && (entry.Name() == "node_modules" || strings.HasPrefix(entry.Name(), ".") && path != ".") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		return checkImports(t, path)
	})
	if err != nil {
		t.Fatal(err)
	}
}

func checkImports(t *testing.T, path string) error {
	file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
	if err != nil {
		return err
	}
	folder := filepath.ToSlash(filepath.Dir(path))
	for _, rule := range rules {
		if folder != rule.folder {
			continue
		}
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			if !allowed(name, rule.own, rule.others) {
				t.Errorf("%s imports %s, which %s may not", path, name, rule.folder)
			}
		}
		return nil
	}
	t.Errorf("%s is in no room of the map; add it to docs/architecture.md and to this test", path)
	return nil
}

func below(path, folder string) bool { return path == folder || strings.HasPrefix(path, folder+"/") }

func allowed(name string, own, others []string) bool {
	if inside, ok := strings.CutPrefix(name, "patientheron/"); ok {
		for _, room := range own {
			if tree, whole := strings.CutSuffix(room, "/..."); inside == room || whole && below(inside, tree) {
				return true
			}
		}
		return false
	}
	if first, _, _ := strings.Cut(name, "/"); !strings.Contains(first, ".") {
		return true // the standard library
	}
	for _, prefix := range others {
		if prefix == "*" || strings.HasPrefix(name, prefix) {
			return true
		}
	}
	return false
}
