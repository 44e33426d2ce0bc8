// Package setupfile reads and writes setups as YAML: what stands behind a
// volume, part by part, as far as it is known. Every mistake is reported with
// its line and column. docs/setups.md lists all keys.
//
//	media:
//	  - {kind: hard disk, count: 6, size: 4TB, randomReadRate: 200}
//	layout: {level: raid5, chunk: 64KiB}
//	cache:
//	  - {medium: ssd, mode: read-only, size: 400GB, devices: 1}
package setupfile

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"

	"patientheron/core/mistake"
	"patientheron/core/setup"
	"patientheron/format/strictyaml"
)

// Error is a mistake in a setup file and where it is.
type Error = strictyaml.Error

// Read reads facts that a user tells, and makes sure that they can be true
// together. Errors are *Error.
func Read(text []byte, at time.Time) (setup.Setup, error) {
	r := reader{at: at, places: map[string]ast.Node{}}
	document, err := strictyaml.Parse(text, "a setup")
	if err != nil {
		return r.s, err
	}
	if err := r.parts(document); err != nil {
		return r.s, err
	}
	if err := r.s.Validate(); err != nil {
		var field *mistake.Error
		where := document
		if errors.As(err, &field) && r.places[field.Field] != nil {
			where = r.places[field.Field]
		}
		return r.s, strictyaml.Fail(where, err, "%s", err)
	}
	return r.s, nil
}

// reader remembers where each fact stands.
type reader struct {
	s      setup.Setup
	at     time.Time
	places map[string]ast.Node
}

type entries = map[string]func(ast.Node) error

// repeated and single are the parts of a setup, by whether there can be
// several of them.
func partNames() (repeated, single []string) {
	single = []string{"session", "tuning"}
	for _, f := range setup.Fields() {
		part, _, _ := strings.Cut(f.Key, ".")
		if name, several := strings.CutSuffix(part, "[]"); several && !slices.Contains(repeated, name) {
			repeated = append(repeated, name)
		} else if !several && !slices.Contains(single, part) {
			single = append(single, part)
		}
	}
	return repeated, single
}

func (r *reader) parts(document ast.Node) error {
	e := entries{}
	repeated, single := partNames()
	for _, part := range repeated {
		e[part] = func(n ast.Node) error {
			number := 0
			return strictyaml.Sequence(n, part, func(n ast.Node) error {
				number++
				return r.facts(n, fmt.Sprintf("%s[%d]", part, number-1))
			})
		}
	}
	for _, part := range single {
		e[part] = func(n ast.Node) error { return r.facts(n, part) }
	}
	return strictyaml.Mapping(document, "a setup", e)
}

// facts reads one part.
func (r *reader) facts(n ast.Node, part string) error {
	e := entries{}
	for _, key := range strictyaml.Keys(n) {
		e[key] = func(value ast.Node) error {
			text, err := strictyaml.Scalar(value)
			if err != nil {
				return err
			}
			fact := part + "." + key
			r.places[fact] = value
			var field *mistake.Error
			err = r.s.Set(fact, text, setup.Told, r.at)
			if errors.As(err, &field) {
				return strictyaml.Fail(value, err, "%s: %s", fact, field.Reason)
			}
			return err
		}
	}
	return strictyaml.Mapping(n, part, e)
}

// Write writes a setup so that Read gives the same facts. Where they came from
// is written as comments.
func Write(s setup.Setup) ([]byte, error) {
	var b strings.Builder
	part := ""
	list := ""
	for _, f := range s.Facts {
		at, name, _ := strings.Cut(f.Key, ".")
		indent := "  "
		if head, _, several := strings.Cut(at, "["); several {
			if head != list {
				fmt.Fprintf(&b, "%s:\n", head)
				list = head
			}
			indent = "    "
			if at != part {
				indent = "  - "
			}
		} else if at != part {
			fmt.Fprintf(&b, "%s:\n", at)
		}
		part = at
		value, err := yaml.Marshal(f.Value)
		if err != nil {
			return nil, fmt.Errorf("write %s: %w", f.Key, err)
		}
		fmt.Fprintf(&b, "%s%s: %s # %s\n", indent, name, strings.TrimSpace(string(value)), f.Origin)
	}
	if b.Len() == 0 {
		return []byte("{} # nothing is known of it\n"), nil
	}
	return []byte(b.String()), nil
}
