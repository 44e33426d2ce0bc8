// Package scsi is what is said to disks: command descriptor blocks, what they answer, and
// sense data in words. It neither sends nor receives.
//
// Layouts and numbers are those of SPC-4 (primary commands) and SBC-3 (block commands).
package scsi

import "encoding/binary"

// CDB is a command descriptor block; shorter ones end with zeros.
type CDB [16]byte

// Operation codes.
const (
	OpTestUnitReady       = 0x00
	OpRequestSense        = 0x03
	OpInquiry             = 0x12
	OpReserve6            = 0x16
	OpRelease6            = 0x17
	OpModeSense6          = 0x1a
	OpStartStop           = 0x1b
	OpReadCapacity10      = 0x25
	OpRead10              = 0x28
	OpWrite10             = 0x2a
	OpSynchronizeCache10  = 0x35
	OpWriteSame10         = 0x41
	OpUnmap               = 0x42
	OpReserve10           = 0x56
	OpRelease10           = 0x57
	OpModeSense10         = 0x5a
	OpPersistentReserveIn = 0x5e
	OpPersistentReserve   = 0x5f
	OpExtendedCopy        = 0x83
	OpReceiveCopyResults  = 0x84
	OpRead16              = 0x88
	OpCompareAndWrite     = 0x89
	OpWrite16             = 0x8a
	OpSynchronizeCache16  = 0x91
	OpWriteSame16         = 0x93
	OpServiceActionIn16   = 0x9e
	OpReportLUNs          = 0xa0
	OpMaintenanceIn       = 0xa3
	ActionReadCapacity16  = 0x10 // of OpServiceActionIn16
	ActionSupportedOpcode = 0x0c // of OpMaintenanceIn
)

// Pages of vital product data, and of modes.
const (
	PageSupported      = 0x00
	PageSerial         = 0x80
	PageIdentification = 0x83
	PageLimits         = 0xb0
	PageCharacter      = 0xb1
	PageProvisioning   = 0xb2
	ModeCaching        = 0x08
	ModeControl        = 0x0a
	ModeAll            = 0x3f
)

// Read reads so many blocks from a place on; Write writes them. What fits is said in ten
// bytes.
func Read(at uint64, blocks uint32) (c CDB) { return move(OpRead10, OpRead16, at, blocks) }

// Write is the counterpart of Read.
func Write(at uint64, blocks uint32) (c CDB) { return move(OpWrite10, OpWrite16, at, blocks) }

func move(short, long byte, at uint64, blocks uint32) (c CDB) {
	if at+uint64(blocks) <= 1<<32 && blocks < 1<<16 {
		c[0] = short
		binary.BigEndian.PutUint32(c[2:], uint32(at))
		binary.BigEndian.PutUint16(c[7:], uint16(blocks))
		return c
	}
	c[0] = long
	binary.BigEndian.PutUint64(c[2:], at)
	binary.BigEndian.PutUint32(c[10:], blocks)
	return c
}

// SynchronizeCache forces all that was written to stable storage.
func SynchronizeCache() (c CDB) {
	c[0] = OpSynchronizeCache10
	return c
}

// TestUnitReady asks whether it takes commands.
func TestUnitReady() (c CDB) { return c }

// Inquiry asks what it is, for an answer of at most so many bytes.
func Inquiry(most uint16) (c CDB) {
	c[0] = OpInquiry
	binary.BigEndian.PutUint16(c[3:], most)
	return c
}

// InquiryPage asks for a page of vital product data.
func InquiryPage(page byte, most uint16) (c CDB) {
	c = Inquiry(most)
	c[1], c[2] = 1, page
	return c
}

// ReadCapacity10 asks for the size, and is answered with eight bytes.
func ReadCapacity10() (c CDB) {
	c[0] = OpReadCapacity10
	return c
}

// ReadCapacity16 asks for the size and more.
func ReadCapacity16(most uint32) (c CDB) {
	c[0], c[1] = OpServiceActionIn16, ActionReadCapacity16
	binary.BigEndian.PutUint32(c[10:], most)
	return c
}

// ReportLUNs asks which logical units there are.
func ReportLUNs(most uint32) (c CDB) {
	c[0] = OpReportLUNs
	binary.BigEndian.PutUint32(c[6:], most)
	return c
}

// ModeSense10 asks for a page of modes, without block descriptors.
func ModeSense10(page byte, most uint16) (c CDB) {
	c[0], c[1], c[2] = OpModeSense10, 1<<3, page
	binary.BigEndian.PutUint16(c[7:], most)
	return c
}

// ModeSense6 does so in an older way.
func ModeSense6(page, most byte) (c CDB) {
	c[0], c[1], c[2], c[4] = OpModeSense6, 1<<3, page, most
	return c
}

// ReadReservation asks for the persistent reservation (PERSISTENT RESERVE IN).
func ReadReservation(most uint16) (c CDB) {
	c[0], c[1] = OpPersistentReserveIn, 1
	binary.BigEndian.PutUint16(c[7:], most)
	return c
}

// Unmap gives ranges back, that UnmapList tells.
func Unmap(length uint16) (c CDB) {
	c[0] = OpUnmap
	binary.BigEndian.PutUint16(c[7:], length)
	return c
}

// UnmapLength is the length of a list of one range.
const UnmapLength = 24

// PutUnmapRange makes a list of one range.
func PutUnmapRange(into []byte, at uint64, blocks uint32) {
	clear(into[:UnmapLength])
	binary.BigEndian.PutUint16(into[0:], UnmapLength-2)
	binary.BigEndian.PutUint16(into[2:], UnmapLength-8)
	binary.BigEndian.PutUint64(into[8:], at)
	binary.BigEndian.PutUint32(into[16:], blocks)
}

// WriteSame16 writes one block to so many places; unmaps gives them back instead where
// the block is zeros.
func WriteSame16(at uint64, blocks uint32, unmaps bool) (c CDB) {
	c[0] = OpWriteSame16
	if unmaps {
		c[1] = 1 << 3
	}
	binary.BigEndian.PutUint64(c[2:], at)
	binary.BigEndian.PutUint32(c[10:], blocks)
	return c
}

// CompareAndWrite writes blocks where others are: first come those that have to be there,
// then those to write.
func CompareAndWrite(at uint64, blocks byte) (c CDB) {
	c[0] = OpCompareAndWrite
	binary.BigEndian.PutUint64(c[2:], at)
	c[13] = blocks
	return c
}

// Place is what a command of blocks is about.
type Place struct {
	At     uint64
	Blocks uint32
}

// PlaceOf reads the place of a READ, WRITE, WRITE SAME, COMPARE AND WRITE or SYNCHRONIZE
// CACHE.
func PlaceOf(c *CDB) Place {
	switch c[0] >> 5 {
	case 1, 2: // ten bytes
		return Place{uint64(binary.BigEndian.Uint32(c[2:])), uint32(binary.BigEndian.Uint16(c[7:]))}
	case 4: // sixteen
		if c[0] == OpCompareAndWrite {
			return Place{binary.BigEndian.Uint64(c[2:]), uint32(c[13])}
		}
		return Place{binary.BigEndian.Uint64(c[2:]), binary.BigEndian.Uint32(c[10:])}
	}
	return Place{}
}
