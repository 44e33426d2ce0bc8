package e2e

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/client"
	"patientheron/core/plan"
	"patientheron/core/tune"
	"patientheron/resource"
)

// tuned carries an experiment out with the client, and gives its answer and what was printed.
func (s *service) tuned(volume string, arguments ...string) (answer tune.Answer, record string) {
	s.t.Helper()
	out, trouble, err := s.cli(append([]string{"tune", volume, "--for", "0.3s", "--warm-up", "0.05s", "--rounds", "4"}, arguments...)...)
	if err != nil {
		s.t.Fatalf("%v: %s%s", err, out, trouble)
	}
	var id int
	if _, err := fmt.Sscanf(out[strings.Index(out, ", run ")+len(", run "):], "%d", &id); err != nil {
		s.t.Fatalf("%v: %s", err, out)
	}
	again, trouble, err := s.cli("run", "effects", fmt.Sprint(id))
	if err != nil || again != out {
		s.t.Errorf("printed anew it is different: %v %s\n%s", err, trouble, again)
	}
	written, trouble, err := s.cli("run", "effects", fmt.Sprint(id), "--json")
	var all []resource.StageTuned
	if err == nil {
		err = json.Unmarshal([]byte(written), &all)
	}
	if err != nil || len(all) != 1 {
		s.t.Fatalf("%v: %s%s", err, written, trouble)
	}
	return all[0].Answer, out
}

func matter(a tune.Answer, field string) tune.Matter {
	i := slices.IndexFunc(a.Parameters, func(p tune.Parameter) bool { return p.Field == field })
	if i < 0 {
		return ""
	}
	return a.Parameters[i].Matter
}

// writable registers a unit that may be written over.
func (s *service) writable(unit string) (name string) {
	s.t.Helper()
	look, err := s.Look(s.t.Context(), unit, client.Asked{})
	if err != nil || look.Facts == nil {
		s.t.Fatalf("%+v (%v)", look.Checks, err)
	}
	v, err := s.AddVolume(s.t.Context(), resource.NewVolume{Locator: unit, Consent: &resource.ConsentToWrite{Size: look.Facts.Size, Serial: look.Facts.Serial}})
	if err != nil {
		s.t.Fatal(err)
	}
	return v.Name
}

// Over a link with a delay it matters whether written data wait to be asked for: each
// question is a way there and back. A value that the target does not take is reported as
// that.
func TestTuningOverALinkWithDelay(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	unit := served(t, heldTo(t, t.TempDir(), "far", "400MB/s")[len("array:"):], "--instant", "--size", "64MiB", "--link-delay", "2ms", "--session-limit", "MaxOutstandingR2T=2").unit
	name := s.writable(unit + "?ImmediateData=No&InitialR2T=Yes&MaxOutstandingR2T=2")
	answer, record := s.tuned(name, "--reads", "0%", "--block", "64KiB", "--depth", "2", "--span", "32MiB", "--try", "ImmediateData", "--try", "HeaderDigest", "--try", "MaxOutstandingR2T=16")
	if m := matter(answer, "ImmediateData"); m != tune.Matters || !slices.Contains(answer.Keep, plan.Setting{Field: "ImmediateData", Value: "Yes"}) {
		t.Errorf("immediate data: %s, kept: %v\n%s", m, answer.Keep, record)
	}
	// One way there and back instead of two, with what the host adds to each.
	if b := answer.Brings; b == nil || b.Value < 1.5 || b.Value > 2.5 {
		t.Errorf("it brings %+v, not about twice as much\n%s", b, record)
	}
	if v := answer.Parameters[1].Values[0]; answer.Parameters[1].Field != "HeaderDigest" || v.Ratio.Value < 0.8 || v.Ratio.Value > 1.25 {
		t.Errorf("a checksum of 48 bytes: %+v\n%s", v, record)
	}
	if m := matter(answer, "MaxOutstandingR2T"); m != tune.NotTaken || !strings.Contains(record, "refused: 2 stayed in effect") {
		t.Errorf("what the target did not take: %s\n%s", m, record)
	}
	if !strings.Contains(record, "as a volume: "+unit+"?InitialR2T=Yes&ImmediateData=Yes&MaxOutstandingR2T=2") && len(answer.Keep) == 1 {
		t.Errorf("the record does not say what to use:\n%s", record)
	}
}

// On loopback, before storage that is the limit, none of it matters, and that is said.
func TestTuningOnLoopback(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	unit := served(t, heldTo(t, t.TempDir(), "slow", "20MB/s")[len("array:"):]).unit
	answer, record := s.tuned(unit, "--block", "64KiB", "--depth", "8", "--span", "1GiB", "--try", "MaxRecvDataSegmentLength=8192", "--try", "HeaderDigest", "--try", "sessions=2")
	if len(answer.Keep) != 0 || !strings.Contains(record, "Settings to keep\n  the present ones") {
		t.Errorf("kept: %v\n%s", answer.Keep, record)
	}
	mattered := 0 // a host that is busy for a moment may make one look worse
	for _, p := range answer.Parameters {
		if p.Matter == tune.Matters {
			mattered++
		}
	}
	if mattered > 1 {
		t.Errorf("%d of three matter\n%s", mattered, record)
	}
}

// Keys of a simulated array and fields of a load are parameters like any others; what
// cannot be is refused before anything is measured.
func TestTuningAnArray(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	array := heldTo(t, t.TempDir(), "wide", "500MB/s")
	answer, record := s.tuned(array, "--block", "64KiB", "--depth", "1", "--span", "1GiB", "--for", "2s", "--try", "depth=2", "--try", "limits.throughput=400MB/s")
	if matter(answer, "depth") != tune.Matters || len(answer.Keep) == 0 || answer.Keep[0] != (plan.Setting{Field: "depth", Value: "2"}) {
		t.Errorf("%v\n%s", answer.Keep, record)
	}
	for arguments, says := range map[string]string{
		"--try MaxBurstLength=65536":             "an array has no key",
		"--try depth":                            "",
		"--try nothing=3":                        "nothing",
		"--try depth=2 --rounds 2":               "2 rounds",
		"--try depth=2 --budget 5s":              "three rounds",
		"--try depth=2 --figure file-p99":        "the load has no",
		"--try depth=2 --try depth=4":            "stands twice",
		"--leave sessions":                       "not one of the usual parameters",
		"--try depth=2 --reads 0% --span 900TiB": "span",
	} {
		_, said, err := s.cli(append([]string{"tune", array, "--span", "1GiB", "--list"}, strings.Fields(arguments)...)...)
		if says == "" {
			if err != nil {
				t.Errorf("%s: %s", arguments, said)
			}
			continue
		}
		if err == nil {
			_, said, err = s.cli(append([]string{"tune", array, "--span", "1GiB"}, strings.Fields(arguments)...)...)
		}
		if err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %v %s", arguments, err, said)
		}
	}
	if _, said, err := s.cli("run", "effects", fmt.Sprint(s.measured(s.volume("null:1GiB", nil), onePlan(spec(nil))).ID)); err == nil || !strings.Contains(said, "is not an experiment") {
		t.Errorf("%v %s", err, said)
	}
}

// From the form to the answer and its record.
func TestConsoleTunes(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	array := s.volume(heldTo(t, t.TempDir(), "wide", "500MB/s"), nil)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/tune?volume=%d", s.url, array.ID)))
	p.says("operations of each worker under way at a time")
	p.typed("[name=depth]", "1")
	p.typed("[name=for]", "1s")
	p.typed("[name=warmUp]", "0")
	p.typed("[name=minutes]", "0.01")
	p.says("three rounds of each half take about")
	p.typed("[name=minutes]", "1")
	p.says("At most")
	p.until(`[...document.querySelectorAll("tbody label")].filter(e => e.textContent.trim() === "workers").map(e => e.querySelector("input").click()).length === 1`)
	p.typed(`[aria-label="another parameter"]`, "limits.throughput")
	p.until(`[...document.querySelectorAll("button")].filter(e => e.textContent === "Add").map(e => e.click()).length === 1`)
	p.typed(`[aria-label="values of limits.throughput"]`, "400MB/s")
	p.typed(`[aria-label="values of depth"]`, "2")
	p.until(`document.body.innerText.includes("At most") && !document.querySelector("button[type=submit]").disabled`)
	p.click("button[type=submit]")
	p.says("For the record")
	p.says("depth = 2: in the load")
	p.says("limits.throughput as named")
	if text, err := p.Text("main"); err != nil || strings.Contains(text, "workers 1") {
		t.Errorf("what was left out was tried: %v %s", err, text)
	}
}
