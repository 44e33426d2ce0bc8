package iscsi

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"patientheron/protocol/iscsi"
	"patientheron/protocol/scsi"
)

// unit is what a logical unit says of itself.
type unit struct {
	scsi.Product
	scsi.Capacity
	scsi.Limits
	scsi.Provisioning
	scsi.Modes
	Copying  scsi.Copies
	Serial   string
	Name     string // the same over all paths
	Rotation uint16
}

// ask asks a logical unit all that we want to know of it.
func ask(ctx context.Context, s *session, lun uint64) (u unit, err error) {
	buffer := make([]byte, 512)
	answer := func(block scsi.CDB) ([]byte, error) {
		for range 8 { // one unit attention for each thing that happened to it
			n, err := s.do(ctx, lun, block, buffer, false)
			var failed *scsi.Error
			if errors.As(err, &failed) && failed.Status == scsi.CheckCondition && failed.Sense.Key == scsi.UnitAttention {
				continue
			}
			return buffer[:n], err
		}
		return nil, fmt.Errorf("it says again and again that something happened to it")
	}
	b, err := answer(scsi.Inquiry(96))
	if err != nil {
		return u, fmt.Errorf("ask what it is: %w", err)
	}
	if u.Product, err = scsi.ParseInquiry(b); err != nil {
		return u, err
	}
	if !u.There || u.Type == scsi.TypeNothing {
		return u, errNoUnit
	}
	if u.Type != scsi.TypeDisk {
		return u, fmt.Errorf("%w (it is of device type 0x%02x)", errNotDisk, u.Type)
	}
	b, err = answer(scsi.ReadCapacity10())
	if err != nil {
		return u, fmt.Errorf("ask for its size: %w", err)
	}
	capacity, more, err := scsi.ParseCapacity10(b)
	if err != nil {
		return u, err
	}
	u.Capacity = capacity
	if b, err = answer(scsi.ReadCapacity16(32)); err == nil {
		if u.Capacity, err = scsi.ParseCapacity16(b); err != nil {
			return u, err
		}
	} else if more || !refusal(err) {
		return u, fmt.Errorf("ask for its size: %w", err)
	}
	if err := u.pages(answer); err != nil {
		return u, err
	}
	if b, err = answer(scsi.ModeSense10(scsi.ModeCaching, 252)); err == nil {
		u.Modes, err = scsi.ParseModes10(b)
	} else if refusal(err) {
		if b, err = answer(scsi.ModeSense6(scsi.ModeCaching, 252)); err == nil {
			u.Modes, err = scsi.ParseModes6(b)
		}
	}
	if err != nil && !refusal(err) {
		return u, fmt.Errorf("ask for its modes: %w", err)
	}
	if !u.Copies {
		return u, nil
	}
	if b, err = answer(scsi.CopyLimits(512)); err == nil {
		u.Copying, err = scsi.ParseCopyLimits(b)
	}
	if err != nil && !refusal(err) {
		return u, fmt.Errorf("ask for what it copies: %w", err)
	}
	return u, nil
}

var (
	// errNoUnit is given for a number that no logical unit has.
	errNoUnit  = errors.New("there is no such logical unit")
	errNotDisk = errors.New("it is not a disk")
)

// refusal reports whether a unit does not know or allow a command, which is an answer.
func refusal(err error) bool {
	var failed *scsi.Error
	return errors.As(err, &failed) && failed.Status == scsi.CheckCondition && failed.Sense.Key == scsi.IllegalRequest
}

// pages asks for the pages of vital product data that it has.
func (u *unit) pages(answer func(scsi.CDB) ([]byte, error)) error {
	b, err := answer(scsi.InquiryPage(scsi.PageSupported, 255))
	if refusal(err) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("ask for its pages: %w", err)
	}
	supported, err := scsi.ParseSupported(b)
	if err != nil {
		return err
	}
	supported = slices.Clone(supported)
	for _, of := range []struct {
		page byte
		read func([]byte) error
	}{
		{scsi.PageSerial, func(b []byte) (err error) { u.Serial, err = scsi.ParseSerial(b); return }},
		{scsi.PageIdentification, func(b []byte) (err error) { u.Name, err = scsi.ParseIdentification(b); return }},
		{scsi.PageLimits, func(b []byte) (err error) { u.Limits, err = scsi.ParseLimits(b); return }},
		{scsi.PageCharacter, func(b []byte) (err error) { u.Rotation, err = scsi.ParseRotation(b); return }},
		{scsi.PageProvisioning, func(b []byte) (err error) { u.Provisioning, err = scsi.ParseProvisioning(b); return }},
	} {
		if !slices.Contains(supported, of.page) {
			continue
		}
		b, err := answer(scsi.InquiryPage(of.page, 512))
		if err == nil {
			err = of.read(b)
		}
		if err != nil && !refusal(err) {
			return fmt.Errorf("ask for page 0x%02x: %w", of.page, err)
		}
	}
	return nil
}

// found is a target that a portal tells of.
type found struct {
	Target  string
	Portals []string
}

// discover asks a portal which targets there are.
func discover(ctx context.Context, portal string, o options) ([]found, error) {
	o.target = ""
	s, err := login(ctx, portal, o, 1)
	if err != nil {
		return nil, err
	}
	defer s.logout()
	s.say(iscsi.Text{{Key: "SendTargets", Value: "All"}}, iscsi.NoTag)
	for {
		if err := s.turn(); errors.Is(err, errLeft) {
			break
		} else if err != nil {
			return nil, fmt.Errorf("%s: ask for its targets: %w", portal, err)
		}
		if err := s.await(ctx); err != nil {
			return nil, fmt.Errorf("%s: ask for its targets: %w", portal, err)
		}
	}
	text, err := iscsi.ParseText(s.spoken)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", portal, err)
	}
	var all []found
	for _, p := range text {
		switch {
		case p.Key == "TargetName" && iscsi.ValidName(p.Value):
			all = append(all, found{Target: p.Value})
		case p.Key == "TargetAddress" && len(all) > 0:
			if at, _, err := parsePortal(p.Value); err == nil {
				last := &all[len(all)-1]
				last.Portals = append(last.Portals, at)
			}
		}
	}
	return all, nil
}

// units asks a target for its logical units.
func units(ctx context.Context, s *session) ([]uint64, error) {
	buffer := make([]byte, 8192)
	n, err := s.do(ctx, 0, scsi.ReportLUNs(uint32(len(buffer))), buffer, false)
	if err != nil {
		return nil, fmt.Errorf("ask for its logical units: %w", err)
	}
	return scsi.ParseLUNs(buffer[:n])
}
