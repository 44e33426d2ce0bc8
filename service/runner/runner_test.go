package runner

import (
	"context"
	"database/sql"
	"errors"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"patientheron/core/fileset"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/core/workload/stores"
	"patientheron/resource"
	"patientheron/service/room"
	"patientheron/service/store"
	"patientheron/storage/volume"
)

func start(t *testing.T) *Runner { return startOn(t, filepath.Join(t.TempDir(), "heron.sqlite")) }

func startOn(t *testing.T, database string) *Runner {
	t.Helper()
	s, err := store.Open(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	r, err := Start(t.Context(), Options{Store: s, Room: room.Hold(filepath.Join(t.TempDir(), "reserve")), Log: slog.New(slog.DiscardHandler), Version: "test"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close(); s.Close() })
	return r
}

var nothing = resource.Volume{ID: 1, Name: "nothing", Locator: "null:1GiB", Kind: "null"}

// submit queues a run of a plan on one volume.
func submit(t *testing.T, r *Runner, name string, on resource.Volume, p plan.Plan) (resource.Run, error) {
	t.Helper()
	runs, err := r.Submit(t.Context(), Order{Name: name, Plan: p}, on)
	if err != nil {
		return resource.Run{}, err
	}
	return runs[0], nil
}

func short() plan.Plan {
	load := workload.Default()
	load.For, load.Interval, load.Span = 0.2, 0.1, 1<<20
	return plan.Plan{Stages: []plan.Stage{{Load: load, Repeats: 2, Settle: plan.Settle{Pause: 0.01}}}}
}

// watched follows a run to its end and gives what it was told.
func watched(t *testing.T, r *Runner, id int64) (statuses []resource.Status, points map[int64]int, last resource.Run) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	points = map[int64]int{}
	err := r.Watch(ctx, id, true, func(e Event) error {
		switch event := e.(type) {
		case resource.Run:
			last = event
			statuses = append(statuses, event.Status)
		case resource.Point:
			points[event.MeasurementID]++
		}
		return nil
	})
	if err != nil || ctx.Err() != nil {
		t.Fatalf("watch run %d: %v, %v", id, err, ctx.Err())
	}
	return statuses, points, last
}

func TestRunsAreCarriedOutInOrder(t *testing.T) {
	r := start(t)
	first, err := submit(t, r, "first", nothing, short())
	if err != nil {
		t.Fatal(err)
	}
	second, err := submit(t, r, "second", nothing, short())
	if err != nil {
		t.Fatal(err)
	}
	_, points, last := watched(t, r, second.ID)
	if last.Status != resource.Finished || len(points) == 0 {
		t.Errorf("second: %s: %s, %d measurements with points", last.Status, last.Reason, len(points))
	}
	before, err := r.store.Run(t.Context(), first.ID)
	if err != nil || before.Status != resource.Finished || before.Ended.After(*last.Started) {
		t.Errorf("the first ended at %v, the second began at %v (%v)", before.Ended, last.Started, err)
	}
	// Who watches a run that has ended is told all of its end state at once.
	statuses, points, _ := watched(t, r, first.ID)
	if len(statuses) != 1 || len(points) != 1 {
		t.Errorf("a finished run: statuses %v, points of %d measurements", statuses, len(points))
	}
}

func TestImpossibleVolumeFailsWithItsReason(t *testing.T) {
	r := start(t)
	run, err := submit(t, r, "x", resource.Volume{ID: 1, Locator: "/no/such/place", Kind: "folder"}, short())
	if err != nil {
		t.Fatal(err)
	}
	if _, _, last := watched(t, r, run.ID); last.Status != resource.Failed || last.Reason == "" {
		t.Errorf("%s: %q", last.Status, last.Reason)
	}
	if _, err := submit(t, r, "x", nothing, plan.Plan{}); !errors.Is(err, plan.ErrInvalid) {
		t.Errorf("an empty plan: %v", err)
	}
	if err := r.Stop(t.Context(), run.ID, false); !errors.Is(err, ErrFinal) {
		t.Errorf("stop a run that failed: %v", err)
	}
	if err := r.Stop(t.Context(), 99, false); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("stop no run: %v", err)
	}
}

// A run is told to have ended before the runner has turned from it.
func TestARunThatHasJustEndedIsNotStopped(t *testing.T) {
	r := start(t)
	for status, want := range map[resource.Status]error{resource.Running: nil, resource.Finished: ErrFinal} {
		e := newExecution(t.Context(), r, resource.Run{ID: 99, Status: status}, newMeeting(1), 0)
		r.mu.Lock()
		r.turns.groups = []*group{{runs: []*execution{e}, real: true}}
		r.mu.Unlock()
		if err := r.stop(t.Context(), 99, false); !errors.Is(err, want) {
			t.Errorf("stop a run that is %s: %v", status, err)
		}
		if asked := e.ctx.Err() != nil; asked != (want == nil) {
			t.Errorf("a run that is %s was asked to end: %t", status, asked)
		}
	}
}

func TestAWatcherThatDoesNotKeepUpIsLeft(t *testing.T) {
	f := newFeed()
	slow, quick, coarse := f.watch(1, true), f.watch(1, true), f.watch(1, false)
	for i := range 300 {
		f.send(1, resource.Point{MeasurementID: int64(i)})
		<-quick
	}
	received := 0
	for range slow {
		received++
	}
	if received != cap(slow) {
		t.Errorf("the slow watcher got %d events, its channel holds %d", received, cap(slow))
	}
	f.send(1, resource.Run{ID: 1})
	if event := <-coarse; event.(resource.Run).ID != 1 {
		t.Errorf("who asked for no points was sent %+v", event)
	}
	f.send(2, resource.Run{}) // nobody watches
}

// queued is a run as it waits in the store.
func queued() resource.Run {
	return resource.Run{Name: "waits", VolumeID: 1, Volume: nothing, Plan: short(), Status: resource.Queued}
}

func TestBuffersHaveToFitIntoMemory(t *testing.T) {
	load := workload.Default()
	load.Blocks, load.Depth, load.Workers = workload.Block(64<<20), 256, 4
	real := resource.Volume{Kind: "folder"}
	if err := fits(load, real, 64<<30); err != nil {
		t.Errorf("64 GiB for 64 GiB: %v", err)
	}
	err := fits(load, real, 10<<30)
	if !errors.Is(err, volume.ErrMemory) || !strings.Contains(err.Error(), "use depth 32") {
		t.Errorf("64 GiB in 10 GiB: %v", err)
	}
	load.Depth = 32
	if err := fits(load, real, 10<<30); err != nil {
		t.Errorf("what it said would fit: %v", err)
	}
	if err := fits(load, real, 1<<20); !errors.Is(err, volume.ErrMemory) || !strings.Contains(err.Error(), "fewer workers") {
		t.Errorf("no depth fits: %v", err)
	}
	keys := workload.Default()
	keys.Span = 4 << 30
	keys.SetBody(&stores.Stores{Count: 1, Requests: []stores.RequestShare{{Request: stores.PutRequest, Weight: 1}}, Value: fileset.Sizes{From: 50, To: 150}})
	if err := fits(keys.Completed(), real, 64<<20); !errors.Is(err, volume.ErrMemory) || !strings.Contains(err.Error(), "larger values") {
		t.Errorf("some ten million keys in 64 MiB: %v", err)
	}
	if err := fits(keys.Completed(), real, 1<<30); err != nil {
		t.Errorf("and in 1 GiB: %v", err)
	}
	load.Depth = 4096
	if err := fits(load, resource.Volume{Kind: "array"}, 256<<20); err != nil {
		t.Errorf("a simulated array: %v", err)
	}
}

// Whenever a run is stopped, before, while or after it is taken from the queue, it
// ends once, and the stop says what came of it.
func TestStopAtAnyMoment(t *testing.T) {
	r := start(t)
	for i := range 40 {
		run, err := submit(t, r, "stopped", nothing, short())
		if err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i%8) * 500 * time.Microsecond)
		var together sync.WaitGroup
		for n := range 3 {
			together.Go(func() {
				if err := r.Stop(t.Context(), run.ID, n == 2); err != nil && !errors.Is(err, ErrFinal) {
					t.Error(err)
				}
			})
		}
		together.Wait()
		if _, _, last := watched(t, r, run.ID); last.Status != resource.Stopped || last.Ended == nil {
			t.Errorf("%s: %s", last.Status, last.Reason)
		}
	}
	eventually(t, "nothing is measured any more", func() bool { return r.Measuring() == 0 })
}

// While the store does not answer, what needs no store does.
func TestNothingWaitsForTheStoreThatNeedsNone(t *testing.T) {
	path := filepath.Join(t.TempDir(), "heron.sqlite")
	r := startOn(t, path)
	long := short()
	long.Stages[0].Load.For = 60
	first, err := submit(t, r, "long", nothing, long)
	if err != nil {
		t.Fatal(err)
	}
	eventually(t, "it measures", func() bool {
		measurements, _, err := r.store.Measurements(t.Context(), first.ID)
		return err == nil && len(measurements) == 1 && r.Measuring() == first.ID
	})
	second, err := submit(t, r, "waits", nothing, short())
	if err != nil {
		t.Fatal(err)
	}
	other, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	locking, err := other.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := locking.ExecContext(t.Context(), "BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	stopped := make(chan error, 1)
	go func() { stopped <- r.Stop(t.Context(), second.ID, false) }() // has to write, and waits
	answered := make(chan struct{})
	go func() {
		_, _ = r.Trouble(), r.Measuring()
		if err := r.Stop(t.Context(), first.ID, false); err != nil { // only has to tell the run
			t.Error(err)
		}
		close(answered)
	}()
	select {
	case <-answered:
	case <-stopped:
		t.Error("the stop of a run that waits did not wait for the store")
	case <-time.After(2 * time.Minute):
		t.Error("nothing is answered while the store is locked")
	}
	if _, err := locking.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	if err := <-stopped; err != nil {
		t.Error(err)
	}
	if _, _, last := watched(t, r, first.ID); last.Status != resource.Stopped {
		t.Errorf("%s: %s", last.Status, last.Reason)
	}
}

// eventful is a volume that tells what happens to it.
type eventful struct {
	volume.Volume
	events chan volume.Event
}

func (v eventful) Events() <-chan volume.Event { return v.events }

// What a volume tells that happened to it is marked on the run's time axis.
func TestEventsBecomeMarkers(t *testing.T) {
	r := start(t)
	long := short()
	long.Stages[0].Load.For = 60
	run, err := submit(t, r, "long", nothing, long)
	if err != nil {
		t.Fatal(err)
	}
	var e *execution
	eventually(t, "it measures", func() bool {
		if e = r.execution(run.ID); e == nil {
			return false
		}
		e.asking.Lock()
		defer e.asking.Unlock()
		return e.at.measurement != 0
	})
	v := eventful{events: make(chan volume.Event)}
	e.listen(v)
	v.events <- volume.Event{What: volume.Lost, Words: "the path over 192.0.2.1"}
	v.events <- volume.Event{What: volume.Back, Words: "the path over 192.0.2.1"}
	eventually(t, "both are marked", func() bool {
		markers, err := r.store.Markers(t.Context(), run.ID)
		return err == nil && len(markers) == 2 && markers[0].Name == "lost: the path over 192.0.2.1" && markers[1].Name == "back: the path over 192.0.2.1" && markers[0].At > 0
	})
	if err := r.Stop(t.Context(), run.ID, false); err != nil {
		t.Fatal(err)
	}
	watched(t, r, run.ID)
	select { // nobody listens any more, and nobody need
	case v.events <- volume.Event{What: volume.Lost}:
		t.Error("an event was taken after the end")
	case <-time.After(50 * time.Millisecond):
	}
}

// eventually waits for what the runner is about to do.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	for end := time.Now().Add(2 * time.Minute); !is(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("%s: not after 20 s", what)
		}
	}
}
