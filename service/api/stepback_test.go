package api

import (
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/gin-gonic/gin"
	"golang.org/x/sys/unix"

	"patientheron/core/quiet"
)

// While real storage is measured long answers are made one at a time on threads that step back;
// whoever takes one slowly keeps nobody waiting, and what controls a run never waits.
func TestReadersStepBack(t *testing.T) {
	var atOnce, most atomic.Int64
	var nices sync.Map
	release := make(chan struct{})
	router := gin.New()
	router.Use(gin.CustomRecoveryWithWriter(nil, func(c *gin.Context, problem any) { c.AbortWithStatus(http.StatusInternalServerError) }), newBackseat().stepBack)
	nice := func() int {
		priority, err := unix.Getpriority(unix.PRIO_PROCESS, unix.Gettid())
		if err != nil {
			t.Error(err)
		}
		return 20 - priority // as the kernel gives it
	}
	router.GET("/api/v1/measurements/:id/series", func(c *gin.Context) {
		most.Store(max(most.Load(), atOnce.Add(1)))
		nices.Store(nice(), true)
		atOnce.Add(-1)
		c.String(http.StatusOK, "series")
	})
	router.GET("/api/v1/runs/:id/shape", func(*gin.Context) { panic("broken") })
	router.GET("/api/v1/runs/:id/export", func(c *gin.Context) {
		c.Stream(func(w io.Writer) bool {
			_, _ = w.Write(make([]byte, 64<<20)) // more than any buffer takes
			return false
		})
	})
	router.POST("/api/v1/runs/:id/stop", func(c *gin.Context) { nices.Store(100+nice(), true) })
	server := httptest.NewServer(router)
	defer server.Close()
	get := func(path string) int {
		response, err := http.Get(server.URL + "/api/v1" + path)
		if err != nil {
			t.Error(err)
			return 0
		}
		defer response.Body.Close()
		_, _ = io.Copy(io.Discard, response.Body)
		return response.StatusCode
	}
	over := quiet.Ask()
	defer over()
	slow, err := http.Get(server.URL + "/api/v1/runs/1/export") // and nothing of it is read for now
	if err != nil {
		t.Fatal(err)
	}
	go func() { <-release; _, _ = io.Copy(io.Discard, slow.Body); slow.Body.Close() }()
	var readers sync.WaitGroup
	for range 20 {
		readers.Go(func() {
			if status := get("/measurements/1/series"); status != http.StatusOK {
				t.Errorf("status %d", status)
			}
		})
	}
	readers.Wait()
	close(release)
	if _, stepped := nices.Load(lowest); !stepped || most.Load() != 1 {
		t.Errorf("%d at once", most.Load())
	}
	if status := get("/runs/1/shape"); status != http.StatusInternalServerError {
		t.Errorf("a panic gives %d", status)
	}
	if response, err := http.Post(server.URL+"/api/v1/runs/1/stop", "", nil); err != nil || response.StatusCode != http.StatusOK {
		t.Error(err)
	} else {
		response.Body.Close()
	}
	if _, stepped := nices.Load(100 + lowest); stepped {
		t.Error("a run is stopped from the back seat")
	}
	over()
	nices.Clear()
	get("/measurements/1/series")
	if _, stepped := nices.Load(lowest); stepped {
		t.Error("it steps back although nothing is measured")
	}
}
