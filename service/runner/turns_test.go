package runner

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"
	"time"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

// disks is an array file of so many disks, as a volume of that number.
func disks(t *testing.T, folder string, id int64, count int) resource.Volume {
	t.Helper()
	path := filepath.Join(folder, fmt.Sprintf("%d-%d.yaml", id, count))
	text := fmt.Sprintf("members: {count: %d, medium: hard disk, capacity: 1TB}\nlayout: {level: raid0}\n", count)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return resource.Volume{ID: id, Name: fmt.Sprint(count), Locator: "array:" + path, Kind: "array"}
}

// simulated is a plan that takes about so many operations.
func simulated(time quantity.Seconds) plan.Plan {
	load := workload.Default()
	load.For, load.Span, load.Reads, load.Depth = time, 1<<34, 1, 32
	return plan.Plan{Stages: []plan.Stage{{Load: load}}}
}

// Runs on simulated arrays go beside each other, one a core. One on real storage waits for none of
// them, and while it is under way they pause. What they come to is what each comes to alone.
func TestSimulatedRunsGoBesideEachOtherAndPause(t *testing.T) {
	if runtime.GOMAXPROCS(0) < 2 {
		t.Skip("one core carries one at a time")
	}
	folder := t.TempDir()
	r := startOnArrays(t, folder)
	long := simulated(36_000) // virtual seconds: far longer than the rest of this test takes
	var simulations []int64
	for n := range 3 {
		run, err := submit(t, r, "long", disks(t, folder, int64(n+1), n+2), long)
		if err != nil {
			t.Fatal(err)
		}
		simulations = append(simulations, run.ID)
	}
	status := func(id int64) resource.Status {
		run, err := r.store.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return run.Status
	}
	until(t, "two at a time", func() bool {
		return status(simulations[0]) == resource.Running && status(simulations[1]) == resource.Running
	})
	if cores := runtime.GOMAXPROCS(0); cores == 2 && status(simulations[2]) != resource.Queued {
		t.Errorf("the third is %s on two cores", status(simulations[2]))
	}
	p := short()
	p.Stages[0].Load.For, p.Stages[0].Repeats = 1, 1
	real, err := submit(t, r, "real", resource.Volume{ID: 9, Name: "nothing", Locator: "null:1GiB", Kind: "null"}, p)
	if err != nil {
		t.Fatal(err)
	}
	until(t, "the real one goes on", func() bool { return status(real.ID) == resource.Running })
	until(t, "the simulated ones pause", func() bool {
		return status(simulations[0]) == resource.Waiting && status(simulations[1]) == resource.Waiting || status(real.ID).Final()
	})
	if got := status(real.ID); got != resource.Running {
		t.Errorf("nobody was seen to pause while the real one was under way, which is %s", got)
	}
	until(t, "they go on", func() bool {
		return status(simulations[0]) == resource.Running && status(simulations[1]) == resource.Running
	})
	for _, id := range simulations {
		if err := r.Stop(t.Context(), id, false); err != nil {
			t.Error(err)
		}
		if _, _, last := watched(t, r, id); last.Status != resource.Stopped {
			t.Errorf("%s: %s", last.Status, last.Reason)
		}
	}
}

// The same bytes come out beside each other as one after the other.
func TestBesideEachOtherTheSameBytes(t *testing.T) {
	folder := t.TempDir()
	come := func(atOnce bool) (all []string) {
		r := startOnArrays(t, folder)
		var runs []int64
		for n := range 4 {
			for range 2 {
				run, err := submit(t, r, "x", disks(t, folder, int64(n+1), n+2), simulated(20))
				if err != nil {
					t.Fatal(err)
				}
				runs = append(runs, run.ID)
				if !atOnce {
					watched(t, r, run.ID)
				}
			}
		}
		for _, id := range runs {
			_, _, last := watched(t, r, id)
			measurements, _, err := r.store.Measurements(t.Context(), id)
			if err != nil || last.Status != resource.Finished {
				t.Fatalf("%s: %s, %v", last.Status, last.Reason, err)
			}
			text, err := json.Marshal(measurements[0].Summary)
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, string(text))
		}
		return all
	}
	one, beside := come(false), come(true)
	for i := range one {
		if one[i] != beside[i] {
			t.Errorf("run %d differs:\n%s\n%s", i, one[i], beside[i])
		}
	}
}

func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(time.Minute); !is(); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%s: not within a minute", what)
		}
	}
}
