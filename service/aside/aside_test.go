package aside

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/storage/simulated"
)

// record is what is kept of the work of these tests.
type record struct {
	resource.Aside
	Done int
}

func works(k *Keeper) *Works[record] {
	return Of(k, "work", func(r *record) *resource.Aside { return &r.Aside })
}

var disks = array.Description{Members: []array.Group{{Count: 4, Medium: array.HardDisk, Capacity: 1e12}}, Layout: array.Layout{Level: array.Stripe}}

// lasting is a load that lasts so long.
func lasting(time quantity.Seconds) workload.Spec {
	load := workload.Default()
	load.For = time
	return load
}

// thrice simulates three short loads.
func thrice(ctx context.Context, job *Job[record]) error {
	for range 3 {
		if _, err := job.Simulate(ctx, disks, lasting(0.2), 0); err != nil {
			return err
		}
		job.Update(func(r *record) { r.Done++ })
	}
	return nil
}

func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal(what)
		}
	}
}

// While a run measures work waits, and goes on afterwards; one that waits can be stopped,
// and the newest are kept.
func TestWorkGivesWayToRuns(t *testing.T) {
	var measuring atomic.Bool
	measuring.Store(true)
	k := New(measuring.Load)
	defer k.Close()
	w := works(k)
	state := func(id int64) record {
		s, err := w.Get(id)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if _, err := w.Start(record{}, thrice); err != nil {
		t.Fatal(err)
	}
	until(t, "it does not wait", func() bool { return state(1).Waiting })
	if s := state(1); s.Done > 0 || s.Status != resource.Running {
		t.Errorf("%+v", s)
	}
	measuring.Store(false)
	until(t, "it does not go on", func() bool { return state(1).Status == resource.Finished })
	if s := state(1); s.Waiting || s.Done != 3 || s.Ended.IsZero() {
		t.Errorf("%+v", s)
	}
	measuring.Store(true)
	if _, err := w.Start(record{}, thrice); err != nil {
		t.Fatal(err)
	}
	until(t, "it does not wait", func() bool { return state(2).Waiting })
	if err := w.Stop(2); err != nil {
		t.Error(err)
	}
	until(t, "it does not stop", func() bool { return state(2).Status == resource.Stopped })
	measuring.Store(false)
	for id := int64(3); id < 12; id++ {
		if _, err := w.Start(record{}, thrice); err != nil {
			t.Fatal(err)
		}
		until(t, "it does not end", func() bool { return state(id).Status.Final() })
	}
	if all := w.List(); len(all) != mostKept || all[0].ID != 11 {
		t.Errorf("%d are kept: %+v", len(all), all)
	}
}

// A run that begins ends what is being simulated, however long that would take; the work
// waits, and simulates it anew afterwards.
func TestWhatIsSimulatedIsGivenUpForARun(t *testing.T) {
	var measuring atomic.Bool
	k := New(measuring.Load)
	defer k.Close()
	begun, one := 0, &Job[record]{works: works(k)}
	ended := make(chan error)
	go func() {
		_, err := k.whileQuiet(t.Context(), one.waiting, func(ctx context.Context) (measure.Summary, error) {
			k.mutex.Lock()
			begun++
			third := begun == 3
			k.mutex.Unlock()
			if third {
				return measure.Summary{}, nil
			}
			return simulated.Measure(ctx, disks, lasting(864_000), 0)
		})
		ended <- err
	}()
	is := func(what func() bool) func() bool {
		return func() bool {
			k.mutex.Lock()
			defer k.mutex.Unlock()
			return what()
		}
	}
	for nth := 1; nth < 3; nth++ {
		until(t, "it is not simulated", is(func() bool { return begun == nth && !one.record.Waiting }))
		measuring.Store(true)
		until(t, "it does not give way", is(func() bool { return one.record.Waiting }))
		measuring.Store(false)
	}
	if err := <-ended; err != nil || begun != 3 {
		t.Errorf("begun %d times, and ended with %v", begun, err)
	}
}

// Closing ends what is under way.
func TestClosingEndsIt(t *testing.T) {
	k := New(func() bool { return true })
	w := works(k)
	if _, err := w.Start(record{}, thrice); err != nil {
		t.Fatal(err)
	}
	k.Close()
	if s, err := w.Get(1); err != nil || s.Status != resource.Stopped {
		t.Errorf("%+v %v", s, err)
	}
}
