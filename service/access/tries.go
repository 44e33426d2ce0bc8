package access

import (
	"sync"
	"time"
)

// Tries limits how often an address may give a wrong token. Its zero value is
// ready.
type Tries struct {
	mu  sync.Mutex
	of  map[string]*tries
	now func() time.Time // time.Now but in tests
}

type tries struct {
	wrong int
	since time.Time
}

// How many wrong tries an address has in a window, and how many addresses are
// kept in mind.
const (
	wrongTries = 10
	tryWindow  = time.Minute
	mostFrom   = 10_000
)

func (t *Tries) clock() time.Time {
	if t.now != nil {
		return t.now()
	}
	return time.Now()
}

// Wait is how long an address has to wait before its next try; 0 for not at
// all.
func (t *Tries) Wait(from string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	now, had := t.clock(), t.of[from]
	if had == nil || now.Sub(had.since) >= tryWindow || had.wrong < wrongTries {
		return 0
	}
	return tryWindow - now.Sub(had.since)
}

// Wrong counts a wrong try.
func (t *Tries) Wrong(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.clock()
	had := t.of[from]
	if had == nil || now.Sub(had.since) >= tryWindow {
		if len(t.of) >= mostFrom || t.of == nil {
			t.of = map[string]*tries{} // forgetting is better than filling memory
		}
		had = &tries{since: now}
		t.of[from] = had
	}
	had.wrong++
}

// Right forgets the wrong tries of an address.
func (t *Tries) Right(from string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.of, from)
}
