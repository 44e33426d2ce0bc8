package quantity

import (
	"fmt"
	"math"
	"strconv"
)

// Bytes is an amount of data or an offset, in bytes.
type Bytes int64

// Common sizes.
const (
	KiB Bytes = 1 << 10
	MiB Bytes = 1 << 20
	GiB Bytes = 1 << 30
	TiB Bytes = 1 << 40
)

var byteUnits = []unit{
	{"", 1}, {"B", 1},
	{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"PiB", 1 << 50}, {"EiB", 1 << 60},
	{"kB", 1e3}, {"MB", 1e6}, {"GB", 1e9}, {"TB", 1e12}, {"PB", 1e15}, {"EB", 1e18},
}

var binarySizes = []unit{
	{"B", 1}, {"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"TiB", 1 << 40}, {"PiB", 1 << 50}, {"EiB", 1 << 60},
}

// ParseBytes reads a size such as "4KiB", "16 GiB", "1.5MB" or "4096". A bare
// letter such as "4k" is refused, because it does not say which kilo is meant.
func ParseBytes(text string) (Bytes, error) {
	value, err := parse(text, "size", "4KiB, 16GiB or 250MB", byteUnits)
	if err != nil {
		return 0, err
	}
	if value >= math.MaxInt64 {
		return 0, fmt.Errorf("size %q %w: it is larger than 8 EiB", text, ErrSyntax)
	}
	if value != math.Trunc(value) {
		return 0, fmt.Errorf("size %q %w: it is not a whole number of bytes", text, ErrSyntax)
	}
	return Bytes(value), nil
}

// String prints b with three significant digits in binary units, "16.0 GiB"
// as "16 GiB" when it is exact, and "4 TB" when that is.
func (b Bytes) String() string {
	for i := len(binarySizes) - 1; i > 0; i-- {
		u := int64(binarySizes[i].scale)
		if b != 0 && int64(b)%u == 0 && int64(b)/u < 10000 {
			return strconv.FormatInt(int64(b)/u, 10) + " " + binarySizes[i].name
		}
	}
	// Drives are sold by powers of ten.
	for _, u := range []unit{{"TB", 1e12}, {"GB", 1e9}} {
		if scale := int64(u.scale); b != 0 && int64(b)%scale == 0 && int64(b)/scale < 10000 {
			return strconv.FormatInt(int64(b)/scale, 10) + " " + u.name
		}
	}
	return scaled(float64(b), binarySizes)
}

// Full prints b as a whole number of bytes without its unit.
func (b Bytes) Full() string { return strconv.FormatInt(int64(b), 10) }

// UnmarshalYAML reads a size as people write it.
func (b *Bytes) UnmarshalYAML(text []byte) error { return unmarshalYAML(text, ParseBytes, b) }

// MarshalYAML writes a size so that reading it gives the same value, in the
// unit that makes it shortest.
func (b Bytes) MarshalYAML() ([]byte, error) {
	shortest := b.Full()
	for _, u := range byteUnits {
		if scale := int64(u.scale); b != 0 && scale > 1 && int64(b)%scale == 0 {
			if text := fmt.Sprintf("%d%s", int64(b)/scale, u.name); len(text) <= len(shortest) {
				shortest = text
			}
		}
	}
	return []byte(shortest), nil
}

// ByteRate is a throughput in bytes per second.
type ByteRate float64

var byteRateUnits = []unit{
	{"", 1}, {"B/s", 1},
	{"KiB/s", 1 << 10}, {"MiB/s", 1 << 20}, {"GiB/s", 1 << 30}, {"TiB/s", 1 << 40},
	{"kB/s", 1e3}, {"MB/s", 1e6}, {"GB/s", 1e9}, {"TB/s", 1e12},
	// Bits, as networks are named by.
	{"b/s", 1. / 8}, {"kb/s", 1e3 / 8}, {"Mb/s", 1e6 / 8}, {"Gb/s", 1e9 / 8}, {"Tb/s", 1e12 / 8},
	{"bit/s", 1. / 8}, {"kbit/s", 1e3 / 8}, {"Mbit/s", 1e6 / 8}, {"Gbit/s", 1e9 / 8}, {"Tbit/s", 1e12 / 8},
}

var decimalByteRates = []unit{{"B/s", 1}, {"kB/s", 1e3}, {"MB/s", 1e6}, {"GB/s", 1e9}, {"TB/s", 1e12}}

// ParseByteRate reads a throughput such as "250MB/s", "1 GiB/s" or, in bits, "10Gb/s".
func ParseByteRate(text string) (ByteRate, error) {
	value, err := parse(text, "throughput", "250MB/s, 1GiB/s or in bits 10Gb/s", byteRateUnits)
	return ByteRate(value), err
}

// String prints r with three significant digits in decimal units.
func (r ByteRate) String() string { return scaled(float64(r), decimalByteRates) }

// Full prints r in bytes per second without its unit.
func (r ByteRate) Full() string { return full(float64(r)) }

// UnmarshalYAML reads a throughput as people write it.
func (r *ByteRate) UnmarshalYAML(text []byte) error { return unmarshalYAML(text, ParseByteRate, r) }

// MarshalYAML writes a throughput so that reading it gives the same value.
func (r ByteRate) MarshalYAML() ([]byte, error) {
	for i := len(decimalByteRates) - 1; i > 0; i-- {
		if n := float64(r) / decimalByteRates[i].scale; n >= 1 && n == math.Trunc(n) {
			return fmt.Appendf(nil, "%.0f%s", n, decimalByteRates[i].name), nil
		}
	}
	return []byte(r.Full() + "B/s"), nil
}
