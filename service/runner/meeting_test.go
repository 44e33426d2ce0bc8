package runner

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"patientheron/core/plan"
	"patientheron/resource"
)

func never(t *testing.T) func() { return func() { t.Error("it waited") } }

// Whatever time each takes, in rounds of turns one is in at a time, in the order of the
// round; rounds that all have at once begin at one moment, and no round begins before all
// have ended the one before.
func TestMeetingsKeepTheirOrder(t *testing.T) {
	const runs, rounds = 4, 30
	m := newMeeting(runs)
	orders := make([]order, rounds)
	for i := range orders {
		orders[i] = order(rand.IntN(3))
	}
	var mu sync.Mutex
	var came [rounds][]int
	var starts [rounds]map[time.Time]bool
	var inside [rounds]atomic.Int32
	ended := [rounds]int{}
	var together sync.WaitGroup
	for run := range runs {
		together.Go(func() {
			for round, o := range orders {
				time.Sleep(time.Duration(rand.IntN(300)) * time.Microsecond)
				if over, err := m.attend(t.Context(), run, o, func() {}); over || err != nil {
					t.Error(over, err)
					return
				}
				mu.Lock()
				came[round] = append(came[round], run)
				if round > 0 && ended[round-1] != runs {
					t.Errorf("run %d is in round %d, and %d have ended the one before", run, round, ended[round-1])
				}
				mu.Unlock()
				if n := inside[round].Add(1); o != allAtOnce && n > 1 {
					t.Errorf("%d at a time in round %d", n, round)
				}
				if o == allAtOnce {
					at, err := m.start(t.Context(), run)
					if err != nil {
						t.Error(err)
					}
					mu.Lock()
					if starts[round] == nil {
						starts[round] = map[time.Time]bool{}
					}
					starts[round][at] = true
					mu.Unlock()
				}
				time.Sleep(time.Duration(rand.IntN(200)) * time.Microsecond)
				mu.Lock()
				ended[round]++
				mu.Unlock()
				inside[round].Add(-1)
				m.end(run)
			}
			m.rest(t.Context(), run)
			if slices.Min(ended[:]) != runs {
				t.Errorf("run %d gives back while others measure", run)
			}
		})
	}
	together.Wait()
	for round, o := range orders {
		wanted := []int{0, 1, 2, 3}
		switch o {
		case allAtOnce:
			if len(starts[round]) != 1 {
				t.Errorf("round %d began at %d moments", round, len(starts[round]))
			}
			continue
		case backwards:
			slices.Reverse(wanted)
		}
		if !slices.Equal(came[round], wanted) {
			t.Errorf("round %d: %v, asked for %v", round, came[round], wanted)
		}
	}
}

// Nobody waits for one that has left; all end with one that failed, and after the round
// under way when asked to; a run by itself never waits.
func TestMeetingsDoNotHang(t *testing.T) {
	m := newMeeting(2)
	m.leave(0, nil)
	for _, o := range []order{oneByOne, allAtOnce, backwards} {
		if over, err := m.attend(t.Context(), 1, o, never(t)); over || err != nil {
			t.Error(over, err)
		}
		if _, err := m.start(t.Context(), 1); err != nil {
			t.Error(err)
		}
		m.end(1)
	}
	m.rest(t.Context(), 1)

	m = newMeeting(2)
	broken := errors.New("broken")
	time.AfterFunc(10*time.Millisecond, func() { m.leave(0, broken) })
	if _, err := m.attend(t.Context(), 1, oneByOne, func() {}); !errors.Is(err, broken) {
		t.Errorf("one failed: %v", err)
	}

	m = newMeeting(2)
	if over, _ := m.attend(t.Context(), 0, oneByOne, never(t)); over {
		t.Error("it is over before it began")
	}
	m.endAfterRound()
	m.end(0)
	if over, err := m.attend(t.Context(), 1, oneByOne, never(t)); over || err != nil {
		t.Errorf("the second of the round that was under way: %t, %v", over, err)
	}
	m.end(1)
	for run := range 2 {
		if over, err := m.attend(t.Context(), run, oneByOne, never(t)); !over || err != nil {
			t.Errorf("run %d goes on: %v", run, err)
		}
	}

	m = newMeeting(2)
	ctx, cancel := context.WithCancelCause(t.Context())
	cancel(errStopped)
	if _, err := m.attend(ctx, 1, oneByOne, func() {}); !errors.Is(err, errStopped) {
		t.Error(err)
	}
	m.runs[0].begun, m.runs[1].begun = 1, 1
	if _, err := m.start(ctx, 1); !errors.Is(err, errStopped) {
		t.Error(err)
	}
}

// joint carries a plan out on several volumes and gives the runs as they ended, and all
// their measurements in the order in which they began.
func joint(t *testing.T, r *Runner, p plan.Plan, on ...resource.Volume) (runs []resource.Run, measurements []resource.Measurement) {
	t.Helper()
	asked, err := r.Submit(t.Context(), Order{Name: "joint", Plan: p}, on...)
	if err != nil {
		t.Fatal(err)
	}
	for _, run := range asked {
		_, _, last := watched(t, r, run.ID)
		runs = append(runs, last)
		of, _, err := r.store.Measurements(t.Context(), run.ID)
		if err != nil {
			t.Fatal(err)
		}
		measurements = append(measurements, of...)
	}
	slices.SortFunc(measurements, func(a, b resource.Measurement) int { return int(a.ID - b.ID) })
	return runs, measurements
}

func TestVolumesTakeTurns(t *testing.T) {
	p := short()
	p.Stages[0].Repeats = 3
	runs, measurements := joint(t, start(t), p, nothing, nothing, nothing)
	var order []string
	for i, m := range measurements {
		order = append(order, fmt.Sprintf("%c%d", 'A'+m.RunID-runs[0].ID, m.Position))
		if i > 0 && m.Started.Before(*measurements[i-1].Ended) {
			t.Errorf("measurement %d began before the one before it had ended", m.ID)
		}
	}
	if got := strings.Join(order, " "); got != "A1 B1 C1 C2 B2 A2 A3 B3 C3" {
		t.Error(got)
	}
	for _, run := range runs {
		if run.Status != resource.Finished || run.Joint == nil || run.Joint.As != plan.InTurn || !slices.Equal(run.Joint.Runs, []int64{runs[0].ID, runs[1].ID, runs[2].ID}) {
			t.Errorf("%s: %s: %+v", run.Status, run.Reason, run.Joint)
		}
	}
}

func TestVolumesRace(t *testing.T) {
	p := short()
	p.Beside = plan.Race
	runs, measurements := joint(t, start(t), p, nothing, nothing)
	if len(measurements) != 4 {
		t.Fatalf("%d measurements: %+v", len(measurements), runs)
	}
	for position := range 2 {
		a, b := measurements[2*position], measurements[2*position+1]
		if a.Position != b.Position || a.RunID == b.RunID || !a.Started.Before(*b.Ended) || !b.Started.Before(*a.Ended) {
			t.Errorf("position %d and %d of runs %d and %d are not at the same time", a.Position, b.Position, a.RunID, b.RunID)
		}
	}
}

// What becomes of one becomes of all: one that cannot be measured ends the others, and a
// stop of one stops all, also while they wait.
func TestJointsEndTogether(t *testing.T) {
	r := start(t)
	runs, _ := joint(t, r, short(), nothing, resource.Volume{ID: 2, Name: "away", Locator: "/no/such/place", Kind: "folder"})
	for _, run := range runs {
		if run.Status != resource.Failed || !strings.Contains(run.Reason, "/no/such/place") {
			t.Errorf("run on %s is %s: %s", run.Volume.Name, run.Status, run.Reason)
		}
	}
	for _, as := range []plan.Beside{plan.InTurn, plan.Race} {
		long := short()
		long.Beside, long.Stages[0].Load.For = as, 60
		first, err := submit(t, r, "before", nothing, long)
		if err != nil {
			t.Fatal(err)
		}
		waiting, err := r.Submit(t.Context(), Order{Plan: long}, nothing, nothing)
		if err != nil {
			t.Fatal(err)
		}
		under, err := r.Submit(t.Context(), Order{Plan: long}, nothing, nothing)
		if err != nil {
			t.Fatal(err)
		}
		stop := func(id int64) {
			if err := r.Stop(t.Context(), id, false); err != nil {
				t.Error(err)
			}
		}
		stop(waiting[1].ID)
		stop(first.ID)
		eventually(t, "the joint measures", func() bool {
			of, _, err := r.store.Measurements(t.Context(), under[0].ID)
			return err == nil && len(of) == 1
		})
		stop(under[1].ID)
		for _, run := range append(waiting, under...) {
			if _, _, last := watched(t, r, run.ID); last.Status != resource.Stopped {
				t.Errorf("%s: run %d is %s: %s", as, run.ID, last.Status, last.Reason)
			}
		}
	}
}
