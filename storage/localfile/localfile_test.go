package localfile

import (
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"

	"golang.org/x/sys/unix"

	"patientheron/core/load"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/storage/volume"
	"patientheron/storage/volume/volumetest"
)

func spec(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span, s.For, s.Amount, s.Interval = 16*quantity.MiB, 0, 4*quantity.MiB, 0.1
	if change != nil {
		change(&s)
	}
	return s
}

// at is a locator.
func at(path, kind string) volume.Locator { return volume.Locator{Kind: kind, Name: path} }

func request(s workload.Spec, progress volume.Progress) volume.Request {
	return volume.Request{Size: s.Offset + s.Span, Writes: s.Writes(), Content: s, Progress: progress}
}

func measureFolder(t *testing.T, s workload.Spec) *load.Outcome {
	t.Helper()
	folder := t.TempDir()
	var filled quantity.Bytes
	prepared, err := Opener{}.Prepare(t.Context(), at(folder, "folder"), request(s, func(done, of quantity.Bytes) { filled = done }))
	if err != nil {
		t.Fatal(err)
	}
	defer prepared.Close()
	v, err := prepared.Use(t.Context(), s)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	if filled != s.Span+s.Offset {
		t.Errorf("filled %s of %s", filled, s.Span)
	}
	if left, _ := os.ReadDir(folder); len(left) != 0 {
		t.Errorf("the test file shows: %v", left)
	}
	outcome, err := load.Run(t.Context(), load.Job{Workload: s, Volume: v, Clock: load.NewMonotonic()})
	if err != nil {
		t.Fatal(err)
	}
	if outcome.Failure != nil {
		t.Error(outcome.Failure)
	}
	return outcome
}

func TestMeasuresAFolder(t *testing.T) {
	for name, change := range map[string]func(*workload.Spec){
		"reads":           nil,
		"mixed and flush": func(s *workload.Spec) { s.Reads, s.SyncEvery = 0.5, 16 },
		"two workers":     func(s *workload.Spec) { s.Workers, s.Order = 2, workload.Sequential },
		"cached odd size": func(s *workload.Spec) { s.Cached, s.Blocks = true, workload.Block(3000) },
		"odd span":        func(s *workload.Spec) { s.Span = 5*quantity.MiB + 4096 },
	} {
		t.Run(name, func(t *testing.T) {
			outcome := measureFolder(t, spec(change))
			if outcome.Summary.Interface != "io_uring" || outcome.Summary.Total.Bytes < 4*quantity.MiB {
				t.Errorf("%+v", outcome.Summary)
			}
		})
	}
}

// What a queue writes is what a plain read finds, for both kinds of queue.
func TestQueuesMoveTheData(t *testing.T) {
	runtime.LockOSThread() // a queue belongs to one thread
	defer runtime.UnlockOSThread()
	test, err := makeTestFile(t.TempDir(), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer test.remove()
	file := test.file
	if err := file.Truncate(1 << 20); err != nil {
		t.Fatal(err)
	}
	fd := int(file.Fd())
	options := load.QueueOptions{Depth: 4, LargestBlock: 8192}
	memory, err := mapBuffers(options)
	if err != nil {
		t.Fatal(err)
	}
	ring, err := openQueue(fd, options)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []load.Queue{ring, openThreads(fd, memory, 4)} {
		for slot := range 4 {
			for i := range q.Buffer(slot) {
				q.Buffer(slot)[i] = byte(slot + i*7 + len(q.Interface()))
			}
		}
		perform(t, q, []load.Operation{
			{Class: measure.Write, Slot: 0, Offset: 4096, Length: 4096}, {Class: measure.Write, Slot: 1, Offset: 65536, Length: 8192},
		})
		perform(t, q, []load.Operation{{Class: measure.Flush, Slot: 2}})
		want := slices.Clone(q.Buffer(1))
		got := make([]byte, 8192)
		if _, err := file.ReadAt(got, 65536); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: the file does not hold what was written (%v)", q.Interface(), err)
		}
		perform(t, q, []load.Operation{{Class: measure.Read, Slot: 3, Offset: 65536, Length: 8192}})
		if !slices.Equal(q.Buffer(3), want) {
			t.Errorf("%s: read back something else", q.Interface())
		}
		// Past the end: fewer bytes, no error.
		if c := perform(t, q, []load.Operation{{Class: measure.Read, Slot: 0, Offset: 1<<20 - 512, Length: 4096}}); c[0].Bytes != 512 || c[0].Err != nil {
			t.Errorf("%s: a read across the end gave %+v", q.Interface(), c[0])
		}
		if err := q.Close(0); err != nil {
			t.Error(err)
		}
	}
}

func perform(t *testing.T, q load.Queue, operations []load.Operation) []load.Completion {
	t.Helper()
	if err := volumetest.Submit(q, operations); err != nil {
		t.Fatal(err)
	}
	into := make([]load.Completion, len(operations))
	for n := 0; n < len(operations); {
		more, err := q.Collect(into[n:], 1e9)
		if err != nil {
			t.Fatal(err)
		}
		n += more
	}
	return into
}

func TestRefusals(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "ledger.db")
	if err := os.WriteFile(file, make([]byte, 1<<20), 0o600); err != nil {
		t.Fatal(err)
	}
	small := filepath.Join(folder, "small")
	if err := os.WriteFile(small, []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		path, kind string
		spec       workload.Spec
		want       error
	}{
		"larger than free":       {folder, "folder", spec(func(s *workload.Spec) { s.Span = 1 << 55 }), volume.ErrNoSpace},
		"folder without span":    {folder, "folder", spec(func(s *workload.Spec) { s.Span = 0 }), workload.ErrInvalid},
		"write without consent":  {file, "file", spec(func(s *workload.Spec) { s.Reads = 0 }), volume.ErrConsent},
		"device without consent": {"/dev/null", "device", spec(func(s *workload.Spec) { s.Reads = 0 }), volume.ErrConsent},
		"a socket or so":         {"/dev/null", "other", spec(nil), volume.ErrNotStorage},
	} {
		if _, err := (Opener{}).Prepare(t.Context(), at(c.path, c.kind), request(c.spec, nil)); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := (Opener{}).Prepare(t.Context(), at(small, "file"), request(spec(nil), nil)); err == nil {
		t.Error("a file smaller than a block was opened")
	}
	if _, err := kindOf("/dev/null"); !errors.Is(err, volume.ErrNotStorage) {
		t.Errorf("a character device: %v", err)
	}
	if _, err := kindOf(filepath.Join(folder, "nowhere")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a missing path: %v", err)
	}
}

func TestLook(t *testing.T) {
	f, err := look(t.TempDir(), "folder")
	if err != nil || f.Size == 0 || f.FileSystem == "" || !f.Writable {
		t.Errorf("%+v, %v", f, err)
	}
	if name := fileSystemName(0x1234); name != "0x1234" {
		t.Errorf("an unknown file system is called %q", name)
	}
	var stat unix.Stat_t
	if err := unix.Stat("/proc", &stat); err != nil || deviceName(stat.Dev) != "" {
		t.Errorf("/proc is on device %q (%v)", deviceName(stat.Dev), err)
	}
}
