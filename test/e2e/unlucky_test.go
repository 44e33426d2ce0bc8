package e2e

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/service/store"
)

// until polls a condition for at most half a minute.
func until(t *testing.T, what string, condition func() bool) {
	t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); !condition(); {
		if time.Now().After(deadline) {
			t.Fatalf("%s: it did not come to that", what)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// filled takes all the room of a folder's file system, and gives what frees it.
func filled(t *testing.T, folder string) (free func()) {
	t.Helper()
	hog := filepath.Join(folder, "hog")
	// The last blocks go one by one, so that not even a page is left.
	_ = exec.Command("dd", "if=/dev/zero", "of="+hog, "bs=1M", "status=none").Run()
	_ = exec.Command("dd", "if=/dev/zero", "of="+hog+"2", "bs=4096", "status=none").Run()
	return func() { os.Remove(hog); os.Remove(hog + "2") }
}

// The data folder runs full in mid-run: nothing is lost. It is full at the end:
// the run ends in a true state all the same. It stays full: what waits goes on
// waiting, quietly, and says why.
func TestDataFolderRunsFull(t *testing.T) {
	t.Parallel()
	folder := mounted(t, loopDevice(t, 160<<20), "mkfs.ext4", "-q", "-m", "0")
	data := filepath.Join(folder, "data")
	s := serve(t, data, false)
	volume := s.volume("null:1TiB", nil)
	long := onePlan(spec(func(w *workload.Spec) { w.For, w.Interval = 8, 0.1 }))
	id := s.begun(volume, long)
	free := filled(t, folder)
	until(t, "the store is out of order", func() bool { return strings.Contains(s.said(), "held and tried again") })
	time.Sleep(3 * time.Second)
	free()
	detail := s.finished(id)
	series, err := s.Series(t.Context(), detail.Measurements[0].ID)
	if err != nil || detail.Status != resource.Finished || len(series.Intervals) != 80 {
		t.Fatalf("full for three seconds: %s: %s, %d intervals (%v)", detail.Status, detail.Reason, len(series.Intervals), err)
	}
	goesOn(t, series)

	id = s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.For, w.Interval = 4, 0.1 })))
	free = filled(t, folder)
	detail = s.finished(id)
	if !detail.Status.Final() || detail.Status == resource.Finished && detail.Measurements[0].Summary == nil || detail.Status == resource.Failed && !strings.Contains(detail.Reason, "no room") {
		t.Errorf("full at the end: %s: %s, %+v", detail.Status, detail.Reason, detail.Measurements)
	}
	t.Logf("full at the end: %s %s", detail.Status, detail.Reason)
	again := filled(t, folder) // what the reserve gave back
	before := len(s.said())
	_, err = s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil))})
	if err == nil || !strings.Contains(err.Error(), "make room") {
		// There may be just room for the record of a run that waits.
		until(t, "it says why it waits", func() bool {
			about, err := s.About(t.Context())
			return err == nil && strings.Contains(about.Trouble, "make room")
		})
	}
	time.Sleep(3 * time.Second)
	if grown := len(s.said()) - before; grown > 10_000 {
		t.Errorf("the log grew by %d bytes meanwhile", grown)
	}
	if _, err := s.AddVolume(t.Context(), resource.NewVolume{Locator: "null:2TiB"}); err != nil && strings.Contains(err.Error(), "is registered") {
		t.Errorf("wrong advice: %v", err)
	}
	free()
	again()
	if detail := s.measured(volume, onePlan(spec(nil))); detail.Status != resource.Finished {
		t.Errorf("after all: %s: %s", detail.Status, detail.Reason)
	}
}

// Another program locks the store for eight seconds in mid-run: the load goes on
// as if nothing were, and every interval is kept.
func TestStoreLockedInMidRun(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := serve(t, data, false)
	id := s.begun(s.volume("null:1TiB", nil), onePlan(spec(func(w *workload.Spec) { w.For, w.Interval, w.Workers = 10, 0.1, 2 })))
	until(t, "it measures", func() bool {
		detail, err := s.Run(t.Context(), id)
		return err == nil && len(detail.Measurements) == 1
	})
	other, err := sql.Open("sqlite", filepath.Join(data, "heron.sqlite")+"?_pragma=busy_timeout(5000)")
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
	time.Sleep(8 * time.Second)
	if _, err := locking.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
	detail := s.finished(id)
	if detail.Status != resource.Finished {
		t.Fatalf("%s: %s", detail.Status, detail.Reason)
	}
	series, err := s.Series(t.Context(), detail.Measurements[0].ID)
	if err != nil || len(series.Intervals) != 100 {
		t.Fatalf("%d intervals of 100 (%v)", len(series.Intervals), err)
	}
	goesOn(t, series)
}

// goesOn holds a series to having all its intervals, and operations in them: but for one in
// ten, in which a busy machine may have had no core for the load.
func goesOn(t *testing.T, series resource.Series) {
	t.Helper()
	empty := 0
	for i, interval := range series.Intervals {
		if interval.Index != i {
			t.Errorf("interval %d has number %d", i, interval.Index)
		}
		if interval.Moved().Operations == 0 {
			empty++
		}
	}
	if empty > len(series.Intervals)/10 {
		t.Errorf("%d of %d intervals are empty", empty, len(series.Intervals))
	}
}

// reported are the measurements that the service said are finished.
type reported struct {
	mu  sync.Mutex
	all map[int64]resource.Measurement
}

func (r *reported) add(m resource.Measurement) {
	if m.Status == resource.Finished {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.all[m.ID] = m
	}
}

func (r *reported) ids() (ids []int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id := range r.all {
		ids = append(ids, id)
	}
	return ids
}

// many is a plan of many short measurements.
func many() plan.Plan {
	return plan.Plan{Stages: []plan.Stage{{Load: spec(func(w *workload.Spec) { w.For, w.Interval = 0.1, 0.1 }), Repeats: 100}}}
}

// drills is how often something is done, or as often as HERON_DRILLS says.
func drills(otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv("HERON_DRILLS")); err == nil {
		return n
	}
	return otherwise
}

// Power cuts: copies of the disk at random moments, made at one moment each by
// the file system below, hold every measurement that was reported finished until
// then. What the kernel had not written yet is not in them.
func TestPowerCuts(t *testing.T) {
	t.Parallel()
	under := mounted(t, loopDevice(t, 3<<30), "mkfs.xfs", "-q", "-m", "reflink=1")
	disk := filepath.Join(under, "disk")
	ok(t, os.WriteFile(disk, nil, 0o600), os.Truncate(disk, 128<<20))
	folder := mounted(t, loopOver(t, disk), "mkfs.ext4", "-q")
	s := serve(t, filepath.Join(folder, "data"), false)
	volume := s.volume("null:1TiB", nil)
	said := &reported{all: map[int64]resource.Measurement{}}
	watching := make(chan struct{})
	begin := func() int64 {
		run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: many()})
		ok(t, err)
		return run.ID
	}
	first := begin()
	for range 4 {
		begin()
	}
	go func() {
		defer close(watching)
		for id := first; id < first+5; id++ {
			_ = s.Watch(t.Context(), id, client.Watcher{Measurement: said.add})
		}
	}()
	type cut struct {
		image string
		until []int64
	}
	var cuts []cut
	for i := range drills(50) {
		time.Sleep(time.Duration(rand.IntN(500)) * time.Millisecond)
		c := cut{fmt.Sprintf("%s-%d", disk, i), said.ids()}
		must(t, "cp", "--reflink=always", disk, c.image)
		cuts = append(cuts, c)
	}
	s.end(syscall.SIGKILL)
	<-watching
	checked, missing := 0, 0
	for _, c := range cuts {
		func() {
			device := must(t, "losetup", "--find", "--show", c.image)
			defer func() { must(t, "losetup", "--detach", device) }()
			point := t.TempDir()
			must(t, "mount", device, point)
			defer unmount(t, point)
			kept, err := store.Open(t.Context(), filepath.Join(point, "data", "heron.sqlite"))
			ok(t, err)
			defer kept.Close()
			for _, id := range c.until {
				checked++
				m, err := kept.Measurement(t.Context(), id)
				series, seriesErr := kept.Intervals(t.Context(), id)
				if err != nil || seriesErr != nil || !reflect.DeepEqual(m, said.all[id]) || len(series) == 0 {
					missing++
				}
			}
		}()
	}
	if missing > 0 || checked < 100 {
		t.Errorf("%d of %d measurements reported finished are missing after %d power cuts", missing, checked, len(cuts))
	}
	t.Logf("%d measurements in %d power cuts", checked, len(cuts))
}

// Killed at any moment, the service comes back with every measurement that it
// reported finished, bit for bit, and with no run that claims to go on.
func TestKilledAgainAndAgain(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	said := &reported{all: map[int64]resource.Measurement{}}
	for range drills(25) {
		s := serve(t, data, false)
		volumes, err := s.Volumes(t.Context())
		ok(t, err)
		if len(volumes) == 0 {
			volumes = append(volumes, s.volume("null:1TiB", nil))
		}
		run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volumes[0].ID, Plan: many()})
		ok(t, err)
		page, err := s.Runs(t.Context(), 0, 500)
		ok(t, err)
		for _, r := range page.Runs {
			if r.ID < run.ID && !r.Status.Final() && r.Status != resource.Queued {
				t.Errorf("run %d of a service that was killed is %s", r.ID, r.Status)
			}
		}
		watching := make(chan struct{})
		go func() {
			defer close(watching)
			_ = s.Watch(t.Context(), run.ID, client.Watcher{Measurement: said.add})
		}()
		time.Sleep(time.Duration(200+rand.IntN(600)) * time.Millisecond)
		s.end(syscall.SIGKILL)
		<-watching
	}
	s := serve(t, data, false)
	for id, m := range said.all {
		series, err := s.Series(t.Context(), id)
		detail, detailErr := s.Run(t.Context(), m.RunID)
		ok(t, err, detailErr)
		if kept := detail.Measurements[m.Position-1]; !reflect.DeepEqual(kept, m) || len(series.Intervals) == 0 {
			t.Errorf("measurement %d was reported as\n%+v\nand is kept as\n%+v", id, m, kept)
		}
	}
	if len(said.all) < 5 {
		t.Errorf("only %d measurements were finished", len(said.all))
	}
	t.Logf("%d finished measurements came back", len(said.all))
}

// Reading with --here carries nothing out and changes no run.
func TestReadingRunsNothing(t *testing.T) {
	data := t.TempDir()
	s := serve(t, data, false)
	volume := s.volume("null:1TiB", nil)
	s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.For = 600 })))
	waiting, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil))})
	ok(t, err)
	s.end(syscall.SIGKILL)
	for _, command := range [][]string{{"run", "list"}, {"run", "show", "2"}, {"volume", "list"}, {"run", "export", "1"}, {"comparison", "list"}} {
		if _, trouble, err := runHeron(t, append([]string{"--here", "--data", data}, command...)...); err != nil {
			t.Errorf("%v: %s", command, trouble)
		}
	}
	// One that measures carries out its own run, and leaves the other waiting.
	if _, trouble, err := runHeron(t, "--here", "--data", data, "measure", "null:1TiB", "--for", "200ms", "--interval", "100ms"); err != nil {
		t.Errorf("measure: %s", trouble)
	}
	out, _, err := runHeron(t, "--here", "--data", data, "run", "list", "--json")
	if err != nil || strings.Count(out, `"status": "queued"`) != 1 || strings.Count(out, `"status": "finished"`) != 1 || strings.Count(out, `"status": "interrupted"`) != 1 {
		t.Errorf("%v: %s", err, out)
	}
	if run := serve(t, data, false).finished(waiting.ID); run.Status != resource.Finished {
		t.Errorf("the run that waited is %s: %s", run.Status, run.Reason)
	}
}

// What became a FIFO answers nobody: no call waits for it, no run, and not the
// end of the service.
func TestFIFOInPlaceOfAFile(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	array := filepath.Join(t.TempDir(), "plain.yaml")
	ok(t, os.WriteFile(array, []byte("members: {count: 4, medium: ssd, capacity: 1TB}\nlayout: {level: raid10}\n"), 0o600))
	file := blankFile(t)
	ofArray, ofFile := s.volume("array:"+array, nil), s.volume(file, nil)
	for _, path := range []string{array, file} {
		ok(t, os.Remove(path), unix.Mkfifo(path, 0o600))
	}
	for _, volume := range []resource.Volume{ofArray, ofFile} {
		if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil))}); err == nil {
			t.Errorf("%s was measured", volume.Locator)
		}
		if look, err := s.Look(t.Context(), volume.Locator, client.Asked{}); err != nil || look.Took > 5 {
			t.Errorf("a look took %v (%v)", look.Took, err)
		}
	}
	if volumes, err := s.Volumes(t.Context()); err != nil || len(volumes) != 2 || volumes[0].Trouble == "" {
		t.Errorf("%+v, %v", volumes, err)
	}
	if run := s.measured(s.volume("null:1TiB", nil), onePlan(spec(nil))); run.Status != resource.Finished {
		t.Errorf("another run is %s: %s", run.Status, run.Reason)
	}
	s.ends(t, syscall.SIGTERM)
}

// ends makes sure that a signal ends the service by itself, soon and well.
func (s *service) ends(t *testing.T, signal syscall.Signal) {
	t.Helper()
	ok(t, s.process.Process.Signal(signal))
	ended := make(chan error, 1)
	go func() { ended <- s.process.Wait() }()
	select {
	case err := <-ended:
		if err != nil {
			t.Errorf("%v ends it with %v", signal, err)
		}
	case <-time.After(time.Minute):
		t.Errorf("%v does not end it", signal)
		_ = s.process.Process.Kill()
		<-ended
	}
}

// A terminal that hangs up ends the service as Ctrl-C does: what was measured is
// kept with its summary.
func TestHangUp(t *testing.T) {
	data := t.TempDir()
	s := serve(t, data, false)
	id := s.begun(s.volume("null:1TiB", nil), onePlan(spec(func(w *workload.Spec) { w.For = 600 })))
	s.ends(t, syscall.SIGHUP)
	detail, err := serve(t, data, false).Run(t.Context(), id)
	if err != nil || detail.Status != resource.Interrupted || detail.Measurements[0].Summary == nil {
		t.Errorf("%s: %+v (%v)", detail.Status, detail.Measurements, err)
	}
}
