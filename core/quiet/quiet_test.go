package quiet

import (
	"runtime"
	"sync"
	"sync/atomic"
	"testing"
)

// All work is done once, side by side, and one after another where quiet is wanted, by whoever
// asks for it.
func TestSpread(t *testing.T) {
	var done [100]atomic.Int64
	work := make([]func(), len(done))
	for i := range work {
		work[i] = func() { done[i].Add(1) }
	}
	Spread(work)
	first, second := Ask(), Ask()
	first()
	first()
	if !Wanted() {
		t.Error("nobody wants quiet although one of two does")
	}
	here, elsewhere := goroutine(), 0
	Spread([]func(){func() {
		if goroutine() != here {
			elsewhere++
		}
	}})
	Spread(work)
	second()
	if Wanted() || elsewhere > 0 {
		t.Errorf("quiet is wanted: %t; %d pieces were done elsewhere", Wanted(), elsewhere)
	}
	for i := range done {
		if done[i].Load() != 2 {
			t.Errorf("piece %d was done %d times", i, done[i].Load())
		}
	}
}

// goroutine is what runtime writes of the one that calls.
func goroutine() string {
	text := make([]byte, 32)
	return string(text[:runtime.Stack(text, false)][:14])
}

func TestWhatPanicsThere(t *testing.T) {
	for _, quiet := range []bool{false, true} {
		func() {
			if quiet {
				defer Ask()()
			}
			defer func() {
				if recover() == nil {
					t.Errorf("quiet %t: it did not panic here", quiet)
				}
			}()
			var mu sync.Mutex
			Spread([]func(){func() { mu.Lock(); defer mu.Unlock(); panic("broken") }, func() {}})
		}()
	}
}
