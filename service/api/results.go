package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/measure"
	"patientheron/report"
	"patientheron/resource"
)

func (s *Service) registerResults(api huma.API) {
	register(s, api, operation(http.MethodGet, "/measurements/{id}", "get-measurement", "One measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Measurement], error) {
			m, err := s.Store.Measurement(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.Measurement]{m}, nil
		})

	register(s, api, operation(http.MethodGet, "/measurements/{id}/series", "get-series", "The intervals of a measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			From   int `query:"from" minimum:"0" doc:"Index of the first interval wanted"`
			Limit  int `query:"limit" minimum:"1" maximum:"20000" default:"10000" doc:"How many at most; the next page begins at nextFrom"`
			Points int `query:"points" minimum:"0" maximum:"20000" doc:"Instead of pages: at most about so many of all, the lowest, the highest and the slowest of each stretch; 0 for pages"`
		}) (*body[resource.Series], error) {
			series, err := s.series(ctx, in.ID, in.From, in.Limit, in.Points)
			if err != nil {
				return nil, err
			}
			return &body[resource.Series]{series}, nil
		})

	register(s, api, operation(http.MethodGet, "/measurements/{id}/latency", "get-latency", "The latency distribution of a measurement", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			PerDecade int `query:"perDecade" minimum:"0" maximum:"1000" default:"40" doc:"Buckets per factor of ten; 0 for all as recorded"`
		}) (*body[resource.Distribution], error) {
			latency, err := s.latency(ctx, in.ID, in.PerDecade)
			if err != nil {
				return nil, err
			}
			return &body[resource.Distribution]{latency}, nil
		})

	export := operation(http.MethodGet, "/runs/{id}/export", "export-run", "A whole run as one file", http.StatusOK, http.StatusNotFound)
	export.Responses = map[string]*huma.Response{"200": {Description: "The file", Content: map[string]*huma.MediaType{
		"application/json": {Schema: api.OpenAPI().Components.Schemas.Schema(typeOf[resource.Export](), true, "Export")},
		"text/csv":         {Schema: &huma.Schema{Type: huma.TypeString}},
	}}}
	register(s, api, export, s.export)
}

func (s *Service) latency(ctx context.Context, id int64, perDecade int) (resource.Distribution, error) {
	histograms, err := s.Store.Histograms(ctx, id)
	if err != nil {
		return resource.Distribution{}, err
	}
	latency := resource.Distribution{MeasurementID: id, Classes: map[measure.Class]resource.ClassLatency{}}
	for class, h := range histograms {
		encoded, err := h.Encode()
		if err != nil {
			return latency, err
		}
		latency.Classes[class] = resource.ClassLatency{Bars: h.Bars(perDecade), Encoded: string(encoded)}
	}
	return latency, nil
}

type exportInput struct {
	ByID
	Format string `query:"format" enum:"json,csv" default:"json"`
	Table  string `query:"table" enum:"summary,phases,series,counters,latency,files,races" default:"summary" doc:"Which table, for CSV"`
}

type file struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

// export streams a run. When something fails after the first bytes are gone, the
// connection is cut, so that nobody takes a part for the whole.
func (s *Service) export(ctx context.Context, in *exportInput) (*huma.StreamResponse, error) {
	results, err := s.results(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	name, kind := fmt.Sprintf("heron-run-%d.json", in.ID), "application/json"
	write := func(w io.Writer) error { return report.WriteJSON(w, results) }
	if in.Format == "csv" && report.Table(in.Table) == report.RacesTable {
		if results.Races, err = s.racesOf(ctx, results.Run); err != nil {
			return nil, err
		}
	}
	if in.Format == "csv" {
		name, kind = fmt.Sprintf("heron-run-%d-%s.csv", in.ID, in.Table), "text/csv; charset=utf-8; header=present"
		write = func(w io.Writer) error { return report.WriteCSV(w, results, report.Table(in.Table)) }
	}
	return &huma.StreamResponse{Body: func(out huma.Context) {
		out.SetHeader("Content-Type", kind)
		out.SetHeader("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name))
		if err := write(out.BodyWriter()); err != nil {
			s.Log.Error("an export broke off", "run", in.ID, "error", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

// results is a whole run, fetched as it is written.
func (s *Service) results(ctx context.Context, id int64) (report.Results, error) {
	detail, err := s.detail(ctx, id)
	if err != nil {
		return report.Results{}, err
	}
	return report.Results{
		Run: detail.Run, Measurements: detail.Measurements,
		Series: func(id int64, each func(measure.Interval) error) error {
			unreadable, err := s.Store.EachInterval(ctx, id, 0, each)
			if err == nil && unreadable > 0 {
				err = fmt.Errorf("%d intervals of measurement %d cannot be read", unreadable, id)
			}
			return err
		},
		Latency: func(id int64) (resource.Distribution, error) { return s.latency(ctx, id, 0) },
	}, nil
}

// errPageFull ends the reading of a series where a page ends.
var errPageFull = errors.New("the page is full")

// series is a page of a measurement's series, or a thinner one of all of it.
func (s *Service) series(ctx context.Context, id int64, from, limit, points int) (resource.Series, error) {
	series := resource.Series{MeasurementID: id, Intervals: []measure.Interval{}}
	if _, err := s.Store.Measurement(ctx, id); err != nil {
		return series, err
	}
	if points > 0 {
		kept, total, unreadable, err := s.Store.Outline(ctx, id, points)
		series.Intervals, series.Total, series.Unreadable = append(series.Intervals, kept...), total, unreadable
		series.Thinned = len(kept) < total
		return series, err
	}
	var err error
	if series.Total, err = s.Store.CountIntervals(ctx, id); err != nil {
		return series, err
	}
	series.Unreadable, err = s.Store.EachInterval(ctx, id, from, func(i measure.Interval) error {
		if len(series.Intervals) == limit {
			series.NextFrom = i.Index
			return errPageFull
		}
		series.Intervals = append(series.Intervals, i)
		return nil
	})
	if errors.Is(err, errPageFull) {
		err = nil
	}
	return series, err
}

// outlined are the results of a run, its series thinned to what a page can show.
func (s *Service) outlined(ctx context.Context, id int64) (report.Results, error) {
	detail, err := s.detail(ctx, id)
	if err == nil {
		detail, err = s.marked(ctx, detail)
	}
	if err != nil {
		return report.Results{}, err
	}
	races, err := s.racesOf(ctx, detail.Run)
	if err != nil {
		return report.Results{}, err
	}
	return report.Results{
		Run: detail.Run, Measurements: detail.Measurements, Markers: detail.Markers, Races: races,
		Series: func(id int64, each func(measure.Interval) error) error {
			series, err := s.series(ctx, id, 0, 0, drawn)
			for _, i := range series.Intervals {
				if err == nil {
					err = each(i)
				}
			}
			return err
		},
		Latency: func(id int64) (resource.Distribution, error) { return s.latency(ctx, id, 0) },
	}, nil
}

// drawn is how many points of a series a report draws.
const drawn = 3000
