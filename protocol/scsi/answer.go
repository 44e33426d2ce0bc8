package scsi

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// ErrAnswer is wrapped by answers that are not as the standard has them.
var ErrAnswer = errors.New("not an answer according to the SCSI standards")

// What it is that answers.
const (
	TypeDisk    = 0x00
	TypeNothing = 0x1f
)

// Product is what a logical unit says of itself.
type Product struct {
	Type     byte
	There    bool // the target has it, and it is connected
	Vendor   string
	Name     string
	Revision string
	Copies   bool // it takes EXTENDED COPY
}

// ParseInquiry reads the answer to INQUIRY.
func ParseInquiry(b []byte) (p Product, err error) {
	if len(b) < 36 {
		return p, fmt.Errorf("%w: INQUIRY was answered with %d bytes, and 36 are the least", ErrAnswer, len(b))
	}
	return Product{
		Type: b[0] & 0x1f, There: b[0]>>5 == 0, Vendor: text(b[8:16]), Name: text(b[16:32]), Revision: text(b[32:36]), Copies: b[5]&(1<<3) != 0,
	}, nil
}

// text is what a field of letters holds, without what a terminal would take for more.
func text(b []byte) string {
	clean := strings.Map(func(r rune) rune {
		if r < 0x20 || r > 0x7e {
			return ' '
		}
		return r
	}, string(b))
	return strings.TrimSpace(clean)
}

// page is the content of a page of vital product data.
func page(b []byte, number byte) ([]byte, error) {
	if len(b) < 4 {
		return nil, fmt.Errorf("%w: a page of %d bytes", ErrAnswer, len(b))
	}
	if b[1] != number {
		return nil, fmt.Errorf("%w: page 0x%02x came for page 0x%02x", ErrAnswer, b[1], number)
	}
	return b[4:min(len(b), 4+int(binary.BigEndian.Uint16(b[2:])))], nil
}

// ParseSupported reads which pages there are.
func ParseSupported(b []byte) ([]byte, error) { return page(b, PageSupported) }

// ParseSerial reads the serial number.
func ParseSerial(b []byte) (string, error) {
	content, err := page(b, PageSerial)
	return text(content), err
}

// ParseIdentification reads the name that is the same over all paths: the most lasting of
// those that are of the logical unit, such as "naa.60001405…".
func ParseIdentification(b []byte) (string, error) {
	content, err := page(b, PageIdentification)
	if err != nil {
		return "", err
	}
	best, name := 0, ""
	for len(content) >= 4 {
		length := int(content[3])
		if 4+length > len(content) {
			break
		}
		value, coding, kind, of := content[4:4+length], content[0]&0xf, content[1]&0xf, content[1]>>4&3
		content = content[4+length:]
		if of != 0 || length == 0 { // of a port or of the target
			continue
		}
		rank, words := 0, ""
		switch {
		case kind == 3 && coding == 1:
			rank, words = 4, "naa."+hex.EncodeToString(value)
		case kind == 2 && coding == 1:
			rank, words = 3, "eui."+hex.EncodeToString(value)
		case kind == 8:
			rank, words = 2, text(value)
		case kind == 1:
			rank, words = 1, "t10."+text(value)
		}
		if rank > best && words != "" {
			best, name = rank, words
		}
	}
	return name, nil
}

// Limits are those of the commands of blocks; zero for what is not told.
type Limits struct {
	Granularity uint32 // blocks that transfers are best multiples of
	MostBlocks  uint32 // of one transfer
	BestBlocks  uint32
	MostUnmap   uint32 // blocks in one UNMAP
	UnmapUnit   uint32 // blocks that are given back together
	MostCompare byte   // blocks of a COMPARE AND WRITE
	MostSame    uint64 // blocks of a WRITE SAME
}

// ParseLimits reads the page of limits.
func ParseLimits(b []byte) (l Limits, err error) {
	content, err := page(b, PageLimits)
	if err != nil {
		return l, err
	}
	c := make([]byte, 60)
	copy(c, content)
	l = Limits{
		MostCompare: c[1], Granularity: uint32(binary.BigEndian.Uint16(c[2:])), MostBlocks: binary.BigEndian.Uint32(c[4:]), BestBlocks: binary.BigEndian.Uint32(c[8:]),
		MostUnmap: binary.BigEndian.Uint32(c[16:]), UnmapUnit: binary.BigEndian.Uint32(c[24:]), MostSame: binary.BigEndian.Uint64(c[32:]),
	}
	return l, nil
}

// Provisioning is how its room is taken.
type Provisioning struct {
	Unmaps bool // it takes UNMAP
	Thin   bool
}

// ParseProvisioning reads the page of logical block provisioning.
func ParseProvisioning(b []byte) (p Provisioning, err error) {
	content, err := page(b, PageProvisioning)
	if err != nil || len(content) < 3 {
		return p, err
	}
	return Provisioning{Unmaps: content[1]&0x80 != 0, Thin: content[2]&7 == 2}, nil
}

// ParseRotation reads how fast media turn, in turns a minute: 1 for those that do not, 0
// where it does not say.
func ParseRotation(b []byte) (uint16, error) {
	content, err := page(b, PageCharacter)
	if err != nil || len(content) < 2 {
		return 0, err
	}
	return binary.BigEndian.Uint16(content), nil
}

// Capacity is the size of a logical unit.
type Capacity struct {
	Blocks      uint64
	BlockLength uint32 // bytes
	Physical    uint32 // bytes of a block of the medium
	Provisioned bool   // it keeps room only for what was written
}

// Bytes is the size in bytes.
func (c Capacity) Bytes() int64 { return int64(c.Blocks) * int64(c.BlockLength) }

// ParseCapacity10 reads the answer to READ CAPACITY (10); more is true where it cannot
// tell so much, and READ CAPACITY (16) has to be asked.
func ParseCapacity10(b []byte) (c Capacity, more bool, err error) {
	if len(b) < 8 {
		return c, false, fmt.Errorf("%w: READ CAPACITY was answered with %d bytes", ErrAnswer, len(b))
	}
	last := binary.BigEndian.Uint32(b)
	c = Capacity{Blocks: uint64(last) + 1, BlockLength: binary.BigEndian.Uint32(b[4:])}
	c.Physical = c.BlockLength
	return c, last == 1<<32-1, c.check()
}

// ParseCapacity16 reads the answer to READ CAPACITY (16).
func ParseCapacity16(b []byte) (c Capacity, err error) {
	if len(b) < 12 {
		return c, fmt.Errorf("%w: READ CAPACITY (16) was answered with %d bytes", ErrAnswer, len(b))
	}
	c = Capacity{Blocks: binary.BigEndian.Uint64(b) + 1, BlockLength: binary.BigEndian.Uint32(b[8:])}
	c.Physical = c.BlockLength
	if len(b) >= 16 {
		if exponent := b[13] & 0xf; exponent < 8 {
			c.Physical = c.BlockLength << exponent
		}
		c.Provisioned = b[14]&0x80 != 0
	}
	return c, c.check()
}

const (
	smallestBlock = 512
	largestBlock  = 64 << 10
)

func (c Capacity) check() error {
	if c.BlockLength < smallestBlock || c.BlockLength > largestBlock || c.BlockLength&(c.BlockLength-1) != 0 {
		return fmt.Errorf("%w: blocks of %d bytes", ErrAnswer, c.BlockLength)
	}
	if c.Blocks == 0 || c.Blocks > 1<<62/uint64(c.BlockLength) {
		return fmt.Errorf("%w: a size of %d blocks", ErrAnswer, c.Blocks)
	}
	return nil
}

// mostLUNs is how many of a target are taken notice of.
const mostLUNs = 1024

// ParseLUNs reads the answer to REPORT LUNS.
func ParseLUNs(b []byte) (luns []uint64, err error) {
	if len(b) < 8 {
		return nil, fmt.Errorf("%w: REPORT LUNS was answered with %d bytes", ErrAnswer, len(b))
	}
	list := b[8:min(uint64(len(b)), 8+uint64(binary.BigEndian.Uint32(b)))]
	for ; len(list) >= 8 && len(luns) < mostLUNs; list = list[8:] {
		luns = append(luns, binary.BigEndian.Uint64(list))
	}
	return luns, nil
}

// LUN is the address of a logical unit by its number, on one level: peripheral below 256,
// flat above (SAM-5, 4.7).
func LUN(number uint16) uint64 {
	if number < 256 {
		return uint64(number) << 48
	}
	return uint64(0x4000|number&0x3fff) << 48
}

// LUNNumber is the number of an address; ok is false for those that have none.
func LUNNumber(lun uint64) (number uint16, ok bool) {
	first := uint16(lun >> 48)
	switch first >> 14 {
	case 0:
		return first & 0xff, lun<<16 == 0 && first>>8 == 0
	case 1:
		return first & 0x3fff, lun<<16 == 0
	}
	return 0, false
}

// Reserved reports whether the answer to ReadReservation tells of one.
func Reserved(b []byte) bool { return len(b) >= 8 && binary.BigEndian.Uint32(b[4:]) >= 16 }

// Modes are what is read of the modes of a disk.
type Modes struct {
	WriteProtected bool
	WriteCache     bool // it says a write is done before it is on stable storage
	CacheKnown     bool
}

// ParseModes10 reads the answer to MODE SENSE (10) for the caching page.
func ParseModes10(b []byte) (m Modes, err error) {
	if len(b) < 8 {
		return m, fmt.Errorf("%w: MODE SENSE was answered with %d bytes", ErrAnswer, len(b))
	}
	return modes(b[3], b[min(len(b), 8+int(binary.BigEndian.Uint16(b[6:]))):]), nil
}

// ParseModes6 reads the answer to MODE SENSE (6).
func ParseModes6(b []byte) (m Modes, err error) {
	if len(b) < 4 {
		return m, fmt.Errorf("%w: MODE SENSE was answered with %d bytes", ErrAnswer, len(b))
	}
	return modes(b[2], b[min(len(b), 4+int(b[3])):]), nil
}

func modes(device byte, pages []byte) (m Modes) {
	m.WriteProtected = device&0x80 != 0
	for len(pages) >= 3 {
		if pages[0]&0x3f == ModeCaching {
			m.WriteCache, m.CacheKnown = pages[2]&4 != 0, true
		}
		pages = pages[min(len(pages), 2+int(pages[1])):]
	}
	return m
}
