package e2e

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/workload"
	"patientheron/resource"
)

// From the command line to the stored, exported result.
func TestMeasureFromTheCommandLine(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	out, live, err := s.cli("measure", folder, "--block", "4KiB", "--reads", "70%", "--order", "random", "--depth", "8",
		"--workers", "2", "--span", "32MiB", "--for", "1s", "--warm-up", "250ms", "--interval", "250ms")
	if err != nil {
		t.Fatalf("%v\n%s", err, live)
	}
	for _, words := range []string{"reads", "writes", "total", "IOPS", "p99 ms", "through io_uring", "Status finished"} {
		if !strings.Contains(out, words) {
			t.Errorf("the result does not say %q:\n%s", words, out)
		}
	}
	if left, _ := os.ReadDir(folder); len(left) != 0 {
		t.Errorf("left in the folder: %v", left)
	}

	// --json prints what the API gives.
	shown, _, err := s.cli("run", "show", "1", "--json")
	if err != nil {
		t.Fatal(err)
	}
	var printed resource.RunDetail
	if err := json.Unmarshal([]byte(shown), &printed); err != nil {
		t.Fatal(err)
	}
	detail, err := s.Run(t.Context(), 1)
	if err != nil || !reflect.DeepEqual(printed, detail) {
		t.Errorf("printed %+v, the API gives %+v (%v)", printed, detail, err)
	}
	m := detail.Measurements[0]
	if m.Summary.Classes[measure.Read].Operations == 0 || m.Summary.Classes[measure.Write].Operations == 0 || m.Summary.WarmUp != 0.25 {
		t.Errorf("summary %+v", m.Summary)
	}

	// Exports: the document holds what the calls give, the tables have a row each.
	document, _, err := s.cli("run", "export", "1")
	if err != nil {
		t.Fatal(err)
	}
	var exported resource.Export
	if err := json.Unmarshal([]byte(document), &exported); err != nil || exported.Format != resource.ExportFormat {
		t.Fatalf("export: %v, format %q", err, exported.Format)
	}
	series, err := s.Series(t.Context(), m.ID)
	if err != nil || !reflect.DeepEqual(series.Intervals, exported.Measurements[0].Series) || len(series.Intervals) != 5 {
		t.Errorf("%d intervals, %d exported (%v)", len(series.Intervals), len(exported.Measurements[0].Series), err)
	}
	latency, err := s.Latency(t.Context(), m.ID, 0)
	if err != nil || !reflect.DeepEqual(latency, exported.Measurements[0].Latency) {
		t.Errorf("the exported latencies differ (%v)", err)
	}
	var counted int64
	for _, bar := range latency.Classes[measure.Read].Bars {
		counted += bar.Count
	}
	if counted != m.Summary.Classes[measure.Read].Operations {
		t.Errorf("the distribution holds %d reads of %d", counted, m.Summary.Classes[measure.Read].Operations)
	}
	for table, rows := range map[string]int{"summary": 2, "series": 6, "latency": 1 + len(latency.Classes[measure.Read].Bars) + len(latency.Classes[measure.Write].Bars)} {
		text, _, err := s.cli("run", "export", "1", "--format", "csv", "--table", table)
		if err != nil {
			t.Fatal(err)
		}
		records, err := csv.NewReader(strings.NewReader(text)).ReadAll()
		if err != nil || len(records) != rows {
			t.Errorf("table %s has %d rows, want %d (%v)", table, len(records), rows, err)
		}
	}
}

func TestRecordsFromTheCommandLine(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	if out, _, err := s.cli("run", "list"); err != nil || !strings.Contains(out, "Nothing was measured yet") {
		t.Errorf("an empty list: %q, %v", out, err)
	}
	if _, _, err := s.cli("volume", "add", "null:64GiB", "--name", "nothing"); err != nil {
		t.Fatal(err)
	}
	if _, trouble, err := s.cli("volume", "add", "null:64GiB"); err == nil || !strings.Contains(trouble, "already taken") {
		t.Errorf("registered twice: %s", trouble)
	}
	if out, _, err := s.cli("measure", "nothing", "--for", "200ms", "--interval", "100ms", "--detach"); err != nil || !strings.Contains(out, "heron run watch 1") {
		t.Errorf("detached: %s, %v", out, err)
	}
	if out, _, err := s.cli("run", "watch", "1"); err != nil || !strings.Contains(out, "no storage at all") {
		t.Errorf("watched: %s, %v", out, err)
	}
	file := filepath.Join(t.TempDir(), "plan.yaml")
	if err := os.WriteFile(file, []byte("name: two depths\nstages:\n  - load: {for: 200ms, interval: 100ms}\n    sweep: [{field: depth, values: [1, 4]}]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, _, err := s.cli("measure", "nothing", "--plan", file, "--block", "8KiB"); err != nil || !strings.Contains(out, "at depth 4") || !strings.Contains(out, "8 KiB") {
		t.Errorf("a plan file: %s, %v", out, err)
	}
	if out, _, err := s.cli("run", "list", "--limit", "1"); err != nil || !strings.Contains(out, "two depths") || !strings.Contains(out, "--before 2") {
		t.Errorf("list: %s, %v", out, err)
	}
	if _, trouble, err := s.cli("run", "remove", "1"); err == nil || !strings.Contains(trouble, "nothing was removed") {
		t.Errorf("deleted without an answer: %s", trouble)
	}
	if _, _, err := s.cli("run", "remove", "1", "--yes"); err != nil {
		t.Error(err)
	}
	if _, trouble, err := s.cli("run", "show", "1"); err == nil || !strings.Contains(trouble, "not found") {
		t.Errorf("a deleted run: %s", trouble)
	}
	if _, _, err := s.cli("volume", "remove", "nothing"); err != nil {
		t.Error(err)
	}
	if out, _, err := s.cli("version"); err != nil || !strings.Contains(out, "Patient Heron") {
		t.Errorf("version: %s, %v", out, err)
	}
}

func TestHereNeedsNoService(t *testing.T) {
	data := t.TempDir()
	out, trouble, err := runHeron(t, "measure", t.TempDir(), "--here", "--data", data, "--for", "300ms", "--span", "16MiB", "--json")
	var detail resource.RunDetail
	if err != nil || json.Unmarshal([]byte(out), &detail) != nil || detail.Measurements[0].Summary.Total.Operations == 0 {
		t.Fatalf("%v\n%s%s", err, out, trouble)
	}
	// What it kept, a service finds.
	s := serve(t, data, false)
	kept, err := s.Run(t.Context(), detail.ID)
	if err != nil || !reflect.DeepEqual(kept, detail) {
		t.Errorf("kept %+v, printed %+v (%v)", kept, detail, err)
	}
	if _, trouble, err := runHeron(t, "run", "list", "--here", "--data", data); err == nil || !strings.Contains(trouble, "leave out --here") {
		t.Errorf("two on one data folder: %s", trouble)
	}
	s.end(syscall.SIGTERM)
	if _, trouble, err := runHeron(t, "run", "list", "--data", data); err == nil || !strings.Contains(trouble, "heron serve") {
		t.Errorf("no service: %s", trouble)
	}
}

func TestErrorsSayWhatToDo(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	for name, c := range map[string]struct {
		arguments []string
		words     string
	}{
		"span over free space": {[]string{"measure", folder, "--span", "900TiB"}, "use a smaller span"},
		"depth 0":              {[]string{"measure", folder, "--depth", "0"}, "keeps from 1 to 4096"},
		"wrong token":          {[]string{"run", "list", "--token", "wrong"}, "the token is wrong"},
		"unknown flag":         {[]string{"measure", folder, "--colour", "red"}, "has no flag --colour"},
		"unknown preset":       {[]string{"measure", folder, "--preset", "x"}, "there is no preset"},
		"bad size":             {[]string{"measure", folder, "--block", "4k"}, "write it like 4KiB"},
		"missing place":        {[]string{"measure", folder + "/nowhere"}, "does not exist"},
		"no such run":          {[]string{"run", "watch", "99"}, "not found"},
		"not a number":         {[]string{"run", "watch", "one"}, "heron run list"},
		"misaligned uncached":  {[]string{"measure", folder, "--block", "3000", "--span", "30000000", "--for", "1s"}, "or --cached"},
	} {
		out, trouble, err := s.cli(c.arguments...)
		if err == nil || !strings.Contains(trouble+out, c.words) {
			t.Errorf("%s: %v, says %q, want %q", name, err, trouble, c.words)
		}
	}
	// The API itself, without the command line's own checks.
	for name, c := range map[string]struct {
		body   string
		status int
		words  string
	}{
		"unknown field": {`{"volumeId":1,"colour":"red","plan":{"stages":[]}}`, 422, "body.colour"},
		"no volume":     {`{"volumeId":77,"plan":{"stages":[{"load":{"blocks":[{"sizeBytes":4096,"weight":1}],"readShare":1,"order":"random","depth":1,"workers":1,"spanBytes":1048576,"forSeconds":1}}]}}`, 404, "register it first"},
		"not JSON":      {`{`, 400, ""},
	} {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.url+"/api/v1/runs", strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+s.token)
		request.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		var problem json.RawMessage
		_ = json.NewDecoder(answer.Body).Decode(&problem)
		answer.Body.Close()
		if answer.StatusCode != c.status || answer.Header.Get("Content-Type") != "application/problem+json" || !strings.Contains(string(problem), c.words) {
			t.Errorf("%s: %d %s %s", name, answer.StatusCode, answer.Header.Get("Content-Type"), problem)
		}
	}
	if left, _ := os.ReadDir(folder); len(left) != 0 {
		t.Errorf("left in the folder: %v", left)
	}
}

// A service without rights, so that permissions count.
func TestFolderWithoutPermission(t *testing.T) {
	// Test folders belong to root; this one is open for everyone up to it.
	root, err := os.MkdirTemp("", "heron-e2e-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(root) })
	data, closed := filepath.Join(root, "data"), filepath.Join(root, "closed")
	for path, mode := range map[string]os.FileMode{root: 0o755, data: 0o700, closed: 0o755} {
		if err := errors.Join(os.MkdirAll(path, mode), os.Chmod(path, mode)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(data, 65534, 65534); err != nil {
		t.Fatal(err)
	}
	s := serve(t, data, true)
	_, trouble, err := s.cli("measure", closed, "--for", "1s", "--span", "16MiB", "--token", s.token, "--service", s.url)
	if err == nil || !strings.Contains(trouble, "not permitted") || !strings.Contains(trouble, "grant its user the right") {
		t.Errorf("%v: %s", err, trouble)
	}
}

func TestFullDisk(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := mounted(t, loopDevice(t, 64<<20), "mkfs.ext4", "-q")
	// Fits when it is checked; then the disk fills up under the preparation.
	volume := s.volume(folder, nil)
	hog := filepath.Join(folder, "hog")
	if err := exec.Command("dd", "if=/dev/zero", "of="+hog, "bs=1M", "count=30", "status=none").Run(); err != nil {
		t.Fatal(err)
	}
	_, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(func(w *workload.Spec) { w.Span = 40 << 20 }))})
	var problem *client.Problem
	if !errors.As(err, &problem) || problem.Status != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "make room") {
		t.Errorf("more than is free: %v", err)
	}
}

// Storage that runs full although its file system promised room: the run fails
// with the reason, and the next one finds the volume as it was.
func TestStorageFillsUpUnderThePreparation(t *testing.T) {
	small := t.TempDir()
	must(t, "mount", "-t", "tmpfs", "-o", "size=40m", "tmpfs", small)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", small).Run() })
	backing := filepath.Join(small, "backing")
	must(t, "truncate", "--size", "128M", backing)
	device := must(t, "losetup", "--find", "--show", backing)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	folder := mounted(t, device, "mkfs.ext4", "-q", "-E", "nodiscard")
	s := serve(t, t.TempDir(), false)
	volume := s.volume(folder, nil)
	detail := s.measured(volume, onePlan(spec(func(w *workload.Spec) { w.Span = 64 << 20 })))
	if detail.Status != resource.Failed || !strings.Contains(detail.Reason, "fill the test file") {
		t.Errorf("%s: %s", detail.Status, detail.Reason)
	}
	if left, _ := filepath.Glob(folder + "/.*heron*"); len(left) != 0 {
		t.Errorf("left in the folder: %v", left)
	}
}

// However the service ends, nothing stays behind on the volume, and the next
// service says what happened.
func TestServiceEndsInMidRun(t *testing.T) {
	t.Parallel()
	for name, signal := range map[string]syscall.Signal{"terminated": syscall.SIGTERM, "killed": syscall.SIGKILL} {
		t.Run(name, func(t *testing.T) {
			data := t.TempDir()
			folder := mounted(t, loopDevice(t, 256<<20), "mkfs.ext4", "-q")
			free := func() uint64 {
				var stat syscall.Statfs_t
				if err := syscall.Statfs(folder, &stat); err != nil {
					t.Fatal(err)
				}
				return stat.Bfree * uint64(stat.Bsize)
			}
			before := free()
			s := serve(t, data, false)
			volume := s.volume(folder, nil)
			id := s.begun(volume, onePlan(spec(func(w *workload.Spec) { w.For, w.Span = 600, 64<<20 })))
			if free() > before-60<<20 {
				t.Fatal("the test file takes no room")
			}
			waiting, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(nil))})
			if err != nil {
				t.Fatal(err)
			}
			deadline := time.Now().Add(time.Minute)
			for s.kept(id) == 0 && time.Now().Before(deadline) {
				must(t, "sync", "-f", data)
			}
			s.end(signal)
			for free() < before-1<<20 && time.Now().Before(deadline) {
				must(t, "sync", "-f", folder)
			}
			if now := free(); now < before-1<<20 {
				t.Errorf("%d bytes are not free again", before-now)
			}
			s = serve(t, data, false)
			detail, err := s.Run(t.Context(), id)
			if err != nil || detail.Status != resource.Interrupted || !strings.Contains(detail.Reason, "repeat the run") {
				t.Errorf("%v: status %s, reason %q", err, detail.Status, detail.Reason)
			}
			if series, err := s.Series(t.Context(), detail.Measurements[0].ID); err != nil || len(series.Intervals) == 0 {
				t.Errorf("what was measured is lost: %v", err)
			}
			if queued := s.finished(waiting.ID); queued.Status != resource.Finished {
				t.Errorf("the queued run is %s: %s", queued.Status, queued.Reason)
			}
		})
	}
}

func TestStopKeepsWhatWasMeasured(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	volume := s.volume("null:1TiB", nil)
	long := onePlan(spec(func(w *workload.Spec) { w.For = 600 }))
	id := s.begun(volume, long)
	waiting, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: long})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.RemoveVolume(t.Context(), volume.ID); err == nil {
		t.Error("a volume in use was forgotten")
	}
	for _, run := range []int64{waiting.ID, id} {
		if err := s.StopRun(t.Context(), run, false); err != nil {
			t.Error(err)
		}
	}
	detail := s.finished(id)
	if detail.Status != resource.Stopped || detail.Measurements[0].Summary.Total.Operations == 0 || detail.Measurements[0].Summary.Ending != "stopped" {
		t.Errorf("stopped run: %s, %+v", detail.Status, detail.Measurements[0].Summary)
	}
	if queued := s.finished(waiting.ID); queued.Status != resource.Stopped || len(queued.Measurements) != 0 {
		t.Errorf("a run taken out of the queue: %s with %d measurements", queued.Status, len(queued.Measurements))
	}
	if err := s.StopRun(t.Context(), id, false); err == nil {
		t.Error("a run that ended was stopped again")
	}

	many := plan.Plan{Stages: []plan.Stage{{Load: spec(nil), Repeats: 50}}}
	id = s.begun(volume, many)
	if err := s.StopRun(t.Context(), id, true); err != nil {
		t.Fatal(err)
	}
	detail = s.finished(id)
	last := detail.Measurements[len(detail.Measurements)-1]
	if detail.Status != resource.Stopped || last.Status != resource.Finished || len(detail.Measurements) > 5 {
		t.Errorf("stopped after one: %s, last %s, %d measurements", detail.Status, last.Status, len(detail.Measurements))
	}
}

// A simulated array played at a pace can be watched and stopped.
func TestSimulatedArrayAtAPace(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	file := filepath.Join(t.TempDir(), "plain.yaml")
	if err := os.WriteFile(file, []byte("name: plain\nmembers: {count: 5, medium: hard disk, capacity: 4TB}\nlayout: {level: raid5}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, _, err := s.cli("array", "explain", file); err != nil || !strings.Contains(out, "any one member") || !strings.Contains(out, "5 members") {
		t.Errorf("explained: %s, %v", out, err)
	}
	if _, trouble, err := s.cli("array", "check", "/dev/null"); err == nil || !strings.Contains(trouble, "line 1, column 1") {
		t.Errorf("an empty file: %s", trouble)
	}
	if out, _, err := s.cli("array", "measure", file, "--for", "60s", "--span", "1TiB"); err != nil || !strings.Contains(out, "virtual time") {
		t.Errorf("measured: %s, %v", out, err)
	}
	volumes, err := s.Volumes(t.Context())
	if err != nil || len(volumes) != 1 {
		t.Fatalf("volumes %+v, %v", volumes, err)
	}
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volumes[0].ID, Plan: onePlan(spec(func(w *workload.Spec) { w.For, w.Interval = 6000, 1 })), Pace: 20})
	if err != nil {
		t.Fatal(err)
	}
	seen := make(chan resource.Point, 1)
	go func() {
		_ = s.Watch(t.Context(), run.ID, client.Watcher{Point: func(p resource.Point) {
			select {
			case seen <- p:
			default:
			}
		}})
	}()
	if p := <-seen; len(p.Interval.Inside) == 0 {
		t.Errorf("nothing is told from inside: %+v", p)
	}
	if err := s.StopRun(t.Context(), run.ID, false); err != nil {
		t.Fatal(err)
	}
	if detail := s.finished(run.ID); detail.Status != resource.Stopped {
		t.Errorf("%s: %s", detail.Status, detail.Reason)
	}
}

// Keys of an array file are swept: each measurement is held against the array that it was
// made on, also when the file is gone; what cannot be is refused before there is a run.
func TestSweepsOverAnArray(t *testing.T) {
	data := t.TempDir()
	s := serve(t, data, false)
	file := filepath.Join(t.TempDir(), "plain.yaml")
	if err := os.WriteFile(file, []byte("name: plain\nmembers: {count: 5, medium: hard disk, capacity: 4TB}\nlayout: {level: raid5}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for sweep, want := range map[string]string{"members.count=2": "it needs at least 3", "members.cuont=2": "has no key", "members.capacity=1MiB": "use a smaller span", "replica.kilometres": "write it like"} {
		if _, trouble, err := s.cli("array", "measure", file, "--span", "1GiB", "--sweep", sweep); err == nil || !strings.Contains(trouble, want) {
			t.Errorf("%s: %s", sweep, trouble)
		}
	}
	if _, trouble, err := s.cli("measure", t.TempDir(), "--span", "1MiB", "--sweep", "members.count=4"); err == nil || !strings.Contains(trouble, "the volume is a folder") {
		t.Errorf("a folder: %s", trouble)
	}
	if out, trouble, err := s.cli("array", "measure", file, "--span", "1TiB", "--depth", "64", "--for", "20s", "--sweep", "members.count=4,6,12", "--sweep", "link={rate: 125MB/s},{rate: 1250MB/s, mtu: 9000}"); err != nil || !strings.Contains(out, "members.count 12, link {rate: 1250MB/s, mtu: 9000}") {
		t.Fatalf("%s%s", out, trouble)
	}
	list, err := s.Runs(t.Context(), 0, 10)
	if err != nil || len(list.Runs) != 1 {
		t.Fatalf("what was refused made runs: %+v, %v", list, err)
	}
	id := list.Runs[0].ID
	if out, _, err := s.cli("run", "repeats", fmt.Sprint(id)); err != nil || !strings.Contains(out, "each of 12 does") {
		t.Errorf("%s, %v", out, err)
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	s.end(syscall.SIGTERM)
	s = serve(t, data, false)
	detail, err := s.Run(t.Context(), id)
	if err != nil || len(detail.Variants) != 6 || len(detail.Measurements) != 6 {
		t.Fatalf("%d variants of %d measurements, %v", len(detail.Variants), len(detail.Measurements), err)
	}
	reached, err := s.Reach(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	for i, r := range reached {
		disks := []string{"4", "6", "12"}[i/2] + " members"
		if r.Ceilings.Limit != disks || r.Reached < 0.6 || r.Reached > 1.05 || len(r.Ceilings.Hops) != 2 {
			t.Errorf("%s: %.2f of %q, hops %+v", detail.Measurements[i].Title(), r.Reached, r.Ceilings.Limit, r.Ceilings.Hops)
		}
	}
}

// The same array file and seed give the same bytes in the exports of two
// services, on one worker or sixteen.
func TestSimulatedExportsAreIdentical(t *testing.T) {
	t.Parallel()
	file, err := filepath.Abs("../../demo/arrays/with-tier.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for _, workers := range []string{"1", "16"} {
		exports := make([]string, 2)
		for i := range exports {
			data := t.TempDir()
			if _, trouble, err := runHeron(t, "array", "measure", file, "--here", "--data", data, "--workers", workers, "--reads", "60%", "--span", "1TiB", "--for", "20s", "--repeats", "2"); err != nil {
				t.Fatal(trouble)
			}
			for _, table := range []string{"summary", "series", "latency"} {
				out, trouble, err := runHeron(t, "run", "export", "1", "--here", "--data", data, "--format", "csv", "--table", table)
				if err != nil {
					t.Fatal(trouble)
				}
				exports[i] += out
			}
		}
		if exports[0] != exports[1] || len(exports[0]) < 10_000 {
			t.Errorf("%s workers: exports of %d and %d bytes differ", workers, len(exports[0]), len(exports[1]))
		}
	}
}

// Waiting for the device to go quiet ends when it is, and at its limit.
func TestSettlesUntilTheDeviceIsQuiet(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	volume := s.volume(mounted(t, loopDevice(t, 128<<20), "mkfs.ext4", "-q"), nil)
	p := onePlan(spec(func(w *workload.Spec) { w.For = 0.3 }))
	p.Stages[0].Settle = plan.Settle{Quiet: 600}
	settling := false
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Watch(t.Context(), run.ID, client.Watcher{Run: func(r resource.Run) { settling = settling || r.Status == resource.Settling }}); err != nil {
		t.Fatal(err)
	}
	detail := s.finished(run.ID)
	if detail.Status != resource.Finished || !settling || detail.Measurements[0].Started.Sub(*detail.Started) < time.Second {
		t.Errorf("%s (%s), settled %v", detail.Status, detail.Reason, settling)
	}
}

func TestDemoEndsByItself(t *testing.T) {
	t.Parallel()
	out, trouble, err := runHeron(t, "demo", "--exit", "--listen", "127.0.0.1:0")
	if err != nil || !strings.Contains(out, "samples ledger at depth 32") || !strings.Contains(out, "nothing") {
		t.Errorf("%v\n%s%s", err, out, trouble)
	}
}
