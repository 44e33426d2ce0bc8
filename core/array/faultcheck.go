package array

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

func (d Description) validateFaults() error {
	for i, f := range d.Faults {
		if err := d.validateFault(fmt.Sprintf("faults[%d]", i), f); err != nil {
			return err
		}
		if f.Kind == RebuildBegin && !slices.ContainsFunc(d.Faults, func(o Fault) bool { return o.Kind == MemberFails && o.Member == f.Member && o.At <= f.At }) {
			return wrong(fmt.Sprintf("faults[%d].at", i), "member %d is rebuilt at %s, but it does not fail before; add {kind: member fails, member: %d, at: …}", f.Member, f.At, f.Member)
		}
	}
	return nil
}

// validateFault reports what a fault of this array cannot be.
func (d Description) validateFault(at string, f Fault) error {
	members := len(d.expandedMembers())
	for _, t := range d.tiers() {
		members += t.Members.Count
	}
	if !(f.At >= 0) || f.At > 86400 {
		return wrong(at+".at", "%g s; within a day", float64(f.At))
	}
	if !slices.Contains(kindsOfFaults, f.Kind) {
		var names []string
		for _, k := range kindsOfFaults {
			names = append(names, string(k))
		}
		return wrong(at+".kind", "%q; one of %s", f.Kind, strings.Join(names, ", "))
	}
	if f.Member < 0 || f.Member >= members {
		return wrong(at+".member", "%d; the array has members 0 to %d", f.Member, members-1)
	}
	given := map[string]bool{"factor": f.Factor != 0, "rate": f.Rate != 0, "share": f.Share != 0, "count": f.Count != 0, "for": f.For != 0, "extra": f.Extra != 0}
	for _, key := range needs[f.Kind] {
		if !given[key] {
			return wrong(at+"."+key, "is missing; %q needs %s", f.Kind, strings.Join(needs[f.Kind], " and "))
		}
	}
	switch {
	case f.Kind == MemberSlows && !(f.Factor >= 1 && f.Factor <= 1e6):
		return wrong(at+".factor", "%g; how many times slower, from 1", f.Factor)
	case !(f.Rate >= 0):
		return wrong(at+".rate", "%s; how fast it goes, such as 50MB/s", f.Rate)
	case !(f.Share >= 0 && f.Share <= 1):
		return wrong(at+".share", "%g; from 0%% to 100%%", float64(f.Share))
	case f.Count < 0 || f.Count > 100_000:
		return wrong(at+".count", "%d; up to 100000", f.Count)
	case !(f.For >= 0) || f.For > 86400 || !(f.Extra >= 0) || f.Extra > 3600 || !(f.Every >= 0) || f.Every > 86400:
		return wrong(at+".for", "%s, extra %s, every %s; up to a day, an hour and a day", f.For, f.Extra, f.Every)
	case !(f.PerByte >= 0) || f.PerByte > 1e-3 || !(f.PerOp >= 0) || f.PerOp > 1:
		return wrong(at+".perByte", "%s and %s for an operation; none negative", f.PerByte, f.PerOp)
	}
	return d.validateTarget(at, f)
}

// validateTarget reports a fault of something that the array does not have.
func (d Description) validateTarget(at string, f Fault) error {
	switch f.Kind {
	case RebuildBegin:
		if l := d.levelOf(f.Member); l == Stripe || l == Concatenation {
			return wrong(at+".kind", "%s keeps nothing that a member could be rebuilt from", l)
		}
		if l := d.Layout; l.Stripe > 0 && l.Spares == 0 && f.Member < len(d.expandedMembers()) {
			return wrong(at+".kind", "no room is kept free for what a member held; add layout: {spares: 1}, as many as may be made anew")
		}
	case CacheFails, CacheReturns, BatteryFails, BatteryReturns:
		if f.Cache < 0 || f.Cache >= len(d.Caches) {
			return wrong(at+".cache", "%d; the array has %d caches, counted from 0", f.Cache, len(d.Caches))
		}
		if c := d.Caches[f.Cache]; (f.Kind == BatteryFails || f.Kind == BatteryReturns) && (c.Mode != WriteBack || !c.Protected || c.Devices > 0) {
			return wrong(at+".cache", "%s has no battery: it is not protected write-back memory", c.Name)
		}
	case Snapshot, SnapshotGoes:
		if d.Thin == nil {
			return wrong(at+".kind", "only a thin volume has snapshots; add thin: {unit: 1MiB}")
		}
	case ControllerFails, ControllerReturns:
		if d.Controller.Count == 0 {
			return wrong(at+".kind", "how many controllers there are is not said; add controller: {count: 2}")
		}
		if f.Controller < 0 || f.Controller >= d.Controller.Count {
			return wrong(at+".controller", "%d; the array has %d controllers, counted from 0", f.Controller, d.Controller.Count)
		}
	case FailOver:
		if d.Controller.Count > 0 {
			return wrong(at+".kind", "of controllers that are described it is one that fails; say {kind: controller fails, controller: 0}, with for: until it returns")
		}
	case ShelfFails:
		if f.Shelf < 0 || f.Shelf >= d.Shelves.Count {
			return wrong(at+".shelf", "%d; the array has %d shelves, counted from 0", f.Shelf, d.Shelves.Count)
		}
	case ReplicaStops:
		if d.Replica == nil {
			return wrong(at+".kind", "the array has no replica")
		}
	case TierLeaves:
		if d.Tier == nil {
			return wrong(at+".kind", "the array has no tier")
		}
	case PathDrops, PathReturns, PathLoses, Transport:
		paths := 1
		if d.Link.Combined == Multipath {
			paths = max(d.Link.Count, 1)
		}
		if d.Link.Rate == 0 {
			return wrong(at+".kind", "the array has no link")
		}
		if f.Path < 0 || f.Path >= paths {
			return wrong(at+".path", "%d; each host has paths 0 to %d", f.Path, paths-1)
		}
		if f.Kind == PathLoses && (d.Link.RoundTrip == 0 || f.Share > mostLoss) {
			return wrong(at+".share", "%s with a round trip of %s; up to %s, on a link that has one", f.Share, d.Link.RoundTrip, quantity.Share(mostLoss))
		}
		if f.Kind == PathDrops && f.Count > 1 && !(f.For > 0 && f.Every > f.For) {
			return wrong(at+".every", "%s; a path that drops %d times needs how often, and for how long each, which is less", f.Every, f.Count)
		}
	}
	return nil
}

// levelOf is the level of the layout that a member belongs to.
func (d Description) levelOf(member int) Level {
	level, first := d.Layout.Level, len(d.expandedMembers())
	for _, t := range d.tiers() {
		if member >= first {
			level = t.form().Level
		}
		first += t.Members.Count
	}
	return level
}
