package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/storage/volume"
)

// ArrayText is an array file that is handed over.
type ArrayText struct {
	Text string `json:"text" minLength:"1" maxLength:"262144" doc:"YAML"`
}

// KeptArray is where an array file that was handed over is kept.
type KeptArray struct {
	Locator string `json:"locator" doc:"To register as a volume"`
}

func (s *Service) registerArrays(api huma.API) {
	register(s, api, operation(http.MethodPut, "/arrays/{name}", "keep-array", "Store an array file under a name, in place of an earlier one. A mistake is reported with line and column", http.StatusOK, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"80" pattern:"^[\\p{L}\\p{N}][\\p{L}\\p{N}._-]*$" doc:"A short name for the file"`
			Body ArrayText
		}) (*body[KeptArray], error) {
			locator, err := inTime(ctx, in.Name, "keep "+in.Body.Text, func(context.Context) (volume.Locator, error) {
				return s.Bounds.KeepArray(in.Name, []byte(in.Body.Text))
			})
			if err != nil {
				return nil, err
			}
			return &body[KeptArray]{KeptArray{locator.String()}}, nil
		})
}
