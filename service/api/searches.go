package api

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/choose"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/report"
	"patientheron/resource"
	"patientheron/service/aside"
	"patientheron/service/store"
)

// SearchList is all searches, newest first.
type SearchList struct {
	Searches []resource.Search `json:"searches"`
	Listed
}

func (s *Service) registerSearches(api huma.API) {
	register(s, api, operation(http.MethodPost, "/searches", "start-search", "Look for what to buy for a need, among parts; one search at a time", http.StatusCreated, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewSearch }) (*body[resource.Search], error) {
			asked, err := s.asked(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			begun, err := s.search(ctx, asked)
			if err != nil {
				return nil, err
			}
			return &body[resource.Search]{begun}, nil
		})

	register(s, api, operation(http.MethodGet, "/searches", "list-searches", "All searches, newest first: those that are kept, those under way, and those that failed since the service started", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[SearchList], error) {
			all, unreadable, err := s.allSearches(ctx)
			if err != nil {
				return nil, err
			}
			searches, listed, err := paged(all, unreadable, *in, func(r resource.Search) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			return &body[SearchList]{SearchList{searches, listed}}, nil
		})

	register(s, api, operation(http.MethodGet, "/searches/{id}", "get-search", "A search with how far it is, or what it came to", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Search], error) {
			found, err := s.searchOf(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.Search]{found}, nil
		})

	register(s, api, operation(http.MethodDelete, "/searches/{id}", "remove-search", "Remove a search that has ended", http.StatusNoContent, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.removeSearch(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	page := operation(http.MethodGet, "/searches/{id}/report", "report-search", "What a search came to, as one self-contained page", http.StatusOK, http.StatusNotFound, http.StatusConflict)
	page.Responses = pageAnswer
	register(s, api, page, func(ctx context.Context, in *ByID) (*file, error) {
		found, err := s.searchOf(ctx, in.ID)
		if err == nil && found.Chosen == nil {
			err = fmt.Errorf("search %d is %s: %w; it has a report when it is finished", in.ID, found.Status, errBusy)
		}
		if err != nil {
			return nil, err
		}
		var content bytes.Buffer
		if err := report.WriteChosen(&content, *found.Chosen); err != nil {
			return nil, err
		}
		return htmlFile("heron-what-to-buy.html", content.Bytes()), nil
	})

	register(s, api, operation(http.MethodPost, "/searches/{id}/stop", "stop-search", "Stop a search", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if s.searches.Stop(in.ID) == nil {
				return nil, nil
			}
			if _, err := s.Store.Search(ctx, in.ID); err != nil { // one that is kept has ended, and stays as it is
				return nil, err
			}
			return nil, nil
		})
}

// search begins a search, which is kept when it is finished. Errors are aside.ErrBusy, and those
// about the need and the parts.
func (s *Service) search(ctx context.Context, asked choose.Search) (resource.Search, error) {
	record := resource.Search{Need: asked.Need.Name, Parts: asked.Parts.Name}
	if err := asked.Check(); err != nil {
		return record, err
	}
	kept, _, err := s.Store.Searches(ctx)
	if err != nil {
		return record, err
	}
	if len(kept) > 0 {
		s.searches.After(kept[0].ID)
	}
	return s.searches.Start(record, func(ctx context.Context, job *aside.Job[resource.Search]) error {
		asked.Measure = job.Simulate
		asked.Progress = func(p choose.HowFar) { job.Update(func(r *resource.Search) { r.Progress = p }) }
		found, err := asked.Run(ctx)
		if err != nil {
			return err
		}
		var finished resource.Search
		job.Update(func(r *resource.Search) {
			r.Chosen = &found
			finished = *r
		})
		finished.Ended = time.Now().UTC()
		return s.Store.KeepSearch(ctx, finished)
	})
}

// allSearches are those that are kept, and those that are under way or came to nothing.
func (s *Service) allSearches(ctx context.Context) (kept []resource.Search, unreadable []resource.Unreadable, err error) {
	if kept, unreadable, err = s.Store.Searches(ctx); err != nil {
		return nil, nil, err
	}
	for _, r := range s.searches.List() {
		if !slices.ContainsFunc(kept, func(k resource.Search) bool { return k.ID == r.ID }) {
			r.Chosen = nil
			kept = append(kept, r)
		}
	}
	slices.SortFunc(kept, func(a, b resource.Search) int { return cmp.Compare(b.ID, a.ID) })
	return kept, unreadable, nil
}

// searchOf finds a search: one since the service began, or a kept one.
func (s *Service) searchOf(ctx context.Context, id int64) (resource.Search, error) {
	if found, err := s.searches.Get(id); err == nil {
		return found, nil
	}
	return s.Store.Search(ctx, id)
}

func (s *Service) removeSearch(ctx context.Context, id int64) error {
	found, err := s.searchOf(ctx, id)
	if err != nil {
		return err
	}
	if !found.Status.Final() {
		return fmt.Errorf("search %d is %s: %w; stop it first", id, found.Status, errBusy)
	}
	s.searches.Forget(id)
	if err := s.Store.RemoveSearch(ctx, id); err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return nil
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
