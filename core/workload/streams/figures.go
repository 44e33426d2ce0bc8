package streams

import (
	"math"

	"patientheron/core/figure"
	"patientheron/core/measure"
)

func init() {
	figure.Register(Kind, []figure.Figure{
		{Key: "late", Label: "late pieces", Unit: "share", Lower: true, Value: func(s *measure.Summary) float64 {
			return ofFeeds(s, func(f *measure.FeedFigures) float64 { return float64(f.LateShare) })
		}},
		{Key: "stall", Label: "longest stall", Unit: "seconds", Lower: true, None: "no feed stood still", Spare: true, Value: func(s *measure.Summary) float64 {
			return ofFeeds(s, func(f *measure.FeedFigures) float64 { return float64(f.LongestStall) })
		}},
	}, nil, nil)
}

// ofFeeds reads a figure of feeds; NaN of a load without any.
func ofFeeds(s *measure.Summary, of func(*measure.FeedFigures) float64) float64 {
	if s.Feeds == nil {
		return math.NaN()
	}
	return of(s.Feeds)
}
