package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/wall"
	"patientheron/core/workload"
	"patientheron/host"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// execution is one run under way, from its beginning to its end.
type execution struct {
	*Runner
	id          int64
	ctx         context.Context // ends when the run is stopped
	stop        context.CancelCauseFunc
	failed      int    // measurements that failed
	lastFailure string // why the last of them did
	last        resource.Measurement
	sources     sources
	wrote       bool // the volume was opened for writing
	cutShort    bool // stopped after a measurement
	lost        bool // the storage went away in the last measurement
	meeting     *meeting
	place       int  // in the meeting
	pauses      bool // while real storage is measured

	asking sync.Mutex // guards what others ask about it
	keeps  *recorder  // of the measurement under way
	at     place      // where that stands
	used   volume.Volume

	changing sync.Mutex // guards what follows: a preparation reports from another goroutine
	run      resource.Run
	told     time.Time // when progress was last passed on
}

func newExecution(service context.Context, r *Runner, run resource.Run, meeting *meeting, place int) *execution {
	e := &execution{Runner: r, id: run.ID, run: run, meeting: meeting, place: place, sources: sources{}}
	e.ctx, e.stop = context.WithCancelCause(service)
	return e
}

// askToEnd stops the run, at once or after the measurement under way. It gives ErrFinal
// when the run has ended, which is told before the runner turns to the next.
func (e *execution) askToEnd(afterMeasurement bool) error {
	e.changing.Lock()
	run := e.run
	e.changing.Unlock()
	switch {
	case run.Status.Final():
		return hasEnded(run)
	case afterMeasurement:
		e.meeting.endAfterRound()
	default:
		e.stop(errStopped)
	}
	return nil
}

// attend waits for the run's place in the next round of its meeting. Over is set when it
// was asked to end there.
func (e *execution) attend(ctx context.Context, o order) (over bool, err error) {
	over, err = e.meeting.attend(ctx, e.place, o, func() {
		e.change(func(r *resource.Run) { r.Status = resource.Waiting })
	})
	e.cutShort = e.cutShort || over
	return over, err
}

// racing reports whether the run's measurements begin with those of others.
func (e *execution) racing() bool { return e.run.Joint != nil && e.run.Joint.As == plan.Race }

// carryOut makes the run from its beginning to a final status.
func (e *execution) carryOut(service context.Context) {
	if storage.TraitsOf(e.run.Volume.Kind).Virtual && e.run.Pace == 0 {
		e.simulating.Add(1)
		defer e.giveCore()
	}
	begun, err := e.begin()
	if err == nil && !begun {
		e.meeting.leave(e.place, nil) // it was taken out of the queue
		return
	}
	if err == nil {
		err = e.behindWall(func() error { return e.prepareAndMeasure(e.ctx) })
	}
	status, reason := verdict(e.ctx, err)
	var failed error // which ends those that are made together with it
	if status == resource.Failed {
		failed = fmt.Errorf("run %d on %s: %w", e.id, e.run.Volume.Name, err)
	}
	e.meeting.leave(e.place, failed)
	switch {
	case status != resource.Finished:
	case e.cutShort:
		status, reason = resource.Stopped, "it was stopped after the measurement that was under way"
	case e.failed > 0 && (e.lost || e.failed == e.run.Progress.Steps):
		status, reason = resource.Failed, e.lastFailure
	case e.failed > 0:
		reason = fmt.Sprintf("%d of %d measurements failed; each says why", e.failed, e.run.Progress.Steps)
	}
	ended := e.now().UTC()
	e.finish(service, func(r *resource.Run) { r.Status, r.Reason, r.Ended = status, reason, &ended })
	e.log.Info("run ended", "run", e.id, "status", status, "reason", reason)
}

// behindWall does a part of the run: a panic there fails that part, and the log keeps where
// it happened.
func (e *execution) behindWall(work func() error) error {
	err := wall.Do(work)
	if stack := wall.StackOf(err); stack != "" {
		e.log.Error("a fault of this program", "run", e.id, "error", err, "stack", stack)
	}
	return err
}

func (e *execution) prepareAndMeasure(ctx context.Context) error {
	steps, err := e.run.Plan.Steps()
	if err != nil {
		return err
	}
	if err := e.consent(ctx); err != nil {
		return err
	}
	if over, err := e.attend(ctx, oneByOne); over || err != nil {
		return err
	}
	e.change(func(r *resource.Run) { r.Status = resource.Preparing })
	if !e.pauses {
		if err := e.alone(ctx); err != nil {
			return err
		}
	}
	if steps, err = listSources(ctx, steps); err != nil {
		return err
	}
	if err := e.look(ctx, steps); err != nil {
		return err
	}
	e.meeting.end(e.place)
	var used *opened
	defer func() { e.done(ctx, used) }()
	apart := e.apart(steps)
	if apart != nil {
		beside, cancel := context.WithCancel(ctx)
		wait := apart.begin(beside, e, steps)
		defer func() { cancel(); wait() }()
	}
	choices, position, most := map[int]choice{}, 0, len(steps)
	for _, step := range steps {
		chooser, begun := choices[step.Stage]
		if !begun {
			chooser = choiceOf(step)
			choices[step.Stage] = chooser
		}
		if chooser != nil {
			var more bool
			if step, more, err = chooser.next(step); err != nil {
				return err
			}
			if !more {
				most--
				continue
			}
		}
		position++
		if err := ctx.Err(); err != nil {
			return err
		}
		if over, err := e.attend(ctx, turnOf(position)); over || err != nil {
			return err
		}
		if apart != nil {
			if used, err = e.simulated(ctx, apart, position-1, used); err != nil {
				return err
			}
		} else if changed := plan.VolumeOf(step.Point); used == nil || !slices.Equal(used.changed, changed) {
			e.done(ctx, used)
			used, err = e.open(ctx, append(slices.Clip(steps), step), changed)
			if err != nil && step.Tune != nil && len(changed) > 0 && !errors.Is(err, volume.ErrConsent) && ctx.Err() == nil {
				used, err = &opened{changed: changed, failure: err}, nil // that a setting does not work is a result
			}
			if err != nil {
				return err
			}
		}
		if !step.Source && apart == nil {
			if err := e.ready(ctx, used, position, step.Load); err != nil {
				return err
			}
		}
		if e.racing() {
			e.meeting.end(e.place)
			if over, err := e.attend(ctx, allAtOnce); over || err != nil {
				return err
			}
		}
		if apart != nil { // which has rested
		} else if virtual, ok := used.Volume.(volume.Resting); ok {
			virtual.Rest(step.Settle.Pause) // its own time passes, not ours
		} else if err := e.settle(ctx, position, step.Settle); err != nil {
			return err
		}
		e.change(func(r *resource.Run) {
			r.Status, r.Progress = resource.Running, resource.Progress{Step: position, Steps: most}
		})
		if err := e.measure(ctx, used, position, step); err != nil {
			return err
		}
		e.meeting.end(e.place)
		if chooser != nil {
			chooser.measured(e.last)
		}
	}
	if most != len(steps) { // what a choice did not need
		e.change(func(r *resource.Run) { r.Progress = resource.Progress{Step: position, Steps: position} })
	}
	e.meeting.rest(ctx, e.place)
	return nil
}

// simulated is the array of a step that another goroutine measures, when that has made it.
func (e *execution) simulated(ctx context.Context, apart *ahead, position int, before *opened) (*opened, error) {
	p, next := apart.at(position)
	select {
	case <-p.opened:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if p.failure != nil {
		return nil, p.failure
	}
	used := &opened{changed: p.changed, setup: p.used.setup, ahead: next}
	if len(p.changed) == 0 || before != nil && slices.Equal(before.changed, p.changed) {
		return used, nil
	}
	return used, e.keepVariant(ctx, used)
}

// ready brings a volume into the state in which a load finds it, where that differs from
// load to load.
func (e *execution) ready(ctx context.Context, used *opened, position int, spec workload.Spec) error {
	readier, is := used.Volume.(volume.Readier)
	if !is {
		return nil
	}
	begun := false
	begins := func() {
		begun = true
		e.change(func(r *resource.Run) {
			r.Status, r.Progress.Step, r.Progress.Prepared, r.Progress.Prepare = resource.Preparing, position, 0, 0
		})
	}
	if files, _ := spec.OfFiles(); len(files) > 0 {
		begins()
	}
	progress := func(done, of quantity.Bytes) {
		if !begun { // what is there has to be left first, and that takes its time
			begins()
		}
		e.preparing(done, of)
	}
	_, err := patient.Own(ctx, patience, func() (any, error) { return nil, readier.Ready(ctx, spec.Completed(), progress) }, func(any, error) {})
	e.leaves(err)
	return err
}

// change changes the run, records it and passes it on. Where a run stands in
// its middle is said anew with the next change; that it could not be recorded
// ends nothing.
func (e *execution) change(how func(*resource.Run)) {
	if err := e.recordChange(how); err != nil {
		e.log.Warn("where a run stands could not be recorded", "run", e.run.ID, "error", err)
	}
}

func (e *execution) recordChange(how func(*resource.Run)) error {
	e.changing.Lock()
	how(&e.run)
	run := e.run
	e.changing.Unlock()
	ctx, cancel := record(context.Background())
	defer cancel()
	keep := e.store.UpdateRun
	if run.Status.Final() {
		keep = e.store.EndRun
	}
	err := keep(ctx, run)
	e.feed.send(run.ID, run)
	return err
}

// begin takes the run from the queue and records that it has begun; it reports
// false when somebody else has taken it out. Until that is recorded nothing is done:
// a run that nobody knows to have begun would begin again.
func (e *execution) begin() (begun bool, err error) {
	now := e.now().UTC()
	e.changing.Lock()
	e.run.Started, e.run.Status = &now, resource.Preparing
	run := e.run
	e.changing.Unlock()
	err = e.held(func() error {
		ctx, cancel := record(context.Background())
		defer cancel()
		if begun, err = e.store.ChangeQueued(ctx, run); begun || err != nil {
			return err
		}
		// It may have been recorded although nobody was told so.
		kept, err := e.store.Run(ctx, run.ID)
		begun = err == nil && kept.Status == run.Status && kept.Started != nil && kept.Started.Equal(now)
		return err
	})
	if err != nil {
		return false, fmt.Errorf("it could not be recorded that the run begins: %w", err)
	}
	if begun {
		e.feed.send(run.ID, run)
	}
	return begun, nil
}

// finish records how the run ended. It gives up only when the service ends: the
// next one then finds a run that was under way and says so.
func (e *execution) finish(service context.Context, how func(*resource.Run)) {
	for {
		err := e.held(func() error { return e.recordChange(how) })
		if err == nil || errors.Is(err, store.ErrNotFound) {
			return
		}
		e.troubled(fmt.Sprintf("Run %d has ended, and that cannot be recorded: %v.", e.run.ID, err))
		if sleep(service, lastPause) != nil {
			return
		}
	}
}

// held tries to write something until it is written, with pauses, as long as
// holding. Where there is no room the reserve of it is given up.
func (e *execution) held(write func() error) error {
	released, closing := false, e.ended
	deadline := time.Now().Add(holding)
	for pause := firstPause; ; pause = min(pause*2, lastPause) {
		err := write()
		if err == nil || errors.Is(err, store.ErrNotFound) {
			return err
		}
		if errors.Is(err, store.ErrFull) && !released {
			released = true
			if e.room.Release() {
				continue
			}
		}
		if time.Now().After(deadline) {
			return err
		}
		e.log.Warn("a result cannot be kept now; it is held and tried again", "run", e.run.ID, "error", err)
		select {
		case <-time.After(pause):
		case <-closing:
			closing, deadline = nil, time.Now().Add(lastPause)
		}
	}
}

// preparing passes the progress of a preparation on, a few times a second.
func (e *execution) preparing(done, of quantity.Bytes) {
	e.changing.Lock()
	e.run.Progress.Prepared, e.run.Progress.Prepare = done, of
	now := time.Now()
	tell := now.Sub(e.told) > 250*time.Millisecond || done == of
	if tell {
		e.told = now
	}
	run := e.run
	e.changing.Unlock()
	if tell {
		e.feed.send(run.ID, run)
	}
}

// settle waits before a measurement: a pause, or until the device behind the
// volume moved nothing for a second.
func (e *execution) settle(ctx context.Context, step int, s plan.Settle) error {
	if s.Pause == 0 && s.Quiet == 0 {
		return nil
	}
	e.change(func(r *resource.Run) { r.Status, r.Progress.Step = resource.Settling, step })
	if err := sleep(ctx, s.Pause.Duration()); err != nil || s.Quiet == 0 {
		return err
	}
	deadline := time.Now().Add(s.Quiet.Duration())
	before := make([]host.DeviceCounters, len(e.devices()))
	for still := 0; still < 10 && len(before) > 0 && time.Now().Before(deadline); still++ {
		for i, name := range e.devices() {
			now, err := host.ReadDevice("/sys", name)
			if err != nil {
				return fmt.Errorf("watch %s go quiet: %w; settle by a pause instead", name, err)
			}
			if now.Moved(before[i]) {
				still = 0
			}
			before[i] = now
		}
		if err := sleep(ctx, 100*time.Millisecond); err != nil {
			return err
		}
	}
	return nil
}

func sleep(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-timer.C:
		return nil
	}
}
