// Package patient calls what may never answer: the kernel, about a file, a mount or
// a device whose storage is gone. Such a call cannot be taken back, and holds a
// thread of the process for as long as it hangs; here it holds one, however often
// the same is asked for, and whoever asks waits only as long as he wants to.
//
// Ask is for answers that all who ask may share. Own is for what belongs to the one
// who asked, such as an opened volume.
package patient

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"patientheron/core/wall"
)

// ErrNoAnswer is given when no answer came in time.
var ErrNoAnswer = errors.New("the volume does not answer")

// most is how many calls about one thing may be under way: each purpose asks anew,
// and some name in it what exactly they ask for.
const most = 8

// Ask calls work, which touches something that may hang, and waits for it as long
// as ctx lives. Who asks the same of the same thing meanwhile waits for the same
// call. Thing and question name the call; work must give the same for all who
// share it. The context that work is given ends when nobody waits for it any longer:
// what can be broken off, such as a session over a network, is, and what cannot goes on.
func Ask[T any](ctx context.Context, thing, question string, work func(context.Context) (T, error)) (T, error) {
	var none T
	for {
		one, err := begin(ctx, [2]string{thing, question}, func(ctx context.Context) (any, error) { return work(ctx) })
		if err != nil {
			return none, err
		}
		select {
		case <-one.done:
			if one.err != nil && one.broken {
				continue // because others had left
			}
			if one.err != nil {
				return none, one.err
			}
			value, _ := one.value.(T) // a nil interface is of no type
			return value, nil
		case <-ctx.Done():
			one.leave()
			return none, ErrNoAnswer
		}
	}
}

// call is a call under way, shared by all who wait for it.
type call struct {
	done     chan struct{}
	value    any
	err      error
	breakOff context.CancelFunc

	// Guarded by the lock of all calls.
	waiting int
	broken  bool // everybody had left once
}

// leave ends the wait of one of those who ask.
func (c *call) leave() {
	calls.Lock()
	defer calls.Unlock()
	if c.waiting--; c.waiting == 0 {
		c.broken = true
		c.breakOff()
	}
}

var calls = struct {
	sync.Mutex
	way   map[[2]string]*call
	about map[string]int           // calls under way about a thing
	room  map[string]chan struct{} // closed when one of them ends
}{way: map[[2]string]*call{}, about: map[string]int{}, room: map[string]chan struct{}{}}

// begin joins a call under way, or begins it when there are not too many about the
// same thing.
func begin(ctx context.Context, key [2]string, work func(context.Context) (any, error)) (*call, error) {
	thing := key[0]
	for {
		calls.Lock()
		if one, under := calls.way[key]; under {
			one.waiting++
			calls.Unlock()
			return one, nil
		}
		if calls.about[thing] < most {
			break
		}
		ended := calls.room[thing]
		if ended == nil {
			ended = make(chan struct{})
			calls.room[thing] = ended
		}
		calls.Unlock()
		select {
		case <-ended:
		case <-ctx.Done():
			return nil, ErrNoAnswer
		}
	}
	defer calls.Unlock()
	// What is known to the first who asks, such as who that is, holds for all; when it ends does not.
	until, breakOff := context.WithCancel(context.WithoutCancel(ctx))
	one := &call{done: make(chan struct{}), breakOff: breakOff, waiting: 1}
	calls.way[key] = one
	calls.about[thing]++
	go func() {
		one.err = wall.Do(func() (err error) {
			one.value, err = work(until)
			return err
		})
		breakOff()
		calls.Lock()
		defer calls.Unlock()
		delete(calls.way, key)
		if calls.about[thing]--; calls.about[thing] == 0 {
			delete(calls.about, thing)
		}
		if ended := calls.room[thing]; ended != nil {
			close(ended)
			delete(calls.room, thing)
		}
		close(one.done)
	}()
	return one, nil
}

// LeftError is given when a call was left behind. It wraps ErrNoAnswer, and the cause for
// which nobody waits any longer.
type LeftError struct {
	Cause error
	// Over is closed when the call has come back after all, and its result was seen to.
	Over <-chan struct{}
}

func (e *LeftError) Error() string { return fmt.Sprintf("%v: %v", ErrNoAnswer, e.Cause) }

// Unwrap gives both.
func (e *LeftError) Unwrap() []error { return []error{ErrNoAnswer, e.Cause} }

// Own calls work and waits for it, but after ctx ended only as long as grace: the
// call is then left behind with a LeftError, and late is given its result if it ever comes.
func Own[T any](ctx context.Context, grace time.Duration, work func() (T, error), late func(T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result)
	abandoned, over := make(chan struct{}), make(chan struct{})
	go func() {
		var value T
		err := wall.Do(func() (err error) {
			value, err = work()
			return err
		})
		select {
		case done <- result{value, err}:
		case <-abandoned:
			late(value, err)
			close(over)
		}
	}()
	select {
	case r := <-done:
		return r.value, r.err
	case <-ctx.Done():
	}
	timer := time.NewTimer(grace)
	defer timer.Stop()
	select {
	case r := <-done:
		return r.value, r.err
	case <-timer.C:
	}
	close(abandoned)
	var none T
	return none, &LeftError{context.Cause(ctx), over}
}
