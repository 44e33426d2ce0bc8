// Package filesetfile reads and writes file sets: YAML that says what a tree of files is
// like. Every mistake is reported with its line and column. docs/files.md lists all keys.
//
//	name: A summer at sea
//	classes:
//	  - {name: hydrophone pieces, number: 1200, size: 48MiB, ending: .wav}
//	  - {name: photographs, total: 40GiB, size: {median: 6MiB, spread: 1.8}}
package filesetfile

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/fileset"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/format/strictyaml"
)

// Error is a mistake in a file and where it is.
type Error = strictyaml.Error

// Read reads a file set and makes sure that it can be. Errors are *Error.
func Read(text []byte) (fileset.Set, error) {
	document, err := strictyaml.Parse(text, "a file set with its classes")
	if err != nil {
		return fileset.Set{}, err
	}
	return ReadNode(document)
}

// ReadNode reads a file set that is part of another file. Errors are *Error.
func ReadNode(document ast.Node) (s fileset.Set, err error) {
	places := strictyaml.Places{}
	err = places.Mapping(document, "a file set", "", entries{
		"name": strictyaml.Text(&s.Name),
		"classes": func(n ast.Node) error {
			return strictyaml.Several(n, "classes", func(i int, n ast.Node) error {
				s.Classes = append(s.Classes, fileset.Class{})
				return class(places, n, fmt.Sprintf("classes[%d]", i), &s.Classes[i])
			})
		},
	})
	if err != nil {
		return s, err
	}
	if err := s.Validate(); err != nil {
		var field *mistake.Error
		at := document
		if errors.As(err, &field) {
			at = places.Find(field.Field, document)
		}
		return s, strictyaml.Fail(at, err, "%s", err)
	}
	return s, nil
}

type entries = map[string]func(ast.Node) error

func class(places strictyaml.Places, n ast.Node, at string, c *fileset.Class) error {
	return places.Mapping(n, "a class of files", at, entries{
		"name": strictyaml.Text(&c.Name), "number": strictyaml.Parsed(&c.Number, number), "total": bytes(&c.Total), "ending": strictyaml.Text(&c.Ending),
		"compressible": share(&c.Compressible), "duplicate": share(&c.Duplicate),
		"size": func(n ast.Node) error { return sizes(places, n, at+".size", &c.Size) },
		"folders": func(n ast.Node) error {
			return places.Mapping(n, "folders", at+".folders", entries{"files": strictyaml.Number(&c.Folders.Files), "deep": strictyaml.Number(&c.Folders.Deep)})
		},
	})
}

// sizes reads a size, a range, a median with its spread, or a list of bins.
func sizes(places strictyaml.Places, n ast.Node, at string, s *fileset.Sizes) error {
	places[at] = n
	switch n.(type) {
	case *ast.SequenceNode:
		return strictyaml.Several(n, "bins", func(i int, n ast.Node) error {
			s.Bins = append(s.Bins, fileset.Bin{})
			b := &s.Bins[i]
			return places.Mapping(n, "a bin", fmt.Sprintf("%s[%d]", at, i), entries{"to": bytes(&b.To), "share": share(&b.Share), "mean": bytes(&b.Mean)})
		})
	case *ast.MappingNode, *ast.MappingValueNode:
		return places.Mapping(n, "sizes", at, entries{
			"from": bytes(&s.From), "to": bytes(&s.To), "median": bytes(&s.Median), "most": bytes(&s.Most),
			"spread": strictyaml.Parsed(&s.Spread, quantity.ParseNumber),
		})
	}
	return bytes(&s.Fixed)(n)
}

func bytes(place *quantity.Bytes) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseBytes)
}

func share(place *quantity.Share) func(ast.Node) error {
	return strictyaml.Parsed(place, quantity.ParseShare)
}

// number reads how many files there are: "1200" or "20k".
func number(text string) (int64, error) {
	digits, times := text, int64(1)
	for unit, of := range map[string]int64{"k": 1e3, "M": 1e6} {
		if rest, is := strings.CutSuffix(text, unit); is {
			digits, times = strings.TrimSpace(rest), of
		}
	}
	value, err := strconv.ParseInt(digits, 10, 64)
	if err != nil || value > 1<<40 {
		return 0, fmt.Errorf("%q is not a number of files; write it like 1200 or 20k", text)
	}
	return value * times, nil
}

// Write writes a file set so that reading it gives the same one; shares are rounded to a
// hundred millionth.
func Write(s fileset.Set) []byte {
	var out strings.Builder
	if s.Name != "" {
		fmt.Fprintf(&out, "name: %q\n", s.Name)
	}
	out.WriteString("classes:\n")
	for _, c := range s.Classes {
		fmt.Fprintf(&out, "  - name: %q\n", c.Name)
		if c.Number > 0 {
			fmt.Fprintf(&out, "    number: %d\n", c.Number)
		} else {
			fmt.Fprintf(&out, "    total: %s\n", exact(c.Total))
		}
		if c.Ending != "" {
			fmt.Fprintf(&out, "    ending: %q\n", c.Ending)
		}
		writeSizes(&out, c.Size)
		for _, part := range []struct {
			name  string
			share quantity.Share
		}{{"compressible", c.Compressible}, {"duplicate", c.Duplicate}} {
			if part.share > 0 {
				fmt.Fprintf(&out, "    %s: %s\n", part.name, percent(part.share))
			}
		}
		if f := c.Folders; f.Files > 0 || f.Deep > 0 {
			fmt.Fprintf(&out, "    folders: {files: %d, deep: %d}\n", f.Files, f.Deep)
		}
	}
	return []byte(out.String())
}

func writeSizes(out *strings.Builder, s fileset.Sizes) {
	switch {
	case s.To > 0:
		fmt.Fprintf(out, "    size: {from: %s, to: %s}\n", exact(s.From), exact(s.To))
	case s.Median > 0:
		fmt.Fprintf(out, "    size: {median: %s, spread: %s", exact(s.Median), strconv.FormatFloat(s.Spread, 'g', -1, 64))
		if s.Most > 0 {
			fmt.Fprintf(out, ", most: %s", exact(s.Most))
		}
		out.WriteString("}\n")
	case len(s.Bins) > 0:
		out.WriteString("    size:\n")
		for _, b := range s.Bins {
			fmt.Fprintf(out, "      - {to: %s, share: %s", exact(b.To), percent(b.Share))
			if b.Mean > 0 {
				fmt.Fprintf(out, ", mean: %s", exact(b.Mean))
			}
			out.WriteString("}\n")
		}
	default:
		fmt.Fprintf(out, "    size: %s\n", exact(s.Fixed))
	}
}

// exact is a size in the shortest way that says all of it.
func exact(b quantity.Bytes) string {
	text, err := b.MarshalYAML()
	if err != nil {
		return b.Full()
	}
	return string(text)
}

func percent(s quantity.Share) string {
	return strings.TrimRight(strings.TrimRight(strconv.FormatFloat(float64(s)*100, 'f', 6, 64), "0"), ".") + "%"
}
