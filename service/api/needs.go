package api

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/sync/errgroup"

	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/need"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/wall"
	"patientheron/format/needfile"
	"patientheron/report"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
)

// NeedList is all kept need sheets by name.
type NeedList struct {
	Needs []resource.NeedSheet `json:"needs"`
	Listed
}

// CheckedNeed is a need sheet that was read, and what it asks for.
type CheckedNeed struct {
	Need    need.Need     `json:"need"`
	Demands []need.Demand `json:"demands"`
}

// Missing is what has to be measured on a volume to judge a need.
type Missing struct {
	Plan    plan.Plan `json:"plan" doc:"Without stages where nothing is missing"`
	There   []string  `json:"there" doc:"Uses that were measured"`
	Without []string  `json:"without" doc:"Uses that name a stage and no load, so that it is not known what to measure"`
}

func (s *Service) registerNeeds(api huma.API) {
	register(s, api, operation(http.MethodGet, "/needs", "list-needs", "All kept need sheets", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[NeedList], error) {
			all, unreadable, err := s.Store.Needs(ctx)
			if err != nil {
				return nil, err
			}
			needs, listed, err := paged(all, unreadable, *in, func(r resource.NeedSheet) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			return &body[NeedList]{NeedList{needs, listed}}, nil
		})

	register(s, api, operation(http.MethodPost, "/needs", "keep-need", "Keep a need sheet under its name", http.StatusCreated, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewNeed }) (*body[resource.NeedSheet], error) {
			return s.keepNeed(ctx, in.Body, 0)
		})

	register(s, api, operation(http.MethodPut, "/needs/{id}", "change-need", "Put another sheet in the place of a kept one", http.StatusOK, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body resource.NewNeed
		}) (*body[resource.NeedSheet], error) {
			return s.keepNeed(ctx, in.Body, in.ID)
		})

	register(s, api, operation(http.MethodGet, "/needs/{id}", "get-need", "A kept need sheet", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.NeedSheet], error) {
			kept, err := s.Store.Need(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &body[resource.NeedSheet]{kept}, nil
		})

	register(s, api, operation(http.MethodDelete, "/needs/{id}", "remove-need", "Remove a need sheet; what was measured stays", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Store.RemoveNeed(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodPost, "/needs/check", "check-need", "Read a need sheet and say what it asks for; nothing is kept", http.StatusOK, http.StatusUnprocessableEntity),
		func(_ context.Context, in *struct{ Body resource.NewNeed }) (*body[CheckedNeed], error) {
			n, err := needfile.Read([]byte(in.Body.Text))
			if err != nil {
				return nil, err
			}
			return &body[CheckedNeed]{CheckedNeed{n, n.Demands()}}, nil
		})

	register(s, api, operation(http.MethodPost, "/needs/judge", "judge-setups", "Judge setups by need sheets", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct{ Body resource.NewVerdicts }) (*body[resource.Verdicts], error) {
			verdicts, err := s.judge(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Verdicts]{verdicts}, nil
		})

	register(s, api, operation(http.MethodPost, "/volumes/{id}/needed", "list-needed", "What has to be measured on a volume to judge it by a need sheet", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body resource.NewNeeded
		}) (*body[Missing], error) {
			missing, err := s.missing(ctx, in.ID, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[Missing]{missing}, nil
		})

	decision := operation(http.MethodPost, "/needs/report", "report-verdicts", "How setups stand to need sheets, as one self-contained page", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity)
	decision.Responses = pageAnswer
	register(s, api, decision, func(ctx context.Context, in *struct{ Body resource.NewVerdicts }) (*file, error) {
		verdicts, err := s.judge(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		var content bytes.Buffer
		if err := report.WriteDecision(&content, verdicts); err != nil {
			return nil, err
		}
		return htmlFile("heron-decision.html", content.Bytes()), nil
	})
}

// keepNeed keeps a sheet, in the place of another when that is not 0.
func (s *Service) keepNeed(ctx context.Context, in resource.NewNeed, id int64) (*body[resource.NeedSheet], error) {
	n, err := needfile.Read([]byte(in.Text))
	if err != nil {
		return nil, err
	}
	sheet := resource.NeedSheet{ID: id, Name: n.Name, Text: in.Text}
	if id == 0 {
		sheet, err = s.Store.AddNeed(ctx, sheet)
	} else {
		sheet, err = s.Store.ChangeNeed(ctx, sheet)
	}
	if err != nil {
		return nil, err
	}
	return &body[resource.NeedSheet]{sheet}, nil
}

// judge judges setups by needs.
func (s *Service) judge(ctx context.Context, asked resource.NewVerdicts) (resource.Verdicts, error) {
	v := resource.Verdicts{Judged: []resource.Judgement{}, Figures: figure.All()}
	sheets, err := s.sheets(ctx, asked)
	if err != nil {
		return v, err
	}
	var sides []compare.Side
	if sides, v.Left, err = s.sidesOf(ctx, asked); err != nil {
		return v, err
	}
	for _, sheet := range sheets {
		n, err := needfile.Read([]byte(sheet.Text))
		if err != nil {
			if sheet.ID == 0 {
				return v, err
			}
			v.Judged = append(v.Judged, resource.Judgement{NeedID: sheet.ID, Error: err.Error(), Judged: need.Judged{Need: need.Need{Name: sheet.Name, Uses: []need.Use{}}, Demands: []need.Demand{}, Setups: []need.Answer{}, Remarks: []string{}, Worth: []need.Worth{}}})
			continue
		}
		of := resource.Judgement{NeedID: sheet.ID}
		candidates := sides
		if len(asked.Setups) == 0 && len(asked.Volumes) == 0 {
			candidates, of.Untouched = n.Touched(sides)
		}
		of.Judged = need.Judge(n, candidates)
		v.Judged = append(v.Judged, of)
	}
	return v, nil
}

// sheets are the needs that are asked about.
func (s *Service) sheets(ctx context.Context, asked resource.NewVerdicts) (sheets []resource.NeedSheet, err error) {
	if asked.Text != "" {
		sheets = append(sheets, resource.NeedSheet{Text: asked.Text})
	}
	for _, id := range asked.Needs {
		kept, err := s.Store.Need(ctx, id)
		if err != nil {
			return nil, err
		}
		sheets = append(sheets, kept)
	}
	if asked.Text == "" && len(asked.Needs) == 0 {
		sheets, _, err = s.Store.Needs(ctx)
	}
	return sheets, err
}

// sidesOf gathers the setups that are asked about, all together. Of volumes that were not
// named those that cannot be judged are left out, with the reason.
func (s *Service) sidesOf(ctx context.Context, asked resource.NewVerdicts) (sides []compare.Side, left []string, err error) {
	all := len(asked.Setups) == 0 && len(asked.Volumes) == 0
	volumes := asked.Volumes
	if all {
		registered, _, err := s.Store.Volumes(ctx)
		if err != nil {
			return nil, nil, err
		}
		for _, v := range registered {
			volumes = append(volumes, v.ID)
		}
	}
	sides = make([]compare.Side, len(asked.Setups)+len(volumes))
	reasons := make([]string, len(sides))
	gathering, together := errgroup.WithContext(ctx)
	gathering.SetLimit(8)
	for i, group := range asked.Setups {
		gathering.Go(func() (err error) {
			defer wall.Guard(&err)
			if once := slices.Compact(slices.Sorted(slices.Values(group.Runs))); len(once) < len(group.Runs) {
				return fmt.Errorf("%w: a run stands twice in one setup; counted again it says nothing more", compare.ErrInvalid)
			}
			sides[i], err = s.side(together, group)
			return err
		})
	}
	for i, id := range volumes {
		gathering.Go(func() (err error) {
			defer wall.Guard(&err)
			n := len(asked.Setups) + i
			if sides[n], reasons[n], err = s.measuredSetup(together, id); err == nil && reasons[n] != "" && !all {
				return fmt.Errorf("%w: %s", compare.ErrInvalid, reasons[n])
			}
			return err
		})
	}
	if err := gathering.Wait(); err != nil {
		return nil, nil, err
	}
	kept := sides[:0]
	for i, side := range sides {
		if reasons[i] == "" {
			kept = append(kept, side)
		} else {
			left = append(left, reasons[i])
		}
	}
	for i := range kept {
		if err := s.addPast(ctx, kept[i:i+1]); err != nil {
			return nil, nil, err
		}
	}
	return kept, left, nil
}

// measuredSetup is what was measured of a volume: all runs of the setup that was measured
// last, with the price and the like as they are told today. The reason says why there is
// none.
func (s *Service) measuredSetup(ctx context.Context, id int64) (side compare.Side, reason string, err error) {
	volume, err := s.Store.Volume(ctx, id)
	if err != nil {
		return side, "", err
	}
	runs, _, err := s.Store.Runs(ctx, store.RunFilter{Volume: id, Limit: pastRuns})
	if err != nil {
		return side, "", err
	}
	group, degraded := resource.Group{Name: volume.Name}, resource.Group{}
	var newest, lacking *resource.Run // the newest, and the newest that lacked members
	for i, run := range runs {
		if !run.Status.Final() || run.Status == resource.Failed {
			continue
		}
		if newest == nil {
			newest = &runs[i]
		}
		if setup.Diff(newest.Setup, run.Setup).Alike() {
			group.Runs = append(group.Runs, run.ID)
		} else if run.Setup.DegradedOf(newest.Setup) && (lacking == nil || setup.Diff(lacking.Setup, run.Setup).Alike()) {
			lacking = &runs[i]
			degraded.Runs = append(degraded.Runs, run.ID)
		}
	}
	if newest == nil {
		return side, fmt.Sprintf("nothing was measured on %q yet; measure it first", volume.Name), nil
	}
	slices.Sort(group.Runs)
	if side, err = s.side(ctx, group); err != nil {
		return side, "", err
	}
	missing, err := s.side(ctx, degraded)
	if err != nil {
		return side, "", err
	}
	side.Degraded = missing.Samples
	told, err := s.Store.LatestSetup(ctx, id)
	side.Setup = side.Setup.Over(told.Setup.Beside())
	return side, "", err
}

// missing is what has to be measured on a volume to judge it by a need.
func (s *Service) missing(ctx context.Context, id int64, wanted resource.NewNeeded) (Missing, error) {
	m := Missing{There: []string{}, Without: []string{}}
	n, err := needfile.Read([]byte(wanted.Text))
	if err != nil {
		return m, err
	}
	side, _, err := s.measuredSetup(ctx, id)
	if err != nil {
		return m, err
	}
	var members []int // that are missing in turn
	switch {
	case wanted.Degraded:
		if n, members, err = s.missable(ctx, id, n, side); err != nil {
			return m, err
		}
	case !wanted.All:
		n, m.There = n.Unmeasured(side)
	}
	p, without := n.Plan(wanted.Repeats)
	if m.Plan = p; wanted.Degraded {
		m.Plan = need.InStates(p, members, cmp.Or(wanted.Rebuild, usualRebuild))
	}
	m.Without = append(m.Without, without...)
	return m, nil
}

// usualRebuild is the rate at which a member is filled unless another is asked for.
const usualRebuild quantity.ByteRate = 100e6

// missable is a need as it is measured of an array that lacks a member, and which members are
// missing in turn; the error is about storage that cannot be made to, or would not survive it.
func (s *Service) missable(ctx context.Context, id int64, n need.Need, side compare.Side) (need.Need, []int, error) {
	volume, err := s.Store.Volume(ctx, id)
	if err != nil {
		return n, nil, err
	}
	if !storage.TraitsOf(volume.Kind).Described {
		return n, nil, fmt.Errorf("%w: %q is real storage, of which no member is taken away for a measurement; measure it while one is missing, and it is judged by that as well, or measure its twin (heron twin)", need.ErrInvalid, volume.Name)
	}
	locator, err := parsed(ctx, volume.Locator)
	if err != nil {
		return n, nil, err
	}
	whole, _, _, err := s.Bounds.Describe(ctx, locator)
	if err != nil {
		return n, nil, err
	}
	if after := whole.After(setup.AnyMember); after.Survives == setup.No {
		return n, nil, fmt.Errorf("%w: %q does not survive it when a member is missing: %s", need.ErrInvalid, volume.Name, after.Words)
	}
	described, err := s.Bounds.ReadArray(locator)
	if err != nil {
		return n, nil, err
	}
	return n.WithLoads(side), described.Kinds(), nil
}
