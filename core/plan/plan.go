// Package plan says what a run measures and in which order: stages of
// workloads, the fields each stage sweeps, repeats and settling.
//
// A Plan is a value; Steps turns it into the measurements to make, and
// Estimate says what they will take before the first one starts. Running them
// is the service's work.
//
//	steps, err := plan.Plan{Stages: []plan.Stage{{Load: spec, Repeats: 3}}}.Steps()
package plan

import (
	"cmp"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	_ "patientheron/core/workload/kinds" // any of which may be asked for
)

// ErrInvalid is wrapped by every error about an impossible plan.
var ErrInvalid = errors.New("impossible plan")

// limit is the number of measurements a plan may ask for.
const limit = 10_000

// Plan is an ordered list of stages.
type Plan struct {
	Name   string  `json:"name,omitempty" yaml:"name,omitempty" maxLength:"80" doc:"What this plan is called"`
	Why    string  `json:"why,omitempty" yaml:"why,omitempty" maxLength:"400" doc:"The question it answers, in a sentence"`
	Beside Beside  `json:"beside,omitempty" yaml:"beside,omitempty" enum:"in turn,race" doc:"How several volumes are measured under it: each measurement on one after the other, in turn, which is the default, or on all at the same moment, a race"`
	Stages []Stage `json:"stages" yaml:"stages" minItems:"1" maxItems:"100"`
}

// Beside is how several volumes are measured under one plan.
type Beside string

// The ways in which several volumes are measured. In turn, whatever drifts meanwhile
// meets all of them; in a race, each measurement begins on all at the same moment.
const (
	InTurn Beside = "in turn"
	Race   Beside = "race"
)

// MostBeside is how many volumes are measured under one plan together.
const MostBeside = 9

// together reports a plan that several volumes cannot be measured under as it asks.
func (p Plan) together() error {
	if p.Beside != "" && p.Beside != InTurn && p.Beside != Race {
		return fmt.Errorf("%w: several volumes are measured %q or as a %q, not %q", ErrInvalid, InTurn, Race, p.Beside)
	}
	searches := slices.IndexFunc(p.Stages, func(s Stage) bool { return s.Fit != nil || s.Tune != nil })
	if p.Beside == Race && searches >= 0 {
		return fmt.Errorf("%w: what stage %d measures next hangs on what each volume did; such volumes cannot race, measure them in turn", ErrInvalid, searches+1)
	}
	return nil
}

// Stage is one workload at every point of its sweep, repeated.
type Stage struct {
	Name         string        `json:"name,omitempty" yaml:"name,omitempty" maxLength:"80" doc:"What this stage is called; the default describes its workload, or its sweep"`
	Precondition *Precondition `json:"precondition,omitempty" yaml:"precondition,omitempty" doc:"Make this a stage that preconditions: it writes the whole span, and is no result"`
	Load         workload.Spec `json:"load" yaml:"load"`
	Sweep        []Axis        `json:"sweep,omitempty" yaml:"sweep,omitempty" maxItems:"8" doc:"Fields to vary; every combination is measured, the last axis fastest"`
	Shuffle      bool          `json:"shuffle,omitempty" yaml:"shuffle,omitempty" doc:"Visit the points of the sweep in a shuffled order, the same for the same seed"`
	Fit          *Fit          `json:"fit,omitempty" yaml:"fit,omitempty" doc:"Look for the largest value of a field at which the feeds of the load are kept"`
	Tune         *Tune         `json:"tune,omitempty" yaml:"tune,omitempty" doc:"Find out which of several parameters matter, and at which values"`
	Repeats      int           `json:"repeats,omitempty" yaml:"repeats,omitempty" minimum:"0" maximum:"1000" doc:"How often each point is measured; 0 means once"`
	Settle       Settle        `json:"settle,omitempty" yaml:"settle,omitempty" doc:"What to wait for before each measurement"`
}

// Precondition is how a preconditioning stage writes.
type Precondition struct {
	Passes int            `json:"passes" yaml:"passes" minimum:"1" maximum:"100" doc:"How often the span is written over"`
	Order  workload.Order `json:"order,omitempty" yaml:"order,omitempty" enum:"sequential,random" doc:"Default sequential"`
	Block  quantity.Bytes `json:"blockBytes,omitempty" yaml:"block,omitempty" minimum:"0" doc:"Default 128 KiB"`
}

// Settle is what a stage waits for before each measurement.
type Settle struct {
	Pause quantity.Seconds `json:"pauseSeconds,omitempty" yaml:"pause,omitempty" minimum:"0" maximum:"86400" doc:"Wait this long"`
	Quiet quantity.Seconds `json:"quietSeconds,omitempty" yaml:"quiet,omitempty" minimum:"0" maximum:"86400" doc:"Wait until the device's own counters stood still for a second, but at most this long"`
}

// Axis is one field of the workload, or one key of the array file that describes the
// volume or of the sessions with it, and the values it takes.
type Axis struct {
	Field  string   `json:"field" yaml:"field" doc:"Name of a field, as in a plan file, of a key of an array file, such as members.count or caches[0].size, or of a key of iSCSI sessions, such as MaxBurstLength"`
	Values []string `json:"values" yaml:"values" minItems:"1" maxItems:"200" doc:"Values as people type them; '1..64' stands for 1, 2, 4, … 64"`
}

// Setting is one field, or key of the volume, at one value.
type Setting struct {
	Field string `json:"field"`
	Value string `json:"value"`
}

// wholes are the parts of an array file that a sweep can change as a whole.
var wholes = []string{"shelves", "neighbours", "members", "layout", "limits", "controller", "caches", "thin", "snapshots", "tier", "link", "replica", "faults", "empty", "fileSystem", "pageCache"}

// OfArray reports whether a swept field is a key of an array file: a part of it, or one
// with a place within a part, such as members.count.
func OfArray(field string) bool {
	return strings.ContainsAny(field, ".[") || slices.Contains(wholes, field)
}

// OfSession reports whether a swept field is a key of the sessions with a target: one that
// begins with a capital letter, as the standards write them, or says which sessions there are.
func OfSession(field string) bool {
	ofLoad := slices.ContainsFunc(workload.Fields(), func(f workload.Field) bool { return strings.EqualFold(f.Name, field) })
	if field == "" || ofLoad || OfArray(field) {
		return false
	}
	return field[0] >= 'A' && field[0] <= 'Z' || field == "sessions" || field == "policy"
}

// OfVolume reports whether a swept field is about the volume and not about the load.
func OfVolume(field string) bool { return OfArray(field) || OfSession(field) }

// VolumeOf are the settings of a point that change the volume.
func VolumeOf(point []Setting) (of []Setting) {
	for _, s := range point {
		if OfVolume(s.Field) {
			of = append(of, s)
		}
	}
	return of
}

// Step is one measurement to make.
type Step struct {
	Stage           int    // number of the stage, from 0
	Name            string // of the stage
	Preconditioning bool   // the step prepares and is not a result
	Point           []Setting
	Repeat          int // from 1
	Repeats         int
	Load            workload.Spec
	Settle          Settle
	Source          bool // the folder that the files come from is measured alone
	// Fit and Tune are of steps whose measurement is chosen when it comes to it, and that
	// may not be needed.
	Fit  *Fit
	Tune *Tune
}

// Steps lists the measurements in the order in which they are made: each
// point is measured in all its repeats round by round, so that a drift of the
// storage spreads over all points. Repeat n has the seed of the stage plus n-1.
func (p Plan) Steps() ([]Step, error) {
	if len(p.Stages) == 0 {
		return nil, fmt.Errorf("%w: it has no stages; add at least one workload", ErrInvalid)
	}
	if err := p.together(); err != nil {
		return nil, err
	}
	var steps []Step
	for i, stage := range p.Stages {
		found, err := stage.steps(i)
		if err == nil && i > 0 {
			err = p.keepsPreconditioned(i)
		}
		if err != nil && len(p.Stages) == 1 {
			return nil, err
		}
		if err != nil {
			return nil, fmt.Errorf("stage %d (%s): %w", i+1, stage.title(), err)
		}
		if steps = append(steps, found...); len(steps) > limit {
			return nil, fmt.Errorf("%w: it asks for more than %d measurements; sweep fewer values", ErrInvalid, limit)
		}
	}
	return steps, nil
}

// keepsPreconditioned reports a stage that sweeps the array after another filled it: what was
// written is not on an array that is made anew.
func (p Plan) keepsPreconditioned(stage int) error {
	sweep := slices.Clone(p.Stages[stage].Sweep)
	if t := p.Stages[stage].Tune; t != nil {
		for _, tried := range t.Parameters {
			sweep = append(sweep, tried.Axis)
		}
	}
	swept := slices.IndexFunc(sweep, func(a Axis) bool { return OfArray(a.Field) })
	filled := slices.ContainsFunc(p.Stages[:stage], func(s Stage) bool { return s.Precondition != nil })
	if swept < 0 || !filled {
		return nil
	}
	return fmt.Errorf("%w: it sweeps %s, which makes the array anew, and what an earlier stage wrote is not on it; leave that stage out, and give each point a warm-up", ErrInvalid, sweep[swept].Field)
}

func (s Stage) title() string {
	switch {
	case s.Name == "" && s.Fit != nil:
		return "how many " + s.Fit.Field + " fit"
	case s.Name != "":
		return s.Name
	case s.Tune != nil:
		return "tuning"
	case s.Load.Name != "":
		return s.Load.Name
	case s.Precondition != nil:
		return "precondition"
	case len(s.Load.Blocks) == 0:
		return "no block size"
	case len(s.Sweep) > 0:
		fields := make([]string, len(s.Sweep))
		for i, axis := range s.Sweep {
			fields[i] = axis.Field
		}
		return "sweep of " + strings.Join(fields, " and ")
	}
	return s.Load.Describe()
}

func (s Stage) steps(number int) ([]Step, error) {
	load := s.Load
	if s.Precondition != nil {
		var err error
		if load, err = s.Precondition.load(load, s.Sweep); err != nil {
			return nil, err
		}
	}
	if s.Fit != nil {
		steps, err := s.fitSteps(load)
		for i := range steps {
			steps[i].Stage, steps[i].Name, steps[i].Settle = number, s.title(), s.Settle
		}
		return steps, err
	}
	if s.Tune != nil {
		steps, err := s.tuneSteps(load)
		for i := range steps {
			steps[i].Stage, steps[i].Name, steps[i].Settle = number, s.title(), s.Settle
		}
		return steps, err
	}
	points, err := s.points(load)
	if err != nil {
		return nil, err
	}
	if s.Shuffle {
		random := rand.New(rand.NewPCG(load.Seed, 0x5eed))
		random.Shuffle(len(points), func(i, j int) { points[i], points[j] = points[j], points[i] })
	}
	if s.Repeats < 0 || s.Repeats > 1000 {
		return nil, fmt.Errorf("%w: %d repeats; from 1 to 1000", ErrInvalid, s.Repeats)
	}
	if s.Settle.Pause < 0 || s.Settle.Quiet < 0 || s.Settle.Pause > 86400 || s.Settle.Quiet > 86400 {
		return nil, fmt.Errorf("%w: settling takes from nothing to a day", ErrInvalid)
	}
	repeats := max(s.Repeats, 1)
	if len(points)*repeats > limit {
		return nil, fmt.Errorf("%w: it asks for more than %d measurements; sweep fewer values", ErrInvalid, limit)
	}
	steps := make([]Step, 0, len(points)*repeats)
	for repeat := range repeats {
		for _, point := range points {
			point.Stage, point.Name, point.Preconditioning, point.Settle = number, s.title(), s.Precondition != nil, s.Settle
			if point.Load.Traits().Source != "" && repeat == 0 {
				steps = append(steps, point.ofSource())
			}
			point.Repeat, point.Repeats = repeat+1, repeats
			// The same operations again would find everything cached, and
			// repeats that are not independent say nothing about spread.
			point.Load.Seed = point.Load.Completed().Seed + uint64(repeat)
			steps = append(steps, point)
		}
	}
	return steps, nil
}

// ofSource is the step that measures the folder alone from which a step puts files.
func (s Step) ofSource() Step {
	s.Name, s.Source, s.Repeat, s.Repeats = s.Name+", the source alone", true, 1, 1
	s.Load = s.Load.OfSource()
	return s
}

// points multiplies the axes out.
func (s Stage) points(load workload.Spec) ([]Step, error) {
	points := []Step{{Load: load}}
	for _, axis := range s.Sweep {
		name, set, err := axis.field()
		if err != nil {
			return nil, err
		}
		values, err := axis.Expand()
		if err != nil {
			return nil, err
		}
		var next []Step
		for _, point := range points {
			for _, value := range values {
				p := Step{Load: point.Load, Point: append(slices.Clone(point.Point), Setting{name, value})}
				if err := set(&p.Load, value); err != nil {
					return nil, err
				}
				next = append(next, p)
			}
		}
		if points = next; len(points) > limit {
			return nil, fmt.Errorf("%w: the sweep has more than %d points; sweep fewer values", ErrInvalid, limit)
		}
	}
	for _, point := range points {
		if err := point.Load.Validate(); err != nil {
			if len(point.Point) > 0 {
				return nil, fmt.Errorf("at %s: %w", Describe(point.Point), err)
			}
			return nil, err
		}
	}
	return points, nil
}

// field is the name of what an axis sweeps, and what sets a load to one of its values.
func (a Axis) field() (name string, set func(*workload.Spec, string) error, err error) {
	if OfVolume(a.Field) { // whether it is a key is known where such volumes are
		return a.Field, func(*workload.Spec, string) error { return nil }, nil
	}
	field, err := workload.Lookup(a.Field)
	return field.Name, field.Set, err
}

// load turns the stage's workload into the writes that fill its span.
func (f Precondition) load(base workload.Spec, sweep []Axis) (workload.Spec, error) {
	switch {
	case len(sweep) > 0:
		return base, fmt.Errorf("%w: preconditioning has nothing to sweep", ErrInvalid)
	case base.Span == 0:
		return base, fmt.Errorf("%w: preconditioning needs the span that it writes", ErrInvalid)
	case f.Passes < 1 || f.Passes > 100:
		return base, fmt.Errorf("%w: %d passes; from 1 to 100", ErrInvalid, f.Passes)
	case f.Order != "" && f.Order != workload.Sequential && f.Order != workload.Random:
		return base, fmt.Errorf("%w: preconditioning is sequential or random, not %q", ErrInvalid, f.Order)
	}
	block := f.Block
	if block == 0 {
		block = 128 * quantity.KiB
	}
	return workload.Spec{
		Name:    base.Name,
		Pattern: workload.Pattern{Blocks: workload.Block(min(block, base.Span)), Reads: 0, Order: cmp.Or(f.Order, workload.Sequential), Span: base.Span, Offset: base.Offset, Cached: base.Cached, Compressible: base.Compressible, Duplicate: base.Duplicate},
		Pace:    workload.Pace{Depth: 16, Workers: 1},
		Ending:  workload.Ending{Amount: base.Span * quantity.Bytes(f.Passes), Interval: base.Interval, OnError: workload.End},
		Seed:    base.Seed,
	}, nil
}

// Expand lists the values of an axis, with doubling ranges written out.
func (a Axis) Expand() ([]string, error) {
	if len(a.Values) == 0 {
		return nil, fmt.Errorf("%w: the sweep of %s has no values", ErrInvalid, a.Field)
	}
	var values []string
	for _, value := range a.Values {
		from, to, isRange := strings.Cut(value, "..")
		if !isRange {
			values = append(values, strings.TrimSpace(value))
			continue
		}
		doubled, err := doubling(strings.TrimSpace(from), strings.TrimSpace(to))
		if err != nil {
			return nil, fmt.Errorf("%w: the sweep of %s: %w", ErrInvalid, a.Field, err)
		}
		values = append(values, doubled...)
	}
	if len(values) > 200 {
		return nil, fmt.Errorf("%w: the sweep of %s has %d values; at most 200", ErrInvalid, a.Field, len(values))
	}
	return values, nil
}

// doubling writes a range such as 1..64 or 4KiB..1MiB out. The end is always
// among the values.
func doubling(from, to string) ([]string, error) {
	low, err := quantity.ParseBytes(from)
	if err != nil {
		return nil, err
	}
	high, err := quantity.ParseBytes(to)
	if err != nil {
		return nil, err
	}
	if low < 1 || high < low {
		return nil, fmt.Errorf("%s..%s does not go up from at least 1", from, to)
	}
	_, plain := strconv.Atoi(to)
	write := func(b quantity.Bytes) string {
		if plain == nil {
			return b.Full()
		}
		text, _ := b.MarshalYAML()
		return string(text)
	}
	var values []string
	for v := low; v < high; v *= 2 {
		values = append(values, write(v))
		if v > high/2 {
			break
		}
	}
	return append(values, write(high)), nil
}

// Describe writes a point in words, "block 4KiB, depth 16".
func Describe(point []Setting) string {
	parts := make([]string, len(point))
	for i, s := range point {
		parts[i] = s.Field + " " + s.Value
	}
	return strings.Join(parts, ", ")
}

// Estimate is what a plan takes, as far as it can be known beforehand.
type Estimate struct {
	Measurements int              `json:"measurements"`
	Time         quantity.Seconds `json:"seconds" doc:"Warm-ups, measured times and pauses; preparation and amounts come on top"`
	Written      quantity.Bytes   `json:"writtenBytes" doc:"Bytes that preconditioning, amounts and set rates write"`
	Open         bool             `json:"open" doc:"Some measurement ends by an amount or writes as fast as it can, so time or bytes can be more"`
}

// Estimate says what the plan takes. The error is that of Steps.
func (p Plan) Estimate() (Estimate, error) {
	steps, err := p.Steps()
	if err != nil {
		return Estimate{}, err
	}
	e := Estimate{Measurements: len(steps)}
	for _, s := range steps {
		s.Load = s.Load.Completed()
		writes := float64(s.Load.Written() / (1 - min(s.Load.Trims, 0.99))) // of those that move bytes
		e.Time += s.Load.WarmUp + s.Settle.Pause
		switch {
		case s.Load.Passes > 0:
			e.Written += quantity.Bytes(float64(s.Load.Span) * float64(s.Load.Passes) * writes)
			e.Open = true
		case s.Load.Amount > 0:
			e.Written += quantity.Bytes(float64(s.Load.Amount) * writes)
			e.Open = true
		case s.Load.Open():
			bytes := float64(s.Load.Arriving()*quantity.OpRate(1-s.Load.Trims)) * s.Load.MeanBlock() * float64(s.Load.For+s.Load.WarmUp)
			e.Written += quantity.Bytes(bytes * writes)
		case writes > 0:
			e.Open = true
		}
		e.Time += s.Load.For
	}
	return e, nil
}

// mostVariants is how many arrays, or ways to one, a plan may sweep.
const mostVariants = 200

// Variant are the steps of a plan on one array, or over one way to it.
type Variant struct {
	Changed []Setting // what a sweep changes of the volume; empty for the volume as it is named
	Steps   []Step
}

// Variants sorts the steps of a plan by the array they are made on, or the way to it. Each
// variant is opened by itself. The error is about a plan that sweeps too many.
func Variants(steps []Step) ([]Variant, error) {
	var variants []Variant
	for _, step := range steps {
		changed := VolumeOf(step.Point)
		at := slices.IndexFunc(variants, func(v Variant) bool { return slices.Equal(v.Changed, changed) })
		if at < 0 && len(variants) == mostVariants {
			return nil, fmt.Errorf("%w: it sweeps more than %d arrays, or ways to them; sweep fewer values", ErrInvalid, mostVariants)
		}
		if at < 0 {
			at = len(variants)
			variants = append(variants, Variant{Changed: changed})
		}
		variants[at].Steps = append(variants[at].Steps, step)
	}
	return variants, nil
}

// Extent is what the steps of a plan need of a volume.
type Extent struct {
	Size   quantity.Bytes  // the largest offset + span of the loads of blocks; 0 for all there is
	Writes bool            // some of them write
	Blocks bool            // there are any
	Files  []workload.Spec // the loads that work on files, beside others or not
	Cached bool            // some of them go through the host's memory
}

// Reach is what steps need of a volume; what measures a source alone needs nothing of it.
func Reach(steps []Step) (e Extent) {
	for _, s := range steps {
		if s.Source {
			continue
		}
		e.Cached = e.Cached || s.Load.Cached
		files, blocks := s.Load.OfFiles()
		if len(files) > 0 {
			e.Files = append(e.Files, s.Load)
		}
		if !blocks {
			continue
		}
		reach, writes := s.Load.Completed().Reach()
		e.Size, e.Writes, e.Blocks = max(e.Size, reach), e.Writes || writes, true
	}
	return e
}
