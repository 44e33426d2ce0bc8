// Package quiet lets work step back while real storage is measured: what is read and worked out
// meanwhile takes from the host what the measurement needs.
//
// Whoever measures says so with Ask; whoever works for people asks Wanted before it spreads
// over cores, or lets Spread decide.
package quiet

import (
	"errors"
	"runtime"
	"sync"
	"sync/atomic"

	"patientheron/core/wall"
)

var asked atomic.Int64 // by how many

// Ask asks for quiet until the function that it gives is called.
func Ask() (over func()) {
	asked.Add(1)
	return sync.OnceFunc(func() { asked.Add(-1) })
}

// Wanted reports whether somebody asked for quiet.
func Wanted() bool { return asked.Load() > 0 }

// Spread does independent work, as many pieces at a time as there are cores, and one after
// another where quiet is wanted. What panics there panics here.
func Spread(work []func()) {
	if Wanted() {
		for _, piece := range work {
			piece()
		}
		return
	}
	var next atomic.Int64
	var together sync.WaitGroup
	failed := make([]error, runtime.GOMAXPROCS(0))
	for core := range failed {
		together.Go(func() {
			defer wall.Guard(&failed[core])
			for i := next.Add(1) - 1; i < int64(len(work)); i = next.Add(1) - 1 {
				work[i]()
			}
		})
	}
	together.Wait()
	if err := errors.Join(failed...); err != nil {
		panic(err)
	}
}
