package quantity

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// OpRate is a rate in operations per second.
type OpRate float64

var opRateUnits = []unit{
	{"", 1}, {"/s", 1}, {"IOPS", 1},
	{"k", 1e3}, {"k/s", 1e3}, {"k IOPS", 1e3}, {"kIOPS", 1e3}, {"M", 1e6}, {"M IOPS", 1e6}, {"MIOPS", 1e6},
}

// ParseOpRate reads a rate such as "500", "12.4 k IOPS" or "200/s".
func ParseOpRate(text string) (OpRate, error) {
	value, err := parse(text, "rate", "500 or 12.4k (operations per second)", opRateUnits)
	return OpRate(value), err
}

// String prints r with three significant digits, such as "12.4 k IOPS".
func (r OpRate) String() string {
	return scaled(float64(r), []unit{{"IOPS", 1}, {"k IOPS", 1e3}, {"M IOPS", 1e6}, {"G IOPS", 1e9}})
}

// FileRate is a number of files per second.
type FileRate float64

func (r FileRate) String() string {
	return scaled(float64(r), []unit{{"files/s", 1}, {"k files/s", 1e3}, {"M files/s", 1e6}})
}

// RequestRate is a number of requests per second.
type RequestRate float64

func (r RequestRate) String() string {
	return scaled(float64(r), []unit{{"requests/s", 1}, {"k requests/s", 1e3}, {"M requests/s", 1e6}})
}

// Full prints r in operations per second without its unit.
func (r OpRate) Full() string { return full(float64(r)) }

// MarshalYAML writes a rate so that reading it gives the same value.
func (r OpRate) MarshalYAML() ([]byte, error) { return []byte(r.Full()), nil }

// UnmarshalYAML reads a rate as people write it.
func (r *OpRate) UnmarshalYAML(text []byte) error { return unmarshalYAML(text, ParseOpRate, r) }

// Share is a part of a whole, from 0 to 1.
type Share float64

// ParseShare reads "70%" or "0.7". A bare number above one is refused: 70
// without its sign could mean either.
func ParseShare(text string) (Share, error) {
	value, err := parse(text, "share", "70% or 0.7", []unit{{"", 1}, {"%", 0.01}})
	if err != nil {
		return 0, err
	}
	if value > 1 {
		return 0, fmt.Errorf("share %q %w: it is above 100%%; write it like 70%% or 0.7", text, ErrSyntax)
	}
	// 70 * 0.01 is not quite 0.7; typed percentages are short, so round.
	return Share(math.Round(value*1e12) / 1e12), nil
}

// ParseChange reads by how much something changes, "10%" or "500%": a share that may be above
// one, for which it needs its sign.
func ParseChange(text string) (Share, error) {
	value, err := parse(text, "change", "10% or 500%", []unit{{"", 1}, {"%", 0.01}})
	if err != nil {
		return 0, err
	}
	if value > 1 && !strings.HasSuffix(strings.TrimSpace(text), "%") {
		return 0, fmt.Errorf("change %q %w: write it like 10%% or 500%%", text, ErrSyntax)
	}
	return Share(math.Round(value*1e12) / 1e12), nil
}

// String prints s as a percentage with three significant digits.
func (s Share) String() string {
	percent := float64(s) * 100
	if math.Abs(percent-math.Round(percent)) < 1e-9 {
		return strconv.FormatFloat(math.Round(percent), 'f', 0, 64) + " %"
	}
	return threeDigits(percent) + " %"
}

// Added prints a ratio as what is added by it, such as "+12 %" or "-3.5 %".
func Added(ratio float64) string {
	if ratio < 1 {
		return "-" + Share(1-ratio).String()
	}
	return "+" + Share(ratio-1).String()
}

// Full prints s as a fraction of one.
func (s Share) Full() string { return full(float64(s)) }

// UnmarshalYAML reads a share as people write it.
func (s *Share) UnmarshalYAML(text []byte) error { return unmarshalYAML(text, ParseShare, s) }

// MarshalYAML writes a share as a percentage.
func (s Share) MarshalYAML() ([]byte, error) {
	return []byte(strconv.FormatFloat(math.Round(float64(s)*1e12)/1e10, 'f', -1, 64) + "%"), nil
}

// Seconds is a length of time.
type Seconds float64

// Of converts a time.Duration.
func Of(d time.Duration) Seconds { return Seconds(d.Seconds()) }

// Duration converts to a time.Duration, to the nearest nanosecond; times
// beyond what it can hold become the longest it can.
func (s Seconds) Duration() time.Duration {
	ns := math.Round(float64(s) * 1e9)
	if ns >= math.MaxInt64 {
		return math.MaxInt64
	}
	return time.Duration(ns)
}

var timeUnits = []unit{
	{"ns", 1e-9}, {"us", 1e-6}, {"µs", 1e-6}, {"ms", 1e-3},
	{"s", 1}, {"min", 60}, {"m", 60}, {"h", 3600}, {"d", 86400},
}

// ParseSeconds reads "90s", "500 ms", "1h30m" or "2 min". A bare number is
// refused unless it is zero, because it does not say of what.
func ParseSeconds(text string) (Seconds, error) {
	const example = "90s, 500ms or 1h30m"
	trimmed := strings.TrimSpace(text)
	if trimmed == "0" {
		return 0, nil
	}
	if d, err := time.ParseDuration(trimmed); err == nil {
		if d < 0 {
			return 0, fmt.Errorf("time %q %w: it is negative", text, ErrSyntax)
		}
		if value, err := parse(text, "time", example, timeUnits); err == nil && d < time.Microsecond {
			return Seconds(value), nil // parts of a nanosecond as well
		}
		return Of(d), nil
	}
	value, err := parse(text, "time", example, timeUnits)
	return Seconds(value), err
}

// String prints s with three significant digits in the unit that fits it:
// "4.2 ms", "90.0 s", "2 h 30 min".
func (s Seconds) String() string {
	switch value := float64(s); {
	case value == 0:
		return "0 s"
	case math.Abs(value) >= 600:
		whole := s.Duration().Round(time.Second)
		if whole >= time.Hour {
			hours := whole / time.Hour
			return fmt.Sprintf("%d h %d min", hours, (whole-hours*time.Hour)/time.Minute)
		}
		return fmt.Sprintf("%d min %d s", whole/time.Minute, whole%time.Minute/time.Second)
	default:
		return strings.Replace(scaled(value, []unit{{"ns", 1e-9}, {"µs", 1e-6}, {"ms", 1e-3}, {"s", 1}}), ".00 ", " ", 1)
	}
}

// Full prints s in seconds without its unit.
func (s Seconds) Full() string { return full(float64(s)) }

// UnmarshalYAML reads a time as people write it.
func (s *Seconds) UnmarshalYAML(text []byte) error { return unmarshalYAML(text, ParseSeconds, s) }

// MarshalYAML writes a time so that reading it gives the same value.
func (s Seconds) MarshalYAML() ([]byte, error) {
	if nanoseconds := float64(s) * 1e9; s > 0 && s < 1e-6 && nanoseconds != math.Round(nanoseconds) {
		return []byte(strconv.FormatFloat(nanoseconds, 'g', 12, 64) + "ns"), nil // parts of one as well
	}
	return []byte(s.Duration().String()), nil
}

// unmarshalYAML strips the quotes a YAML scalar may carry and parses the rest.
func unmarshalYAML[T any](text []byte, parse func(string) (T, error), into *T) error {
	value, err := parse(strings.Trim(strings.TrimSpace(string(text)), `"'`))
	if err != nil {
		return err
	}
	*into = value
	return nil
}
