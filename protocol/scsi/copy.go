package scsi

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
)

// What EXTENDED COPY is made of (SPC-4, 6.4): the descriptor of a logical unit by its name,
// and that of a segment from blocks to blocks.
const (
	unitDescriptor    = 0xe4
	segmentDescriptor = 0x02
	unitLength        = 32
	segmentLength     = 28
	copyHeader        = 16

	// CopyLength is the length of a list of one segment within one logical unit.
	CopyLength = copyHeader + unitLength + segmentLength

	// Actions of RECEIVE COPY RESULTS.
	actionCopyStatus     = 0x00
	actionCopyParameters = 0x03
)

// ExtendedCopy copies what a list of a length says (PutCopy).
func ExtendedCopy(length uint32) (c CDB) {
	c[0] = OpExtendedCopy
	binary.BigEndian.PutUint32(c[10:], length)
	return c
}

// CopyLimits asks what EXTENDED COPY takes, for an answer of at most so many bytes.
func CopyLimits(most uint32) (c CDB) {
	c[0], c[1] = OpReceiveCopyResults, actionCopyParameters
	binary.BigEndian.PutUint32(c[10:], most)
	return c
}

// CopyStatus asks what became of the list of a number.
func CopyStatus(list byte, most uint32) (c CDB) {
	c[0], c[1], c[2] = OpReceiveCopyResults, actionCopyStatus, list
	binary.BigEndian.PutUint32(c[10:], most)
	return c
}

// IsCopyLimits reports whether a RECEIVE COPY RESULTS asks for limits; otherwise it asks for
// the status of the list of a number, where it asks for that.
func IsCopyLimits(c *CDB) (limits, status bool, list byte) {
	return c[1]&0x1f == actionCopyParameters, c[1]&0x1f == actionCopyStatus, c[2]
}

// NameBytes are those of a name as ParseIdentification gives it, where it is of the kind
// that EXTENDED COPY knows units by.
func NameBytes(name string) ([]byte, error) {
	digits, is := strings.CutPrefix(name, "naa.")
	b, err := hex.DecodeString(digits)
	if !is || err != nil || len(b) != 8 && len(b) != 16 {
		return nil, fmt.Errorf("a unit is copied within by its NAA name of 8 or 16 bytes, and this one is called %q", name)
	}
	return b, nil
}

// Segment is blocks that are copied within a logical unit.
type Segment struct {
	From, To uint64
	Blocks   uint16
}

// PutCopy makes a list of one segment within the unit of a name, whose blocks have a length.
func PutCopy(into, name []byte, blockLength uint32, s Segment) {
	b := into[:CopyLength]
	clear(b)
	b[1] = 3 << 3 // no status is held
	binary.BigEndian.PutUint16(b[2:], unitLength)
	binary.BigEndian.PutUint32(b[8:], segmentLength)
	unit := b[copyHeader:]
	unit[0] = unitDescriptor
	unit[4], unit[5], unit[7] = 1, 3, byte(len(name)) // binary, NAA, of a logical unit
	copy(unit[8:28], name)
	putWhole24(unit[29:], blockLength)
	segment := unit[unitLength:]
	segment[0], segment[1] = segmentDescriptor, 1<<1 // counted in blocks of the destination
	binary.BigEndian.PutUint16(segment[2:], segmentLength-4)
	binary.BigEndian.PutUint16(segment[10:], s.Blocks)
	binary.BigEndian.PutUint64(segment[12:], s.From)
	binary.BigEndian.PutUint64(segment[20:], s.To)
}

func putWhole24(b []byte, v uint32) { b[0], b[1], b[2] = byte(v>>16), byte(v>>8), byte(v) }

// CopyList is what the list of an EXTENDED COPY says.
type CopyList struct {
	ID       byte
	Held     bool     // whether its status is to be held
	Units    [][]byte // the names of logical units
	Segments []NamedSegment
}

// NamedSegment is a segment from one of the units of a list to one.
type NamedSegment struct {
	Segment
	Source, Destination int // numbers of units in the list
}

// Most units and segments of a list.
const (
	MostCopyUnits    = 4
	MostCopySegments = 16
)

// ParseCopy reads the list of an EXTENDED COPY. The error is sense data.
func ParseCopy(b []byte) (l CopyList, err error) {
	wrong := func(code uint16) (CopyList, error) {
		return CopyList{}, &Error{Status: CheckCondition, Sense: Sense{Key: IllegalRequest, Code: code}}
	}
	if len(b) < copyHeader {
		return wrong(CodeParamLength)
	}
	units, segments := uint64(binary.BigEndian.Uint16(b[2:])), uint64(binary.BigEndian.Uint32(b[8:]))
	l.ID, l.Held = b[0], b[1]>>3&3 != 3
	if copyHeader+units+segments > uint64(len(b)) || units%unitLength != 0 {
		return wrong(CodeParamLength)
	}
	if units/unitLength > MostCopyUnits {
		return wrong(CodeTooManyUnits)
	}
	rest := b[copyHeader : copyHeader+units+segments]
	for range units / unitLength {
		d := rest[:unitLength]
		rest = rest[unitLength:]
		if d[0] != unitDescriptor {
			return wrong(CodeUnitDescriptor)
		}
		if length := int(d[7]); d[4]&0xf != 1 || d[5]&0x3f != 3 || length != 8 && length != 16 {
			return wrong(CodeInvalidParam)
		}
		l.Units = append(l.Units, d[8:8+d[7]])
	}
	for len(rest) > 0 {
		if len(rest) < segmentLength || rest[0] != segmentDescriptor || binary.BigEndian.Uint16(rest[2:]) != segmentLength-4 {
			return wrong(CodeSegmentDescriptor)
		}
		if len(l.Segments) == MostCopySegments {
			return wrong(CodeTooManySegments)
		}
		s := NamedSegment{
			Source: int(binary.BigEndian.Uint16(rest[4:])), Destination: int(binary.BigEndian.Uint16(rest[6:])),
			Segment: Segment{Blocks: binary.BigEndian.Uint16(rest[10:]), From: binary.BigEndian.Uint64(rest[12:]), To: binary.BigEndian.Uint64(rest[20:])},
		}
		if s.Source >= len(l.Units) || s.Destination >= len(l.Units) {
			return wrong(CodeInvalidParam)
		}
		l.Segments = append(l.Segments, s)
		rest = rest[segmentLength:]
	}
	return l, nil
}

// Copies are the limits of EXTENDED COPY.
type Copies struct {
	Units, Segments uint16 // of a list
	Most            uint32 // bytes of a segment; 0 where it is not told
	Known           bool   // it copies from blocks to blocks, and knows units by their name
}

// limitsLength is the length of the answer to CopyLimits with two kinds of descriptor.
const limitsLength = 46

// PutCopyLimits is the answer to CopyLimits of one that takes what PutCopy makes.
func PutCopyLimits(c Copies) []byte {
	b := make([]byte, limitsLength)
	binary.BigEndian.PutUint32(b, limitsLength-4)
	b[4] = 1 // lists need not have numbers of their own
	binary.BigEndian.PutUint16(b[8:], c.Units)
	binary.BigEndian.PutUint16(b[10:], c.Segments)
	binary.BigEndian.PutUint32(b[12:], uint32(c.Units)*unitLength+uint32(c.Segments)*segmentLength)
	binary.BigEndian.PutUint32(b[16:], c.Most)
	b[36] = 255 // copies at the same time
	b[37] = 9   // segments of whole 512 bytes
	b[43], b[44], b[45] = 2, segmentDescriptor, unitDescriptor
	return b
}

// ParseCopyLimits reads the answer to CopyLimits.
func ParseCopyLimits(b []byte) (c Copies, err error) {
	if len(b) < 44 {
		return c, fmt.Errorf("%w: RECEIVE COPY RESULTS was answered with %d bytes", ErrAnswer, len(b))
	}
	c = Copies{Units: binary.BigEndian.Uint16(b[8:]), Segments: binary.BigEndian.Uint16(b[10:]), Most: binary.BigEndian.Uint32(b[16:])}
	blocks, units := false, false
	for _, kind := range b[44:min(len(b), 44+int(b[43]))] {
		blocks, units = blocks || kind == segmentDescriptor, units || kind == unitDescriptor
	}
	c.Known = blocks && units && c.Units > 0 && c.Segments > 0
	return c, nil
}

// Copied is what became of a list.
type Copied struct {
	Failed   bool
	Segments uint16 // that were done
	Bytes    uint32
}

// PutCopied is the answer to CopyStatus.
func PutCopied(c Copied) []byte {
	b := make([]byte, 12)
	binary.BigEndian.PutUint32(b, 8)
	if b[4] = 1; c.Failed {
		b[4] = 2
	}
	binary.BigEndian.PutUint16(b[5:], c.Segments)
	binary.BigEndian.PutUint32(b[8:], c.Bytes)
	return b
}

// ParseCopied reads the answer to CopyStatus.
func ParseCopied(b []byte) (c Copied, done bool, err error) {
	if len(b) < 12 {
		return c, false, fmt.Errorf("%w: RECEIVE COPY RESULTS was answered with %d bytes", ErrAnswer, len(b))
	}
	status := b[4] & 0x7f
	c = Copied{Failed: status == 2, Segments: binary.BigEndian.Uint16(b[5:]), Bytes: binary.BigEndian.Uint32(b[8:])}
	if unit := b[7]; unit >= 1 && unit <= 3 { // KiB, MiB, GiB
		c.Bytes <<= 10 * unit
	}
	return c, status != 0, nil
}
