// Package array is the simulated array: a discrete-event model, in virtual
// time, of media, RAID layouts, caches, a tier, a controller and the ways to them.
//
// It behaves like hardware where a storage administrator would notice, and it
// gives the same answer each time. It knows nothing of workloads; whoever
// drives it submits operations at its present time and takes what completed.
// Description says what is simulated, Array simulates it.
//
//	a, err := array.New(description)
//	a.Submit(array.Request{Tag: 1, Write: true, Offset: 0, Length: 8192})
//	for len(a.Done()) == 0 { a.Step(math.MaxInt64) }
//
// An operation comes by a path of its host (way.go, tcp.go) or from a neighbour
// (neighbour.go), passes the controller that owns its volume (controller.go), is copied
// to a far array (replica.go), and enters one level after the other: caches (cache.go,
// blocks.go, destage.go), the pool of a thin volume (thin.go, reduce.go), the tier
// (tier.go) and the layout (layout.go, parity.go, spread.go), which makes commands for
// members (member.go, disk.go, flash.go) of it, behind their shelves (shelf.go). What a level asks of the next is a part of its job (job.go).
// Everything that takes time is an event (schedule.go), and stations serve in the order
// of arrival (server.go, line.go).
package array

import (
	"math"
	"slices"

	"patientheron/core/mechanics"
	"patientheron/core/quantity"
)

// Request is one operation on the array.
type Request struct {
	Tag    int // comes back with the answer
	Write  bool
	Flush  bool // forces what was written to stable media; Offset and Length do not matter
	Trim   bool // gives the range back: nobody will ask for what is there
	Copy   bool // the array copies as much from Source to the range, by itself
	Host   int  // whose it is, from 0; beyond the last one it begins anew
	Offset int64
	Length int
	Source int64 // of a copy
}

// Answer tells that an operation completed.
type Answer struct {
	Tag     int
	Failed  bool    // too many members are missing for what was asked, or a zone refused it
	Refusal Refusal // why a zone did
}

// Array simulates one array. It is not safe for concurrent use.
type Array struct {
	size   int64 // of the volume, and of those beside it
	pool   int64 // what the layout has for data
	now    int64 // nanoseconds
	events schedule

	hosts             []*host
	allowances        allowances // limits of the volume
	controllers       []controller
	volume            volume // that is measured
	copier            server // of copies inside the array
	offloaded         map[int32]offloaded
	neighbours        []*neighbour
	mirror            *mirror // nil where no cache is mirrored
	far               *replica
	caches            []*cache
	thin              *thin
	tier              *tier
	layout            *layout
	gathering         *gathering // nil where nothing has parity
	members           []*member
	shelves           []shelf
	described         Description
	faults            []Fault
	hotSpares         int         // that lie ready
	happened          []Happening // faults of the description that came, since they were asked for
	rebuilds          []*rebuild
	scrub             scrub
	compressible      float64 // share of what is written that can be removed
	spikeUntil, spike int64   // until when every operation takes so much longer

	jobs     pool[job]
	commands pool[command]
	pieces   []piece // of the plan that is being made
	done     []Answer

	submitting bool // no answer comes before Submit has returned
	counters   counters
	watch      watcher // nil but in tests
}

// New makes an array from its description. The error is that of Validate.
func New(d Description) (*Array, error) {
	if err := d.Validate(); err != nil {
		return nil, err
	}
	d = d.completed()
	a := &Array{
		size: int64(d.whole()), pool: int64(d.Usable()), thin: newThin(d), described: d, faults: slices.Clone(d.Faults), far: newReplica(d.Replica), hotSpares: d.Layout.HotSpares,
		allowances:  newAllowances(d.Limits),
		controllers: newControllers(d.Controller), volume: volume{size: d.Size(), owner: d.Controller.Owner}, neighbours: newNeighbours(d),
		copier: server{perByte: perSecond(float64(d.Controller.CopyRate))}, offloaded: map[int32]offloaded{},
	}
	scale := d.flashScale()
	models := map[mechanics.Disk]*mechanics.Model{}
	add := func(groups []Group) {
		for _, g := range groups {
			a.members = append(a.members, newMember(len(a.members), g, scale, models))
		}
	}
	members := d.expandedMembers()
	a.layout = newLayout(d.Layout, members, 0)
	add(members)
	a.shelves = newShelves(d.Shelves)
	for i, m := range a.members {
		if len(a.shelves) > 0 {
			m.shelf = &a.shelves[d.Shelves.of(i, len(members))]
		}
	}
	parity := a.layout.parity > 0
	if d.Tier != nil {
		a.tier = newTier(d)
		for _, t := range d.tiers() {
			l := a.tier.put(t, len(a.members))
			add(t.expandedMembers())
			parity = parity || l.parity > 0
		}
		a.events.add(a.tier.every, tierLooks, 0)
	}
	if parity {
		a.gathering = newGathering()
	}
	for i, m := range a.members[:len(members)] {
		if m.flash != nil {
			m.flash.holds(min(a.layout.holds(i, d.filled()), int64(m.group.Capacity)))
			m.flash.dense = d.Thin != nil && d.Thin.reduces()
		}
	}
	before := int64(0)
	for i, end := range a.layout.ends {
		if m := a.members[i]; m.group.Zone > 0 {
			m.zones = newZones(m.group, max(d.filled()-before, 0))
		}
		before = end
	}
	a.hosts = newHosts(d.Link)
	if slices.ContainsFunc(d.Caches, func(c Cache) bool { return c.Mirrored }) {
		a.mirror = &mirror{server{perByte: perSecond(float64(d.Controller.MirrorRate))}, int64(d.Controller.MirrorTime.Duration())}
	}
	for i, c := range d.Caches {
		a.caches = append(a.caches, newCache(c, i))
	}
	for i, c := range a.caches {
		c.fit(a, i)
	}
	if d.Snapshots.Every > 0 {
		a.events.add(a.thin.every, snapshotComes, 0)
	}
	a.findServing()
	for i, n := range d.Neighbours {
		a.events.add(int64(n.At.Duration()), neighbourActs, int32(i))
	}
	for i, f := range d.Faults {
		a.events.add(int64(f.At.Duration()), faultComes, int32(i))
	}
	return a, nil
}

// Writes says of all that is written from now on what share a compressor can remove, and
// what share of its 4 KiB pages repeats one of sixteen. What a pool has compressed, no
// drive can compress once more.
func (a *Array) Writes(compressible, duplicate float64) {
	a.compressible = min(max(compressible, 0), 1)
	if a.thin == nil || a.thin.reduced == nil {
		return
	}
	r := a.thin.reduced
	if r.compressible, r.duplicate = a.compressible, min(max(duplicate, 0), 1); r.compresses {
		a.compressible = 0
	}
}

// Size is the number of bytes that can be addressed.
func (a *Array) Size() quantity.Bytes { return a.volume.size }

// Now is the array's virtual time in nanoseconds.
func (a *Array) Now() int64 { return a.now }

// Submit takes an operation at the present time.
func (a *Array) Submit(r Request) {
	k := reads
	switch {
	case r.Flush:
		k = flushes
	case r.Trim:
		k = trims
	case r.Copy:
		k = copies
	case r.Write:
		k = writes
	}
	n := a.newJob(k, forHost, r.Offset, r.Length)
	j := a.jobs.at(n)
	j.tag, j.since, j.place = r.Tag, a.now, placeWay
	if r.Copy {
		a.offloaded[n] = offloaded{source: r.Source}
	}
	if len(a.hosts) > 0 {
		_, rest := divide(int64(r.Host), len(a.hosts))
		j.host = int16(rest)
		a.send(n)
		return
	}
	a.submitting = true
	a.arrive(n)
	a.submitting = false
}

// Done lists the answers since Forget was called last.
func (a *Array) Done() []Answer { return a.done }

// Forget empties the list of answers.
func (a *Array) Forget() { a.done = a.done[:0] }

// Next is when the next event happens; some is false when there is none.
func (a *Array) Next() (at int64, some bool) { return a.events.next() }

// Step moves the time on to the next event, at most to until, and lets it
// happen. It reports whether there was one.
func (a *Array) Step(until int64) bool {
	if at, some := a.events.next(); !some || at > until {
		if until != math.MaxInt64 {
			a.now = max(a.now, until)
		}
		return false
	}
	e := a.events.take()
	a.now = e.at
	switch e.what {
	case jobGoesOn:
		a.goOn(e.subject)
	case partGoesOn:
		a.commandGoesOn(e.subject)
	case lineIsFree:
		a.crossed(e.subject)
	case diskIsFree:
		a.members[e.subject].disk.free(a)
	case diskRests:
		a.members[e.subject].disk.rested(a)
	case farAnswers:
		a.farAnswered(e.subject)
	case faultComes:
		a.happens(a.Words(a.faults[e.subject]))
		a.inject(a.faults[e.subject])
	case rebuildOn:
		a.rebuilds[e.subject].next(a)
	case scrubOn:
		a.scrub.next(a)
	case tierLooks:
		a.tier.goOn(a)
	case neighbourActs:
		a.neighbours[e.subject].acts(a, e.subject)
	case gatheringEnds:
		a.gathering.ends(a, e.subject)
	case snapshotComes:
		a.snapshot()
		a.events.add(a.now+a.thin.every, snapshotComes, 0)
	case destageOn:
		a.caches[e.subject].destageLater(a)
	}
	return true
}

// goOn takes a job to its next step.
func (a *Array) goOn(n int32) {
	switch j := a.jobs.at(n); j.step {
	case stepArrive:
		if !a.lost(n) {
			a.arrive(n)
		}
	case stepPaused:
		a.arriveOnce(n)
	case stepAllowed:
		a.control(n)
	case stepEnter:
		a.begin(n)
	case stepPast:
		a.spend(j, placeMembers)
		a.caches[j.level].pass(a, n)
	case stepReduced:
		a.spend(j, placeMembers)
		a.behind(n)
	case stepLeave:
		a.leave(n)
	case stepOut:
		a.goOut(n)
	case stepCopyLands:
		a.copyLands(n)
	case stepNear:
		a.spend(a.jobs.at(n), placeMembers)
		a.enter(n)
	case stepOnLine:
		a.overLine(n, a.now)
	case stepLineBack:
		a.backOverLine(n, a.now)
	case stepHome:
		a.home(n)
	case stepReturn:
		a.returned(n)
	case stepSend:
		j.level, j.failed = 0, false
		a.send(n)
	case stepReply:
		a.answer(n)
	}
}

// arrive lets an operation pass what the volume is allowed, and then the controller.
func (a *Array) arrive(n int32) {
	j := a.jobs.at(n)
	length := j.carried()
	a.spend(j, placeLimit)
	if a.waits(n, &a.volume) {
		return
	}
	if at := a.allowances.pass(j.kind, a.now, length); at > a.now {
		a.after(at, n, stepAllowed)
		return
	}
	a.control(n)
}

// come lets an operation of a neighbour pass the controller.
func (a *Array) come(n int32, v *volume) {
	if !a.waits(n, v) {
		a.control(n)
	}
}

// arriveOnce lets an operation go on that waited for a controller.
func (a *Array) arriveOnce(n int32) {
	if j := a.jobs.at(n); j.purpose == forNeighbour {
		a.come(n, a.volumeOf(j))
		return
	}
	a.arrive(n)
}

// waits lets an operation wait where nobody serves its volume, and reports whether it does.
func (a *Array) waits(n int32, v *volume) bool {
	if a.now >= v.pausedUntil {
		return false
	}
	if v.pausedUntil == math.MaxInt64 {
		v.paused = append(v.paused, n)
	} else {
		a.after(v.pausedUntil, n, stepPaused)
	}
	return true
}

// control lets an operation pass the controller.
func (a *Array) control(n int32) {
	j := a.jobs.at(n)
	length := j.carried()
	a.spend(j, placeController)
	at := a.volumeOf(j).serving.pass(a.now, length)
	if a.now < a.spikeUntil {
		at += a.spike
	}
	if at > a.now {
		a.after(at, n, stepEnter)
		return
	}
	a.begin(n)
}

// begin lets an operation into the first level. A write goes to the far copy as well.
func (a *Array) begin(n int32) {
	j := a.jobs.at(n)
	a.spend(j, placeMembers)
	if j.kind == copies {
		a.copy(n)
		return
	}
	if a.far == nil || j.kind != writes || j.purpose != forHost {
		a.enter(n)
		return
	}
	a.replicate(n)
}

// answer gives the initiator its answer.
func (a *Array) answer(n int32) {
	j := a.jobs.at(n)
	a.spend(j, placeWay)
	a.counters.operations++
	a.counters.answered[j.kind]++
	a.done = append(a.done, Answer{Tag: j.tag, Failed: j.failed, Refusal: j.refusal})
	a.jobs.give(n)
}
