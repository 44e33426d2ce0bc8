package runner

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"patientheron/core/measure"
	"patientheron/service/room"
	"patientheron/service/store"
)

// ledger is where a recorder writes to, out of order from time to time.
type ledger struct {
	mu      sync.Mutex
	written []int
	writes  int
	broken  error
}

func (l *ledger) write(_ context.Context, batch []measure.Interval) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.broken != nil {
		return l.broken
	}
	l.writes++
	for _, i := range batch {
		l.written = append(l.written, i.Index)
	}
	return nil
}

func (l *ledger) breaks(err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.broken = err
}

var discarding = slog.New(slog.DiscardHandler)

func none() bool { return false }

// A store that is out of order for a while loses nothing and holds nobody up.
func TestIntervalsAreHeldWhileTheyCannotBeWritten(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &ledger{}
		r := newRecorder(discarding, nil, none, l.write)
		for i := range 1000 {
			switch i {
			case 100:
				l.breaks(store.ErrFull)
			case 500:
				l.breaks(nil)
			}
			before := time.Now()
			r.keep(measure.Interval{Index: i})
			if time.Since(before) > 0 {
				t.Fatal("keeping waits")
			}
			time.Sleep(100 * time.Millisecond)
		}
		if err := r.end(); err != nil {
			t.Fatal(err)
		}
		for i, index := range l.written {
			if i != index {
				t.Fatalf("interval %d was written in place %d", index, i)
			}
		}
		if len(l.written) != 1000 || l.writes > 220 {
			t.Errorf("%d intervals were kept in %d writes", len(l.written), l.writes)
		}
	})
}

// What can never be written is said, not passed over; the reserve of room is
// given up for it.
func TestLostIntervalsFailTheMeasurement(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &ledger{broken: store.ErrFull}
		r := newRecorder(discarding, nil, none, l.write)
		r.keep(measure.Interval{})
		began := time.Now()
		if err := r.end(); !errors.Is(err, store.ErrFull) {
			t.Errorf("lost without a word: %v", err)
		}
		if took := time.Since(began); took < holding || took > holding+2*lastPause {
			t.Errorf("it was held for %v", took)
		}
		released := 0
		r = newRecorder(discarding, nil, func() bool { released++; l.breaks(nil); return released == 1 }, l.write)
		l.breaks(store.ErrFull)
		r.keep(measure.Interval{Index: 5})
		if err := r.end(); err != nil || released != 1 || len(l.written) != 1 {
			t.Errorf("with the reserve: %v, released %d times, wrote %v", err, released, l.written)
		}
		// Another takes what the reserve gave back: it ends all the same.
		l.breaks(store.ErrFull)
		released = 0
		r = newRecorder(discarding, nil, func() bool { released++; return released == 1 }, l.write)
		r.keep(measure.Interval{})
		began = time.Now()
		if err := r.end(); !errors.Is(err, store.ErrFull) || time.Since(began) > holding+3*lastPause {
			t.Errorf("the reserve did not help: %v after %v", err, time.Since(began))
		}
		// The end of the service is not held up.
		l.breaks(store.ErrFull)
		closing := make(chan struct{})
		r = newRecorder(discarding, closing, none, l.write)
		r.keep(measure.Interval{})
		close(closing)
		began = time.Now()
		if err := r.end(); err == nil || time.Since(began) > 2*lastPause {
			t.Errorf("the end of the service waited %v (%v)", time.Since(began), err)
		}
	})
}

func TestReserve(t *testing.T) {
	path := filepath.Join(t.TempDir(), "reserve")
	r := room.Hold(path)
	before, err := r.Free()
	if err != nil {
		t.Fatal(err)
	}
	if !r.Release() || r.Release() {
		t.Error("the reserve was not there, or twice")
	}
	after, err := r.Free()
	if err != nil || after == before {
		t.Errorf("%s free before, %s after it was given up (%v)", before, after, err)
	}
	r.Restore()
	if !r.Release() {
		t.Error("the reserve was not taken again")
	}
	if missing := room.Hold(filepath.Join(path, "nowhere")); missing.Release() {
		t.Error("a reserve was held in no folder")
	}
}

// A runner that works alone leaves what waits in the store where it is.
func TestAloneCarriesOutOnlyWhatItIsAsked(t *testing.T) {
	r := start(t)
	r.Close()
	waiting, err := r.store.AddRun(t.Context(), queued())
	if err != nil {
		t.Fatal(err)
	}
	alone, err := Start(t.Context(), Options{Store: r.store, Room: r.room, Log: discarding, Version: "test", Alone: true})
	if err != nil {
		t.Fatal(err)
	}
	defer alone.Close()
	asked, err := submit(t, alone, "asked", nothing, short())
	if err != nil {
		t.Fatal(err)
	}
	if _, _, last := watched(t, alone, asked.ID); !last.Status.Final() {
		t.Errorf("the run asked for is %s", last.Status)
	}
	if left, err := r.store.Run(t.Context(), waiting.ID); err != nil || left.Status != waiting.Status {
		t.Errorf("the run that waited is %s (%v)", left.Status, err)
	}
}
