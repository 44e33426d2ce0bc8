package localfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"

	"patientheron/core/setup"
	"patientheron/storage/identity"
	"patientheron/storage/inuse"
	"patientheron/storage/volume"
)

// agree takes consent to overwrite a file or device: it must be what the user
// stated, not in use, and hold nothing that was not named. It gives the
// identity that the consent is for, and writes nothing.
func agree(path, kind string, claim volume.Claim, kept []string) (setup.Identity, error) {
	if kind != "file" && kind != "device" {
		return setup.Identity{}, fmt.Errorf("%s is a %s: %w: consent to overwrite is about a file or a device; leave it out", path, kind, volume.ErrConsent)
	}
	file, err := openToLook(path, kind)
	if err != nil {
		return setup.Identity{}, err
	}
	defer file.Close()
	if err := unused(file, path, kept); err != nil {
		return setup.Identity{}, err
	}
	found, err := identify(file)
	if err != nil {
		return found, err
	}
	return found, claim.Agreed(volume.Locator{Kind: kind, Name: path}, found)
}

// openToLook opens a file or device for reading; what became something else
// under its name is not waited for.
func openToLook(path, kind string) (*os.File, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, explain(err, path)
	}
	file := os.NewFile(uintptr(fd), path)
	if err := sameKind(file, kind); err != nil {
		file.Close()
		return nil, err
	}
	_ = unix.Fadvise(fd, 0, 0, unix.FADV_RANDOM) // nothing is read ahead of what is asked for
	return file, nil
}

// sameKind makes sure that a descriptor is of the kind a volume is known as.
func sameKind(file *os.File, kind string) error {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil {
		return fmt.Errorf("look at %s: %w", file.Name(), err)
	}
	if wanted := map[string]uint32{"file": unix.S_IFREG, "device": unix.S_IFBLK}[kind]; stat.Mode&unix.S_IFMT != wanted {
		return fmt.Errorf("%s: %w: it is no longer a %s; forget the volume and register it anew", file.Name(), volume.ErrNotStorage, kind)
	}
	return nil
}

// unused reports who uses what is opened to be looked at, as far as can be seen
// and as far as the kernel tells.
func unused(file *os.File, path string, kept []string) error {
	stack, err := free(file, path, kept)
	if err != nil {
		return err
	}
	return exclusive(file, path, stack)
}

// free reports who uses an opened file or device, what it stands on, or what else stands
// on that; or that the service keeps any of it for itself.
func free(file *os.File, path string, kept []string) (*identity.Stack, error) {
	use, stack, err := inuse.Find(file)
	if err == nil {
		err = ours(stack, path, kept)
	}
	switch {
	case errors.Is(err, volume.ErrInUse):
		return nil, err
	case err != nil:
		return nil, fmt.Errorf("open %s for writing: %w", path, err)
	case use != nil:
		return nil, inUse(path, use)
	}
	return stack, nil
}

func inUse(path string, use *inuse.Use) error {
	return fmt.Errorf("open %s for writing: %w: %s; nothing was written. Name other storage, or %s", path, volume.ErrInUse, use.What, use.Next)
}

// exclusive asks the kernel whether another layer holds a device, its partitions, or another
// path to it, where nothing shows who.
func exclusive(file *os.File, path string, stack *identity.Stack) error {
	held := &inuse.Use{What: "another layer of this host, or of a container on it, holds it", Next: "take it out of there"}
	for _, m := range stack.Members {
		again, err := file, error(nil)
		switch {
		case m.Relation == identity.Itself && !m.IsFile():
			again, err = reopen(file, unix.O_RDONLY|unix.O_EXCL, false)
		case m.Kind == identity.Partition || m.Kind == identity.Path:
			if m.Relation == identity.Below {
				continue
			}
			again, err = os.OpenFile("/dev/"+m.Name, unix.O_RDONLY|unix.O_EXCL|unix.O_NONBLOCK, 0)
		default:
			continue
		}
		if errors.Is(err, unix.EBUSY) && !inuse.Ourselves(file) {
			return inUse(path, held)
		}
		if err == nil {
			again.Close()
		}
	}
	return nil
}

// ours refuses what the service keeps for itself, whatever leads to it: its own files,
// also where they lie behind a device, its program, and what it writes its log to.
func ours(stack *identity.Stack, path string, kept []string) error {
	refuse := func(what string) error {
		return fmt.Errorf("open %s for writing: %w: it is %s; nothing was written. Name other storage", path, volume.ErrInUse, what)
	}
	files := stack.Files()
	is := func(path string) bool {
		at, err := identity.FileAt(path)
		return err == nil && slices.Contains(files, at)
	}
	if is("/proc/self/exe") {
		return refuse("the program of this service itself")
	}
	for fd := range 3 {
		if is(fmt.Sprintf("/proc/self/fd/%d", fd)) {
			return refuse("what this service reads or writes its log to")
		}
	}
	for _, m := range stack.Members {
		name := m.Name
		if m.Relation == identity.Itself {
			name = path
		}
		if m.Relation == identity.Beside || !m.IsFile() {
			continue
		}
		if folder := keptAbove(name, kept); folder != "" {
			return refuse("within " + folder + ", which the service keeps for itself")
		}
	}
	for _, folder := range kept {
		same := false
		_ = filepath.WalkDir(folder, func(at string, entry os.DirEntry, err error) error {
			if err == nil && entry.Type().IsRegular() && is(at) {
				same = true
				return filepath.SkipAll
			}
			return nil // what cannot be looked at is not ours
		})
		if same {
			return refuse("a file of " + folder + " under another name, which the service keeps for itself")
		}
	}
	return nil
}

// keptAbove is the folder of the service that path lies in, or "".
func keptAbove(path string, kept []string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		real = filepath.Clean(path)
	}
	for at := real; ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		for _, folder := range kept {
			if own, ownErr := os.Stat(folder); err == nil && ownErr == nil && os.SameFile(info, own) {
				return folder
			}
		}
		if at == filepath.Dir(at) {
			return ""
		}
	}
}

// still reports whether an opened file or device is what consent was given for, and gives
// the tenure that begins with that.
func still(file *os.File, l volume.Locator, claim volume.Claim) (*volume.Tenure, error) {
	if claim.Lapsed != "" || claim.Identity == nil {
		return nil, claim.Still(l, setup.Identity{})
	}
	found, err := identify(file)
	if err != nil {
		return nil, err
	}
	return claim.Tenure(l, found)
}

// checkConsent reports, before a run, why it may not write.
func checkConsent(path, kind string, request volume.Request, kept []string) error {
	if request.Consent == nil {
		return volume.NoConsent(volume.Locator{Kind: kind, Name: path})
	}
	file, err := openToLook(path, kind)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := unused(file, path, kept); err != nil {
		return err
	}
	if inuse.Ourselves(file) {
		return nil // a run is writing to it now; what it leaves is looked at when the next begins
	}
	_, err = still(file, volume.Locator{Kind: kind, Name: path}, *request.Consent)
	return err
}

// openForWriting opens what consent was given for, and makes sure on the opened
// descriptor that nobody uses it and that it is still that.
func openForWriting(path, kind string, request volume.Request, kept []string) (file *os.File, tenure *volume.Tenure, err error) {
	mode := unix.O_RDWR | unix.O_NONBLOCK | unix.O_CLOEXEC
	if kind == "device" {
		mode |= unix.O_EXCL // fails while anything else of the kernel holds the device
	}
	fd, err := unix.Open(path, mode, 0)
	if errors.Is(err, unix.EBUSY) {
		return nil, nil, inUse(path, &inuse.Use{What: "another layer of this host holds it", Next: "take it out of there"})
	}
	if err != nil {
		return nil, nil, explain(err, path)
	}
	file = os.NewFile(uintptr(fd), path)
	defer func() {
		if err != nil {
			file.Close()
		}
	}()
	if err = sameKind(file, kind); err != nil {
		return nil, nil, err
	}
	if _, err = free(file, path, kept); err != nil {
		return nil, nil, err
	}
	if use := inuse.Lock(file); use != nil {
		return nil, nil, inUse(path, use)
	}
	tenure, err = still(file, volume.Locator{Kind: kind, Name: path}, *request.Consent)
	return file, tenure, err
}

// holdsOf tells what is recognised on a file or device, and who uses it; both
// are empty when nothing is found.
func holdsOf(path, kind string) (holds, user string, err error) {
	if kind != "file" && kind != "device" {
		return "", "", nil
	}
	file, err := openToLook(path, kind)
	if err != nil {
		return "", "", err
	}
	defer file.Close()
	if use, _, err := inuse.Find(file); err != nil {
		return "", "", err
	} else if use != nil {
		user = use.What
	}
	found, err := identify(file)
	return found.HoldsInWords(), user, err
}
