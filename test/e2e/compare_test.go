package e2e

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"patientheron/client"
	"patientheron/core/compare"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/workload"
	"patientheron/resource"
)

// repeated is a plan of one stage, five times.
func repeated(name string, load workload.Spec) plan.Plan {
	return plan.Plan{Name: name, Stages: []plan.Stage{{Name: name, Load: load, Repeats: 5}}}
}

func (s *service) compared(baseline int64, candidates ...int64) resource.Compared {
	s.t.Helper()
	n := resource.NewComparison{Baseline: resource.Group{Runs: []int64{baseline}}}
	for _, id := range candidates {
		n.Candidates = append(n.Candidates, resource.Group{Runs: []int64{id}})
	}
	c, err := s.Compare(s.t.Context(), n)
	if err != nil {
		s.t.Fatal(err)
	}
	return c
}

// A loop device held to half its rate is worse by half, and the interval says
// so; what was measured twice the same way is not worse.
func TestHalfTheRateIsWorseByHalf(t *testing.T) {
	const full = 8 << 20 // slow enough for a busy machine to keep
	s := serve(t, t.TempDir(), false)
	device := quietDevice(t, 64<<20)
	set := throttle(t, s, device, full)
	volume := s.volume(device, nil)
	load := spec(func(w *workload.Spec) {
		w.Blocks, w.Depth, w.Span, w.For, w.WarmUp = workload.Block(64<<10), 4, 64<<20, 0.7, 0.3
	})
	before := s.measured(volume, repeated("archive", load))
	again := s.measured(volume, repeated("archive", load))
	set(full / 2)
	after := s.measured(volume, repeated("archive", load))
	c := s.compared(before.ID, again.ID, after.ID)
	row := c.Result.Points[0].Row("throughput")
	if v := row.Candidates[0]; v.Verdict == judge.Better || v.Verdict == judge.Worse {
		t.Errorf("the same twice: %+v", v.Ratio)
	}
	half := row.Candidates[1]
	if half.Verdict == judge.Better || half.Low > 0.5+0.02 || half.High < 0.5-0.02 {
		t.Errorf("half the rate: %+v", half.Ratio)
	}
	// The throttle is exact; a machine that is busy with other things is not.
	stolen := max(before.Measurements[0].Summary.Stolen, after.Measurements[0].Summary.Stolen)
	if spread := max(row.Baseline.Variation, half.Variation); spread > 0.05 || stolen > 0.05 {
		t.Logf("this machine varies by %s, and others took %s of it; that half is worse cannot be asked for", spread, stolen)
	} else if half.Verdict != judge.Worse || math.Abs(half.Ratio.Value-0.5) > 0.06 {
		t.Errorf("half the rate: %+v, in words: %s", half.Ratio, c.Result.Candidates[1].Words)
	}
}

// gates asks a script's questions of runs that are known to differ.
func (s *service) gates(t *testing.T, base, worse, single int64) {
	t.Helper()
	for condition, code := range map[string]int{
		`throughput of "hot reads" better by 30%`: 3,
		`iops of "hot reads" better by 99%`:       3,
		`p99 of "hot reads" worse by 5%`:          0,
		`throughput of "nothing" worse`:           1,
		`nonsense`:                                1,
	} {
		_, trouble, err := s.cli("compare", fmt.Sprint(base), fmt.Sprint(worse), "--fail-if", condition)
		if got := exitCode(err); got != code {
			t.Errorf("%s ended with %d, want %d: %s", condition, got, code, trouble)
		}
	}
	if _, trouble, err := s.cli("compare", fmt.Sprint(base), fmt.Sprint(single), "--fail-if", "iops worse"); exitCode(err) != 4 || !strings.Contains(trouble, "measure at least three") {
		t.Errorf("one repeat: %v: %s", err, trouble)
	}
	for _, format := range []string{"--json", "--csv", "--noise=3%"} {
		out, trouble, err := s.cli("compare", fmt.Sprint(base), fmt.Sprint(worse), format)
		if err != nil || !strings.Contains(out, "better") || format == "--json" && !json.Valid([]byte(out)) {
			t.Errorf("%v: %v: %s%s", format, err, out, trouble)
		}
		for line := range strings.Lines(out) {
			if format == "--noise=3%" && len([]rune(line)) > 101 {
				t.Errorf("a line is longer than 100 characters: %s", line)
			}
		}
	}
}

func exitCode(err error) int {
	var ended *exec.ExitError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &ended):
		return ended.ExitCode()
	}
	return -1
}

// quietDevice is a loop device whose file is in memory, so that nothing but the
// block layer and the file system above it is in the way.
func quietDevice(t *testing.T, size int64) string {
	t.Helper()
	memory := t.TempDir()
	must(t, "mount", "-t", "tmpfs", "tmpfs", memory)
	t.Cleanup(func() { _ = exec.Command("umount", "--lazy", memory).Run() })
	file := filepath.Join(memory, "backing")
	ok(t, os.WriteFile(file, make([]byte, size), 0o600)) // what was never written is no storage
	device := must(t, "losetup", "--find", "--show", file)
	t.Cleanup(func() { _ = exec.Command("losetup", "--detach", device).Run() })
	return device
}

// Nine runs of the same, on a real file system and on a simulated array, each pair of
// them compared: at most one in twenty of the 36 may be called better or worse, and
// where repeats agree within 2 %, half of them are called the same.
func TestTheSameTwiceIsNotCalledDifferent(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "plain.yaml")
	if err := os.WriteFile(path, []byte("name: Plain\nmembers: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid10}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, locator := range map[string]string{"ext4": mounted(t, quietDevice(t, 256<<20), "mkfs.ext4", "-q"), "array": "array:" + path} {
		t.Run(name, func(t *testing.T) {
			p := repeated("ledger", spec(func(w *workload.Spec) { w.Depth, w.For, w.Interval = 1, 0.4, 0.1 }))
			if name == "array" {
				p.Stages[0].Load.For = 20
			}
			allAlike(t, s, s.volume(locator, nil), p)
		})
	}
}

// A real folder whose rate a limit holds: repeats agree, and runs of the same are said
// to be the same.
func TestTheSameUnderALimitIsTheSame(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	device := quietDevice(t, 256<<20)
	volume := s.volume(mounted(t, device, "mkfs.ext4", "-q"), nil)
	throttle(t, s, device, 8<<20)
	allAlike(t, s, volume, repeated("ledger", spec(func(w *workload.Spec) { w.Depth, w.For, w.WarmUp, w.Interval = 4, 0.3, 0.2, 0.1 })))
}

// still is how much runs of the same may differ for the machine to have kept still: half
// of what counts as noise. Beyond it, the runs are not of the same.
const still = 0.025

// allAlike compares each pair of nine runs of the same. Held to a limit and in virtual time
// they stay alike; elsewhere other tenants of the machine may be what is told apart.
func allAlike(t *testing.T, s *service, volume resource.Volume, p plan.Plan) {
	var ids []int64
	var samples []compare.Sample
	var spreads []quantity.Share
	for n := range 9 {
		p.Stages[0].Load.Seed = uint64(n + 1)
		detail := s.measured(volume, p)
		if detail.Status != resource.Finished {
			t.Fatal(detail.Reason)
		}
		ids = append(ids, detail.ID)
		var own []compare.Sample
		for _, m := range detail.Measurements {
			own = append(own, compare.Sample{Run: detail.ID, Stage: m.Name, Load: m.Load, Summary: m.Summary})
		}
		samples = append(samples, own...)
		spreads = append(spreads, compare.Points(compare.Side{Samples: own})[0].Rows[0].Variation)
	}
	words, steady := map[judge.Verdict]int{}, map[judge.Verdict]int{}
	pairs, steadyPairs := 0, 0
	for i := range ids {
		for j := i + 1; j < len(ids); j++ {
			o := s.compared(ids[i], ids[j]).Result.Points[0].Row("throughput").Candidates[0]
			words[o.Verdict]++
			pairs++
			if max(spreads[i], spreads[j]) < 0.02 {
				steady[o.Verdict]++
				steadyPairs++
			}
		}
	}
	// Between runs, of which each counts once.
	drift := compare.Points(compare.Side{Runs: ids, Samples: samples})[0].Rows[0].Variation
	t.Logf("%d pairs of the same: %v; of %d pairs whose repeats spread under 2 %%: %v; runs differ by %s, repeats by %v", pairs, words, steadyPairs, steady, drift, spreads)
	// One in twenty is two of 36; pairs share runs, so that they are wrong together.
	if wrong := words[judge.Better] + words[judge.Worse]; wrong > 5 && drift < still {
		t.Errorf("%d pairs of the same came out as %v", pairs, words)
	}
	if steadyPairs > 10 && 2*steady[judge.Same] < steadyPairs && drift < 0.015 {
		t.Errorf("of %d pairs whose repeats agree: %v", steadyPairs, steady)
	}
	// Several runs on each side show by themselves how they differ.
	n := resource.NewComparison{Baseline: resource.Group{Runs: ids[:4]}, Candidates: []resource.Group{{Runs: ids[4:8]}}}
	c, err := s.Compare(t.Context(), n)
	if err != nil {
		t.Fatal(err)
	}
	if v := c.Result.Points[0].Row("throughput").Candidates[0]; len(v.Repeated.Values) != 4 || v.Verdict == judge.Better && v.Ratio.Value > 1.5 {
		t.Errorf("four runs against four of the same: %+v", v)
	}
}

// On simulated arrays the same twice is the same in every point, and a cache
// gains where its counters say that it answered.
func TestCacheGainsWhereItAnswers(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	folder := t.TempDir()
	const plain = "name: Plain\nmembers: {count: 4, medium: hard disk, capacity: 1TB}\nlayout: {level: raid5, chunk: 64KiB}\n"
	volumes := map[string]resource.Volume{}
	for name, text := range map[string]string{
		"plain":  plain,
		"cached": plain + "caches:\n  - {name: memory, size: 2GiB, block: 16KiB, mode: read-only, hitTime: 30us}\n",
	} {
		path := filepath.Join(folder, name+".yaml")
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		volumes[name] = s.volume("array:"+path, nil)
	}
	stage := func(name string, span quantity.Bytes, change func(*workload.Spec)) plan.Stage {
		load := spec(func(w *workload.Spec) {
			w.Span, w.For, w.WarmUp, w.Interval, w.Depth = span, 10, 30, 1, 8
			if change != nil {
				change(w)
			}
		})
		return plan.Stage{Name: name, Load: load, Repeats: 3}
	}
	p := plan.Plan{Stages: []plan.Stage{
		stage("hot reads", 64<<20, nil),
		stage("cold reads", 900<<30, nil),
		stage("writes", 900<<30, func(w *workload.Spec) { w.Reads = 0 }),
	}}
	runs := map[string]resource.RunDetail{}
	for _, name := range []string{"plain", "again", "cached"} {
		volume := volumes[name]
		if name == "again" {
			volume = volumes["plain"]
		}
		runs[name] = s.measured(volume, p)
	}
	c := s.compared(runs["plain"].ID, runs["again"].ID, runs["cached"].ID)
	for _, point := range c.Result.Points {
		for _, row := range point.Rows {
			if v := row.Candidates[0].Verdict; v == judge.Better || v == judge.Worse {
				t.Errorf("the same twice, %s of %s: %+v", row.Figure, point.Title, row.Candidates[0].Ratio)
			}
		}
	}
	verdicts := map[string]judge.Verdict{}
	for _, part := range c.Result.Candidates[1].Parts {
		verdicts[part.Title] = part.Verdict
	}
	if verdicts["hot reads"] != judge.Better || verdicts["writes"] == judge.Better || verdicts["cold reads"] == judge.Better {
		t.Errorf("verdicts %v", verdicts)
	}
	// The model's own counters explain it.
	for _, m := range runs["cached"].Measurements {
		series, err := s.Series(t.Context(), m.ID)
		if err != nil {
			t.Fatal(err)
		}
		hit := 0.0
		for _, counter := range series.Intervals[len(series.Intervals)-1].Inside {
			if counter.Name == "memory hit rate" {
				hit = counter.Value
			}
		}
		if m.Name == "hot reads" && hit < 0.9 || m.Name == "cold reads" && hit > 0.1 {
			t.Errorf("%s: hit rate %.2f", m.Name, hit)
		}
	}
	if d := c.Result.Candidates[1].Difference; d.Things != 1 || !strings.Contains(d.Words, "cache 1 is new") {
		t.Errorf("the setups differ by %+v", d)
	}
	one := p
	one.Stages = []plan.Stage{p.Stages[0]}
	one.Stages[0].Repeats = 1
	s.gates(t, runs["plain"].ID, runs["cached"].ID, s.measured(volumes["plain"], one).ID)
	// Kept, shown, reported, forgotten.
	out, trouble, err := s.cli("compare", fmt.Sprint(runs["plain"].ID), fmt.Sprint(runs["cached"].ID), "--name", "Is a cache worth it?")
	if err != nil || !strings.Contains(out, "Kept as comparison 1") {
		t.Fatalf("%v: %s%s", err, out, trouble)
	}
	if _, trouble, err := s.cli("compare", "1", "2", "--name", "Is a cache worth it?"); err == nil || !strings.Contains(trouble, "choose another name") {
		t.Errorf("the same name again: %v: %s", err, trouble)
	}
	page, trouble, err := s.cli("comparison", "report", "1")
	if err != nil || !strings.Contains(page, "cache 1 is new") || !strings.Contains(page, "<svg") || strings.Contains(page, "http://") && strings.Contains(page, "<script") {
		t.Errorf("%v: %s%.300s", err, trouble, page)
	}
	if page, _, err := s.cli("run", "report", fmt.Sprint(runs["cached"].ID)); err != nil || !strings.Contains(page, "How to repeat it") {
		t.Errorf("%v: %.300s", err, page)
	}
	if out, _, err := s.cli("comparison", "remove", "1"); err != nil || !strings.Contains(out, "its runs stay") {
		t.Errorf("%v: %s", err, out)
	}
}

// Two drives that write their first 2 GiB faster: the same is measured in 10, 20 and
// 60 s, what came before is a burst, and it fell after what they hold.
func TestBurstIsToldFromWhatLasts(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	rates := map[quantity.Seconds]float64{}
	for _, length := range []quantity.Seconds{10, 20, 60} {
		path := filepath.Join(t.TempDir(), "fast.yaml")
		text := "name: Fast region\nmembers: {count: 2, medium: ssd, capacity: 200GB, fastRegion: 2GiB}\nlayout: {level: raid0}\n"
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		run := s.measured(s.volume("array:"+path, nil), onePlan(spec(func(w *workload.Spec) {
			w.Reads, w.Depth, w.For, w.WarmUp, w.Interval = 0, 64, length, 1, 0
		})))
		m := run.Measurements[0]
		p := m.Summary.Phases
		if run.Status != resource.Finished || p == nil || p.Fall == nil || len(p.List) != 2 || p.List[0].Kind != measure.Burst || p.State != measure.Steady {
			t.Fatalf("%s: %s %s, phases %+v", length, run.Status, run.Reason, p)
		}
		// What is in flight and what the drives had already moved on are little beside it.
		if got := float64(p.Fall.Bytes) / float64(4*quantity.GiB); got < 0.95 || got > 1.1 {
			t.Errorf("%s: it fell after %s, of drives that hold 4 GiB", length, p.Fall.Bytes)
		}
		if m.Summary.WarmUp != 1+p.Cut || m.Summary.Measured+m.Summary.WarmUp-length-1 > 1e-6 {
			t.Errorf("%s: measured %s after %s, of which %s were cut off", length, m.Summary.Measured, m.Summary.WarmUp, p.Cut)
		}
		rates[length] = float64(m.Summary.Total.Rate)
	}
	if math.Abs(rates[10]/rates[60]-1) > 0.03 || math.Abs(rates[20]/rates[60]-1) > 0.03 {
		t.Errorf("rates by time measured: %v", rates)
	}
}

// A patient measurement ends when it knows enough, and what came before the
// rate stood still is cut off.
func TestPatienceOnSimulatedAndRealStorage(t *testing.T) {
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "cached.yaml")
	text := "name: Warming\nmembers: {count: 4, medium: ssd, capacity: 100GB}\nlayout: {level: raid10}\ncaches:\n  - {name: memory, size: 1GiB, block: 16KiB, mode: write-back, protected: true}\n"
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	array := s.measured(s.volume("array:"+path, nil), onePlan(spec(func(w *workload.Spec) {
		w.Reads, w.Span, w.For, w.Interval, w.Depth, w.Steady, w.Margin = 0, 20<<30, 300, 0.5, 16, true, 0.02
	})))
	m := array.Measurements[0]
	if p := m.Summary.Patience; array.Status != resource.Finished || p == nil || m.Summary.Ending != "steady" || !p.Steady || p.Margin > 0.02 || m.Summary.WarmUp != p.Cut {
		t.Fatalf("%s %s: %+v of %+v", array.Status, array.Reason, m.Summary.Patience, m.Summary)
	}
	series, err := s.Series(t.Context(), m.ID)
	if err != nil {
		t.Fatal(err)
	}
	operations, length := int64(0), quantity.Seconds(0)
	for _, i := range series.Intervals {
		if !i.WarmUp {
			operations += i.Moved().Operations
			length += i.Length
		}
	}
	if operations != m.Summary.Total.Operations || math.Abs(float64(length-m.Summary.Measured)) > 1e-6 {
		t.Errorf("the series has %d operations in %s, the summary %d in %s", operations, length, m.Summary.Total.Operations, m.Summary.Measured)
	}
	out, trouble, err := s.cli("measure", "null:1TiB", "--steady", "--margin", "5%", "--for", "4s", "--interval", "100ms", "--workers", "1")
	if err != nil || !strings.Contains(out, "It ended ") && !strings.Contains(out, "The time was over") {
		t.Errorf("%v: %s%s", err, out, trouble)
	}
	if _, trouble, err := s.cli("measure", "null:1TiB", "--steady", "--for", "0", "--amount", "1GiB"); err == nil || !strings.Contains(trouble, "after which to give up") {
		t.Errorf("without a limit: %v: %s", err, trouble)
	}
}

// A fault by call happens to the array that a run measures, is marked, and shows.
func TestAFaultByCall(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	path := filepath.Join(t.TempDir(), "array.yaml")
	if err := os.WriteFile(path, []byte("members: {count: 4, medium: ssd, capacity: 100GB}\nlayout: {level: raid10}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: s.volume("array:"+path, nil).ID, Pace: 20, Plan: onePlan(spec(func(w *workload.Spec) {
		w.Depth, w.For, w.Interval = 1, 120, 1
	}))})
	if err != nil {
		t.Fatal(err)
	}
	injected := false
	err = s.Watch(t.Context(), run.ID, client.Watcher{Point: func(p resource.Point) {
		if p.Interval.Index < 15 || injected {
			return
		}
		injected = true
		if out, trouble, err := s.cli("array", "inject", fmt.Sprint(run.ID), "{kind: latency spike, for: 1h, extra: 10ms}"); err != nil || !strings.Contains(out, "latency spike, for 1 h") {
			t.Errorf("%v: %s%s", err, out, trouble)
		}
		if _, trouble, err := s.cli("array", "inject", fmt.Sprint(run.ID), "{kind: member fails, member: 4}"); err == nil || !strings.Contains(trouble, "members 0 to 3") {
			t.Errorf("a member that is not there: %v: %s", err, trouble)
		}
	}})
	if err != nil {
		t.Fatal(err)
	}
	detail := s.finished(run.ID)
	if len(detail.Markers) != 1 {
		t.Fatalf("markers %+v", detail.Markers)
	}
	// Each read takes 10 ms longer: less than a hundred a second are left.
	series, err := s.Series(t.Context(), detail.Measurements[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	first, last := series.Intervals[0].Moved().Operations, series.Intervals[len(series.Intervals)-1].Moved().Operations
	if first < 1000 || last < 90 || last > 100 {
		t.Errorf("%d reads in the first second, %d in the last", first, last)
	}
}

// A marker splits a run into before and after.
func TestMarkers(t *testing.T) {
	t.Parallel()
	s := serve(t, t.TempDir(), false)
	device := quietDevice(t, 64<<20)
	set := throttle(t, s, device, 12<<20)
	volume := s.volume(device, nil)
	if _, err := s.Mark(t.Context(), 77, "nothing"); err == nil {
		t.Error("a run that is not there was marked")
	}
	run, err := s.StartRun(t.Context(), resource.NewRun{VolumeID: volume.ID, Plan: onePlan(spec(func(w *workload.Spec) {
		w.Blocks, w.Depth, w.Span, w.For, w.Interval = workload.Block(64<<10), 4, 64<<20, 8, 0.25
	}))})
	if err != nil {
		t.Fatal(err)
	}
	marked := false
	err = s.Watch(t.Context(), run.ID, client.Watcher{Point: func(p resource.Point) {
		if p.Interval.Index < 15 || marked {
			return
		}
		marked = true
		set(4 << 20)
		if out, trouble, err := s.cli("run", "mark", fmt.Sprint(run.ID), "held to a third"); err != nil || !strings.Contains(out, "held to a third") {
			t.Errorf("%v: %s%s", err, out, trouble)
		}
	}})
	if err != nil {
		t.Fatal(err)
	}
	detail := s.finished(run.ID)
	if len(detail.Markers) != 1 {
		t.Fatalf("markers %+v", detail.Markers)
	}
	split, err := s.SplitAt(t.Context(), detail.Markers[0])
	if err != nil || strings.Contains(split.Words, "rose") {
		t.Errorf("%v: %s", err, split.Words)
	}
	if _, trouble, err := s.cli("run", "mark", fmt.Sprint(run.ID), "too late"); err == nil || !strings.Contains(trouble, "not measuring") {
		t.Errorf("a marker after the end: %v: %s", err, trouble)
	}
}
