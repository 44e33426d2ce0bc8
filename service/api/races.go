package api

import (
	"context"
	"errors"
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/race"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
)

// races tells how the races of a joint went: one for each measurement of its plan that
// all of its runs have begun, but for those that only precondition; or that at one position alone.
func (s *Service) races(ctx context.Context, id int64, position int) (resource.Races, error) {
	run, err := s.Store.Run(ctx, id)
	if err != nil {
		return resource.Races{}, err
	}
	if run.Joint == nil || run.Joint.As != plan.Race {
		return resource.Races{}, fmt.Errorf("run %d: %w", id, errNoRace)
	}
	var racers []racing
	for _, id := range run.Joint.Runs {
		detail, err := s.detail(ctx, id)
		if errors.Is(err, store.ErrNotFound) {
			continue // it was deleted; the others raced all the same
		}
		if err != nil {
			return resource.Races{}, err
		}
		racers = append(racers, racing{RunDetail: detail})
	}
	nameAll(racers)
	races := resource.Races{Joint: *run.Joint, Races: []resource.NamedRace{}}
	for _, m := range racers[0].Measurements {
		if m.Preconditioning || position > 0 && m.Position != position {
			continue
		}
		field := make([]race.Racer, 0, len(racers))
		for _, r := range racers {
			racer, begun, err := s.racer(ctx, r, m.Position)
			if err != nil {
				return races, err
			}
			if begun {
				field = append(field, racer)
			}
		}
		if len(field) > 1 {
			races.Races = append(races.Races, resource.NamedRace{Position: m.Position, Title: m.Title(), Point: m.Point, Repeat: m.Repeat, Repeats: m.Repeats, Race: race.Of(field)})
		}
	}
	return races, nil
}

// racesOf are the races of a run; none when it was not made as one.
func (s *Service) racesOf(ctx context.Context, run resource.Run) ([]resource.NamedRace, error) {
	if run.Joint == nil || run.Joint.As != plan.Race {
		return nil, nil
	}
	races, err := s.races(ctx, run.ID, 0)
	return races.Races, err
}

// racing is a run that races, under a name of its own.
type racing struct {
	resource.RunDetail
	name string
}

// nameAll names runs by their volumes, and by their numbers too where a volume stands
// twice.
func nameAll(racers []racing) {
	count := map[string]int{}
	for _, r := range racers {
		count[r.Volume.Name]++
	}
	for i, r := range racers {
		name := r.Volume.Name
		if count[name] > 1 {
			name = fmt.Sprintf("%s (run %d)", name, r.ID)
		}
		racers[i].name = name
	}
}

// racer is the measurement of a run at a position, when it has begun.
func (s *Service) racer(ctx context.Context, r racing, position int) (racer race.Racer, begun bool, err error) {
	for _, m := range r.Measurements {
		if m.Position != position {
			continue
		}
		racer = race.Racer{
			Name: r.name, Run: r.ID, Measurement: m.ID, Load: m.Load, Ended: m.Status.Final(),
			Look: s.looking(ctx, m.ID), Facts: r.Volume.Facts, Setup: r.SetupOf(m), Virtual: storage.TraitsOf(r.Volume.Kind).Virtual,
		}
		if racer.Ended && m.Status != resource.Finished {
			racer.Failed = fmt.Sprintf("%s: %s", m.Status, m.Reason)
		}
		if m.Summary != nil {
			racer.Phases = m.Summary.Phases
		}
		for _, marker := range r.Markers {
			if marker.MeasurementID == m.ID {
				racer.Moments = append(racer.Moments, race.Moment{At: marker.At, Name: marker.Name})
			}
		}
		_, err = s.Store.EachInterval(ctx, m.ID, 0, func(i measure.Interval) error {
			i.Spread, i.Inside = nil, nil // which take most of the room
			racer.Series = append(racer.Series, i)
			return nil
		})
		return racer, true, err
	}
	return racer, false, nil
}

// looking gives some intervals of a measurement with all that was told of them: a race holds
// no more of its series than it draws.
func (s *Service) looking(ctx context.Context, id int64) func(from, to int) []measure.Interval {
	return func(from, to int) (series []measure.Interval) {
		_, _ = s.Store.EachInterval(ctx, id, from, func(i measure.Interval) error {
			if i.Index >= to {
				return errEnough
			}
			series = append(series, i)
			return nil
		})
		return series
	}
}

// errEnough ends a reading of which enough was read.
var errEnough = errors.New("enough was read")
