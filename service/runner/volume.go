package runner

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"patientheron/core/plan"
	"patientheron/core/setup"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/store"
	"patientheron/storage"
	"patientheron/storage/volume"
)

// opened is the volume of a run, made ready for some of its steps.
type opened struct {
	volume.Volume
	changed []plan.Setting // of it, by a sweep or an experiment
	setup   setup.Setup    // with that
	failure error          // why it could not be opened; then there is no Volume
	ahead   *foreseen      // the next measurement, where another goroutine makes it; then there is no Volume
}

// open opens the volume of a run for its steps that change it alike.
func (e *execution) open(ctx context.Context, steps []plan.Step, changed []plan.Setting) (*opened, error) {
	used, err := e.prepared(ctx, steps, changed)
	if err != nil {
		return nil, err
	}
	if len(changed) > 0 {
		if err := e.keepVariant(ctx, used); err != nil {
			_ = used.Close()
			return nil, err
		}
	}
	e.wrote = e.wrote || reachOf(steps, changed).Writes
	e.listen(used.Volume)
	e.using(used.Volume)
	return used, nil
}

// reachOf is what the steps that change a volume alike need of it.
func reachOf(steps []plan.Step, changed []plan.Setting) plan.Extent {
	return plan.Reach(alike(steps, changed))
}

// alike are the steps that change the volume in one way.
func alike(steps []plan.Step, changed []plan.Setting) []plan.Step {
	return slices.DeleteFunc(slices.Clone(steps), func(s plan.Step) bool { return !slices.Equal(plan.VolumeOf(s.Point), changed) })
}

// prepared prepares the volume of a run for its steps that change it alike.
func (e *execution) prepared(ctx context.Context, steps []plan.Step, changed []plan.Setting) (*opened, error) {
	used := &opened{changed: changed, setup: e.run.Setup}
	locator, err := patient.Own(ctx, patience, func() (volume.Locator, error) { return storage.Parse(e.run.Volume.Locator) }, func(volume.Locator, error) {})
	if err != nil {
		return nil, err
	}
	if err := SameKind(e.run.Volume, locator); err != nil {
		return nil, err
	}
	if locator, err = e.bounds.With(locator, changed); err != nil {
		return nil, err
	}
	extent := reachOf(steps, changed)
	used.Volume, err = patient.Own(ctx, patience, func() (volume.Volume, error) {
		return e.bounds.Prepare(ctx, locator, volume.Request{
			Size: extent.Size, Writes: extent.Writes, Files: extent.Files, NoBlocks: !extent.Blocks, Cached: extent.Cached, Content: alike(steps, changed)[0].Load, Consent: Claim(e.run.Volume), Memory: Spare(), Progress: e.preparing, Pause: e.pausing(),
		})
	}, func(v volume.Volume, err error) {
		if err == nil {
			_ = v.Close()
		}
	})
	e.leaves(err)
	if err != nil {
		return nil, e.lapsed(ctx, err)
	}
	if len(locator.With) > 0 {
		err = e.described(ctx, locator, used)
	}
	if err != nil {
		_ = used.Close()
		return nil, err
	}
	return used, nil
}

// lapsed records that consent no longer holds, where an error says so, and gives the error.
func (e *execution) lapsed(ctx context.Context, err error) error {
	var lapsed *volume.LapsedError
	if !errors.As(err, &lapsed) {
		return err
	}
	e.changing.Lock()
	if e.run.Volume.Consent != nil {
		no := *e.run.Volume.Consent
		no.Lapsed = lapsed.Why
		e.run.Volume.Consent = &no
	}
	e.changing.Unlock()
	keep, cancel := record(ctx)
	defer cancel()
	return errors.Join(err, e.store.LapseConsent(keep, e.run.VolumeID, lapsed.Why))
}

// done gives a volume back, if there is one. A hung device may not hang the service: what is
// not given back in time, the next run waits for.
func (e *execution) done(ctx context.Context, used *opened) {
	if used == nil || used.Volume == nil {
		return
	}
	e.using(nil)
	e.renew(ctx, used.Volume)
	_, err := patient.Own(ctx, patience, func() (any, error) {
		err := used.Close()
		if err != nil {
			e.log.Warn("a volume could not be given back", "run", e.id, "error", err)
		}
		return nil, err
	}, func(any, error) {})
	e.leaves(err)
}

// mostLeaving is how long a run waits for what runs before it have not given back: files
// that are still being removed would be measured along.
const mostLeaving = 2 * time.Minute

// alone waits until nothing of the runs before is under way any more.
func (e *execution) alone(ctx context.Context) error {
	e.mu.Lock()
	before := e.leaving
	e.leaving = nil
	e.mu.Unlock()
	timer := time.NewTimer(mostLeaving)
	defer timer.Stop()
	for i, l := range before {
		select {
		case <-l.over:
			continue
		case <-timer.C:
			e.log.Warn("what a run before made is still being removed", "run", e.id)
		case <-ctx.Done():
		}
		e.mu.Lock()
		e.leaving = append(e.leaving, before[i:]...)
		e.mu.Unlock()
		return ctx.Err()
	}
	return nil
}

// described finds the setup of an array that a sweep changed.
func (e *execution) described(ctx context.Context, locator volume.Locator, used *opened) error {
	found, err := patient.Own(ctx, patience, func() (setup.Setup, error) {
		found, _, _, err := e.bounds.Describe(ctx, locator)
		return found, err
	}, func(setup.Setup, error) {})
	if err != nil {
		return err
	}
	used.setup = found.Over(e.run.Setup.Only(setup.Told, setup.Measured))
	return nil
}

// keepVariant keeps the setup of an array that a sweep changed.
func (e *execution) keepVariant(ctx context.Context, used *opened) error {
	return e.held(func() error {
		keep, cancel := record(ctx)
		defer cancel()
		return e.store.KeepVariant(keep, e.run.ID, resource.Variant{Changed: used.changed, Setup: used.setup})
	})
}

// listen sets a marker for whatever a volume tells that happened to it, until the run
// ends.
func (e *execution) listen(used volume.Volume) {
	eventful, is := used.(volume.Eventful)
	if !is {
		return
	}
	go func() {
		for {
			select {
			case <-e.ctx.Done():
				return
			case event, open := <-eventful.Events():
				if !open {
					return
				}
				e.log.Warn("something happened to a volume", "run", e.id, "what", event.What, "words", event.Words)
				ctx, cancel := record(e.ctx)
				// Between two measurements there is no moment to mark.
				if _, err := e.Mark(ctx, e.id, fmt.Sprintf("%s: %s", event.What, event.Words)); err != nil && !errors.Is(err, ErrNotMeasuring) {
					e.log.Warn("it could not be marked", "run", e.id, "error", err)
				}
				cancel()
			}
		}
	}()
}

// SameKind reports a volume that is another kind of thing by now than it was
// registered as.
func SameKind(registered resource.Volume, now volume.Locator) error {
	if registered.Kind == now.Kind {
		return nil
	}
	return fmt.Errorf("%s: %w: it was registered as a %s and is a %s now; forget the volume, and register what is there", registered.Locator, volume.ErrNotStorage, registered.Kind, now.Kind)
}

// renew takes the digests anew of what this run wrote, so that consent holds for the next
// run and for nothing that others do, or have done meanwhile.
func (e *execution) renew(ctx context.Context, used volume.Volume) {
	identified, is := used.(volume.Identified)
	if !e.wrote || !is || e.run.Volume.Consent == nil {
		return
	}
	// It is looked at although the run was stopped, for as long as a slow disk
	// takes; the end of the service waits for less.
	patience := time.Minute
	if errors.Is(context.Cause(ctx), errShutdown) {
		patience = lastPause
	}
	looking, done := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer done()
	identity, err := patient.Own(looking, patience, func() (setup.Identity, error) { return identified.Identity(looking) }, func(setup.Identity, error) {})
	keep, cancel := record(ctx)
	defer cancel()
	err = e.lapsed(ctx, err)
	if err == nil {
		err = e.store.RenewConsent(keep, e.run.VolumeID, e.run.Volume.Consent.Given, identity)
	}
	if err == nil { // it is opened again with other settings
		renewed := *e.run.Volume.Consent
		renewed.Identity = &identity
		e.changing.Lock()
		e.run.Volume.Consent = &renewed
		e.changing.Unlock()
	}
	if err != nil {
		e.log.Warn("consent to overwrite a volume has to be given anew", "run", e.run.ID, "because", err)
	}
}

// consent takes the consent as it stands now, which may have been withdrawn or
// given since the run was asked for.
func (e *execution) consent(ctx context.Context) error {
	registered, err := e.store.Volume(ctx, e.run.VolumeID)
	if errors.Is(err, store.ErrNotFound) {
		registered.Consent = nil
	} else if err != nil {
		return err
	}
	e.changing.Lock()
	defer e.changing.Unlock()
	e.run.Volume.Consent = registered.Consent
	return nil
}

// Claim is what the user agreed to lose of a volume; nil for nothing.
func Claim(v resource.Volume) *volume.Claim {
	if v.Consent == nil {
		return nil
	}
	return &volume.Claim{Size: v.Consent.Size, Serial: v.Consent.Serial, Holds: v.Consent.Holds, Identity: v.Consent.Identity, Lapsed: v.Consent.Lapsed}
}
