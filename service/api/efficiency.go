package api

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/compare"
	"patientheron/core/efficiency"
	"patientheron/core/plan"
	"patientheron/resource"
)

func (s *Service) registerEfficiency(api huma.API) {
	register(s, api, operation(http.MethodPost, "/efficiency", "set-against-members", "How much of its members an array makes", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewEfficiency }) (*body[efficiency.Efficiency], error) {
			result, err := s.efficiency(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[efficiency.Efficiency]{result}, nil
		})
}

func (s *Service) efficiency(ctx context.Context, in resource.NewEfficiency) (r efficiency.Efficiency, err error) {
	array, _, err := s.aloneAndInRaces(ctx, in.Array)
	if err != nil {
		return r, err
	}
	members, races := []compare.Side{}, []map[int64]compare.Side{}
	for _, m := range in.Members {
		alone, raced, err := s.aloneAndInRaces(ctx, m)
		if err != nil {
			return r, err
		}
		members, races = append(members, alone), append(races, raced)
	}
	all := append([]compare.Side{array}, members...)
	for i, of := range all {
		for _, other := range all[:i] {
			if slices.ContainsFunc(of.Runs, func(run int64) bool { return slices.Contains(other.Runs, run) }) {
				return r, fmt.Errorf("%w: %q and %q are the same runs; name the array first, and then each member once", compare.ErrInvalid, other.Name, of.Name)
			}
		}
	}
	return efficiency.Of(array, members, together(races)), nil
}

// aloneAndInRaces is what was measured of a setup: alone, and in each race, by the first of its
// runs.
func (s *Service) aloneAndInRaces(ctx context.Context, of resource.MeasuredSetup) (alone compare.Side, races map[int64]compare.Side, err error) {
	if len(of.Runs) > 0 {
		alone, err = s.side(ctx, resource.Group{Runs: of.Runs})
	} else {
		var reason string
		if alone, reason, err = s.measuredSetup(ctx, of.VolumeID); err == nil && reason != "" {
			err = fmt.Errorf("%w: %s", compare.ErrInvalid, reason)
		}
	}
	if err != nil {
		return alone, nil, err
	}
	races = map[int64]compare.Side{}
	inRace := map[int64]bool{}
	for _, id := range alone.Runs {
		run, err := s.Store.Run(ctx, id)
		if err != nil {
			return alone, nil, err
		}
		inRace[id] = run.Joint != nil && run.Joint.As == plan.Race
	}
	all := alone.Samples
	alone.Samples = nil
	for _, sample := range all {
		if !inRace[sample.Run] {
			alone.Samples = append(alone.Samples, sample)
			continue
		}
		race := races[sample.Joint]
		race.Name, race.Setup, race.Real, race.Runs = alone.Name, alone.Setup, alone.Real, []int64{sample.Run}
		race.Samples = append(race.Samples, sample)
		races[sample.Joint] = race
	}
	if sides := []compare.Side{alone}; alone.Real {
		err = s.addPast(ctx, sides)
		alone = sides[0]
	}
	return alone, races, err
}

// together are the races that all members were in; none where there is no such race.
func together(races []map[int64]compare.Side) (atOnce []compare.Side) {
	for _, of := range races {
		var joined compare.Side
		for _, joint := range slices.Sorted(maps.Keys(of)) {
			side := of[joint]
			if slices.ContainsFunc(races, func(other map[int64]compare.Side) bool { return len(other[joint].Runs) == 0 }) {
				continue
			}
			runs, samples := append(joined.Runs, side.Runs...), append(joined.Samples, side.Samples...)
			joined = side
			joined.Runs, joined.Samples = runs, samples
		}
		if len(joined.Samples) == 0 {
			return nil
		}
		atOnce = append(atOnce, joined)
	}
	return atOnce
}
