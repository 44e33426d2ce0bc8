package stores

import (
	"math"
	"slices"
	"strings"

	"patientheron/core/figure"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func init() {
	var times []figure.Figure
	for n, request := range []string{"put", "get", "scan"} {
		times = append(times, figure.Times(func(key string, read func(measure.Latency) quantity.Seconds) figure.Figure {
			return figure.Figure{Key: request + "-" + key, Label: key + " time of a " + request, Unit: "seconds", Lower: true, Waits: true, None: "none was asked for", Value: func(s *measure.Summary) float64 {
				if s.Stores == nil || n >= len(s.Groups) || s.Groups[n].Operations == 0 {
					return math.NaN()
				}
				return float64(read(s.Groups[n].Latency))
			}}
		})...)
	}
	figure.Register(Kind, []figure.Figure{
		{Key: "requests", Label: "requests", Unit: "requests per second", Value: func(s *measure.Summary) float64 {
			return ofStores(s, func(f *measure.StoreFigures) float64 { return float64(f.Requests) })
		}},
		{Key: "write-amplification", Label: "write amplification", Unit: "times", Lower: true, None: "nothing was put", Value: func(s *measure.Summary) float64 {
			return ofStores(s, func(f *measure.StoreFigures) float64 { return known(f.Written) })
		}},
		{Key: "write-stall", Label: "longest write stall", Unit: "seconds", Lower: true, None: "no write stalled", Spare: true, Value: func(s *measure.Summary) float64 {
			return ofStores(s, func(f *measure.StoreFigures) float64 { return known(float64(f.Longest)) })
		}},
	}, times, func(load workload.Spec, key string) bool { // times of what is not asked
		request, _, of := strings.Cut(key, "-")
		return of && slices.Contains(requests, Request(request)) && !Of(load).Asks(Request(request))
	})
}

// ofStores reads a figure of stores; NaN of a load without any.
func ofStores(s *measure.Summary, of func(*measure.StoreFigures) float64) float64 {
	if s.Stores == nil {
		return math.NaN()
	}
	return of(s.Stores)
}

// known is a value that is above zero, and otherwise none.
func known(value float64) float64 {
	if !(value > 0) {
		return math.NaN()
	}
	return value
}
