package e2e

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/chromedp/chromedp"

	"patientheron/client"
	"patientheron/core/judge"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

// heldTo is a simulated array that passes so much and no more.
func heldTo(t *testing.T, folder, name, rate string) string {
	t.Helper()
	path := filepath.Join(folder, name+".yaml")
	ok(t, os.WriteFile(path, []byte("name: "+name+"\nmembers: {count: 4, medium: ssd, capacity: 400GB}\nlayout: {level: raid10}\nlimits: {throughput: "+rate+"}\n"), 0o644))
	return "array:" + path
}

// together measures volumes under one plan and gives the runs as they ended.
func (s *service) together(p plan.Plan, volumes ...resource.Volume) (details []resource.RunDetail) {
	s.t.Helper()
	n := resource.NewRun{VolumeID: volumes[0].ID, Plan: p}
	for _, v := range volumes[1:] {
		n.Beside = append(n.Beside, v.ID)
	}
	run, err := s.StartRun(s.t.Context(), n)
	if err != nil {
		s.t.Fatal(err)
	}
	for _, id := range run.Joint.Runs {
		details = append(details, s.finished(id))
	}
	return details
}

// Of two arrays one passes 100 MB/s and the other 125: in turn and in a race that is what
// is said, by 25 %, and which of them moved an amount first, after 5 and after 4 seconds.
// Who races against itself does not win.
func TestWhoIsFasterTogether(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	slow, quick := heldTo(t, folder, "slow", "100MB/s"), heldTo(t, folder, "quick", "125MB/s")
	var made struct {
		Runs     []resource.RunDetail
		Compared resource.Compared
		Races    *resource.Races
	}
	measure := func(arguments ...string) {
		t.Helper()
		out, said, err := s.cli(append([]string{"measure", "--json", "--order", "sequential", "--block", "1MiB", "--span", "10GiB", "--warm-up", "0"}, arguments...)...)
		made.Races = nil
		if err != nil || json.Unmarshal([]byte(out), &made) != nil {
			t.Fatalf("%v: %s %s", err, said, out)
		}
	}
	main := func() judge.Ratio { return made.Compared.Result.Points[0].Row("throughput").Candidates[0].Ratio }

	measure(slow, quick, "--for", "20s", "--repeats", "5")
	if r := main(); r.Verdict != judge.Better || r.Pairs != 5 || math.Abs(r.Value-1.25) > 0.005 || made.Races != nil {
		t.Errorf("in turn: %+v, races %v", r, made.Races)
	}
	order := map[int64]string{}
	for n, run := range made.Runs {
		for _, m := range run.Measurements {
			order[m.ID] = string(rune('A' + n))
		}
	}
	letters := ""
	for id := range int64(len(order)) {
		letters += order[id+1]
	}
	// Simulated arrays need not take turns: each goes at its own pace.
	if strings.Count(letters, "A") != 5 || strings.Count(letters, "B") != 5 {
		t.Errorf("measured in the order %s", letters)
	}

	measure(slow, quick, "--for", "0", "--amount", "500MB", "--repeats", "3", "--race")
	if r := main(); r.Verdict != judge.Better || len(made.Races.Races) != 3 {
		t.Fatalf("race: %+v, %+v", r, made.Races)
	}
	for _, race := range made.Races.Races {
		a, b := race.Racers[0], race.Racers[1]
		if !a.Finished || !b.Finished || math.Abs(float64(a.Time)-5) > 0.1 || math.Abs(float64(b.Time)-4) > 0.1 || !strings.Contains(race.Words, "quick is done first, after 4 s") {
			t.Errorf("%+v", race)
		}
		if end := race.Leads[len(race.Leads)-1]; end.Racer != 1 || math.Abs(float64(end.Early)-1) > 0.1 || race.Changes != 0 || race.Cautions != nil {
			t.Errorf("%+v %v", end, race.Cautions)
		}
	}
	out, said, err := s.cli("run", "race", fmt.Sprint(made.Runs[1].ID), "--only", "2")
	if err != nil || !strings.Contains(out, "quick is done first") || !strings.Contains(out, "▕BBBBBBBBBB") || strings.Contains(out, "Race 1") {
		t.Errorf("%v %s\n%s", err, said, out)
	}

	measure(quick, quick, "--for", "10s", "--repeats", "3", "--race")
	if r := main(); r.Verdict != judge.Same {
		t.Errorf("against itself: %+v", r)
	}
	for _, race := range made.Races.Races {
		if race.Changes != 0 || len(race.Leads) != 1 || race.Leads[0].Racer != -1 || race.Racers[0].Steadiest || race.Racers[1].Steadiest {
			t.Errorf("against itself: %+v", race)
		}
	}
}

// A device that the kernel holds to a rate races one that it does not, and is never ahead
// at the end; and what both share is named. How close it comes to its rate, and who leads
// after the first moment, a busy machine decides.
func TestRealVolumesRace(t *testing.T) {
	held, free := quietDevice(t, 64<<20), quietDevice(t, 64<<20)
	s := serve(t, t.TempDir(), false)
	throttle(t, s, held, 8<<20)
	p := onePlan(spec(func(w *workload.Spec) {
		w.Blocks, w.Depth, w.WarmUp, w.For, w.Span = workload.Block(64<<10), 2, 0.5, 2, 64<<20
	}))
	p.Beside, p.Stages[0].Repeats = plan.Race, 2
	made := s.together(p, s.volume(held, nil), s.volume(free, nil))
	races, err := s.Races(t.Context(), made[0].ID, 0)
	if err != nil || len(races.Races) != 2 {
		t.Fatalf("%v: %+v, %s %s", err, races, made[0].Reason, made[1].Reason)
	}
	for i, race := range races.Races {
		rate := race.Racers[0].Done / float64(race.Racers[0].Lasted())
		if rate > 1.1*(8<<20) || rate < 0.3*(8<<20) || race.Leads[len(race.Leads)-1].Racer != 1 {
			t.Errorf("%.0f bytes a second; %s %+v", rate, race.Words, race.Leads)
		}
		a, b := made[0].Measurements[i], made[1].Measurements[i]
		if d := a.Started.Sub(b.Started).Abs().Seconds(); d > 1 {
			t.Errorf("they began %.1f s apart", d)
		}
	}
	made = s.together(p, s.volume(t.TempDir(), nil), s.volume(t.TempDir(), nil))
	races, err = s.Races(t.Context(), made[0].ID, 1)
	if device := made[0].Volume.Facts.Devices; err != nil || len(device) > 0 && !strings.Contains(strings.Join(races.Races[0].Cautions, " "), "lie on the same device "+device[0]) {
		t.Errorf("%v: %+v", err, races)
	}
}

// The rate of a device falls to half while it is measured against itself: whoever came
// after it alone would be called worse, in turn nobody is.
func TestDriftMeetsBoth(t *testing.T) {
	device := quietDevice(t, 64<<20)
	s := serve(t, t.TempDir(), false)
	limit := throttle(t, s, device, 12<<20)
	v := s.volume(device, nil)
	p := onePlan(spec(func(w *workload.Spec) {
		w.Blocks, w.Depth, w.WarmUp, w.For, w.Span = workload.Block(64<<10), 4, 0.3, 1, 64<<20
	}))
	p.Stages[0].Repeats = 6
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: v.ID, Beside: []int64{v.ID}, Plan: p})
	ok(t, err)
	ok(t, s.Watch(t.Context(), run.Joint.Runs[1], client.Watcher{Measurement: func(m resource.Measurement) {
		limit((12 - m.Position) << 20) // a little less after each pair
	}}))
	first, second := s.finished(run.ID), s.finished(run.Joint.Runs[1])
	c := s.compared(first.ID, second.ID)
	r := c.Result.Points[0].Row("throughput").Candidates[0].Ratio
	// One in twenty-five of such pages has a verdict by chance; that after the drift has none.
	if called := r.Verdict == judge.Better || r.Verdict == judge.Worse; r.Pairs != 6 || called && r.Alone < 0.002 || r.Narrower < 1.2 {
		t.Errorf("%+v", r)
	}
	fell := float64(first.Measurements[5].Summary.Total.Throughput / first.Measurements[0].Summary.Total.Throughput)
	if fell > 0.75 {
		t.Fatalf("it did not drift: the last is %.2f of the first", fell)
	}
}

// What cannot be made together is refused before anything is done, with what to do.
func TestTogetherIsRefused(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	nothing := s.volume("null:1GiB", nil)
	vast, here := s.volume("null:4PiB", nil), s.volume(t.TempDir(), nil)
	file := blankFile(t)
	precious := s.volume(file, &resource.ConsentToWrite{Size: quantity.Bytes(size(t, file))})
	reading, wr := onePlan(spec(nil)), onePlan(writing())
	race := reading
	race.Beside = plan.Race
	fits := plan.Plan{Beside: plan.Race, Stages: []plan.Stage{{Load: feeds(1e6, func(*workload.Spec) {}), Fit: &plan.Fit{Field: "feeds", From: 1, To: 4}}}}
	odd := reading
	odd.Beside = "at random"
	for name, c := range map[string]struct {
		run  resource.NewRun
		says string
	}{
		"written twice":         {resource.NewRun{VolumeID: precious.ID, Beside: []int64{precious.ID}, Plan: wr}, "stands twice among the volumes"},
		"one that is not there": {resource.NewRun{VolumeID: nothing.ID, Beside: []int64{99}, Plan: reading}, "register it first"},
		"a race to what fits":   {resource.NewRun{VolumeID: nothing.ID, Beside: []int64{nothing.ID}, Plan: fits}, "measure them in turn"},
		"too many":              {resource.NewRun{VolumeID: nothing.ID, Beside: slices.Repeat([]int64{nothing.ID}, 9), Plan: reading}, "8"},
		"another way":           {resource.NewRun{VolumeID: nothing.ID, Beside: []int64{nothing.ID}, Plan: odd}, "race"},
		"one that has no room":  {resource.NewRun{VolumeID: vast.ID, Beside: []int64{here.ID}, Plan: onePlan(spec(func(w *workload.Spec) { w.Span = 1 << 50 }))}, here.Name + ": "},
	} {
		if run, err := s.StartRun(t.Context(), c.run); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: run %d, %v", name, run.ID, err)
		}
	}
	page, err := s.Runs(t.Context(), 0, 10)
	if err != nil || page.Total != 0 {
		t.Errorf("%d runs were kept (%v)", page.Total, err)
	}
	one := s.measured(nothing, reading)
	for arguments, says := range map[string]string{
		"measure null:1GiB --race":                    "needs two volumes or more",
		"measure " + strings.Repeat("null:1GiB ", 10): "1 to 9 words",
		"run race 77":                      "run 77",
		fmt.Sprintf("run race %d", one.ID): "measure two volumes or more with --race",
		"measure null:1GiB null:1GiB --race --feeds 3 --fit feeds=1..400": "measure them in turn",
	} {
		if _, said, err := s.cli(strings.Fields(arguments)...); err == nil || !strings.Contains(said, says) {
			t.Errorf("%s: %s", arguments, said)
		}
	}
}

// Runs that are made together end together: when the service is killed, and when a volume
// goes away; and what was measured is kept.
func TestTogetherToTheEnd(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := serve(t, data, false)
	nothing, here := s.volume("null:1GiB", nil), s.volume(t.TempDir(), nil)
	for _, as := range []plan.Beside{plan.InTurn, plan.Race} {
		p := onePlan(spec(func(w *workload.Spec) { w.For, w.Span = 600, 1<<20 }))
		p.Beside = as
		run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: nothing.ID, Beside: []int64{here.ID}, Plan: p})
		ok(t, err)
		until(t, "it measures", func() bool { d, err := s.Run(t.Context(), run.ID); return err == nil && len(d.Measurements) == 1 })
		waiting, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: nothing.ID, Beside: []int64{here.ID}, Plan: onePlan(spec(nil))})
		ok(t, err)
		s.end(syscall.SIGKILL)
		s = serve(t, data, false)
		for _, id := range run.Joint.Runs {
			if d := s.finished(id); d.Status != resource.Interrupted {
				t.Errorf("%s: run %d is %s: %s", as, id, d.Status, d.Reason)
			}
		}
		for _, id := range waiting.Joint.Runs { // which waited, and is made by the next service
			if d := s.finished(id); d.Status != resource.Finished || d.Joint == nil {
				t.Errorf("run %d is %s: %s", id, d.Status, d.Reason)
			}
		}
	}
	away := filepath.Join(t.TempDir(), "away")
	ok(t, os.Mkdir(away, 0o755))
	p := onePlan(spec(func(w *workload.Spec) { w.For, w.Span = 0.3, 1<<20 }))
	v := s.volume(away, nil)
	ok(t, os.Remove(away))
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: nothing.ID, Beside: []int64{v.ID}, Plan: p})
	if err == nil {
		for _, id := range run.Joint.Runs {
			if d := s.finished(id); d.Status != resource.Failed || !strings.Contains(d.Reason, "away") {
				t.Errorf("run %d is %s: %s", id, d.Status, d.Reason)
			}
		}
	} else if !strings.Contains(err.Error(), v.Name) {
		t.Error(err)
	}
}

// From the form to who was ahead, and on to the pairs.
func TestConsoleRaces(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	slow := s.volume(heldTo(t, folder, "slow", "100MB/s"), nil)
	s.volume(heldTo(t, folder, "quick", "125MB/s"), nil)
	p := open(t, s)
	p.signIn(s)
	p.do(chromedp.Navigate(fmt.Sprintf("%s/measure?volume=%d", s.url, slow.ID)), chromedp.WaitVisible(chromedp.CSS("[name=span]")))
	p.click("details summary")
	p.click("fieldset input[type=checkbox]")
	p.says("Together with other volumes: 1")
	p.until(`[...document.querySelectorAll("[name=as]")].slice(1).map(e => e.click()).length === 1`)
	p.typed("[name=for]", "5s")
	p.typed("[name=repeats]", "3")
	p.click("button[type=submit]")
	p.says("A race with run 2")
	p.says("Who was ahead")
	p.says("quick is ahead at the end, after 7 s")
	p.says("Compare them in pairs")
	p.until(`document.querySelector("[aria-label='Who was ahead'] canvas") !== null`)
	p.until(`[...document.querySelectorAll("a")].filter(e => e.textContent === "Compare them in pairs").map(e => e.click()).length === 1`)
	p.says("Measured together, 3 pairs per point")
	p.do(chromedp.Navigate(s.url + "/runs"))
	p.says("races with 2")
}

func size(t *testing.T, path string) int64 {
	t.Helper()
	info, err := os.Stat(path)
	ok(t, err)
	return info.Size()
}
