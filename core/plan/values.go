package plan

import (
	"slices"

	"patientheron/core/quantity"
)

// readers read swept values as numbers, each in a unit of its own.
var readers = []func(string) (float64, error){
	number(quantity.ParseBytes), number(quantity.ParseShare), number(quantity.ParseNumber),
	number(quantity.ParseSeconds), number(quantity.ParseByteRate), number(quantity.ParseOpRate),
}

func number[T ~int64 | ~float64](parse func(string) (T, error)) func(string) (float64, error) {
	return func(text string) (float64, error) {
		value, err := parse(text)
		return float64(value), err
	}
}

// ReaderOf is what reads all of some values of an axis as numbers of one unit; nil when
// nothing does.
func ReaderOf(values []string) func(string) (float64, error) {
	for _, read := range readers {
		if !slices.ContainsFunc(values, func(v string) bool { _, err := read(v); return err != nil }) {
			return read
		}
	}
	return nil
}
