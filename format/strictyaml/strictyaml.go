// Package strictyaml reads YAML the way files of Patient Heron want it: every
// key is known, stands once and has the shape it should have, and every
// mistake is reported with its line and column.
//
// Parse gives the document; Mapping, Sequence and the readers of single values
// walk it.
package strictyaml

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"patientheron/core/renamed"
)

// ErrInvalid is wrapped by errors that have no cause of their own.
var ErrInvalid = errors.New("not understood")

// ErrKey is wrapped by errors about keys that a mapping does not have. It is an
// ErrInvalid.
var ErrKey = fmt.Errorf("%w: unknown key", ErrInvalid)

// Error is a mistake in a file and where it is.
type Error struct {
	Line, Column int // from 1; 0 when the place is not known
	Reason       string
	cause        error
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Reason
	}
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Reason)
}

// Placeless is the same error without its place.
func (e *Error) Placeless() *Error { return &Error{Reason: e.Reason, cause: e.cause} }

// Unwrap gives the cause, or ErrInvalid when there is none of its own.
func (e *Error) Unwrap() error { return e.cause }

// What a file may have at most: bytes, bytes in a line, and levels that stand in
// each other. A person's file is far below; the parser takes time and memory
// with the square of them.
const (
	largest = 256 << 10
	longest = 4 << 10
	deepest = 32
)

// Parse reads the one document of a text; what names it in messages, such as
// "a plan".
func Parse(text []byte, what string) (ast.Node, error) {
	if len(text) > largest {
		return nil, &Error{Reason: fmt.Sprintf("the file has %d bytes; at most %d are read", len(text), largest), cause: ErrInvalid}
	}
	if err := shallow(text); err != nil {
		return nil, err
	}
	file, err := parse(text)
	if err != nil {
		return nil, syntaxError(err)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return nil, &Error{Line: 1, Column: 1, Reason: fmt.Sprintf("the file is empty; it should hold %s", what), cause: ErrInvalid}
	}
	if len(file.Docs) > 1 {
		return nil, Fail(file.Docs[1].Body, nil, "a second document begins here; a file holds %s", what)
	}
	return file.Docs[0].Body, nil
}

// shallow refuses what no person writes and the parser chokes on: lines without
// end, and levels within levels. Brackets in quoted text count too, since what
// is quoted is known only after parsing; nobody quotes so many.
func shallow(text []byte) error {
	depth, number := 0, 0
	for line := range bytes.Lines(text) {
		number++
		if len(line) > longest {
			return &Error{Line: number, Column: longest, Reason: fmt.Sprintf("the line has %d bytes; at most %d are read, so break it", len(line), longest), cause: ErrInvalid}
		}
		markers, beginning := 0, true
		for i, c := range line {
			switch c {
			case '[', '{':
				depth++
			case ']', '}':
				depth = max(depth-1, 0)
			case '-', '?', '&', '*', '!', ':':
				if i+1 < len(line) && (line[i+1] == ' ' || c == '&' || c == '*' || c == '!') && beginning {
					markers++
				}
			case ' ', '\t':
			default:
				beginning = false
			}
			if c == '"' || c == '\'' || c == '#' {
				beginning = false
			}
			if depth > deepest || markers > deepest || beginning && i > 8*deepest {
				return &Error{Line: number, Column: i + 1, Reason: fmt.Sprintf("more than %d levels stand in each other here; a file needs fewer", deepest), cause: ErrInvalid}
			}
		}
	}
	return nil
}

// Fail is an error at a node. A nil cause stands for ErrInvalid.
func Fail(at ast.Node, cause error, format string, arguments ...any) *Error {
	e := &Error{Reason: fmt.Sprintf(format, arguments...), cause: cause}
	if cause == nil {
		e.cause = ErrInvalid
	}
	if at != nil && at.GetToken() != nil && at.GetToken().Position != nil {
		e.Line, e.Column = at.GetToken().Position.Line, at.GetToken().Position.Column
	}
	return e
}

// parse parses YAML. A panic of the parser on garbled input is an error like
// any other.
func parse(text []byte) (file *ast.File, err error) {
	defer func() {
		if problem := recover(); problem != nil {
			err = fmt.Errorf("the parser gave up: %v", problem)
		}
	}()
	return parser.ParseBytes(text, 0)
}

// syntaxError finds the place in the parser's own message, which begins with
// "[line:column]".
func syntaxError(err error) *Error {
	e := &Error{Reason: "this is not YAML: " + firstLine(err.Error()), cause: ErrInvalid}
	message := firstLine(err.Error())
	if place, rest, found := strings.Cut(strings.TrimPrefix(message, "["), "] "); found && strings.HasPrefix(message, "[") {
		if line, column, found := strings.Cut(place, ":"); found {
			e.Line, _ = strconv.Atoi(line)
			e.Column, _ = strconv.Atoi(column)
			e.Reason = "this is not YAML: " + rest
		}
	}
	return e
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// Mapping reads a mapping whose keys are all known and stand once.
func Mapping(n ast.Node, what string, entries map[string]func(ast.Node) error) error {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		return Fail(n, nil, "%s is a mapping of keys to values, such as 'name: value'", what)
	}
	seen := map[string]bool{}
	for _, value := range values {
		key := Key(value)
		entry, known := entries[key]
		if now := renamed.Now(key); !known && entries[now] != nil {
			return Fail(value.Key, ErrKey, "%q is called %q now; write that", key, now)
		}
		if !known {
			return Fail(value.Key, ErrKey, "%s has no key %q; it has %s", what, key, strings.Join(slices.Sorted(maps.Keys(entries)), ", "))
		}
		if seen[key] {
			return Fail(value.Key, nil, "%q stands here a second time", key)
		}
		seen[key] = true
		if err := entry(value.Value); err != nil {
			return err
		}
	}
	return nil
}

// Key is the key of a value of a mapping, without its quotes.
func Key(value *ast.MappingValueNode) string {
	if s, quoted := value.Key.(*ast.StringNode); quoted {
		return s.Value
	}
	return value.Key.String()
}

// Keys lists the keys of a mapping, where the caller knows which there may be; none of
// what is no mapping.
func Keys(n ast.Node) (keys []string) {
	switch m := n.(type) {
	case *ast.MappingNode:
		for _, value := range m.Values {
			keys = append(keys, Key(value))
		}
	case *ast.MappingValueNode:
		keys = append(keys, Key(m))
	}
	return keys
}

// Sequence reads a list.
func Sequence(n ast.Node, what string, each func(ast.Node) error) error {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		return Fail(n, nil, "%s is a list; begin each entry with '- '", what)
	}
	for _, value := range list.Values {
		if err := each(value); err != nil {
			return err
		}
	}
	return nil
}

// Scalar is the text of a single value, without its quotes.
func Scalar(n ast.Node) (string, error) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, nil
	case *ast.LiteralNode:
		return strings.TrimSpace(v.Value.Value), nil
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, nil
	}
	return "", Fail(n, nil, "a single value is wanted here")
}

// Text reads a single value as it stands.
func Text(place *string) func(ast.Node) error {
	return Parsed(place, func(text string) (string, error) { return text, nil })
}

// Number reads a whole number.
func Number(place *int) func(ast.Node) error {
	return Parsed(place, func(text string) (int, error) {
		n, err := strconv.Atoi(text)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number", text)
		}
		return n, nil
	})
}

// Truth reads true or false.
func Truth(place *bool) func(ast.Node) error {
	return Parsed(place, func(text string) (bool, error) {
		if text != "true" && text != "false" {
			return false, fmt.Errorf("%q is neither true nor false", text)
		}
		return text == "true", nil
	})
}

// Parsed reads a single value with a parser.
func Parsed[T any](place *T, parse func(string) (T, error)) func(ast.Node) error {
	return func(n ast.Node) error {
		text, err := Scalar(n)
		if err != nil {
			return err
		}
		if *place, err = parse(text); err != nil {
			return Fail(n, nil, "%s", err)
		}
		return nil
	}
}
