package array

import (
	"patientheron/core/quantity"
	"slices"
)

// ReplicaMode is when a write counts that goes to a far array as well.
type ReplicaMode string

// The modes.
const (
	Synchronous  ReplicaMode = "synchronous"  // when both have it
	Asynchronous ReplicaMode = "asynchronous" // when the near one has it; the far one lags behind
)

// lightPerKilometre is the time light takes in one kilometre of fibre.
const lightPerKilometre = 4900 // nanoseconds

// replica is the far array and the way to it.
type replica struct {
	there, service int64
	line           server
	stoppedUntil   int64 // nothing passes the line before

	asynchronous bool
	journal      int64     // bytes that may wait to be copied; 0 for any number
	copies       []copying // that are not safe over there, oldest first
	settled      int       // of copies: those before are safe
	behind       int64     // bytes that are not
	admitted     int64     // when the last write was, or will be, let in
	leaving      int       // of copies: those before will be safe by then
	held         int64     // bytes of the journal that are in use then
	full         float64   // nanoseconds in which the journal was full, up to the last write that waited for it
	fullUntil    int64
}

// copying is a write on its way to the far array.
type copying struct{ since, safe, bytes int64 }

func newReplica(r *Replica) *replica {
	if r == nil {
		return nil
	}
	return &replica{
		there: int64(r.Kilometres * lightPerKilometre), service: int64(r.Service.Duration()),
		line:         server{perByte: perSecond(float64(r.Rate))},
		asynchronous: r.Mode == Asynchronous, journal: int64(r.Journal),
	}
}

// safe is when a write that leaves at a time is known to be safe over there: the line, there and
// back again, and the service in between.
func (r *replica) safe(at int64, bytes int) int64 {
	return r.line.pass(at, bytes) + 2*r.there + r.service
}

// replicate lets the near write of a job begin, and the far one beside it. A write that is copied
// later waits for nothing but room in the journal.
func (a *Array) replicate(n int32) {
	j := a.jobs.at(n)
	if a.far.asynchronous {
		at := a.far.admit(a.now, j.length)
		if at > a.now {
			a.spend(j, placeFar)
			a.after(at, n, stepNear)
			return
		}
		a.enter(n)
		return
	}
	j.step, j.level = stepWait, -1
	j.pending++
	a.events.add(a.far.safe(a.now, j.length), farAnswers, n)
	near := a.part(n, writes, j.offset, j.length)
	a.jobs.at(near).place = placeMembers
	a.enter(near)
}

// farAnswered takes the answer of the far array to a write, unless the line stopped meanwhile: then
// the write is sent once more.
func (a *Array) farAnswered(n int32) {
	if r := a.far; a.now < r.stoppedUntil {
		a.events.add(r.stoppedUntil+2*r.there+r.service, farAnswers, n)
		return
	}
	a.partDone(n, false)
}

// admit is when a write of so many bytes has room in the journal, behind those that came before.
func (r *replica) admit(now int64, bytes int) int64 {
	r.settle(now)
	at := max(now, r.admitted)
	for ; r.leaving < len(r.copies); r.leaving++ {
		c := r.copies[r.leaving]
		if c.safe > at && (r.journal == 0 || r.held+int64(bytes) <= r.journal) {
			break
		}
		at = max(at, c.safe)
		r.held -= c.bytes
	}
	if at > now && at > r.fullUntil {
		r.full += float64(at - max(now, r.fullUntil))
		r.fullUntil = at
	}
	r.admitted = at
	r.held += int64(bytes)
	r.behind += int64(bytes)
	r.copies = append(r.copies, copying{since: at, safe: r.safe(at, bytes), bytes: int64(bytes)})
	return at
}

// settle forgets the copies that are safe.
func (r *replica) settle(now int64) {
	for ; r.settled < len(r.copies) && r.copies[r.settled].safe <= now; r.settled++ {
		r.behind -= r.copies[r.settled].bytes
	}
	if done := min(r.settled, r.leaving); done > 64 && done > len(r.copies)/2 {
		r.copies = r.copies[:copy(r.copies, r.copies[done:])]
		r.settled, r.leaving = r.settled-done, r.leaving-done
	}
}

// lagging is how many bytes of what was let in are not safe over there. What still waits for room is
// not among them.
func (r *replica) lagging(now int64) int64 {
	r.settle(now)
	bytes := r.behind
	for i := len(r.copies) - 1; i >= r.settled && r.copies[i].since > now; i-- {
		bytes -= r.copies[i].bytes
	}
	return bytes
}

// lag is how long ago the oldest write came that is not safe over there.
func (r *replica) lag(now int64) quantity.Seconds {
	if r.settle(now); r.settled == len(r.copies) || r.copies[r.settled].since > now {
		return 0
	}
	return quantity.Seconds(float64(now-r.copies[r.settled].since) / 1e9)
}

// stop lets nothing over the line for a time.
func (r *replica) stop(now, length int64) {
	r.settle(now)
	r.line.freeAt = max(r.line.freeAt, float64(now)) + float64(length)
	for i := r.settled; i < len(r.copies); i++ {
		r.copies[i].safe += length
	}
	r.stoppedUntil = max(r.stoppedUntil, now) + length
}

// holdsBack is the time up to now in which the line held writes back: of one that is copied to
// later on, that in which the journal was full.
func (r *replica) holdsBack(now int64) float64 {
	if r.asynchronous {
		return r.full - float64(max(r.fullUntil-now, 0))
	}
	return r.busyUntil(now)
}

// busyUntil is the time up to now that the line carried something.
func (r *replica) busyUntil(now int64) float64 {
	stopped := max(float64(r.stoppedUntil-now), 0)
	return r.line.busy - max(r.line.freeAt-float64(now)-stopped, 0)
}

func (r *Replica) validate() error {
	switch {
	case r == nil:
		return nil
	case !slices.Contains([]ReplicaMode{"", Synchronous, Asynchronous}, r.Mode):
		return wrong("replica.mode", "%q; synchronous or asynchronous", r.Mode)
	case !(r.Kilometres >= 0) || r.Kilometres > 40_000 || !(r.Service >= 0) || !(r.Rate >= 0):
		return wrong("replica", "%g km with a service time of %s; distance and times are not negative, and the earth is 40 000 km around", r.Kilometres, r.Service)
	case r.Journal < 0 || r.Journal > 1<<50:
		return wrong("replica.journal", "%s; what may wait to be copied, up to 1 PiB", r.Journal)
	}
	return nil
}
