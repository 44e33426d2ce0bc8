package strictyaml

import (
	"cmp"
	"maps"
	"slices"

	"github.com/goccy/go-yaml/ast"
)

// Places remembers where the parts of a document stand, by names such as
// "members[0].count", so that a mistake that is found later has its place.
type Places map[string]ast.Node

// Mapping is Mapping for a part of some name, whose place and those of its keys are
// remembered.
func (p Places) Mapping(n ast.Node, what, at string, entries map[string]func(ast.Node) error) error {
	p[at] = n
	noted := map[string]func(ast.Node) error{}
	for key, read := range entries {
		noted[key] = func(n ast.Node) error {
			name := key
			if at != "" {
				name = at + "." + key
			}
			p[name] = n
			return read(n)
		}
	}
	return Mapping(n, what, noted)
}

// Find is the place of a part, or of the nearest one that holds it.
func (p Places) Find(field string, otherwise ast.Node) ast.Node {
	for field != "" {
		if n := p[field]; n != nil {
			return n
		}
		cut := len(field) - 1
		for cut > 0 && field[cut] != '.' && field[cut] != '[' {
			cut--
		}
		field = field[:cut]
	}
	return otherwise
}

// Several reads one thing or a list of them, each with its number.
func Several(n ast.Node, what string, each func(int, ast.Node) error) error {
	if _, isList := n.(*ast.SequenceNode); !isList {
		return each(0, n)
	}
	i := -1
	return Sequence(n, what, func(n ast.Node) error { i++; return each(i, n) })
}

// Stated are the names of all single values that say something, neither zero nor false, in the
// order in which they stand.
func (p Places) Stated() (names []string) {
	names = slices.Sorted(maps.Keys(p))
	names = slices.DeleteFunc(names, func(name string) bool {
		text, err := Scalar(p[name])
		return err != nil || text == "false" || isZero(text)
	})
	slices.SortStableFunc(names, func(a, b string) int {
		x, y := p[a].GetToken().Position, p[b].GetToken().Position
		return cmp.Or(cmp.Compare(x.Line, y.Line), cmp.Compare(x.Column, y.Column))
	})
	return names
}

// isZero reports a number without any digit but zeros, whatever its unit.
func isZero(text string) bool {
	digits := 0
	for _, c := range text {
		switch {
		case c == '0':
			digits++
		case c >= '1' && c <= '9':
			return false
		case c != '.' && digits == 0:
			return false
		}
	}
	return digits > 0
}
