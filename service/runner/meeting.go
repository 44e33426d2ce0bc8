package runner

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"
)

// meeting lets the runs of a joint go through their measurements together. Each run goes
// through rounds, one after the other: it waits for its place in a round, does what
// belongs there, and ends it. A run by itself is a meeting of one, and waits for nobody.
type meeting struct {
	mu      sync.Mutex
	runs    []attendance
	starts  map[int]time.Time // of the rounds that all began at one moment
	last    int               // the round after which all end; noLast while nobody asked
	off     error             // why all end at once
	apart   bool              // none has to wait for its turn: what one does changes nothing for others
	changed chan struct{}     // closed at the next change
}

// attendance is how far a run of a meeting is.
type attendance struct {
	begun, ended int // rounds; gone when it has left
	ready        int // rounds in which it stood at the start
}

const (
	gone   = math.MaxInt
	noLast = math.MaxInt
)

// startsIn is how long before a common start it is told, so that all hear of it in time.
const startsIn = 10 * time.Millisecond

func newMeeting(runs int) *meeting {
	return &meeting{runs: make([]attendance, runs), starts: map[int]time.Time{}, last: noLast, changed: make(chan struct{})}
}

// order is who has a round when.
type order int

const (
	oneByOne  order = iota // in the order of the runs, one after the other
	backwards              // the other way round
	allAtOnce
)

// turnOf is the order of a measurement that is made in turn: to and fro, so that what
// drifts steadily falls on all runs alike and not on those that always come last.
func turnOf(position int) order {
	if position%2 == 0 {
		return backwards
	}
	return oneByOne
}

// attend waits for a run's place in its next round; waits is called once when it has to.
// Over is set when all end before that round.
func (m *meeting) attend(ctx context.Context, run int, o order, waits func()) (over bool, err error) {
	for first := true; ; first = false {
		m.mu.Lock()
		mine, changed := &m.runs[run], m.changed
		switch {
		case m.off != nil:
			m.mu.Unlock()
			return false, m.off
		case mine.ended >= m.last:
			m.mu.Unlock()
			return true, nil
		case m.free(run, o), m.apart && o != allAtOnce:
			mine.begun = mine.ended + 1
			m.tell()
			m.mu.Unlock()
			return false, nil
		}
		m.mu.Unlock()
		if first {
			waits()
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return false, context.Cause(ctx)
		}
	}
}

// free reports whether a run's place in its next round is free: all others have ended the
// round before, and those before it this one.
func (m *meeting) free(run int, o order) bool {
	round := m.runs[run].ended
	for i, other := range m.runs {
		before := o == oneByOne && i < run || o == backwards && i > run
		if i != run && (other.ended < round || before && other.ended <= round) {
			return false
		}
	}
	return true
}

// end ends the round of a run.
func (m *meeting) end(run int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.runs[run].ended = m.runs[run].begun
	m.tell()
}

// start waits at the start of a round that all have at once until every run stands there,
// or will not come, and gives the moment at which they begin.
func (m *meeting) start(ctx context.Context, run int) (time.Time, error) {
	m.mu.Lock()
	round := m.runs[run].begun
	m.runs[run].ready = round
	m.tell()
	for {
		missing := false
		for _, other := range m.runs {
			missing = missing || other.ready < round && other.ended < round
		}
		if !missing {
			break
		}
		changed := m.changed
		m.mu.Unlock()
		select {
		case <-changed:
		case <-ctx.Done():
			return time.Time{}, context.Cause(ctx)
		}
		m.mu.Lock()
	}
	defer m.mu.Unlock()
	if _, set := m.starts[round]; !set {
		clear(m.starts)
		m.starts[round] = time.Now().Add(startsIn)
	}
	return m.starts[round], nil
}

// leave takes a run out of the meeting: nobody waits for it any more. One that failed ends
// the meeting, because what is left would have nothing to stand beside.
func (m *meeting) leave(run int, failed error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.runs[run] = attendance{begun: gone, ended: gone, ready: gone}
	if failed != nil && m.off == nil {
		m.off = fmt.Errorf("a run that was made together with it failed: %w", failed)
	}
	m.tell()
}

// rest takes a run that has made all its measurements out of the meeting, and waits until
// all others have too: giving back what it used would be measured along.
func (m *meeting) rest(ctx context.Context, run int) {
	m.leave(run, nil)
	for {
		m.mu.Lock()
		changed, measuring := m.changed, m.off == nil && slices.ContainsFunc(m.runs, func(a attendance) bool { return a.ended != gone })
		m.mu.Unlock()
		if !measuring {
			return
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// endAfterRound ends the meeting after the round that is under way.
func (m *meeting) endAfterRound() {
	m.mu.Lock()
	defer m.mu.Unlock()
	begun := 0
	for _, r := range m.runs {
		if r.begun != gone {
			begun = max(begun, r.begun)
		}
	}
	m.last = min(m.last, begun)
	m.tell()
}

func (m *meeting) tell() {
	close(m.changed)
	m.changed = make(chan struct{})
}
