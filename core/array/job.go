package array

// kind is what an operation does.
type kind uint8

const (
	reads kind = iota
	writes
	flushes // forces what was written to stable media
	trims   // gives a range back
	copies  // copies a range to another place, inside the array

	kinds = 5
)

// kindNames are what the kinds are called among the counters.
var kindNames = [kinds]string{"reads", "writes", "flushes", "trims", "copies"}

// purpose is what an operation is for.
type purpose uint8

const (
	forHost purpose = iota
	forNeighbour
	forParent
	forFetch   // of what a cache lacks
	forDestage // of a cache's dirty blocks
	forRebuild
	forRelocation
	forScrub
	forCopy     // of what a snapshot holds, or of the zeros around what is written first
	forGather   // of pieces of a stripe that were put together
	forSnapshot // which takes what caches hold with it
)

// job is one operation on one level of the array: the front, a cache, or what is
// behind the caches. What a level needs of those below is parts of its job; when
// the last of them is done, the level goes on with it.
type job struct {
	state
	second []piece // what a small write does after its reads
}

// state is all of a job but what it points to.
type state struct {
	offset  int64
	length  int
	tag     int    // of a host: what comes back with the answer; of the array's own: whose it is
	since   int64  // of a host: when it came to where it is
	stamp   uint64 // of a cache: what its blocks were when it went to fetch them
	parent  int32  // whose part it is
	pending int32  // parts of it that are out
	kind    kind
	purpose purpose
	step    step
	level   int8 // caches it has passed
	failed  bool
	refusal Refusal // of a zone
	lasting bool    // it counts only when it is where a power cut loses nothing
	host    int16
	path    int16 // that it came by
	place   int8  // of a host: where the time is spent that passes now
	stream  int32 // of writes to parity that it goes on with; 0 for none
}

func (j *job) end() int64 { return j.offset + int64(j.length) }

// step is what a job does next when its time has come.
type step uint8

const (
	stepArrive    step = iota // at the controller
	stepEnter                 // past the controller: go to the first level
	stepMembers               // member operations are under way
	stepWrite                 // the second phase of a small write is
	stepFetch                 // a cache fetches what it lacks
	stepCopy                  // the tier reads what it will write elsewhere
	stepTaken                 // what a write leaves of a unit is read
	stepWait                  // for something that calls it
	stepLeave                 // its level is done with it
	stepReturn                // past the line: at the initiator
	stepReply                 // the initiator has it
	stepOut                   // past the initiator's disk and slot
	stepHome                  // past the initiator's core, on the way to where it is wanted
	stepSend                  // the initiator sends it once more
	stepPaused                // the controller takes nothing for a while
	stepAllowed               // the volume's limits let it go on
	stepReduced               // past the processors that reduce what is written
	stepCopied                // what is to be copied is read
	stepCopyLands             // and past the way for that
	stepNear                  // it has room in the journal of the far copy
	stepOnLine                // past its window, on the way out
	stepLineBack              // and on the way back
	stepPast                  // its level lets it go on to the next
)

// jobs are kept in pages, so that a job stays where it is while others are made.
const pageBits = 8

type pool[T any] struct {
	pages []*[1 << pageBits]T
	idle  []int32
}

func (p *pool[T]) at(n int32) *T { return &p.pages[n>>pageBits][n&(1<<pageBits-1)] }

// take gives the number of one that is free. It holds what it held.
func (p *pool[T]) take() int32 {
	if len(p.idle) == 0 {
		first := int32(len(p.pages)) << pageBits
		p.pages = append(p.pages, new([1 << pageBits]T))
		for n := first + 1<<pageBits - 1; n >= first; n-- {
			p.idle = append(p.idle, n)
		}
	}
	n := p.idle[len(p.idle)-1]
	p.idle = p.idle[:len(p.idle)-1]
	return n
}

func (p *pool[T]) give(n int32) { p.idle = append(p.idle, n) }

// newJob makes a job of the array's own or of a host.
func (a *Array) newJob(k kind, p purpose, offset int64, length int) int32 {
	n := a.jobs.take()
	j := a.jobs.at(n)
	j.state = state{kind: k, purpose: p, offset: offset, length: length, parent: -1}
	if a.watch != nil {
		a.watch.born(n, -1)
	}
	return n
}

// part makes a part of a job, one level further down.
func (a *Array) part(parent int32, k kind, offset int64, length int) int32 {
	n := a.newJob(k, forParent, offset, length)
	a.under(n, parent)
	if a.watch != nil {
		a.watch.born(n, parent)
	}
	return n
}

// under lets a job wait for another one.
func (a *Array) under(n, parent int32) {
	j, above := a.jobs.at(n), a.jobs.at(parent)
	j.parent, j.level, j.host, j.lasting = parent, above.level+1, above.host, above.lasting
	above.pending++
}

// enter lets a job begin on its level.
func (a *Array) enter(n int32) {
	j := a.jobs.at(n)
	for len(a.neighbours) > 0 && int(j.level) < len(a.caches) && a.isElsewhere(j, a.caches[j.level]) {
		j.level++
	}
	if level := int(j.level); level < len(a.caches) {
		a.caches[level].enter(a, n)
		return
	}
	a.back(n)
}

// back is what is behind the caches: the processors that reduce what is written, if any,
// and then the rest.
func (a *Array) back(n int32) {
	j := a.jobs.at(n)
	if a.thin != nil && a.thin.reduced != nil && (j.kind == reads || j.kind == writes) {
		if at := a.thin.reduced.processors.pass(a.now, j.length); at > a.now {
			a.spend(j, placeReducing)
			a.after(at, n, stepReduced)
			return
		}
	}
	a.behind(n)
}

// behind is what is behind the caches and the processors.
func (a *Array) behind(n int32) {
	j := a.jobs.at(n)
	j.step = stepMembers
	j.pending++ // so that none completes the job while it is issued
	switch {
	case j.purpose == forSnapshot:
		a.thin.snap(a)
	case j.kind == flushes:
		a.flushMembers(n)
	case a.thin != nil:
		a.thin.plan(a, n)
	case j.kind == trims:
		a.giveBack(j.offset, j.end())
	default:
		a.below(n, j.kind, j.offset, j.offset, j.length)
	}
	a.partDone(n, false)
}

// below issues what reading or writing a range needs of the tier and the members: of
// the volume it is at one place, and lies at another.
func (a *Array) below(n int32, k kind, volume, place int64, length int) {
	if a.tier != nil {
		a.tier.plan(a, n, k, volume, place, length)
		return
	}
	a.layout.plan(a, n, k, volume, place, length)
}

// giveBack gives a range of places back to the tier and the members.
func (a *Array) giveBack(from, to int64) {
	if a.tier != nil {
		a.tier.trim(a, from, to)
		return
	}
	a.layout.trim(a, from, to)
}

// partDone counts down what a job waits for, and takes it on when nothing is left.
func (a *Array) partDone(n int32, failed bool) {
	j := a.jobs.at(n)
	j.failed = j.failed || failed
	if j.pending--; j.pending > 0 {
		return
	}
	switch j.step {
	case stepMembers:
		if len(j.second) == 0 {
			a.leave(n)
		} else if !j.failed {
			a.secondPhase(n)
		} else {
			for _, p := range j.second {
				a.members[p.member].waiting--
			}
			j.second = j.second[:0]
			a.leave(n)
		}
	case stepCopied:
		a.copied(n)
	case stepCopy:
		a.tier.writePiece(a, n)
	case stepTaken:
		a.thin.taken(a, n)
	default:
		a.leave(n)
	}
}

// secondPhase issues the writes of a small write.
func (a *Array) secondPhase(n int32) {
	j := a.jobs.at(n)
	j.step = stepWrite
	j.pending = 1
	for _, p := range j.second {
		a.issue(n, p)
	}
	j.second = j.second[:0]
	a.partDone(n, false)
}

// leave ends a job on its level and tells whoever it was for.
func (a *Array) leave(n int32) {
	j := a.jobs.at(n)
	if j.stream > 0 {
		a.gathering.done(a, j)
	}
	switch j.purpose {
	case forHost:
		a.reply(n)
		return
	case forParent, forFetch, forCopy:
		if j.purpose == forCopy {
			a.thin.copiedTo(a, *j)
		}
		if j.purpose == forFetch {
			a.caches[j.tag].fetched(a, n, j)
		}
		if j.parent < 0 { // nobody asked for it yet
			of := j.tag
			a.jobs.give(n)
			a.caches[of].prefetched(a, n)
			return
		}
		parent, failed := j.parent, j.failed
		if above := a.jobs.at(parent); above.purpose == forHost && above.level < 0 && above.kind == writes {
			above.place = j.place
			a.spend(above, placeFar) // the rest is the far copy's
		}
		a.jobs.give(n)
		a.partDone(parent, failed)
		return
	}
	done := *j
	a.jobs.give(n)
	switch done.purpose {
	case forNeighbour:
		a.answeredTo(done)
	case forDestage:
		a.caches[done.tag].destaged(a, done)
	case forRebuild:
		a.rebuildDone(done)
	case forScrub:
		a.scrubbed()
	case forRelocation:
		a.tier.moved(a, done.failed)
	case forGather:
		a.gathering.wrote(a, n, done.failed)
	case forSnapshot:
		if done.failed { // a cache lost what it was to pass on
			a.thin.snap(a)
		}
	}
}

// after lets a job take its next step at a time.
func (a *Array) after(at int64, n int32, next step) {
	a.jobs.at(n).step = next
	a.events.add(at, jobGoesOn, n)
}

// watcher is told where data goes; tests follow every byte with it.
type watcher interface {
	born(n, parent int32)
	// planned: a job reads or writes a range of the volume that lies at place on a
	// layout, by the pieces at once and those of the second phase.
	planned(n int32, l *layout, k kind, volume, place int64, length int, first, second []piece)
	kept(level int, n int32, offset int64, length int)   // a cache keeps bytes of a job
	served(level int, n int32, offset int64, length int) // a job is given bytes of a cache
	forgot(level int, offset int64, length int)          // a cache has them no more
	leaving(level int, n int32, offset int64, length int)
	packed(n, by int32, part unitPart)                               // a unit of what a job carries is what another one writes to the pool
	unpacked(n, by int32, part unitPart)                             // what a job read of the pool is given to another
	copied(n, read int32, by int64)                                  // a copy carries what one of its parts was given, so many bytes further on
	same(n int32, part unitPart)                                     // a unit that a job writes is the same as what lies somewhere
	landed(slot int32)                                               // of the tier, which holds zeros at first
	gathered(n, from int32, volume int64, length int)                // what a job carries is written by another
	zeroed(l *layout, member int, from, to int64)                    // a range of a member was given back
	moved(l *layout, stripe int64, column, to int, at, length int64) // a range of a column of a stripe is made anew on another member
	remade(l *layout, member int, at, length int64)                  // a range of a member that failed
	reached(member int, from, to int64)                              // a range of a disk is on the platter
}
