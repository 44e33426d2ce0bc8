package api

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/format/setupfile"
	"patientheron/resource"
	"patientheron/service/look"
	"patientheron/service/runner"
	"patientheron/service/store"
)

// LookFor says what a look is for.
type LookFor struct {
	Span    quantity.Bytes   `query:"span" minimum:"0" doc:"Span of the load to come; 0 when that is open"`
	Writes  bool             `query:"writes" doc:"The load will write. In a folder an empty test file is then made and removed at once, to find out how one can be made"`
	Cached  bool             `query:"cached" doc:"The load will go through this host's memory"`
	Address string           `query:"address" maxLength:"64" doc:"Address of the storage, to try packets to"`
	Timeout quantity.Seconds `query:"timeout" minimum:"0" maximum:"60" doc:"Seconds that the look may take as a whole, for storage that answers slowly; 0 for a second and a half"`
}

// SetupFields is everything that may be known of a setup.
type SetupFields struct {
	Fields []setup.FactField `json:"fields"`
}

// SetupVersions is the versions of a volume's setup, newest first.
type SetupVersions struct {
	Versions []resource.SetupVersion `json:"versions"`
	Listed
}

func (s *Service) registerLooks(api huma.API) {
	register(s, api, operation(http.MethodGet, "/look", "look", "Look at any locator without registering it", http.StatusOK),
		func(ctx context.Context, in *struct {
			Locator string `query:"locator" minLength:"1" maxLength:"4096" required:"true"`
			LookFor
		}) (*body[resource.Look], error) {
			volume := resource.Volume{Locator: in.Locator}
			registered, _, err := s.Store.Volumes(ctx)
			if err != nil {
				return nil, err
			}
			for _, v := range registered {
				if v.Locator == in.Locator {
					volume = v
				}
			}
			return s.lookAt(ctx, volume, in.LookFor)
		})

	register(s, api, operation(http.MethodGet, "/volumes/{id}/look", "look-at-volume", "Look at a volume: its layers, limits and checks", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			LookFor
		}) (*body[resource.Look], error) {
			volume, err := s.Store.Volume(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return s.lookAt(ctx, volume, in.LookFor)
		})

	register(s, api, operation(http.MethodGet, "/setup-fields", "list-setup-fields", "Everything that may be known of a setup", http.StatusOK),
		func(context.Context, *struct{}) (*body[SetupFields], error) {
			return &body[SetupFields]{SetupFields{setup.Fields()}}, nil
		})

	register(s, api, operation(http.MethodGet, "/volumes/{id}/setups", "list-setups", "The versions of a volume's setup, newest first", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			Page
		}) (*body[SetupVersions], error) {
			if _, err := s.Store.Volume(ctx, in.ID); err != nil {
				return nil, err
			}
			all, unreadable, err := s.Store.Setups(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			versions, listed, err := paged(all, unreadable, in.Page, func(v resource.SetupVersion) int64 { return int64(v.Version) })
			if err != nil {
				return nil, err
			}
			return &body[SetupVersions]{SetupVersions{versions, listed}}, nil
		})

	register(s, api, operation(http.MethodPut, "/volumes/{id}/setup", "tell-setup", "Tell facts of the setup of a volume; that makes a new version", http.StatusOK, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body resource.ToldSetup
		}) (*body[resource.SetupVersion], error) {
			version, err := s.tellSetup(ctx, in.ID, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.SetupVersion]{version}, nil
		})
}

func (s *Service) lookAt(ctx context.Context, volume resource.Volume, in LookFor) (*body[resource.Look], error) {
	latest := resource.SetupVersion{}
	if volume.ID > 0 {
		var err error
		if latest, err = s.Store.LatestSetup(ctx, volume.ID); err != nil {
			return nil, err
		}
	}
	told := latest.Setup.Only(setup.Told, setup.Measured)
	if in.Address != "" {
		if err := told.Set("transport.address", in.Address, setup.Told, time.Now().UTC()); err != nil {
			return nil, err
		}
	}
	found := look.At(ctx, look.Request{
		Bounds: s.Bounds, Locator: volume.Locator, Told: told, Consent: runner.Claim(volume), Measuring: s.Runner.Measuring() > 0,
		Timeout: time.Duration(in.Timeout * quantity.Seconds(time.Second)),
		Tries:   in.Writes, Asked: setup.Asked{Span: in.Span, Writes: in.Writes, Cached: in.Cached},
	})
	return &body[resource.Look]{found}, nil
}

// tellSetup joins what a user tells with what was told before, and with what is
// read now.
func (s *Service) tellSetup(ctx context.Context, id int64, told resource.ToldSetup) (resource.SetupVersion, error) {
	volume, err := s.Store.Volume(ctx, id)
	if err != nil {
		return resource.SetupVersion{}, err
	}
	latest, err := s.Store.LatestSetup(ctx, id)
	if err != nil {
		return latest, err
	}
	kept, err := join(told, latest, time.Now().UTC())
	if err != nil {
		return latest, err
	}
	// Looking takes a moment, in which others may tell something too: what is
	// read is looked for before, what is told is joined when nothing comes between.
	found := look.At(ctx, look.Request{Bounds: s.Bounds, Locator: volume.Locator, Told: kept, Consent: runner.Claim(volume), Measuring: true})
	return s.Store.ChangeSetup(ctx, id, func(now resource.SetupVersion) (setup.Setup, error) {
		kept, err := join(told, now, time.Now().UTC())
		if err != nil {
			return kept, err
		}
		next := found.Setup.Only(setup.Read, setup.Simulated).Over(news(kept, found.Setup, now))
		if err := next.Validate(); err != nil {
			return next, fmt.Errorf("together with what was read: %w", err)
		}
		return next, nil
	})
}

// news is what is told without what the look reads by itself, word for word, and what
// was not told before: a setup that is copied or edited as a whole repeats much that
// it should not hold on to when it changes.
func news(told, found setup.Setup, before resource.SetupVersion) setup.Setup {
	read := found.Only(setup.Read, setup.Simulated)
	had := before.Setup.Only(setup.Told, setup.Measured)
	return setup.Setup{Facts: slices.DeleteFunc(slices.Clone(told.Facts), func(f setup.Fact) bool {
		return f.Origin == setup.Told && f.Value == read.Text(f.Key) && had.Text(f.Key) == ""
	})}
}

// join is what was told and measured before, with what is told now.
func join(t resource.ToldSetup, latest resource.SetupVersion, now time.Time) (setup.Setup, error) {
	if t.Version != nil && *t.Version != latest.Version {
		return setup.Setup{}, fmt.Errorf("%w: version %d of the setup of volume %d was kept after version %d; look at it, and tell what is still to be told",
			store.ErrChanged, latest.Version, latest.VolumeID, *t.Version)
	}
	kept := latest.Setup.Only(setup.Told, setup.Measured)
	if t.Replace {
		kept = setup.Setup{}
	}
	if t.Text != "" {
		read, err := setupfile.Read([]byte(t.Text), now)
		if err != nil {
			return kept, err
		}
		kept = kept.Over(read)
	}
	for _, f := range t.Facts {
		origin := setup.Told
		if f.Measured {
			origin = setup.Measured
		}
		if err := kept.Set(f.Key, f.Value, origin, now); err != nil {
			return kept, err
		}
	}
	return kept, nil
}
