package scsi

import (
	"encoding/hex"
	"errors"
	"strings"
	"syscall"
	"testing"
)

func bytesOf(t *testing.T, text string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.Join(strings.Fields(text), ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Blocks as the standards lay them out (SBC-3, 5; SPC-4, 6), written by hand.
func TestBlocks(t *testing.T) {
	for name, c := range map[string]struct {
		got  CDB
		want string
	}{
		"READ (10)":              {Read(0x01020304, 8), "28 00 01020304 00 0008 00"},
		"READ (10), the last":    {Read(0xffffffff, 1), "28 00 ffffffff 00 0001 00"},
		"READ (16), past it":     {Read(0xffffffff, 2), "88 00 00000000ffffffff 00000002 00 00"},
		"WRITE (16), many":       {Write(7, 1<<16), "8a 00 0000000000000007 00010000 00 00"},
		"WRITE (10)":             {Write(7, 1<<16-1), "2a 00 00000007 00 ffff 00"},
		"SYNCHRONIZE CACHE (10)": {SynchronizeCache(), "35 00 00000000 00 0000 00"},
		"INQUIRY":                {Inquiry(96), "12 00 00 0060 00"},
		"INQUIRY of a page":      {InquiryPage(0x83, 512), "12 01 83 0200 00"},
		"READ CAPACITY (16)":     {ReadCapacity16(32), "9e 10 0000000000000000 00000020 00 00"},
		"REPORT LUNS":            {ReportLUNs(8192), "a0 00 00 000000 00002000 00 00"},
		"MODE SENSE (10)":        {ModeSense10(8, 252), "5a 08 08 00 000000 00fc 00"},
		"UNMAP":                  {Unmap(24), "42 00 00000000 00 0018 00"},
		"WRITE SAME (16)":        {WriteSame16(5, 9, true), "93 08 0000000000000005 00000009 00 00"},
		"EXTENDED COPY":          {ExtendedCopy(76), "83 00 0000000000000000 0000004c 00 00"},
		"its limits":             {CopyLimits(512), "84 03 0000000000000000 00000200 00 00"},
		"its status":             {CopyStatus(9, 12), "84 00 09 00000000000000 0000000c 00 00"},
		"COMPARE AND WRITE":      {CompareAndWrite(5, 1), "89 00 0000000000000005 000000 01 00 00"},
	} {
		want := bytesOf(t, c.want)
		if string(c.got[:len(want)]) != string(want) || strings.Trim(string(c.got[len(want):]), "\x00") != "" {
			t.Errorf("%s: %x, and it is %x", name, c.got, want)
		}
	}
	for _, c := range []CDB{Read(0x01020304, 8), Write(0x0102030405, 70000), CompareAndWrite(3, 2), WriteSame16(1<<40, 3, false)} {
		if p := PlaceOf(&c); p.Blocks == 0 || p.At == 0 {
			t.Errorf("%x is about %+v", c, p)
		}
	}
}

// Answers recorded of a real target and written by hand after the standards.
func TestAnswers(t *testing.T) {
	c, more, err := ParseCapacity10(bytesOf(t, "0001ffff 00000200"))
	if err != nil || more || c.Bytes() != 64<<20 {
		t.Errorf("%+v, %v (%v)", c, more, err)
	}
	if _, more, err = ParseCapacity10(bytesOf(t, "ffffffff 00000200")); err != nil || !more {
		t.Errorf("a size that does not fit: %v (%v)", more, err)
	}
	c, err = ParseCapacity16(bytesOf(t, "00000000 0001ffff 00000200 00 03 80 00"))
	if err != nil || c.Bytes() != 64<<20 || c.Physical != 4096 || !c.Provisioned {
		t.Errorf("%+v (%v)", c, err)
	}
	for _, wrong := range []string{"", "0001ffff", "0001ffff 00000000", "0001ffff 00000201", "0001ffff 80000000"} {
		if _, _, err := ParseCapacity10(bytesOf(t, wrong)); !errors.Is(err, ErrAnswer) {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	if _, err := ParseCapacity16(bytesOf(t, "ffffffff ffffffff 00000200")); !errors.Is(err, ErrAnswer) {
		t.Errorf("more blocks than there can be: %v", err)
	}
	// A T10 name, then a NAA one, then that of a port, which is not the unit's.
	name, err := ParseIdentification(bytesOf(t, "00 83 0024  02 01 00 04 41424344  01 03 00 08 6001405012345678  01 93 00 08 5001405012345678"))
	if err != nil || name != "naa.6001405012345678" {
		t.Errorf("%q (%v)", name, err)
	}
	if l, err := ParseLimits(bytesOf(t, "00 b0 003c 00 01 0008 00001000 00000800 00000000 00000400 00000001 00000008 00000000 0000000000002000")); err != nil || l != (Limits{8, 0x1000, 0x800, 0x400, 8, 1, 0x2000}) {
		t.Errorf("%+v (%v)", l, err)
	}
	if p, err := ParseProvisioning(bytesOf(t, "00 b2 0004 00 80 02 00")); err != nil || !p.Thin || !p.Unmaps {
		t.Errorf("%+v (%v)", p, err)
	}
	luns, err := ParseLUNs(bytesOf(t, "00000018 00000000 0000000000000000 0001000000000000 4100000000000000"))
	if err != nil || len(luns) != 3 {
		t.Fatalf("%x (%v)", luns, err)
	}
	for i, want := range []uint16{0, 1, 256} {
		if number, ok := LUNNumber(luns[i]); !ok || number != want || LUN(want) != luns[i] {
			t.Errorf("%016x is %d, %v", luns[i], number, ok)
		}
	}
	if m, err := ParseModes10(bytesOf(t, "0022 00 80 00000008 0000000000000000 08 0a 04 00 0000 0000 0000 0000")); err != nil || !m.WriteProtected || !m.WriteCache || !m.CacheKnown {
		t.Errorf("%+v (%v)", m, err)
	}
	if p, err := ParseInquiry(append(bytesOf(t, "00 00 05 02 1f 08 00 00"), "HERON   DISK\x1b[2J         1.0 "...)); err != nil || p.Vendor != "HERON" || strings.Contains(p.Name, "\x1b") || !p.Copies {
		t.Errorf("%+v (%v)", p, err)
	}
}

func TestSense(t *testing.T) {
	for text, want := range map[string]struct {
		sense Sense
		errno syscall.Errno
	}{
		"70 00 05 00000000 0a 00000000 2100 00000000": {Sense{IllegalRequest, CodeOutOfRange}, syscall.ENXIO},
		"72 07 2700 00000000":                         {Sense{DataProtect, CodeWriteProtected}, syscall.EROFS},
		"70 00 07 00000000 0a 00000000 2707 00000000": {Sense{DataProtect, CodeSpaceAlloc}, syscall.ENOSPC},
		"70 00 03 00000000 00":                        {Sense{MediumError, 0}, syscall.EIO},
		"70":                                          {Sense{}, syscall.EIO},
	} {
		s := ParseSense(bytesOf(t, text))
		if err := (&Error{CheckCondition, s}); s != want.sense || !errors.Is(err, want.errno) || err.Error() == "" {
			t.Errorf("%s: %+v, %v", text, s, err)
		}
		if again := ParseSense(s.FixedSense()); again != s {
			t.Errorf("%+v became %+v", s, again)
		}
	}
	for status, errno := range map[byte]syscall.Errno{Busy: syscall.EAGAIN, TaskSetFull: syscall.EAGAIN, ReservationConflict: syscall.EBUSY, TaskAborted: syscall.EIO} {
		if err := (&Error{Status: status}); !errors.Is(err, errno) || err.Error() == "" {
			t.Errorf("status %02x: %v", status, err)
		}
	}
}

// Whatever a target answers is read or refused.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte{0, 0x83, 0, 4, 1, 3, 0, 8})
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = ParseInquiry(b)
		_, _ = ParseSupported(b)
		_, _ = ParseSerial(b)
		_, _ = ParseIdentification(b)
		_, _ = ParseLimits(b)
		_, _ = ParseProvisioning(b)
		_, _ = ParseRotation(b)
		_, _, _ = ParseCapacity10(b)
		_, _ = ParseCapacity16(b)
		_, _ = ParseLUNs(b)
		_, _ = ParseModes10(b)
		_, _ = ParseModes6(b)
		_ = ParseSense(b).String()
		_ = Reserved(b)
	})
}
