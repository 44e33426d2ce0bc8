package strictyaml

import "github.com/goccy/go-yaml/ast"

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
