package iscsi

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"sync"
	"sync/atomic"

	"patientheron/protocol/scsi"
)

// Unit is a logical unit: a disk with its contents, and who has reserved it.
type Unit struct {
	disk     Disk
	contents contents
	block    int64
	name     [8]byte // NAA identifier, the same over all paths
	serial   string
	product  string
	solid    bool // its media do not turn

	begun, moved [kinds]atomic.Int64 // operations and their bytes that the disk was given

	mutex      sync.Mutex
	holder     string            // of a reservation by RESERVE; "" for none
	registered map[string]uint64 // keys of persistent reservations, by initiator
	generation uint32
	persistent string // initiator that holds one
	kind       byte   // of it
}

// NewUnit makes one of a disk. The same seed gives the same name and serial number.
func NewUnit(disk Disk, block int64, seed, product string, solid bool) (*Unit, error) {
	if block < 512 || block > 4096 || block&(block-1) != 0 {
		return nil, fmt.Errorf("blocks of %d bytes: 512, 1024, 2048 or 4096", block)
	}
	size := disk.Size() / block * block
	if size < block {
		return nil, fmt.Errorf("a disk of %d bytes has no block of %d", disk.Size(), block)
	}
	held, err := newContents(size)
	if err != nil {
		return nil, err
	}
	u := &Unit{disk: disk, contents: held, block: block, product: product, solid: solid, registered: map[string]uint64{}}
	sum := sha256.Sum256([]byte(seed))
	copy(u.name[:], sum[:8])
	u.name[0] = 0x30 | u.name[0]&0xf // NAA 3: assigned locally
	u.serial = fmt.Sprintf("%x", sum[8:14])
	return u, nil
}

// Close ends the disk and gives its contents back.
func (u *Unit) Close() {
	u.disk.Close()
	u.contents.close()
}

func (u *Unit) size() int64 { return int64(len(u.contents)) }

// inside reports a place that is not on the unit.
func (u *Unit) inside(p scsi.Place) error {
	if blocks := uint64(u.size() / u.block); p.At > blocks || uint64(p.Blocks) > blocks-p.At {
		return sense(scsi.IllegalRequest, scsi.CodeOutOfRange)
	}
	return nil
}

func sense(key byte, code uint16) error {
	return &scsi.Error{Status: scsi.CheckCondition, Sense: scsi.Sense{Key: key, Code: code}}
}

// errConflict is given to who is kept out by a reservation.
var errConflict = &scsi.Error{Status: scsi.ReservationConflict}

// allowed reports a command that a reservation of somebody else does not allow.
func (u *Unit) allowed(initiator string, op byte) error {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	switch op {
	case scsi.OpInquiry, scsi.OpReportLUNs, scsi.OpRequestSense, scsi.OpRelease6, scsi.OpRelease10, scsi.OpPersistentReserveIn, scsi.OpPersistentReserve:
		return nil
	}
	if u.holder != "" && u.holder != initiator {
		return errConflict
	}
	if u.persistent == "" || u.persistent == initiator {
		return nil
	}
	_, known := u.registered[initiator]
	switch op {
	case scsi.OpReadCapacity10, scsi.OpServiceActionIn16, scsi.OpTestUnitReady, scsi.OpModeSense6, scsi.OpModeSense10:
		return nil
	case scsi.OpRead10, scsi.OpRead16:
		if u.kind == writeExclusive || u.kind == writeExclusiveRegistrants || u.kind == writeExclusiveAll {
			return nil
		}
	}
	if known && u.kind != writeExclusive && u.kind != exclusive {
		return nil
	}
	return errConflict
}

// answer gives what a command that moves no contents is answered with.
func (u *Unit) answer(c *scsi.CDB, initiator string, data []byte) ([]byte, error) {
	switch c[0] {
	case scsi.OpTestUnitReady, scsi.OpStartStop:
		return nil, nil
	case scsi.OpRequestSense:
		return scsi.Sense{}.FixedSense(), nil
	case scsi.OpInquiry:
		return u.inquiry(c)
	case scsi.OpReadCapacity10:
		b := binary.BigEndian.AppendUint32(nil, uint32(min(u.size()/u.block-1, 1<<32-1)))
		return binary.BigEndian.AppendUint32(b, uint32(u.block)), nil
	case scsi.OpServiceActionIn16:
		if c[1]&0x1f != scsi.ActionReadCapacity16 {
			return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
		}
		b := make([]byte, 32)
		binary.BigEndian.PutUint64(b, uint64(u.size()/u.block-1))
		binary.BigEndian.PutUint32(b[8:], uint32(u.block))
		b[14] = 0xc0 // thin, and what was given back reads as zeros
		for physical := u.block; physical < 4096; physical *= 2 {
			b[13]++
		}
		return b, nil
	case scsi.OpModeSense6:
		return u.modes(c[2]&0x3f, 4)
	case scsi.OpModeSense10:
		return u.modes(c[2]&0x3f, 8)
	case scsi.OpReserve6, scsi.OpReserve10:
		return nil, u.reserve(initiator)
	case scsi.OpRelease6, scsi.OpRelease10:
		return nil, u.release(initiator)
	case scsi.OpPersistentReserveIn:
		return u.reservations(c[1] & 0x1f)
	case scsi.OpPersistentReserve:
		return nil, u.changeReservation(initiator, c[1]&0x1f, c[2]&0xf, data)
	}
	return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidOpcode)
}

// Limits that the unit tells of.
const (
	mostBlocks  = 32 << 20 // bytes of one transfer
	mostUnmap   = 1 << 30  // bytes of one range
	mostRanges  = 64
	mostCompare = 128 // blocks
)

func (u *Unit) inquiry(c *scsi.CDB) ([]byte, error) {
	if c[1]&1 == 0 {
		if c[2] != 0 {
			return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
		}
		b := make([]byte, 96)
		b[2], b[3], b[4], b[5], b[7] = 6, 2, 91, 1<<3, 2 // SPC-4; takes EXTENDED COPY, and several commands at a time
		copy(b[8:], fmt.Sprintf("%-8s%-16.16s%-4s", "HERON", u.product, "1"))
		binary.BigEndian.PutUint16(b[58:], 0x0460) // SPC-4
		binary.BigEndian.PutUint16(b[60:], 0x04c0) // SBC-3
		binary.BigEndian.PutUint16(b[62:], 0x0960) // iSCSI
		return b, nil
	}
	page := func(content []byte) ([]byte, error) {
		b := binary.BigEndian.AppendUint16([]byte{0, c[2]}, uint16(len(content)))
		return append(b, content...), nil
	}
	switch c[2] {
	case scsi.PageSupported:
		return page([]byte{scsi.PageSupported, scsi.PageSerial, scsi.PageIdentification, scsi.PageLimits, scsi.PageCharacter, scsi.PageProvisioning})
	case scsi.PageSerial:
		return page([]byte(u.serial))
	case scsi.PageIdentification:
		return page(append([]byte{1, 3, 0, 8}, u.name[:]...))
	case scsi.PageLimits:
		b := make([]byte, 60)
		b[1] = mostCompare
		binary.BigEndian.PutUint16(b[2:], uint16(4096/u.block))
		binary.BigEndian.PutUint32(b[4:], uint32(mostBlocks/u.block))
		binary.BigEndian.PutUint32(b[16:], uint32(mostUnmap/u.block))
		binary.BigEndian.PutUint32(b[20:], mostRanges)
		binary.BigEndian.PutUint32(b[24:], uint32(4096/u.block))
		binary.BigEndian.PutUint64(b[32:], uint64(mostUnmap/u.block)) // of WRITE SAME
		return page(b)
	case scsi.PageCharacter:
		b := make([]byte, 60)
		if b[1] = 0; u.solid {
			b[1] = 1
		}
		return page(b)
	case scsi.PageProvisioning:
		return page([]byte{0, 0x80 | 0x40 | 0x20 | 4, 2, 0}) // takes UNMAP and WRITE SAME, thin
	}
	return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
}

// modes are the pages of modes behind a header of a length.
func (u *Unit) modes(page byte, header int) ([]byte, error) {
	b := make([]byte, header)
	if page == scsi.ModeCaching || page == scsi.ModeAll {
		b = append(b, scsi.ModeCaching, 18, 1<<2) // it has a write cache
		b = append(b, make([]byte, 17)...)
	}
	if page == scsi.ModeControl || page == scsi.ModeAll {
		b = append(b, scsi.ModeControl, 10, 0, 0x10)
		b = append(b, make([]byte, 8)...)
	}
	if len(b) == header {
		return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
	}
	if header == 4 {
		b[0], b[2] = byte(len(b)-1), 0x10
	} else {
		binary.BigEndian.PutUint16(b, uint16(len(b)-2))
		b[3] = 0x10
	}
	return b, nil
}

func (u *Unit) reserve(initiator string) error {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	if u.holder != "" && u.holder != initiator || u.persistent != "" {
		return errConflict
	}
	u.holder = initiator
	return nil
}

func (u *Unit) release(initiator string) error {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	if u.holder == initiator {
		u.holder = ""
	}
	return nil
}

// left ends what ends with an initiator's session.
func (u *Unit) left(initiator string) { _ = u.release(initiator) }

// Kinds of persistent reservations.
const (
	writeExclusive            = 1
	exclusive                 = 3
	writeExclusiveRegistrants = 5
	exclusiveRegistrants      = 6
	writeExclusiveAll         = 7
	exclusiveAll              = 8
)

func (u *Unit) reservations(action byte) ([]byte, error) {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	b := make([]byte, 8)
	binary.BigEndian.PutUint32(b, u.generation)
	switch action {
	case 0: // keys
		for _, key := range u.registered {
			b = binary.BigEndian.AppendUint64(b, key)
		}
	case 1: // the reservation
		if u.persistent != "" {
			b = binary.BigEndian.AppendUint64(b, u.registered[u.persistent])
			b = append(b, 0, 0, 0, 0, 0, u.kind, 0, 0)
		}
	case 2: // what it can
		return []byte{0, 8, 0, 0x80, 0xea, 1, 0, 0}, nil
	default:
		return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
	}
	binary.BigEndian.PutUint32(b[4:], uint32(len(b)-8))
	return b, nil
}

// changeReservation is PERSISTENT RESERVE OUT.
func (u *Unit) changeReservation(initiator string, action, kind byte, data []byte) error {
	if len(data) < 24 {
		return sense(scsi.IllegalRequest, scsi.CodeParamLength)
	}
	key, newKey := binary.BigEndian.Uint64(data), binary.BigEndian.Uint64(data[8:])
	u.mutex.Lock()
	defer u.mutex.Unlock()
	own, is := u.registered[initiator]
	if action != 0 && action != 6 && (!is || own != key) {
		return errConflict
	}
	switch action {
	case 0, 6: // register, and whatever the key was
		if action == 0 && is != (key != 0) || action == 0 && is && own != key {
			return errConflict
		}
		u.generation++
		if newKey != 0 {
			u.registered[initiator] = newKey
			return nil
		}
		delete(u.registered, initiator)
		if u.persistent == initiator {
			u.persistent = ""
		}
	case 1: // reserve
		if u.persistent != "" && (u.persistent != initiator || u.kind != kind) || u.holder != "" {
			return errConflict
		}
		switch kind {
		case writeExclusive, exclusive, writeExclusiveRegistrants, exclusiveRegistrants, writeExclusiveAll, exclusiveAll:
		default:
			return sense(scsi.IllegalRequest, scsi.CodeInvalidField)
		}
		u.persistent, u.kind = initiator, kind
	case 2: // release
		if u.persistent == initiator {
			u.persistent = ""
		}
	case 3: // clear
		u.registered, u.persistent = map[string]uint64{}, ""
		u.generation++
	case 4, 5: // preempt
		for who, k := range u.registered {
			if k == newKey && who != initiator {
				delete(u.registered, who)
				if u.persistent == who {
					u.persistent, u.kind = initiator, kind
				}
			}
		}
		u.generation++
	default:
		return sense(scsi.IllegalRequest, scsi.CodeInvalidField)
	}
	return nil
}

// same writes one block to many places, or gives them back where it is of zeros and may
// be.
func (u *Unit) same(p scsi.Place, block []byte, unmaps bool) {
	from, length := int64(p.At)*u.block, int64(p.Blocks)*u.block
	if unmaps && len(bytes.Trim(block, "\x00")) == 0 {
		u.contents.forget(from, length)
		return
	}
	for at := from; at < from+length; at += u.block {
		copy(u.contents[at:], block)
	}
}

// compareAndWrite writes the second half of data where the first half is.
func (u *Unit) compareAndWrite(p scsi.Place, data []byte) error {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	half := len(data) / 2
	there := u.contents[int64(p.At)*u.block:][:half]
	if !bytes.Equal(there, data[:half]) {
		return sense(scsi.Miscompare, scsi.CodeMiscompare)
	}
	copy(there, data[half:])
	return nil
}
