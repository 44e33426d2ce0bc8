package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/report"
	"patientheron/resource"
)

func (s *Service) registerResults(api huma.API) {
	huma.Register(api, operation(http.MethodGet, "/measurements/{id}", "get-measurement", "One measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Measurement], error) {
			m, err := s.Store.Measurement(ctx, in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[resource.Measurement]{m}, nil
		})

	huma.Register(api, operation(http.MethodGet, "/measurements/{id}/series", "get-series", "The intervals of a measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Series], error) {
			if _, err := s.Store.Measurement(ctx, in.ID); err != nil {
				return nil, s.problem(err)
			}
			intervals, err := s.Store.Intervals(ctx, in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[resource.Series]{resource.Series{MeasurementID: in.ID, Intervals: intervals}}, nil
		})

	huma.Register(api, operation(http.MethodGet, "/measurements/{id}/latency", "get-latency", "The latency distribution of a measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			PerDecade int `query:"perDecade" minimum:"0" maximum:"1000" default:"40" doc:"Buckets per factor of ten; 0 for all as recorded"`
		}) (*body[resource.Distribution], error) {
			latency, err := s.latency(ctx, in.ID, in.PerDecade)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[resource.Distribution]{latency}, nil
		})

	export := operation(http.MethodGet, "/runs/{id}/export", "export-run", "A whole run as one file", http.StatusOK, http.StatusNotFound)
	export.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{
		"application/json": {Schema: api.OpenAPI().Components.Schemas.Schema(typeOf[resource.Export](), true, "Export")},
		"text/csv":         {Schema: &huma.Schema{Type: huma.TypeString}},
	}}}
	huma.Register(api, export, s.export)
}

func (s *Service) latency(ctx context.Context, id int64, perDecade int) (resource.Distribution, error) {
	reads, writes, err := s.Store.Histograms(ctx, id)
	if err != nil {
		return resource.Distribution{}, err
	}
	latency := resource.Distribution{MeasurementID: id, Reads: reads.Bars(perDecade), Writes: writes.Bars(perDecade)}
	encodedReads, err := reads.Encode()
	if err != nil {
		return latency, err
	}
	encodedWrites, err := writes.Encode()
	latency.EncodedReads, latency.EncodedWrites = string(encodedReads), string(encodedWrites)
	return latency, err
}

type exportInput struct {
	ByID
	Format string `query:"format" enum:"json,csv" default:"json"`
	Table  string `query:"table" enum:"summary,series,latency" default:"summary" doc:"Which table, for CSV"`
}

type file struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

func (s *Service) export(ctx context.Context, in *exportInput) (*file, error) {
	document, err := s.document(ctx, in.ID)
	if err != nil {
		return nil, s.problem(err)
	}
	var content bytes.Buffer
	name := fmt.Sprintf("heron-run-%d", in.ID)
	if in.Format == "csv" {
		if err := report.WriteCSV(&content, document, report.Table(in.Table)); err != nil {
			return nil, s.problem(err)
		}
		return &file{"text/csv; charset=utf-8; header=present", fmt.Sprintf("attachment; filename=%q", name+"-"+in.Table+".csv"), content.Bytes()}, nil
	}
	encoder := json.NewEncoder(&content)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(document); err != nil {
		return nil, s.problem(err)
	}
	return &file{"application/json", fmt.Sprintf("attachment; filename=%q", name+".json"), content.Bytes()}, nil
}

// document gathers a whole run.
func (s *Service) document(ctx context.Context, id int64) (resource.Export, error) {
	detail, err := s.detail(ctx, id)
	if err != nil {
		return resource.Export{}, err
	}
	document := resource.Export{Format: resource.ExportFormat, Run: detail.Run, Measurements: []resource.ExportedResult{}}
	for _, m := range detail.Measurements {
		result := resource.ExportedResult{Measurement: m}
		if result.Series, err = s.Store.Intervals(ctx, m.ID); err != nil {
			return document, err
		}
		if result.Latency, err = s.latency(ctx, m.ID, 0); err != nil {
			return document, err
		}
		document.Measurements = append(document.Measurements, result)
	}
	return document, nil
}
