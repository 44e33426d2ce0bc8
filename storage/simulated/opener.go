package simulated

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"patientheron/core/array"
	"patientheron/core/mistake"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	loadfiles "patientheron/core/workload/files"
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

// Absolute is the path of an array file from where the caller is.
func (Opener) Absolute(name string) (string, error) { return filepath.Abs(name) }

// Locator names the array that a file describes.
func Locator(path string) string { return scheme + ":" + path }

// NameOf is what its file calls it.
func (o Opener) NameOf(_ context.Context, l volume.Locator) string {
	d, _ := ReadWithin(o.Folders, l.Name, l.With...)
	return d.Name
}

// Traits of an array: its time is virtual, and it keeps no data.
func (Opener) Traits(kind string) volume.Traits {
	if kind != "array" {
		return volume.Traits{}
	}
	return volume.Traits{Virtual: true, KeepsNothing: true, Described: true}
}

// Look tells its size.
func (o Opener) Look(_ context.Context, l volume.Locator) (setup.Facts, error) {
	d, err := ReadWithin(o.Folders, l.Name, l.With...)
	if err != nil {
		return setup.Facts{}, err
	}
	return setup.Facts{Size: d.Size(), Alignment: 1, Writable: true}, nil
}

// Describe says what is in its array file.
func (o Opener) Describe(_ context.Context, l volume.Locator) (setup.Setup, setup.Layer, error) {
	d, err := ReadWithin(o.Folders, l.Name, l.With...)
	if err != nil {
		return setup.Setup{}, setup.Layer{}, err
	}
	return d.Setup(), d.Layers(), nil
}

// Check reads its array file.
func (o Opener) Check(_ context.Context, l volume.Locator, r volume.Request) error {
	d, err := ReadWithin(o.Folders, l.Name, l.With...)
	if err != nil {
		return err
	}
	return fits(d, r)
}

// fits reports an array that is too small for what is asked, or whose maps would take
// more memory than there is.
func fits(d array.Description, r volume.Request) error {
	if r.Cached && r.Writes && zoned(d) {
		return &mistake.Error{Of: workload.ErrInvalid, Field: "cached", Reason: fmt.Sprintf("the members of %s have zones that the host writes in order, and its page cache writes in another; leave cached out", d.Name)}
	}
	if needs := d.PageCache.Simulating(); r.Cached && r.Memory > 0 && d.Memory()+needs > r.Memory {
		return fmt.Errorf("%w: simulating a page cache of %s takes up to %s beside the %s of %s, and %s can be spared; make pageCache.size smaller, or leave cached out", volume.ErrMemory, d.PageCache.Completed().Size, needs, d.Memory(), d.Name, r.Memory)
	}
	if needs := d.Memory(); r.Memory > 0 && needs > r.Memory {
		return fmt.Errorf("%w: simulating %s takes up to %s once everything was used, and %s can be spared; use larger cache blocks or units of a thin volume, or smaller caches", volume.ErrMemory, d.Name, needs, r.Memory)
	}
	if size := d.Size(); r.Size > size {
		return fmt.Errorf("%w: the load reaches to %s bytes (%s), and %s has %s, of whole chunks and units; use a smaller span, or none for all of it", volume.ErrNoSpace, r.Size.Full(), r.Size, cmp.Or(d.Name, "the array"), size.Full())
	}
	for _, load := range r.Files {
		if err := fitsFiles(d, r, load); err != nil {
			return err
		}
	}
	return nil
}

func zoned(d array.Description) bool {
	return slices.ContainsFunc(d.Members, func(g array.Group) bool { return g.Zone > 0 })
}

// fitsFiles reports files of a load that an array has no room for, or cannot have.
func fitsFiles(d array.Description, r volume.Request, load workload.Spec) error {
	if zoned(d) {
		return &mistake.Error{Of: workload.ErrInvalid, Field: "files", Reason: fmt.Sprintf("the members of %s have zones that the host manages, which a file system that writes in place cannot use", d.Name)}
	}
	if from := loadfiles.FromFolder(load); from != "" {
		return &mistake.Error{Of: workload.ErrInvalid, Field: "from", Reason: fmt.Sprintf("%s is a real folder, whose time is that of the wall, and %s is simulated; describe the folder (heron files describe %s), name what that writes with files, and leave from out", from, d.Name, from)}
	}
	var files int64
	var bytes quantity.Bytes
	parts, _ := load.OfFiles()
	for _, p := range parts {
		set, err := loadfiles.Of(p).WorkedOut()
		if err != nil {
			return err
		}
		files, bytes = files+set.Len(), bytes+set.Bytes()
	}
	// Of each file the inode and the first block are kept, and of its place in the tree a bit.
	if needs := quantity.Bytes(files * 9); r.Memory > 0 && needs > r.Memory {
		return fmt.Errorf("%w: %d files on a simulated array take %s, and %s can be spared; use fewer files", volume.ErrMemory, files, needs, r.Memory)
	}
	if room := d.Size() - blocksEnd(load.Completed()); bytes > room {
		return fmt.Errorf("%w: %d files are %s in all, and %s has %s for them; use fewer or smaller files", volume.ErrNoSpace, files, bytes, d.Name, max(room, 0))
	}
	return nil
}

// Prepare builds it.
func (o Opener) Prepare(_ context.Context, l volume.Locator, r volume.Request) (volume.Volume, error) {
	d, err := ReadWithin(o.Folders, l.Name, l.With...)
	if err != nil {
		return nil, err
	}
	if err := fits(d, r); err != nil {
		return nil, err
	}
	v, err := New(d)
	if err == nil {
		v.pause = r.Pause
	}
	return v, err
}
