package inuse

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/storage/identity"
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
	for number, part := range []string{"sda1", "sda2"} {
		write(t, block+"sda/"+part+"/dev", fmt.Sprintf("8:%d\n", number+1))
		write(t, block+"sda/"+part+"/partition", fmt.Sprintf("%d\n", number+1))
		write(t, block+"sda/"+part+"/start", fmt.Sprintf("%d\n", 2048*(number+1)))
		write(t, block+"sda/"+part+"/size", "2048\n")
		if err := os.Symlink("sda/"+part, block+part); err != nil {
			t.Fatal(err)
		}
	}
	write(t, block+"sdb/dev", "8:16\n")
	for _, holder := range holders {
		write(t, block+holder, "")
	}
	write(t, root+"/proc/self/mountinfo", mounts)
	write(t, root+"/proc/swaps", "Filename Type Size Used Priority\n"+swaps)
	return root
}

// useOf is who uses a device of a host made of files.
func useOf(root, device string) (*Use, error) {
	host := identity.Host{
		Root: root, Loop: func(string) (*unix.LoopInfo64, error) { return nil, unix.ENXIO }, Table: func(string) ([]identity.Target, error) { return nil, unix.EPERM },
	}
	stack, err := host.OfDevice(device)
	if err != nil {
		return nil, err
	}
	return Of(host, stack)
}

// Disks that say they are the same storage are in use when either is.
func TestTwoPathsAreOneStorage(t *testing.T) {
	for name, c := range map[string]struct {
		mounts, first, second string
		words                 string
	}{
		"mounted through the other": {"30 1 8:16 / /srv rw - ext4 /dev/sdb rw\n", "naa.600140\n", "naa.600140\n", "sdb holds ext4 mounted on /srv"},
		"another storage":           {"30 1 8:16 / /srv rw - ext4 /dev/sdb rw\n", "naa.600140\n", "naa.600141\n", ""},
		"both say nothing":          {"30 1 8:16 / /srv rw - ext4 /dev/sdb rw\n", "\n", "\n", ""},
		"nobody uses either":        {"", "naa.600140\n", "naa.600140\n", ""},
	} {
		root := fixture(t, c.mounts, "")
		write(t, root+"/sys/class/block/sda/device/wwid", c.first)
		write(t, root+"/sys/class/block/sdb/device/wwid", c.second)
		use, err := useOf(root, "sda")
		if err != nil || (use != nil) != (c.words != "") || use != nil && !strings.Contains(use.What, c.words) {
			t.Errorf("%s: found %+v, want %q (%v)", name, use, c.words, err)
		}
	}
}

func TestLayersOfTheKernel(t *testing.T) {
	for name, c := range map[string]struct {
		mounts, swaps string
		holders       []string
		device        string
		words         string // "" for free
	}{
		"nobody uses it":                {device: "sda"},
		"a partition is mounted":        {mounts: "30 1 8:2 / /srv rw - ext4 /dev/sda2 rw\n", device: "sda", words: "sda2 holds ext4 mounted on /srv"},
		"another disk is mounted":       {mounts: "30 1 8:2 / /srv rw - ext4 /dev/sda2 rw\n", device: "sdb"},
		"another partition is mounted":  {mounts: "30 1 8:2 / /srv rw - ext4 /dev/sda2 rw\n", device: "sda1"},
		"the whole disk is mounted":     {mounts: "30 1 8:0 / /srv rw - iso9660 /dev/sda rw\n", device: "sda1", words: "sda holds iso9660"},
		"btrfs, by its source":          {mounts: "30 1 0:44 / /srv rw - btrfs /dev/sdb rw\n", device: "sdb", words: "sdb holds btrfs"},
		"swap":                          {swaps: "/dev/sda1 partition 1 0 -2\n", device: "sda", words: "sda1 is swap space"},
		"a mapper holds it":             {holders: []string{"sdb/holders/dm-0"}, device: "sdb", words: "in use by dm-0"},
		"a RAID holds a partition":      {holders: []string{"sda/sda1/holders/md0"}, device: "sda", words: "sda1 is in use by md0"},
		"a RAID holds the whole of it":  {holders: []string{"sda/holders/md0"}, device: "sda1", words: "sda is in use by md0"},
		"garbled mounts":                {mounts: "x\n\n - \n30 1 9\n", device: "sda"},
		"the mount point has a newline": {mounts: "30 1 8:16 / /srv/a\\012b rw - xfs /dev/sdb rw\n", device: "sdb", words: "mounted on"},
	} {
		use, err := useOf(fixture(t, c.mounts, c.swaps, c.holders...), c.device)
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if (use != nil) != (c.words != "") || use != nil && !strings.Contains(use.What, c.words) {
			t.Errorf("%s: found %+v, want %q", name, use, c.words)
		}
	}
	blind := fixture(t, "", "")
	if err := os.Remove(blind + "/proc/self/mountinfo"); err != nil {
		t.Fatal(err)
	}
	if _, err := useOf(blind, "sda"); err == nil {
		t.Error("mounts that cannot be seen were taken for none")
	}
}

// helper is this test's binary as another process that does something to a
// file, says so, and waits until its input ends.
func helper(t *testing.T, action, path string) {
	t.Helper()
	command := exec.Command(os.Args[0], "-test.run=^TestOtherProcess$")
	command.Env = append(os.Environ(), "HERON_ACTION="+action, "HERON_PATH="+path)
	in, err := command.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := command.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := command.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { in.Close(); _ = command.Wait() })
	var said string
	if _, err := fmt.Fscanln(out, &said); err != nil || said != "ready" {
		t.Fatalf("the other process says %q (%v)", said, err)
	}
}

func TestOtherProcess(t *testing.T) {
	action, path := os.Getenv("HERON_ACTION"), os.Getenv("HERON_PATH")
	if action == "" {
		return // an ordinary test run
	}
	file, err := os.OpenFile(path, os.O_RDWR, 0)
	if action == "reads" {
		file, err = os.Open(path)
	}
	all := unix.Flock_t{Type: unix.F_WRLCK}
	switch {
	case err != nil:
	case action == "flock":
		err = unix.Flock(int(file.Fd()), unix.LOCK_EX)
	case action == "fcntl":
		err = unix.FcntlFlock(file.Fd(), unix.F_SETLK, &all)
	case action == "maps":
		_, err = unix.Mmap(int(file.Fd()), 0, 4096, unix.PROT_READ, unix.MAP_SHARED)
		file.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println("ready")
	_, _ = fmt.Scanln()
	file.Close()
}

func TestOtherProcesses(t *testing.T) {
	for action, words := range map[string]string{"opens": "has it open", "reads": "has it open", "flock": "has locked it", "fcntl": "has locked it", "maps": "has it mapped", "": ""} {
		path := filepath.Join(t.TempDir(), "file")
		write(t, path, strings.Repeat("x", 8192))
		file, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		if action != "" {
			helper(t, action, path)
		}
		use, _, err := Find(file)
		if err != nil || (use != nil) != (words != "") || use != nil && !strings.Contains(use.What, words) {
			t.Errorf("%q: found %+v (%v), want %q", action, use, err, words)
		}
		if use != nil && !strings.Contains(use.What, "process ") {
			t.Errorf("%q does not name the process: %s", action, use.What)
		}
		// The kernel says the same without /proc, where it can.
		taken := Lock(file)
		if wanted := action != ""; (taken != nil) != wanted {
			t.Errorf("%q: taking it gives %+v", action, taken)
		}
	}
}

func TestOurselves(t *testing.T) {
	path := filepath.Join(t.TempDir(), "file")
	write(t, path, "x")
	reading, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer reading.Close()
	again, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if Ourselves(reading) {
		t.Error("another reader was taken for a writer")
	}
	writing, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	if !Ourselves(reading) || Ourselves(writing) {
		t.Error("a writer was not found, or found itself")
	}
	writing.Close()
	if Ourselves(reading) {
		t.Error("a writer that closed it was found")
	}
	socket, err := net.Listen("tcp", "127.0.0.1:0") // a descriptor that is no file
	if err != nil {
		t.Fatal(err)
	}
	socket.Close()
}

// A file behind a loop device, under any of its names.
func TestLoopDevices(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Log("loop devices need root; the e2e drill covers them too")
		return
	}
	path := filepath.Join(t.TempDir(), "backing")
	write(t, path, strings.Repeat("\x00", 1<<20))
	out, err := exec.Command("losetup", "--find", "--show", path).CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	device := strings.TrimSpace(string(out))
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	other := path + " renamed"
	if err := os.Rename(path, other); err != nil {
		t.Fatal(err)
	}
	file, err := os.Open(other)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	if use, _, err := Find(file); err != nil || use == nil || !strings.Contains(use.What, filepath.Base(device)) {
		t.Errorf("a renamed file behind %s: %+v, %v", device, use, err)
	}
}
