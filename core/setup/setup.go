// Package setup holds the facts about what stands behind a volume: as values
// with their origin, as ceilings of the hops an operation passes, as checks
// made before a run, and as the difference between two setups.
//
// It reads nothing itself; packages storage and host do, people tell the rest,
// and a simulated array is known whole. What nobody knows stays unknown. The
// main type is Setup; Fields lists what may be known.
//
//	s := setup.Setup{}
//	err := s.Set("layout.level", "raid5", setup.Told, now)
//	hops := s.Ceilings(setup.Use{Reads: 1, Block: 4096})
package setup

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by every error about an impossible setup.
var ErrInvalid = errors.New("impossible setup")

// Facts describe what a locator names, as it was found.
type Facts struct {
	Size       quantity.Bytes `json:"sizeBytes" doc:"Bytes that can be addressed; of a folder, the size of its file system"`
	Free       quantity.Bytes `json:"freeBytes" doc:"Bytes free for a test file in a folder; otherwise zero"`
	Alignment  quantity.Bytes `json:"alignmentBytes" doc:"What offsets and lengths of uncached access must be multiples of, as far as it is known before opening"`
	FileSystem string         `json:"fileSystem,omitempty" doc:"Type of the file system the path is on"`
	Devices    []string       `json:"devices,omitempty" doc:"Block devices whose counters move with this volume, as the kernel names them"`
	Serial     string         `json:"serial,omitempty" doc:"Serial number of a block device, where it tells one"`
	Unwritten  quantity.Bytes `json:"unwrittenBytes,omitempty" doc:"Bytes that were never written; known of files and of loop devices over files"`
	Writable   bool           `json:"writable" doc:"Whether this service may write there"`
}

// Origin is where a fact comes from.
type Origin string

// The origins. What was measured or told wins over what was read, because the
// system often does not know what stands behind it.
const (
	Read      Origin = "read"      // from the system
	Told      Origin = "told"      // by the user
	Measured  Origin = "measured"  // by a run, such as that of a member alone
	Simulated Origin = "simulated" // known, because it is made up
)

// Fact is one thing known about a setup.
type Fact struct {
	Key    string    `json:"key" doc:"What it is about, such as 'media[0].count'"`
	Value  string    `json:"value" doc:"As people write it, such as '4TB'"`
	Origin Origin    `json:"origin" enum:"read,told,measured,simulated"`
	At     time.Time `json:"at"`
}

// Setup is what is known of what stands behind a volume, in the order of
// Fields. The zero value knows nothing and is ready to use.
type Setup struct {
	Facts []Fact `json:"facts"`
}

// Set adds or replaces a fact. The value is brought into its usual form. An
// empty value forgets the fact. Errors are of type *mistake.Error.
func (s *Setup) Set(key, value string, origin Origin, at time.Time) error {
	value = strings.TrimSpace(value)
	if value != "" {
		field, err := Lookup(key)
		if err != nil {
			return err
		}
		if value, err = field.normal(value); err != nil {
			return &mistake.Error{Of: ErrInvalid, Field: key, Reason: err.Error()}
		}
	}
	s.Facts = slices.DeleteFunc(slices.Clone(s.Facts), func(f Fact) bool { return f.Key == key })
	if value == "" {
		return nil
	}
	place, _ := slices.BinarySearchFunc(s.Facts, key, func(f Fact, key string) int { return compareKeys(f.Key, key) })
	s.Facts = slices.Insert(s.Facts, place, Fact{key, value, origin, at})
	return nil
}

// Know is Set for values that the caller made and that cannot be wrong; a
// value that is wrong all the same stays unknown.
func (s *Setup) Know(key string, value any, origin Origin, at time.Time) {
	text := fmt.Sprint(value)
	if m, ok := value.(interface{ MarshalYAML() ([]byte, error) }); ok {
		written, err := m.MarshalYAML()
		if err != nil {
			return
		}
		text = string(written)
	}
	_ = s.Set(key, text, origin, at)
}

// Text is the value of a fact; "" when it is unknown.
func (s Setup) Text(key string) string {
	for _, f := range s.Facts {
		if f.Key == key {
			return f.Value
		}
	}
	return ""
}

// Bytes is the value of a size; 0 when it is unknown.
func (s Setup) Bytes(key string) quantity.Bytes { return value(s, key, quantity.ParseBytes) }

// ByteRate is the value of a throughput; 0 when it is unknown.
func (s Setup) ByteRate(key string) quantity.ByteRate { return value(s, key, quantity.ParseByteRate) }

// OpRate is the value of a rate; 0 when it is unknown.
func (s Setup) OpRate(key string) quantity.OpRate { return value(s, key, quantity.ParseOpRate) }

// Seconds is the value of a time; 0 when it is unknown.
func (s Setup) Seconds(key string) quantity.Seconds { return value(s, key, quantity.ParseSeconds) }

// Number is the value of a number; 0 when it is unknown.
func (s Setup) Number(key string) float64 { return value(s, key, parseNumber) }

// Is reports whether a yes-or-no fact is known to be yes.
func (s Setup) Is(key string) bool { return s.Text(key) == "yes" }

func value[T any](s Setup, key string, parse func(string) (T, error)) (v T) {
	if text := s.Text(key); text != "" {
		v, _ = parse(text) // Set has taken it before
	}
	return v
}

// Count is how many of a repeated part there are, such as "cache".
func (s Setup) Count(part string) (n int) {
	for _, f := range s.Facts {
		if p, index, _ := splitKey(f.Key); p == part {
			n = max(n, index+1)
		}
	}
	return n
}

// Over is s with the facts of other taking the place of its own.
func (s Setup) Over(other Setup) Setup {
	merged := Setup{slices.Clone(s.Facts)}
	for _, f := range other.Facts {
		_ = merged.Set(f.Key, f.Value, f.Origin, f.At) // it was taken before
	}
	return merged
}

// Only keeps the facts of some origins.
func (s Setup) Only(origins ...Origin) Setup {
	return Setup{slices.DeleteFunc(slices.Clone(s.Facts), func(f Fact) bool { return !slices.Contains(origins, f.Origin) })}
}

// Same reports whether both setups say the same, whenever they learned it.
func (s Setup) Same(other Setup) bool {
	return slices.EqualFunc(s.Facts, other.Facts, func(a, b Fact) bool {
		return a.Key == b.Key && a.Value == b.Value && a.Origin == b.Origin
	})
}

// Part names one part of a setup, such as "media 1" or "layout".
func Part(key string) string {
	part, index, _ := splitKey(key)
	if index < 0 {
		return partLabel(part)
	}
	return fmt.Sprintf("%s %d", partLabel(part), index+1)
}
