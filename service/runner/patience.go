package runner

import (
	"context"
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
// virtual time on a busy host is a long series. Once the run is stopped, or the service ends, it
// may take as long as writing results does; what is not judged by then can be judged again.
func judging(ctx context.Context) (context.Context, context.CancelFunc) {
	own, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, func() { time.AfterFunc(recordPatience, cancel) })
	return own, func() { stop(); cancel() }
}

// patience is how long something that may hang in the kernel is waited for
// once the run is stopped.
const patience = time.Second
