package host

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"patientheron/core/quantity"
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

// Two hand-written moments, two seconds apart, and the differences by hand.
func TestSampleIsTheDifferenceOfTwoMoments(t *testing.T) {
	root := t.TempDir()
	at := time.Unix(1000, 0)
	s := &Sampler{proc: root + "/proc", sys: root + "/sys", devices: []string{"sda"}, now: func() time.Time { return at }}
	moment := func(stat, meminfo, net, device string) {
		write(t, root+"/proc/stat", stat)
		write(t, root+"/proc/meminfo", meminfo)
		write(t, root+"/proc/net/dev", "Inter-|   Receive                                                |  Transmit\n face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n"+net)
		write(t, root+"/sys/class/block/sda/stat", device)
	}
	// User, nice, system, idle, iowait, irq, softirq, steal in hundredths.
	moment("cpu  0 0 0 0 0 0 0 0\ncpu0 100 0 0 500 0 0 0 0\ncpu1 0 0 100 500 0 0 0 0\n", "MemAvailable: 1024 kB\nCached: 512 kB\n",
		"lo: 5 0 0 0 0 0 0 0 5 0 0 0 0 0 0 0\neth0: 1000 0 0 0 0 0 0 0 500 0 0 0 0 0 0 0\n", "10 0 80 0 20 0 160 0 3 100 0\n")
	if s.Sample() != nil {
		t.Error("the first sample has nothing to compare with")
	}
	at = at.Add(2 * time.Second)
	moment("cpu  0 0 0 0 0 0 0 0\ncpu0 250 0 0 550 0 0 0 0\ncpu1 0 0 100 600 100 0 0 0\n", "MemAvailable: 2048 kB\nCached: 512 kB\n",
		"lo: 9 0 0 0 0 0 0 0 9 0 0 0 0 0 0 0\neth0: 5000 0 0 0 0 0 0 0 900 0 0 0 0 0 0 0\n", "30 0 240 0 20 0 160 0 7 1100 0\n")
	b := s.Sample()
	if b == nil {
		t.Fatal("no second sample")
	}
	if len(b.CPU) != 2 || b.CPU[0] != 0.75 || b.CPU[1] != 0 {
		t.Errorf("cores busy %v, want 75 %% and 0 %%", b.CPU)
	}
	if b.Available != 2*quantity.MiB || b.PageCache != 512*quantity.KiB || b.NetReceived != 2000 || b.NetSent != 200 {
		t.Errorf("memory and network: %+v", b)
	}
	if len(b.Devices) != 1 {
		t.Fatalf("devices %+v", b.Devices)
	}
	if d := b.Devices[0]; d.ReadRate != 10 || d.Read != 80*512 || d.WriteRate != 0 || d.InFlight != 7 || d.Busy != 0.5 {
		t.Errorf("device %+v", d)
	}
}

func TestWhatCannotBeReadIsLeftOut(t *testing.T) {
	root := t.TempDir()
	s := &Sampler{proc: root + "/nothing", sys: root, devices: []string{"gone"}, now: time.Now}
	s.Sample()
	if b := s.Sample(); b != nil && b.Devices != nil {
		t.Errorf("a device that is not there: %+v", b.Devices)
	}
	for name, text := range map[string]string{"short": "1 2 3", "garbled": "1 2 3 x 5 6 7 8 9 10 11", "empty": ""} {
		write(t, root+"/class/block/"+name+"/stat", text)
		if _, err := ReadDevice(root, name); err == nil {
			t.Errorf("%s counters were accepted", name)
		}
	}
}

func TestThisHostIsRead(t *testing.T) {
	s := NewSampler()
	s.Sample()
	if b := s.Sample(); b == nil || len(b.CPU) == 0 || b.Available == 0 {
		t.Errorf("%+v", b)
	}
}

func TestMoved(t *testing.T) {
	still := DeviceCounters{Reads: 5, Writes: 6}
	if still.Moved(still) {
		t.Error("nothing moved")
	}
	for _, c := range []DeviceCounters{{Reads: 6, Writes: 6}, {Reads: 5, Writes: 7}, {Reads: 5, Writes: 6, InFlight: 1}} {
		if !c.Moved(still) {
			t.Errorf("%+v moved", c)
		}
	}
}
