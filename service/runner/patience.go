package runner

import (
	"context"
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
