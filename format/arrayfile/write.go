package arrayfile

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/plan"
	"patientheron/format/strictyaml"
)

// order in which the parts of an array file are written; others come last.
var order = []string{"name", "price", "members", "layout", "caches", "tier", "controller", "link", "limits"}

// WriteWith is a description as text in which some keys have other values than a text gives
// them, as ReadWith reads it, below comments of one line each. Each part stands on a line, or
// each of its parts where it is a list; comments of the text are lost. Errors are those of
// ReadWith.
func WriteWith(text []byte, settings []plan.Setting, comments ...string) ([]byte, error) {
	if _, err := ReadWith(text, settings); err != nil {
		return nil, err
	}
	document, err := strictyaml.Parse(text, "an array with its members")
	for _, s := range settings {
		if err == nil {
			document, err = with(document, s)
		}
	}
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	for _, c := range comments {
		fmt.Fprintf(&out, "# %s\n", strings.Join(strings.Fields(c), " "))
	}
	entries := entriesOf(document)
	slices.SortStableFunc(entries, func(a, b *ast.MappingValueNode) int { return cmp.Compare(rank(a), rank(b)) })
	for _, e := range entries {
		if err := writePart(&out, strictyaml.Key(e), e.Value); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

func entriesOf(n ast.Node) []*ast.MappingValueNode {
	switch n := n.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}

func rank(e *ast.MappingValueNode) int {
	if at := slices.Index(order, strictyaml.Key(e)); at >= 0 {
		return at
	}
	return len(order)
}

func writePart(out *bytes.Buffer, key string, value ast.Node) error {
	list, is := value.(*ast.SequenceNode)
	if !is || len(list.Values) < 2 {
		line, err := Flow(value)
		fmt.Fprintf(out, "%s: %s\n", key, line)
		return err
	}
	fmt.Fprintf(out, "%s:\n", key)
	for _, item := range list.Values {
		line, err := Flow(item)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "  - %s\n", line)
	}
	return nil
}
