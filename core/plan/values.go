package plan

import (
	"fmt"
	"slices"

	"patientheron/core/quantity"
)

// Scale reads and writes the values of an axis as numbers of one unit.
type Scale struct {
	Read func(string) (float64, error)
	Show func(float64) string
}

// scales are those of all units, in the order in which they are tried: a number without one
// is of none of the others.
var scales = []Scale{
	{quantity.ParseNumber, quantity.Digits}, scale(quantity.ParseBytes), scale(quantity.ParseShare),
	scale(quantity.ParseSeconds), scale(quantity.ParseByteRate), scale(quantity.ParseOpRate),
}

func scale[T interface {
	~int64 | ~float64
	fmt.Stringer
}](parse func(string) (T, error)) Scale {
	return Scale{
		func(text string) (float64, error) {
			value, err := parse(text)
			return float64(value), err
		},
		func(value float64) string { return T(value).String() },
	}
}

// ScaleOf is the scale of some values of an axis; false where they are no numbers of one unit.
func ScaleOf(values []string) (Scale, bool) {
	for _, s := range scales {
		if !slices.ContainsFunc(values, func(v string) bool { _, err := s.Read(v); return err != nil }) {
			return s, true
		}
	}
	return Scale{}, false
}
