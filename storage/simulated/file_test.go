package simulated

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/core/mistake"
	"patientheron/storage/volume"
)

const possible = "members: {count: 4, medium: ssd, capacity: 1TB}\nlayout: {level: raid10}\n"

func put(t *testing.T, path, text string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestReadFile(t *testing.T) {
	folder := t.TempDir()
	path := put(t, filepath.Join(folder, "array.yaml"), "members: {count: 2, medium: ssd, capacity: 1GB}\nlayout: {level: raid5}\n")
	if _, err := ReadFile(path); err == nil || !strings.Contains(err.Error(), "line 2, column 17") {
		t.Errorf("an impossible array: %v", err)
	}
	if _, err := ReadFile(path + ".missing"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing file: %v", err)
	}
}

// The service reads array files where it may and nothing else, whatever path
// leads there, and says nothing of what others hold.
func TestReadWithin(t *testing.T) {
	allowed, outside := t.TempDir(), t.TempDir()
	put(t, filepath.Join(allowed, "good.yaml"), possible)
	secret := put(t, filepath.Join(outside, "shadow"), "root:$6$verysecret:19000:0:99999:7:::\n")
	put(t, filepath.Join(outside, "array.yaml"), possible)
	put(t, filepath.Join(allowed, "secret.yaml"), "password: verysecret\n")
	put(t, filepath.Join(allowed, "large.yaml"), possible+strings.Repeat("# verysecret\n", 100_000))
	for link, to := range map[string]string{"link.yaml": secret, "up.yaml": "../" + filepath.Base(outside) + "/array.yaml", "near.yaml": "good.yaml", "zero.yaml": "/dev/zero"} {
		if err := os.Symlink(to, filepath.Join(allowed, link)); err != nil {
			t.Fatal(err)
		}
	}
	if err := unix.Mkfifo(filepath.Join(allowed, "fifo.yaml"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(allowed, "folder.yaml"), 0o700); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		path string
		want error // nil for none, os.ErrInvalid for any
	}{
		"good":                   {allowed + "/good.yaml", nil},
		"a link that stays":      {allowed + "/near.yaml", nil},
		"outside":                {outside + "/array.yaml", ErrOutside},
		"outside by dots":        {allowed + "/../" + filepath.Base(outside) + "/array.yaml", ErrOutside},
		"a system file":          {"/etc/shadow", ErrOutside},
		"a device":               {"/dev/zero", ErrOutside},
		"a link to a secret":     {allowed + "/link.yaml", os.ErrInvalid},
		"a link to an array":     {allowed + "/up.yaml", os.ErrInvalid},
		"a link to a device":     {allowed + "/zero.yaml", os.ErrInvalid},
		"a FIFO":                 {allowed + "/fifo.yaml", ErrNotArrayFile},
		"a folder":               {allowed + "/folder.yaml", ErrNotArrayFile},
		"too large":              {allowed + "/large.yaml", ErrNotArrayFile},
		"something else of ours": {allowed + "/secret.yaml", ErrNotArrayFile},
		"missing":                {allowed + "/missing.yaml", os.ErrNotExist},
		"the folder itself":      {allowed, ErrNotArrayFile},
	} {
		_, err := ReadWithin([]string{t.TempDir(), allowed}, c.path)
		if c.want == os.ErrInvalid && err == nil || c.want != os.ErrInvalid && !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
		if err != nil && strings.Contains(err.Error(), "verysecret") {
			t.Errorf("%s: the error gives content away: %v", name, err)
		}
	}
}

func TestKeep(t *testing.T) {
	folder := t.TempDir()
	path, err := Keep(folder, "rack", []byte(possible))
	if err != nil || path != filepath.Join(folder, "rack.yaml") {
		t.Fatal(path, err)
	}
	if _, err := Keep(folder, "rack.yaml", []byte("members: 3\n")); err == nil {
		t.Error("an impossible array took the place of a possible one")
	}
	if d, err := ReadWithin([]string{folder}, path); err != nil || d.Members[0].Count != 4 {
		t.Errorf("%+v, %v", d, err)
	}
	if left, _ := os.ReadDir(folder); len(left) != 1 {
		t.Errorf("left behind: %v", left)
	}
	if _, err := Keep(filepath.Join(folder, "gone"), "x", []byte(possible)); err == nil {
		t.Error("kept in no folder")
	}
}

// What would take more memory than there is is refused before it is built.
func TestMemoryIsAskedFor(t *testing.T) {
	folder := t.TempDir()
	path := put(t, filepath.Join(folder, "large.yaml"), "name: Large\nmembers: {count: 24, medium: ssd, capacity: 16TB}\nlayout: {level: raid6}\ncaches: {size: 64TiB, block: 1MiB, mode: read-only, devices: 8}\n")
	o := Opener{Folders: []string{folder}}
	l := volume.Locator{Scheme: "array", Kind: "array", Name: path}
	err := o.Check(t.Context(), l, volume.Request{Memory: 1 << 30})
	if !errors.Is(err, volume.ErrMemory) || !strings.Contains(err.Error(), "larger cache blocks") {
		t.Errorf("within a gibibyte: %v", err)
	}
	if _, err := o.Prepare(t.Context(), l, volume.Request{Memory: 1 << 30}); !errors.Is(err, volume.ErrMemory) {
		t.Errorf("prepared within a gibibyte: %v", err)
	}
	if err := o.Check(t.Context(), l, volume.Request{Memory: 8 << 30}); err != nil {
		t.Error(err)
	}

	l.Name = put(t, filepath.Join(folder, "remembers.yaml"), possible+"pageCache: {size: 64GiB}\n")
	if err := o.Check(t.Context(), l, volume.Request{Memory: 1 << 30}); err != nil {
		t.Error(err)
	}
	if err := o.Check(t.Context(), l, volume.Request{Memory: 1 << 30, Cached: true}); !errors.Is(err, volume.ErrMemory) || !strings.Contains(err.Error(), "pageCache.size") {
		t.Errorf("a page cache of 64 GiB within a gibibyte: %v", err)
	}
	l.Name = put(t, filepath.Join(folder, "zones.yaml"), "name: Zones\nmembers: {count: 1, medium: ssd, capacity: 64GiB, zone: 64MiB}\nlayout: {level: concatenation}\n")
	var wrong *mistake.Error
	if err := o.Check(t.Context(), l, volume.Request{Cached: true, Writes: true}); !errors.As(err, &wrong) || wrong.Field != "cached" {
		t.Errorf("zones through a page cache: %v", err)
	}
	if err := o.Check(t.Context(), l, volume.Request{Cached: true}); err != nil {
		t.Error(err)
	}
}
