package e2e

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/core/fileset"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/core/workload/stores"
	"patientheron/resource"
)

// someStores is a load of one small store.
func someStores(change func(*workload.Spec)) workload.Spec {
	s := workload.Default()
	s.Span, s.For = 256*quantity.MiB, 20
	s.SetBody(&stores.Stores{Count: 1, Requests: []stores.RequestShare{{Request: stores.PutRequest, Weight: 1}}, Value: fileset.Sizes{Fixed: 400}, Memtable: quantity.MiB, Clients: 1})
	if change != nil {
		change(&s)
	}
	return s
}

// Behind a line with a round trip of ten milliseconds a put that is made safe by itself takes
// two of them, one for the log and one for its flush; in groups each client waits for two
// of its own and one that is under way, at most; and without a log none waits at all, but for
// tables.
func TestALogCostsWhatItsFlushesTake(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "far.yaml")
	ok(t, os.WriteFile(path, []byte("name: far\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid10}\nlink: {rate: 1250MB/s, roundTrip: 10ms}\n"), 0o644))
	far := s.volume("array:"+path, nil)
	measured := func(change func(*workload.Spec)) measure.Summary {
		t.Helper()
		run := s.measured(far, onePlan(someStores(change)))
		if run.Status != resource.Finished {
			t.Fatal(run.Reason)
		}
		return *run.Measurements[0].Summary
	}
	each := measured(func(w *workload.Spec) { stores.Of(*w).Log = stores.LogEachPut })
	if rate := float64(each.Stores.Requests); math.Abs(rate/50-1) > 0.06 {
		t.Errorf("%.1f puts a second, each flushed over two round trips of 10 ms", rate)
	}
	group := measured(func(w *workload.Spec) { stores.Of(*w).Log, stores.Of(*w).Clients = stores.LogGroupCommit, 16 })
	if rate := float64(group.Stores.Requests); math.Abs(rate/(16*50)-1) > 0.06 {
		t.Errorf("%.1f puts a second of 16 clients that are flushed together", rate)
	}
	off := measured(func(w *workload.Spec) { stores.Of(*w).Log, stores.Of(*w).Clients = stores.LogOff, 16 })
	if off.Groups[0].Latency.P50 > 0.001 || off.Stores.Waits == 0 || off.Stores.Requests < 5*group.Stores.Requests {
		t.Errorf("without a log: %+v, puts %+v", off.Stores, off.Groups[0].Latency)
	}
	get := measured(func(w *workload.Spec) {
		stores.Of(*w).Requests[0].Request, stores.Of(*w).FalsePositives = stores.GetRequest, 1e-9
	})
	if p50 := get.Groups[1].Latency.P50; math.Abs(float64(p50)-0.010) > 0.0007 || get.Stores.Read < 0.999 || get.Stores.Read > 1.05 || get.Classes[measure.Write].Operations > 0 {
		t.Errorf("a get takes %s and %.3f reads: %+v", p50, get.Stores.Read, get.Classes)
	}
}

// On a real folder a store puts, gets, scans and merges; what it took of the storage is what
// the classes of operations say, and nothing is left.
func TestAStoreOnAFolder(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	load := someStores(func(w *workload.Spec) {
		stores.Of(*w).Count, w.Workers, stores.Of(*w).Clients, w.For, w.WarmUp = 2, 2, 8, 3, 0.5
		stores.Of(*w).Log = stores.LogAsynchronous
		stores.Of(*w).Requests = []stores.RequestShare{{Request: stores.PutRequest, Weight: 30}, {Request: stores.GetRequest, Weight: 3}, {Request: stores.ScanRequest, Weight: 1}}
	})
	run := s.measured(s.volume(folder, nil), onePlan(load))
	if run.Status != resource.Finished {
		t.Fatal(run.Reason)
	}
	sum := run.Measurements[0].Summary
	puts, writes := sum.Groups[0], sum.Classes[measure.Write]
	if puts.Operations == 0 || sum.Groups[1].Operations == 0 || sum.Groups[2].Operations == 0 || sum.Stores.Written < 1.5 ||
		math.Abs(sum.Stores.Written-float64(writes.Bytes)/float64(puts.Bytes)) > 1e-9 || puts.Bytes != quantity.Bytes(puts.Operations)*432 {
		t.Errorf("%+v %+v %+v", sum.Stores, sum.Groups, writes)
	}
	if left, err := os.ReadDir(folder); err != nil || len(left) > 0 {
		t.Errorf("%v are left (%v)", left, err)
	}
	out, said, err := s.cli("measure", folder, "--stores", "1", "--requests", "get:8,put:1,scan:1", "--value", "100B..2KiB", "--memtable", "1MiB", "--span", "256MiB", "--for", "1s")
	if err != nil || !strings.Contains(out, "gets") || !strings.Contains(out, "storage reads per request") || !strings.Contains(out, "1 store, get:8,put:1,scan:1, values of 100..2KiB, 16 clients, log group-commit") {
		t.Errorf("%v %s\n%s", err, said, out)
	}
	for arguments, says := range map[string]string{
		"--stores 1 --span 32MiB":                   "use a larger span, or less memory",
		"--stores 1 --value 1MiB":                   "from 1 byte to 64 KiB",
		"--stores 1 --requests put,delete":          "put, get or scan",
		"--stores 1 --log perhaps":                  "perhaps",
		"--stores 1 --rate 100":                     "leave rate",
		"--stores 1 --files 10x4KiB":                "keep one",
		"--stores 2 --workers 3 --span 1GiB":        "each worker has stores of its own",
		"--stores 1 --fit feeds=1..4 --span 1GiB":   "a fit asks whether feeds are kept",
		"--stores 1 --span 1GiB --key-skew notmuch": "notmuch",
	} {
		if _, said, err := s.cli(append([]string{"measure", folder}, strings.Fields(arguments)...)...); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %s", arguments, said)
		}
	}
}

// A store that keeps to the zones of its media goes on for as long as it is asked to, and
// the map of zones goes with the run; one that does not is refused, as a drive would do.
func TestAStoreInZones(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "zones.yaml")
	ok(t, os.WriteFile(path, []byte("name: zones\nmembers: {count: 2, medium: ssd, capacity: 8GiB, zone: 8MiB, openZones: 4}\nlayout: {level: concatenation}\nempty: 70%\n"), 0o644))
	zoned := s.volume("array:"+path, nil)
	for _, log := range []stores.Logging{stores.LogGroupCommit, stores.LogAsynchronous, stores.LogOff} {
		run := s.measured(zoned, onePlan(someStores(func(w *workload.Spec) {
			w.Span, stores.Of(*w).Memtable, stores.Of(*w).Zone, stores.Of(*w).Log, stores.Of(*w).Clients = 2*quantity.GiB, 0, 8*quantity.MiB, log, 16
		})))
		sum := run.Measurements[0].Summary
		if run.Status != resource.Finished || len(sum.Faults) > 0 || sum.Classes[measure.Trim].Operations == 0 || sum.Stores.Written < 1.5 {
			t.Errorf("log %s: %s %s, %+v, %+v", log, run.Status, run.Reason, sum.Stores, sum.Faults)
		}
		series, err := s.Series(t.Context(), run.Measurements[0].ID)
		ok(t, err)
		if last := series.Intervals[len(series.Intervals)-1].Zones; len(last) < 32 || !strings.Contains(last, "9") || !strings.Contains(last, "0") {
			t.Errorf("log %s: zones %q", log, last)
		}
	}
	if out, said, err := s.cli("run", "zones", "1"); err != nil || strings.Count(out, "▕") < 10 || !strings.Contains(out, "█") {
		t.Errorf("%v %s %s", err, said, out)
	}
	run := s.measured(zoned, onePlan(someStores(func(w *workload.Spec) { w.Span = 2 * quantity.GiB })))
	if run.Status != resource.Failed || !strings.Contains(run.Reason, "a zone of the media refused it: it does not begin where its zone goes on") {
		t.Errorf("writes anywhere: %s %s", run.Status, run.Reason)
	}
	ok(t, os.WriteFile(path+"1.yaml", []byte("name: one\nmembers: {count: 1, medium: ssd, capacity: 8GiB, zone: 8MiB, openZones: 1}\nlayout: {level: concatenation}\nempty: 100%\n"), 0o644))
	run = s.measured(s.volume("array:"+path+"1.yaml", nil), onePlan(someStores(func(w *workload.Spec) {
		w.Span, stores.Of(*w).Memtable, stores.Of(*w).Zone, stores.Of(*w).Log = 2*quantity.GiB, 0, 8*quantity.MiB, stores.LogGroupCommit
	})))
	if run.Status != resource.Failed || !strings.Contains(run.Reason, "as many zones as the drive takes are written in part") {
		t.Errorf("one zone at a time: %s %s", run.Status, run.Reason)
	}
	if _, said, err := s.cli("run", "zones", fmt.Sprint(s.measured(s.volume("null:1GiB", nil), onePlan(spec(nil))).ID)); err == nil || !strings.Contains(said, "shows no zones") {
		t.Errorf("%v %s", err, said)
	}
}

// From the form to what was written for what was put.
func TestConsoleMeasuresStores(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	array := s.volume(heldTo(t, t.TempDir(), "quick", "125MB/s"), nil)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/measure?volume=%d", s.url, array.ID)), chromedp.WaitVisible(chromedp.CSS("[role=tab]")))
	p.until(`[...document.querySelectorAll("[role=tab]")].filter(e => e.textContent === "Stores").map(e => e.click()).length === 1`)
	p.do(chromedp.WaitVisible(chromedp.CSS("[name=requests]")))
	p.typed("[name=memtable]", "1MiB")
	p.typed("[name=span]", "256MiB")
	p.typed("[name=for]", "20s")
	p.click("button[type=submit]")
	p.says("requests/s")
	p.says("storage reads per request")
	p.says("Write amplification")
	p.until(`document.querySelectorAll("canvas").length >= 4`)
}
