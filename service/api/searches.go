package api

import (
	"bytes"
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/choose"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/report"
	"patientheron/resource"
	"patientheron/service/aside"
)

// SearchList is all searches, newest first.
type SearchList struct {
	Searches []resource.Search `json:"searches"`
}

func (s *Service) registerSearches(api huma.API) {
	huma.Register(api, operation(http.MethodPost, "/searches", "start-search", "Look for what to buy for a need, among parts; one search at a time", http.StatusCreated, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewSearch }) (*body[resource.Search], error) {
			asked, err := s.asked(ctx, in.Body)
			if err != nil {
				return nil, s.problem(err)
			}
			begun, err := s.search(asked)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[resource.Search]{begun}, nil
		})

	huma.Register(api, operation(http.MethodGet, "/searches", "list-searches", "The searches since the service began, newest first", http.StatusOK),
		func(context.Context, *struct{}) (*body[SearchList], error) {
			all := s.searches.List()
			for i := range all {
				all[i].Chosen = nil
			}
			return &body[SearchList]{SearchList{all}}, nil
		})

	huma.Register(api, operation(http.MethodGet, "/searches/{id}", "get-search", "A search with how far it is, or what it came to", http.StatusOK, http.StatusNotFound),
		func(_ context.Context, in *ByID) (*body[resource.Search], error) {
			found, err := s.searches.Get(in.ID)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[resource.Search]{found}, nil
		})

	page := operation(http.MethodGet, "/searches/{id}/report", "report-search", "What a search came to, as one self-contained page", http.StatusOK, http.StatusNotFound, http.StatusConflict)
	page.Responses = pageAnswer
	huma.Register(api, page, func(_ context.Context, in *ByID) (*file, error) {
		found, err := s.searches.Get(in.ID)
		if err == nil && found.Chosen == nil {
			err = fmt.Errorf("search %d is %s: %w; it has a report when it is finished", in.ID, found.Status, errBusy)
		}
		if err != nil {
			return nil, s.problem(err)
		}
		var content bytes.Buffer
		if err := report.WriteChosen(&content, *found.Chosen); err != nil {
			return nil, s.problem(err)
		}
		return htmlFile("heron-what-to-buy.html", content.Bytes()), nil
	})

	huma.Register(api, operation(http.MethodPost, "/searches/{id}/stop", "stop-search", "Stop a search", http.StatusNoContent, http.StatusNotFound),
		func(_ context.Context, in *ByID) (*struct{}, error) {
			if err := s.searches.Stop(in.ID); err != nil {
				return nil, s.problem(err)
			}
			return nil, nil
		})
}

// search begins a search. Errors are aside.ErrBusy, and those about the need and the parts.
func (s *Service) search(asked choose.Search) (resource.Search, error) {
	record := resource.Search{Need: asked.Need.Name, Parts: asked.Parts.Name}
	if err := asked.Check(); err != nil {
		return record, err
	}
	return s.searches.Start(record, func(ctx context.Context, job *aside.Job[resource.Search]) error {
		asked.Measure = job.Simulate
		asked.Progress = func(p choose.HowFar) { job.Update(func(r *resource.Search) { r.Progress = p }) }
		found, err := asked.Run(ctx)
		if err == nil {
			job.Update(func(r *resource.Search) { r.Chosen = &found })
		}
		return err
	})
}

// asked reads what a search is for.
func (s *Service) asked(ctx context.Context, in resource.NewSearch) (search choose.Search, err error) {
	text := in.Need
	if in.NeedID > 0 {
		kept, err := s.Store.Need(ctx, in.NeedID)
		if err != nil {
			return search, err
		}
		text = kept.Text
	}
	search.Seed, search.Short = in.Seed, in.Short
	if search.Need, err = needfile.Read([]byte(text)); err != nil {
		return search, fmt.Errorf("the need: %w", err)
	}
	if search.Parts, err = partsfile.Read([]byte(in.Parts)); err != nil {
		return search, fmt.Errorf("the parts: %w", err)
	}
	return search, nil
}
