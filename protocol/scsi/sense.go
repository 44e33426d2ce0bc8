package scsi

import (
	"encoding/binary"
	"fmt"
	"syscall"
)

// Statuses of commands.
const (
	Good                = 0x00
	CheckCondition      = 0x02
	ConditionMet        = 0x04
	Busy                = 0x08
	ReservationConflict = 0x18
	TaskSetFull         = 0x28
	TaskAborted         = 0x40
)

var statusWords = map[byte]string{
	CheckCondition: "check condition", Busy: "busy", ReservationConflict: "another initiator has reserved it",
	TaskSetFull: "it takes no more commands at the moment", TaskAborted: "the command was ended by another initiator",
}

// Keys of sense data.
const (
	NoSense        = 0x0
	RecoveredError = 0x1
	NotReady       = 0x2
	MediumError    = 0x3
	HardwareError  = 0x4
	IllegalRequest = 0x5
	UnitAttention  = 0x6
	DataProtect    = 0x7
	CopyAborted    = 0xa
	AbortedCommand = 0xb
	Miscompare     = 0xe
)

var keyWords = [16]string{
	"no sense", "recovered error", "not ready", "medium error", "hardware error", "illegal request", "unit attention", "data protect",
	"blank check", "vendor specific", "copy aborted", "aborted command", "reserved", "volume overflow", "miscompare", "completed",
}

// Codes that are met with, as code << 8 | qualifier (SPC-4, annex F).
const (
	CodeInvalidOpcode  = 0x2000
	CodeOutOfRange     = 0x2100
	CodeInvalidField   = 0x2400
	CodeNoLUN          = 0x2500
	CodeInvalidParam   = 0x2600
	CodeWriteProtected = 0x2700
	CodePowerOn        = 0x2900
	CodeModesChanged   = 0x2a01
	CodeReservation    = 0x2a03
	CodeReleased       = 0x2a04
	CodeCapacity       = 0x2a09
	CodeNotReady       = 0x0400
	CodeSpaceAlloc     = 0x2707
	CodeReadError      = 0x1100
	CodeWriteError     = 0x0c00
	CodeMiscompare     = 0x1d00
	CodeLUNsChanged    = 0x3f0e
	CodeParamLength    = 0x1a00
	CodeDataPhase      = 0x4b00

	CodeTooManyUnits      = 0x2606
	CodeUnitDescriptor    = 0x2607
	CodeTooManySegments   = 0x2608
	CodeSegmentDescriptor = 0x2609
	CodeUnitNotReached    = 0x0d02
)

var codeWords = map[uint16]string{
	CodeInvalidOpcode: "it does not know the command", CodeOutOfRange: "the place is past its end", CodeInvalidField: "a field of the command is not allowed",
	CodeNoLUN: "there is no such logical unit", CodeInvalidParam: "a parameter is not allowed", CodeWriteProtected: "it is write-protected",
	CodePowerOn: "it was powered on or reset", CodeModesChanged: "its modes were changed", CodeReservation: "reservations were preempted",
	CodeReleased: "reservations were released", CodeCapacity: "its capacity changed", CodeNotReady: "it is not ready",
	0x0401: "it is getting ready", 0x0403: "it waits for somebody to act", 0x040a: "it changes the access to it", 0x040b: "it stands by on this path", 0x040c: "it cannot be reached on this path",
	CodeSpaceAlloc: "its pool has no room left", CodeReadError: "it cannot be read there", CodeWriteError: "it cannot be written there",
	CodeMiscompare: "what was there was something else", CodeLUNsChanged: "which logical units there are changed", 0x3f03: "it says something else of itself than before",
	CodeTooManyUnits: "more logical units to copy between than it takes", CodeUnitDescriptor: "it does not know units by such a name",
	CodeTooManySegments: "more segments to copy than it takes", CodeSegmentDescriptor: "it does not copy such segments", CodeUnitNotReached: "it does not reach the unit to copy to or from",
	CodeParamLength: "the list of parameters has a wrong length", CodeDataPhase: "data did not arrive as they should", 0x4400: "an error within the target",
	0x3a00: "there is no medium", 0x3e00: "it did not configure itself yet", 0x0c02: "it cannot be written there", 0x1400: "it did not find the record", 0x5d00: "it expects to fail",
}

// Sense is what a logical unit says of a command that it did not carry out.
type Sense struct {
	Key  byte
	Code uint16 // code << 8 | qualifier
}

// String is the sense in words.
func (s Sense) String() string {
	words, known := codeWords[s.Code]
	if !known {
		words = fmt.Sprintf("code %02x, qualifier %02x", s.Code>>8, s.Code&0xff)
	}
	return fmt.Sprintf("%s: %s", keyWords[s.Key&0xf], words)
}

// ParseSense reads sense data in both formats; none where there are too few.
func ParseSense(b []byte) (s Sense) {
	if len(b) < 4 {
		return s
	}
	switch b[0] & 0x7f {
	case 0x72, 0x73: // descriptors
		return Sense{b[1] & 0xf, binary.BigEndian.Uint16(b[2:])}
	case 0x70, 0x71:
		s.Key = b[2] & 0xf
		if len(b) >= 14 && b[7] >= 6 {
			s.Code = binary.BigEndian.Uint16(b[12:])
		}
	}
	return s
}

// FixedSense is the sense in the fixed format.
func (s Sense) FixedSense() []byte {
	b := make([]byte, 18)
	b[0], b[2], b[7] = 0x70, s.Key, 10
	binary.BigEndian.PutUint16(b[12:], s.Code)
	return b
}

// Error is a command that was not carried out.
type Error struct {
	Status byte
	Sense  Sense
}

func (e *Error) Error() string {
	if e.Status == CheckCondition {
		return e.Sense.String()
	}
	if words, known := statusWords[e.Status]; known {
		return words
	}
	return fmt.Sprintf("status 0x%02x", e.Status)
}

// Unwrap is the error number that a host would give for it, so that faults of all kinds
// of storage are counted under the same names.
func (e *Error) Unwrap() error {
	switch {
	case e.Status == ReservationConflict:
		return syscall.EBUSY
	case e.Status == Busy || e.Status == TaskSetFull:
		return syscall.EAGAIN
	case e.Status != CheckCondition:
		return syscall.EIO
	}
	switch {
	case e.Sense.Code == CodeSpaceAlloc:
		return syscall.ENOSPC
	case e.Sense.Key == DataProtect:
		return syscall.EROFS
	case e.Sense.Code == CodeNoLUN:
		return syscall.ENODEV
	case e.Sense.Code == CodeInvalidOpcode:
		return syscall.EOPNOTSUPP
	case e.Sense.Code == CodeOutOfRange:
		return syscall.ENXIO
	case e.Sense.Key == IllegalRequest:
		return syscall.EINVAL
	}
	return syscall.EIO
}
