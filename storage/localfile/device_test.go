package localfile

import (
	"os"
	"path/filepath"
	"testing"
)

func write(t *testing.T, path, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

// A host made of files: sda has two partitions, sdb is bare.
func fixture(t *testing.T, mounts, swaps string, holders ...string) string {
	t.Helper()
	root := t.TempDir()
	block := root + "/sys/class/block/"
	write(t, block+"sda/dev", "8:0\n")
	write(t, block+"sda/sda1/dev", "8:1\n")
	write(t, block+"sda/sda2/dev", "8:2\n")
	write(t, block+"sdb/dev", "8:16\n")
	for _, holder := range holders {
		write(t, block+holder, "")
	}
	write(t, root+"/proc/self/mountinfo", mounts)
	write(t, root+"/proc/swaps", "Filename Type Size Used Priority\n"+swaps)
	return root
}

func TestMountSource(t *testing.T) {
	root := fixture(t, `20 1 8:1 / / rw - ext4 /dev/sda1 rw
30 20 0:44 / /srv/my\040pool rw - btrfs /dev/sdb rw
31 20 0:45 / /srv/my\040poolside rw - xfs /dev/sdc rw
`, "")
	for path, want := range map[string]string{
		"/srv/my pool/in/here": "/dev/sdb", "/srv/my pool": "/dev/sdb", "/srv/my poolside/x": "/dev/sdc", "/srv/my": "/dev/sda1", "/": "/dev/sda1",
	} {
		if got := mountSource(root, path); got != want {
			t.Errorf("%s is on %q, want %q", path, got, want)
		}
	}
}
