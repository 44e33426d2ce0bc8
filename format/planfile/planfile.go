// Package planfile reads and writes plans as YAML, the form people keep and
// edit. Every mistake is reported with its line and column.
//
// A load is a mapping of the same names that flags and sweeps use; what is
// left out keeps its default. Presets are plan files that ship with the
// product. Loads of files that name none work on the files of the plan; "beside: race"
// measures several volumes at the same moment, and not in turn.
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
	"maps"

	"github.com/goccy/go-yaml/ast"

	"patientheron/core/fileset"
	"patientheron/core/mistake"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/arrayfile"
	"patientheron/format/filesetfile"
	"patientheron/format/strictyaml"
)

// Error is a mistake in a plan file and where it is.
type Error = strictyaml.Error

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
		return plan.Plan{}, strictyaml.Fail(nil, err, "%s", err)
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
	var field *mistake.Error
	if errors.As(err, &field) && p.fields[field.Field] != nil {
		at = p.fields[field.Field]
	}
	return strictyaml.Fail(at, err, "%s", err)
}

func read(text []byte) (p plan.Plan, where []places, err error) {
	document, err := strictyaml.Parse(text, "a plan with its stages")
	if err != nil {
		return p, nil, err
	}
	var shared *fileset.Set
	err = strictyaml.Mapping(document, "a plan", map[string]func(ast.Node) error{
		"name": strictyaml.Text(&p.Name),
		"why":  strictyaml.Text(&p.Why),
		"beside": func(n ast.Node) error {
			text, err := strictyaml.Scalar(n)
			if p.Beside = plan.Beside(text); err == nil && p.Beside != plan.InTurn && p.Beside != plan.Race {
				return strictyaml.Fail(n, plan.ErrInvalid, "several volumes are measured \"in turn\" or as a \"race\", not %q", text)
			}
			return err
		},
		"files": func(n ast.Node) error {
			set, err := readSet(n)
			shared = &set
			return err
		},
		"stages": func(n ast.Node) error {
			return strictyaml.Sequence(n, "stages", func(n ast.Node) error {
				stage, places, err := readStage(n)
				p.Stages, where = append(p.Stages, stage), append(where, places)
				return err
			})
		},
	})
	for i := range p.Stages {
		load := &p.Stages[i].Load
		share(load, shared)
		for part := range load.Together {
			share(&load.Together[part], shared)
		}
	}
	return p, where, err
}

// share gives a load of files that names none those of the plan, if it has any.
func share(load *workload.Spec, shared *fileset.Set) {
	if own := files.Of(*load); shared != nil && own != nil && own.From == "" && len(own.Set.Classes) == 0 {
		files.Use(load, *shared)
	}
}

// readSet reads a file set: its classes, or so many files of a size as text.
func readSet(n ast.Node) (fileset.Set, error) {
	if !isText(n) {
		return filesetfile.ReadNode(n)
	}
	text, err := strictyaml.Scalar(n)
	if err != nil {
		return fileset.Set{}, err
	}
	set, err := files.ParseSet(text)
	if err != nil {
		return set, strictyaml.Fail(n, err, "%s", err)
	}
	return set, nil
}

func readStage(n ast.Node) (plan.Stage, places, error) {
	stage := plan.Stage{Load: workload.Default()}
	at := places{stage: n, fields: map[string]ast.Node{}}
	err := strictyaml.Mapping(n, "a stage", map[string]func(ast.Node) error{
		"name":    strictyaml.Text(&stage.Name),
		"load":    func(n ast.Node) error { return readLoad(n, &stage.Load, at.fields) },
		"repeats": strictyaml.Number(&stage.Repeats),
		"shuffle": strictyaml.Truth(&stage.Shuffle),
		"sweep": func(n ast.Node) error {
			return strictyaml.Sequence(n, "sweep", func(n ast.Node) error {
				axis, err := readAxis(n, at.fields, nil)
				stage.Sweep = append(stage.Sweep, axis)
				return err
			})
		},
		"settle": func(n ast.Node) error {
			return strictyaml.Mapping(n, "settle", map[string]func(ast.Node) error{
				"pause": strictyaml.Parsed(&stage.Settle.Pause, quantity.ParseSeconds),
				"quiet": strictyaml.Parsed(&stage.Settle.Quiet, quantity.ParseSeconds),
			})
		},
		"fit": func(n ast.Node) error {
			fit := plan.Fit{Field: "feeds", From: 1}
			stage.Fit = &fit
			return strictyaml.Mapping(n, "a fit", map[string]func(ast.Node) error{
				"field": strictyaml.Text(&fit.Field), "from": strictyaml.Number(&fit.From), "to": strictyaml.Number(&fit.To),
				"late": strictyaml.Parsed(&fit.Late, quantity.ParseShare),
			})
		},
		"tune": func(n ast.Node) error {
			stage.Tune = &plan.Tune{}
			return readTune(n, stage.Tune, at.fields)
		},
		"precondition": func(n ast.Node) error {
			fill := plan.Precondition{Passes: 1}
			stage.Precondition = &fill
			return strictyaml.Mapping(n, "precondition", map[string]func(ast.Node) error{
				"passes": strictyaml.Number(&fill.Passes),
				"order":  func(n ast.Node) error { return strictyaml.Text((*string)(&fill.Order))(n) },
				"block":  strictyaml.Parsed(&fill.Block, quantity.ParseBytes),
			})
		},
	})
	return stage, at, err
}

// ReadLoad reads a load that is part of another file, over the default, and makes sure that
// it can be. Errors are *Error.
func ReadLoad(n ast.Node) (workload.Spec, error) {
	load := workload.Default()
	at := places{stage: n, fields: map[string]ast.Node{}}
	if err := readLoad(n, &load, at.fields); err != nil {
		return load, err
	}
	if err := load.Completed().Validate(); err != nil {
		return load, at.locate(err)
	}
	return load, nil
}

func readLoad(n ast.Node, load *workload.Spec, where map[string]ast.Node) error {
	entries := map[string]func(ast.Node) error{
		"name": strictyaml.Text(&load.Name),
		"together": func(n ast.Node) error {
			where["together"] = n
			load.SetTogether()
			return strictyaml.Sequence(n, "together", func(n ast.Node) error {
				part := workload.Default()
				err := readLoad(n, &part, map[string]ast.Node{})
				load.Together = append(load.Together, part)
				return err
			})
		},
	}
	for _, field := range workload.Fields() {
		entries[field.Name] = func(n ast.Node) error {
			where[field.Name] = n
			if field.Name == "files" {
				set, err := readSet(n)
				files.Use(load, set)
				return err
			}
			text, err := strictyaml.Scalar(n)
			if err != nil {
				return err
			}
			if err := field.Set(load, text); err != nil {
				return strictyaml.Fail(n, err, "%s", err)
			}
			return nil
		}
	}
	err := strictyaml.Mapping(n, "a load", entries)
	if err == nil && load.Kind == workload.TogetherKind {
		for _, field := range workload.Fields() {
			if where[field.Name] != nil && !field.Of(load.Kind) {
				return strictyaml.Fail(where[field.Name], workload.ErrInvalid, "%s: of several loads at once each has its own; say it there", field.Name)
			}
		}
	}
	if where["passes"] != nil && where["for"] == nil {
		load.For = 0 // the passes end it
	}
	return err
}

// isText reports whether a node is a plain value rather than a mapping or a list.
func isText(n ast.Node) bool {
	_, err := strictyaml.Scalar(n)
	return err == nil
}

func readTune(n ast.Node, tune *plan.Tune, where map[string]ast.Node) error {
	return strictyaml.Mapping(n, "tune", map[string]func(ast.Node) error{
		"figure": strictyaml.Text(&tune.Figure),
		"rounds": strictyaml.Number(&tune.Rounds),
		"budget": strictyaml.Parsed(&tune.Budget, quantity.ParseSeconds),
		"parameters": func(n ast.Node) error {
			return strictyaml.Sequence(n, "parameters", func(n ast.Node) error {
				var tried plan.Tried
				axis, err := readAxis(n, where, map[string]func(ast.Node) error{"now": strictyaml.Text(&tried.Now)})
				tried.Axis = axis
				tune.Parameters = append(tune.Parameters, tried)
				return err
			})
		},
	})
}

// readAxis reads a field and its values, and what else there may be beside them.
func readAxis(n ast.Node, where map[string]ast.Node, more map[string]func(ast.Node) error) (axis plan.Axis, err error) {
	var values ast.Node
	entries := map[string]func(ast.Node) error{
		"field": func(n ast.Node) error {
			if err := strictyaml.Text(&axis.Field)(n); err != nil {
				return err
			}
			_, err := workload.Lookup(axis.Field)
			switch {
			case plan.OfArray(axis.Field):
				err = arrayfile.CheckKey(axis.Field)
			case plan.OfSession(axis.Field):
				err = nil // known where sessions are spoken
			}
			if err != nil {
				return strictyaml.Fail(n, err, "%s", err)
			}
			return nil
		},
		"values": func(n ast.Node) error {
			values = n
			if _, isList := n.(*ast.SequenceNode); !isList {
				text, err := strictyaml.Scalar(n)
				axis.Values = []string{text}
				return err
			}
			return strictyaml.Sequence(n, "values", func(n ast.Node) error {
				text, err := strictyaml.Scalar(n)
				axis.Values = append(axis.Values, text)
				return err
			})
		},
	}
	maps.Copy(entries, more)
	err = strictyaml.Mapping(n, "an axis", entries)
	if err == nil && axis.Field == "" {
		return axis, strictyaml.Fail(n, nil, "the axis does not say which field it is about")
	}
	where[axis.Field] = values
	return axis, err
}
