package runner

import (
	"context"
	"fmt"
	"time"
)

// record is a context for writing results, which are kept even when the run
// is being stopped.
func record(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
}

// patience is how long something that may hang in the kernel is waited for
// once the run is stopped.
const patience = time.Second

// within calls work on a goroutine of its own and waits for it, but after ctx
// ended only as long as patience: the goroutine is then left behind, and late
// is called with its result if it ever comes.
func within[T any](ctx context.Context, work func() (T, error), late func(T, error)) (T, error) {
	type result struct {
		value T
		err   error
	}
	done := make(chan result)
	abandoned := make(chan struct{})
	go func() {
		value, err := work()
		select {
		case done <- result{value, err}:
		case <-abandoned:
			late(value, err)
		}
	}()
	wait := func(stop <-chan struct{}, timer <-chan time.Time) (result, bool) {
		select {
		case r := <-done:
			return r, true
		case <-stop:
		case <-timer:
		}
		return result{}, false
	}
	if r, ok := wait(ctx.Done(), nil); ok {
		return r.value, r.err
	}
	if r, ok := wait(nil, time.After(patience)); ok {
		return r.value, r.err
	}
	close(abandoned)
	var none T
	return none, fmt.Errorf("the volume does not answer: %w", context.Cause(ctx))
}
