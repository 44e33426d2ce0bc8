package volume

import (
	"fmt"
	"strings"

	"patientheron/core/setup"
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
	if changed := c.Identity.Differences(found); len(changed) > 0 {
		return &LapsedError{Path: l.String(), Why: "this is not what was agreed to: " + strings.Join(changed, ", ")}
	}
	return nil
}

// NoConsent is the refusal of a load that writes where nobody agreed to it.
func NoConsent(l Locator) error {
	return fmt.Errorf("%s: %w: the workload would overwrite what this %s holds; measure with reads 100%%, or give consent to overwrite it (heron volume consent)", l, ErrConsent, l.Kind)
}
