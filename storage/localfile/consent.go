package localfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"patientheron/core/setup"
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
	if err := free(file, path, kept); err != nil {
		return err
	}
	return exclusive(file, path)
}

// free reports who uses an opened file or device, or that the service keeps it
// for itself.
func free(file *os.File, path string, kept []string) error {
	if err := ours(file, path, kept); err != nil {
		return err
	}
	use, err := inuse.Find(file)
	if err != nil {
		return fmt.Errorf("open %s for writing: %w", path, err)
	}
	if use != nil {
		return inUse(path, use)
	}
	return nil
}

func inUse(path string, use *inuse.Use) error {
	return fmt.Errorf("open %s for writing: %w: %s; nothing was written. Name other storage, or %s", path, volume.ErrInUse, use.What, use.Next)
}

// exclusive asks the kernel whether another layer holds a device, where nothing
// shows who.
func exclusive(file *os.File, path string) error {
	var stat unix.Stat_t
	if err := unix.Fstat(int(file.Fd()), &stat); err != nil || stat.Mode&unix.S_IFMT != unix.S_IFBLK {
		return nil
	}
	again, err := reopen(file, unix.O_RDONLY|unix.O_EXCL, false)
	if errors.Is(err, unix.EBUSY) && !inuse.Ourselves(file) {
		return inUse(path, &inuse.Use{What: "another layer of this host, or of a container on it, holds it", Next: "take it out of there"})
	}
	if err == nil {
		again.Close()
	}
	return nil
}

// ours refuses what the service keeps for itself: its own files, whatever path
// leads to them, its program, and what it writes its log to.
func ours(file *os.File, path string, kept []string) error {
	found, err := file.Stat()
	if err != nil {
		return fmt.Errorf("look at %s: %w", path, err)
	}
	refuse := func(what string) error {
		return fmt.Errorf("open %s for writing: %w: it is %s; nothing was written. Name other storage", path, volume.ErrInUse, what)
	}
	if program, err := os.Stat("/proc/self/exe"); err == nil && os.SameFile(program, found) {
		return refuse("the program of this service itself")
	}
	for fd := range 3 {
		if own, err := os.Stat(fmt.Sprintf("/proc/self/fd/%d", fd)); err == nil && os.SameFile(own, found) {
			return refuse("what this service reads or writes its log to")
		}
	}
	if folder := keptAbove(path, kept); folder != "" {
		return refuse("within " + folder + ", which the service keeps for itself")
	}
	for _, folder := range kept {
		same := false
		_ = filepath.WalkDir(folder, func(_ string, entry os.DirEntry, err error) error {
			if err != nil {
				return nil // what cannot be looked at is not ours
			}
			if info, err := entry.Info(); err == nil && os.SameFile(info, found) {
				same = true
				return filepath.SkipAll
			}
			return nil
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

// still reports whether an opened file or device is what consent was given for.
func still(file *os.File, path string, claim volume.Claim) error {
	l := volume.Locator{Name: path}
	if claim.Lapsed != "" || claim.Identity == nil {
		return claim.Still(l, setup.Identity{})
	}
	found, err := identify(file)
	if err != nil {
		return err
	}
	return claim.Still(l, found)
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
	return still(file, path, *request.Consent)
}

// openForWriting opens what consent was given for, and makes sure on the opened
// descriptor that nobody uses it and that it is still that.
func openForWriting(path, kind string, request volume.Request, kept []string) (*os.File, error) {
	mode := unix.O_RDWR | unix.O_NONBLOCK | unix.O_CLOEXEC
	if kind == "device" {
		mode |= unix.O_EXCL // fails while anything else of the kernel holds the device
	}
	fd, err := unix.Open(path, mode, 0)
	if errors.Is(err, unix.EBUSY) {
		return nil, inUse(path, &inuse.Use{What: "another layer of this host holds it", Next: "take it out of there"})
	}
	if err != nil {
		return nil, explain(err, path)
	}
	file := os.NewFile(uintptr(fd), path)
	err = sameKind(file, kind)
	if err == nil {
		err = free(file, path, kept)
	}
	if use := inuse.Lock(file); err == nil && use != nil {
		err = inUse(path, use)
	}
	if err == nil {
		err = still(file, path, *request.Consent)
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
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
	if use, err := inuse.Find(file); err != nil {
		return "", "", err
	} else if use != nil {
		user = use.What
	}
	found, err := identify(file)
	return found.HoldsInWords(), user, err
}
