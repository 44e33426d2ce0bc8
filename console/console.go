// Package console holds the built web console. Its sources are in src; they
// are built into dist by 'make build'.
package console

import (
	"embed"
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

// pages are the first parts of the paths of the console's own pages, and
// whether a second part follows, as src/main.tsx has them.
var pages = []struct {
	path   string
	second bool
}{
	{"", false}, {"sign-in", false}, {"runs", false}, {"runs", true}, {"arrays", true}, {"look", true},
	{"compare", false}, {"compare", true}, {"measure", false}, {"volumes", false},
}

// IsPage reports whether a path, without its leading slash, is one of the
// console's own.
func IsPage(path string) bool {
	first, second, more := strings.Cut(strings.TrimSuffix(path, "/"), "/")
	for _, p := range pages {
		if p.path == first && p.second == more && !strings.Contains(second, "/") {
			return true
		}
	}
	return false
}
