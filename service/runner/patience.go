package runner

import (
	"context"
	"errors"
	"time"
)

// record is a context for writing results, which are kept even when the run
// is being stopped.
func record(ctx context.Context) (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.WithoutCancel(ctx), recordPatience)
}

// recordPatience is how long results may take to be written.
const recordPatience = 20 * time.Second

// judging is a context for judging what was measured, for as long as that takes: a month of
// virtual time on a busy host is a long series. The end of the service waits for as long as
// for results to be written.
func judging(ctx context.Context) (context.Context, context.CancelFunc) {
	own, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() {
		if errors.Is(context.Cause(ctx), errShutdown) {
			time.AfterFunc(recordPatience, cancel)
		}
	})
	return own, func() { stop(); cancel() }
}

// patience is how long something that may hang in the kernel is waited for
// once the run is stopped.
const patience = time.Second
