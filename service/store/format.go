package store

import (
	"encoding/json"
	"fmt"
	"strings"

	"patientheron/core/measure"
)

// format is the version of the JSON in a record's columns. One that is newer
// than this program is not read: it would be misunderstood.
//
// In format 1 a summary and an interval had members reads, writes and syncs, and what
// stood beside an interval was that of one host; since format 2 they have classes, and
// beside stands each host. Format 3 has other names for keys and values (core/renamed).
type format int

// present is the format that is written.
const present format = 3

func (f *format) Scan(source any) error {
	n, is := source.(int64)
	if !is || n < 1 || format(n) > present {
		return fmt.Errorf("a newer heron has written it (format %v, this one reads up to %d)", source, present)
	}
	*f = format(n)
	return nil
}

// summary is a stored summary of any format.
type summary struct {
	measure.Summary
	Reads, Writes, Syncs *measure.Figures // format 1
}

// now is s as it is written today; nil when there is none.
func (s *summary) now() *measure.Summary {
	if s == nil {
		return nil
	}
	s.Summary.Classes = byClass(s.Summary.Classes, s.Reads, s.Writes, s.Syncs)
	return &s.Summary
}

// interval is a stored interval of any format.
type interval struct {
	measure.Interval
	Beside        hosts         `json:"beside"`
	Reads, Writes *measure.Flow // format 1
	LeadIn        bool          // before format 3: whether it was warm-up
}

// hosts is what stands beside an interval: of one host in format 1, of each since.
type hosts []measure.Beside

func (h *hosts) UnmarshalJSON(text []byte) error {
	if strings.HasPrefix(strings.TrimSpace(string(text)), "[") {
		return json.Unmarshal(text, (*[]measure.Beside)(h))
	}
	var one *measure.Beside
	if err := json.Unmarshal(text, &one); err != nil || one == nil {
		return err
	}
	*h = hosts{*one}
	return nil
}

func (i interval) now() measure.Interval {
	i.Interval.Beside = i.Beside
	i.Interval.WarmUp = i.Interval.WarmUp || i.LeadIn
	i.Interval.Classes = byClass(i.Interval.Classes, i.Reads, i.Writes, nil)
	return i.Interval
}

// byClass adds what format 1 kept apart to what later formats keep by class. That
// had a zero where a load issues none of a class.
func byClass[T comparable](classes map[measure.Class]T, reads, writes, syncs *T) map[measure.Class]T {
	for class, of := range map[measure.Class]*T{measure.Read: reads, measure.Write: writes, measure.Flush: syncs} {
		var none T
		if of == nil || *of == none {
			continue
		}
		if classes == nil {
			classes = map[measure.Class]T{}
		}
		classes[class] = *of
	}
	return classes
}
