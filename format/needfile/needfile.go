// Package needfile reads need sheets: YAML that says what uses demand of storage. Every
// mistake is reported with its line and column. docs/needs.md lists all keys.
//
//	name: A day at the station
//	headroom: 1.2
//	capacity: 8TB
//	survives: [any member, a power cut]
//	uses:
//	  - name: samples ledger
//	    stage: small transactions
//	    bounds: {p99: at most 20ms, iops: at least 2000}
package needfile

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/mistake"
	"patientheron/core/need"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/format/planfile"
	"patientheron/format/strictyaml"
)

// Error is a mistake in a need sheet and where it is.
type Error = strictyaml.Error

type entries = map[string]func(ast.Node) error

// Read reads a need and makes sure that it can be. Errors are *Error.
func Read(text []byte) (n need.Need, err error) {
	document, err := strictyaml.Parse(text, "a need with its uses")
	if err != nil {
		return n, err
	}
	places := strictyaml.Places{}
	err = places.Mapping(document, "a need", "", entries{
		"name": strictyaml.Text(&n.Name), "why": strictyaml.Text(&n.Why),
		"headroom": strictyaml.Parsed(&n.Headroom, quantity.ParseNumber),
		"capacity": strictyaml.Parsed(&n.Capacity, quantity.ParseBytes),
		"growth":   strictyaml.Parsed(&n.Growth, quantity.ParseShare),
		"years":    strictyaml.Parsed(&n.Years, quantity.ParseNumber),
		"budget":   strictyaml.Parsed(&n.Budget, quantity.ParseNumber),
		"together": strictyaml.Truth(&n.Together),
		"survives": func(node ast.Node) error {
			return strictyaml.Several(node, "survives", func(i int, node ast.Node) error {
				places[fmt.Sprintf("survives[%d]", i)] = node
				n.Survives = append(n.Survives, "")
				return strictyaml.Parsed(&n.Survives[i], setup.ParseFailure)(node)
			})
		},
		"uses": func(node ast.Node) error {
			return strictyaml.Sequence(node, "uses", func(node ast.Node) error {
				n.Uses = append(n.Uses, need.Use{})
				i := len(n.Uses) - 1
				return use(places, node, fmt.Sprintf("uses[%d]", i), &n.Uses[i])
			})
		},
	})
	if err != nil {
		return n, err
	}
	if err := n.Validate(); err != nil {
		var field *mistake.Error
		at := document
		if errors.As(err, &field) {
			at = places.Find(field.Field, document)
		}
		return n, strictyaml.Fail(at, err, "%s", err)
	}
	return n, nil
}

func use(places strictyaml.Places, n ast.Node, at string, u *need.Use) error {
	return places.Mapping(n, "a use", at, entries{
		"name": strictyaml.Text(&u.Name), "stage": strictyaml.Text(&u.Stage), "users": strictyaml.Number(&u.Users),
		"headroom": strictyaml.Parsed(&u.Headroom, quantity.ParseNumber),
		"load": func(n ast.Node) error {
			load, err := planfile.ReadLoad(n)
			u.Load = &load
			return err
		},
		"bounds": func(n ast.Node) error { return bounds(places, n, at+".bounds", u) },
	})
}

// bounds reads what each figure has to be, in the order in which they stand there.
func bounds(places strictyaml.Places, n ast.Node, at string, u *need.Use) error {
	e := entries{}
	for _, key := range strictyaml.Keys(n) {
		e[key] = func(n ast.Node) error {
			text, err := strictyaml.Scalar(n)
			if err != nil {
				return err
			}
			b, err := need.ParseBound(key, text)
			if err != nil {
				return strictyaml.Fail(n, nil, "%s", err)
			}
			u.Bounds = append(u.Bounds, b)
			return nil
		}
	}
	return places.Mapping(n, "bounds", at, e)
}
