// Package console holds the built web console. Its sources are in src; they
// are built into dist by 'make build'.
package console

import (
	"embed"
	"encoding/json"
	"io/fs"
	"strings"
)

//go:embed all:dist
var dist embed.FS

// Files are the files of the built console; without a build there is no
// index.html among them.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	return files
}

//go:embed src/pages.json
var list []byte

// pages are the paths of the console's own pages, as its router has them: a part that begins
// with a colon stands for anything.
var pages = func() (pages [][]string) {
	var paths []string
	if err := json.Unmarshal(list, &paths); err != nil {
		panic(err) // the list is embedded above, and a test reads it
	}
	for _, path := range paths {
		pages = append(pages, parts(path))
	}
	return pages
}()

// parts are the parts of a path between slashes.
func parts(path string) []string { return strings.Split(strings.Trim(path, "/"), "/") }

// IsPage reports whether a path, without its leading slash, is one of the
// console's own.
func IsPage(path string) bool {
	asked := parts(path)
	for _, page := range pages {
		if len(page) != len(asked) {
			continue
		}
		same := true
		for i, part := range page {
			same = same && (part == asked[i] || strings.HasPrefix(part, ":") && asked[i] != "")
		}
		if same {
			return true
		}
	}
	return false
}
