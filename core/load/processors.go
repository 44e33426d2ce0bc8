package load

import (
	"runtime"
	"sync"
)

// processors are those of the Go runtime. It runs as many goroutines at a time,
// and a thread that waits in the kernel gives its processor to another. A worker
// that comes back from the kernel with a completion then waits until one is free,
// up to ten milliseconds behind a worker that does not go into the kernel, and
// counts that as latency of the storage. So each worker has one of its own while
// it measures, and the system alone decides which thread runs.
var processors struct {
	sync.Mutex
	holding int // measurements under way
	more    int // processors they added
	before  int // how many there were without
}

// holdProcessors adds processors for so many workers, and gives back what takes
// them away again. Both stop the process for some microseconds.
func holdProcessors(workers int) (giveBack func()) {
	change := func(by, workers int) {
		processors.Lock()
		defer processors.Unlock()
		if processors.holding == 0 {
			processors.before = runtime.GOMAXPROCS(0)
		}
		processors.holding += by
		processors.more += by * workers
		runtime.GOMAXPROCS(processors.before + processors.more)
	}
	change(1, workers)
	return sync.OnceFunc(func() { change(-1, workers) })
}
