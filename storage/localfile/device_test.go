package localfile

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
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

func TestDeviceInUse(t *testing.T) {
	for name, c := range map[string]struct {
		mounts, swaps string
		holders       []string
		device        string
		words         string // "" for free
	}{
		"nobody uses it":           {device: "sda"},
		"a partition is mounted":   {mounts: "30 1 8:2 / /srv rw - ext4 /dev/sda2 rw\n", device: "sda", words: "sda2 holds ext4 mounted on /srv"},
		"another disk is mounted":  {mounts: "30 1 8:2 / /srv rw - ext4 /dev/sda2 rw\n", device: "sdb"},
		"btrfs, by its source":     {mounts: "30 1 0:44 / /srv rw - btrfs /dev/sdb rw\n", device: "sdb", words: "sdb holds btrfs"},
		"swap":                     {swaps: "/dev/sda1 partition 1 0 -2\n", device: "sda", words: "sda1 is swap space"},
		"a mapper holds it":        {holders: []string{"sdb/holders/dm-0"}, device: "sdb", words: "in use by dm-0"},
		"a RAID holds a partition": {holders: []string{"sda/sda1/holders/md0"}, device: "sda", words: "sda1 is in use by md0"},
		"garbled mounts":           {mounts: "x\n\n - \n30 1 9\n", device: "sda"},
	} {
		err := deviceInUse(fixture(t, c.mounts, c.swaps, c.holders...), "/dev/"+c.device, c.device)
		if c.words == "" && err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if c.words != "" && (!errors.Is(err, ErrInUse) || !strings.Contains(err.Error(), c.words)) {
			t.Errorf("%s: %v, want %q", name, err, c.words)
		}
	}
	if err := deviceInUse(t.TempDir(), "/dev/sda", "sda"); err == nil {
		t.Error("mounts that cannot be seen were taken for none")
	}
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

func TestSignatures(t *testing.T) {
	for _, s := range signatures {
		image := make([]byte, 0x11000)
		copy(image[s.offset:], s.magic)
		if got, err := findSignature(strings.NewReader(string(image))); err != nil || got != s.name {
			t.Errorf("%s at %#x: found %q, %v", s.name, s.offset, got, err)
		}
	}
	for name, image := range map[string]string{"empty": "", "short": "XFS", "zeros": string(make([]byte, 1<<20))} {
		if got, err := findSignature(strings.NewReader(image)); err != nil || got != "" {
			t.Errorf("%s: found %q, %v", name, got, err)
		}
	}
}
