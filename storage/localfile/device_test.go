package localfile

import (
	"errors"
	"os"
	"path/filepath"
	"testing"
)

func TestMountSource(t *testing.T) {
	root := t.TempDir()
	mounts := `20 1 8:1 / / rw - ext4 /dev/sda1 rw
30 20 0:44 / /srv/my\040pool rw - btrfs /dev/sdb rw
31 20 0:45 / /srv/my\040poolside rw - xfs /dev/sdc rw
`
	place := filepath.Join(root, "proc/self/mountinfo")
	if err := errors.Join(os.MkdirAll(filepath.Dir(place), 0o755), os.WriteFile(place, []byte(mounts), 0o600)); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{
		"/srv/my pool/in/here": "/dev/sdb", "/srv/my pool": "/dev/sdb", "/srv/my poolside/x": "/dev/sdc", "/srv/my": "/dev/sda1", "/": "/dev/sda1",
	} {
		if got := mountSource(root, path); got != want {
			t.Errorf("%s is on %q, want %q", path, got, want)
		}
	}
}
