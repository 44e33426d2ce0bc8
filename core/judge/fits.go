package judge

import (
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// mostBehind is the share of the buffer that may be used up at the end: feeds that fall
// behind come late only when all of it is.
const mostBehind = 0.25

// Carried reports whether the streams of a load kept their deadlines: no more than a share of
// their pieces came late, they were not about to, and nothing failed.
func Carried(s *measure.Summary, load workload.Spec, late quantity.Share) bool {
	streams := load.Traits().Streams
	return s != nil && streams != nil && s.Feeds != nil && s.Feeds.Pieces > 0 && s.Feeds.LateShare <= late && s.Feeds.Behind <= streams.Buffer*mostBehind && len(s.Faults) == 0 && s.Unanswered == 0 && s.Ending == measure.ByTime
}
