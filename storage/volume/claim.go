package volume

import (
	"fmt"
	"strings"

	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Agreed reports whether what was found is what a user says in the consent: its size, its
// serial number, and what it holds.
func (c Claim) Agreed(l Locator, found setup.Identity) error {
	holds := found.HoldsInWords()
	switch {
	case found.Size != c.Size:
		return fmt.Errorf("%s: %w: it is %s bytes large, the consent names %s bytes; look again at which %s you mean", l, ErrConsent, found.Size.Full(), c.Size.Full(), l.Kind)
	case found.Serial != c.Serial:
		return fmt.Errorf("%s: %w: its serial number is %q, the consent names %q; look again at which %s you mean", l, ErrConsent, found.Serial, c.Serial, l.Kind)
	case holds == c.Holds:
		return nil
	case holds == "":
		return fmt.Errorf("%s: %w: nothing is on it, the consent names %q; look again at which %s you mean", l, ErrConsent, c.Holds, l.Kind)
	}
	return fmt.Errorf("%s: %w: it holds %s; nothing was written. If that may be lost, name it in the consent (--holds %q)", l, ErrConsent, holds, holds)
}

// Still reports whether what was found is what consent was given for.
func (c Claim) Still(l Locator, found setup.Identity) error {
	if c.Lapsed != "" {
		return &LapsedError{Path: l.String(), Why: c.Lapsed}
	}
	if c.Identity == nil {
		return &LapsedError{Path: l.String(), Why: "it was given before identities were kept"}
	}
	if found.Size != c.Size || found.Serial != c.Serial {
		return &LapsedError{Path: l.String(), Why: fmt.Sprintf("it names %s bytes with the serial number %q, and there are %s bytes with %q", c.Size.Full(), c.Serial, found.Size.Full(), found.Serial)}
	}
	if changed := c.Identity.Differences(found); len(changed) > 0 {
		return &LapsedError{Path: l.String(), Why: "this is not what was agreed to: " + strings.Join(changed, ", ")}
	}
	return nil
}

// Tenure is storage that a run may write to, from when it found there what was agreed to:
// what the run itself wrote may differ from then on, and nothing else.
type Tenure struct {
	locator Locator
	agreed  setup.Identity
	written []setup.Range
}

// Tenure begins with what was found, and is what the claim is for.
func (c Claim) Tenure(l Locator, found setup.Identity) (*Tenure, error) {
	if err := c.Still(l, found); err != nil {
		return nil, err
	}
	return &Tenure{locator: l, agreed: found}, nil
}

// Writes notes that a load begins to write.
func (t *Tenure) Writes(spec workload.Spec) {
	for _, p := range spec.Completed().Parts() {
		if _, writes := p.Reach(); !writes || p.Traits().OnFiles {
			continue
		}
		r := setup.Range{Start: p.Offset, End: p.Offset + p.Span}
		if p.Span == 0 {
			r.End = t.agreed.Size
		}
		t.written = append(t.written, r)
	}
}

// Still reports whether what was found since is what was agreed to, beside what the run
// itself wrote.
func (t *Tenure) Still(found setup.Identity) error {
	if changed := t.agreed.ChangedBeside(t.written, found); len(changed) > 0 {
		return &LapsedError{Path: t.locator.String(), Why: "somebody else changed it while a run went on: " + strings.Join(changed, ", ")}
	}
	return nil
}

// NoConsent is the refusal of a load that writes where nobody agreed to it.
func NoConsent(l Locator) error {
	return fmt.Errorf("%s: %w: the workload would overwrite what this %s holds; measure with reads 100%%, or give consent to overwrite it (heron volume consent)", l, ErrConsent, l.Kind)
}
