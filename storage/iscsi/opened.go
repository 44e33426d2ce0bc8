package iscsi

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"maps"
	"sync/atomic"

	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/wall"
	"patientheron/format/secretfile"
	"patientheron/protocol/iscsi"
	"patientheron/protocol/scsi"
	"patientheron/storage/volume"
)

// initiatorName is that of this program, for who has given none.
const initiatorName = "iqn.2026-01.invalid.patient-heron"

// usual are the values that are offered where the locator says nothing of a key: those
// that move most at a time.
var usual = iscsi.Wishes{
	iscsi.SegmentLength: "262144", iscsi.InitialR2T: "No", iscsi.ImmediateData: "Yes",
	iscsi.MaxBurst: "16776192", iscsi.FirstBurst: "262144", iscsi.OutstandingR2T: "8",
}

// numberOf are the numbers of sessions, from a random one on, so that those of this
// process and of others differ.
var numberOf atomic.Uint64

func init() {
	var random [8]byte
	_, _ = rand.Read(random[:]) // which never fails
	numberOf.Store(binary.BigEndian.Uint64(random[:]))
}

// identifier is a new ISID, of the random kind: two bits that say so, and 40 of the number
// (RFC 7143, 11.12.5).
func identifier() (id [6]byte) {
	var number [8]byte
	binary.BigEndian.PutUint64(number[:], numberOf.Add(1))
	id[0] = 0x80
	copy(id[1:], number[3:])
	return id
}

// opened is a logical unit opened for one measurement.
type opened struct {
	address Address
	secrets []secretfile.Secret
	unit    unit
	lun     uint64
	locator volume.Locator
	tenure  *volume.Tenure // of what is written; nil where nothing is
	name    []byte         // of the unit, as copies are told it
	swaps   bool           // ranges are compared before they are written
	patience
	tell func(volume.Event)
}

// options are those of a new session.
func (v *opened) options() options { return v.address.options(v.secrets) }

// options are those of a session with a target.
func (a Address) options(secrets []secretfile.Secret) options {
	o := options{name: a.Name, target: a.Target, session: identifier(), wishes: a.wishes()}
	if o.name == "" {
		o.name = initiatorName
	}
	for _, s := range secrets {
		if s.User == a.User && (s.Target == a.Target || s.Target == "") {
			o.secret, o.expected = iscsi.Proof{Name: s.User, Secret: s.Secret}, iscsi.Proof{Name: s.TargetUser, Secret: s.TargetSecret}
			break
		}
	}
	return o
}

// wishes are all values that are offered. What comes unasked is no more than what comes in
// all, unless the locator says both.
func (a Address) wishes() iscsi.Wishes {
	wishes := maps.Clone(usual)
	maps.Copy(wishes, a.Wishes)
	if a.Wishes[iscsi.FirstBurst] == "" && wishes.Check() != nil {
		wishes[iscsi.FirstBurst] = wishes[iscsi.MaxBurst]
	}
	return wishes
}

// login opens the session of a path, and makes sure that the same unit is there. Where one
// was lost before, what is written to has to be what it was, beside what the load wrote.
func (v *opened) login(ctx context.Context, p *path, depth int, again bool) (_ *session, err error) {
	defer wall.Guard(&err)
	let, done := context.WithTimeout(ctx, v.patience.login)
	defer done()
	s, err := login(let, p.portal, p.options, depth)
	if err != nil {
		return nil, err
	}
	u, err := ask(let, s, v.lun)
	switch {
	case err != nil:
		err = fmt.Errorf("%s: unit %d: %w", p.portal, v.address.LUN, err)
	case u.Name != v.unit.Name || u.Serial != v.unit.Serial || u.Blocks != v.unit.Blocks || u.BlockLength != v.unit.BlockLength:
		err = fmt.Errorf("%s: unit %d is another one than before: %s, and it was %s", p.portal, v.address.LUN, u.words(), v.unit.words())
		if v.tenure != nil {
			err = &volume.LapsedError{Path: v.locator.String(), Why: err.Error()}
		}
	case again && v.tenure != nil:
		err = v.same(ctx, s, u)
	}
	if err != nil {
		s.logout()
		return nil, err
	}
	return s, nil
}

// same reports a unit that stands in the place of the one that is written to.
func (v *opened) same(ctx context.Context, s *session, u unit) error {
	if u.Name == "" && u.Serial == "" {
		return &volume.LapsedError{Path: v.locator.String(), Why: "the session was lost, and the unit has neither a name nor a serial number to know it again by"}
	}
	ctx, done := context.WithTimeout(ctx, mostPatience*v.patience.login)
	defer done()
	found, err := (&seen{unit: u, session: s, address: v.address, lun: v.lun, ctx: ctx, patience: v.patience.login}).identify(v.locator)
	if err != nil {
		return err
	}
	return v.tenure.Still(found)
}

// words name a unit by what tells it from others.
func (u unit) words() string {
	name := u.Name
	if name == "" {
		name = u.Serial
	}
	return fmt.Sprintf("%s %s of %s", u.Vendor+" "+u.Product.Name, name, quantity.Bytes(u.Bytes()))
}

// Facts tells what the volume is.
func (v *opened) Facts() load.Facts {
	return load.Facts{Size: quantity.Bytes(v.unit.Bytes()), Alignment: quantity.Bytes(v.unit.BlockLength), ReadOnly: v.unit.WriteProtected || v.tenure == nil}
}

// Open makes a queue with sessions of its own.
func (v *opened) Open(o load.QueueOptions) (load.Queue, error) {
	if most := v.unit.MostBlocks; most > 0 && int64(o.LargestBlock) > int64(most)*int64(v.unit.BlockLength) {
		return nil, fmt.Errorf("blocks of %s, and the unit takes at most %s with one command; use smaller blocks", quantity.Bytes(o.LargestBlock), quantity.Bytes(int64(most)*int64(v.unit.BlockLength)))
	}
	return newQueue(v, o)
}

// Close has nothing to give back: the sessions belong to the queues.
func (v *opened) Close() error { return nil }

// lunOf is the address of the unit.
func (a Address) lunOf() uint64 { return scsi.LUN(a.LUN) }
