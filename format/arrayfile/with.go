package arrayfile

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/array"
	"patientheron/core/plan"
	"patientheron/format/strictyaml"
)

// ErrKey is wrapped by errors about a key that no array file has.
var ErrKey = errors.New("not a key of an array file")

// ReadWith reads a description in which some keys have other values than the text
// gives them, and makes sure that it is possible. A key is named by the parts that it
// stands in, "link.mtu" or "caches[0].size"; parts that are not there are added, and the
// value "none" takes a key or a part away. Values are YAML.
//
// Errors of the text itself are *Error; others name the settings.
func ReadWith(text []byte, settings []plan.Setting) (array.Description, error) {
	d, err := Read(text)
	if err != nil || len(settings) == 0 {
		return d, err
	}
	document, err := strictyaml.Parse(text, "an array with its members")
	for _, s := range settings {
		if err == nil {
			document, err = with(document, s)
		}
	}
	if err == nil {
		d, err = describe(document)
	}
	if err != nil {
		return d, fmt.Errorf("with %s: %w", plan.Describe(settings), placeless(err))
	}
	return d, nil
}

// CheckKey reports a name that is no key of an array file; what value it may take is
// known only with the file. The error wraps ErrKey.
func CheckKey(name string) error {
	of, err := steps(name)
	if err != nil {
		return err
	}
	for i := range of {
		of[i].number = min(of[i].number, 0) // of a list as long as it has to be
	}
	value, err := strictyaml.Parse([]byte("''"), "")
	if err == nil {
		value, err = put(nil, of, value)
	}
	if err == nil {
		if _, err = describe(value); !errors.Is(err, strictyaml.ErrKey) {
			return nil
		}
	}
	return fmt.Errorf("%w: %q: %w", ErrKey, name, placeless(err))
}

// placeless takes the line and column from an error, which would be those of a value
// alone.
func placeless(err error) error {
	var placed *Error
	if errors.As(err, &placed) {
		return placed.Placeless()
	}
	return err
}

// step is one part of the name of a key: a key of a mapping, or a number in a list.
type step struct {
	key    string
	number int // -1 for a key
}

// steps reads the name of a key.
func steps(name string) (of []step, err error) {
	for part := range strings.SplitSeq(name, ".") {
		key, rest, numbered := strings.Cut(part, "[")
		if key == "" || strings.ContainsFunc(key, func(r rune) bool { return (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') }) {
			return nil, fmt.Errorf("%w: %q; name it by the parts it stands in, such as link.mtu or caches[0].size", ErrKey, name)
		}
		of = append(of, step{key, -1})
		if !numbered {
			continue
		}
		number, err := strconv.Atoi(strings.TrimSuffix(rest, "]"))
		if err != nil || number < 0 || !strings.HasSuffix(rest, "]") {
			return nil, fmt.Errorf("%w: %q; the parts of a list have numbers from 0, such as caches[0].size", ErrKey, name)
		}
		of = append(of, step{"", number})
	}
	return of, nil
}

// with gives a document in which a key has another value.
func with(document ast.Node, s plan.Setting) (ast.Node, error) {
	of, err := steps(s.Field)
	if err != nil {
		return nil, err
	}
	var value ast.Node
	if strings.TrimSpace(s.Value) != "none" {
		if value, err = strictyaml.Parse([]byte(s.Value), "a value"); err != nil {
			return nil, err
		}
	}
	return put(document, of, value)
}

// put gives a node in which a value stands where the steps lead; nil takes away what
// is there. A nil node is one that is not there.
func put(n ast.Node, of []step, value ast.Node) (ast.Node, error) {
	switch {
	case len(of) == 0:
		return value, nil
	case of[0].number >= 0:
		return putNumbered(n, of, value)
	}
	if list, is := n.(*ast.SequenceNode); is && len(list.Values) == 1 {
		n = list.Values[0] // a list of one is that one
	} else if is {
		return nil, fmt.Errorf("%w: there are %d of what %s belongs to; say which by a number, such as members[0].count", strictyaml.ErrInvalid, len(list.Values), of[0].key)
	}
	made, err := mapping(n, of[0].key)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(made.Values, func(v *ast.MappingValueNode) bool { return strictyaml.Key(v) == of[0].key })
	if made.Values[at].Value, err = put(present(made.Values[at].Value), of[1:], value); err != nil {
		return nil, err
	}
	if made.Values[at].Value == nil {
		made.Values = slices.Delete(made.Values, at, at+1)
	}
	return made, nil
}

// putNumbered is put for a list, of which one mapping may stand for a list of one.
func putNumbered(n ast.Node, of []step, value ast.Node) (ast.Node, error) {
	list, is := n.(*ast.SequenceNode)
	if !is {
		empty, err := strictyaml.Parse([]byte("[]"), "")
		if err != nil {
			return nil, err
		}
		list = empty.(*ast.SequenceNode)
		if n != nil {
			list.Values = []ast.Node{n}
		}
	}
	number := of[0].number
	if number > len(list.Values) {
		return nil, fmt.Errorf("%w: there are %d in the list; the next has number %d, not %d", strictyaml.ErrInvalid, len(list.Values), len(list.Values), number)
	}
	if number == len(list.Values) {
		list.Values = append(list.Values, nil)
	}
	var err error
	if list.Values[number], err = put(list.Values[number], of[1:], value); err != nil {
		return nil, err
	}
	if list.Values[number] == nil {
		list.Values = slices.Delete(list.Values, number, number+1)
	}
	return list, nil
}

// mapping is a node as a mapping that has a key.
func mapping(n ast.Node, key string) (*ast.MappingNode, error) {
	parsed, err := strictyaml.Parse([]byte("{"+key+": null}"), "")
	if err != nil {
		return nil, err
	}
	made, is := parsed.(*ast.MappingNode)
	if !is {
		return nil, fmt.Errorf("%w: %q", ErrKey, key)
	}
	switch n := n.(type) {
	case nil:
		return made, nil
	case *ast.MappingValueNode:
		made.Values = append(made.Values, n)
	case *ast.MappingNode:
		made.Values = append(made.Values, n.Values...)
	default:
		return nil, fmt.Errorf("%w: %s is no part with keys", strictyaml.ErrInvalid, n)
	}
	if slices.ContainsFunc(made.Values[1:], func(v *ast.MappingValueNode) bool { return strictyaml.Key(v) == key }) {
		made.Values = made.Values[1:]
	}
	return made, nil
}

// present is a value; nil for one that was not there.
func present(n ast.Node) ast.Node {
	if _, is := n.(*ast.NullNode); is {
		return nil
	}
	return n
}
