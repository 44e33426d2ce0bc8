package api

import (
	"context"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/answer"
	"patientheron/core/compare"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/storage/volume"
)

// Adjustments is what can be tried on a volume under a load.
type Adjustments struct {
	Adjustments []resource.Adjustment `json:"adjustments"`
}

func (s *Service) registerTuning(api huma.API) {
	register(s, api, operation(http.MethodPost, "/volumes/{id}/adjustments", "list-adjustments", "Parameters of a volume and of a load that an experiment can try at other values", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Load workload.Spec `json:"load"`
			}
		}) (*body[Adjustments], error) {
			on, err := s.Store.Volume(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			if err := in.Body.Load.Validate(); err != nil {
				return nil, err
			}
			locator, err := parsed(ctx, on.Locator)
			if err != nil {
				return nil, err
			}
			found := []resource.Adjustment{}
			for _, a := range append(s.Bounds.Adjustable(locator, in.Body.Load), ofLoad(in.Body.Load)...) {
				found = append(found, resource.Adjustment{Axis: a.Axis, Now: a.Now, Of: a.Of})
			}
			return &body[Adjustments]{Adjustments{found}}, nil
		})
}

// ofLoad are the fields of a load that are worth trying: how much it asks for at once, where
// nothing else says that.
func ofLoad(load workload.Spec) (all []volume.Adjustment) {
	load = load.Completed()
	if !load.Traits().Plain || load.Open() {
		return nil
	}
	for _, f := range []struct {
		field string
		now   int
		of    string
		most  int
	}{{"depth", load.Depth, "operations of each worker under way at a time", 1024}, {"workers", load.Workers, "workers, each with its own thread and queue", 64}} {
		var values []string
		for _, v := range []int{f.now / 2, f.now * 2, f.now * 4} {
			if v >= 1 && v <= f.most {
				values = append(values, strconv.Itoa(v))
			}
		}
		all = append(all, volume.Adjustment{Axis: plan.Axis{Field: f.field, Values: slices.Compact(values)}, Now: strconv.Itoa(f.now), Of: f.of})
	}
	return all
}

// shape is what the sweeps, repeats and experiments of a run show.
func (s *Service) shape(ctx context.Context, side compare.Side, run resource.Run, measurements []resource.Measurement, variants []resource.Variant, p99 quantity.Seconds) (resource.Shape, error) {
	tuned, err := resource.TunedOf(run, measurements, func(settings []plan.Setting) string {
		locator, err := parsed(ctx, run.Volume.Locator)
		if err == nil {
			locator, err = s.Bounds.With(locator, settings)
		}
		if err != nil { // the volume is another by now
			return ""
		}
		return strings.TrimSpace(locator.String())
	})
	return resource.Shape{Points: compare.Points(side), Lines: compare.Lines(side, p99, pricesOf(side.Setup, variants)), Answers: answer.Of([]compare.Side{side}, nil, answer.Asked{Within: p99}), Tuned: tuned}, err
}

// pricesOf tells what a volume costs with some settings of it changed, as its sweeps changed
// it; 0 where that is not known.
func pricesOf(whole setup.Setup, variants []resource.Variant) func([]plan.Setting) float64 {
	return func(changed []plan.Setting) float64 {
		if len(changed) == 0 {
			return whole.Number("cost.price")
		}
		for _, v := range variants {
			if slices.Equal(v.Changed, changed) {
				return v.Setup.Number("cost.price")
			}
		}
		return 0
	}
}
