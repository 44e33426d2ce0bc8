// Package iscsi drives logical units over iSCSI, as an initiator of its own (RFC 7143):
// what host and target agreed on is seen, and can be changed and measured again.
//
// Each worker has sessions of its own, over TCP connections that its thread drives without
// a goroutine for each operation. A session that is lost is logged in anew, and what was
// under way on it is sent again, over another path where there is one. Address says how a
// unit is reached; Opener opens it.
package iscsi

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"time"

	"patientheron/core/load"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/wall"
	"patientheron/core/workload"
	"patientheron/format/secretfile"
	"patientheron/protocol/scsi"
	"patientheron/storage/volume"
)

// Kinds of what a locator leads to.
const (
	unitKind   = "LUN"
	portalKind = "portal"
)

// Opener opens logical units, and looks at portals.
type Opener struct {
	// Secrets is the file of what users log in with; it need not be there.
	Secrets string
	// Patience is how long a look at a target may take to be let in and to be told what is
	// there, and each read of it afterwards; mostPatience times that in all. Usual at zero.
	Patience time.Duration
}

// lookPatience is how long a look at a target may take usually.
const lookPatience = 10 * time.Second

// mostPatience is how many times its patience a look may take that reads: what the content is
// known by lies in hundreds of places, and a busy array answers each of them late.
const mostPatience = 12

// Parse reads an address; see Address.
func (Opener) Parse(name string) (volume.Locator, error) {
	a, err := parseAddress(name)
	if err != nil {
		return volume.Locator{}, err
	}
	kind := unitKind
	if a.Target == "" {
		kind = portalKind
	}
	return volume.Locator{Scheme: "iscsi", Kind: kind, Name: a.String()}, nil
}

// Traits of logical units, where what is written takes consent, and of portals.
func (Opener) Traits(kind string) volume.Traits {
	switch kind {
	case unitKind:
		return volume.Traits{Overwritten: true, Disk: true}
	case portalKind:
		return volume.Traits{Leads: true}
	}
	return volume.Traits{}
}

// secrets gives what a user logs in with, and reports one that is missing.
func (o Opener) secrets(a Address) (all []secretfile.Secret, err error) {
	if a.User == "" {
		return nil, nil
	}
	if all, err = secretfile.Read(o.Secrets); err != nil {
		return nil, err
	}
	if a.options(all).secret.Secret == "" {
		return nil, fmt.Errorf("there is no secret of user %s for %s in %s; write it there (docs/iscsi.md)", a.User, cmp.Or(a.Target, a.Portals[0]), o.Secrets)
	}
	return all, nil
}

// Look tells the size of a unit, and what it takes.
func (o Opener) Look(ctx context.Context, l volume.Locator) (setup.Facts, error) {
	v, err := o.visit(ctx, l)
	if err != nil {
		return setup.Facts{}, err
	}
	defer v.close()
	return setup.Facts{Size: quantity.Bytes(v.Bytes()), Alignment: quantity.Bytes(v.BlockLength), Serial: v.serial(), Writable: !v.WriteProtected}, nil
}

// NameOf is what the name of its target ends with, and its number.
func (o Opener) NameOf(_ context.Context, l volume.Locator) string {
	a, err := parseAddress(l.Name)
	if err != nil || a.Target == "" {
		return ""
	}
	return fmt.Sprintf("%s-%d", a.Target[strings.LastIndexByte(a.Target, ':')+1:], a.LUN)
}

// serial tells the unit from others; where it has no serial number, its name does.
func (u unit) serial() string {
	if u.Serial == "" {
		return u.Name
	}
	return u.Serial
}

// Describe says what was agreed on with the target, and what the unit says of itself; of a
// portal, which targets and units there are.
func (o Opener) Describe(ctx context.Context, l volume.Locator) (s setup.Setup, layer setup.Layer, err error) {
	if l.Kind == portalKind {
		layer, err = o.portal(ctx, l)
		return s, layer, err
	}
	v, err := o.visit(ctx, l)
	if err != nil {
		return s, layer, err
	}
	defer v.close()
	now := time.Now()
	host, _, _ := strings.Cut(v.portal, ",")
	s.Know("transport.protocol", "iscsi", setup.Read, now)
	s.Know("transport.address", hostOf(host), setup.Read, now)
	s.Know("transport.connections", len(v.address.Portals)*v.address.Sessions, setup.Read, now)
	for _, f := range v.facts {
		s.Know("session."+f.Key, f.InEffect, setup.Read, now)
	}
	layer = setup.Layer{Kind: unitKind, Name: fmt.Sprintf("%s/%d", v.address.Target, v.address.LUN), Words: v.describe(), Below: []setup.Layer{}}
	for _, portal := range v.address.Portals {
		layer.Below = append(layer.Below, setup.Layer{Kind: portalKind, Name: portal, Words: "iSCSI over TCP", Below: []setup.Layer{}})
	}
	return s, layer, nil
}

// describe says what a unit is, in a few words.
func (u unit) describe() string {
	words := []string{strings.TrimSpace(u.Vendor + " " + u.Product.Name + " " + u.Revision)}
	if u.Name != "" {
		words = append(words, u.Name)
	}
	words = append(words, quantity.Bytes(u.Bytes()).String(), fmt.Sprintf("blocks of %s", quantity.Bytes(u.BlockLength)))
	if u.CacheKnown {
		words = append(words, map[bool]string{true: "it has a write cache", false: "its write cache is off"}[u.WriteCache])
	}
	if u.WriteProtected {
		words = append(words, "write-protected")
	}
	if u.Thin || u.Provisioned {
		words = append(words, "thin")
	}
	if u.Unmaps {
		words = append(words, "takes UNMAP")
	}
	if u.Copying.Known {
		words = append(words, "offloaded copies")
	}
	return strings.Join(words, ", ")
}

// portal asks one for its targets, and each of them for its units.
func (o Opener) portal(ctx context.Context, l volume.Locator) (setup.Layer, error) {
	a, err := parseAddress(l.Name)
	if err != nil {
		return setup.Layer{}, err
	}
	secrets, err := o.secrets(a)
	if err != nil {
		return setup.Layer{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(o.Patience, lookPatience))
	defer cancel()
	targets, err := discover(ctx, a.Portals[0], a.options(secrets))
	if err != nil {
		return setup.Layer{}, fmt.Errorf("%w: %w", volume.ErrUnreachable, err)
	}
	top := setup.Layer{Kind: portalKind, Name: a.Portals[0], Words: counted(len(targets), "target"), Below: make([]setup.Layer, len(targets))}
	var together sync.WaitGroup
	for i, t := range targets {
		together.Go(func() {
			if err := wall.Do(func() error { top.Below[i] = a.target(ctx, t, secrets); return nil }); err != nil {
				top.Below[i] = setup.Layer{Kind: "target", Name: t.Target, Trouble: err.Error(), Below: []setup.Layer{}}
			}
		})
	}
	together.Wait()
	return top, nil
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// target asks a target for its units, over the portal that told of it.
func (a Address) target(ctx context.Context, t found, secrets []secretfile.Secret) setup.Layer {
	layer := setup.Layer{Kind: "target", Name: t.Target, Words: strings.Join(t.Portals, ", "), Below: []setup.Layer{}}
	a.Target = t.Target
	s, err := login(ctx, a.Portals[0], a.options(secrets), 1)
	if err != nil {
		layer.Trouble = err.Error()
		return layer
	}
	defer s.logout()
	luns, err := units(ctx, s)
	if err != nil {
		layer.Trouble = err.Error()
		return layer
	}
	for _, lun := range luns {
		number, known := scsi.LUNNumber(lun)
		a.LUN = number
		below := setup.Layer{Kind: unitKind, Name: "iscsi:" + a.String(), Below: []setup.Layer{}}
		u, err := ask(ctx, s, lun)
		switch {
		case !known:
			below.Name, below.Trouble = fmt.Sprintf("%016x", lun), "its address is of more than one level, which is not spoken"
		case errors.Is(err, errNotDisk), errors.Is(err, errNoUnit): // a controller, such as every target has at number 0
			continue
		case err != nil:
			below.Trouble = err.Error()
		default:
			below.Words = u.describe()
		}
		layer.Below = append(layer.Below, below)
	}
	return layer
}

// Check reports what would stop a run, without writing anything.
func (o Opener) Check(ctx context.Context, l volume.Locator, r volume.Request) error {
	if len(r.Files) > 0 {
		return volume.NoFiles(l)
	}
	v, err := o.visit(ctx, l)
	if err != nil {
		return err
	}
	defer v.close()
	_, err = v.check(l, r)
	return err
}

// Agree takes consent to overwrite a unit.
func (o Opener) Agree(ctx context.Context, l volume.Locator, claim volume.Claim) (setup.Identity, error) {
	v, err := o.visit(ctx, l)
	if err != nil {
		return setup.Identity{}, err
	}
	defer v.close()
	found, err := v.unused(l)
	if err != nil {
		return found, err
	}
	return found, claim.Agreed(l, found)
}

// Holds tells what is recognised on a unit, and who uses it.
func (o Opener) Holds(ctx context.Context, l volume.Locator) (holds, user string, err error) {
	v, err := o.visit(ctx, l)
	if err != nil {
		return "", "", err
	}
	defer v.close()
	if user, err = v.user(); err != nil {
		return "", "", err
	}
	found, err := v.identify(l)
	return found.HoldsInWords(), user, err
}

// Readable reads the first block.
func (o Opener) Readable(ctx context.Context, l volume.Locator) error {
	v, err := o.visit(ctx, l)
	if err != nil {
		return err
	}
	defer v.close()
	_, err = v.ReadAt(make([]byte, v.BlockLength), 0)
	return err
}

// Prepare makes a unit ready for a run.
func (o Opener) Prepare(ctx context.Context, l volume.Locator, r volume.Request) (volume.Volume, error) {
	if len(r.Files) > 0 {
		return nil, volume.NoFiles(l)
	}
	v, err := o.visit(ctx, l)
	if err != nil {
		return nil, err
	}
	defer v.close()
	tenure, err := v.check(l, r)
	if err != nil {
		return nil, err
	}
	return &prepared{opener: o, locator: l, address: v.address, secrets: v.secrets, unit: v.unit, tenure: tenure, events: make(chan volume.Event, mostEvents)}, nil
}

// copies reports a load that lets the unit copy what it does not, and gives its name, as
// copies are told it.
func (u unit) copies(spec workload.Spec) ([]byte, error) {
	if spec.Copies == 0 {
		return nil, nil
	}
	name, err := scsi.NameBytes(u.Name)
	most := quantity.Bytes(math.MaxUint16) * quantity.Bytes(u.BlockLength)
	if u.Copying.Most > 0 {
		most = min(most, quantity.Bytes(u.Copying.Most))
	}
	switch {
	case !u.Copying.Known:
		return nil, fmt.Errorf("%w: it has no offloaded copies (EXTENDED COPY); leave the copies out", load.ErrUnsupported)
	case err != nil:
		return nil, fmt.Errorf("%w: %w; leave the copies out", load.ErrUnsupported, err)
	case spec.LargestBlock() > most:
		return nil, &mistake.Error{Of: workload.ErrInvalid, Field: "block", Reason: fmt.Sprintf("%s, and the unit copies at most %s with one command; use smaller blocks", spec.LargestBlock(), most)}
	}
	return name, nil
}

// allows reports a load that zeroes or compares more with one command than the unit does.
func (u unit) allows(spec workload.Spec) error {
	most := func(blocks uint64) quantity.Bytes { return quantity.Bytes(blocks) * quantity.Bytes(u.BlockLength) }
	switch largest := spec.LargestBlock(); {
	case spec.Zeroes > 0 && u.MostSame > 0 && largest > most(u.MostSame):
		return &mistake.Error{Of: workload.ErrInvalid, Field: "block", Reason: fmt.Sprintf("%s, and the unit writes at most %s of zeros with one command; use smaller blocks", largest, most(u.MostSame))}
	case spec.Swaps > 0 && u.MostCompare == 0:
		return fmt.Errorf("%w: it does not compare before it writes (COMPARE AND WRITE); leave the swaps out", load.ErrUnsupported)
	case spec.Swaps > 0 && largest > most(uint64(u.MostCompare)):
		return &mistake.Error{Of: workload.ErrInvalid, Field: "block", Reason: fmt.Sprintf("%s, and the unit compares at most %s with one command; use smaller blocks, such as %s", largest, most(uint64(u.MostCompare)), most(1))}
	}
	return nil
}

// mostEvents is how many events wait for somebody who listens; later ones are lost.
const mostEvents = 256

// prepared is a unit ready for a run.
type prepared struct {
	opener  Opener
	locator volume.Locator
	address Address
	secrets []secretfile.Secret
	unit    unit
	tenure  *volume.Tenure // nil where nothing may be written
	events  chan volume.Event
}

// Use opens the unit for one measurement.
func (p *prepared) Use(ctx context.Context, spec workload.Spec) (load.Volume, error) {
	name, err := p.unit.copies(spec)
	if err == nil {
		err = p.unit.allows(spec)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", p.locator, err)
	}
	v := &opened{name: name, swaps: spec.Swaps > 0, locator: p.locator, address: p.address, secrets: p.secrets, unit: p.unit, lun: p.address.lunOf(), patience: usualPatience, tell: p.tell}
	if p.tenure != nil && spec.Writes() {
		if _, err := p.Identity(ctx); err != nil {
			return nil, err
		}
		p.tenure.Writes(spec)
		v.tenure = p.tenure
	}
	return v, nil
}

func (p *prepared) tell(e volume.Event) {
	select {
	case p.events <- e:
	default:
	}
}

// Events tell of paths that are lost and back.
func (p *prepared) Events() <-chan volume.Event { return p.events }

// Identity tells what the unit is now, after what was written to it. What others changed
// meanwhile, or another unit in its place, ends the consent.
func (p *prepared) Identity(ctx context.Context) (setup.Identity, error) {
	v, err := p.opener.visit(ctx, p.locator)
	if err != nil {
		return setup.Identity{}, err
	}
	defer v.close()
	found, err := v.unused(p.locator)
	if err == nil && p.tenure != nil {
		err = p.tenure.Still(found)
	}
	return found, err
}

// Close has nothing to remove.
func (p *prepared) Close() error { return nil }

var (
	_ volume.Consenter  = Opener{}
	_ volume.Describer  = Opener{}
	_ volume.Named      = Opener{}
	_ volume.Eventful   = (*prepared)(nil)
	_ volume.Identified = (*prepared)(nil)
)
