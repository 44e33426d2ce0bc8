package array

// happening is what happens at an event.
type happening uint8

const (
	jobGoesOn     happening = iota // an operation reaches its next step
	partGoesOn                     // an operation of a member does
	lineIsFree                     // a command has crossed the interface of a drive
	diskIsFree                     // a disk is ready for its next command
	diskRests                      // a shingled disk may have been left alone
	farAnswers                     // the far copy of a write is safe
	faultComes                     // a fault happens
	rebuildOn                      // a rebuild goes on
	scrubOn                        // a scrub goes on
	tierLooks                      // the tier looks for what to move, or moves the next piece
	gatheringEnds                  // a piece of a stripe has waited for the rest
	snapshotComes                  // the next snapshot is due
	neighbourActs                  // a neighbour begins, or goes on
	destageOn                      // a cache looks for what has been dirty for long
)

type event struct {
	at      int64
	order   uint64 // events of the same time happen in the order they were added
	subject int32
	what    happening
}

func (e event) before(o event) bool { return e.at < o.at || e.at == o.at && e.order < o.order }

// schedule is a four-ary heap of events, shallow and without interfaces, because every
// simulated operation passes it several times. Most events bring another one about:
// the place of the one that was taken out last is kept free for it.
type schedule struct {
	heap  []event
	free  bool // the first place is
	added uint64
}

// next is when the next event is; false when there is none.
func (s *schedule) next() (at int64, some bool) {
	if s.free {
		s.free = false
		last := len(s.heap) - 1
		e := s.heap[last]
		if s.heap = s.heap[:last]; last > 0 {
			s.sink(e)
		}
	}
	if len(s.heap) == 0 {
		return 0, false
	}
	return s.heap[0].at, true
}

func (s *schedule) add(at int64, what happening, subject int32) {
	s.added++
	e := event{at: at, order: s.added, subject: subject, what: what}
	if s.free {
		s.free = false
		s.sink(e)
		return
	}
	s.heap = append(s.heap, e)
	i := len(s.heap) - 1
	for i > 0 {
		parent := (i - 1) / 4
		if !e.before(s.heap[parent]) {
			break
		}
		s.heap[i] = s.heap[parent]
		i = parent
	}
	s.heap[i] = e
}

// take takes the event out that next has announced.
func (s *schedule) take() event {
	s.free = true
	return s.heap[0]
}

// sink puts an event in the first place, down to where it belongs.
func (s *schedule) sink(e event) {
	h, i := s.heap, 0
	for {
		child := i*4 + 1
		if child >= len(h) {
			break
		}
		least := child
		for c := child + 1; c < min(child+4, len(h)); c++ {
			if h[c].before(h[least]) {
				least = c
			}
		}
		if !h[least].before(e) {
			break
		}
		h[i] = h[least]
		i = least
	}
	h[i] = e
}
