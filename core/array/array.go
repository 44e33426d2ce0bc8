// Package array is the simulated array: a discrete-event model, in virtual
// time, of media, RAID layouts, caches, a controller and the links to them.
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
// Not modelled yet: zoned media, offloaded copy.
package array

import (
	"math"

	"patientheron/core/quantity"
)

// Request is one operation on the array.
type Request struct {
	Tag    int // comes back with the answer
	Write  bool
	Flush  bool // forces what was written to stable media; Offset and Length do not matter
	Offset int64
	Length int
}

// Answer tells that an operation completed.
type Answer struct {
	Tag    int
	Failed bool // too many members are missing for what was asked
}

// Array simulates one array. It is not safe for concurrent use.
type Array struct {
	size    int64
	now     int64 // nanoseconds
	events  schedule
	members []*member
	layout  *layout
	tier    *tier
	caches  []*cache
	control server // controller: operations and bytes
	paths   []*path
	turn    int // next path of a multipath
	far     *replica
	faults  []Fault
	rebuild *rebuild

	ios  []io // all operations that ever were in flight together, reused
	idle []int32
	subs []sub
	free []int32
	done []Answer

	submitting bool // no answer comes before Submit has returned
	counters   counters
}

// New makes an array from its description. The error is that of Validate.
func New(d Description) (*Array, error) {
	if err := d.Validate(); err != nil {
		return nil, err
	}
	d = d.completed()
	a := &Array{layout: newLayout(d.Layout, d.expandedMembers(), 0), far: newReplica(d.Replica), faults: d.Faults}
	for _, m := range d.expandedMembers() {
		a.members = append(a.members, newMember(len(a.members), m))
	}
	if d.Tier != nil {
		a.tier = newTier(d, len(a.members))
		for _, m := range d.Tier.expandedMembers() {
			a.members = append(a.members, newMember(len(a.members), m))
		}
		a.events.add(a.tier.every, eventRelocate, 0)
	}
	a.size = int64(d.Usable())
	a.control = server{perOperation: perSecond(float64(d.Controller.Operations)), perByte: perSecond(float64(d.Controller.Throughput))}
	for range d.Link.Count {
		a.paths = append(a.paths, newPath(d.Link))
	}
	if d.Link.Combined == Bundle && len(a.paths) > 1 {
		a.paths = a.paths[:1] // one flow stays on one link
	}
	for _, c := range d.Caches {
		a.caches = append(a.caches, newCache(c))
	}
	for i, f := range d.Faults {
		a.events.add(int64(f.At.Duration()), eventFault, int32(i))
	}
	return a, nil
}

// Size is the number of bytes that can be addressed.
func (a *Array) Size() quantity.Bytes { return quantity.Bytes(a.size) }

// Now is the array's virtual time in nanoseconds.
func (a *Array) Now() int64 { return a.now }

// perSecond is the nanoseconds one unit takes at a rate; zero for no limit.
func perSecond(rate float64) float64 {
	if rate <= 0 {
		return 0
	}
	return 1e9 / rate
}

// server is a station that serves one operation after the other.
type server struct {
	perOperation, perByte float64 // nanoseconds
	freeAt                float64
	busy                  float64 // nanoseconds spent serving
}

// pass is when an operation that arrives now leaves the station.
func (s *server) pass(now int64, bytes int) int64 {
	service := s.perOperation + s.perByte*float64(bytes)
	if service == 0 {
		return now
	}
	s.freeAt = max(s.freeAt, float64(now)) + service
	s.busy += service
	return int64(math.Ceil(s.freeAt))
}

// stage is where an operation stands.
type stage uint8

const (
	stageArrive  stage = iota // at the controller
	stageServe                // past the controller: look into the caches
	stageMembers              // member operations are under way
	stageWrite                // the second phase of a small write
	stageReply                // back at the initiator
)

// io is one operation under way.
type io struct {
	request Request
	stage   stage
	pending int   // member operations that are out
	path    int16 // that it came by
	failed  bool
	purpose purpose
	second  []piece // what a small write does after its reads
}

// purpose is what the array makes an operation of its own for.
type purpose uint8

const (
	forHost    purpose = iota
	forDestage         // of one cache's dirty blocks
	forRebuild
	forRelocation
)

// Submit takes an operation at the present time.
func (a *Array) Submit(r Request) {
	number := a.newIO(r, forHost)
	op := &a.ios[number]
	if len(a.paths) == 0 {
		a.submitting = true
		a.move(number)
		a.submitting = false
		return
	}
	sent := 0
	if r.Write {
		sent = r.Length
	}
	op.path = int16(a.turn)
	at := a.paths[a.turn].send(a.now, sent)
	a.turn = (a.turn + 1) % len(a.paths)
	a.events.add(at, eventIO, number)
}

func (a *Array) newIO(r Request, p purpose) int32 {
	if len(a.idle) == 0 {
		a.ios = append(a.ios, io{})
		a.idle = append(a.idle, int32(len(a.ios)-1))
	}
	number := a.idle[len(a.idle)-1]
	a.idle = a.idle[:len(a.idle)-1]
	second := a.ios[number].second[:0]
	a.ios[number] = io{request: r, purpose: p, second: second}
	return number
}

// Done lists the answers since Forget was called last.
func (a *Array) Done() []Answer { return a.done }

// Forget empties the list of answers.
func (a *Array) Forget() { a.done = a.done[:0] }

// Step moves the time on to the next event, at most to until, and lets it
// happen. It reports whether there was one.
func (a *Array) Step(until int64) bool {
	if len(a.events.heap) == 0 || a.events.heap[0].at > until {
		if until != math.MaxInt64 {
			a.now = max(a.now, until)
		}
		return false
	}
	e := a.events.pop()
	a.now = e.at
	switch e.kind {
	case eventIO:
		a.move(e.subject)
	case eventSub:
		a.subDone(e.subject)
	case eventDisk:
		a.members[e.subject].disk.next(a)
	case eventFault:
		a.strike(a.faults[e.subject])
	case eventRebuild:
		a.rebuild.next(a)
	case eventRelocate:
		a.tier.relocate(a)
	}
	return true
}

// move takes an operation to its next stage.
func (a *Array) move(number int32) {
	op := &a.ios[number]
	switch op.stage {
	case stageArrive:
		op.stage = stageServe
		if at := a.control.pass(a.now, op.request.Length); at > a.now {
			a.events.add(at, eventIO, number)
			return
		}
		a.serve(number)
	case stageServe:
		a.serve(number)
	case stageReply:
		a.counters.operations++
		a.done = append(a.done, Answer{Tag: op.request.Tag, Failed: op.failed})
		a.idle = append(a.idle, number)
	}
}

// serve answers an operation from a cache or sends it to the members.
func (a *Array) serve(number int32) {
	op := &a.ios[number]
	if op.request.Flush {
		a.flush(number)
		return
	}
	for _, c := range a.caches {
		if c.serve(a, number) {
			return
		}
	}
	a.toMembers(number)
}

// flush waits for volatile caches. Safe caches answer at once.
func (a *Array) flush(number int32) {
	at := a.now
	for _, m := range a.members {
		at = max(at, m.stableAt(a.now))
	}
	a.reply(number, at)
}

// reply sends the answer on its way back at time at.
func (a *Array) reply(number int32, at int64) {
	op := &a.ios[number]
	if op.request.Write && a.far != nil {
		at = a.far.acknowledge(a.now, at, op.request.Length)
	}
	received := 0
	if !op.request.Write && !op.request.Flush {
		received = op.request.Length
	}
	op.stage = stageReply
	if len(a.paths) > 0 {
		at = a.paths[op.path].receive(at, received)
	}
	if at <= a.now && !a.submitting {
		a.move(number)
		return
	}
	a.events.add(at, eventIO, number)
}

// toMembers turns an operation into member operations by the layout.
func (a *Array) toMembers(number int32) {
	op := &a.ios[number]
	op.stage = stageMembers
	op.pending = 1 // so that none completes the operation while it is issued
	if a.tier != nil && op.purpose != forRebuild {
		a.tier.plan(a, number)
	} else {
		a.layout.plan(a, number, op.request)
	}
	a.subAnswered(number)
}

// sub is one member operation.
type sub struct {
	io     int32
	member int32
	piece  piece
}

// piece is a range of one member to read or write.
type piece struct {
	member int
	offset int64
	length int
	write  bool
}

// issue sends a piece to its member on behalf of an operation.
func (a *Array) issue(number int32, p piece) {
	if len(a.free) == 0 {
		a.subs = append(a.subs, sub{})
		a.free = append(a.free, int32(len(a.subs)-1))
	}
	id := a.free[len(a.free)-1]
	a.free = a.free[:len(a.free)-1]
	a.subs[id] = sub{io: number, member: int32(p.member), piece: p}
	a.ios[number].pending++
	a.members[p.member].submit(a, id)
}

func (a *Array) subDone(id int32) {
	s := a.subs[id]
	a.free = append(a.free, id)
	a.members[s.member].waiting--
	a.subAnswered(s.io)
}

// subAnswered counts down what an operation waits for and takes it on when
// nothing is left.
func (a *Array) subAnswered(number int32) {
	op := &a.ios[number]
	if op.pending--; op.pending > 0 {
		return
	}
	if op.stage == stageMembers && len(op.second) > 0 && !op.failed {
		op.stage = stageWrite
		second := op.second
		op.pending = 1
		for _, p := range second {
			a.issue(number, p)
		}
		a.ios[number].second = second[:0]
		a.subAnswered(number)
		return
	}
	a.finished(number)
}

// finished ends the member part of an operation.
func (a *Array) finished(number int32) {
	op := &a.ios[number]
	switch op.purpose {
	case forHost:
		for _, c := range a.caches {
			c.filled(a, op)
		}
		a.reply(number, a.now)
	case forDestage:
		request := op.request
		a.idle = append(a.idle, number)
		a.caches[request.Tag].destaged(a, request)
	case forRebuild:
		a.idle = append(a.idle, number)
		a.rebuild.advance(a)
	case forRelocation:
		a.idle = append(a.idle, number)
		a.tier.moved(a)
	}
}
