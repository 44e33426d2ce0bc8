package array

import (
	"fmt"
	"slices"
	"strings"

	"patientheron/core/quantity"
)

// FaultKind is what goes wrong, or is done about it.
type FaultKind string

// The faults. What each does to the service and to the data is in docs/arrays.md.
const (
	MemberFails       FaultKind = "member fails"
	ShelfFails        FaultKind = "shelf fails" // with all members in it
	MemberSlows       FaultKind = "member slows"
	MemberErrors      FaultKind = "member errors" // a share of its reads fails after it has tried for a time
	BitsRot           FaultKind = "bits rot"      // places of a member no longer hold what was written
	Scrub             FaultKind = "scrub"         // all members are read, and what rotted is made anew
	RebuildBegin      FaultKind = "rebuild"
	PowerCut          FaultKind = "power cut" // and back at once
	CacheFails        FaultKind = "cache fails"
	CacheReturns      FaultKind = "cache returns" // empty
	BatteryFails      FaultKind = "battery fails" // of a protected cache: write-back turns into write-through
	BatteryReturns    FaultKind = "battery returns"
	PathDrops         FaultKind = "path drops"
	PathReturns       FaultKind = "path returns"
	PathLoses         FaultKind = "path loses segments" // a share of them
	ControllerFails   FaultKind = "controller fails"    // and another one takes over
	ControllerReturns FaultKind = "controller returns"
	FailOver          FaultKind = "controller fails over"
	ReplicaStops      FaultKind = "replica stops" // nothing gets to the far copy
	Spike             FaultKind = "latency spike"
	Transport         FaultKind = "transport changes" // to another cost on the initiators' cores
	Snapshot          FaultKind = "snapshot"          // is taken
	SnapshotGoes      FaultKind = "snapshot goes"     // the oldest one
	TierLeaves        FaultKind = "tier leaves"       // when all that it holds was moved down
)

// Fault happens at a time.
type Fault struct {
	Kind   FaultKind
	At     quantity.Seconds
	Member int // from 0
	Cache  int // from 0
	Path   int // from 0, of every host
	Shelf  int // from 0

	Controller int // from 0
	Factor     float64
	Rate       quantity.ByteRate // of a rebuild or a scrub
	For        quantity.Seconds  // how long it lasts, of what is then as before; 0 for good
	Extra      quantity.Seconds  // of a spike: added to every operation; of errors: until the member gives up
	Share      quantity.Share    // of the reads that fail
	Count      int               // of the places that rot; of a path, how often it drops
	Every      quantity.Seconds  // of a path that drops more than once

	PerByte, PerOp quantity.Seconds // of a transport from now on
}

// undoes is what ends a fault that lasts for a time.
var undoes = map[FaultKind]FaultKind{
	PathDrops: PathReturns, BatteryFails: BatteryReturns, CacheFails: CacheReturns, MemberSlows: MemberSlows, MemberErrors: MemberErrors,
	PathLoses: PathLoses, ControllerFails: ControllerReturns,
}

// needs are the parts of a fault that a kind cannot do without, in words.
var needs = map[FaultKind][]string{
	MemberSlows: {"factor"}, RebuildBegin: {"rate"}, Scrub: {"rate"}, MemberErrors: {"share"}, BitsRot: {"count"}, PathLoses: {"share"}, FailOver: {"for"}, ReplicaStops: {"for"}, Spike: {"for", "extra"},
}

// kindsOfFaults in the order in which they are named.
var kindsOfFaults = []FaultKind{
	MemberFails, ShelfFails, MemberSlows, MemberErrors, BitsRot, Scrub, RebuildBegin, PowerCut, CacheFails, CacheReturns, BatteryFails, BatteryReturns,
	PathDrops, PathReturns, PathLoses, ControllerFails, ControllerReturns, FailOver, ReplicaStops, Spike, Transport, Snapshot, SnapshotGoes, TierLeaves,
}

// Words say what a fault of this array does, without when.
func (a *Array) Words(f Fault) string {
	_, words, _ := strings.Cut(strings.TrimSuffix(f.words(a.described), "."), ": ")
	return words
}

// Happening is a fault of the description that came.
type Happening struct {
	At    quantity.Seconds // of virtual time
	Words string
}

// happens notes something that happened by itself.
func (a *Array) happens(words string) {
	a.happened = append(a.happened, Happening{quantity.Seconds(float64(a.now) / 1e9), words})
}

// Happened are the faults of the description that came since the call before, and rebuilds that
// began by themselves or ended. Faults that somebody injects by hand are not among them.
func (a *Array) Happened() []Happening {
	happened := a.happened
	a.happened = nil
	return happened
}

// Inject makes a fault happen now. The error is a *mistake.Error about a fault that this
// array cannot have.
func (a *Array) Inject(f Fault) error {
	f.At = quantity.Seconds(float64(a.now) / 1e9)
	if err := a.described.validateFault("fault", f); err != nil {
		return err
	}
	if m := a.members[min(f.Member, len(a.members)-1)]; f.Kind == RebuildBegin && !m.failed {
		return wrong("fault.member", "member %d is well; there is nothing to rebuild", f.Member)
	}
	a.inject(f)
	return nil
}

// later makes a fault happen at a time to come.
func (a *Array) later(f Fault, at int64) {
	a.faults = append(a.faults, f)
	a.events.add(at, faultComes, int32(len(a.faults)-1))
}

// inject makes a fault happen.
func (a *Array) inject(f Fault) {
	m := a.members[min(f.Member, len(a.members)-1)]
	switch f.Kind {
	case MemberFails:
		a.memberFails(f.Member)
	case ShelfFails:
		for i, m := range a.members {
			if m.shelf == &a.shelves[f.Shelf] {
				a.memberFails(i)
			}
		}
	case MemberSlows:
		m.slow = f.Factor
	case MemberErrors:
		m.errors, m.trying = float64(f.Share), float64(f.Extra)*1e9
	case BitsRot:
		m.rot(f.Count)
	case Scrub:
		a.beginScrub(f)
	case RebuildBegin:
		a.beginRebuild(f)
	case PowerCut:
		a.losePower()
	case CacheFails:
		a.caches[f.Cache].fail(a)
	case CacheReturns:
		a.caches[f.Cache].down, a.caches[f.Cache].through = false, false
	case BatteryFails:
		a.caches[f.Cache].through = true
		a.caches[f.Cache].destage(a)
	case BatteryReturns:
		a.caches[f.Cache].through = false
	case PathDrops, PathReturns:
		for _, h := range a.hosts {
			for _, p := range h.on(f.Path, a.described.Link) {
				p.switched(a, f.Kind == PathReturns)
			}
			a.resume(h)
		}
	case PathLoses:
		for _, h := range a.hosts {
			for _, p := range h.on(f.Path, a.described.Link) {
				p.there.loses(float64(f.Share), float64(a.described.Link.Window))
				p.back.loses(float64(f.Share), float64(a.described.Link.Window))
			}
		}
	case ControllerFails:
		a.controllerFails(f.Controller)
	case ControllerReturns:
		a.controllerReturns(f.Controller)
	case FailOver:
		a.failOver(int64(f.For.Duration()))
	case ReplicaStops:
		a.far.stop(a.now, int64(f.For.Duration()))
	case Snapshot:
		a.snapshot()
	case SnapshotGoes:
		a.thin.drop(a)
	case TierLeaves:
		a.tier.leave(a)
	case Spike:
		a.spikeUntil, a.spike = a.now+int64(f.For.Duration()), int64(f.Extra.Duration())
	case Transport:
		for _, h := range a.hosts {
			for _, p := range h.paths {
				p.core.perByte, p.core.perOperation = float64(f.PerByte)*1e9, float64(f.PerOp)*1e9/2
			}
		}
	}
	a.comesBack(f)
}

// memberFails takes a member away, for another one to take its place.
func (a *Array) memberFails(number int) {
	m := a.members[number]
	if l := a.layoutOf(number); m.failed && l.moves() {
		a.counters.faultsIgnored++ // others hold what it held, or are about to
		return
	}
	m.failed, m.upTo, m.rebuild, m.rotten = true, 0, nil, nil
	a.takeOver(number)
}

// comesBack lets a fault end that lasts for a time, and one that comes more than once
// come again.
func (a *Array) comesBack(f Fault) {
	if end := undoes[f.Kind]; end != "" && f.For > 0 {
		back := f
		back.Kind, back.For, back.Count, back.Share = end, 0, 0, 0
		switch f.Kind {
		case MemberSlows:
			back.Factor = a.members[f.Member].group.Slow
		case PathLoses:
			back.Share = a.described.Link.Loss
		}
		a.later(back, a.now+int64(f.For.Duration()))
	}
	if f.Kind == PathDrops && f.Count > 1 {
		f.Count--
		a.later(f, a.now+int64(f.Every.Duration()))
	}
}

// landDestages lets what one cache writes to the next be there: it does not come in
// later than what is read after the power is back.
func (a *Array) landDestages() {
	for _, c := range a.caches {
		c.stalled = slices.DeleteFunc(c.stalled, func(n int32) bool {
			j := a.jobs.at(n)
			if j.purpose != forDestage {
				return false
			}
			c.admit(a, n, j)
			return true
		})
	}
}

// losePower loses what no battery and no device keeps.
func (a *Array) losePower() {
	a.landDestages()
	for _, c := range a.caches {
		if !c.spec.Protected && c.spec.Devices == 0 {
			c.forget(a, false)
		}
	}
	for _, m := range a.members {
		m.losePower(a)
	}
}

// failOver lets nothing in for a time. What only one controller's memory held is lost.
func (a *Array) failOver(pause int64) {
	for _, v := range a.volumes() {
		v.pausedUntil = max(v.pausedUntil, a.now+pause)
	}
	a.landDestages()
	for _, c := range a.caches {
		if !c.spec.Protected && c.spec.Devices == 0 {
			c.forget(a, false)
		}
	}
}

// fail takes a cache's device away. Of a protected one another holds the same: what is
// dirty is written out, and nothing more is kept dirty. Of others what is dirty is lost.
func (c *cache) fail(a *Array) {
	if c.spec.Mode == WriteBack && (c.spec.Protected || c.spec.Log != nil) {
		c.through = true
		c.destage(a)
		return
	}
	c.down = true
	c.forget(a, false)
}

// drawError reports whether a read of a member with errors fails: the same ones in
// every simulation.
func (m *member) drawError() bool {
	m.drawn++
	return even(m.drawn) < m.errors
}

// recover reads what a member could not read from those that hold the same, as long as
// enough do.
func (a *Array) recover(n int32, failed piece) {
	l := a.layoutOf(failed.member)
	missing, at, length := failed.member-l.base, failed.offset, int64(failed.length)
	a.counters.recovered++
	if !l.readOthers(a, n, missing, at, length) {
		a.jobs.at(n).failed = true
	}
}

// rot makes places of a member rotten, spread over it.
func (m *member) rot(count int) {
	for range count {
		m.drawn++
		m.rotten = append(m.rotten, int64(even(m.drawn)*float64(m.group.Capacity))/pageSize*pageSize)
	}
	slices.Sort(m.rotten)
	m.rotten = slices.Compact(m.rotten)
}

// healed forgets rotten places within a range that is written, and tells how many there
// were.
func (m *member) healed(from, to int64) (count int) {
	first, _ := slices.BinarySearch(m.rotten, from/pageSize*pageSize)
	last, _ := slices.BinarySearch(m.rotten, to)
	m.rotten = slices.Delete(m.rotten, first, last)
	return last - first
}

// rottenIn is how many rotten places a range has.
func (m *member) rottenIn(from, to int64) int {
	first, _ := slices.BinarySearch(m.rotten, from/pageSize*pageSize)
	last, _ := slices.BinarySearch(m.rotten, to)
	return last - first
}

// words say when a fault injections, and whom.
func (f Fault) words(d Description) string {
	whom := ""
	switch f.Kind {
	case MemberFails, MemberSlows, MemberErrors, BitsRot, RebuildBegin:
		whom = fmt.Sprintf(" (member %d)", f.Member)
	case ControllerFails, ControllerReturns:
		whom = fmt.Sprintf(" (controller %d)", f.Controller)
	case ShelfFails:
		whom = fmt.Sprintf(" (shelf %d)", f.Shelf)
	case CacheFails, CacheReturns, BatteryFails, BatteryReturns:
		whom = fmt.Sprintf(" (%s)", d.Caches[f.Cache].Name)
	case PathDrops, PathReturns, PathLoses:
		whom = fmt.Sprintf(" (path %d)", f.Path)
	}
	text := fmt.Sprintf("At %s: %s%s", f.At, f.Kind, whom)
	if f.Kind == PathLoses {
		text += fmt.Sprintf(", %s of them", f.Share)
	}
	if f.For > 0 {
		text += fmt.Sprintf(", for %s", f.For)
	}
	if f.Kind == PathDrops && f.Count > 1 {
		text += fmt.Sprintf(", %d times, every %s", f.Count, f.Every)
	}
	return text + "."
}
