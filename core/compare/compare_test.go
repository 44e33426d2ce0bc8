package compare

import (
	"encoding/json"
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

var load = workload.Default()

// side makes a side whose stages have a mean rate each, with a spread.
func side(name string, run int64, repeats int, spread float64, rates map[string]float64) Side {
	random := rand.New(rand.NewPCG(uint64(run), 3))
	s := Side{Name: name, Runs: []int64{run}}
	for _, stage := range []string{"lookups", "entries", "backup"} {
		for range repeats {
			if rate, ok := rates[stage]; ok {
				s.Samples = append(s.Samples, sample(run, stage, rate*math.Exp(spread*random.NormFloat64())))
			}
		}
	}
	return s
}

func sample(run int64, stage string, rate float64) Sample {
	f := measure.Figures{Rate: quantity.OpRate(rate), Throughput: quantity.ByteRate(rate * 4096), Latency: measure.Latency{Mean: quantity.Seconds(8 / rate), P99: quantity.Seconds(20 / rate)}}
	return Sample{Run: run, Measurement: run*100 + int64(rate), Stage: stage, Load: load, Summary: &measure.Summary{Total: f, Classes: map[measure.Class]measure.Figures{measure.Read: f}}}
}

func TestSortsGainsAndLosses(t *testing.T) {
	base := side("plain", 1, 5, 0.01, map[string]float64{"lookups": 1000, "entries": 300, "backup": 500})
	cached := side("cached", 2, 5, 0.01, map[string]float64{"lookups": 3000, "entries": 300, "backup": 455})
	c := Sides(base, []Side{cached}, 0)
	candidate := c.Candidates[0]
	if want := " times as high; backup: throughput 9"; !strings.HasPrefix(candidate.Words, "Lookups: throughput ") || !strings.Contains(candidate.Words, want) || !strings.Contains(candidate.Words, "the same within 5 %: entries") {
		t.Errorf("in words: %s", candidate.Words)
	}
	if v := [3]judge.Verdict{candidate.Parts[0].Verdict, candidate.Parts[1].Verdict, candidate.Parts[2].Verdict}; v != [3]judge.Verdict{judge.Better, judge.Same, judge.Worse} {
		t.Errorf("parts %+v", candidate.Parts)
	}
	if want := math.Cbrt(3 * 1 * 0.91); math.Abs(candidate.Index/want-1) > 0.02 {
		t.Errorf("index %g, want %g", candidate.Index, want)
	}
	p99 := c.Points[0].Row("p99").Candidates[0]
	if p99.Verdict != judge.Better || p99.Ratio.Value > 0.35 || p99.Low > p99.Ratio.Value || p99.High < p99.Ratio.Value {
		t.Errorf("p99 of lookups: %+v", p99.Ratio)
	}
	if len(c.Unmatched) > 0 {
		t.Errorf("unmatched: %+v", c.Unmatched)
	}
	if _, err := json.Marshal(c); err != nil {
		t.Error(err)
	}
}

func TestNothingIsDroppedInSilence(t *testing.T) {
	failed := func(stage string) Sample {
		return Sample{Run: 1, Measurement: 9, Stage: stage, Load: load, Reason: "no space left"}
	}
	base := side("base", 1, 3, 0.01, map[string]float64{"lookups": 1000, "entries": 300})
	base.Samples = append(base.Samples, failed("backup"))
	other := side("other", 2, 3, 0.01, map[string]float64{"lookups": 1000, "backup": 500})
	deeper := sample(2, "entries", 300)
	deeper.Load.Depth = 32
	other.Samples = append(other.Samples, deeper, sample(2, "only here", 5))
	c := Sides(base, []Side{other}, 0.05)
	var listed []string
	for _, u := range c.Unmatched {
		listed = append(listed, u.Side+": "+u.Title+": "+u.Reason)
	}
	all := strings.Join(listed, "\n")
	for _, want := range []string{"base: backup: measurement 9: no space left", "entries: the loads differ: depth is 32 there and 8 in the baseline", "other: only here: not in the baseline"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is not among\n%s", want, all)
		}
	}
	for _, p := range c.Points {
		if p.Title == "backup" {
			if o := p.Row("throughput").Candidates[0]; o.Verdict != judge.Missing || p.Row("throughput").Baseline.Reason != "no space left" {
				t.Errorf("a failed baseline: %+v", p.Row("throughput"))
			}
		}
	}
}

func TestOddInput(t *testing.T) {
	zero := side("zero", 2, 2, 0, map[string]float64{"lookups": 0})
	nan := side("nan", 3, 2, 0, map[string]float64{"lookups": math.NaN()})
	one := side("one", 4, 1, 0, map[string]float64{"lookups": 700})
	base := side("base", 1, 3, 0.01, map[string]float64{"lookups": 1000})
	c := Sides(base, []Side{zero, nan, one, {Name: "empty"}}, 0.05)
	for i, want := range []judge.Verdict{judge.Worse, judge.Missing, judge.Hint, judge.Missing} {
		if o := c.Points[0].Row("iops").Candidates[i]; o.Verdict != want {
			t.Errorf("%s: %+v, want %s", c.Candidates[i].Name, o.Ratio, want)
		}
	}
	if text, err := json.Marshal(c); err != nil || strings.Contains(string(text), "NaN") || strings.Contains(string(text), "Inf") {
		t.Errorf("as JSON: %v", err)
	}
	empty := Sides(Side{}, []Side{base}, 0.05)
	if len(empty.Points) != 0 || empty.Candidates[0].Words != "No load was measured on both sides." {
		t.Errorf("an empty baseline: %+v", empty)
	}
}

func TestDoubtSticks(t *testing.T) {
	base := side("base", 1, 3, 0.01, map[string]float64{"lookups": 1000})
	other := side("other", 2, 3, 0.01, map[string]float64{"lookups": 2000})
	other.Samples[1].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "memory answered"}}
	c := Sides(base, []Side{other}, 0.05)
	if o := c.Points[0].Row("throughput").Candidates[0]; o.Unreliable != "memory answered" {
		t.Errorf("the doubt is gone: %+v", o)
	}
	if !c.Candidates[0].Parts[0].Unreliable || !strings.Contains(c.Candidates[0].Words, "unreliable") {
		t.Errorf("the sentence hides the doubt: %s", c.Candidates[0].Words)
	}
	gate, err := ParseGate(`throughput better by 50%`)
	if err != nil {
		t.Fatal(err)
	}
	if a, err := gate.Check(c); err != nil || len(a.Failed) != 0 || len(a.Unknown) != 1 {
		t.Errorf("a gate on an untrusted figure: %+v, %v", a, err)
	}
}

func TestSweepsMatchPointByPoint(t *testing.T) {
	at := func(run int64, depth string, rate float64) Sample {
		s := sample(run, "lookups", rate)
		s.Point = []plan.Setting{{Field: "depth", Value: depth}}
		return s
	}
	base := Side{Name: "base", Samples: []Sample{at(1, "1", 100), at(1, "1", 101), at(1, "8", 500), at(1, "8", 505)}}
	other := Side{Name: "other", Samples: []Sample{at(2, "8", 800), at(2, "8", 808), at(2, "1", 100), at(2, "1", 101)}}
	c := Sides(base, []Side{other}, 0.05)
	if len(c.Points) != 2 || c.Points[1].Title != "lookups at depth 8" {
		t.Fatalf("points %+v", c.Points)
	}
	if v := c.Points[1].Row("iops").Candidates[0]; v.Verdict != judge.Better || math.Abs(v.Ratio.Value-1.6) > 0.01 {
		t.Errorf("depth 8: %+v", v.Ratio)
	}
	if v := c.Points[0].Row("iops").Candidates[0]; v.Verdict == judge.Better || v.Verdict == judge.Worse {
		t.Errorf("depth 1: %+v", v.Ratio)
	}
}

func TestGates(t *testing.T) {
	base := side("base", 1, 5, 0.01, map[string]float64{"lookups": 1000, "entries": 300})
	slower := side("slower", 2, 5, 0.01, map[string]float64{"lookups": 850, "entries": 300})
	c := Sides(base, []Side{slower}, 0.05)
	for text, want := range map[string][3]int{ // failed, unknown, passed
		`p99 of "lookups" worse by 10%`: {1, 0, 0},
		`p99 of "lookups" worse by 50%`: {0, 0, 1},
		`iops worse`:                    {1, 0, 1},
		`iops better`:                   {0, 0, 2},
		`throughput of "ent" worse`:     {0, 0, 1},
	} {
		gate, err := ParseGate(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if a, err := gate.Check(c); err != nil || [3]int{len(a.Failed), len(a.Unknown), a.Passed} != want {
			t.Errorf("%s: %+v, %v; want %v", text, a, err, want)
		}
	}
	for _, text := range []string{"", "p99", "p99 worse by", "p98 worse", "throughput worse by 200%", "p99 better by 100%", "p99 worse by 2", `p99 of "x worse`, "p99 sideways by 5%"} {
		if _, err := ParseGate(text); !errors.Is(err, ErrInvalid) {
			t.Errorf("%q: %v", text, err)
		}
	}
	// A certain loss of 4 % is one of 2 %, whatever difference matters elsewhere; and what
	// one side did not measure has not passed.
	little := side("little", 3, 5, 0.002, map[string]float64{"lookups": 960})
	steady := side("steady", 4, 5, 0.002, map[string]float64{"lookups": 1000, "entries": 300})
	for text, want := range map[string][3]int{`throughput of "lookups" worse by 2%`: {1, 0, 0}, `throughput of "lookups" worse by 8%`: {0, 0, 1}, `throughput worse by 8%`: {0, 1, 1}, `reads-p50 of "lookups" worse by 50%`: {0, 1, 0}} {
		gate, err := ParseGate(text)
		if err != nil {
			t.Fatal(err)
		}
		// As a client has it: read back from JSON.
		encoded, err := json.Marshal(Sides(steady, []Side{little}, 0.05))
		if err != nil {
			t.Fatal(err)
		}
		var travelled Result
		if err := json.Unmarshal(encoded, &travelled); err != nil {
			t.Fatal(err)
		}
		if a, err := gate.Check(travelled); err != nil || [3]int{len(a.Failed), len(a.Unknown), a.Passed} != want {
			t.Errorf("%s: %+v, %v; want %v", text, a, err, want)
		}
	}
	// Three of five stalled is no pass, and neither is what lies across the condition.
	stalled := side("stalled", 5, 5, 0.002, map[string]float64{"lookups": 1000})
	for i := range 3 {
		stalled.Samples[i].Summary = &measure.Summary{}
	}
	noisy := side("noisy", 6, 3, 0.2, map[string]float64{"lookups": 1000})
	worse, _ := ParseGate("throughput worse by 5%")
	for _, other := range []Side{stalled, noisy} {
		a, err := worse.Check(Sides(side("base", 4, 5, 0.002, map[string]float64{"lookups": 1000}), []Side{other}, 0.05))
		if err != nil || len(a.NotShown)+len(a.Unknown) != 1 || len(a.NotShown) == 1 != (other.Name == "noisy") {
			t.Errorf("%s: %+v, %v", other.Name, a, err)
		}
	}
	gate, _ := ParseGate(`p99 of "nowhere" worse`)
	if _, err := gate.Check(c); !errors.Is(err, ErrInvalid) {
		t.Errorf("a gate on nothing: %v", err)
	}
	single := Sides(side("a", 1, 1, 0, map[string]float64{"lookups": 10}), []Side{side("b", 2, 1, 0, map[string]float64{"lookups": 5})}, 0)
	gate, _ = ParseGate("iops worse")
	if a, err := gate.Check(single); err != nil || len(a.Unknown) != 1 {
		t.Errorf("one repeat: %+v, %v", a, err)
	}
}

// On real storage one run a side allows for what runs differ by: a difference
// that repeats alone would show is not shown, one that is larger is.
func TestOneRunOnRealStorageKnowsLess(t *testing.T) {
	base := side("base", 1, 5, 0.02, map[string]float64{"lookups": 1000})
	small := side("small", 2, 5, 0.02, map[string]float64{"lookups": 1080})
	large := side("large", 3, 5, 0.02, map[string]float64{"lookups": 1700})
	verdicts := func(real bool) (of [2]judge.Verdict) {
		base.Real, small.Real, large.Real = real, real, real
		for i, o := range Sides(base, []Side{small, large}, 0.05).Points[0].Row("iops").Candidates {
			of[i] = o.Verdict
		}
		return of
	}
	if got := verdicts(false); got != [2]judge.Verdict{judge.Better, judge.Better} {
		t.Errorf("simulated: %v", got)
	}
	if got := verdicts(true); got != [2]judge.Verdict{judge.NotShown, judge.Better} {
		t.Errorf("real: %v", got)
	}
	for i := range small.Samples {
		large.Samples[i].Summary.Stolen = 0.4
	}
	if got := verdicts(true); got[1] == judge.Better {
		t.Errorf("with 40 %% of the CPU taken by others: %v", got)
	}
}

// From three runs on, each run is one value.
func TestRunsCountOnce(t *testing.T) {
	var base Side
	for run := int64(1); run <= 3; run++ {
		base.Samples = append(base.Samples, sample(run, "lookups", float64(100*run)), sample(run, "lookups", float64(100*run)))
	}
	c := Sides(base, []Side{base}, 0)
	if got := c.Points[0].Row("iops").Baseline.Repeated.Values; len(got) != 3 || got[2] != 300 {
		t.Errorf("values %v", got)
	}
}

func TestOneThingAtATime(t *testing.T) {
	known := func(facts ...string) (s setup.Setup) {
		for i := 0; i < len(facts); i += 2 {
			if err := s.Set(facts[i], facts[i+1], setup.Told, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
		return s
	}
	a := known("layout.level", "raid5", "link[0].mtuHere", "1500", "cost.price", "4000")
	b := known("layout.level", "raid5", "link[0].mtuHere", "9000", "cost.price", "4700", "cache[0].size", "400GB", "cache[0].mode", "read-only")
	c := Sides(Side{Setup: a}, []Side{{Setup: b}}, 0)
	d := c.Candidates[0].Difference
	if d.Things != 2 || d.Caution == "" || !strings.Contains(d.Words, "cache 1 is new (mode read-only, size 400GB)") || !strings.Contains(d.Words, "MTU at this end went from 1500 to 9000") {
		t.Errorf("difference %+v", d)
	}
}

func BenchmarkNineRunsOf200Points(b *testing.B) {
	var sides []Side
	for run := int64(1); run <= 9; run++ {
		var s Side
		for point := range 200 {
			for range 3 {
				x := sample(run, "sweep", 1000+float64(point))
				x.Point = []plan.Setting{{Field: "depth", Value: string(rune('a'+point%26)) + string(rune('a'+point/26))}}
				s.Samples = append(s.Samples, x)
			}
		}
		sides = append(sides, s)
	}
	for b.Loop() {
		Sides(sides[0], sides[1:], 0)
	}
}

// A line along a sweep: its knee, and where the tail is still short enough.
func TestLinesAlongASweep(t *testing.T) {
	s := Side{Name: "swept", Runs: []int64{1}}
	for i, depth := range []string{"1", "2", "4", "8", "16", "32"} {
		for range 2 {
			// Saturates at 1000 a second with a service time of 4 ms.
			n := math.Pow(2, float64(i))
			x := sample(1, "lookups", min(n/0.004, 1000))
			x.Point = []plan.Setting{{Field: "depth", Value: depth}}
			x.Summary.Total.Latency = measure.Latency{Mean: quantity.Seconds(n / min(n/0.004, 1000)), P99: quantity.Seconds(2 * n / min(n/0.004, 1000))}
			s.Samples = append(s.Samples, x)
		}
	}
	for wanted, keeps := range map[quantity.Seconds]int{0: -1, 0.001: -1, 0.010: 2, 0.040: 2, 1: 2} {
		lines := Lines(s, wanted, nil)
		if len(lines) != 1 || !lines[0].Log || lines[0].Spots[lines[0].Knee].Value != "4" {
			t.Fatalf("lines %+v", lines)
		}
		if lines[0].Keeps != keeps {
			t.Errorf("within %s it keeps spot %d, want %d: %s", wanted, lines[0].Keeps, keeps, lines[0].Words)
		}
	}
	if points := Points(s); len(points) != 6 || len(points[0].Measurements) != 2 {
		t.Errorf("points %+v", points)
	}
	if lines := Lines(Side{Samples: []Sample{sample(1, "alone", 5)}}, 0, nil); len(lines) != 0 {
		t.Errorf("no sweep, yet %+v", lines)
	}
}

// Threads against io_uring differ by that alone, which is said; simulated arrays are
// compared with real storage anyway.
func TestOtherWaysOfHandingOverAreSaid(t *testing.T) {
	side := func(name string, real bool, way string) Side {
		s := Side{Name: name, Runs: []int64{1}, Real: real}
		for rate := range 3 {
			sample := sample(1, "stage", float64(1000+rate))
			sample.Summary.Interface = way
			s.Samples = append(s.Samples, sample)
		}
		return s
	}
	base := side("base", true, "io_uring")
	for want, other := range map[string]Side{
		"": side("same", true, "io_uring"), "through threads here and through io_uring": side("portable", true, "threads"),
		"without registered buffers here": side("unpinned", true, "io_uring without registered buffers"),
	} {
		got := Sides(base, []Side{other}, 0.05).Candidates[0].Handling
		if want == "" && got != "" || !strings.Contains(got, want) {
			t.Errorf("%s: %q", other.Name, got)
		}
	}
	if got := Sides(base, []Side{side("array", false, "simulated")}, 0.05).Candidates[0].Handling; got != "" {
		t.Errorf("a simulated array: %q", got)
	}
}

// A key that counts parts has what each of them does; one that counts nothing has not,
// and times and rates are numbers of a line as well.
func TestLinesOfSweptArrays(t *testing.T) {
	swept := func(field string, rates map[string]float64) []Line {
		s := Side{Name: "swept", Runs: []int64{1}}
		for value, rate := range rates {
			x := sample(1, "lookups", rate)
			x.Point = []plan.Setting{{Field: field, Value: value}}
			s.Samples = append(s.Samples, x)
		}
		return Lines(s, 0, nil)
	}
	lines := swept("members.count", map[string]float64{"4": 400, "8": 720, "16": 1120})
	if len(lines) != 1 || !strings.Contains(lines[0].Words, "each of 16 does 70 % of the work of each of 4") {
		t.Fatalf("%+v", lines)
	}
	for i, want := range []float64{1, 0.9, 0.7} {
		if got := lines[0].Spots[i].Efficiency; math.Abs(got-want) > 1e-9 {
			t.Errorf("efficiency at %s: %g, want %g", lines[0].Spots[i].Value, got, want)
		}
	}
	for field, values := range map[string][]string{
		"replica.kilometres": {"0", "50", "300.5"}, "link.roundTrip": {"20us", "100us", "2ms"}, "link.rate": {"125MB/s", "1250MB/s", "12.5GB/s"},
		"caches[0].dirtyLimit": {"10%", "50%", "90%"}, "limits.operations": {"900", "20k", "1M"}, "link.mtu": {"1500", "4000", "9000"},
	} {
		lines := swept(field, map[string]float64{values[0]: 1, values[1]: 2, values[2]: 3})
		if len(lines) != 1 || lines[0].Spots[0].Value != values[0] || lines[0].Spots[2].Value != values[2] || lines[0].Spots[1].Efficiency != 0 {
			t.Errorf("%s: %+v", field, lines)
		}
	}
}

// What a number of drives is worth, worked out by hand: 400 for all else and 300 for each
// drive make 1,600, 2,800 and 5,200; 400, 720 and 1,120 a second are 250, 257.1 and 215.4 for
// each 1,000. Repeats that scatter by 1 % cannot tell the first two apart.
func TestWorthOfDrives(t *testing.T) {
	priced := func(count map[string]float64) func([]plan.Setting) float64 {
		return func(changed []plan.Setting) float64 { return count[changed[0].Value] }
	}
	s := Side{Name: "swept", Runs: []int64{1}}
	for value, rate := range map[string]float64{"4": 400, "8": 720, "16": 1120} {
		for _, scatter := range []float64{0.99, 1, 1.01} {
			x := sample(1, "lookups", rate*scatter)
			x.Point = []plan.Setting{{Field: "members.count", Value: value}}
			s.Samples = append(s.Samples, x)
		}
	}
	line := Lines(s, 0, priced(map[string]float64{"4": 1600, "8": 2800, "16": 5200}))[0]
	for i, want := range []float64{250, 257.1, 215.4} {
		if got := line.Spots[i].ForPrice; math.Abs(got.Mean/want-1) > 0.001 || !got.Known || !(got.Low < want && got.High > want) {
			t.Errorf("%s: %+v for each 1,000, want %g", line.Spots[i].Value, got, want)
		}
	}
	if line.Worth != 1 || !strings.Contains(line.Words, "the best value for money is at 8: 257 IOPS per 1,000; at 4 the value for money is not shown to be lower") {
		t.Errorf("%d: %s", line.Worth, line.Words)
	}
	if got := line.Spots[2].Brings; got != "+85.7 % price for +55.6 % rate: less than the price grows" {
		t.Error(got)
	}
	if got := line.Spots[1].Brings; got != "+75 % price for +80 % rate: whether that is more than the price grows is not shown" {
		t.Error(got)
	}
	doubted := s
	doubted.Samples = slices.Clone(s.Samples)
	doubted.Samples[4].Doubts = []judge.Finding{{Kind: "above-ceiling", Weight: judge.Unreliable, Figure: "all", Sentence: "too fast"}}
	if line := Lines(doubted, 0, priced(map[string]float64{"4": 1600, "8": 2800, "16": 5200}))[0]; line.Worth != -1 || !strings.Contains(line.Words, "there is no figure for its worth") {
		t.Errorf("with a rate that is not to be trusted: %d, %s", line.Worth, line.Words)
	}
	for name, prices := range map[string]map[string]float64{"not all are known": {"4": 1600, "8": 2800}, "all are the same": {"4": 5, "8": 5, "16": 5}} {
		if line := Lines(s, 0, priced(prices))[0]; line.Worth != -1 || line.Spots[2].Brings != "" {
			t.Errorf("%s: %+v", name, line)
		}
	}
}

// Where twice the price brings exactly twice the rate, that it brings more or less is said no
// more often than intervals of 95 % may be wrong.
func TestWhatPriceBringsIsNotInvented(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 5))
	for _, repeats := range []int{3, 5, 10} {
		wrong := 0
		const draws = 2000
		for range draws {
			s := Side{Name: "swept", Runs: []int64{1}}
			for value, rate := range map[string]float64{"4": 400, "8": 800, "16": 1600} {
				for range repeats {
					x := sample(1, "lookups", rate*math.Exp(0.02*random.NormFloat64()))
					x.Point = []plan.Setting{{Field: "members.count", Value: value}}
					s.Samples = append(s.Samples, x)
				}
			}
			line := Lines(s, 0, func(at []plan.Setting) float64 { return map[string]float64{"4": 1, "8": 2, "16": 4}[at[0].Value] })[0]
			if !strings.HasSuffix(line.Spots[1].Brings, "is not shown") {
				wrong++
			}
		}
		if share := float64(wrong) / draws; share > 0.05 {
			t.Errorf("%d repeats: %.1f %% say something that is not so", repeats, share*100)
		} else {
			t.Logf("%d repeats: %.1f %%", repeats, share*100)
		}
	}
}
