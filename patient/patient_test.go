package patient

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"
	"testing"
	"time"
)

// over is a context that has ended.
func over(t *testing.T) context.Context {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	return ctx
}

// Who asks for what another asks for already waits for the same call; what
// hangs costs one.
func TestTheSameIsAskedOnce(t *testing.T) {
	release := make(chan struct{})
	var begun atomic.Int32
	work := func(context.Context) (int, error) { begun.Add(1); <-release; return 7, nil }
	for range 100 {
		if _, err := Ask(over(t), "/dead/mount", "look", work); !errors.Is(err, ErrNoAnswer) {
			t.Fatal(err)
		}
	}
	answered := make(chan int)
	go func() {
		value, _ := Ask(t.Context(), "/dead/mount", "look", work)
		answered <- value
	}()
	close(release)
	if value := <-answered; value != 7 && begun.Load() == 1 {
		t.Errorf("the shared call gave %d", value)
	}
	if n := begun.Load(); n > 2 { // one, and another when the last came after its end
		t.Errorf("%d calls were begun", n)
	}
	if _, err := Ask(t.Context(), "a", "b", func(context.Context) (error, error) { return nil, nil }); err != nil {
		t.Error(err)
	}
}

// What can be broken off ends when the last who waits for it leaves, and not before; who asks
// meanwhile is not given the end of what others left, but an answer.
func TestACallEndsWithTheLastWhoWaits(t *testing.T) {
	begun, ended := make(chan bool, 8), make(chan bool, 8)
	work := func(ctx context.Context) (int, error) {
		begun <- true
		<-ctx.Done()
		ended <- true
		return 0, ctx.Err()
	}
	first, leave := context.WithCancel(t.Context())
	second, leaveToo := context.WithCancel(t.Context())
	left := make(chan error, 2)
	ask := func(ctx context.Context) { _, err := Ask(ctx, "10.0.0.1", "look", work); left <- err }
	go ask(first)
	<-begun
	go ask(second)
	waits := func(n int) {
		for end := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
			calls.Lock()
			waiting := calls.way[[2]string{"10.0.0.1", "look"}].waiting
			calls.Unlock()
			if waiting == n {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%d wait, not %d", waiting, n)
			}
		}
	}
	waits(2)
	leave()
	<-left
	waits(1)
	if len(ended) > 0 {
		t.Error("it ended while one waited for it")
	}
	leaveToo()
	<-left
	<-ended

	release := make(chan struct{})
	slow := func(ctx context.Context) (int, error) {
		begun <- true
		<-release
		return 5, ctx.Err()
	}
	if _, err := Ask(over(t), "10.0.0.1", "slow", slow); !errors.Is(err, ErrNoAnswer) {
		t.Fatal(err)
	}
	<-begun
	answered := make(chan int)
	go func() {
		value, err := Ask(t.Context(), "10.0.0.1", "slow", slow)
		if err != nil {
			t.Error(err)
		}
		answered <- value
	}()
	close(release)
	if value := <-answered; value != 5 {
		t.Errorf("who came after others had left was given %d", value)
	}
}

// Whatever is asked of a thing that hangs, it costs a handful of calls; others are
// not kept from theirs, and it is asked again once it answers.
func TestAThingThatHangsCostsAFewCalls(t *testing.T) {
	release := make(chan struct{})
	var begun atomic.Int32
	hang := func(context.Context) (int, error) { begun.Add(1); <-release; return 7, nil }
	for i := range 100 {
		if _, err := Ask(over(t), "/dead/mount", fmt.Sprint("check ", i), hang); !errors.Is(err, ErrNoAnswer) {
			t.Fatal(err)
		}
	}
	if n := begun.Load(); n > most {
		t.Errorf("%d calls were begun", n)
	}
	if value, err := Ask(t.Context(), "/other", "check", func(context.Context) (int, error) { return 3, nil }); value != 3 || err != nil {
		t.Errorf("another thing: %d, %v", value, err)
	}
	answered := make(chan error)
	go func() {
		_, err := Ask(t.Context(), "/dead/mount", "check 101", hang)
		answered <- err
	}()
	close(release)
	if err := <-answered; err != nil {
		t.Errorf("it answers again: %v", err)
	}
	for end := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		calls.Lock()
		left := len(calls.way) + len(calls.about) + len(calls.room)
		calls.Unlock()
		if left == 0 {
			break
		}
		if time.Now().After(end) {
			t.Fatalf("%d entries were left behind", left)
		}
	}
}

// What belongs to one is given back when he no longer waits for it.
func TestALateAnswerIsGivenBack(t *testing.T) {
	ctx, cancel := context.WithCancelCause(t.Context())
	reason := errors.New("stopped")
	cancel(reason)
	release, late := make(chan struct{}), make(chan int, 1)
	work := func() (int, error) { <-release; return 7, nil }
	if _, err := Own(ctx, time.Millisecond, work, func(value int, _ error) { late <- value }); !errors.Is(err, ErrNoAnswer) || !errors.Is(err, reason) {
		t.Errorf("gave up with %v", err)
	}
	close(release)
	if value := <-late; value != 7 {
		t.Errorf("late came %d", value)
	}
	if value, err := Own(ctx, time.Minute, func() (int, error) { return 5, nil }, nil); value != 5 || err != nil {
		t.Errorf("within its grace: %d, %v", value, err)
	}
}
