package iscsi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/format/secretfile"
	"patientheron/protocol/scsi"
	"patientheron/storage/signature"
	"patientheron/storage/volume"
)

// seen is a logical unit with a session to it.
type seen struct {
	unit
	*session
	address Address
	lun     uint64
	secrets []secretfile.Secret

	ctx      context.Context
	end      context.CancelFunc
	patience time.Duration // for an answer

	kept [2][]byte // its first and its last MiB, once something of them was read
}

// visit logs in to the first portal of a unit that answers.
func (o Opener) visit(ctx context.Context, l volume.Locator) (*seen, error) {
	a, err := parseAddress(l.Name)
	if err != nil {
		return nil, err
	}
	if a.Target == "" {
		return nil, fmt.Errorf("%s: %w: it is a portal; 'heron look %s' lists its targets and their units, of which one can be measured", l, volume.ErrNotStorage, l)
	}
	v := &seen{address: a, lun: a.lunOf()}
	if v.secrets, err = o.secrets(a); err != nil {
		return nil, err
	}
	v.patience = cmp.Or(o.Patience, lookPatience)
	v.ctx, v.end = context.WithTimeout(ctx, mostPatience*v.patience)
	let, done := context.WithTimeout(v.ctx, v.patience)
	defer done()
	var failed []error
	for _, portal := range a.Portals {
		if v.session, err = login(let, portal, a.options(v.secrets), lookingAhead); err == nil {
			break
		}
		failed = append(failed, err)
	}
	if v.session == nil {
		v.end()
		return nil, fmt.Errorf("%w: %w", volume.ErrUnreachable, errors.Join(failed...))
	}
	if v.unit, err = ask(let, v.session, v.lun); err != nil {
		v.close()
		return nil, fmt.Errorf("%w: %s: unit %d: %w", volume.ErrUnreachable, v.portal, a.LUN, err)
	}
	return v, nil
}

func (v *seen) close() {
	v.session.logout()
	v.end()
}

// check reports what would stop a run, and gives the tenure of what it may write to.
func (v *seen) check(l volume.Locator, r volume.Request) (*volume.Tenure, error) {
	if size := quantity.Bytes(v.Bytes()); r.Size > size {
		return nil, &mistake.Error{Of: workload.ErrInvalid, Field: "span", Reason: fmt.Sprintf("offset and span reach to %s, and the LUN has %s; use a smaller span", r.Size, size)}
	}
	if !r.Writes {
		return nil, nil
	}
	if r.Consent == nil {
		return nil, volume.NoConsent(l)
	}
	if v.WriteProtected {
		return nil, fmt.Errorf("%s: %w: it is write-protected; measure with reads 100%%", l, volume.ErrNotPermitted)
	}
	found, err := v.unused(l)
	if err != nil {
		return nil, err
	}
	return r.Consent.Tenure(l, found)
}

// unused makes sure that nobody else uses the unit, and tells what it is.
func (v *seen) unused(l volume.Locator) (setup.Identity, error) {
	if user, err := v.user(); err != nil {
		return setup.Identity{}, err
	} else if user != "" {
		return setup.Identity{}, fmt.Errorf("%s: %w: %s; nothing was written. Name other storage", l, volume.ErrInUse, user)
	}
	return v.identify(l)
}

// user says who else uses the unit, as far as can be seen.
func (v *seen) user() (string, error) {
	buffer := make([]byte, 24)
	n, err := v.do(v.ctx, v.lun, scsi.ReadReservation(uint16(len(buffer))), buffer, false)
	var failed *scsi.Error
	switch {
	case errors.As(err, &failed) && failed.Status == scsi.ReservationConflict:
		return "another initiator has reserved it", nil
	case refusal(err):
		n = 0
	case err != nil:
		return "", fmt.Errorf("%w: ask for reservations: %w", volume.ErrUnreachable, err)
	}
	if scsi.Reserved(buffer[:n]) {
		return "an initiator has a persistent reservation of it", nil
	}
	if user := attached(v.Name); user != "" {
		return user, nil
	}
	return servedHere(v.portal, v.Bytes())
}

// identify tells what the unit is and what it holds.
func (v *seen) identify(l volume.Locator) (id setup.Identity, err error) {
	id = setup.Identity{Serial: v.serial(), WWN: v.Name, Size: quantity.Bytes(v.Bytes())}
	if v.Name == "" { // then only where it is tells it from another
		id.Behind = fmt.Sprintf("%s/%d", v.address.Target, v.address.LUN)
	}
	if id.Holds, err = signature.Recognised(v, v.Bytes()); err != nil {
		return id, fmt.Errorf("%w: look at what %s holds: %w", volume.ErrUnreachable, l, err)
	}
	if err = signature.Digest(v, &id); err != nil {
		return id, fmt.Errorf("%w: %s: %w", volume.ErrUnreachable, l, err)
	}
	return id, nil
}

// ends is how much at the start and at the end of a unit is read at once and kept: most of
// what is looked for is there.
const ends = 1 << 20

// ReadAt reads bytes at any place of the unit.
func (v *seen) ReadAt(into []byte, at int64) (n int, err error) {
	for i, from := range []int64{0, max(v.Bytes()-ends, 0)} {
		until := min(from+ends, v.Bytes())
		if at < from || at+int64(len(into)) > until {
			continue
		}
		if v.broken != nil {
			return 0, v.broken
		}
		if v.kept[i] == nil {
			whole := make([]byte, until-from)
			if err := v.readEnd(whole, from); err != nil {
				return 0, err
			}
			v.kept[i] = whole
		}
		return copy(into, v.kept[i][at-from:]), nil
	}
	return v.read(into, at)
}

// readEnd reads the start or the end of a unit, all pieces of it on the way together: over a
// link with a delay one after the other takes long.
func (v *seen) readEnd(whole []byte, from int64) error {
	var pieces [][]byte
	var at []int64
	for done := 0; done < len(whole); done += mostRead {
		pieces = append(pieces, whole[done:min(done+mostRead, len(whole))])
		at = append(at, from+int64(done))
	}
	return v.ReadAll(pieces, at)
}

// lookingAhead is how many reads of a look are under way at a time.
const lookingAhead = 64

// ReadAll reads pieces at several places, many of them at a time.
func (v *seen) ReadAll(pieces [][]byte, at []int64) error {
	if v.broken != nil {
		return v.broken
	}
	block := int64(v.BlockLength)
	commands := make([]scsi.CDB, len(pieces))
	for i, piece := range pieces {
		if at[i]%block != 0 || int64(len(piece))%block != 0 { // not in whole blocks
			for i, piece := range pieces {
				if _, err := v.read(piece, at[i]); err != nil {
					return err
				}
			}
			return nil
		}
		commands[i] = scsi.Read(uint64(at[i]/block), uint32(int64(len(piece))/block))
	}
	if failed, err := v.doAll(v.ctx, v.patience, v.lun, commands, pieces); err != nil {
		return fmt.Errorf("read %d bytes at %d: %w", len(pieces[failed]), at[failed], err)
	}
	return nil
}

// mostRead is how much one command of a look reads.
const mostRead = 128 << 10

// read reads bytes at any place, one command after the other.
func (v *seen) read(into []byte, at int64) (n int, err error) {
	if at >= v.Bytes() {
		return 0, io.EOF
	}
	block := int64(v.BlockLength)
	for n < len(into) && at+int64(n) < v.Bytes() {
		from := (at + int64(n)) / block * block
		skip := int(at + int64(n) - from)
		length := min((int64(skip+len(into)-n)+block-1)/block*block, mostRead/block*block, v.Bytes()-from)
		buffer := make([]byte, length)
		answer, done := context.WithTimeout(v.ctx, v.patience)
		moved, err := v.do(answer, v.lun, scsi.Read(uint64(from/block), uint32(length/block)), buffer, false)
		done()
		if err != nil {
			return n, fmt.Errorf("read %d bytes at %d: %w", length, from, err)
		}
		if moved <= skip {
			return n, io.ErrUnexpectedEOF
		}
		n += copy(into[n:], buffer[skip:moved])
	}
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}
