package localfile

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"syscall"

	"patientheron/core/setup"
	"patientheron/storage/volume"
)

// Opener opens folders, files and block devices by their absolute path.
type Opener struct {
	Kept   []string      // folders that the service keeps for itself: nothing is measured there
	Traces volume.Traces // where test files with a name are noted; nil where nobody does
}

// Parse takes an absolute path and looks at what it leads to.
func (Opener) Parse(name string) (volume.Locator, error) {
	if name == "" {
		return volume.Locator{}, fmt.Errorf("%w: it is empty; name a folder, a file, a block device, array:FILE or null:1TiB", volume.ErrLocator)
	}
	if !filepath.IsAbs(name) {
		return volume.Locator{}, fmt.Errorf("%w: %q is not an absolute path; the service does not know where you are", volume.ErrLocator, name)
	}
	path := filepath.Clean(name)
	kind, err := kindOf(path)
	return volume.Locator{Kind: kind, Name: path}, err
}

// Absolute is a path from where the caller is.
func (Opener) Absolute(name string) (string, error) { return filepath.Abs(name) }

// Traits of folders, files and devices.
func (Opener) Traits(kind string) volume.Traits {
	switch kind {
	case "folder":
		return volume.Traits{OnHost: true, Makes: true}
	case "file":
		return volume.Traits{OnHost: true, Overwritten: true}
	case "device":
		return volume.Traits{OnHost: true, Overwritten: true, Disk: true}
	}
	return volume.Traits{}
}

// Look tells what stands behind a path without writing anything.
func (Opener) Look(_ context.Context, l volume.Locator) (setup.Facts, error) {
	return look(l.Name, l.Kind)
}

// Check reports what would stop a run from being prepared, without writing
// anything.
func (o Opener) Check(_ context.Context, l volume.Locator, request volume.Request) error {
	switch {
	case len(request.Files) > 0 && l.Kind != "folder":
		return volume.NoFiles(l)
	case l.Kind == "folder":
		return o.checkFolder(l.Name, request)
	case !o.Traits(l.Kind).Overwritten:
		return fmt.Errorf("%s: %w", l.Name, volume.ErrNotStorage)
	case !request.Writes:
		return nil
	}
	return checkConsent(l.Name, l.Kind, request, o.Kept)
}

// Prepare makes it ready for a run: a folder gets a test file filled with real data.
func (o Opener) Prepare(ctx context.Context, l volume.Locator, request volume.Request) (volume.Volume, error) {
	if err := o.Check(ctx, l, request); err != nil {
		return nil, err
	}
	v, err := o.prepare(ctx, l, request)
	if err != nil {
		return nil, err
	}
	return v, nil
}

func (o Opener) prepare(ctx context.Context, l volume.Locator, request volume.Request) (*Volume, error) {
	if l.Kind == "folder" {
		return o.prepareFolder(ctx, l.Name, request)
	}
	return o.prepareExisting(l.Name, l.Kind, request)
}

// Agree takes consent to overwrite a file or device.
func (o Opener) Agree(_ context.Context, l volume.Locator, claim volume.Claim) (setup.Identity, error) {
	return agree(l.Name, l.Kind, claim, o.Kept)
}

// Holds tells what is recognised on a file or device, and who uses it.
func (Opener) Holds(_ context.Context, l volume.Locator) (holds, user string, err error) {
	return holdsOf(l.Name, l.Kind)
}

// Readable opens a file or device for reading, and closes it.
func (Opener) Readable(_ context.Context, l volume.Locator) error {
	file, err := os.OpenFile(l.Name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	return file.Close()
}

// WayOf tells how a folder takes a test file.
func (o Opener) WayOf(_ context.Context, l volume.Locator) (volume.Way, error) {
	return wayOf(l.Name, o.Traces)
}
