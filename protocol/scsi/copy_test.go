package scsi

import (
	"errors"
	"slices"
	"testing"
)

// A list of one unit and one segment, written by hand after SPC-4, 6.4: its header, the
// descriptor of a unit by its NAA name, and one from blocks to blocks.
const copyList = `00 18 0020 00000000 0000001c 00000000
	e4 00 0000 01 03 00 10 60014051234567890123456789abcdef 00000000 00 000200
	02 02 0018 0000 0000 0000 0080 0000000000001000 0000000000002000`

func TestCopyLists(t *testing.T) {
	want := bytesOf(t, copyList)
	name, err := NameBytes("naa.60014051234567890123456789abcdef")
	if err != nil || len(want) != CopyLength {
		t.Fatal(err, len(want))
	}
	got := make([]byte, CopyLength)
	PutCopy(got, name, 512, Segment{From: 0x1000, To: 0x2000, Blocks: 0x80})
	if !slices.Equal(got, want) {
		t.Errorf("%x, and it is\n%x", want, got)
	}
	list, err := ParseCopy(want)
	if err != nil || list.Held || len(list.Units) != 1 || !slices.Equal(list.Units[0], name) || len(list.Segments) != 1 || list.Segments[0].Segment != (Segment{0x1000, 0x2000, 0x80}) {
		t.Errorf("%+v (%v)", list, err)
	}
	for _, name := range []string{"", "eui.0011223344556677", "naa.60", "naa.6001405123456789012345678", "naa.zz"} {
		if _, err := NameBytes(name); err == nil {
			t.Errorf("%q is a name to copy by", name)
		}
	}
	for what, change := range map[string]struct {
		change func([]byte) []byte
		code   uint16
	}{
		"too short":           {func(b []byte) []byte { return b[:15] }, CodeParamLength},
		"cut off":             {func(b []byte) []byte { return b[:len(b)-1] }, CodeParamLength},
		"half a unit":         {func(b []byte) []byte { b[3] = 16; return b }, CodeParamLength},
		"another descriptor":  {func(b []byte) []byte { b[16] = 0xe0; return b }, CodeUnitDescriptor},
		"not by its NAA name": {func(b []byte) []byte { b[21] = 1; return b }, CodeInvalidParam},
		"an endless name":     {func(b []byte) []byte { b[23] = 255; return b }, CodeInvalidParam},
		"another segment":     {func(b []byte) []byte { b[48] = 0; return b }, CodeSegmentDescriptor},
		"no such unit":        {func(b []byte) []byte { b[53] = 1; return b }, CodeInvalidParam},
		"many units": {func(b []byte) []byte {
			b[2], b[3] = 0, 160
			return append(b, make([]byte, 200)...)
		}, CodeTooManyUnits},
	} {
		_, err := ParseCopy(change.change(bytesOf(t, copyList)))
		var failed *Error
		if !errors.As(err, &failed) || failed.Sense.Code != change.code {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func TestCopyResults(t *testing.T) {
	// Of a target that takes two units and one segment of 16 MiB, and knows another kind of
	// descriptor as well.
	limits := bytesOf(t, `0000002b 01 000000 0002 0001 00000400 01000000 00000000 00000000 00000000 0000 0001 01 09 00 00 000000 03 02 00 e4`)
	if c, err := ParseCopyLimits(limits); err != nil || !c.Known || c.Units != 2 || c.Segments != 1 || c.Most != 16<<20 {
		t.Errorf("%+v (%v)", c, err)
	}
	limits[46] = 0xe0
	if c, err := ParseCopyLimits(limits); err != nil || c.Known {
		t.Errorf("of one that knows no names: %+v (%v)", c, err)
	}
	own := Copies{Units: 4, Segments: 16, Most: 1 << 20, Known: true}
	if c, err := ParseCopyLimits(PutCopyLimits(own)); err != nil || c != own {
		t.Errorf("%+v (%v)", c, err)
	}
	for _, c := range []Copied{{Segments: 3, Bytes: 1 << 20}, {Failed: true, Segments: 1, Bytes: 512}} {
		if got, done, err := ParseCopied(PutCopied(c)); err != nil || !done || got != c {
			t.Errorf("%+v, and it was %+v (%v)", got, c, err)
		}
	}
	if got, done, err := ParseCopied(bytesOf(t, "00000008 00 0000 00 00000000")); err != nil || done {
		t.Errorf("under way: %+v, %v (%v)", got, done, err)
	}
	if got, _, err := ParseCopied(bytesOf(t, "00000008 01 0001 01 00000003")); err != nil || got.Bytes != 3<<10 {
		t.Errorf("in KiB: %+v (%v)", got, err)
	}
	if _, err := ParseCopyLimits(make([]byte, 43)); !errors.Is(err, ErrAnswer) {
		t.Error(err)
	}
	if _, _, err := ParseCopied(make([]byte, 11)); !errors.Is(err, ErrAnswer) {
		t.Error(err)
	}
}

func FuzzCopyList(f *testing.F) {
	f.Add([]byte("\x00\x18\x00\x20\x00\x00\x00\x00\x00\x00\x00\x1c\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := ParseCopy(b)
		if err == nil && (len(l.Units) > MostCopyUnits || len(l.Segments) > MostCopySegments) {
			t.Errorf("%d units and %d segments", len(l.Units), len(l.Segments))
		}
	})
}
