package iscsi

import (
	"encoding/binary"
	"errors"
	"fmt"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/scsi"
)

// command is one that is under way.
type command struct {
	of     *connection
	unit   *Unit
	block  scsi.CDB
	lun    uint64
	tag    uint32
	writes bool

	expected int    // bytes, as the initiator says
	wanted   int    // as the command says
	data     []byte // to be sent, or to be received into
	arrived  int
	asked    int // bytes of it that were asked for, or came unasked
	requests uint32
	err      error
	aborted  bool
	failed   bool
	busy     bool
	op       Operation
	copying  *copying // of an EXTENDED COPY
}

// begin takes a command whose header arrived.
func (c *connection) begin(h *iscsi.Header, length int) ([]byte, error) {
	if err := c.count(h); err != nil {
		return nil, err
	}
	if len(c.free) == 0 || c.byTag[h.Tag()] != nil {
		return nil, fmt.Errorf("%w: more commands than may come, or two of one tag", iscsi.ErrProtocol)
	}
	d := c.free[len(c.free)-1]
	c.free = c.free[:len(c.free)-1]
	done := d.op.Done
	*d = command{of: c, lun: h.LUN(), tag: h.Tag(), writes: h.Flags()&iscsi.WritesFlag != 0, expected: int(h.ExpectedLength())}
	d.op.Done = done
	copy(d.block[:], h.Block())
	c.byTag[d.tag] = d
	c.current = d
	d.prepare()
	switch {
	case length == 0:
		return nil, nil
	case !d.writes || length > d.expected:
		return nil, fmt.Errorf("%w: %d bytes come with a command that writes %d", iscsi.ErrProtocol, length, d.expected)
	case d.err != nil, len(d.data) == 0: // it takes none
		return c.nowhere(length), nil
	}
	return d.data[:length], nil
}

// prepare finds what a command is about, and where its data are.
func (d *command) prepare() {
	number, known := scsi.LUNNumber(d.lun)
	d.unit = d.of.server.options.Units[number]
	op := d.block[0]
	if !known || d.unit == nil {
		if d.unit = nil; op != scsi.OpInquiry && op != scsi.OpReportLUNs && op != scsi.OpRequestSense {
			d.err = sense(scsi.IllegalRequest, scsi.CodeNoLUN)
		}
		return
	}
	u := d.unit
	if d.err = u.allowed(d.of.initiator, op); d.err != nil {
		return
	}
	place := scsi.PlaceOf(&d.block)
	switch op {
	case scsi.OpRead10, scsi.OpRead16, scsi.OpWrite10, scsi.OpWrite16:
		if d.err = u.inside(place); d.err != nil {
			return
		}
		if d.wanted = int(place.Blocks) * int(u.block); d.wanted > mostBlocks {
			d.err, d.wanted = sense(scsi.IllegalRequest, scsi.CodeInvalidField), 0
			return
		}
		d.op.Kind, d.op.Offset, d.op.Length = Read, int64(place.At)*u.block, d.wanted
		if op == scsi.OpWrite10 || op == scsi.OpWrite16 {
			d.op.Kind = Write
		}
		if (d.op.Kind == Write) != d.writes && d.wanted > 0 || d.writes && d.expected != d.wanted {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			return
		}
		d.data = u.contents[d.op.Offset:][:min(d.wanted, d.expected):d.wanted]
	case scsi.OpUnmap, scsi.OpPersistentReserve, scsi.OpExtendedCopy, scsi.OpWriteSame10, scsi.OpWriteSame16, scsi.OpCompareAndWrite:
		d.wanted = d.expected
		switch op {
		case scsi.OpWriteSame10, scsi.OpWriteSame16:
			d.wanted = int(u.block)
		case scsi.OpCompareAndWrite:
			d.wanted = 2 * int(place.Blocks) * int(u.block)
		}
		if op != scsi.OpUnmap && op != scsi.OpPersistentReserve && op != scsi.OpExtendedCopy {
			if d.err = u.inside(place); d.err != nil {
				return
			}
		}
		if d.wanted > mostParameters || op == scsi.OpCompareAndWrite && place.Blocks > mostCompare || d.expected != d.wanted {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			return
		}
		d.data = make([]byte, d.wanted)
	}
}

// takeCommand goes on with a command whose own PDU is there whole.
func (c *connection) takeCommand(h *iscsi.Header, length int) error {
	d := c.current
	d.arrived, d.asked = length, length
	if d.err != nil || !d.writes {
		return c.carryOut(d)
	}
	if !h.Final() && c.parameters.InitialR2T {
		return fmt.Errorf("%w: data are to come unasked, and that was not agreed on", iscsi.ErrProtocol)
	}
	return c.goOn(d, h.Final())
}

// goOn asks for more of what a command writes, or carries it out.
func (c *connection) goOn(d *command, final bool) error {
	if d.arrived >= len(d.data) {
		return c.carryOut(d)
	}
	if !final {
		return nil
	}
	d.asked = max(d.asked, d.arrived)
	for outstanding := (d.asked - d.arrived + c.parameters.MaxBurst - 1) / c.parameters.MaxBurst; outstanding < c.parameters.OutstandingR2T && d.asked < len(d.data); outstanding++ {
		length := min(len(d.data)-d.asked, c.parameters.MaxBurst)
		h := iscsi.NewHeader(iscsi.ReadyToTake)
		h.SetLUN(d.lun)
		h.SetTag(d.tag)
		h.SetTargetTag(d.requests)
		h.SetStatusNumber(c.status)
		c.window(&h)
		h.SetDataNumber(d.requests)
		h.SetOffset(uint32(d.asked))
		h.SetDesiredLength(uint32(length))
		c.Put(&h, nil)
		d.requests++
		d.asked += length
	}
	return nil
}

// placeData says where data of a write go. Those of a command that was refused go nowhere.
func (c *connection) placeData(h *iscsi.Header, length int) ([]byte, error) {
	d := c.byTag[h.Tag()]
	if c.current = d; d == nil || d.err != nil {
		return c.nowhere(length), nil
	}
	if !d.writes || int(h.Offset()) != d.arrived || d.arrived+length > len(d.data) {
		return nil, fmt.Errorf("%w: %d bytes at %d came, of a command that writes %d and has %d", iscsi.ErrProtocol, length, h.Offset(), d.expected, d.arrived)
	}
	return d.data[d.arrived:][:length], nil
}

func (c *connection) takeData(h *iscsi.Header, length int) error {
	d := c.current
	if d == nil || d.err != nil {
		return nil
	}
	if h.TargetTag() == iscsi.NoTag && d.arrived+length > c.parameters.FirstBurst {
		return fmt.Errorf("%w: %d bytes came unasked, and %d are the most that were agreed on", iscsi.ErrProtocol, d.arrived+length, c.parameters.FirstBurst)
	}
	d.arrived += length
	return c.goOn(d, h.Final())
}

// carryOut lets the disk do a command, or answers it.
func (c *connection) carryOut(d *command) error {
	if d.err != nil {
		c.finish(d, nil)
		return nil
	}
	u, place := d.unit, scsi.PlaceOf(&d.block)
	switch d.block[0] {
	case scsi.OpRead10, scsi.OpRead16, scsi.OpWrite10, scsi.OpWrite16:
	case scsi.OpSynchronizeCache10, scsi.OpSynchronizeCache16:
		d.op.Kind = Flush
	case scsi.OpWriteSame10, scsi.OpWriteSame16:
		if place.Blocks == 0 { // all to the end
			place.Blocks = uint32(min(u.size()/u.block-int64(place.At), 1<<31))
		}
		if int64(place.Blocks)*u.block > mostUnmap {
			d.err = sense(scsi.IllegalRequest, scsi.CodeInvalidField)
			c.finish(d, nil)
			return nil
		}
		unmaps := d.block[1]&(1<<3) != 0
		u.same(place, d.data, unmaps)
		d.op.Kind, d.op.Offset, d.op.Length = Write, int64(place.At)*u.block, int(place.Blocks)*int(u.block)
		if unmaps {
			d.op.Kind = Trim
		}
	case scsi.OpCompareAndWrite:
		if d.err = u.compareAndWrite(place, d.data); d.err != nil {
			c.finish(d, nil)
			return nil
		}
		d.op.Kind, d.op.Offset, d.op.Length = Write, int64(place.At)*u.block, len(d.data)/2
	case scsi.OpUnmap:
		if d.err = d.unmap(); d.err != nil || d.op.Length == 0 {
			c.finish(d, nil)
			return nil
		}
	case scsi.OpExtendedCopy:
		if d.err = d.extendedCopy(); d.err != nil {
			c.finish(d, nil)
			return nil
		}
		d.op.Kind, d.busy = Write, true
		d.copyOn(false)
		return nil
	default:
		c.finish(d, d.told())
		return nil
	}
	if d.op.Kind != Flush && d.op.Length == 0 {
		c.finish(d, nil)
		return nil
	}
	d.op.Host, d.busy = c.number, true
	u.begun[d.op.Kind].Add(1)
	u.moved[d.op.Kind].Add(int64(d.op.Length))
	u.disk.Begin(&d.op)
	return nil
}

// unmap gives the ranges of an UNMAP back. The disk is told of the whole of them, from the
// first to the last.
func (d *command) unmap() error {
	b := d.data
	if len(b) < 8 {
		return nil
	}
	descriptors := b[8:min(len(b), 8+int(binary.BigEndian.Uint16(b[2:])))]
	u := d.unit
	for ; len(descriptors) >= 16; descriptors = descriptors[16:] {
		p := scsi.Place{At: binary.BigEndian.Uint64(descriptors), Blocks: binary.BigEndian.Uint32(descriptors[8:])}
		if err := u.inside(p); err != nil {
			return err
		}
		if p.Blocks == 0 {
			continue
		}
		from, length := int64(p.At)*u.block, int64(p.Blocks)*u.block
		if length > mostUnmap {
			return sense(scsi.IllegalRequest, scsi.CodeInvalidParam)
		}
		u.contents.forget(from, length)
		d.op.Kind, d.op.Offset, d.op.Length = Trim, from, int(length)
	}
	return nil
}

// told is what a command that moves no contents is answered with.
func (d *command) told() (data []byte) {
	switch {
	case d.block[0] == scsi.OpReportLUNs:
		data = d.of.reportLUNs()
	case d.unit == nil && d.block[0] == scsi.OpInquiry:
		data = make([]byte, 36)
		data[0] = 0x7f // there is none of this number
	case d.unit != nil && d.block[0] == scsi.OpReceiveCopyResults:
		data, d.err = d.of.copyResults(&d.block)
	case d.unit == nil:
		data = scsi.Sense{Key: scsi.IllegalRequest, Code: scsi.CodeNoLUN}.FixedSense()
	default:
		data, d.err = d.unit.answer(&d.block, d.of.initiator, d.data)
	}
	return data[:min(len(data), d.room())]
}

// room is how much of an answer the command itself allows.
func (d *command) room() int {
	b := &d.block
	switch b[0] {
	case scsi.OpInquiry:
		return int(binary.BigEndian.Uint16(b[3:]))
	case scsi.OpModeSense6, scsi.OpRequestSense:
		return int(b[4])
	case scsi.OpModeSense10, scsi.OpPersistentReserveIn:
		return int(binary.BigEndian.Uint16(b[7:]))
	case scsi.OpReportLUNs:
		return int(binary.BigEndian.Uint32(b[6:]))
	case scsi.OpServiceActionIn16, scsi.OpReceiveCopyResults:
		return int(binary.BigEndian.Uint32(b[10:]))
	}
	return mostParameters
}

func (c *connection) reportLUNs() []byte {
	numbers := c.server.numbers()
	b := make([]byte, 8)
	binary.BigEndian.PutUint32(b, uint32(8*len(numbers)))
	for _, n := range numbers {
		b = binary.BigEndian.AppendUint64(b, scsi.LUN(n))
	}
	return b
}

// answer answers what the disk has done.
func (c *connection) answer() {
	c.mutex.Lock()
	c.taken, c.finished = c.finished, c.taken[:0]
	c.mutex.Unlock()
	for _, d := range c.taken {
		d.busy = false
		if d.copying != nil {
			c.hold(d)
		}
		if d.failed {
			code := uint16(scsi.CodeReadError)
			if d.op.Kind != Read {
				code = scsi.CodeWriteError
			}
			d.err = sense(scsi.MediumError, code)
		}
		var data []byte
		if d.op.Kind == Read {
			data = d.data
		}
		c.finish(d, data)
	}
}

// finish answers a command, with data that it reads.
func (c *connection) finish(d *command, data []byte) {
	c.free = append(c.free, d)
	if d.aborted { // its tag may be another's by now
		return
	}
	delete(c.byTag, d.tag)
	if d.err != nil || d.writes || len(data) == 0 {
		c.respond(d)
		return
	}
	data = data[:min(len(data), d.expected)]
	if c.DataDigest { // what is written meanwhile must not change what its digest is of
		data = append([]byte(nil), data...)
	}
	for from, number, burst := 0, uint32(0), 0; from < len(data); number++ {
		length := min(len(data)-from, c.parameters.SendSegment, c.parameters.MaxBurst-burst)
		h := iscsi.NewHeader(iscsi.DataIn)
		last := from+length == len(data)
		if burst += length; burst == c.parameters.MaxBurst || last {
			burst = 0
		} else {
			h.SetFinal(false)
		}
		h.SetTag(d.tag)
		h.SetTargetTag(iscsi.NoTag)
		h.SetDataNumber(number)
		h.SetOffset(uint32(from))
		if last {
			h.SetFlags(iscsi.StatusFlag)
			h.SetStatusNumber(c.status)
			c.status++
			d.residual(&h, len(data))
		}
		c.window(&h)
		c.Put(&h, data[from:from+length])
		from += length
	}
}

// residual says how much was not moved, or would have been too much.
func (d *command) residual(h *iscsi.Header, moved int) {
	wanted := max(d.wanted, moved)
	switch {
	case d.expected > wanted:
		h.SetFlags(iscsi.ShortFlag)
		h.SetResidual(uint32(d.expected - wanted))
	case d.expected < wanted:
		h.SetFlags(iscsi.OverflowFlag)
		h.SetResidual(uint32(wanted - d.expected))
	}
}

// respond answers a command without data.
func (c *connection) respond(d *command) {
	h := c.reply(iscsi.Response, d.tag)
	if d.err == nil {
		d.residual(&h, 0)
		c.Put(&h, nil)
		return
	}
	c.Put(&h, d.refused(&h))
}

// refused says in a header why a command was not carried out, and gives the sense data.
func (d *command) refused(h *iscsi.Header) (data []byte) {
	var failed *scsi.Error
	if !errors.As(d.err, &failed) {
		d.residual(h, 0)
		return nil
	}
	h.SetStatus(failed.Status)
	if failed.Status == scsi.CheckCondition {
		fixed := failed.Sense.FixedSense()
		data = append(binary.BigEndian.AppendUint16(nil, uint16(len(fixed))), fixed...)
	}
	if d.expected > 0 {
		h.SetFlags(iscsi.ShortFlag)
		h.SetResidual(uint32(d.expected))
	}
	return data
}
