package runner

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"patientheron/core/judge"
	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/quiet"
	"patientheron/core/setup"
	"patientheron/core/wall"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/host"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/counters"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// devices are the kernel's names of the devices behind the volume.
func (e *execution) devices() []string {
	if e.run.Volume.Facts == nil {
		return nil
	}
	return e.run.Volume.Facts.Devices
}

// measure makes one measurement. The error is about the run as a whole; a
// measurement that fails is a recorded result and the plan goes on.
func (e *execution) measure(ctx context.Context, used *opened, position int, step plan.Step) error {
	m := resource.Measurement{
		RunID: e.run.ID, Position: position, Stage: step.Stage + 1, Name: step.Name, Preconditioning: step.Preconditioning,
		Point: step.Point, Repeat: step.Repeat, Repeats: step.Repeats, Load: step.Load.Completed(), Status: resource.Running,
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	err := e.held(func() error { // also when it is stopped meanwhile: it ends at once then
		keep, cancel := record(ctx)
		defer cancel()
		added, err := e.store.AddMeasurement(keep, m)
		if errors.Is(err, store.ErrTaken) { // it was kept although nobody was told so
			added, err = e.store.MeasurementAt(keep, m.RunID, m.Position)
		}
		if err == nil {
			m = added
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("measurement %d could not be recorded: %w", position, err)
	}
	e.feed.send(e.run.ID, m)
	var outcome *load.Outcome
	failure := e.behindWall(func() (err error) { outcome, err = e.drive(ctx, used, m); return err })

	if outcome != nil {
		e.chronicle(ctx, used, m.ID)
	}
	ended := e.now().UTC()
	m.Ended = &ended
	m.Status, m.Reason = verdict(ctx, failure)
	var latencies map[measure.Class]*measure.Histogram
	if outcome != nil {
		m.Summary, latencies = &outcome.Summary, outcome.Latencies
		own, end := judging(ctx)
		err := e.behindWall(func() error { return e.judge(own, &m, e.run, used.setup, e.sources) })
		end()
		if err != nil {
			m.Status, m.Reason = resource.Failed, fmt.Sprintf("%s: %v; 'heron run rejudge %d' does it again", notJudged, err, m.RunID)
		}
	}
	e.lost = errors.Is(failure, load.ErrLost) || e.lost && m.Status == resource.Failed
	if m.Status == resource.Failed {
		e.failed, e.lastFailure = e.failed+1, m.Reason
	}
	err = e.held(func() error {
		keep, cancel := record(ctx)
		defer cancel()
		return e.store.EndMeasurement(keep, m, latencies)
	})
	if err != nil {
		return fmt.Errorf("what measurement %d came to could not be kept: %w", position, err)
	}
	e.feed.send(e.run.ID, m)
	e.last = m
	if errors.Is(failure, volume.ErrConsent) || errors.Is(failure, volume.ErrInUse) {
		return e.lapsed(ctx, failure) // nothing more may be written there
	}
	return ctx.Err()
}

// mostMoments is how many markers are set at most for what happened by itself in a measurement.
const mostMoments = 50

// chronicle sets a marker for what was to happen to a volume while it was measured.
func (e *execution) chronicle(ctx context.Context, used *opened, measurement int64) {
	var moments []volume.Moment
	if used.ahead != nil {
		moments = used.ahead.moments
	} else if told, is := used.Volume.(volume.Chronicle); is {
		moments = told.Happened()
	}
	for _, m := range moments[:min(len(moments), mostMoments)] {
		keep, cancel := record(ctx)
		marker, err := e.store.AddMarker(keep, resource.Marker{RunID: e.run.ID, MeasurementID: measurement, At: m.At, Name: m.Name})
		cancel()
		if err != nil {
			e.log.Warn("what happened could not be marked", "run", e.run.ID, "what", m.Name, "error", err)
			return
		}
		e.feed.send(e.run.ID, marker)
	}
}

// notJudged begins the reason of a measurement that came to its end and could not be judged.
const notJudged = "it could not be judged"

// JudgeAgain judges all measurements of a run that has ended anew, by the rules of this
// version, and tells how many those were. Their figures stay.
func (r *Runner) JudgeAgain(ctx context.Context, run resource.RunDetail) (judged int, err error) {
	if !run.Status.Final() {
		return 0, fmt.Errorf("run %d: %w: it is %s; wait until it has ended", run.ID, ErrNotEnded, run.Status)
	}
	kept := sources{}
	for _, m := range run.Measurements {
		if m.Summary == nil || m.Preconditioning {
			continue
		}
		if err := wall.Do(func() error { return r.judge(ctx, &m, run.Run, run.SetupOf(m), kept) }); err != nil {
			return judged, fmt.Errorf("judge measurement %d of run %d: %w", m.ID, run.ID, err)
		}
		if m.Status == resource.Failed && strings.HasPrefix(m.Reason, notJudged) {
			m.Status, m.Reason = resource.Finished, ""
		}
		if err := r.store.EndMeasurement(ctx, m, nil); err != nil {
			return judged, fmt.Errorf("keep what measurement %d of run %d came to: %w", m.ID, run.ID, err)
		}
		judged++
	}
	return judged, nil
}

// ErrNotEnded is given for a run that goes on.
var ErrNotEnded = errors.New("the run has not ended")

// judge says what to believe of a measurement of a run that has ended, and completes its
// summary with what only the whole series tells. Source holds what folders gave by themselves
// that were measured before.
func (r *Runner) judge(ctx context.Context, m *resource.Measurement, of resource.Run, on setup.Setup, source sources) error {
	series := []measure.Interval{}
	unreadable, err := r.store.EachInterval(ctx, m.ID, 0, func(i measure.Interval) error {
		i.Spread = nil // which takes most of the room, and says nothing to a judge
		series = append(series, i)
		return nil
	})
	if err != nil {
		return err
	}
	if unreadable > 0 {
		return fmt.Errorf("%d intervals of measurement %d cannot be read", unreadable, m.ID)
	}
	measure.CutWarmUp(series, m.Summary.WarmUp)
	m.Summary.Steadiness = judge.Steadiness(series)
	m.Summary.Stolen = judge.Stolen(series)
	m.Summary.CPUPerOp = judge.CPUPerOperation(series)
	m.Summary.Inside = judge.Inside(series)
	observed := judge.Observed{Load: m.Load, Summary: *m.Summary, Series: series, Facts: of.Volume.Facts, Setup: on, Source: source.of(m.Load)}
	markers, err := r.store.Markers(ctx, m.RunID)
	if err != nil {
		return err
	}
	for _, marker := range markers {
		if marker.MeasurementID == m.ID && !volume.Happened(marker.Name) {
			observed.Changed = append(observed.Changed, marker.At)
		}
	}
	if files.ReadsSource(m.Load) {
		observed.Facts, observed.Setup = nil, setup.Setup{} // which are of the volume
	}
	m.Findings = judge.Findings(observed)
	source.keep(m.Load, m.Summary)
	return nil
}

// drive runs the load engine and keeps the series as it grows.
func (e *execution) drive(ctx context.Context, used *opened, m resource.Measurement) (*load.Outcome, error) {
	if used.failure != nil {
		return nil, used.failure
	}
	if used.ahead != nil {
		return e.record(m.ID, used.ahead.follow)
	}
	atOnce := 1
	if e.racing() {
		atOnce = len(e.run.Joint.Runs)
	}
	if err := Fits(m.Load, e.run.Volume, atOnce); err != nil {
		return nil, err
	}
	opened, err := patient.Own(ctx, patience, func() (load.Volume, error) { return e.use(ctx, used, m.Load) }, func(v load.Volume, err error) {
		if err == nil {
			_ = v.Close()
		}
	})
	if err != nil {
		return nil, err
	}
	defer func() {
		_, _ = patient.Own(ctx, patience, func() (any, error) { return nil, opened.Close() }, func(any, error) {})
	}()
	job := e.job(m.Load, opened, nil)
	if address := used.setup.Text("counters.address"); address != "" && !files.ReadsSource(m.Load) {
		source, stop, err := e.counting(address, m.Load)
		if err != nil {
			return nil, err
		}
		defer stop()
		job.Inside = source.Since
	}
	if e.racing() {
		job.Start = func(ctx context.Context) (time.Time, error) { return e.meeting.start(ctx, e.place) }
	}
	unwritten := e.unwritten(ctx, used, m.Load)
	if !storage.TraitsOf(e.run.Volume.Kind).Virtual {
		defer quiet.Ask()()
	}
	outcome, err := e.record(m.ID, func(pass func(measure.Interval)) (*load.Outcome, error) {
		job.Observe = pass
		return load.Run(ctx, job)
	})
	if outcome != nil {
		outcome.Summary.Unwritten = unwritten
	}
	return outcome, err
}

// job is a load on a volume that was opened for it.
func (e *execution) job(spec workload.Spec, on load.Volume, observe func(measure.Interval)) load.Job {
	return load.Job{
		Workload: spec, Volume: on, Clock: load.NewMonotonic(), Pace: e.run.Pace,
		Beside: host.NewSampler(e.devices()...).Sample, Watch: judge.Watch(spec), Thread: host.ThreadUse, Observe: observe,
	}
}

// record keeps the series of a measurement as it grows, and passes it on.
func (e *execution) record(measurement int64, run func(pass func(measure.Interval)) (*load.Outcome, error)) (outcome *load.Outcome, err error) {
	recorder := newRecorder(e.log, e.ended, e.room.Release, func(ctx context.Context, batch []measure.Interval) error {
		return e.store.AddIntervals(ctx, measurement, batch)
	})
	e.recording(recorder)
	err = wall.Do(func() (err error) {
		outcome, err = run(func(interval measure.Interval) {
			recorder.keep(interval)
			e.stand(measurement, interval)
			e.feed.send(e.run.ID, resource.Point{MeasurementID: measurement, Interval: interval})
		})
		return err
	})
	lost := recorder.end()
	e.recording(nil)
	if err != nil {
		return nil, err
	}
	return outcome, errors.Join(outcome.Failure, lost)
}

// unwritten is which share of the span of a load was never written; 0 where nobody can tell.
func (e *execution) unwritten(ctx context.Context, used *opened, of workload.Spec) quantity.Share {
	sparse, is := used.Volume.(volume.Sparse)
	if !is || files.ReadsSource(of) {
		return 0
	}
	share, err := patient.Own(ctx, patience, func() (quantity.Share, error) { return sparse.Unwritten(ctx, of) }, func(quantity.Share, error) {})
	if err != nil {
		e.log.Warn("how much was never written cannot be told", "run", e.run.ID, "error", err)
		return 0
	}
	return share
}

// counting begins to read what the storage tells of itself, often enough for the intervals
// of a load, until it is stopped.
func (e *execution) counting(address string, of workload.Spec) (source *counters.Source, stop func(), err error) {
	if source, err = counters.Open(address); err != nil {
		return nil, nil, err
	}
	ctx, cancel := context.WithCancel(e.ctx)
	if _, err := source.Read(ctx); err != nil {
		e.log.Warn("the counters of the storage cannot be read", "run", e.id, "error", err)
	}
	var following sync.WaitGroup
	following.Go(func() {
		source.Follow(ctx, min(max(of.Interval.Duration()/2, leastBetweenCounters), mostBetweenCounters))
	})
	return source, func() {
		cancel()
		following.Wait()
		source.Close()
	}, nil
}

// Counters of the storage are read at most and at least so often.
const (
	leastBetweenCounters = 100 * time.Millisecond
	mostBetweenCounters  = 5 * time.Second
)

// recording notes who keeps the series of the measurement under way.
func (e *execution) recording(r *recorder) {
	e.asking.Lock()
	defer e.asking.Unlock()
	e.keeps = r
}

// waiting are the intervals of a measurement that are not written yet.
func (e *execution) waiting(measurement int64) []measure.Interval {
	e.asking.Lock()
	defer e.asking.Unlock()
	if e.keeps == nil || e.at.measurement != measurement {
		return nil
	}
	return e.keeps.held()
}
