package array

// eventKind is what happens at an event.
type eventKind uint8

const (
	eventIO       eventKind = iota // an operation reaches its next stage
	eventSub                       // a member operation completes
	eventDisk                      // a disk is ready for its next command
	eventFault                     // a fault strikes
	eventRebuild                   // the rebuild goes on
	eventRelocate                  // the tier looks for what to move, or moves the next piece
)

type event struct {
	at      int64
	order   uint64 // events of the same time happen in the order they were added
	subject int32
	kind    eventKind
}

func (e event) before(o event) bool { return e.at < o.at || e.at == o.at && e.order < o.order }

// schedule is a four-ary heap of events, shallow and without interfaces,
// because every simulated operation passes it several times.
type schedule struct {
	heap  []event
	added uint64
}

func (s *schedule) add(at int64, kind eventKind, subject int32) {
	s.added++
	e := event{at: at, order: s.added, subject: subject, kind: kind}
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

func (s *schedule) pop() event {
	first := s.heap[0]
	last := s.heap[len(s.heap)-1]
	s.heap = s.heap[:len(s.heap)-1]
	n := len(s.heap)
	if n == 0 {
		return first
	}
	i := 0
	for {
		child := i*4 + 1
		if child >= n {
			break
		}
		least := child
		for c := child + 1; c < min(child+4, n); c++ {
			if s.heap[c].before(s.heap[least]) {
				least = c
			}
		}
		if !s.heap[least].before(last) {
			break
		}
		s.heap[i] = s.heap[least]
		i = least
	}
	s.heap[i] = last
	return first
}
