package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload/files"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/access"
	"patientheron/service/runner"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// RunList is a page of runs.
type RunList struct {
	Runs []resource.Run `json:"runs" doc:"Newest first"`
	Listed
}

// Reaches is how far the measurements of a run came.
type Reaches struct {
	Reached []resource.Reach `json:"reached"`
}

func (s *Service) registerRuns(api huma.API) {
	register(s, api, operation(http.MethodGet, "/runs", "list-runs", "Runs, newest first", http.StatusOK),
		func(ctx context.Context, in *struct {
			Page
			Volume int64 `query:"volume" minimum:"0" doc:"Only runs of this volume"`
		}) (*body[RunList], error) {
			runs, unreadable, err := s.Store.Runs(ctx, store.RunFilter{Before: in.After, Volume: in.Volume, Limit: in.Limit + 1})
			if err != nil {
				return nil, err
			}
			runs, listed := pageOfRuns(runs, unreadable, in.Limit)
			listed.Total, err = s.Store.CountRuns(ctx, in.Volume)
			return &body[RunList]{RunList{runs, listed}}, err
		})

	register(s, api, operation(http.MethodPost, "/runs", "start-run", "Start a run, after those that wait already", http.StatusCreated, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewRun }) (*body[resource.Run], error) {
			run, err := s.startRun(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Run]{run}, nil
		})

	register(s, api, operation(http.MethodGet, "/runs/{id}", "get-run", "One run with its measurements", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.RunDetail], error) {
			detail, err := s.detail(ctx, in.ID)
			if err == nil {
				detail, err = s.marked(ctx, detail)
			}
			if err != nil {
				return nil, err
			}
			return &body[resource.RunDetail]{detail}, nil
		})

	register(s, api, operation(http.MethodPost, "/runs/{id}/stop", "stop-run", "Stop a run; what it measured is kept", http.StatusAccepted, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				After bool `json:"afterMeasurement,omitempty" doc:"Let the measurement under way finish first"`
			}
		}) (*struct{}, error) {
			if err := s.Runner.Stop(ctx, in.ID, in.Body.After); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodPost, "/runs/{id}/judge", "judge-run", "Judge what a run measured anew, by the rules of this version; its figures stay", http.StatusOK, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *ByID) (*body[resource.RunDetail], error) {
			detail, err := s.detail(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			if _, err := s.Runner.JudgeAgain(ctx, detail); err != nil {
				return nil, err
			}
			if detail, err = s.detail(ctx, in.ID); err != nil {
				return nil, err
			}
			return &body[resource.RunDetail]{detail}, nil
		})

	register(s, api, operation(http.MethodDelete, "/runs/{id}", "remove-run", "Remove a run that has ended, with all its results", http.StatusNoContent, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.removeRun(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodGet, "/runs/{id}/reach", "get-reach", "How far each measurement came against the ceilings of its setup", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[Reaches], error) {
			reached, err := s.reach(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[Reaches]{Reaches{reached}}, nil
		})

	register(s, api, operation(http.MethodGet, "/runs/{id}/races", "get-races", "Who was ahead, of a run that was made as a race", http.StatusOK, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *struct {
			ByID
			Position int `query:"position" minimum:"0" doc:"Only the race of this measurement within each run; 0 for all"`
		}) (*body[resource.Races], error) {
			races, err := s.races(ctx, in.ID, in.Position)
			if err != nil {
				return nil, err
			}
			return &body[resource.Races]{races}, nil
		})

	watch := operation(http.MethodGet, "/runs/{id}/events", "watch-run", "Watch a run: its present state, then what happens, until it ends", http.StatusOK, http.StatusNotFound)
	sse.Register(api, watch, map[string]any{"run": resource.Run{}, "measurement": resource.Measurement{}, "marker": resource.Marker{}, "point": resource.Point{}},
		func(ctx context.Context, in *struct {
			ByID
			Points bool `query:"points" default:"true" doc:"Also send each interval of the measurement under way"`
		}, send sse.Sender) {
			err := s.Runner.Watch(ctx, in.ID, in.Points, func(event runner.Event) error { return send.Data(event) })
			if err != nil && ctx.Err() == nil {
				s.Log.Debug("a watcher went away", "run", in.ID, "error", err)
			}
		})
}

// startRun starts a run on a volume, and those on the volumes beside it.
func (s *Service) startRun(ctx context.Context, n resource.NewRun) (resource.Run, error) {
	steps, err := n.Plan.Steps()
	if err != nil {
		return resource.Run{}, err
	}
	for _, name := range n.Override {
		if !slices.Contains(setup.CheckNames, name) {
			return resource.Run{}, fmt.Errorf("%w: there is no check %q to pass over; there are %s", plan.ErrInvalid, name, strings.Join(setup.CheckNames, ", "))
		}
	}
	variants, err := plan.Variants(steps)
	if err != nil {
		return resource.Run{}, err
	}
	if err := s.checkSources(ctx, steps); err != nil {
		return resource.Run{}, err
	}
	ids, volumes := append([]int64{n.VolumeID}, n.Beside...), []resource.Volume{}
	for i, id := range ids {
		on, err := s.Store.Volume(ctx, id)
		if err != nil {
			return resource.Run{}, fmt.Errorf("%w; register it first", err)
		}
		if err := s.fit(ctx, on, n.Plan, variants, len(ids)); err != nil {
			return resource.Run{}, about(on, len(ids), err)
		}
		if slices.Contains(ids[:i], id) && storage.TraitsOf(on.Kind).Overwritten && plan.Reach(steps).Writes {
			return resource.Run{}, fmt.Errorf("%w: %s stands twice among the volumes, and one run would write over what the other reads; name it once, or use a load that only reads", plan.ErrInvalid, on.Name)
		}
		volumes = append(volumes, on)
	}
	name := cmp.Or(n.Name, n.Plan.Name, steps[len(steps)-1].Name)
	runs, err := s.Runner.Submit(ctx, runner.Order{Name: name, Plan: n.Plan, Pace: n.Pace, Overrides: n.Override}, s.looked(ctx, volumes)...)
	if err != nil {
		return resource.Run{}, err
	}
	who := access.Who(ctx)
	for _, run := range runs {
		s.Log.Info("run asked for", "run", run.ID, "volume", run.Volume.Locator, "by", who.By, "session", who.Session)
	}
	return runs[0], nil
}

// about names the volume that an error is about, where there are several.
func about(on resource.Volume, volumes int, err error) error {
	if volumes < 2 {
		return err
	}
	return fmt.Errorf("%s: %w", on.Name, err)
}

// fit says what would stop a plan from being carried out on a volume, or on it as one of
// several.
func (s *Service) fit(ctx context.Context, on resource.Volume, p plan.Plan, variants []plan.Variant, volumes int) error {
	locator, err := parsed(ctx, on.Locator)
	if err != nil {
		return err
	}
	if err := runner.SameKind(on, locator); err != nil {
		return err
	}
	atOnce := 1
	if p.Beside == plan.Race {
		atOnce = volumes
	}
	for _, v := range variants {
		for _, step := range v.Steps {
			if err := runner.Fits(step.Load, on, atOnce); err != nil {
				return err
			}
		}
		extent := plan.Reach(v.Steps)
		locator, err := s.Bounds.With(locator, v.Changed)
		if err != nil {
			return err
		}
		if plan.OfExperiment(v.Steps) && len(locator.With) == 0 && len(v.Changed) > 0 {
			continue // a way that cannot be gone is a result
		}
		request := volume.Request{Size: extent.Size, Writes: extent.Writes, Files: extent.Files, NoBlocks: !extent.Blocks, Cached: extent.Cached, Consent: runner.Claim(on), Memory: runner.Spare()}
		if err := s.check(ctx, on, locator, request); err != nil {
			return err
		}
	}
	return nil
}

// pageOfRuns cuts what was read for a page, which is one record more than the page has, those that
// cannot be read among them.
func pageOfRuns(runs []resource.Run, unreadable []resource.Unreadable, limit int) ([]resource.Run, Listed) {
	listed := Listed{Unreadable: unreadable}
	if len(runs)+len(unreadable) <= limit {
		return runs, listed
	}
	var numbers []int64
	for _, r := range runs {
		numbers = append(numbers, r.ID)
	}
	for _, u := range unreadable {
		numbers = append(numbers, u.ID)
	}
	slices.Sort(numbers)
	listed.Next = numbers[len(numbers)-limit] // the newest come first
	older := func(id int64) bool { return id < listed.Next }
	listed.Unreadable = slices.DeleteFunc(unreadable, func(u resource.Unreadable) bool { return older(u.ID) })
	return slices.DeleteFunc(runs, func(r resource.Run) bool { return older(r.ID) }), listed
}

// checkSources reports a folder that files cannot be put from.
func (s *Service) checkSources(ctx context.Context, steps []plan.Step) error {
	checked := map[string]bool{"": true}
	for _, step := range steps {
		folder := files.FromFolder(step.Load)
		if checked[folder] {
			continue
		}
		checked[folder] = true
		patience, cancel := context.WithTimeout(ctx, agreeTime)
		_, err := patient.Ask(patience, folder, "source", func(context.Context) (any, error) { return nil, storage.CheckSource(folder) })
		cancel()
		if err != nil {
			return fmt.Errorf("%w: from: %w", plan.ErrInvalid, err)
		}
	}
	return nil
}

// check says what would stop a run. Consent that no longer holds is recorded as
// such.
func (s *Service) check(ctx context.Context, on resource.Volume, locator volume.Locator, request volume.Request) error {
	patience, cancel := context.WithTimeout(ctx, agreeTime)
	defer cancel()
	_, err := patient.Ask(patience, locator.String(), request.Question("check"), func(ctx context.Context) (any, error) { return nil, s.Bounds.Check(ctx, locator, request) })
	var lapsed *volume.LapsedError
	if errors.As(err, &lapsed) {
		return errors.Join(err, s.Store.LapseConsent(ctx, on.ID, lapsed.Why))
	}
	return err
}

func (s *Service) detail(ctx context.Context, id int64) (resource.RunDetail, error) {
	run, err := s.Store.Run(ctx, id)
	if err != nil {
		return resource.RunDetail{}, err
	}
	measurements, unreadable, err := s.Store.Measurements(ctx, id)
	if err != nil {
		return resource.RunDetail{}, err
	}
	markers, err := s.Store.Markers(ctx, id)
	if err != nil {
		return resource.RunDetail{}, err
	}
	variants, err := s.Store.Variants(ctx, id)
	if err != nil {
		return resource.RunDetail{}, err
	}
	return resource.RunDetail{Run: s.Runner.Waits(run), Measurements: measurements, Markers: markers, Variants: variants, Unreadable: unreadable}, nil
}

// marked adds to each marker of a run that has ended what came before it and after.
func (s *Service) marked(ctx context.Context, detail resource.RunDetail) (resource.RunDetail, error) {
	if !detail.Status.Final() {
		return detail, nil
	}
	read := map[int64][]measure.Interval{}
	for i := range detail.Markers {
		m := &detail.Markers[i]
		if read[m.MeasurementID] == nil {
			series, err := s.Store.Intervals(ctx, m.MeasurementID)
			if err != nil {
				return detail, err
			}
			read[m.MeasurementID] = series
		}
		halves := wentAt(read[m.MeasurementID], detail, *m)
		m.Went = &halves
	}
	return detail, nil
}

// wentAt is a measurement before and after a marker, up to the markers beside it.
func wentAt(series []measure.Interval, detail resource.RunDetail, m resource.Marker) judge.Halves {
	from, to := beside(detail, m)
	return judge.SplitAt(series, from, m.At, to)
}

// beside are the moments up to which a marker parts a measurement: those of the markers beside
// it, or of the end of the asked warm-up and of all.
func beside(detail resource.RunDetail, m resource.Marker) (from, to quantity.Seconds) {
	from, to = quantity.Seconds(0), quantity.Seconds(math.Inf(1))
	for _, of := range detail.Measurements {
		if of.ID == m.MeasurementID {
			from = of.Load.WarmUp
		}
	}
	for _, other := range detail.Markers {
		switch {
		case other.MeasurementID != m.MeasurementID:
		case other.At < m.At:
			from = max(from, other.At)
		case other.At > m.At:
			to = min(to, other.At)
		}
	}
	return from, to
}

func (s *Service) removeRun(ctx context.Context, id int64) error {
	status, err := s.Store.RunStatus(ctx, id)
	if err != nil {
		return err
	}
	if !status.Final() {
		return fmt.Errorf("run %d: %w: it is %s; stop it first", id, errBusy, status)
	}
	return s.Store.RemoveRun(ctx, id)
}

func init() { sse.WriteTimeout = 10 * time.Second }
