package e2e

import (
	"errors"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/core/workload"
	"patientheron/resource"
)

// The engine says it moved so many bytes; the kernel's counters of a loop
// device are the oracle, within 1 %.
func TestTheKernelCountsTheSameBytes(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	device := loopDevice(t, 128<<20)
	name := filepath.Base(device)
	volume := s.volume(device, &resource.ConsentToWrite{Size: 128 << 20})
	for title, change := range map[string]func(*workload.Spec){
		"random mix":        func(w *workload.Spec) { w.Reads, w.Depth = 0.5, 16 },
		"sequential writes": func(w *workload.Spec) { w.Reads, w.Order, w.Blocks = 0, workload.Sequential, workload.Block(128<<10) },
		"two workers":       func(w *workload.Spec) { w.Workers, w.Blocks = 2, workload.Block(16<<10) },
	} {
		detail := s.measured(volume, onePlan(spec(change)))
		if detail.Status != resource.Finished {
			t.Fatalf("%s: %s: %s", title, detail.Status, detail.Reason)
		}
		sum := detail.Measurements[0].Summary
		// Before and after a run the service looks at what the device holds; the
		// counters are those at the boundaries of the intervals.
		series, err := s.Series(t.Context(), detail.Measurements[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		var moved measure.Device
		for _, i := range series.Intervals {
			if len(i.Devices()) != 1 || i.Devices()[0].Name != name {
				t.Fatalf("%s: counters of %+v", title, i.Devices())
			}
			moved.ReadBytes += i.Devices()[0].ReadBytes
			moved.WrittenBytes += i.Devices()[0].WrittenBytes
		}
		for side, pair := range map[string][2]float64{
			"read":    {float64(sum.Classes[measure.Read].Bytes), float64(moved.ReadBytes)},
			"written": {float64(sum.Classes[measure.Write].Bytes), float64(moved.WrittenBytes)},
		} {
			// What was in flight at the end counts for the kernel alone.
			load := detail.Measurements[0].Load
			inFlight := float64(load.LargestBlock()) * float64(load.Depth*load.Workers)
			if math.Abs(pair[0]-pair[1]) > pair[0]*0.01+inFlight {
				t.Errorf("%s: the engine says %.0f bytes %s, the kernel %.0f", title, pair[0], side, pair[1])
			}
		}
	}
}

// Consent must match what is there.
func TestDevicesAreGuarded(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	const size = 64 << 20
	plain, used := loopDevice(t, size), loopDevice(t, size)
	mounted(t, used, "mkfs.ext4", "-q")
	formatted := loopDevice(t, size)
	must(t, "mkfs.ext4", "-q", formatted)
	digest := func(device string) string { return must(t, "sha256sum", device) }
	beforeFormatted := digest(formatted)
	for name, c := range map[string]struct {
		device  string
		consent resource.ConsentToWrite
		words   string
	}{
		"another size":     {plain, resource.ConsentToWrite{Size: size * 2}, "look again at which device"},
		"another serial":   {plain, resource.ConsentToWrite{Size: size, Serial: "X1"}, "serial number"},
		"mounted":          {used, resource.ConsentToWrite{Size: size, Holds: "ext2/3/4"}, "mounted on"},
		"holds something":  {formatted, resource.ConsentToWrite{Size: size}, "it holds ext2/3/4"},
		"holds other than": {formatted, resource.ConsentToWrite{Size: size, Holds: "xfs"}, "it holds ext2/3/4"},
	} {
		_, err := s.AddVolume(t.Context(), resource.NewVolume{Locator: c.device, Consent: &c.consent})
		if err == nil || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// Registered for reading: reads run, writes are refused.
	volume := s.volume(formatted, nil)
	if detail := s.measured(volume, onePlan(spec(nil))); detail.Status != resource.Finished {
		t.Errorf("reads of a device: %s: %s", detail.Status, detail.Reason)
	}
	_, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(func(w *workload.Spec) { w.Reads = 0.5 }))})
	var problem *client.Problem
	if !errors.As(err, &problem) || !strings.Contains(err.Error(), "was not agreed to") {
		t.Errorf("writes without consent: %v", err)
	}
	if digest(formatted) != beforeFormatted {
		t.Error("the device was changed")
	}
	// With the right words it is overwritten; made into something else since, it
	// is refused again.
	if err := s.RemoveVolume(t.Context(), volume.ID); err != nil {
		t.Fatal(err)
	}
	volume = s.volume(formatted, &resource.ConsentToWrite{Size: size, Holds: "ext2/3/4"})
	writes := onePlan(spec(func(w *workload.Spec) { w.Reads, w.Order, w.For, w.Amount = 0, workload.Sequential, 0, size/2 }))
	if detail := s.measured(volume, writes); detail.Status != resource.Finished {
		t.Errorf("writes with consent: %s: %s", detail.Status, detail.Reason)
	}
	must(t, "mkswap", formatted)
	if _, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: writes}); err == nil || !strings.Contains(err.Error(), "swap") {
		t.Errorf("made into swap space since: %v", err)
	}
}

// A device that goes away in mid-run is a recorded result.
func TestDeviceDetachedInMidRun(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	file := filepath.Join(t.TempDir(), "backing")
	if err := os.WriteFile(file, make([]byte, 16<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	device := must(t, "losetup", "--find", "--show", file)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	volume := s.volume(device, nil)
	id := s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.For, w.Span = 600, 16<<20 })))
	// A loop device in use is detached when its last user goes; cutting its
	// file short makes its reads fail at once.
	if err := os.Truncate(file, 0); err != nil {
		t.Fatal(err)
	}
	detail := s.finished(id)
	sum := detail.Measurements[0].Summary
	if detail.Measurements[0].Status != resource.Failed || sum == nil || len(sum.Faults) == 0 {
		t.Errorf("status %s (%s), summary %+v", detail.Measurements[0].Status, detail.Measurements[0].Reason, sum)
	}
}
