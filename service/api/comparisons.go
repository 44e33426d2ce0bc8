package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"patientheron/core/answer"
	"patientheron/core/compare"
	"patientheron/core/figure"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/quiet"
	"patientheron/core/setup"
	"patientheron/report"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
)

// ComparisonList is all kept comparisons, newest first.
type ComparisonList struct {
	Comparisons []resource.Comparison `json:"comparisons"`
	Listed
}

// Split is a measurement before and after a marker.
type Split struct {
	Marker resource.Marker `json:"marker"`
	judge.Halves
}

func (s *Service) registerComparisons(api huma.API) {
	register(s, api, takesKey(operation(http.MethodPost, "/comparisons", "compare", "Compare candidates with a baseline", http.StatusOK, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity)),
		func(ctx context.Context, in *struct{ Body resource.NewComparison }) (*body[resource.Compared], error) {
			compared, err := s.compare(ctx, in.Body)
			if err != nil {
				return nil, err
			}
			return &body[resource.Compared]{compared}, nil
		})

	register(s, api, operation(http.MethodGet, "/comparisons", "list-comparisons", "All kept comparisons, newest first", http.StatusOK),
		func(ctx context.Context, in *Page) (*body[ComparisonList], error) {
			all, unreadable, err := s.Store.Comparisons(ctx)
			if err != nil {
				return nil, err
			}
			comparisons, listed, err := paged(all, unreadable, *in, func(r resource.Comparison) int64 { return r.ID })
			if err != nil {
				return nil, err
			}
			return &body[ComparisonList]{ComparisonList{comparisons, listed}}, nil
		})

	register(s, api, operation(http.MethodGet, "/comparisons/{id}", "get-comparison", "A kept comparison with what comes of it", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*body[resource.Compared], error) {
			kept, err := s.Store.Comparison(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			compared, err := s.workOut(ctx, kept)
			if err != nil {
				return nil, err
			}
			return &body[resource.Compared]{compared}, nil
		})

	register(s, api, operation(http.MethodDelete, "/comparisons/{id}", "remove-comparison", "Remove a comparison; its runs stay", http.StatusNoContent, http.StatusNotFound),
		func(ctx context.Context, in *ByID) (*struct{}, error) {
			if err := s.Store.RemoveComparison(ctx, in.ID); err != nil {
				return nil, err
			}
			return nil, nil
		})

	register(s, api, operation(http.MethodGet, "/runs/{id}/shape", "get-shape", "What the repeats and sweeps of a run show together", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			P99 quantity.Seconds `query:"p99" doc:"In seconds, at most 3600: also find the largest rate whose p99 latency stays within this"`
		}) (*body[resource.Shape], error) {
			// Not by the contract's own limits: their refusal would repeat what is no
			// number in JSON.
			if in.P99 < 0 || in.P99 > 3600 || math.IsNaN(float64(in.P99)) {
				return nil, huma.Error422UnprocessableEntity("p99 is not a finite number of seconds from 0 to 3600")
			}
			side, err := s.side(ctx, resource.Group{Runs: []int64{in.ID}})
			if err != nil {
				return nil, err
			}
			detail, err := s.detail(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			shape, err := s.shape(ctx, side, detail.Run, detail.Measurements, detail.Variants, in.P99)
			if err != nil {
				return nil, err
			}
			return &body[resource.Shape]{shape}, nil
		})

	register(s, api, operation(http.MethodPost, "/runs/{id}/markers", "mark-run", "Set a marker at the present moment of a run", http.StatusCreated, http.StatusNotFound, http.StatusConflict),
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Name string `json:"name" minLength:"1" maxLength:"120" pattern:"^[^\\p{Cc}\\p{Cf}]*$" doc:"What happened"`
			}
		}) (*body[resource.Marker], error) {
			if _, err := s.Store.Run(ctx, in.ID); err != nil {
				return nil, err
			}
			marker, err := s.Runner.Mark(ctx, in.ID, in.Body.Name)
			if err != nil {
				return nil, err
			}
			return &body[resource.Marker]{marker}, nil
		})

	register(s, api, operation(http.MethodPost, "/runs/{id}/faults", "inject-fault", "Inject a fault into the simulated array that a run measures, and mark it", http.StatusCreated, http.StatusNotFound, http.StatusConflict, http.StatusUnprocessableEntity),
		func(ctx context.Context, in *struct {
			ByID
			Body struct {
				Fault string `json:"fault" minLength:"1" maxLength:"400" doc:"A fault as in an array file, such as {kind: path drops, path: 1, for: 2s}"`
			}
		}) (*body[resource.Marker], error) {
			if _, err := s.Store.Run(ctx, in.ID); err != nil {
				return nil, err
			}
			marker, err := s.Runner.Inject(ctx, in.ID, in.Body.Fault)
			if err != nil {
				return nil, err
			}
			return &body[resource.Marker]{marker}, nil
		})

	register(s, api, operation(http.MethodGet, "/runs/{id}/markers/{marker}", "split-at-marker", "The measurement under a marker, before it and after it", http.StatusOK, http.StatusNotFound),
		func(ctx context.Context, in *struct {
			ByID
			Marker int64 `path:"marker" minimum:"1"`
		}) (*body[Split], error) {
			split, err := s.split(ctx, in.ID, in.Marker)
			if err != nil {
				return nil, err
			}
			return &body[Split]{split}, nil
		})

	page := pageAnswer
	run := operation(http.MethodGet, "/runs/{id}/report", "report-run", "A run as one self-contained page", http.StatusOK, http.StatusNotFound)
	run.Responses = page
	register(s, api, run, func(ctx context.Context, in *ByID) (*file, error) {
		results, err := s.outlined(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		side, err := s.side(ctx, resource.Group{Runs: []int64{in.ID}})
		if err != nil {
			return nil, err
		}
		variants, err := s.Store.Variants(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		shape, err := s.shape(ctx, side, results.Run, results.Measurements, variants, 0)
		if err != nil {
			return nil, err
		}
		var content bytes.Buffer
		if err := report.WriteRun(&content, results, shape); err != nil {
			return nil, err
		}
		return htmlFile(fmt.Sprintf("heron-run-%d.html", in.ID), content.Bytes()), nil
	})

	comparison := operation(http.MethodPost, "/comparisons/report", "report-comparison", "A comparison as one self-contained page", http.StatusOK, http.StatusNotFound, http.StatusUnprocessableEntity)
	comparison.Responses = page
	register(s, api, comparison, func(ctx context.Context, in *struct{ Body resource.NewComparison }) (*file, error) {
		in.Body.Keep = false
		compared, err := s.compare(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		return s.comparisonReport(ctx, compared)
	})

	kept := operation(http.MethodGet, "/comparisons/{id}/report", "report-kept-comparison", "A kept comparison as one self-contained page", http.StatusOK, http.StatusNotFound)
	kept.Responses = page
	register(s, api, kept, func(ctx context.Context, in *ByID) (*file, error) {
		c, err := s.Store.Comparison(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		compared, err := s.workOut(ctx, c)
		if err != nil {
			return nil, err
		}
		return s.comparisonReport(ctx, compared)
	})
}

// pageAnswer describes the answer of a call that gives a page.
var pageAnswer = map[string]*huma.Response{"200": {Description: "The page", Content: map[string]*huma.MediaType{"text/html": {Schema: &huma.Schema{Type: huma.TypeString}}}}}

func htmlFile(name string, content []byte) *file {
	return &file{"text/html; charset=utf-8", fmt.Sprintf("attachment; filename=%q", name), content}
}

func (s *Service) comparisonReport(ctx context.Context, compared resource.Compared) (*file, error) {
	runs := map[int64]resource.RunDetail{}
	for _, group := range append([]resource.Group{compared.Baseline}, compared.Candidates...) {
		for _, id := range group.Runs {
			detail, err := s.detail(ctx, id)
			if err != nil {
				return nil, err
			}
			runs[id] = detail
		}
	}
	histogram := func(id int64) (*measure.Histogram, error) {
		of, err := s.Store.Histograms(ctx, id)
		if err != nil {
			return nil, err
		}
		together := measure.NewHistogram()
		for class := range measure.EachClass() {
			if h := of[class]; h != nil && class.Moves() {
				together.Merge(h)
			}
		}
		return together, nil
	}
	var content bytes.Buffer
	if err := report.WriteComparison(&content, compared, runs, histogram); err != nil {
		return nil, err
	}
	return htmlFile("heron-comparison.html", content.Bytes()), nil
}

// compare works a new comparison out, and keeps it when asked to.
func (s *Service) compare(ctx context.Context, n resource.NewComparison) (resource.Compared, error) {
	c := resource.Comparison{Name: n.Name, Baseline: n.Baseline, Candidates: n.Candidates, Noise: n.Noise, Weights: n.Weights, Asked: n.Asked}
	if err := compare.CheckWeights(n.Weights); err != nil {
		return resource.Compared{}, err
	}
	if c.Noise == 0 {
		c.Noise = compare.Noise
	}
	compared, err := s.workOut(ctx, c)
	if err == nil {
		err = compared.Result.Stages(c.Weights)
	}
	if err != nil || !n.Keep {
		return compared, err
	}
	if c.Name == "" {
		c.Name = compared.Name
	}
	compared.Comparison, err = s.Store.AddComparison(ctx, c)
	if errors.Is(err, store.ErrTaken) {
		err = fmt.Errorf("%w: a comparison of this name is kept; choose another name", err)
	}
	return compared, err
}

// workOut works a comparison out from its runs.
func (s *Service) workOut(ctx context.Context, c resource.Comparison) (resource.Compared, error) {
	groups := append([]resource.Group{c.Baseline}, c.Candidates...)
	for _, group := range groups {
		if (group.Marker == "") != (group.Half == "") {
			return resource.Compared{}, fmt.Errorf("%w: a half of a measurement is named by a marker and which side of it; name both", compare.ErrInvalid)
		}
		if once := slices.Compact(slices.Sorted(slices.Values(group.Runs))); len(once) < len(group.Runs) {
			return resource.Compared{}, fmt.Errorf("%w: a run stands twice on one side; counted again it says nothing more, and the interval would look narrower than it is", compare.ErrInvalid)
		}
	}
	for _, group := range c.Candidates {
		for _, id := range group.Runs {
			if slices.Contains(c.Baseline.Runs, id) && len(c.Asked.As) == 0 && !group.Apart(c.Baseline) {
				return resource.Compared{}, fmt.Errorf("%w: run %d is in the baseline and in a candidate; compare it with another run, or two of its stages (as), or what it did before and after a marker", compare.ErrInvalid, id)
			}
		}
	}
	sides := make([]compare.Side, len(groups))
	gathering, failed := make([]func(), len(groups)), make([]error, len(groups))
	for i, group := range groups {
		gathering[i] = func() {
			if sides[i], failed[i] = s.side(ctx, group); failed[i] != nil && i == 0 {
				failed[i] = fmt.Errorf("the baseline: %w", failed[i])
			} else if failed[i] != nil {
				failed[i] = fmt.Errorf("a candidate: %w", failed[i])
			}
		}
	}
	quiet.Spread(gathering)
	for _, err := range failed {
		if err != nil {
			return resource.Compared{}, err
		}
	}
	if err := s.addPast(ctx, sides); err != nil {
		return resource.Compared{}, err
	}
	if err := s.named(sides, c.Asked.As); err != nil {
		return resource.Compared{}, err
	}
	baseline, candidates := sides[0], sides[1:]
	names := []string{}
	for _, side := range candidates {
		names = append(names, side.Name)
	}
	if c.Name == "" {
		c.Name = strings.Join(names, ", ") + " against " + baseline.Name
	}
	result := compare.Sides(baseline, candidates, c.Noise)
	result.Weigh(c.Weights)
	return resource.Compared{Comparison: c, Result: result, Answers: answer.Of(sides, &result, answer.Asked{Gain: c.Noise, Within: c.Asked.Within}), Figures: figure.All()}, nil
}

// named tells the candidates which of their stages are compared with stages by other names. Of a
// run that is on both sides only those are.
func (s *Service) named(sides []compare.Side, as []compare.As) error {
	if len(as) == 0 {
		return nil
	}
	has := func(side compare.Side, stage string) bool {
		return slices.ContainsFunc(side.Samples, func(s compare.Sample) bool { return s.Stage == stage })
	}
	only := func(side *compare.Side, stage func(compare.As) string) {
		side.Samples = slices.DeleteFunc(slices.Clone(side.Samples), func(s compare.Sample) bool {
			return !slices.ContainsFunc(as, func(a compare.As) bool { return stage(a) == s.Stage })
		})
	}
	for i, a := range as {
		if slices.ContainsFunc(as[:i], func(b compare.As) bool { return a.Baseline == b.Baseline || a.Candidate == b.Candidate }) {
			return fmt.Errorf("%w: a stage stands in two of the pairs %q and others; each is compared with one", compare.ErrInvalid, a.Baseline+"="+a.Candidate)
		}
	}
	both := false
	for i := range sides[1:] {
		candidate := &sides[i+1]
		candidate.As = as
		for _, a := range as {
			switch {
			case !has(sides[0], a.Baseline):
				return fmt.Errorf("%w: the baseline has no stage %q", compare.ErrInvalid, a.Baseline)
			case !has(*candidate, a.Candidate):
				return fmt.Errorf("%w: %s has no stage %q", compare.ErrInvalid, candidate.Name, a.Candidate)
			}
		}
		if slices.ContainsFunc(candidate.Runs, func(id int64) bool { return slices.Contains(sides[0].Runs, id) }) {
			if i := slices.IndexFunc(as, func(a compare.As) bool { return a.Baseline == a.Candidate }); i >= 0 {
				return fmt.Errorf("%w: the stage %q of a run cannot be compared with itself", compare.ErrInvalid, as[i].Baseline)
			}
			both = true
			only(candidate, func(a compare.As) string { return a.Candidate })
		} else { // a stage of its own by that name has another counterpart, or none
			candidate.Samples = slices.DeleteFunc(slices.Clone(candidate.Samples), func(s compare.Sample) bool {
				return slices.ContainsFunc(as, func(a compare.As) bool { return a.Baseline == s.Stage && a.Baseline != a.Candidate })
			})
		}
	}
	if both {
		only(&sides[0], func(a compare.As) string { return a.Baseline })
		if len(as) == 1 { // which both would be called by the same name otherwise
			sides[0].Name += ", " + as[0].Baseline
			for i := range sides[1:] {
				sides[i+1].Name += ", " + as[0].Candidate
			}
		}
	}
	return nil
}

// side gathers what a group of runs measured.
func (s *Service) side(ctx context.Context, group resource.Group) (compare.Side, error) {
	side := compare.Side{Name: group.Name, Runs: group.Runs}
	var names []string
	for _, id := range group.Runs {
		run, err := s.Store.Run(ctx, id)
		if err != nil {
			return side, err
		}
		measurements, unreadable, err := s.Store.Measurements(ctx, id)
		if err != nil {
			return side, err
		}
		if len(unreadable) > 0 {
			return side, fmt.Errorf("%w: measurement %d of run %d cannot be read (%s); leave this run out", compare.ErrInvalid, unreadable[0].ID, id, unreadable[0].Reason)
		}
		names = append(names, fmt.Sprintf("%s (run %d)", run.Volume.Name, id))
		side.Setup = run.Setup // of the newest, when there are several
		side.Setups = append(side.Setups, run.Setup)
		side.Real = side.Real || !storage.TraitsOf(run.Volume.Kind).Virtual
		of := samples(run, measurements)
		if group.Marker != "" {
			if of, err = s.halves(ctx, run, of, group); err != nil {
				return side, err
			}
		}
		side.Samples = append(side.Samples, of...)
	}
	if side.Name == "" {
		side.Name = strings.Join(names, " + ")
		if group.Marker != "" {
			side.Name += fmt.Sprintf(", %s %q", group.Half, group.Marker)
		}
	}
	return side, nil
}

// halves are the measurements of a run that have a marker, as they were before it or after it.
// The two halves of a measurement are a pair.
func (s *Service) halves(ctx context.Context, run resource.Run, samples []compare.Sample, group resource.Group) (halves []compare.Sample, err error) {
	detail, err := s.detail(ctx, run.ID)
	if err != nil {
		return nil, err
	}
	for _, sample := range samples {
		i := slices.IndexFunc(detail.Markers, func(m resource.Marker) bool {
			return m.MeasurementID == sample.Measurement && m.Name == group.Marker
		})
		if i < 0 || sample.Summary == nil {
			continue
		}
		series, err := s.Store.Intervals(ctx, sample.Measurement)
		if err != nil {
			return nil, err
		}
		from, to := beside(detail, detail.Markers[i])
		half, after := judge.CutAt(series, from, detail.Markers[i].At, to)
		if group.Half == resource.After {
			half = after
		}
		sample.Summary, sample.Half = judge.SummaryOf(half, *sample.Summary), true
		if sample.Summary == nil {
			sample.Reason = fmt.Sprintf("there is too little %s the marker", group.Half)
		}
		sample.Joint, sample.Position = run.ID, int(sample.Measurement)
		halves = append(halves, sample)
	}
	if len(halves) == 0 {
		return nil, fmt.Errorf("%w: no measurement of run %d has a marker %q", compare.ErrInvalid, run.ID, group.Marker)
	}
	return halves, nil
}

func samples(run resource.Run, measurements []resource.Measurement) (of []compare.Sample) {
	for _, m := range measurements {
		if m.Preconditioning || !m.Status.Final() {
			continue
		}
		s := sample(m)
		if m.Stage >= 1 && m.Stage <= len(run.Plan.Stages) {
			s.Fit = run.Plan.Stages[m.Stage-1].Fit
		}
		if run.Joint != nil {
			s.Joint, s.Position = run.Joint.Runs[0], m.Position
		}
		of = append(of, s)
	}
	return of
}

// How far back a comparison looks for runs of the same, to learn by how much they
// differ: runs of a volume, those of the same setup among them, and measurements of
// all together.
const (
	pastRuns         = 48
	pastAlike        = 12
	pastMeasurements = 1500
)

// addPast gives each side that has fewer than three runs on real storage the other
// runs of the same setup on the same volume; what only one of two setups knows may
// differ, so that they are not the same. A run that is compared is not of the past: what
// is to be judged says nothing about how to judge it.
func (s *Service) addPast(ctx context.Context, sides []compare.Side) error {
	var compared []int64
	for _, side := range sides {
		compared = append(compared, side.Runs...)
	}
	read, all := map[int64][]compare.Sample{}, 0 // sides share volumes, and so their past
	for i := range sides {
		side := &sides[i]
		if !side.Real || len(side.Runs) >= 3 {
			continue
		}
		last, err := s.Store.Run(ctx, side.Runs[len(side.Runs)-1])
		if err != nil {
			return err
		}
		if last.VolumeID == 0 {
			continue
		}
		runs, _, err := s.Store.Runs(ctx, store.RunFilter{Volume: last.VolumeID, Limit: pastRuns})
		if err != nil {
			return err
		}
		for _, run := range runs {
			if slices.Contains(compared, run.ID) || !run.Status.Final() || !setup.Diff(side.Setup, run.Setup).Alike() {
				continue
			}
			if _, known := read[run.ID]; !known {
				if all > pastMeasurements {
					break
				}
				measurements, _, err := s.Store.Measurements(ctx, run.ID)
				if err != nil {
					return err
				}
				read[run.ID] = samples(run, measurements)
				all += len(measurements)
			}
			if side.Past = append(side.Past, compare.Side{Runs: []int64{run.ID}, Samples: read[run.ID]}); len(side.Past) == pastAlike {
				break
			}
		}
	}
	return nil
}

func sample(m resource.Measurement) compare.Sample {
	sample := compare.Sample{Run: m.RunID, Measurement: m.ID, Stage: m.Name, Point: m.Point, Load: m.Load, Summary: m.Summary}
	if m.Status != resource.Finished {
		sample.Reason = fmt.Sprintf("it is %s: %s", m.Status, m.Reason)
	}
	if m.Status == resource.Failed {
		sample.Summary = nil
	}
	for _, f := range m.Findings {
		if f.Weight != judge.Info {
			sample.Doubts = append(sample.Doubts, f)
		}
	}
	return sample
}

// split sets what came after a marker against what came before.
func (s *Service) split(ctx context.Context, run, marker int64) (Split, error) {
	detail, err := s.detail(ctx, run)
	if err != nil {
		return Split{}, err
	}
	for _, m := range detail.Markers {
		if m.ID == marker {
			series, err := s.Store.Intervals(ctx, m.MeasurementID)
			return Split{m, wentAt(series, detail, m)}, err
		}
	}
	return Split{}, fmt.Errorf("marker %d of run %d: %w", marker, run, errNotFound)
}

// reach says how far each measurement of a run came.
func (s *Service) reach(ctx context.Context, id int64) ([]resource.Reach, error) {
	run, err := s.detail(ctx, id)
	if err != nil {
		return nil, err
	}
	all := []resource.Reach{}
	for _, m := range run.Measurements {
		if m.Preconditioning || m.Summary == nil {
			continue
		}
		r := resource.Reach{MeasurementID: m.ID, Ceilings: run.SetupOf(m).For(setup.UseOf(m.Load).Measured(m.Summary.Total.Operations, m.Summary.Total.Bytes))}
		if limit := setup.Limit(r.Ceilings.Hops); limit != nil {
			r.Reached = float64(m.Summary.Total.Rate) / float64(limit.Rate)
		}
		all = append(all, r)
	}
	return all, nil
}
