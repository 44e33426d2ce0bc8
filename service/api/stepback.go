package api

import (
	"errors"
	"net/http"
	"runtime"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
	"golang.org/x/sys/unix"

	"patientheron/core/quiet"
	"patientheron/core/wall"
)

// heavy are the ends of paths behind which long series are read or much is worked out.
var heavy = []string{"/series", "/latency", "/export", "/report", "/shape", "/races", "/reach", "/efficiency", "/judge", "/predictions", "/guess", "/needed"}

// isHeavy reports a call that takes from the host what a measurement needs. Controlling a run is
// never one.
func isHeavy(r *http.Request) bool {
	path := r.URL.Path
	if strings.HasPrefix(path, prefix+"/comparisons") {
		return true
	}
	for _, end := range heavy {
		if strings.HasSuffix(path, end) {
			return true
		}
	}
	return strings.Contains(path, "/markers/")
}

// backseat is where heavy calls are answered while real storage is measured: one at a time, on a
// thread that the kernel gives only what nobody else wants.
type backseat struct {
	turn  chan struct{}
	extra sync.Once
}

func newBackseat() *backseat { return &backseat{turn: make(chan struct{}, 1)} }

// lowest is the nice value of a thread that steps back.
const lowest = 19

// stepBack answers heavy calls from the back seat while quiet is wanted.
func (b *backseat) stepBack(c *gin.Context) {
	if !quiet.Wanted() || !isHeavy(c.Request) {
		c.Next()
		return
	}
	select {
	case b.turn <- struct{}{}:
	case <-c.Request.Context().Done():
		c.Abort()
		return
	}
	defer func() { <-b.turn }()
	// A thread that steps back keeps one of the places that the runtime gives to threads; the
	// measurement must not wait for that.
	b.extra.Do(func() { runtime.GOMAXPROCS(runtime.GOMAXPROCS(0) + 1) })
	c.Writer = &letting{c.Writer, b.turn}
	var failed error
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer wall.Guard(&failed)
		runtime.LockOSThread() // and never unlock it: the thread ends with what it did
		_ = unix.Setpriority(unix.PRIO_PROCESS, unix.Gettid(), lowest)
		c.Next()
	}()
	<-done
	switch {
	case errors.Is(failed, http.ErrAbortHandler):
		panic(http.ErrAbortHandler)
	case failed != nil:
		panic(failed)
	}
}

// letting is a writer that lets others have their turn while a client takes what is written: a
// slow one keeps nobody waiting.
type letting struct {
	gin.ResponseWriter
	turn chan struct{}
}

func (w *letting) Write(data []byte) (int, error) {
	<-w.turn
	defer func() { w.turn <- struct{}{} }()
	return w.ResponseWriter.Write(data)
}

func (w *letting) WriteString(text string) (int, error) { return w.Write([]byte(text)) }
