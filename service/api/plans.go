package api

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/fileset"
	"patientheron/core/mistake"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/format/filesetfile"
	"patientheron/format/planfile"
)

func (s *Service) registerWorkloads(api huma.API) {
	register(s, api, operation(http.MethodGet, "/fields", "list-fields", "The fields of a workload, as plan files and the command line name them", http.StatusOK),
		func(context.Context, *struct{}) (*body[FieldList], error) {
			list := FieldList{}
			for _, f := range workload.Fields() {
				list.Fields = append(list.Fields, Field{
					Name: f.Name, Usage: f.Usage, TakesNoValue: f.Bool, Kinds: kindsOf(f),
				})
			}
			return &body[FieldList]{list}, nil
		})

	register(s, api, operation(http.MethodPost, "/loads", "read-load", "Read a workload from fields as people type them", http.StatusOK, http.StatusUnprocessableEntity),
		func(_ context.Context, in *struct{ Body TypedLoad }) (*body[ReadLoad], error) {
			load, err := readLoad(in.Body.Fields)
			if err != nil {
				return nil, err
			}
			return &body[ReadLoad]{ReadLoad{Load: load, Words: load.Describe()}}, nil
		})

	register(s, api, operation(http.MethodGet, "/presets", "list-presets", "The plans that ship with the product", http.StatusOK),
		func(context.Context, *struct{}) (*body[PresetList], error) {
			presets, err := planfile.Presets()
			if err != nil {
				return nil, err
			}
			return &body[PresetList]{PresetList{presets}}, nil
		})

	register(s, api, operation(http.MethodPost, "/plans", "read-plan", "Read a plan from the text of a plan file. A mistake is reported with line and column", http.StatusOK, http.StatusUnprocessableEntity),
		func(_ context.Context, in *struct{ Body PlanText }) (*body[ReadPlan], error) {
			p, err := planfile.Read([]byte(in.Body.Text))
			if err != nil {
				return nil, err
			}
			estimate, err := p.Estimate()
			if err != nil {
				return nil, err
			}
			return &body[ReadPlan]{ReadPlan{Plan: p, Estimate: estimate}}, nil
		})

	register(s, api, operation(http.MethodPost, "/estimates", "estimate-plan", "What a plan would take", http.StatusOK, http.StatusUnprocessableEntity),
		func(_ context.Context, in *struct{ Body plan.Plan }) (*body[plan.Estimate], error) {
			estimate, err := in.Body.Estimate()
			if err != nil {
				return nil, err
			}
			return &body[plan.Estimate]{estimate}, nil
		})
}

// Field is one settable part of a workload.
type Field struct {
	Name         string   `json:"name"`
	Usage        string   `json:"usage" doc:"What it means, in a few words"`
	TakesNoValue bool     `json:"takesNoValue" doc:"It is set or not"`
	Kinds        []string `json:"kinds" doc:"Kinds of load that have it"`
}

// kindsOf are the kinds of load that have a field.
func kindsOf(f workload.Field) (kinds []string) {
	for _, kind := range workload.Kinds() {
		if f.Of(kind) {
			kinds = append(kinds, string(kind))
		}
	}
	return kinds
}

// FieldList is all fields of a workload.
type FieldList struct {
	Fields []Field `json:"fields"`
}

// TypedLoad is a workload as people type it.
type TypedLoad struct {
	Fields map[string]string `json:"fields" doc:"Values by the name of their field, such as block: 4KiB; what is left out keeps its default. Files are so many of a size, such as 1000 x 64KiB, or the text of a file set"`
}

// ReadLoad is a workload that was read.
type ReadLoad struct {
	Load  workload.Spec `json:"load"`
	Words string        `json:"words" doc:"The workload in a few words"`
}

// readLoad reads typed fields. Each error is located by the name of its
// field, all of them at once.
func readLoad(fields map[string]string) (workload.Spec, error) {
	spec := workload.Default()
	var wrong []error
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		field, err := workload.Lookup(name)
		switch {
		case err != nil:
		case field.Name == "files" && strings.Contains(fields[name], "classes:"):
			var set fileset.Set
			if set, err = filesetfile.Read([]byte(fields[name])); err == nil {
				files.Use(&spec, set)
			}
		default:
			err = field.Set(&spec, fields[name])
		}
		if err != nil {
			wrong = append(wrong, located(err, name))
		}
	}
	if fields["passes"] != "" && fields["for"] == "" {
		spec.For = 0 // the passes end it
	}
	if len(wrong) == 0 {
		if err := spec.Validate(); err != nil {
			wrong = append(wrong, located(err, ""))
		}
	}
	if len(wrong) > 0 {
		return spec, huma.Error422UnprocessableEntity("the workload is not possible: "+wrong[0].(*huma.ErrorDetail).Message, wrong...)
	}
	return spec, nil
}

// located is an error at the field it is about.
func located(err error, name string) error {
	var field *mistake.Error
	if errors.As(err, &field) {
		return &huma.ErrorDetail{Location: field.Field, Message: field.Reason}
	}
	return &huma.ErrorDetail{Location: name, Message: err.Error()}
}

// PresetList is the plans that ship with the product.
type PresetList struct {
	Presets []planfile.Preset `json:"presets"`
}

// PlanText is a plan file.
type PlanText struct {
	Text string `json:"text" maxLength:"262144" doc:"YAML"`
}

// ReadPlan is a plan that was read.
type ReadPlan struct {
	Plan     plan.Plan     `json:"plan"`
	Estimate plan.Estimate `json:"estimate"`
}
