package null

import (
	"cmp"
	"context"
	"fmt"

	"patientheron/core/load"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

// Opener opens null volumes by their size.
type Opener struct{}

// Parse takes a size; nothing is 1 TiB.
func (Opener) Parse(name string) (volume.Locator, error) {
	size, err := quantity.ParseBytes(cmp.Or(name, "1TiB"))
	if err != nil {
		return volume.Locator{}, fmt.Errorf("%w: %w", volume.ErrLocator, err)
	}
	if size < 1 {
		return volume.Locator{}, fmt.Errorf("%w: a null volume of %s holds nothing; write null:1TiB", volume.ErrLocator, size)
	}
	text, err := size.MarshalYAML()
	return volume.Locator{Scheme: "null", Kind: "null", Name: string(text)}, err
}

// Traits of the null volume: it keeps nothing.
func (Opener) Traits(kind string) volume.Traits {
	if kind != "null" {
		return volume.Traits{}
	}
	return volume.Traits{KeepsNothing: true}
}

func open(l volume.Locator) (Volume, error) {
	size, err := quantity.ParseBytes(l.Name)
	return Volume{Size: size}, err
}

// Look tells its size.
func (Opener) Look(_ context.Context, l volume.Locator) (setup.Facts, error) {
	v, err := open(l)
	return setup.Facts{Size: v.Size, Alignment: 1, Writable: true}, err
}

// Describe says what it is.
func (Opener) Describe(_ context.Context, l volume.Locator) (setup.Setup, setup.Layer, error) {
	return setup.Setup{}, setup.Layer{Kind: "null", Name: l.String(), Words: "answers at once and moves nothing", Below: []setup.Layer{}}, nil
}

// Check finds nothing in the way.
func (Opener) Check(_ context.Context, l volume.Locator, r volume.Request) error {
	if len(r.Files) > 0 {
		return volume.NoFiles(l)
	}
	return nil
}

// Prepare has nothing to do.
func (Opener) Prepare(_ context.Context, l volume.Locator, _ volume.Request) (volume.Volume, error) {
	v, err := open(l)
	return prepared{v}, err
}

type prepared struct{ Volume }

func (p prepared) Use(context.Context, workload.Spec) (load.Volume, error) { return p.Volume, nil }
