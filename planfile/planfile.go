// Package planfile reads and writes plans as YAML, the form people keep and
// edit. Every mistake is reported with its line and column.
//
// A load is a mapping of the same names that flags and sweeps use; what is
// left out keeps its default. Presets are plan files that ship with the
// product.
//
//	name: Samples ledger
//	stages:
//	  - name: small transactions
//	    load: {block: 8KiB, reads: 70%, depth: 16, for: 60s}
//	    sweep: [{field: depth, values: [1..64]}]
//	    repeats: 3
package planfile

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Error is a mistake in a plan file and where it is.
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

// Unwrap gives the cause: usually workload.ErrInvalid or plan.ErrInvalid.
func (e *Error) Unwrap() error { return e.cause }

// largest is the size of a plan file that is read.
const largest = 1 << 20

// Read reads a plan and makes sure that it is possible. Errors are *Error.
func Read(text []byte) (plan.Plan, error) {
	p, where, err := read(text)
	if err != nil {
		return plan.Plan{}, err
	}
	for i := range p.Stages {
		one := plan.Plan{Stages: p.Stages[i : i+1]}
		if _, err := one.Steps(); err != nil {
			return plan.Plan{}, where[i].locate(err)
		}
	}
	if _, err := p.Steps(); err != nil {
		return plan.Plan{}, &Error{Reason: err.Error(), cause: err}
	}
	return p, nil
}

// places remembers where a stage and the fields of its load stand.
type places struct {
	stage  ast.Node
	fields map[string]ast.Node
}

// locate puts an error about a stage at the field it is about.
func (p places) locate(err error) error {
	at := p.stage
	var field *workload.FieldError
	if errors.As(err, &field) && p.fields[field.Field] != nil {
		at = p.fields[field.Field]
	}
	return fail(at, err, "%s", err)
}

func fail(at ast.Node, cause error, format string, arguments ...any) *Error {
	e := &Error{Reason: fmt.Sprintf(format, arguments...), cause: cause}
	if cause == nil {
		e.cause = plan.ErrInvalid
	}
	if at != nil && at.GetToken() != nil && at.GetToken().Position != nil {
		e.Line, e.Column = at.GetToken().Position.Line, at.GetToken().Position.Column
	}
	return e
}

func read(text []byte) (p plan.Plan, where []places, err error) {
	if len(text) > largest {
		return p, nil, &Error{Reason: fmt.Sprintf("the file has %d bytes; a plan has at most %d", len(text), largest), cause: plan.ErrInvalid}
	}
	file, err := parse(text)
	if err != nil {
		return p, nil, syntaxError(err)
	}
	if len(file.Docs) == 0 || file.Docs[0].Body == nil {
		return p, nil, &Error{Line: 1, Column: 1, Reason: "the file is empty; a plan has stages", cause: plan.ErrInvalid}
	}
	if len(file.Docs) > 1 {
		return p, nil, fail(file.Docs[1].Body, nil, "a second document begins here; a plan file holds one plan")
	}
	err = mapping(file.Docs[0].Body, "a plan", map[string]func(ast.Node) error{
		"name": into(&p.Name),
		"why":  into(&p.Why),
		"stages": func(n ast.Node) error {
			return sequence(n, "stages", func(n ast.Node) error {
				stage, places, err := readStage(n)
				p.Stages, where = append(p.Stages, stage), append(where, places)
				return err
			})
		},
	})
	return p, where, err
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
	e := &Error{Reason: "this is not YAML: " + firstLine(err.Error()), cause: plan.ErrInvalid}
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

func readStage(n ast.Node) (plan.Stage, places, error) {
	stage := plan.Stage{Load: workload.Default()}
	at := places{stage: n, fields: map[string]ast.Node{}}
	err := mapping(n, "a stage", map[string]func(ast.Node) error{
		"name":    into(&stage.Name),
		"load":    func(n ast.Node) error { return readLoad(n, &stage.Load, at.fields) },
		"repeats": number(&stage.Repeats),
		"shuffle": truth(&stage.Shuffle),
		"sweep": func(n ast.Node) error {
			return sequence(n, "sweep", func(n ast.Node) error {
				axis, err := readAxis(n, at.fields)
				stage.Sweep = append(stage.Sweep, axis)
				return err
			})
		},
		"settle": func(n ast.Node) error {
			return mapping(n, "settle", map[string]func(ast.Node) error{
				"pause": parsed(&stage.Settle.Pause, quantity.ParseSeconds),
				"quiet": parsed(&stage.Settle.Quiet, quantity.ParseSeconds),
			})
		},
		"fill": func(n ast.Node) error {
			fill := plan.Fill{Passes: 1}
			stage.Fill = &fill
			return mapping(n, "fill", map[string]func(ast.Node) error{
				"passes": number(&fill.Passes),
				"order":  func(n ast.Node) error { return into((*string)(&fill.Order))(n) },
				"block":  parsed(&fill.Block, quantity.ParseBytes),
			})
		},
	})
	return stage, at, err
}

func readLoad(n ast.Node, load *workload.Spec, where map[string]ast.Node) error {
	entries := map[string]func(ast.Node) error{"name": into(&load.Name)}
	for _, field := range workload.Fields() {
		entries[field.Name] = func(n ast.Node) error {
			where[field.Name] = n
			text, err := scalar(n)
			if err != nil {
				return err
			}
			if err := field.Set(load, text); err != nil {
				return fail(n, err, "%s", err)
			}
			return nil
		}
	}
	return mapping(n, "a load", entries)
}

func readAxis(n ast.Node, where map[string]ast.Node) (axis plan.Axis, err error) {
	var values ast.Node
	err = mapping(n, "an axis of a sweep", map[string]func(ast.Node) error{
		"field": func(n ast.Node) error {
			if err := into(&axis.Field)(n); err != nil {
				return err
			}
			if _, err := workload.Lookup(axis.Field); err != nil {
				return fail(n, err, "%s", err)
			}
			return nil
		},
		"values": func(n ast.Node) error {
			values = n
			if _, isList := n.(*ast.SequenceNode); !isList {
				text, err := scalar(n)
				axis.Values = []string{text}
				return err
			}
			return sequence(n, "values", func(n ast.Node) error {
				text, err := scalar(n)
				axis.Values = append(axis.Values, text)
				return err
			})
		},
	})
	if err == nil && axis.Field == "" {
		return axis, fail(n, nil, "the axis does not say which field it sweeps")
	}
	where[axis.Field] = values
	return axis, err
}

// mapping reads a mapping whose keys are all known and stand once.
func mapping(n ast.Node, what string, entries map[string]func(ast.Node) error) error {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		return fail(n, nil, "%s is a mapping of keys to values, such as 'name: value'", what)
	}
	seen := map[string]bool{}
	for _, value := range values {
		key := value.Key.String()
		entry, known := entries[key]
		if !known {
			return fail(value.Key, nil, "%s has no key %q; it has %s", what, key, strings.Join(sorted(entries), ", "))
		}
		if seen[key] {
			return fail(value.Key, nil, "%q stands here a second time", key)
		}
		seen[key] = true
		if err := entry(value.Value); err != nil {
			return err
		}
	}
	return nil
}

func sequence(n ast.Node, what string, each func(ast.Node) error) error {
	list, ok := n.(*ast.SequenceNode)
	if !ok {
		return fail(n, nil, "%s is a list; begin each entry with '- '", what)
	}
	for _, value := range list.Values {
		if err := each(value); err != nil {
			return err
		}
	}
	return nil
}

// scalar is the text of a single value, without its quotes.
func scalar(n ast.Node) (string, error) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, nil
	case *ast.LiteralNode:
		return strings.TrimSpace(v.Value.Value), nil
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, nil
	}
	return "", fail(n, nil, "a single value is wanted here")
}

func into(place *string) func(ast.Node) error {
	return parsed(place, func(text string) (string, error) { return text, nil })
}

func number(place *int) func(ast.Node) error {
	return parsed(place, func(text string) (int, error) {
		n, err := strconv.Atoi(text)
		if err != nil {
			return 0, fmt.Errorf("%q is not a whole number", text)
		}
		return n, nil
	})
}

func truth(place *bool) func(ast.Node) error {
	return parsed(place, func(text string) (bool, error) {
		if text != "true" && text != "false" {
			return false, fmt.Errorf("%q is neither true nor false", text)
		}
		return text == "true", nil
	})
}

func parsed[T any](place *T, parse func(string) (T, error)) func(ast.Node) error {
	return func(n ast.Node) error {
		text, err := scalar(n)
		if err != nil {
			return err
		}
		if *place, err = parse(text); err != nil {
			return fail(n, nil, "%s", err)
		}
		return nil
	}
}
