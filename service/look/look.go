// Package look looks at a volume before it is measured: it asks the storage
// for what the locator names, the host for what stands below, and joins that
// with what the user told into a setup, ceilings and checks.
//
// It waits for nothing longer than two seconds together, unless it is given longer:
// what does not answer becomes a check that could not look.
package look

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/wall"
	"patientheron/host"
	"patientheron/patient"
	"patientheron/resource"
	"patientheron/service/counters"
	"patientheron/storage"
	"patientheron/storage/volume"
)

const (
	// patience bounds one look as a whole, but where the request says otherwise.
	patience = 1500 * time.Millisecond
	// watching is how long the host and the devices are watched for work that
	// is not ours.
	watching = 250 * time.Millisecond
	// busy is the share of time from which on a device counts as at work.
	busy = 0.10
)

// Request says what to look at and why.
type Request struct {
	Bounds    storage.Bounds
	Locator   string
	Told      setup.Setup // by the user, or measured
	Consent   *volume.Claim
	Asked     setup.Asked
	Tries     bool          // how a test file is made is tried, which writes
	Measuring bool          // a run is under way: what moves now is its work
	Timeout   time.Duration // bounds the look as a whole; 0 for what a user waits for gladly
}

// AskedOf is what a plan will do to the volume as it is, which leaves arrays out that a
// sweep makes.
func AskedOf(steps []plan.Step) setup.Asked {
	steps = slices.DeleteFunc(slices.Clone(steps), func(s plan.Step) bool { return len(plan.VolumeOf(s.Point)) > 0 })
	extent := plan.Reach(steps)
	span := extent.Size
	for _, load := range extent.Files {
		span = max(span, load.Completed().Span)
	}
	return setup.Asked{Span: span, Writes: extent.Writes, Files: len(extent.Files) > 0, Cached: extent.Cached}
}

// At looks at a volume. It never fails: what cannot be looked at is said in
// the checks.
func At(ctx context.Context, r Request) resource.Look {
	began := time.Now()
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(r.Timeout, patience))
	defer cancel()
	l := resource.Look{Locator: r.Locator, At: began.UTC(), Chain: []setup.Layer{}}
	explorer := host.NewExplorer()
	explorer.Timeout(r.Timeout)
	locator, err := patient.Ask(ctx, r.Locator, "parse", func(context.Context) (volume.Locator, error) { return storage.Parse(r.Locator) })
	seen := setup.Seen{}
	if err != nil {
		seen.Trouble = err.Error()
		if l.Kind = storage.Scheme(r.Locator); l.Kind == "" {
			l.Kind = "folder"
		}
		l.Setup = r.Told
	} else {
		l.Kind = locator.Kind
		l.Setup, l.Chain, seen = behind(ctx, explorer, locator, r)
		seen.Traits = storage.TraitsOf(l.Kind)
		l.Setup = l.Setup.Over(r.Told)
	}
	l.Facts, l.Traits = seen.Facts, seen.Traits
	if address := l.Setup.Text("transport.address"); address != "" && !storage.TraitsOf(locator.Kind).Virtual {
		path, troubles := explorer.Link(ctx, address)
		l.Setup = path.Over(l.Setup)
		for _, trouble := range troubles {
			if !slices.Contains(seen.Troubles, trouble) {
				seen.Troubles = append(seen.Troubles, trouble)
			}
		}
		if mtu := int(l.Setup.Number("link[0].mtuHere")); mtu > 0 {
			probe := host.ProbeMTU(ctx, address, mtu)
			seen.Probe, l.Probe = &probe, &probe
		}
	}
	if address := l.Setup.Text("counters.address"); address != "" {
		seen.Counters = tells(ctx, address)
	}
	l.Checks = setup.Checks(l.Setup, seen, r.Asked)
	l.Uses = l.Setup.Explained()
	l.Took = quantity.Of(time.Since(began))
	return l
}

// tells reads the counters of the storage once.
func tells(ctx context.Context, address string) *setup.Counters {
	source, err := counters.Open(address)
	if err != nil {
		return &setup.Counters{Trouble: err.Error()}
	}
	defer source.Close()
	count, err := source.Read(ctx)
	if err != nil {
		return &setup.Counters{Trouble: err.Error()}
	}
	return &setup.Counters{Count: count}
}

// behind finds what stands behind a locator.
func behind(ctx context.Context, explorer *host.Explorer, locator volume.Locator, r Request) (setup.Setup, []setup.Layer, setup.Seen) {
	traits := storage.TraitsOf(locator.Kind)
	if !traits.OnHost {
		return byItself(ctx, explorer, locator, traits, r)
	}
	var found host.Found
	var together sync.WaitGroup
	together.Go(func() {
		if err := wall.Do(func() (err error) { found, err = explorer.Explore(ctx, locator.Name); return err }); err != nil {
			found.Seen.Troubles = append(found.Seen.Troubles, fmt.Sprintf("not everything was looked at: %v", err))
		}
	})
	var asked setup.Seen
	together.Go(func() {
		if err := wall.Do(func() error { asked = ask(ctx, locator, traits, r); return nil }); err != nil {
			asked.Trouble = err.Error()
		}
	})
	together.Wait()
	found.Seen.Facts, found.Seen.Trouble, found.Seen.Late, found.Seen.Refusal, found.Seen.TestFile = asked.Facts, asked.Trouble, asked.Late, asked.Refusal, asked.TestFile
	found.Seen.Holds, found.Seen.UsedBy, found.Seen.Agreed, found.Seen.Unread = asked.Holds, asked.UsedBy, asked.Agreed, asked.Unread
	if found.Chain == nil {
		found.Chain = []setup.Layer{}
	}
	if found.Seen.Facts != nil && !r.Measuring {
		watch(ctx, found.Seen.Facts.Devices, &found.Seen)
	}
	return found.Setup, found.Chain, found.Seen
}

// ask asks the storage what a locator names, and whether it can be used as a run would.
func ask(ctx context.Context, locator volume.Locator, traits volume.Traits, r Request) (seen setup.Seen) {
	facts, err := patient.Ask(ctx, locator.String(), "look", func(ctx context.Context) (setup.Facts, error) { return r.Bounds.Look(ctx, locator) })
	if err != nil {
		return unreachable(err)
	}
	seen.Facts = &facts
	var unread error
	seen.Refusal, unread = refused(ctx, locator, r)
	seen.Agreed = r.Asked.Writes && r.Consent != nil && seen.Refusal == "" && unread == nil
	if unread == nil && !seen.Agreed && traits.Overwritten && (traits.Disk || r.Asked.Writes) {
		seen.Holds, seen.UsedBy, unread = held(ctx, locator, r)
	}
	if r.Tries && traits.Makes && facts.Writable && unread == nil && seen.Refusal == "" {
		found, err := patient.Ask(ctx, locator.String(), "test file", func(ctx context.Context) (volume.Way, error) { return r.Bounds.WayOf(ctx, locator) })
		if seen.TestFile = string(found); err != nil && !errors.Is(err, patient.ErrNoAnswer) {
			seen.Refusal = fmt.Sprintf("No test file can be made there: %v", err)
		}
	}
	if unread != nil {
		seen.Unread = fmt.Sprintf("What it holds and who uses it could not be looked at: %v", unread)
	}
	return seen
}

// unreachable is what is seen of storage that could not be looked at.
func unreachable(err error) setup.Seen {
	return setup.Seen{Trouble: err.Error(), Late: errors.Is(err, patient.ErrNoAnswer)}
}

// byItself describes what nothing of this host stands below.
func byItself(ctx context.Context, explorer *host.Explorer, locator volume.Locator, traits volume.Traits, r Request) (setup.Setup, []setup.Layer, setup.Seen) {
	type described struct {
		setup setup.Setup
		layer setup.Layer
		facts setup.Facts
	}
	d, err := patient.Ask(ctx, locator.String(), "describe", func(ctx context.Context) (d described, err error) {
		if d.setup, d.layer, _, err = r.Bounds.Describe(ctx, locator); err != nil || traits.Leads || traits.Overwritten {
			return d, err // what may be overwritten is asked for below, with all else
		}
		d.facts, err = r.Bounds.Look(ctx, locator)
		return d, err
	})
	if err != nil {
		return setup.Setup{}, []setup.Layer{}, unreachable(err)
	}
	seen := setup.Seen{Facts: &d.facts}
	if !traits.Virtual {
		d.setup = d.setup.Over(explorer.Machine(ctx))
	}
	if traits.Overwritten {
		seen = ask(ctx, locator, traits, r)
	}
	return d.setup, []setup.Layer{d.layer}, seen
}

// held tells what a device, or a file to be written, holds that was not agreed to
// be lost, and who uses it.
func held(ctx context.Context, locator volume.Locator, r Request) (holds string, users []string, err error) {
	type found struct{ holds, user string }
	f, err := patient.Ask(ctx, locator.String(), "holds", func(ctx context.Context) (found, error) {
		holds, user, err := r.Bounds.Holds(ctx, locator)
		return found{holds, user}, err
	})
	if f.user != "" {
		users = []string{f.user}
	}
	if c := r.Consent; c != nil && c.Lapsed == "" && c.Identity != nil && c.Identity.HoldsInWords() == f.holds {
		return "", users, err
	}
	return f.holds, users, err
}

// refused says why a run may not use the volume as asked. That there is no
// room has a check of its own. Storage that does not answer in time refuses
// nothing: the error says that it could not be looked at.
func refused(ctx context.Context, locator volume.Locator, r Request) (refusal string, unread error) {
	request := volume.Request{Size: 1, Writes: r.Asked.Writes, Consent: r.Consent}
	_, err := patient.Ask(ctx, locator.String(), request.Question("check"), func(ctx context.Context) (any, error) { return nil, r.Bounds.Check(ctx, locator, request) })
	if err == nil && storage.TraitsOf(locator.Kind).Overwritten {
		_, err = patient.Ask(ctx, locator.String(), "open", func(ctx context.Context) (any, error) { return nil, r.Bounds.Readable(ctx, locator) })
	}
	switch {
	case errors.Is(err, patient.ErrNoAnswer):
		return "", err
	case err != nil:
		return err.Error(), nil
	}
	return "", nil
}

// watch sees for a moment what host and devices do by themselves.
func watch(ctx context.Context, devices []string, seen *setup.Seen) {
	sampler := host.NewSampler(devices...)
	sampler.Sample()
	timer := time.NewTimer(watching)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		seen.Troubles = append(seen.Troubles, "whether host and devices are idle: there was no time left to watch them")
		return
	case <-timer.C:
	}
	b := sampler.Sample()
	if b == nil {
		return
	}
	seen.HostLooked = true
	for _, core := range b.CPU {
		seen.HostBusy += core / quantity.Share(len(b.CPU))
	}
	for _, d := range b.Devices {
		if d.Busy > busy {
			seen.Busy = append(seen.Busy, setup.Busy{Name: d.Name, Share: d.Busy})
		}
	}
}
