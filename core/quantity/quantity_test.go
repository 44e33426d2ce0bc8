package quantity

import (
	"encoding/json"
	"errors"
	"math"
	"testing"
	"time"
)

func TestParseBytes(t *testing.T) {
	for text, want := range map[string]Bytes{
		"4KiB": 4096, "16 GiB": 17179869184, "4kB": 4000, "4096": 4096, "1.5 MiB": 1572864,
		"250MB": 250e6, "1e6": 1000000, "1 EiB": 1 << 60, "0": 0, " 512 B ": 512, "4kib": 4096,
	} {
		if got, err := ParseBytes(text); err != nil || got != want {
			t.Errorf("ParseBytes(%q) = %d, %v; want %d", text, got, err, want)
		}
	}
	for _, text := range []string{"", "4k", "4 K", "KiB", "-4KiB", "0.3B", "16EiB", "1,000", "4KiB/s", "1e400", "nan", "inf"} {
		if got, err := ParseBytes(text); !errors.Is(err, ErrSyntax) {
			t.Errorf("ParseBytes(%q) = %d, %v; want a syntax error", text, got, err)
		}
	}
}

func TestParseOthers(t *testing.T) {
	if got, err := ParseByteRate("250MB/s"); err != nil || got != 250e6 {
		t.Errorf("250MB/s = %v, %v", got, err)
	}
	if got, err := ParseByteRate("1GiB/s"); err != nil || got != 1<<30 {
		t.Errorf("1GiB/s = %v, %v", got, err)
	}
	// Bits are bits; what may be either is asked for.
	for text, want := range map[string]ByteRate{"10Gb/s": 1.25e9, "10 Gbit/s": 1.25e9, "100Mb/s": 12.5e6, "8kb/s": 1000, "1TB/s": 1e12, "10GB/s": 10e9, "5KB/s": 5000, "4kib/s": 4096, "800 MBIT/S": 100e6, "64b/s": 8} {
		if got, err := ParseByteRate(text); err != nil || got != want {
			t.Errorf("ParseByteRate(%q) = %v, %v; want %v", text, got, err, want)
		}
	}
	for _, text := range []string{"10gb/s", "100mb/s", "10G/s", "10Gbps"} {
		if got, err := ParseByteRate(text); !errors.Is(err, ErrSyntax) {
			t.Errorf("ParseByteRate(%q) = %v, %v; want a syntax error", text, got, err)
		}
	}
	for text, want := range map[string]Share{"70%": 0.7, "0.7": 0.7, "100 %": 1, "0": 0, "33.3%": 0.333} {
		if got, err := ParseShare(text); err != nil || got != want {
			t.Errorf("ParseShare(%q) = %v, %v; want %v", text, got, err, want)
		}
	}
	for _, text := range []string{"70", "101%", "-1%", "half"} {
		if _, err := ParseShare(text); !errors.Is(err, ErrSyntax) {
			t.Errorf("ParseShare(%q): %v; want a syntax error", text, err)
		}
	}
	for text, want := range map[string]time.Duration{
		"90s": 90 * time.Second, "500 ms": 500 * time.Millisecond, "1h30m": 90 * time.Minute, "2 min": 2 * time.Minute,
		"20us": 20 * time.Microsecond, "0": 0, "1d": 24 * time.Hour,
	} {
		if got, err := ParseSeconds(text); err != nil || got.Duration() != want {
			t.Errorf("ParseSeconds(%q) = %v, %v; want %v", text, got.Duration(), err, want)
		}
	}
	for _, text := range []string{"60", "-1s", "soon", ""} {
		if _, err := ParseSeconds(text); !errors.Is(err, ErrSyntax) {
			t.Errorf("ParseSeconds(%q): %v; want a syntax error", text, err)
		}
	}
	if got, err := ParseOpRate("12.4k"); err != nil || got != 12400 {
		t.Errorf("12.4k = %v, %v", got, err)
	}
}

func TestPrintsThreeSignificantDigits(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Bytes(4096).String(), "4 KiB"},
		{Bytes(16 << 30).String(), "16 GiB"},
		{Bytes(1000).String(), "1000 B"},
		{Bytes(1234567).String(), "1.18 MiB"},
		{Bytes(0).String(), "0 B"},
		{ByteRate(1.18e9).String(), "1.18 GB/s"},
		{ByteRate(999.9e6).String(), "1.00 GB/s"},
		{ByteRate(0).String(), "0 B/s"},
		{OpRate(12400).String(), "12.4 k IOPS"},
		{OpRate(999.96).String(), "1.00 k IOPS"},
		{OpRate(87).String(), "87.0 IOPS"},
		{Share(0.7).String(), "70 %"},
		{Share(0.12345).String(), "12.3 %"},
		{Seconds(0.0042).String(), "4.20 ms"},
		{Seconds(90).String(), "90.0 s"},
		{Seconds(5).String(), "5 s"},
		{Seconds(9000).String(), "2 h 30 min"},
		{Seconds(0.0000009).String(), "900 ns"},
		{Seconds(0).String(), "0 s"},
		{ByteRate(1234567.5).Full(), "1234567.5"},
	} {
		if c.got != c.want {
			t.Errorf("printed %q, want %q", c.got, c.want)
		}
	}
}

func TestJSONIsPlainNumbers(t *testing.T) {
	got, err := json.Marshal(struct {
		Span Bytes
		For  Seconds
		Rate ByteRate
		Read Share
	}{4096, 0.25, 1e6, 0.7})
	if want := `{"Span":4096,"For":0.25,"Rate":1000000,"Read":0.7}`; err != nil || string(got) != want {
		t.Errorf("got %s, %v; want %s", got, err, want)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"4KiB", "1e", "..", "9e18 EiB", "1h30m", "70%", "-", "١"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if b, err := ParseBytes(text); err == nil {
			written, _ := b.MarshalYAML()
			if again, err := ParseBytes(string(written)); err != nil || again != b {
				t.Errorf("%q parsed to %d, written as %q, read back as %d, %v", text, b, written, again, err)
			}
		}
		if s, err := ParseShare(text); err == nil && !(s >= 0 && s <= 1) {
			t.Errorf("share %q parsed to %v", text, s)
		}
		if s, err := ParseSeconds(text); err == nil && (s < 0 || math.IsNaN(float64(s))) {
			t.Errorf("time %q parsed to %v", text, s)
		}
		if r, err := ParseByteRate(text); err == nil {
			_ = r.String()
		}
	})
}
