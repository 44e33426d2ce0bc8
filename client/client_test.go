package client_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service/servicetest"
)

func short() plan.Plan {
	load := workload.Default()
	load.For, load.Interval, load.Span = 0.3, 0.1, 1<<20
	return plan.Plan{Name: "short", Stages: []plan.Stage{{Load: load, Repeats: 1}}}
}

// The way of a run through the client: what goes in comes back.
func TestARunThroughTheClient(t *testing.T) {
	c, ctx := servicetest.Run(t), t.Context()
	volume, err := c.AddVolume(ctx, resource.NewVolume{Locator: "null:1GiB", Name: "nothing"})
	if err != nil || volume.Kind != "null" || volume.Writes != "kept nowhere" {
		t.Fatalf("%+v (%v)", volume, err)
	}
	run, err := c.StartRun(ctx, resource.NewRun{VolumeID: volume.ID, Plan: short()})
	if err != nil {
		t.Fatal(err)
	}
	points, last := 0, resource.Run{}
	err = c.Watch(ctx, run.ID, client.Watcher{
		Run:   func(r resource.Run) { last = r },
		Point: func(resource.Point) { points++ },
	})
	if err != nil || last.Status != resource.Finished || points < 3 {
		t.Fatalf("%s after %d points (%v)", last.Status, points, err)
	}
	detail, err := c.Run(ctx, run.ID)
	if err != nil || len(detail.Measurements) != 1 {
		t.Fatalf("%+v (%v)", detail, err)
	}
	m := detail.Measurements[0]
	series, err := c.Series(ctx, m.ID)
	if err != nil || len(series.Intervals) != 3 {
		t.Errorf("%d intervals (%v)", len(series.Intervals), err)
	}
	latency, err := c.Latency(ctx, m.ID, 0)
	if err != nil {
		t.Fatal(err)
	}
	counted := int64(0)
	for _, bar := range latency.Classes[measure.Read].Bars {
		counted += bar.Count
	}
	if counted != m.Summary.Total.Operations || counted == 0 {
		t.Errorf("%d operations in the bars, %d in the summary", counted, m.Summary.Total.Operations)
	}
	var document bytes.Buffer
	if err := c.Export(ctx, run.ID, "json", "summary", &document); err != nil {
		t.Fatal(err)
	}
	var exported resource.Export
	if err := json.Unmarshal(document.Bytes(), &exported); err != nil || exported.Format != resource.ExportFormat || len(exported.Measurements) != 1 {
		t.Errorf("%q with %d measurements (%v)", exported.Format, len(exported.Measurements), err)
	}
	if err := c.RemoveRun(ctx, run.ID); err != nil {
		t.Error(err)
	}
	if _, err := c.Run(ctx, run.ID); err == nil {
		t.Error("a deleted run is still there")
	}
}

// What a service refuses is an error with its words and its status; what is not a
// service says so.
func TestProblems(t *testing.T) {
	c := servicetest.Run(t)
	_, err := c.AddVolume(t.Context(), resource.NewVolume{Locator: "nfs://host/pool"})
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Status != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "not spoken yet") {
		t.Errorf("%v", err)
	}
	for name, handler := range map[string]http.HandlerFunc{
		"a page":     func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>hello")) },
		"a bad gate": func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "upstream", http.StatusBadGateway) },
		"half a page": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "500")
			_, _ = w.Write([]byte(`{"vol`))
		},
	} {
		server := httptest.NewServer(handler)
		if volumes, err := client.New(server.URL, "token", server.Client()).Volumes(t.Context()); err == nil {
			t.Errorf("%s: %+v", name, volumes)
		}
		server.Close()
	}
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := c.Volumes(ended); !errors.Is(err, context.Canceled) {
		t.Errorf("a call that was given up: %v", err)
	}
}

// A call that starts something and whose answer is lost on the way is sent again under the same
// key; one that only asks is not.
func TestALostAnswerIsAskedForAgain(t *testing.T) {
	var mutex sync.Mutex
	var keys []string
	lost := 2
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/api/v1/runs" {
			http.NotFound(w, r)
			return
		}
		text, _ := io.ReadAll(r.Body)
		mutex.Lock()
		defer mutex.Unlock()
		keys = append(keys, r.Header.Get("Idempotency-Key")+" "+string(text))
		if lost > 0 {
			lost--
			connection, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				t.Error(err)
				return
			}
			_ = connection.Close()
			return
		}
		_, _ = w.Write([]byte(`{"id": 7}`))
	}))
	defer server.Close()
	c := client.New(server.URL, "token", server.Client())
	run, err := c.StartRun(t.Context(), resource.NewRun{VolumeID: 1, Plan: short()})
	mutex.Lock()
	if err != nil || run.ID != 7 {
		t.Fatalf("%+v, %v, after %q", run, err, keys)
	}
	if len(keys) != 3 || keys[0] != keys[1] || keys[1] != keys[2] || len(strings.Fields(keys[0])[0]) < 20 {
		t.Errorf("sent: %q", keys)
	}
	keys, lost = nil, 9
	mutex.Unlock()
	_, err = c.StartRun(t.Context(), resource.NewRun{VolumeID: 1})
	mutex.Lock()
	defer mutex.Unlock()
	if !errors.Is(err, client.ErrUnreachable) || len(keys) > 9 {
		t.Errorf("for ever: %v, %d times", err, len(keys))
	}
}
