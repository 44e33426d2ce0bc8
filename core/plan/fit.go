package plan

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Fit makes a stage look for the largest value of a field at which its feeds are kept:
// how many of them fit.
type Fit struct {
	Field string         `json:"field" yaml:"field" enum:"feeds,workers,depth" doc:"The field"`
	From  int            `json:"from" yaml:"from" minimum:"1" doc:"The least value that is tried"`
	To    int            `json:"to" yaml:"to" minimum:"1" maximum:"100000" doc:"The largest"`
	Late  quantity.Share `json:"lateShare,omitempty" yaml:"late,omitempty" minimum:"0" maximum:"0.5" doc:"Share of pieces that may come late; 0 means none"`
}

// fitFields are the fields whose largest value can be looked for.
var fitFields = []string{"feeds", "workers", "depth"}

// rounds is how many values are tried at most: as many as it takes to double from the
// least to the largest, and to halve what is between two of them, twice where repeats do
// not agree.
func (f Fit) rounds() int {
	doublings := bits.Len(uint(f.To/f.From)) + 1
	return doublings + 2*bits.Len(uint(max(f.To-f.From, 1)))
}

// validate reports a search that cannot be, for a load.
func (f Fit) validate(load workload.Spec, sweep []Axis) error {
	field, err := workload.Lookup(f.Field)
	if err != nil {
		return err
	}
	if !slices.Contains(fitFields, field.Name) {
		return fmt.Errorf("%w: it looks for the largest %s; what can be looked for is %s", ErrInvalid, field.Name, strings.Join(fitFields, ", "))
	}
	if !load.Deadlines() {
		return fmt.Errorf("%w: a fit asks whether feeds are kept, and the load has none; add feeds and feedRate", ErrInvalid)
	}
	if len(sweep) > 0 {
		return fmt.Errorf("%w: a stage that looks for what fits has no sweep; make one stage for each", ErrInvalid)
	}
	if f.From < 1 || f.To < f.From || f.To > 100_000 {
		return fmt.Errorf("%w: from %d to %d; whole numbers from 1 to 100000, rising", ErrInvalid, f.From, f.To)
	}
	if !(f.Late >= 0 && f.Late <= 0.5) {
		return fmt.Errorf("%w: %g of the pieces may be late; from 0%% to 50%%", ErrInvalid, float64(f.Late))
	}
	for _, value := range []int{f.From, f.To} {
		one := load
		if err := field.Set(&one, strconv.Itoa(value)); err != nil {
			return err
		}
		if err := one.Validate(); err != nil {
			return fmt.Errorf("at %s %d: %w", f.Field, value, err)
		}
	}
	return nil
}

// Search looks for the edge between the values at which feeds are kept and those at which
// they are not: it doubles until they are not, and then halves what is between. Where
// repeats of a value do not agree it looks for the edge on either side of it.
type Search struct {
	fit     Fit
	repeats int
	at      int // value under way; 0 for none
	done    int // repeats of it
	kept    int // of those
	carries int // largest value that was kept each time; below From for none
	fails   int // smallest that was not, each time; above To for none
	mixed   [2]int
}

// NewSearch begins a search in which each value is measured so many times.
func NewSearch(f Fit, repeats int) *Search {
	return &Search{fit: f, repeats: max(repeats, 1), carries: f.From - 1, fails: f.To + 1}
}

// Next is the value to measure next, and which of its repeats, from 1; false when enough
// is known.
func (s *Search) Next() (value, repeat int, more bool) {
	if s.done == 0 {
		s.at = s.choose()
	}
	return s.at, s.done + 1, s.at > 0
}

func (s *Search) choose() int {
	low, high := s.carries, s.fails
	if s.mixed[0] > 0 { // first down to what is kept, then up to what is not
		if low+1 < s.mixed[0] {
			return (low + s.mixed[0]) / 2
		}
		low = s.mixed[1]
	}
	switch {
	case low+1 >= high:
		return 0
	case low < s.fit.From:
		return s.fit.From
	case high > s.fit.To:
		return min(2*low, s.fit.To)
	}
	return (low + high) / 2
}

// Measured tells whether the value that Next gave was kept.
func (s *Search) Measured(kept bool) {
	s.done++
	if kept {
		s.kept++
	}
	if s.done < s.repeats {
		return
	}
	switch s.kept {
	case s.done:
		s.carries = max(s.carries, s.at)
	case 0:
		s.fails = min(s.fails, s.at)
	default:
		if s.mixed[0] == 0 {
			s.mixed = [2]int{s.at, s.at}
		}
		s.mixed[0], s.mixed[1] = min(s.mixed[0], s.at), max(s.mixed[1], s.at)
	}
	s.done, s.kept = 0, 0
}

// fitSteps are as many steps as a search may take; what they measure is chosen as they
// come.
func (s Stage) fitSteps(load workload.Spec) ([]Step, error) {
	if err := s.Fit.validate(load, s.Sweep); err != nil {
		return nil, err
	}
	one := load
	field, err := workload.Lookup(s.Fit.Field)
	if err != nil {
		return nil, err
	}
	if err := field.Set(&one, strconv.Itoa(s.Fit.From)); err != nil {
		return nil, err
	}
	steps := make([]Step, s.Fit.rounds()*max(s.Repeats, 1))
	for i := range steps {
		steps[i] = Step{Load: one, Repeat: i%max(s.Repeats, 1) + 1, Repeats: max(s.Repeats, 1), Fit: s.Fit}
	}
	return steps, nil
}

// At is a step of a search at a value.
func (s Step) At(value, repeat int) (Step, error) {
	field, err := workload.Lookup(s.Fit.Field)
	if err != nil {
		return s, err
	}
	text := strconv.Itoa(value)
	if err := field.Set(&s.Load, text); err != nil {
		return s, err
	}
	s.Point = []Setting{{field.Name, text}}
	s.Repeat = repeat
	s.Load.Seed = s.Load.Completed().Seed + uint64(repeat-1)
	return s, nil
}
