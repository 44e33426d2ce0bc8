// Package quantity holds the typed values that every figure in Patient Heron
// is made of: sizes, rates, durations and shares.
//
// Each type is a plain number in its base unit (bytes, bytes per second,
// operations per second, seconds, a fraction of one), so JSON carries plain
// base-unit numbers. Parse functions take what people type; String prints
// three significant digits for reading, Full prints everything for exports.
// KiB is 1024 bytes and kB is 1000; neither is ever taken for the other.
//
//	span, err := quantity.ParseBytes("16 GiB") // 17179869184
//	fmt.Println(quantity.ByteRate(1.18e9))     // 1.18 GB/s
package quantity

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// ErrSyntax is wrapped by every parse error of this package.
var ErrSyntax = errors.New("not understood")

type unit struct {
	name  string
	scale float64
}

// split cuts "16 GiB" into its number and its unit. A thousands separator is
// not accepted: "1,000" means one to half of the world.
func split(text string) (float64, string, error) {
	trimmed := strings.TrimSpace(text)
	end := 0
	for end < len(trimmed) && strings.IndexByte("0123456789.+-", trimmed[end]) >= 0 {
		end++
	}
	// An exponent belongs to the number only when digits follow it, so that
	// "1e6" is a million and "1 EiB" is not.
	if end < len(trimmed)-1 && (trimmed[end] == 'e' || trimmed[end] == 'E') {
		next := end + 1
		if trimmed[next] == '+' || trimmed[next] == '-' {
			next++
		}
		digits := next
		for digits < len(trimmed) && trimmed[digits] >= '0' && trimmed[digits] <= '9' {
			digits++
		}
		if digits > next {
			end = digits
		}
	}
	number, err := strconv.ParseFloat(trimmed[:end], 64)
	if err != nil || math.IsInf(number, 0) || math.IsNaN(number) {
		return 0, "", fmt.Errorf("%q %w: it does not start with a number", text, ErrSyntax)
	}
	return number, strings.TrimSpace(trimmed[end:]), nil
}

// ParseNumber reads a plain number that is finite.
func ParseNumber(text string) (float64, error) {
	value, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
	if err != nil || math.IsInf(value, 0) || math.IsNaN(value) {
		return 0, fmt.Errorf("%q %w: it is not a number", text, ErrSyntax)
	}
	return value, nil
}

// parse reads a number with one of the named units, compared without regard
// to case except where two units differ only in it.
func parse(text, what, example string, units []unit) (float64, error) {
	number, name, err := split(text)
	if err != nil {
		return 0, fmt.Errorf("%s %w; write it like %s", what, err, example)
	}
	if number < 0 {
		return 0, fmt.Errorf("%s %q %w: it is negative", what, text, ErrSyntax)
	}
	u, others := unitOf(name, units)
	switch {
	case u == nil:
		return 0, fmt.Errorf("%s %q %w: unit %q is unknown; write it like %s", what, text, ErrSyntax, name, example)
	case len(others) > 0:
		return 0, fmt.Errorf("%s %q %w: %q may be %s (bits) or %s (bytes); write which", what, text, ErrSyntax, name, others[0], u.name)
	case math.IsInf(number*u.scale, 0):
		return 0, fmt.Errorf("%s %q %w: it is too large", what, text, ErrSyntax)
	}
	return number * u.scale, nil
}

// unitOf is the unit of a name, written as it is or without regard to case, and others that it
// may be as well. A capital B is of bytes in any case.
func unitOf(name string, units []unit) (found *unit, others []string) {
	for i := range units {
		switch u := &units[i]; {
		case u.name == name:
			return u, nil
		case !strings.EqualFold(u.name, name), strings.Contains(name, "B") && strings.HasSuffix(u.name, "b/s"):
		case found == nil:
			found = u
		case u.scale != found.scale:
			others = append(others, u.name)
		}
	}
	return found, others
}

// Digits prints a number with three significant digits, for a column whose
// head names the unit.
func Digits(value float64) string { return threeDigits(value) }

// Price prints a price for people, in the unit that it is told in.
func Price(value float64) string {
	if value >= 1000 {
		return fmt.Sprintf("%.0f", value)
	}
	text := strings.TrimRight(strconv.FormatFloat(value, 'f', 2, 64), "0")
	return strings.TrimSuffix(text, ".")
}

// threeDigits prints a number below 1000 with three significant digits and
// without a useless tail of zeros after a whole number of one or two digits.
func threeDigits(value float64) string {
	magnitude := math.Abs(value)
	switch {
	case magnitude == 0:
		return "0"
	case magnitude >= 999.5:
		step := math.Pow(10, math.Floor(math.Log10(magnitude))-2)
		return strconv.FormatFloat(math.Round(value/step)*step, 'f', 0, 64)
	case magnitude >= 99.95:
		return strconv.FormatFloat(value, 'f', 0, 64)
	case magnitude >= 9.995:
		return strconv.FormatFloat(value, 'f', 1, 64)
	case magnitude >= 0.9995:
		return strconv.FormatFloat(value, 'f', 2, 64)
	default:
		decimals := min(2-int(math.Floor(math.Log10(magnitude))), 12)
		return strconv.FormatFloat(value, 'f', decimals, 64)
	}
}

// scaled prints value in the largest unit that leaves at least one before the
// point. Units are ordered from small to large.
func scaled(value float64, units []unit) string {
	chosen := units[0]
	for _, u := range units[1:] {
		// 999.5 would print as 1000 of the smaller unit.
		if math.Abs(value) >= u.scale*0.9995 {
			chosen = u
		}
	}
	number := threeDigits(value / chosen.scale)
	if chosen.name == "" {
		return number
	}
	return number + " " + chosen.name
}

func full(value float64) string { return strconv.FormatFloat(value, 'f', -1, 64) }
