package files

import (
	"patientheron/core/figure"
	"patientheron/core/measure"
	"patientheron/core/quantity"
)

func init() {
	figure.Register(Kind, []figure.Figure{
		{Key: "files", Label: "whole files", Unit: "files per second", Value: func(s *measure.Summary) float64 { return float64(s.Classes[measure.File].Rate) }},
	}, figure.Times(func(key string, read func(measure.Latency) quantity.Seconds) figure.Figure {
		return figure.Figure{Key: "file-" + key, Label: key + " time of a file", Unit: "seconds", Lower: true, Waits: true, Value: func(s *measure.Summary) float64 {
			return float64(read(s.Classes[measure.File].Latency))
		}}
	}), nil)
}
