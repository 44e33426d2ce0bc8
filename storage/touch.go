package storage

import (
	"context"
	"errors"
	"sync"
)

// ErrNoAnswer is given when storage does not answer in time.
var ErrNoAnswer = errors.New("the volume does not answer")

// Touch calls work, which touches a file, a folder or a device that may hang in
// the kernel, and waits for it as long as ctx lives. Who touches the same thing
// for the same purpose meanwhile waits for the same call, so that what hangs
// costs one thread, however often it is asked for. What and purpose name the
// call; work must give the same for all who share it.
func Touch[T any](ctx context.Context, what, purpose string, work func() (T, error)) (T, error) {
	key := [2]string{what, purpose}
	calls.Lock()
	call, under := calls.way[key]
	if !under {
		call = &touching{done: make(chan struct{})}
		calls.way[key] = call
		go func() {
			call.value, call.err = work()
			calls.Lock()
			delete(calls.way, key)
			calls.Unlock()
			close(call.done)
		}()
	}
	calls.Unlock()
	var none T
	select {
	case <-call.done:
		if call.err != nil {
			return none, call.err
		}
		value, _ := call.value.(T) // a nil interface is of no type
		return value, nil
	case <-ctx.Done():
		return none, ErrNoAnswer
	}
}

// touching is a call under way, shared by all who wait for it.
type touching struct {
	done  chan struct{}
	value any
	err   error
}

var calls = struct {
	sync.Mutex
	way map[[2]string]*touching
}{way: map[[2]string]*touching{}}
