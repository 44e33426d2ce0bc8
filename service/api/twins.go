package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/array"
	"patientheron/core/compare"
	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/core/twin"
	"patientheron/format/arrayfile"
	"patientheron/resource"
	"patientheron/service/aside"
	"patientheron/service/store"
	"patientheron/storage"
)

// TwinList is all twins, newest first.
type TwinList struct {
	Twins []resource.Twin `json:"twins"`
	Listed
}

// FitList is all fits, newest first.
type FitList struct {
	Fits []resource.Fitting `json:"fits"`
	Listed
}

// OfTwin names one thing that a twin predicted.
type OfTwin struct {
	ID         int64 `path:"id" minimum:"1"`
	Prediction int64 `path:"prediction" minimum:"1"`
}

func (s *Service) registerTwins(api huma.API) {
	register(s, api, operation(http.MethodPost, "/twins", "fit-twin", "Fit a simulated array to what was measured of a volume; one fit at a time", http.StatusCreated, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewTwin }) (*body[resource.Fitting], error) {
			begun, err := s.fitTwin(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Fitting]{begun}, nil
		})

	register(s, api, operation(http.MethodPost, "/twins/guess", "guess-twin", "The array file that a fit would begin with", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			Body struct {
				VolumeID int64 `json:"volumeId" minimum:"1"`
			}
		}) (*body[ArrayText], error) {
			text, err := s.guess(ctx, in.Body.VolumeID)
			if err != nil {
				return nil, err
			}
			return &body[ArrayText]{ArrayText{string(text)}}, nil
		})

	register(s, api, operation(http.MethodGet, "/fits", "list-fits", "The fits since the service began, newest first", http.StatusOK),
		func(_ context.Context, in *Page) (*body[FitList], error) {
			fits, listed, err := paged(s.fits.List(), nil, *in, func(r resource.Fitting) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			return &body[FitList]{FitList{fits, listed}}, nil
		})

	register(s, api, operation(http.MethodGet, "/fits/{id}", "get-fit", "A fit with how far it is", http.StatusOK, http.StatusNotFound),
		func(_ context.Context, in *ByID) (*body[resource.Fitting], error) {
			found, err := s.fits.Get(in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.Fitting]{found}, nil
		})

	register(s, api, operation(http.MethodPost, "/fits/{id}/stop", "stop-fit", "Stop a fit; nothing is kept of it", http.StatusNoContent, http.StatusNotFound),
		func(_ context.Context, in *ByID) (*struct{}, error) {
			if err := s.fits.Stop(in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodGet, "/twins", "list-twins", "All twins, newest first", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[TwinList], error) {
			all, unreadable, err := s.Store.Twins(ctx)
			if err != nil {
				return nil, err
			}
			twins, listed, err := paged(all, unreadable, *in, func(r resource.Twin) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			for i := range twins {
				twins[i].Fitted = nil
			}
			return &body[TwinList]{TwinList{twins, listed}}, nil
		})

	register(s, api, operation(http.MethodGet, "/twins/{id}", "get-twin", "A twin with what is known of it, and what it predicted beside what was measured since", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Twin], error) {
			kept, err := s.confronted(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.Twin]{kept}, nil
		})

	register(s, api, operation(http.MethodDelete, "/twins/{id}", "remove-twin", "Remove a twin and what it predicted; what was measured stays", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Store.RemoveTwin(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodPost, "/twins/{id}/predictions", "predict", "Predict the results of loads with a twin, and keep them to compare with later measurements", http.StatusCreated, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body resource.NewPrediction
		}) (*body[resource.Prediction], error) {
			made, err := s.predict(ctx, in.ID, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Prediction]{made}, nil
		})

	register(s, api, operation(http.MethodDelete, "/twins/{id}/predictions/{prediction}", "remove-prediction", "Remove what a twin predicted", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *OfTwin) (*struct{}, error) {
			if err := s.Store.RemovePrediction(ctx, in.ID, in.Prediction); err != nil {
				return nil, err
			}
			return nil, nil
		})
}

// fitTwin begins to fit a twin, which is kept when that is done.
func (s *Service) fitTwin(ctx context.Context, in resource.NewTwin) (resource.Fitting, error) {
	begun := resource.Fitting{Name: in.Name, VolumeID: in.VolumeID}
	if taken, err := s.Store.TwinNamed(ctx, in.Name); err != nil || taken {
		if taken {
			err = fmt.Errorf("twin %q: %w", in.Name, store.ErrTaken)
		}
		return begun, err
	}
	volume, err := s.Store.Volume(ctx, in.VolumeID)
	if err != nil {
		return begun, err
	}
	guess := []byte(in.Guess)
	if in.Guess == "" {
		if guess, err = s.guess(ctx, in.VolumeID); err != nil {
			return begun, err
		}
	}
	side, err := s.sideOf(ctx, in)
	if err != nil {
		return begun, err
	}
	observed, left := twin.Observe(twinSamples(side))
	fit := twin.Fit{With: reader(guess), Free: in.Free, Observed: observed, Seed: in.Seed}
	if err := fit.Check(); err != nil {
		return begun, leftOut(err, left)
	}
	return s.fits.Start(begun, func(ctx context.Context, job *aside.Job[resource.Fitting]) error {
		fit.Measure = job.Simulate
		fit.Progress = func(p twin.HowNear) { job.Update(func(r *resource.Fitting) { r.Progress = p }) }
		fitted, err := fit.Run(ctx)
		if err != nil {
			return err
		}
		fitted.LeftOut = append(fitted.LeftOut, left...)
		named := append(fitted.Settings(), plan.Setting{Field: "name", Value: strconv.Quote(in.Name)})
		text, err := arrayfile.WriteWith(guess, named, append([]string{fmt.Sprintf("A twin of %q, fitted to %s.", volume.Name, resource.Group{Runs: side.Runs}.InWords())}, fitted.Words...)...)
		if err != nil {
			return err
		}
		kept, err := s.Store.AddTwin(ctx, resource.Twin{Name: in.Name, VolumeID: volume.ID, Volume: volume.Name, Runs: side.Runs, Text: string(text), Fitted: &fitted})
		job.Update(func(r *resource.Fitting) { r.TwinID = kept.ID })
		return err
	})
}

// leftOut says with an error what could not be used, since that may be why.
func leftOut(err error, left []string) error {
	if len(left) == 0 {
		return err
	}
	return fmt.Errorf("%w; left out: %s", err, joined(left))
}

// mostJoined is how many of what was left out an error names.
const mostJoined = 3

// joined is the first few of what may be many.
func joined(words []string) string {
	text := strings.Join(words[:min(len(words), mostJoined)], "; ")
	if more := len(words) - mostJoined; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

// reader gives an array file with some of its keys at other values.
func reader(text []byte) twin.With {
	return func(settings []plan.Setting) (array.Description, error) { return arrayfile.ReadWith(text, settings) }
}

// guess is the array file that a fit begins with: what the facts of a volume's setup tell, or the
// array file that it is.
func (s *Service) guess(ctx context.Context, id int64) ([]byte, error) {
	volume, err := s.Store.Volume(ctx, id)
	if err != nil {
		return nil, err
	}
	if storage.TraitsOf(volume.Kind).Described {
		locator, err := parsed(ctx, volume.Locator)
		if err != nil {
			return nil, err
		}
		return inTime(ctx, volume.Locator, "array text", func(context.Context) ([]byte, error) { return s.Bounds.ArrayText(locator) })
	}
	latest, err := s.Store.LatestSetup(ctx, id)
	if err != nil {
		return nil, err
	}
	return arrayfile.Guess(volume.Name, latest.Setup)
}

// sideOf is what a twin is fitted to.
func (s *Service) sideOf(ctx context.Context, in resource.NewTwin) (compare.Side, error) {
	if len(in.Runs) == 0 {
		side, reason, err := s.measuredSetup(ctx, in.VolumeID)
		if err == nil && reason != "" {
			err = fmt.Errorf("%w: %s", twin.ErrInvalid, reason)
		}
		return side, err
	}
	runs := slices.Compact(slices.Sorted(slices.Values(in.Runs)))
	for _, id := range runs {
		run, err := s.Store.Run(ctx, id)
		if err != nil {
			return compare.Side{}, err
		}
		if run.VolumeID != in.VolumeID {
			return compare.Side{}, fmt.Errorf("%w: run %d measured %q, which is another volume", twin.ErrInvalid, id, run.Volume.Name)
		}
	}
	return s.side(ctx, resource.Group{Runs: runs})
}

// twinSamples are the measurements of a side, for a twin.
func twinSamples(side compare.Side) (samples []twin.Sample) {
	for _, m := range side.Samples {
		sample := twin.Sample{Name: m.Title(), Load: m.Load, Summary: m.Summary, Doubt: m.Reason}
		if m.Altered() {
			sample.Doubt = "the volume was another at that point"
		}
		known := m.Known()
		sample.Doubt = cmp.Or(sample.Doubt, known.Doubt(""), known.Unkept)
		samples = append(samples, sample)
	}
	return samples
}

// confronted is a twin with all that it predicted, each beside what was measured since.
func (s *Service) confronted(ctx context.Context, id int64) (resource.Twin, error) {
	kept, err := s.Store.Twin(ctx, id)
	if err != nil {
		return kept, err
	}
	if kept.Predictions, _, err = s.Store.Predictions(ctx, id); err != nil {
		return kept, err
	}
	read := map[int64][]twin.Sample{} // what was predicted for one volume shares its runs
	for i := range kept.Predictions {
		if err := s.confront(ctx, kept, &kept.Predictions[i], read); err != nil {
			return kept, err
		}
	}
	return kept, nil
}

// confront sets what was predicted beside what was measured on its volume since. Where that is
// the volume it is a twin of, it is what was measured while that still was as it was; or, where
// something was to be another way, since it was another. Runs that were read are in read.
func (s *Service) confront(ctx context.Context, of resource.Twin, p *resource.Prediction, read map[int64][]twin.Sample) error {
	runs, _, err := s.Store.Runs(ctx, store.RunFilter{Volume: p.VolumeID, Limit: pastRuns})
	if err != nil {
		return err
	}
	fitted, err := s.Store.Run(ctx, slices.Max(append([]int64{0}, of.Runs...)))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	known := err == nil
	var samples []twin.Sample
	for _, run := range runs {
		asFitted := setup.Diff(fitted.Setup, run.Setup).Alike()
		if !run.Status.Final() || !run.Started.After(p.Created) || known && p.VolumeID == of.VolumeID && asFitted != (len(p.Changes) == 0) {
			continue
		}
		if _, is := read[run.ID]; !is {
			side, err := s.side(ctx, resource.Group{Runs: []int64{run.ID}})
			if err != nil {
				return err
			}
			read[run.ID] = twinSamples(side)
		}
		samples = append(samples, read[run.ID]...)
	}
	p.Confronted = twin.Confront(p.Predicted, samples)
	measured, stand := 0, map[twin.State]int{}
	for _, c := range p.Confronted {
		if c.Measured != nil {
			measured++
			stand[c.State]++
		}
	}
	p.Words = fmt.Sprintf("%d figures were predicted, and %d of them were measured since: %d inside the interval, %d outside, %d not shown.", len(p.Confronted), measured, stand[twin.Inside], stand[twin.Outside], stand[twin.NotShown])
	if measured == 0 {
		p.Words = fmt.Sprintf("Nothing of it was measured on %q yet; what will be is set beside it.", p.Volume)
		if p.VolumeID == of.VolumeID && len(p.Changes) > 0 {
			p.Words = fmt.Sprintf("Nothing of it was measured on %q since that became another; what will be then is set beside it.", p.Volume)
		}
	}
	if len(p.Predicted) > 0 && p.Predicted[0].Caution != "" {
		p.Words = p.Predicted[0].Caution + " " + p.Words
	}
	return nil
}

// predict predicts, and keeps it.
func (s *Service) predict(ctx context.Context, id int64, in resource.NewPrediction) (p resource.Prediction, err error) {
	if s.Runner.Measuring() > 0 {
		return p, fmt.Errorf("%w: a run measures, and must not be disturbed; predict when it has ended", errBusy)
	}
	kept, err := s.Store.Twin(ctx, id)
	if err != nil {
		return p, err
	}
	p = resource.Prediction{Changes: in.Changes, VolumeID: kept.VolumeID, Volume: kept.Volume}
	if p.Changes == nil {
		p.Changes = []plan.Setting{}
	}
	if in.VolumeID > 0 {
		volume, err := s.Store.Volume(ctx, in.VolumeID)
		if err != nil {
			return p, err
		}
		p.VolumeID, p.Volume = volume.ID, volume.Name
	}
	steps, err := in.Plan.Steps()
	if err != nil {
		return p, err
	}
	predicting := twin.Predicting{With: reader([]byte(kept.Text)), Fitted: *kept.Fitted, Changes: in.Changes, Measure: s.Aside.Simulate}
	named := map[string]bool{}
	for _, step := range steps {
		load := twin.NamedLoad{Name: step.Name, Load: step.Load}
		if len(step.Point) > 0 {
			load.Name += " at " + plan.Describe(step.Point)
		}
		if key := load.Name + load.Load.Key(); !step.Preconditioning && !named[key] {
			named[key] = true
			predicting.Loads = append(predicting.Loads, load)
		}
	}
	if p.Predicted, err = predicting.Run(ctx); err != nil {
		return p, err
	}
	if p, err = s.Store.AddPrediction(ctx, id, p); err != nil {
		return p, err
	}
	return p, s.confront(ctx, kept, &p, map[int64][]twin.Sample{})
}
