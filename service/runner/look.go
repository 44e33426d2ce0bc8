package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/resource"
	"patientheron/service/look"
	"patientheron/storage/volume"
)

// ErrChecks is given when a check failed that was not overridden.
var ErrChecks = errors.New("a check before the run failed")

// lookPatience bounds the look before a run, for which nobody waits: storage a long way off
// answers in seconds.
const lookPatience = 15 * time.Second

// look records what stands behind the volume, and stops the run when a check
// failed that the user did not override by its name.
func (e *execution) look(ctx context.Context, steps []plan.Step) error {
	latest, err := e.store.LatestSetup(ctx, e.run.VolumeID)
	if err != nil {
		return err
	}
	found := look.At(ctx, look.Request{
		Bounds: e.bounds, Locator: e.run.Volume.Locator, Told: latest.Setup.Only(setup.Told, setup.Measured),
		Consent: Claim(e.run.Volume), Asked: look.AskedOf(steps), Tries: true, Timeout: lookPatience,
	})
	kept, err := e.store.ChangeSetup(ctx, e.run.VolumeID, func(now resource.SetupVersion) (setup.Setup, error) {
		// What was told while this looked counts too.
		return found.Setup.Only(setup.Read, setup.Simulated).Over(now.Setup.Only(setup.Told, setup.Measured)), nil
	})
	if err != nil {
		return err
	}
	found.Setup = kept.Setup
	e.change(func(r *resource.Run) { r.Setup, r.Checks = found.Setup, found.Checks })
	if err := e.store.KeepLook(ctx, e.run.ID, found.Setup, found.Checks); err != nil {
		return err
	}
	var failed []string
	for _, c := range found.Checks {
		if c.Result == setup.Failed && !slices.Contains(e.run.Overrides, c.Name) {
			failed = append(failed, fmt.Sprintf("%s: %s %s", c.Name, c.Sentence, c.Next))
		}
	}
	if len(failed) == 0 {
		return nil
	}
	return fmt.Errorf("%w: %s To measure all the same, override it by its name", ErrChecks, strings.Join(failed, " "))
}

// place is where the measurement under way stands, for markers.
type place struct {
	measurement int64
	at          quantity.Seconds
}

// stand notes how far the measurement under way is.
func (e *execution) stand(measurement int64, interval measure.Interval) {
	e.asking.Lock()
	defer e.asking.Unlock()
	e.at = place{measurement, interval.Start + interval.Length}
}

// ErrNotMeasuring is given when a marker is set while nothing is measured.
var ErrNotMeasuring = errors.New("the run is not measuring")

// Mark sets a marker at the present moment of a run.
func (r *Runner) Mark(ctx context.Context, run int64, name string) (resource.Marker, error) {
	var at place
	if e := r.execution(run); e != nil {
		e.asking.Lock()
		at = e.at
		e.asking.Unlock()
	}
	if at.measurement == 0 {
		return resource.Marker{}, fmt.Errorf("run %d: %w now; set a marker while a measurement is under way", run, ErrNotMeasuring)
	}
	m, err := r.store.AddMarker(ctx, resource.Marker{RunID: run, MeasurementID: at.measurement, At: at.at, Name: name})
	if err == nil {
		r.feed.send(run, m)
	}
	return m, err
}

// using notes the volume that others may reach while the run uses it.
func (e *execution) using(used volume.Volume) {
	e.asking.Lock()
	defer e.asking.Unlock()
	e.used = used
}

// ErrNotFaulty is given when something shall go wrong with a volume that is real.
var ErrNotFaulty = errors.New("nothing can be made to go wrong with this volume")

// injectWithin is how long a fault by call may wait for its moment.
const injectWithin = 5 * time.Second

// Inject injects a fault into the volume that a run measures, now, and sets a
// marker for it.
func (r *Runner) Inject(ctx context.Context, run int64, fault string) (resource.Marker, error) {
	e := r.execution(run)
	if e == nil {
		return resource.Marker{}, fmt.Errorf("run %d: %w now; a fault needs a measurement under way", run, ErrNotMeasuring)
	}
	e.asking.Lock()
	faulty, is := e.used.(volume.Faulty)
	measuring, ahead := e.at.measurement != 0, e.used == nil
	e.asking.Unlock()
	switch {
	case !measuring:
		return resource.Marker{}, fmt.Errorf("run %d: %w now; a fault needs a measurement under way", run, ErrNotMeasuring)
	case ahead:
		return resource.Marker{}, fmt.Errorf("run %d: %w", run, errAhead)
	case !is:
		return resource.Marker{}, fmt.Errorf("run %d: %w; only simulated arrays fail on demand", run, ErrNotFaulty)
	}
	waiting, done := context.WithTimeout(ctx, injectWithin)
	defer done()
	words, err := faulty.Inject(waiting, fault)
	if err != nil {
		return resource.Marker{}, err
	}
	return r.Mark(ctx, run, words)
}

// Measuring is the run on real storage that is under way, the first of several; 0 for none.
func (r *Runner) Measuring() int64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, g := range r.turns.groups {
		if g.real {
			return g.runs[0].id
		}
	}
	return 0
}
