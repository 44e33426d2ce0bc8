package search

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/array"
	"patientheron/core/choose"
	"patientheron/core/measure"
	"patientheron/format/needfile"
	"patientheron/format/partsfile"
	"patientheron/resource"
	"patientheron/storage/simulated"
)

func asked(t *testing.T, long string) choose.Search {
	t.Helper()
	n, err := needfile.Read([]byte("name: n\nuses:\n  - {name: till, load: {block: 4KiB, depth: 8, span: 1GiB, for: " + long + "}, bounds: {iops: at least 100}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	p, err := partsfile.Read([]byte("name: p\nlevels: [raid5]\ndrives:\n  - {name: disk, price: 100, counts: [4, 6], members: {medium: hard disk, capacity: 1TB}}\n"))
	if err != nil {
		t.Fatal(err)
	}
	return choose.Search{Need: n, Parts: p}
}

func until(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); !is(); time.Sleep(5 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal(what)
		}
	}
}

// While a run measures a search waits, and goes on afterwards; one that waits can be stopped,
// and the newest are kept.
func TestASearchGivesWayToRuns(t *testing.T) {
	var measuring atomic.Bool
	measuring.Store(true)
	k := New(measuring.Load)
	defer k.Close()
	state := func(id int64) resource.Search {
		s, err := k.Get(id)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if _, err := k.Start(asked(t, "0.2s")); err != nil {
		t.Fatal(err)
	}
	until(t, "it does not wait", func() bool { return state(1).Waiting })
	if s := state(1); s.Progress.Done > 0 || s.Status != resource.Running {
		t.Errorf("%+v", s)
	}
	measuring.Store(false)
	until(t, "it does not go on", func() bool { return state(1).Status == resource.Finished })
	if s := state(1); s.Waiting || s.Chosen == nil || s.Ended.IsZero() {
		t.Errorf("%+v", s)
	}
	measuring.Store(true)
	if _, err := k.Start(asked(t, "0.2s")); err != nil {
		t.Fatal(err)
	}
	until(t, "it does not wait", func() bool { return state(2).Waiting })
	if err := k.Stop(2); err != nil {
		t.Error(err)
	}
	until(t, "it does not stop", func() bool { return state(2).Status == resource.Stopped })
	measuring.Store(false)
	for id := int64(3); id < 12; id++ {
		if _, err := k.Start(asked(t, "0.2s")); err != nil {
			t.Fatal(err)
		}
		until(t, "it does not end", func() bool { return state(id).Status.Final() })
	}
	if all := k.List(); len(all) != mostKept || all[0].ID != 11 || all[0].Chosen != nil {
		t.Errorf("%d are kept: %+v", len(all), all)
	}
}

// A run that begins ends what a search is simulating, however long that would take; the search
// waits, and simulates it anew afterwards.
func TestWhatIsSimulatedIsGivenUpForARun(t *testing.T) {
	var measuring atomic.Bool
	k := New(measuring.Load)
	defer k.Close()
	days := asked(t, "240h").Need.Uses[0].Load
	disks := array.Description{Members: []array.Group{{Count: 4, Medium: array.HardDisk, Capacity: 1e12}}, Layout: array.Layout{Level: array.Stripe}}
	begun, one := 0, &search{}
	ended := make(chan error)
	go func() {
		_, err := k.measure(t.Context(), one, func(ctx context.Context) (measure.Summary, error) {
			k.mutex.Lock()
			begun++
			third := begun == 3
			k.mutex.Unlock()
			if third {
				return measure.Summary{}, nil
			}
			return simulated.Measure(ctx, disks, *days, 0)
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
	if _, err := k.Start(asked(t, "0.2s")); err != nil {
		t.Fatal(err)
	}
	k.Close()
	if s, err := k.Get(1); err != nil || s.Status != resource.Stopped {
		t.Errorf("%+v %v", s, err)
	}
}
