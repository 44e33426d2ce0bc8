package access

import (
	"context"
	"errors"
	"sync"
	"time"
)

// Tries slows down whoever gives wrong tokens, by where they come from. After a few, each
// further try from there waits for its turn, and those turns come slowly; the right token is
// taken when its turn comes, so that nobody is locked out. Its zero value is ready.
type Tries struct {
	mu  sync.Mutex
	of  map[string]*tries
	now func() time.Time // time.Now but in tests
}

type tries struct {
	wrong   int
	since   time.Time
	waiting int
	next    time.Time // turn that is not taken yet
}

// How many wrong tries are free in a window, how far apart turns are then, how many may wait
// for one, and how many places are kept in mind.
const (
	freeTries   = 10
	tryWindow   = time.Minute
	turnEvery   = 100 * time.Millisecond
	mostWaiting = 20
	mostFrom    = 10_000
)

// ErrTooMany is given when too many tries from one place wait for their turn.
var ErrTooMany = errors.New("too many wrong tokens came from there; try again in some seconds")

func (t *Tries) clock() time.Time {
	if t.now != nil {
		return t.now()
	}
	return time.Now()
}

// Turn waits until a token from a place may be looked at.
func (t *Tries) Turn(ctx context.Context, from string) error {
	wait, err := t.take(from)
	if wait == 0 || err != nil {
		return err
	}
	defer t.leave(from)
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// take takes the next turn of a place, and tells how far off it is; it is none where the
// place has not given many wrong tokens lately.
func (t *Tries) take(from string) (wait time.Duration, err error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now, had := t.clock(), t.of[from]
	switch {
	case had == nil || now.Sub(had.since) >= tryWindow || had.wrong < freeTries:
		return 0, nil
	case had.waiting >= mostWaiting:
		return 0, ErrTooMany
	}
	if had.next.Before(now) {
		had.next = now
	}
	had.next = had.next.Add(turnEvery)
	had.waiting++
	return had.next.Sub(now), nil
}

func (t *Tries) leave(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if had := t.of[from]; had != nil && had.waiting > 0 {
		had.waiting--
	}
}

// Wrong counts a wrong try.
func (t *Tries) Wrong(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.clock()
	had := t.of[from]
	if had == nil {
		if len(t.of) >= mostFrom || t.of == nil {
			t.of = map[string]*tries{} // forgetting is better than filling memory
		}
		had = &tries{}
		t.of[from] = had
	}
	if now.Sub(had.since) >= tryWindow {
		had.wrong, had.since = 0, now
	}
	had.wrong++
}

// Right forgets the wrong tries of a place.
func (t *Tries) Right(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if had := t.of[from]; had != nil {
		had.wrong = 0
	}
}
