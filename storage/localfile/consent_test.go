package localfile

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/volume"
)

// agreed makes a file of a size and takes consent to overwrite it.
func agreed(t *testing.T, path string, size int) volume.Claim {
	t.Helper()
	if err := os.WriteFile(path, make([]byte, size), 0o600); err != nil {
		t.Fatal(err)
	}
	claim := volume.Claim{Size: quantity.Bytes(size)}
	identity, err := agree(path, "file", claim, nil)
	if err != nil {
		t.Fatal(err)
	}
	claim.Identity = &identity
	return claim
}

// prepared prepares a run that writes, and gives the error.
func prepared(t *testing.T, path string, claim *volume.Claim, kept ...string) error {
	t.Helper()
	checked := Opener{Kept: kept}.Check(t.Context(), at(path, "file"), volume.Request{Writes: true, Consent: claim})
	v, err := Opener{Kept: kept}.Prepare(t.Context(), at(path, "file"), volume.Request{Writes: true, Consent: claim})
	if err == nil {
		v.Close()
	}
	if (checked == nil) != (err == nil) {
		t.Errorf("checked: %v, prepared: %v", checked, err)
	}
	return err
}

// Consent is for one file as it is: whatever else stands in its place, or is
// written to it by others, ends it.
func TestConsentIsForAnIdentity(t *testing.T) {
	const size = 4 << 20
	for name, change := range map[string]func(path string) error{
		"made anew": func(path string) error {
			return errors.Join(os.Rename(path, path+".old"), os.WriteFile(path, make([]byte, size), 0o600))
		},
		"a link to another": func(path string) error {
			return errors.Join(os.Rename(path, path+".old"), os.WriteFile(path+".other", make([]byte, size), 0o600), os.Symlink(path+".other", path))
		},
		"grown":                      func(path string) error { return os.Truncate(path, size*2) },
		"the first byte written":     func(path string) error { return writeAt(path, 0) },
		"the last byte written":      func(path string) error { return writeAt(path, size-1) },
		"a file system made":         func(path string) error { return writeText(path, "\x53\xef", 0x438) },
		"a byte in its middle":       nil, // see below: only ends are hashed
		"left as it is":              nil,
		"another name, the same":     func(path string) error { return errors.Join(os.Link(path, path+".too"), nil) },
		"read by others":             func(path string) error { _, err := os.ReadFile(path); return err },
		"its time of change altered": func(path string) error { return os.Chmod(path, 0o640) },
	} {
		path := filepath.Join(t.TempDir(), "file")
		claim := agreed(t, path, size)
		if change != nil {
			if err := change(path); err != nil {
				t.Fatal(err)
			}
		}
		err := prepared(t, path, &claim)
		var lapsed *volume.LapsedError
		stays := change == nil || name == "another name, the same" || name == "read by others" || name == "its time of change altered"
		if stays && err != nil || !stays && (!errors.As(err, &lapsed) || !errors.Is(err, volume.ErrConsent)) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func writeAt(path string, at int64) error { return writeText(path, "x", at) }

func writeText(path, text string, at int64) error {
	file, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = file.WriteAt([]byte(text), at)
	return errors.Join(err, file.Close())
}

// After a run of ours consent goes on for what it left.
func TestConsentGoesOnAfterOurOwnWrites(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	claim := agreed(t, path, 2<<20)
	v, err := Opener{}.prepare(t.Context(), at(path, "file"), volume.Request{Writes: true, Consent: &claim})
	if err != nil {
		t.Fatal(err)
	}
	// A second run asked for meanwhile is not refused for what the first does.
	used, err := v.Use(t.Context(), workload.Spec{Kind: workload.BlockKind, Pattern: workload.Pattern{Span: 4096}})
	if err != nil {
		t.Fatal(err)
	}
	if err := writeAt(path, 0); err != nil {
		t.Fatal(err)
	}
	if err := (Opener{}).Check(t.Context(), at(path, "file"), volume.Request{Writes: true, Consent: &claim}); err != nil {
		t.Errorf("a run asked for while one writes: %v", err)
	}
	used.Close()
	identity, err := v.Identity(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	v.Close()
	if err := prepared(t, path, &claim); err == nil {
		t.Error("the identity from before the write still holds")
	}
	claim.Identity = &identity
	if err := prepared(t, path, &claim); err != nil {
		t.Errorf("the identity taken after our own write: %v", err)
	}
}

// What others do while a run goes on ends the consent, before the next load as well as after
// the last one; what the run itself writes does not.
func TestWhatOthersWriteIsNotAdopted(t *testing.T) {
	const size = 24 << 20
	ours := workload.Spec{Kind: workload.BlockKind, Pattern: workload.Pattern{Offset: 4 << 20, Span: 1 << 20}}
	for name, c := range map[string]struct {
		does  func(path string) error
		words string // "" where it stays
	}{
		"nothing":                {func(string) error { return nil }, ""},
		"the run writes":         {func(path string) error { return writeText(path, strings.Repeat("ours", 1<<18), 4<<20) }, ""},
		"a file system over all": {func(path string) error { return exec.Command("mkfs.ext4", "-q", "-F", path).Run() }, "ext2/3/4 is on it"},
		"a file system further back": {func(path string) error {
			return exec.Command("mkfs.ext4", "-q", "-F", "-E", "offset=8388608", path, "8M").Run()
		}, "8 MiB was written since"},
		"the first byte": {func(path string) error { return writeAt(path, 0) }, "its first MiB was written since"},
		"the last byte":  {func(path string) error { return writeAt(path, size-1) }, "its last MiB was written since"},
		"another in place": {func(path string) error {
			return errors.Join(os.Rename(path, path+".old"), os.WriteFile(path, make([]byte, size), 0o600))
		}, ""},
		"it grows": {func(path string) error { return os.Truncate(path, 2*size) }, "its size was"},
	} {
		path := filepath.Join(t.TempDir(), "file")
		claim := agreed(t, path, size)
		v, err := Opener{}.prepare(t.Context(), at(path, "file"), volume.Request{Writes: true, Consent: &claim})
		if err != nil {
			t.Fatal(err)
		}
		used, err := v.Use(t.Context(), ours)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		used.Close()
		if err := c.does(path); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for when, again := range map[string]func() error{
			"after the run":        func() error { _, err := v.Identity(t.Context()); return err },
			"before the next load": func() error { _, err := v.Use(t.Context(), ours); return err },
		} {
			err := again()
			var lapsed *volume.LapsedError
			if c.words == "" && err != nil || c.words != "" && (!errors.As(err, &lapsed) || !strings.Contains(err.Error(), c.words)) {
				t.Errorf("%s, %s: %v, want %q", name, when, err, c.words)
			}
		}
		v.Close()
	}
}

// Serial number and size that were stated stay stated, whatever identity is kept beside them.
func TestWhatWasStatedIsLookedAtAgain(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	claim := agreed(t, path, 2<<20)
	for name, change := range map[string]func(*volume.Claim){
		"another size": func(c *volume.Claim) { c.Size *= 2 }, "another serial number": func(c *volume.Claim) { c.Serial = "S1" },
	} {
		other := claim
		change(&other)
		if err := prepared(t, path, &other); !errors.Is(err, volume.ErrConsent) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// What is there has to be named, recognised or not.
func TestWhatIsThereHasToBeNamed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	for name, c := range map[string]struct {
		text        string
		at          int64
		holds, want string // want "" for agreed
	}{
		"nothing":                     {"", 0, "", ""},
		"unknown":                     {"the samples of 2019", 5000, "", `--holds "unknown content"`},
		"unknown, named":              {"the samples of 2019", 5000, "unknown content", ""},
		"unknown at the end":          {"x", 3<<20 - 1, "", `--holds "unknown content"`},
		"recognised":                  {"XFSB", 0, "", `--holds "xfs"`},
		"recognised, named":           {"XFSB", 0, "xfs", ""},
		"recognised, wrongly named":   {"XFSB", 0, "ext2/3/4", `it holds xfs`},
		"nothing, but something said": {"", 0, "xfs", "nothing is on it"},
	} {
		if err := os.WriteFile(path, make([]byte, 3<<20), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := writeText(path, c.text, c.at); err != nil {
			t.Fatal(err)
		}
		_, err := agree(path, "file", volume.Claim{Size: 3 << 20, Holds: c.holds}, nil)
		if (err == nil) != (c.want == "") || err != nil && (!errors.Is(err, volume.ErrConsent) || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	if _, err := agree(path, "file", volume.Claim{Size: 1 << 20}, nil); !errors.Is(err, volume.ErrConsent) || !strings.Contains(err.Error(), "look again") {
		t.Errorf("another size: %v", err)
	}
	if _, err := agree(filepath.Dir(path), "folder", volume.Claim{}, nil); !errors.Is(err, volume.ErrConsent) {
		t.Errorf("a folder: %v", err)
	}
}

// What the service keeps for itself is never written over, whatever name leads
// to it.
func TestOurOwnFilesAreKept(t *testing.T) {
	kept, elsewhere := t.TempDir(), t.TempDir()
	database := filepath.Join(kept, "heron.sqlite")
	claim := agreed(t, database, 1<<20)
	if err := os.Mkdir(filepath.Join(kept, "below"), 0o700); err != nil {
		t.Fatal(err)
	}
	below := filepath.Join(kept, "below", "file")
	agreed(t, below, 1<<20)
	linked, hard := filepath.Join(elsewhere, "link"), filepath.Join(elsewhere, "hard")
	if err := errors.Join(os.Symlink(database, linked), os.Link(below, hard)); err != nil {
		t.Fatal(err)
	}
	program, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	info, err := os.Stat(program)
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{database, below, linked, hard, program} {
		size := quantity.Bytes(1 << 20)
		if path == program {
			size = quantity.Bytes(info.Size())
		}
		if _, err := agree(path, "file", volume.Claim{Size: size, Holds: "unknown content"}, []string{kept}); !errors.Is(err, volume.ErrInUse) {
			t.Errorf("consent for %s: %v", path, err)
		}
	}
	if err := prepared(t, database, &claim, kept); !errors.Is(err, volume.ErrInUse) {
		t.Errorf("a run on the database: %v", err)
	}
	for _, folder := range []string{kept, filepath.Join(kept, "below")} {
		if err := (Opener{Kept: []string{kept}}).Check(t.Context(), at(folder, "folder"), volume.Request{Size: 4096}); !errors.Is(err, volume.ErrInUse) {
			t.Errorf("a test file in %s: %v", folder, err)
		}
	}
	if err := (Opener{Kept: []string{kept}}).Check(t.Context(), at(elsewhere, "folder"), volume.Request{Size: 4096}); err != nil {
		t.Errorf("a test file elsewhere: %v", err)
	}
}

// What became something else under its name is refused at once, and not waited
// for.
func TestAnotherKindUnderTheSameName(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	claim := agreed(t, path, 1<<20)
	if err := errors.Join(os.Remove(path), os.Mkdir(path, 0o700)); err != nil {
		t.Fatal(err)
	}
	if err := prepared(t, path, &claim); err == nil {
		t.Error("a folder was opened as a file")
	}
}
