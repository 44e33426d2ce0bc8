package iscsi

import (
	"bytes"

	"patientheron/protocol/scsi"
)

// mostCopied is how many bytes of a segment the target copies.
const mostCopied = 16 << 20

// copying is an EXTENDED COPY that is under way: the disks read and write segment by
// segment.
type copying struct {
	legs  []leg
	moved uint32
	list  scsi.CopyList
	op    Operation
	began bool // the write of the leg under way
}

// leg is a segment with the units that it is about.
type leg struct {
	from, to *Unit
	source   int64 // bytes from the start of either
	target   int64
	length   int
}

// mostHeld is of how many lists the status is held for whoever asks for it.
const mostHeld = 16

// extendedCopy begins an EXTENDED COPY.
func (d *command) extendedCopy() error {
	list, err := scsi.ParseCopy(d.data)
	if err != nil {
		return err
	}
	c := &copying{list: list}
	for _, s := range list.Segments {
		l := leg{from: d.named(list.Units[s.Source]), to: d.named(list.Units[s.Destination])}
		if l.from == nil || l.to == nil {
			return sense(scsi.CopyAborted, scsi.CodeUnitNotReached)
		}
		if l.from.block != l.to.block {
			return sense(scsi.IllegalRequest, scsi.CodeInvalidParam)
		}
		if err := l.from.allowed(d.of.initiator, scsi.OpRead16); err != nil {
			return err
		}
		if err := l.to.allowed(d.of.initiator, scsi.OpWrite16); err != nil {
			return err
		}
		if err := l.from.inside(scsi.Place{At: s.From, Blocks: uint32(s.Blocks)}); err != nil {
			return err
		}
		if err := l.to.inside(scsi.Place{At: s.To, Blocks: uint32(s.Blocks)}); err != nil {
			return err
		}
		l.source, l.target, l.length = int64(s.From)*l.from.block, int64(s.To)*l.to.block, int(s.Blocks)*int(l.from.block)
		if l.length > mostCopied {
			return sense(scsi.IllegalRequest, scsi.CodeInvalidParam)
		}
		if l.length > 0 {
			c.legs = append(c.legs, l)
		}
	}
	d.copying = c
	return nil
}

// named is the unit of a name; nil for none that is served.
func (d *command) named(name []byte) *Unit {
	for _, u := range d.of.server.options.Units {
		if bytes.Equal(name, u.name[:]) {
			return u
		}
	}
	return nil
}

// copyOn lets the disks do the next part of a copy, from whatever goroutine the part before
// ended on; after the last the command is done.
func (d *command) copyOn(failed bool) {
	c := d.copying
	if failed || len(c.legs) == 0 {
		d.done(failed)
		return
	}
	l := c.legs[0]
	disk := l.from
	c.op = Operation{Kind: Read, Host: d.of.number, Offset: l.source, Length: l.length}
	c.op.Done = func(failed bool) { c.began = !failed; d.copyOn(failed) }
	if c.began {
		copy(l.to.contents[l.target:][:l.length], l.from.contents[l.source:][:l.length])
		disk = l.to
		c.op.Kind, c.op.Offset = Write, l.target
		c.op.Done = func(failed bool) {
			if c.began = false; !failed {
				c.legs, c.moved = c.legs[1:], c.moved+uint32(l.length)
			}
			d.copyOn(failed)
		}
	}
	disk.begun[c.op.Kind].Add(1)
	disk.moved[c.op.Kind].Add(int64(l.length))
	disk.disk.Begin(&c.op)
}

// hold keeps what became of a list for who asks for it.
func (c *connection) hold(d *command) {
	list := d.copying.list
	if !list.Held {
		return
	}
	if c.copied == nil || len(c.copied) == mostHeld {
		c.copied = map[byte]scsi.Copied{}
	}
	c.copied[list.ID] = scsi.Copied{Failed: d.failed, Segments: uint16(len(list.Segments) - len(d.copying.legs)), Bytes: d.copying.moved}
}

// copyResults answers RECEIVE COPY RESULTS.
func (c *connection) copyResults(block *scsi.CDB) ([]byte, error) {
	limits, status, list := scsi.IsCopyLimits(block)
	held, is := c.copied[list]
	switch {
	case limits:
		return scsi.PutCopyLimits(scsi.Copies{Units: scsi.MostCopyUnits, Segments: scsi.MostCopySegments, Most: mostCopied}), nil
	case status && is:
		delete(c.copied, list)
		return scsi.PutCopied(held), nil
	}
	return nil, sense(scsi.IllegalRequest, scsi.CodeInvalidField)
}
