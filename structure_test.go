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

// rules say what the packages below a folder may import of this module, and of
// others. The first rule that fits a package counts.
var rules = []struct {
	folder string
	own    []string // prefixes within the module
	others []string // prefixes of other modules; "*" for any
}{
	{"core", []string{"core"}, []string{"gonum.org", "github.com/HdrHistogram"}},
	{"storage", []string{"core", "storage", "arrayfile"}, []string{"golang.org/x/sys"}},
	{"patient", nil, nil},
	{"host", []string{"core", "host", "patient"}, []string{"golang.org/x/sys", "github.com/prometheus/procfs"}},
	{"strictyaml", nil, []string{"github.com/goccy/go-yaml"}},
	{"planfile", []string{"core", "strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"arrayfile", []string{"core", "strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"demo", []string{"core", "planfile"}, nil},
	{"resource", []string{"core"}, nil},
	{"setupfile", []string{"core", "strictyaml"}, []string{"github.com/goccy/go-yaml"}},
	{"report", []string{"core", "resource", "planfile"}, []string{"gonum.org"}},
	{"client", []string{"core", "resource"}, nil},
	{"console", nil, nil},
	{"service/access", nil, nil},
	{"service/room", []string{"core"}, []string{"golang.org/x/sys"}},
	{"service/store", []string{"core", "resource", "service/access"}, []string{"*"}},
	{"service/leftover", []string{"resource", "patient", "storage", "service/store"}, nil},
	{"service/look", []string{"core", "resource", "host", "storage", "patient"}, nil},
	{"service/runner", []string{"core", "resource", "host", "storage", "service/store", "service/look", "service/room", "patient"}, nil},
	{"service", []string{"core", "resource", "host", "storage", "patient", "service", "report", "planfile", "setupfile", "client", "console", "strictyaml"}, []string{"*"}},
	{"bench", []string{"core", "storage", "host", "resource", "client", "service"}, []string{"golang.org/x/sys"}},
	{"cli", []string{"core", "host", "resource", "client", "planfile", "setupfile", "demo", "storage", "service", "arrayfile"}, []string{"*"}},
	{"cmd", []string{"cli"}, nil},
	{"e2e", []string{"core", "resource", "client", "host", "planfile", "e2e"}, []string{"*"}},
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
		if !below(folder, rule.folder) {
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
		for _, prefix := range own {
			if below(inside, prefix) {
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
