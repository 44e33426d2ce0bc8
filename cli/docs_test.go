package cli

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"patientheron/format/arrayfile"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/format/planfile"
)

// Every file that the docs show whole is read: a plan, a need sheet, a list of parts, an array.
func TestFilesOfTheDocsAreRead(t *testing.T) {
	pages, err := filepath.Glob("../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	kinds := []struct {
		what string
		is   *regexp.Regexp
		read func([]byte) error
	}{
		{"plan", regexp.MustCompile(`(?m)^stages:`), func(text []byte) error { _, err := planfile.Read(text); return err }},
		{"need sheet", regexp.MustCompile(`(?m)^uses:`), func(text []byte) error { _, err := needfile.Read(text); return err }},
		{"list of parts", regexp.MustCompile(`(?m)^drives:`), func(text []byte) error { _, err := partsfile.Read(text); return err }},
		{"array", regexp.MustCompile(`(?m)^members:`), func(text []byte) error { _, err := arrayfile.Read(text); return err }},
	}
	read := map[string]int{}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		for _, block := range regexp.MustCompile("(?ms)^```yaml[^\n]*\n(.*?)^```").FindAllSubmatch(text, -1) {
			for _, kind := range kinds {
				if kind.is.Match(block[1]) && strings.Contains(string(block[1]), "layout:") == (kind.what == "array") {
					if read[kind.what]++; kind.read(block[1]) != nil {
						t.Errorf("a %s of %s: %v\n%s", kind.what, page, kind.read(block[1]), block[1])
					}
					break
				}
			}
		}
	}
	for _, kind := range kinds {
		if read[kind.what] == 0 {
			t.Errorf("the docs show no %s", kind.what)
		}
	}
}
