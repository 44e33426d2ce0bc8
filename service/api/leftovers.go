package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/resource"
)

// LeftoverList is the test files that were left behind, oldest first.
type LeftoverList struct {
	Files []resource.LeftBehind `json:"files"`
	Listed
}

func (s *Service) registerLeftovers(api huma.API) {
	register(s, api, operation(http.MethodGet, "/leftovers", "list-leftovers", "Test files that were left behind when a service ended under a run", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[LeftoverList], error) {
			all, err := s.Leftovers.List(ctx)
			if err != nil {
				return nil, err
			}
			files, listed, err := paged(all, nil, *in, func(r resource.LeftBehind) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			return &body[LeftoverList]{LeftoverList{files, listed}}, nil
		})

	register(s, api, operation(http.MethodDelete, "/leftovers/{id}", "remove-leftover", "Remove a test file that was left behind", http.StatusNoContent, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Leftovers.Remove(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})
}
