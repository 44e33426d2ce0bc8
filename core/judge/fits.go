package judge

import (
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// mostBehind is the share of the buffer that may be used up at the end: feeds that fall
// behind come late only when all of it is.
const mostBehind = 0.25

// Carried reports whether the feeds of a measurement were kept, whose buffer lasts so
// long: no more than a share of their pieces came late, they were not about to, and
// nothing failed.
func Carried(s *measure.Summary, buffer quantity.Seconds, late quantity.Share) bool {
	return s != nil && s.Feeds != nil && s.Feeds.Pieces > 0 && s.Feeds.LateShare <= late && s.Feeds.Behind <= buffer*mostBehind && len(s.Faults) == 0 && s.Unanswered == 0 && s.Ending == measure.ByTime
}

// Tried is one measurement of a search.
type Tried struct {
	Value   int
	Carried bool
}

// Fits is what a search for what fits came to: up to Carries feeds were kept each time,
// from Fails on they were not, each time; between them it is not known.
type Fits struct {
	Field   string `json:"field"`
	Carries int    `json:"carries" doc:"Largest value at which all repeats were kept; 0 for none"`
	Fails   int    `json:"fails,omitempty" doc:"Smallest value at which none was; absent when none was found"`
	Words   string `json:"words"`
}

// FitsOf says what fits.
func FitsOf(field string, tried []Tried) Fits {
	type counts struct{ kept, of int }
	by := map[int]counts{}
	for _, one := range tried {
		c := by[one.Value]
		c.of++
		if one.Carried {
			c.kept++
		}
		by[one.Value] = c
	}
	f := Fits{Field: field}
	for value, c := range by {
		if c.kept == 0 && (f.Fails == 0 || value < f.Fails) {
			f.Fails = value
		}
	}
	for value, c := range by {
		if c.kept == c.of && value > f.Carries && (f.Fails == 0 || value < f.Fails) {
			f.Carries = value
		}
	}
	switch {
	case len(by) == 0:
		f.Words = "nothing was measured"
	case f.Carries == 0 && f.Fails > 0:
		f.Words = fmt.Sprintf("not even %s %d is kept", field, f.Fails)
	case f.Carries == 0:
		f.Words = "the repeats do not agree on any value"
	case f.Fails == 0:
		f.Words = fmt.Sprintf("%s %d is kept, the most that was tried", field, f.Carries)
	case f.Fails == f.Carries+1:
		f.Words = fmt.Sprintf("%s %d is kept, one more is not", field, f.Carries)
	default:
		f.Words = fmt.Sprintf("%s %d is kept, %d is not; between them it is not known", field, f.Carries, f.Fails)
	}
	return f
}
