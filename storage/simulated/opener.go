package simulated

import (
	"context"
	"fmt"
	"path/filepath"

	"patientheron/core/setup"
	"patientheron/storage/volume"
)

// scheme is what locators of simulated arrays begin with.
const scheme = "array"

// Opener opens simulated arrays by their array files.
type Opener struct {
	Folders []string // in and below which array files are read
}

// Parse takes the absolute path of an array file.
func (Opener) Parse(name string) (volume.Locator, error) {
	if !filepath.IsAbs(name) {
		return volume.Locator{}, fmt.Errorf("%w: %q is not an absolute path; the service does not know where you are", volume.ErrLocator, scheme+":"+name)
	}
	return volume.Locator{Scheme: scheme, Kind: "array", Name: filepath.Clean(name)}, nil
}

// Traits of an array: its time is virtual, and it keeps no data.
func (Opener) Traits(kind string) volume.Traits {
	if kind != "array" {
		return volume.Traits{}
	}
	return volume.Traits{Virtual: true, KeepsNothing: true}
}

// Look tells its size.
func (o Opener) Look(l volume.Locator) (setup.Facts, error) {
	d, err := ReadWithin(o.Folders, l.Name)
	if err != nil {
		return setup.Facts{}, err
	}
	return setup.Facts{Size: d.Usable(), Alignment: 1, Writable: true}, nil
}

// Describe says what is in its array file.
func (o Opener) Describe(l volume.Locator) (setup.Setup, setup.Layer, error) {
	d, err := ReadWithin(o.Folders, l.Name)
	if err != nil {
		return setup.Setup{}, setup.Layer{}, err
	}
	return d.Setup(), d.Layers(), nil
}

// Check reads its array file.
func (o Opener) Check(l volume.Locator, _ volume.Request) error {
	_, err := ReadWithin(o.Folders, l.Name)
	return err
}

// Prepare builds it.
func (o Opener) Prepare(_ context.Context, l volume.Locator, _ volume.Request) (volume.Volume, error) {
	d, err := ReadWithin(o.Folders, l.Name)
	if err != nil {
		return nil, err
	}
	return New(d)
}
