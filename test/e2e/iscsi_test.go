package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"patientheron/client"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/resource"
	"patientheron/test/peer"
)

// A unit over iSCSI from the first look to the comparison, as a user does it, against a
// real target.
func TestUnitOverISCSI(t *testing.T) {
	t.Parallel()
	g := peer.StartTgt(t, 2)
	s := serve(t, t.TempDir(), false)
	portal := "iscsi://" + g.Ports[0]
	unit := portal + "/" + peer.Target + "/1"

	out, trouble, err := s.cli("look", portal)
	if err != nil || !strings.Contains(out, unit) || !strings.Contains(out, "64 MiB") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if _, trouble, err = s.cli("volume", "add", portal); err == nil || !strings.Contains(trouble, "it is a portal") {
		t.Errorf("a portal is registered: %v: %s", err, trouble)
	}
	write := []string{"--reads", "0%", "--span", "32MiB", "--for", "0.5s", "--repeats", "3"}
	if _, trouble, err = s.cli(append([]string{"measure", unit}, write...)...); err == nil || !strings.Contains(trouble, "writing was not agreed to") {
		t.Errorf("written without consent: %v: %s", err, trouble)
	}
	if held, err := os.ReadFile(g.File); err != nil || strings.Trim(string(held), "\x00") != "" {
		t.Fatalf("something was written without consent (%v)", err)
	}
	_, trouble, err = s.cli("volume", "consent", "store-1", "--overwrite-size", fmt.Sprint(peer.Size))
	_, serial, found := strings.Cut(trouble, "its serial number is \"")
	serial, _, _ = strings.Cut(serial, "\"")
	if err == nil || !found {
		t.Fatalf("consent without the serial number: %v: %s", err, trouble)
	}
	if _, trouble, err = s.cli("volume", "consent", "store-1", "--overwrite-size", fmt.Sprint(peer.Size), "--serial", serial); err != nil {
		t.Fatal(trouble)
	}
	for range 2 { // consent holds for what we wrote ourselves
		if out, trouble, err = s.cli(append([]string{"measure", "store-1"}, write...)...); err != nil || !strings.Contains(out, "through iSCSI") {
			t.Fatalf("%v: %s%s", err, out, trouble)
		}
	}
	file, err := os.OpenFile(g.File, os.O_WRONLY, 0)
	if err == nil {
		_, err = file.WriteAt([]byte("somebody else's"), 4096)
		_ = file.Close()
	}
	if _, trouble, _ = s.cli(append([]string{"measure", "store-1"}, write...)...); err != nil || !strings.Contains(trouble, "consent no longer holds") {
		t.Errorf("written over what others wrote since: %v: %s", err, trouble)
	}
	// The same unit at other keys: both sides are told, and the comparison names the change.
	if _, trouble, err = s.cli("measure", unit+"?ImmediateData=No&portal="+g.Ports[1], "--span", "32MiB", "--for", "0.5s", "--repeats", "3"); err != nil {
		t.Fatal(trouble)
	}
	runs, err := s.Runs(t.Context(), 0, 10)
	if err != nil || len(runs.Runs) != 3 {
		t.Fatalf("%+v (%v)", runs, err)
	}
	detail, err := s.Run(t.Context(), runs.Runs[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	sessions := detail.Measurements[0].Summary.Sessions
	if len(sessions) != 2 || sessions[0].Count != 1 {
		t.Fatalf("%+v", sessions)
	}
	for key, want := range map[string]string{"ImmediateData": "No", "InitialR2T": "Yes", "MaxBurstLength": "262144"} { // tgt's own
		i := slices.IndexFunc(sessions[0].Keys, func(k measure.Agreed) bool { return k.Key == key })
		if i < 0 || sessions[0].Keys[i].InEffect != want {
			t.Errorf("%s: %+v", key, sessions[0].Keys)
		}
	}
	out, trouble, err = s.cli("run", "session", fmt.Sprint(detail.ID))
	if err != nil || !strings.Contains(out, "ImmediateData") || !strings.Contains(out, "1 session with "+g.Ports[1]) {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if out, trouble, err = s.cli("compare", fmt.Sprint(runs.Runs[1].ID), fmt.Sprint(detail.ID)); err != nil || !strings.Contains(out, "ImmediateData went from Yes to No") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
}

// A target that is away for a while: the run gets a marker when the path is lost, and one
// when it is back, and ends well.
func TestTargetAwayWhileMeasured(t *testing.T) {
	g := peer.StartTgt(t, 1)
	s := serve(t, t.TempDir(), false)
	volume := s.volume("iscsi://"+g.Ports[0]+"/"+peer.Target+"/1", nil)
	p := onePlan(spec(func(w *workload.Spec) { w.Span, w.For, w.WarmUp = 32<<20, 0, 0; w.Amount = 256 << 20 }))
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: p})
	if err != nil {
		t.Fatal(err)
	}
	watching, end := context.WithCancel(t.Context())
	_ = s.Watch(watching, run.ID, client.Watcher{Point: func(resource.Point) { end() }}) // until something is measured
	end()
	g.Stop()
	time.Sleep(500 * time.Millisecond)
	g.Start()
	detail := s.finished(run.ID)
	if detail.Status != resource.Finished || detail.Measurements[0].Summary.Total.Bytes < 256<<20 {
		t.Errorf("%s (%s)", detail.Status, detail.Reason)
	}
	var names []string
	for _, m := range detail.Markers {
		names = append(names, m.Name)
	}
	if text := strings.Join(names, "; "); !strings.Contains(text, "lost: the path over "+g.Ports[0]) || !strings.Contains(text, "back: the path over "+g.Ports[0]) {
		t.Errorf("markers: %s", text)
	}
}

// Secrets are read from a file, and are nowhere else: not in the database, an export or a
// log.
func TestSecretsStayInTheirFile(t *testing.T) {
	g := peer.StartTgt(t, 1)
	account := []string{"--lld", "iscsi", "--mode", "account"}
	g.Admin(append(account, "--op", "new", "--user", "reader", "--password", "watchword-of-reader")...)
	g.Admin(append(account, "--op", "bind", "--tid", "1", "--user", "reader")...)
	folder := t.TempDir()
	s := serve(t, folder, false)
	at := "@" + g.Ports[0] + "/" + peer.Target + "/1"
	if _, trouble, err := s.cli("measure", "iscsi://reader"+at, "--span", "1MiB", "--for", "0.2s"); err == nil || !strings.Contains(trouble, "no secret of user reader") {
		t.Errorf("without a secret: %v: %s", err, trouble)
	}
	if _, trouble, err := s.cli("measure", "iscsi://reader:watchword-of-reader"+at); err == nil || strings.Contains(trouble, "watchword") {
		t.Errorf("a secret in a locator: %v: %s", err, trouble)
	}
	if err := os.WriteFile(filepath.Join(folder, "secrets"), []byte("- {user: reader, secret: watchword-of-reader}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	out, trouble, err := s.cli("measure", "iscsi://reader"+at, "--span", "1MiB", "--for", "0.2s")
	if err != nil || strings.Contains(out+trouble, "watchword") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	export, _, err := s.cli("run", "export", "1")
	if err != nil || strings.Contains(export, "watchword") {
		t.Errorf("the export has the secret (%v)", err)
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if held, err := os.ReadFile(filepath.Join(folder, e.Name())); err == nil && e.Name() != "secrets" && strings.Contains(string(held), "watchword") {
			t.Errorf("%s has the secret", e.Name())
		}
	}
}

// array is one that 'heron array serve' serves.
type array struct {
	*exec.Cmd
	t    *testing.T
	unit string // its locator
	out  *bufio.Reader
}

// served serves an array file.
func served(t *testing.T, path string, options ...string) *array {
	t.Helper()
	a := &array{t: t, Cmd: exec.Command(heron, append([]string{"array", "serve", path, "--listen", "127.0.0.1:0"}, options...)...)}
	out, err := a.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = a.Process.Kill() })
	a.out = bufio.NewReader(out)
	a.unit = a.says(" as ")
	return a
}

// says gives what stands after some words in the next line that it prints.
func (a *array) says(words string) string {
	a.t.Helper()
	line, err := a.out.ReadString('\n')
	_, rest, found := strings.Cut(strings.TrimSpace(line), words)
	if err != nil || !found {
		a.t.Fatalf("%q (%v)", line, err)
	}
	return rest
}

// A simulated array that is served is measured over the network like any other unit, and
// takes about as long as in virtual time; it ends when it is told to.
func TestArrayServedInRealTime(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "two-disks.yaml")
	if err := os.WriteFile(path, []byte("name: Two disks\nmembers: {count: 2, medium: hard disk, capacity: 1TB}\nlayout: {level: raid1}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	served := served(t, path, "--session-limit", "InitialR2T=Yes")
	load := spec(func(w *workload.Spec) { w.Span, w.Depth, w.For, w.WarmUp, w.Interval = 900<<30, 4, 3, 1, 1 })
	over := s.measured(s.volume(served.unit, nil), onePlan(load))
	virtual := s.measured(s.volume("array:"+path, nil), onePlan(load))
	a, b := over.Measurements[0].Summary.Total, virtual.Measurements[0].Summary.Total
	t.Logf("%s over the network, %s in virtual time", a.Rate, b.Rate)
	// A busy host can only make it slower than the model.
	if a.Rate > 1.3*b.Rate || a.Latency.P50 < 0.7*b.Latency.P50 {
		t.Errorf("%s at %s over the network, and %s at %s in virtual time", a.Rate, a.Latency.P50, b.Rate, b.Latency.P50)
	}
	keys := over.Measurements[0].Summary.Sessions[0].Keys
	if i := slices.IndexFunc(keys, func(k measure.Agreed) bool { return k.Key == "InitialR2T" }); keys[i].InEffect != "Yes" || keys[i].Cut != "target" {
		t.Errorf("%+v", keys[i])
	}
	if err := served.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := served.Wait(); err != nil {
		t.Errorf("it was told to end: %v", err)
	}
}

// The counters of what is served stand on the time axis of a run, and agree with what was
// measured over the network.
func TestCountersOfAServedArray(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	path := heldTo(t, t.TempDir(), "counted", "100MB/s")[len("array:"):]
	served := served(t, path, "--counters", "127.0.0.1:0")
	v := s.volume(served.unit, nil)
	address := served.says("Counters at ")
	if _, trouble, err := s.cli("setup", "tell", v.Name, "counters.address="+address); err != nil {
		t.Fatal(trouble)
	}
	run := s.measured(v, onePlan(spec(func(w *workload.Spec) { w.Span, w.Depth, w.For, w.WarmUp, w.Interval = 1<<30, 4, 3, 0, 0.5 })))
	series, err := s.Series(t.Context(), run.Measurements[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	read, busy := 0.0, 0.0
	for _, i := range series.Intervals {
		for _, c := range i.Inside {
			switch c.Name {
			case "target operations (kind read, lun 0)":
				read += c.Value
			case "member busy (member 0, lun 0)":
				busy = max(busy, c.Value)
			}
		}
	}
	total := float64(run.Measurements[0].Summary.Total.Operations)
	if read < 0.6*total || read > 1.1*total || !(busy > 0 && busy <= 1.2) { // readings lie a little off the intervals
		t.Errorf("%g reads counted of %g, busy %g", read, total, busy)
	}
	if out, trouble, err := s.cli("look", v.Name); err != nil || !strings.Contains(out, "counters, which are recorded during") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if _, trouble, err := s.cli("setup", "tell", v.Name, "counters.address=http://127.0.0.1:1/metrics"); err != nil {
		t.Fatal(trouble)
	}
	run = s.measured(v, onePlan(spec(func(w *workload.Spec) { w.Span, w.For = 1<<30, 0.5 })))
	if i := slices.IndexFunc(run.Checks, func(c setup.Check) bool { return c.Name == "counters" }); run.Status != resource.Finished || i < 0 || run.Checks[i].Result != setup.Caution {
		t.Errorf("with counters that cannot be read: %s %s, %+v", run.Status, run.Reason, run.Checks)
	}
}

// What the storage does by itself is a load like any other: copies and zeroes of a unit are
// counted, written down and compared; what does not do that is refused with the reason.
func TestWhatTheStorageDoesByItself(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	served := served(t, heldTo(t, t.TempDir(), "copier", "100MB/s")[len("array:"):])
	name := s.writable(served.unit)
	out, trouble, err := s.cli("measure", name, "--copies", "50%", "--zeroes", "25%", "--reads", "50%", "--block", "64KiB", "--depth", "4", "--span", "1GiB", "--for", "2s", "--json")
	if err != nil {
		t.Fatal(trouble)
	}
	var run resource.RunDetail
	ok(t, json.Unmarshal([]byte(out), &run))
	m := run.Measurements[0]
	classes := m.Summary.Classes
	copies, zeroes, reads := classes[measure.Copy], classes[measure.Zero], classes[measure.Read]
	if copies.Operations == 0 || copies.Bytes != quantity.Bytes(copies.Operations)*64*quantity.KiB || zeroes.Operations == 0 || reads.Operations == 0 || len(m.Summary.Faults) > 0 {
		t.Fatalf("%+v %+v, %+v", copies, zeroes, m.Summary.Faults)
	}
	// A copy is a read and a write of an array that passes 100 MB/s. Shares are those asked for.
	if share := float64(copies.Operations) / float64(m.Summary.Total.Operations); share < 0.4 || share > 0.6 {
		t.Errorf("%.2f of the operations copied", share)
	}
	if moved := float64(m.Summary.Total.Throughput) + float64(copies.Throughput); moved > 115e6 {
		t.Errorf("the array moved %.0f MB/s, and passes 100", moved/1e6)
	}
	if out, _, err := s.cli("run", "show", fmt.Sprint(run.ID)); err != nil || !strings.Contains(out, "copies") || !strings.Contains(out, "zeroes") {
		t.Errorf("%v: %s", err, out)
	}
	if out, _, err := s.cli("run", "export", fmt.Sprint(run.ID), "--format", "csv", "--table", "summary"); err != nil || !strings.Contains(out, "copies") {
		t.Errorf("%v: %s", err, out)
	}
	out, trouble, err = s.cli("measure", name, "--swaps", "100%", "--block", "512", "--workers", "2", "--depth", "2", "--span", "4KiB", "--for", "0.5s", "--json")
	if err != nil {
		t.Fatal(trouble)
	}
	ok(t, json.Unmarshal([]byte(out), &run))
	if sum := run.Measurements[0].Summary; sum.Classes[measure.Swap].Operations == 0 || len(sum.Faults) > 0 {
		t.Errorf("swaps in the same eight blocks: %+v, %+v", sum.Classes, sum.Faults)
	}
	folder := t.TempDir()
	for arguments, says := range map[string]string{
		folder + " --copies 10%":                              "offloaded copies of a file system are not measured",
		heldTo(t, folder, "alone", "1GB/s") + " --zeroes 10%": "a simulated array has offloaded copies",
		name + " --copies 10% --block 32MiB":                  "the unit copies at most 16 MiB",
		name + " --copies 60% --zeroes 60%":                   "at most 100",
	} {
		if _, said, err := s.cli(append([]string{"measure", "--span", "1GiB", "--for", "0.2s"}, strings.Fields(arguments)...)...); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %v %s", arguments, err, said)
		}
	}
	if _, trouble, err := s.cli("measure", folder, "--zeroes", "100%", "--span", "64MiB", "--for", "0.5s"); err != nil {
		t.Error(trouble)
	}
}
