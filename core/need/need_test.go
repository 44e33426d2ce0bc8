package need

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"patientheron/core/claim"
	"patientheron/core/compare"
	"patientheron/core/fileset"
	"patientheron/core/judge"
	"patientheron/core/measure"
	"patientheron/core/plan"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/core/workload/streams"
)

// priced is a setup of mirrored pairs with a price.
func priced(t *testing.T, price string, more ...string) (s setup.Setup) {
	t.Helper()
	facts := append([]string{"media[0].count", "4", "media[0].size", "2TB", "layout.level", "raid10", "cost.price", price}, more...)
	for i := 0; i < len(facts); i += 2 {
		if err := s.Set(facts[i], facts[i+1], setup.Told, time.Time{}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// side is a setup of which a stage was measured: pairs of a rate and a p99 in seconds.
func side(name string, of setup.Setup, run int64, stage string, rates []float64, p99 []float64) compare.Side {
	s := compare.Side{Name: name, Runs: []int64{run}, Setup: of}
	for i, rate := range rates {
		s.Samples = append(s.Samples, compare.Sample{
			Run: run, Measurement: run*100 + int64(i), Stage: stage, Load: workload.Default(),
			Summary: &measure.Summary{Measured: 10, Total: measure.Figures{
				Operations: int64(rate * 10), Rate: quantity.OpRate(rate), Throughput: quantity.ByteRate(rate * 4096),
				Latency: measure.Latency{Mean: quantity.Seconds(p99[i] / 3), P99: quantity.Seconds(p99[i])},
			}},
		})
	}
	return s
}

func bound(t *testing.T, key, text string) Bound {
	t.Helper()
	b, err := ParseBound(key, text)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Verdicts by hand: the mean of 1000, 1010 and 990 has a 95 % interval of 4.303 × 10 ÷ √3
// = 24.8 on either side (Student's distribution with two degrees of freedom).
func TestVerdictsByHand(t *testing.T) {
	s := side("one", priced(t, "4000"), 1, "ledger", []float64{1000, 1010, 990}, []float64{0.009, 0.010, 0.011})
	for asked, want := range map[string]judge.Outcome{
		"iops at least 900": judge.Meets, "iops at least 974": judge.Meets, "iops at least 977": judge.Undecided,
		"iops at least 1000": judge.Undecided, "iops at least 1020": judge.Undecided, "iops at least 1027": judge.FallsShort,
		"iops at most 1027": judge.Meets, "iops at most 974": judge.FallsShort,
		"p99 at most 20ms": judge.Meets, "p99 at most 10ms": judge.Undecided, "p99 at most 5ms": judge.FallsShort,
		"throughput at least 3MB/s": judge.Meets, "iops at least 30 each": judge.Meets, "iops at least 33 each": judge.FallsShort,
		"late none": judge.NotMeasured,
	} {
		key, text, _ := strings.Cut(asked, " ")
		n := Need{Name: "n", Uses: []Use{{Name: "ledger", Stage: "ledger", Users: 32, Bounds: []Bound{bound(t, key, text)}}}}
		j := Judge(n, []compare.Side{s})
		if v := j.Setups[0].Verdicts[0]; v.Outcome != want || len(v.Evidence) != 3 {
			t.Errorf("%s: %+v; want %s", asked, v, want)
		}
	}
	// Headroom is asked for on top: 1000 against 800 is 1.25 times.
	for headroom, want := range map[float64]judge.Outcome{1.2: judge.Meets, 1.25: judge.Undecided, 1.5: judge.FallsShort} {
		n := Need{Name: "n", Headroom: headroom, Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "iops", "at least 800")}}}}
		v := Judge(n, []compare.Side{s}).Setups[0].Verdicts[0]
		if v.Outcome != want || math.Abs(v.Headroom-1.25) > 0.001 {
			t.Errorf("with %g times of headroom: %+v; want %s", headroom, v, want)
		}
		if want == judge.FallsShort && v.Words != "only 1.24 × the bound" {
			t.Errorf("%q", v.Words)
		}
	}
}

// For how many it is enough: 1000 ± 24.8 a second, at 30 for each, are 33 users, 32 to 34; with
// twice as much wanted 16, 16 to 17. A bound that is not for each user says nothing of them.
func TestForHowManyItIsEnough(t *testing.T) {
	s := side("one", priced(t, "4000"), 1, "ledger", []float64{1000, 1010, 990}, []float64{0.009, 0.010, 0.011})
	users := func(headroom float64, key, text string) Verdict {
		n := Need{Name: "n", Headroom: headroom, Uses: []Use{{Name: "ledger", Stage: "ledger", Users: 20, Bounds: []Bound{bound(t, key, text)}}}}
		return Judge(n, []compare.Side{s}).Setups[0].Verdicts[0]
	}
	if v := users(0, "iops", "at least 30 each"); v.Users == nil || *v.Users != (Users{33, 32, 34}) || !strings.HasSuffix(v.Words, "; enough for 33 users (32 to 34)") {
		t.Errorf("%+v, %q", v.Users, v.Words)
	}
	if v := users(2, "iops", "at least 30 each"); v.Users == nil || *v.Users != (Users{16, 16, 17}) {
		t.Errorf("%+v", v.Users)
	}
	if v := users(0, "iops", "at least 300"); v.Users != nil {
		t.Errorf("%+v", v.Users)
	}
}

// What is not to be trusted meets nothing, and neither does what was measured once.
func TestUnreliableMeetsNothing(t *testing.T) {
	n := Need{Name: "n", Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "iops", "at least 10"), bound(t, "iops", "at most 1M")}}}}
	s := side("one", priced(t, "4000"), 1, "ledger", []float64{1000, 1010, 990}, []float64{0.009, 0.010, 0.011})
	s.Samples[1].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "memory answered"}}
	a := Judge(n, []compare.Side{s}).Setups[0]
	for _, v := range a.Verdicts {
		if v.Outcome != judge.Undecided || v.Reason != "memory answered" || v.Headroom != 0 {
			t.Errorf("%+v", v)
		}
	}
	if a.Outcome != judge.Undecided || a.Carries != 0 {
		t.Errorf("%+v", a)
	}
	once := side("once", priced(t, "4000"), 1, "ledger", []float64{1000}, []float64{0.01})
	if v := Judge(n, []compare.Side{once}).Setups[0].Verdicts[0]; v.Outcome != judge.Undecided || !strings.Contains(v.Words, "once") {
		t.Errorf("%+v", v)
	}
	other := side("other", priced(t, "4000"), 1, "films", []float64{1000}, []float64{0.01})
	if j := Judge(n, []compare.Side{other}); j.Setups[0].Verdicts[0].Outcome != judge.NotMeasured || !slices.Equal(j.Unmatched, []string{"ledger"}) {
		t.Errorf("%+v", j)
	}
}

// What there is none of meets a bound only where that is as good as can be: a run that was
// cut short did not finish in time, and a feed that never stood still was kept. A piece that
// came late once is seen at once.
func TestNoneIsNotAlwaysGood(t *testing.T) {
	put := workload.Default()
	files.Use(&put, fileset.Set{Classes: []fileset.Class{{Name: "notes", Number: 10, Size: fileset.Sizes{Fixed: 4096}}}})
	feeds := workload.Default()
	feeds.SetBody(&streams.Feeds{Count: 2, Rate: 1e6, Buffer: 1})
	of := func(load workload.Spec, sums ...measure.Summary) (s compare.Side) {
		for i := range sums {
			s.Samples = append(s.Samples, compare.Sample{Run: 1, Measurement: int64(i + 1), Stage: "stage", Load: load, Summary: &sums[i]})
		}
		return s
	}
	kept, late := measure.Summary{Feeds: &measure.FeedFigures{Pieces: 100}}, measure.Summary{Feeds: &measure.FeedFigures{Pieces: 100, Late: 1, LateShare: 0.01, LongestStall: 0.2}}
	cut := measure.Summary{Ending: measure.ByTime, Measured: 10, Classes: map[measure.Class]measure.Figures{measure.File: {Operations: 5, Rate: 0.5}}}
	doubted := of(feeds, kept, kept, kept)
	doubted.Samples[0].Doubts = []judge.Finding{{Weight: judge.Unreliable, Figure: "all", Sentence: "memory answered"}}
	failed := side("one", setup.Setup{}, 1, "stage", []float64{1000, 1010, 990}, []float64{0.01, 0.01, 0.01})
	failed.Samples = append(failed.Samples, compare.Sample{Run: 1, Measurement: 9, Stage: "stage", Load: workload.Default(), Reason: "it is failed: i/o error"})
	for name, c := range map[string]struct {
		s         compare.Side
		key, text string
		want      judge.Outcome
		says      string
	}{
		"never finished":      {of(put, cut, cut, cut), "finish", "at most 1h", judge.NotMeasured, "ended before"},
		"never stood still":   {of(feeds, kept, kept, kept), "stall", "at most 1s", judge.Meets, ""},
		"who knows":           {doubted, "stall", "at most 1s", judge.Undecided, "memory answered"},
		"nor late":            {of(feeds, kept, kept, kept), "late", "none", judge.Meets, ""},
		"late, of three":      {of(feeds, kept, late, kept), "late", "none", judge.FallsShort, ""},
		"late, measured once": {of(feeds, late), "late", "none", judge.FallsShort, ""},
		"kept, measured once": {of(feeds, kept), "late", "none", judge.Undecided, "one repeat"},
		"one of them failed":  {failed, "iops", "at least 900", judge.Meets, "1 of 4 measurements failed: it is failed"},
	} {
		n := Need{Name: "n", Uses: []Use{{Name: "use", Stage: "stage", Bounds: []Bound{bound(t, c.key, c.text)}}}}
		if v := Judge(n, []compare.Side{c.s}).Setups[0].Verdicts[0]; v.Outcome != c.want || !strings.Contains(v.Reason, c.says) {
			t.Errorf("%s: %+v; want %s, %q", name, v, c.want, c.says)
		}
	}
}

// Verdicts are as often wrong as their interval says: with the truth at the bound, one in
// forty is said to meet it, and one in forty to fall short of it.
func TestVerdictsAreAsOftenWrongAsTheySay(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	n := Need{Name: "n", Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "iops", "at least 1000")}}}}
	for _, repeats := range []int{3, 5, 10} {
		counts := map[judge.Outcome]float64{}
		const drawn = 4000
		for range drawn {
			rates, p99 := make([]float64, repeats), make([]float64, repeats)
			for i := range rates {
				rates[i], p99[i] = 1000*math.Exp(0.05*random.NormFloat64()), 0.01
			}
			counts[Judge(n, []compare.Side{side("s", setup.Setup{}, 1, "ledger", rates, p99)}).Setups[0].Verdicts[0].Outcome] += 100.0 / drawn
		}
		// A first repeat that is apart by chance is left out, which costs a little.
		if counts[judge.Meets] > 4 || counts[judge.FallsShort] > 4 || counts[judge.Undecided] < 93 {
			t.Errorf("%d repeats: %v", repeats, counts)
		}
		t.Logf("%d repeats at the bound: meets %.1f %%, falls short %.1f %%", repeats, counts[judge.Meets], counts[judge.FallsShort])
	}
}

// The cheapest setup that meets all is named; what the added money brings is worked out
// by hand; where none meets all, it is said what to give up.
func TestWhatToTake(t *testing.T) {
	rates := func(mean float64) []float64 { return []float64{mean * 0.999, mean, mean * 1.001} }
	quick := []float64{0.00501, 0.005, 0.00499}
	sides := []compare.Side{
		side("cheap", priced(t, "2000"), 1, "ledger", rates(900), quick),
		side("middle", priced(t, "4000"), 2, "ledger", rates(1500), quick),
		side("worse for more", priced(t, "5000"), 3, "ledger", rates(1400), quick),
		side("large", priced(t, "8000"), 4, "ledger", rates(6000), quick),
	}
	n := Need{Name: "n", Capacity: 3e12, Budget: 9000, Survives: []setup.Failure{setup.AnyMember}, Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "iops", "at least 1000")}}}}
	j := Judge(n, sides)
	if !strings.HasPrefix(j.Words, `Choose "middle"`) || !strings.Contains(j.Words, "4000") {
		t.Error(j.Words)
	}
	var frontier []string
	for _, a := range j.Setups {
		if a.Frontier {
			frontier = append(frontier, a.Name)
		}
	}
	if !slices.Equal(frontier, []string{"middle", "large", "cheap"}) { // who meets all comes first
		t.Errorf("the frontier: %v", frontier)
	}
	// 0.9 to 1.5 is 1.67 times for twice the price; 1.5 to 6 is 4 times for twice.
	if len(j.Worth) != 2 || j.Worth[0].Added != 2000 || math.Abs(j.Worth[0].Times-1.6667) > 0.01 || !strings.Contains(j.Worth[0].Words, "less than the price") ||
		math.Abs(j.Worth[1].Times-4) > 0.01 || !strings.Contains(j.Worth[1].Words, "more than the price") {
		t.Errorf("%+v", j.Worth)
	}
	// The interval of a ratio of two whose logarithms are each known within 0.0025 (4.303 ×
	// 0.001 ÷ √3) is 0.0035 on either side.
	if w := j.Worth[0]; math.Abs(math.Log(w.High/w.Times)-0.0035) > 0.0002 || math.Abs(math.Log(w.Times/w.Low)-0.0035) > 0.0002 {
		t.Errorf("%+v", w)
	}
	// Four members of 2 TB in pairs leave 4 TB: 4000 is 1000 for each, and 1,500
	// operations a second make 2,667 for a thousand.
	costs := map[string]float64{}
	for _, c := range j.Setups[0].Costs {
		costs[c.Of] = c.Price
	}
	if costs["a usable TB"] != 1000 || math.Abs(costs[`1,000 operations a second of "ledger"`]-2666.7) > 1 || costs["the price of the setup"] != 4000 {
		t.Errorf("%v", costs)
	}
	n.Survives = append(n.Survives, setup.AnyTwoMembers)
	j = Judge(n, sides)
	if len(j.GiveUp) != 1 || !slices.Equal(j.GiveUp[0].Then, []string{"middle", "worse for more", "large"}) || !strings.Contains(j.GiveUp[0].Words, "any two members") {
		t.Errorf("%+v", j.GiveUp)
	}
	if n.Capacity, n.Growth, n.Years = 3e12, 0.5, 1; n.Room() != 4.5e12 { // and 4 TB are there
		t.Error(n.Room())
	}
	if v := Judge(n, sides[1:2]).Setups[0].Verdicts[1]; v.Outcome != judge.FallsShort || v.Words != "11.1 % short of the bound" {
		t.Errorf("%+v", v)
	}
}

// A use that gives its load is judged by measurements that do the same, whatever they are
// called and however long they took; otherwise the nearest is named.
func TestUsesAreFoundByTheirLoad(t *testing.T) {
	load := workload.Default()
	load.For, load.Seed, load.Name = 60, 9, "another name"
	n := Need{Name: "n", Uses: []Use{{Name: "ledger", Load: &load, Bounds: []Bound{bound(t, "iops", "at least 900")}}}}
	s := side("one", setup.Setup{}, 1, "whatever", []float64{1000, 1010, 990}, []float64{0.009, 0.010, 0.011})
	if v := Judge(n, []compare.Side{s}).Setups[0].Verdicts[0]; v.Outcome != judge.Meets {
		t.Errorf("%+v", v)
	}
	load.Depth = 9
	if v := Judge(n, []compare.Side{s}).Setups[0].Verdicts[0]; v.Outcome != judge.NotMeasured || !strings.Contains(v.Reason, `"whatever" of run 1, with a different depth`) {
		t.Errorf("%+v", v)
	}
	p, without := Need{Name: "n", Uses: []Use{n.Uses[0], {Name: "films", Stage: "films"}}}.Plan(3)
	if len(p.Stages) != 1 || p.Stages[0].Repeats != 3 || p.Stages[0].Load.Depth != 9 || !slices.Equal(without, []string{"films"}) {
		t.Errorf("%+v %v", p, without)
	}
}

func TestNeedsThatCannotBe(t *testing.T) {
	use := func(bounds ...string) Use {
		u := Use{Name: "ledger", Stage: "ledger"}
		for _, text := range bounds {
			key, rest, _ := strings.Cut(text, " ")
			u.Bounds = append(u.Bounds, bound(t, key, rest))
		}
		return u
	}
	load := workload.Default()
	for words, n := range map[string]Need{
		"no name":                 {Uses: []Use{use("p99 at most 5ms")}},
		"no requirements":         {Name: "n"},
		"two uses":                {Name: "n", Uses: []Use{use("p99 at most 5ms"), use("p99 at most 5ms")}},
		"nothing can be both":     {Name: "n", Uses: []Use{use("iops at least 10", "iops at most 9")}},
		"asked for twice":         {Name: "n", Uses: []Use{use("iops at least 10", "iops at least 9")}},
		"how many there are":      {Name: "n", Uses: []Use{use("iops at least 10 each")}},
		"the capacity is missing": {Name: "n", Growth: 0.1, Years: 2, Budget: 1},
		"number of years":         {Name: "n", Growth: 0.1, Capacity: 1e12},
		"1 to 100":                {Name: "n", Headroom: 0.5, Budget: 1},
		"twice":                   {Name: "n", Survives: []setup.Failure{setup.APath, setup.APath}},
		"no late pieces":          {Name: "n", Uses: []Use{{Name: "films", Load: &load, Bounds: []Bound{bound(t, "late", "none")}}}},
		"either the name":         {Name: "n", Uses: []Use{{Name: "films", Bounds: []Bound{bound(t, "late", "none")}}}},
		"has no bounds":           {Name: "n", Uses: []Use{{Name: "films", Stage: "films"}}},
	} {
		if err := n.Validate(); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%v does not say %q", err, words)
		}
	}
	// Percentiles rise.
	if err := (Need{Name: "n", Uses: []Use{use("p50 at least 9ms", "p99 at most 5ms")}}).Validate(); err == nil {
		t.Error("a median above p99")
	}
	for text, words := range map[string]string{
		"p99 at most 4000": "500ms", "p99 5ms": "no direction", "iops at least 5ms": "operations per second", "speed at least 5": "no figure",
		"late at most 3MB/s": "share", "iops none": "no direction", "throughput at least": "no direction", "throughput at least 4 KiB": "throughput",
	} {
		key, rest, _ := strings.Cut(text, " ")
		if b, err := ParseBound(key, rest); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%s: %v, %v does not say %q", text, b, err, words)
		}
	}
}

// Twenty needs are judged on twelve setups well within what a page may take.
func BenchmarkJudge(b *testing.B) {
	var sides []compare.Side
	for i := range 12 {
		s := compare.Side{Name: fmt.Sprint(i), Runs: []int64{int64(i)}}
		for u := range 5 {
			s.Samples = append(s.Samples, side("", setup.Setup{}, int64(i), fmt.Sprint("use ", u), []float64{1000, 1010, 990}, []float64{0.01, 0.01, 0.01}).Samples...)
		}
		sides = append(sides, s)
	}
	n := Need{Name: "n"}
	for u := range 5 {
		rate, _ := ParseBound("iops", "at least 900")
		p99, _ := ParseBound("p99", "at most 5ms")
		n.Uses = append(n.Uses, Use{Name: fmt.Sprint(u), Stage: fmt.Sprint("use ", u), Bounds: []Bound{rate, p99}})
	}
	for b.Loop() {
		for range 20 {
			Judge(n, sides)
		}
	}
}

// A use that works on files is judged by its whole files, while others work beside it.
func TestFilesAtOnce(t *testing.T) {
	reads, puts := workload.Default(), workload.Default()
	set, err := files.ParseSet("500 x 4MiB")
	if err != nil {
		t.Fatal(err)
	}
	files.Use(&puts, set)
	n := Need{Name: "n", Together: true, Uses: []Use{
		{Name: "reading", Load: &reads, Bounds: []Bound{bound(t, "iops", "at least 900")}},
		{Name: "backup", Load: &puts, Bounds: []Bound{bound(t, "files", "at least 10"), bound(t, "throughput", "at least 50MB/s"), bound(t, "file-p99", "at most 2s")}},
	}}
	if err := n.Validate(); err != nil {
		t.Fatal(err)
	}
	s := side("s", setup.Setup{}, 1, "else", []float64{5000, 5001, 4999}, []float64{0.001, 0.001, 0.001})
	for i := range 3 {
		load := n.Mixed().Completed()
		files := measure.Figures{Operations: 120, Bytes: 120 * 4 * quantity.MiB, Rate: 12 + quantity.OpRate(i)/100, Throughput: 50.33e6 + quantity.ByteRate(i)*1e4, Latency: measure.Latency{Mean: 1, P99: 3 + quantity.Seconds(i)/100}}
		s.Samples = append(s.Samples, compare.Sample{Run: 2, Measurement: int64(200 + i), Stage: "x", Load: load, Summary: &measure.Summary{
			Measured: 10, Groups: []measure.FileGroup{{Name: "reading", Figures: measure.Figures{Operations: 10_000, Rate: 1000 + quantity.OpRate(i)}}, {Name: "backup", Figures: files}},
		}})
	}
	a := Judge(n, []compare.Side{s}).Setups[0]
	want := []judge.Outcome{judge.Meets, judge.Meets, judge.Meets, judge.FallsShort}
	for i, v := range a.Verdicts {
		if v.Outcome != want[i] {
			t.Errorf("%d: %+v", i, v)
		}
	}
	if h := a.Verdicts[1].Headroom; math.Abs(h-1.201) > 0.001 {
		t.Errorf("12.01 files a second with %g times", h)
	}
}

// Uses at once are judged by what each came to while all were measured, and by nothing
// else.
func TestUsesAtOnce(t *testing.T) {
	reads, writes := workload.Default(), workload.Default()
	writes.Reads = 0
	n := Need{Name: "n", Together: true, Uses: []Use{
		{Name: "reading", Load: &reads, Bounds: []Bound{bound(t, "iops", "at least 900")}},
		{Name: "writing", Load: &writes, Bounds: []Bound{bound(t, "iops", "at least 900"), bound(t, "p99", "at most 20ms")}},
	}}
	if err := n.Validate(); err != nil {
		t.Fatal(err)
	}
	alone := side("alone", setup.Setup{}, 1, "reading", []float64{5000, 5001, 4999}, []float64{0.001, 0.001, 0.001})
	if v := Judge(n, []compare.Side{alone}).Setups[0].Verdicts[0]; v.Outcome != judge.NotMeasured || !strings.Contains(v.Reason, "all uses at once") {
		t.Errorf("alone: %+v", v)
	}
	if left, there := n.Unmeasured(alone); len(left.Uses) != 2 || len(there) != 0 {
		t.Errorf("missing: %v, there: %v", left.Uses, there)
	}
	p, without := n.Plan(3)
	if len(p.Stages) != 1 || len(without) > 0 || len(p.Stages[0].Load.Together) != 2 {
		t.Fatalf("%+v", p)
	}
	both := alone
	both.Name = "both"
	for i := range 3 {
		group := func(name string, rate float64, p99 quantity.Seconds) measure.FileGroup {
			return measure.FileGroup{Name: name, Figures: measure.Figures{Operations: int64(rate * 10), Rate: quantity.OpRate(rate), Latency: measure.Latency{Mean: p99 / 3, P99: p99}}}
		}
		load := p.Stages[0].Load
		load.For, load.Seed = 30, uint64(i+1)
		both.Samples = append(both.Samples, compare.Sample{Run: 2, Measurement: int64(200 + i), Stage: "x", Load: load, Summary: &measure.Summary{
			Measured: 10, Groups: []measure.FileGroup{group("reading", 1000+float64(i), 0.01), group("writing", 500+float64(i), 0.01)},
		}})
	}
	a := Judge(n, []compare.Side{both}).Setups[0]
	if a.Verdicts[0].Outcome != judge.Meets || a.Verdicts[1].Outcome != judge.FallsShort || a.Verdicts[2].Outcome != judge.Meets || math.Abs(a.Verdicts[1].Headroom-501.0/900) > 0.001 {
		t.Errorf("%+v", a.Verdicts)
	}
	if _, there := n.Unmeasured(both); len(there) != 2 {
		t.Errorf("there: %v", there)
	}
	halves, whole := reads, reads
	halves.Reads = 0.5
	files.Use(&whole, fileset.Set{Classes: []fileset.Class{{Name: "f", Number: 9}}})
	for key, c := range map[string]struct {
		load *workload.Spec
		text string
	}{"reads-p99": {&halves, "at most 5ms"}, "finish": {&whole, "at most 60s"}, "sustained": {&reads, "at least 50MB/s"}} {
		of := n
		of.Uses = slices.Clone(n.Uses)
		of.Uses[0].Load, of.Uses[0].Bounds = c.load, []Bound{bound(t, key, c.text)}
		if err := of.Validate(); err == nil || !strings.Contains(err.Error(), "is not known for one of several uses at once") {
			t.Errorf("%s: %v", key, err)
		}
	}
	n.Uses[1].Load, n.Uses[1].Stage = nil, "writing"
	if err := n.Validate(); err == nil || !strings.Contains(err.Error(), "needs a load") {
		t.Error(err)
	}
}

// What was measured while the array was another one judges nothing; while a member was
// missing or rebuilt, by faults of its array file or in truth, it says how the setup stands
// meanwhile. By hand: 4 TB at 100 and 80 MB/s on average are 44,444 s.
func TestMeanwhile(t *testing.T) {
	n := Need{Name: "n", Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "iops", "at least 900")}}}}
	whole := side("pool", priced(t, "4000", "media[0].size", "4TB"), 1, "ledger", []float64{1000, 1010, 990}, []float64{0.01, 0.01, 0.01})
	p := InStates(plan.Plan{Name: "n", Stages: []plan.Stage{{Name: "ledger", Load: workload.Default(), Repeats: 1}}}, []int{0}, 100e6)
	steps, err := p.Steps()
	if err != nil || len(steps) != 2 {
		t.Fatalf("%d steps: %v", len(steps), err)
	}
	at := func(point []plan.Setting, rates []float64, rebuild ...float64) (of []compare.Sample) {
		of = side("pool", whole.Setup, 1, "ledger", rates, []float64{0.01, 0.01, 0.01}).Samples
		for i := range of {
			of[i].Point = point
			if len(rebuild) > 0 {
				of[i].Summary.Inside = []measure.Counter{{Name: "member 0 rebuild", Unit: "bytes per second", Value: rebuild[i%len(rebuild)]}}
			}
		}
		return of
	}
	s := whole
	s.Samples = slices.Concat(whole.Samples, at([]plan.Setting{{Field: "members.count", Value: "12"}}, []float64{5000, 5010, 4990}),
		at(steps[0].Point, []float64{950, 951, 949}), at(steps[1].Point, []float64{300, 301, 299, 300}[:2], 100e6, 80e6))
	a := Judge(n, []compare.Side{s}).Setups[0]
	if v := a.Verdicts[0]; v.Outcome != judge.Meets || math.Abs(v.Headroom-1.111) > 0.001 || len(v.Evidence) != 3 {
		t.Errorf("with other measurements beside: %+v", v)
	}
	if len(a.Meanwhile) != 2 {
		t.Fatalf("%+v", a.Meanwhile)
	}
	degraded, rebuilding := a.Meanwhile[0], a.Meanwhile[1]
	if degraded.State != Degraded || degraded.Outcome != judge.Meets || !degraded.Simulated || degraded.Lasts != 0 || !strings.Contains(degraded.Words, "at 1.05 × the bound (simulated)") {
		t.Errorf("%+v", degraded)
	}
	if rebuilding.State != Rebuilding || rebuilding.Outcome != judge.FallsShort || math.Abs(float64(rebuilding.Lasts)/44_444-1) > 0.001 || !strings.Contains(rebuilding.Words, "(-67%); a member takes 12 h 20 min") {
		t.Errorf("%+v", rebuilding)
	}
	slower, err := InStates(plan.Plan{Name: "n", Stages: []plan.Stage{{Name: "ledger", Load: workload.Default(), Repeats: 1}}}, []int{0}, 20e6).Steps()
	if err != nil {
		t.Fatal(err)
	}
	later := s
	later.Samples = append(slices.Clone(s.Samples), at(slower[1].Point, []float64{920, 921, 919}, 20e6)...)
	if m := Judge(n, []compare.Side{later}).Setups[0].Meanwhile; len(m) != 2 || m[1].Outcome != judge.Meets || math.Abs(float64(m[1].Lasts)/200_000-1) > 0.001 {
		t.Errorf("measured again at another rate: %+v", m)
	}
	// Of several members the worst counts: by hand, a tier of four as raid10 that holds 2 TB has
	// members of 1 TB, which 100 MB/s fill in 10,000 s.
	tiered, err := InStates(plan.Plan{Name: "n", Stages: []plan.Stage{{Name: "ledger", Load: workload.Default(), Repeats: 1}}}, []int{0, 8}, 100e6).Steps()
	if err != nil || len(tiered) != 4 {
		t.Fatalf("%d steps: %v", len(tiered), err)
	}
	inTurn := whole
	inTurn.Setup = priced(t, "4000", "media[0].count", "8", "media[0].size", "4TB", "tier.size", "2TB", "tier.level", "raid10", "tier.count", "4")
	inTurn.Samples = slices.Concat(whole.Samples, at(tiered[0].Point, []float64{990, 991, 989}), at(tiered[1].Point, []float64{950, 951, 949}),
		at(tiered[2].Point, []float64{980, 981, 979}, 80e6), at(tiered[3].Point, []float64{500, 501, 499}))
	for i := range inTurn.Samples[len(inTurn.Samples)-3:] {
		inTurn.Samples[len(inTurn.Samples)-1-i].Summary.Inside = []measure.Counter{{Name: "member 8 rebuild", Unit: "bytes per second", Value: 100e6}}
	}
	m := Judge(n, []compare.Side{inTurn}).Setups[0].Meanwhile
	if len(m) != 2 || m[0].Outcome != judge.Meets || m[0].Without != "member 8" || !strings.Contains(m[0].Words, "1.05 × the bound (simulated; without member 8, the worst one to lose)") {
		t.Errorf("either member missing: %+v", m)
	} else if m[1].Outcome != judge.FallsShort || m[1].Without != "member 8" || math.Abs(float64(m[1].Lasts)/10_000-1) > 0.001 {
		t.Errorf("either member rebuilt: %+v", m[1])
	}
	s.Samples, s.Degraded = whole.Samples, at(nil, []float64{100, 101, 99})
	if a = Judge(n, []compare.Side{s}).Setups[0]; len(a.Meanwhile) != 1 || !a.Meanwhile[0].Simulated {
		t.Errorf("of an array that is simulated: %+v", a.Meanwhile)
	}
	// What was measured without members that are known by their numbers takes its place.
	s.Samples = inTurn.Samples
	if m := Judge(n, []compare.Side{s}).Setups[0].Meanwhile; len(m) != 2 || m[0].Without != "member 8" || m[0].Outcome != judge.Meets {
		t.Errorf("beside members in turn: %+v", m)
	}
	s.Samples = whole.Samples
	s.Real = true
	a = Judge(n, []compare.Side{s}).Setups[0]
	if len(a.Meanwhile) != 1 || a.Meanwhile[0].Simulated || a.Meanwhile[0].Outcome != judge.FallsShort || !strings.Contains(a.Meanwhile[0].Words, "(measured)") {
		t.Errorf("%s: %+v", a.Outcome, a.Meanwhile)
	}
	// 950 of 900 is within what one run of real storage may differ from the next.
	if v := a.Verdicts[0]; v.Outcome != judge.Undecided || !strings.Contains(v.Reason, "three runs would decide") {
		t.Errorf("one run: %+v", v)
	}
}

// A need is not met because it was measured briefly: what does not keep the rate falls short,
// whatever its latency was so far, and by how much was done. Where the engine could not keep
// it, nothing is shown.
func TestARateThatIsNotKeptFallsShort(t *testing.T) {
	n := Need{Name: "n", Uses: []Use{{Name: "ledger", Stage: "ledger", Bounds: []Bound{bound(t, "p99", "at most 10s"), bound(t, "iops", "at least 1000")}}}}
	for _, seconds := range []float64{1, 5, 60} {
		s := side("one", priced(t, "4000"), 1, "ledger", []float64{1430, 1431, 1429}, []float64{1, 1, 1})
		for i := range s.Samples {
			sum := s.Samples[i].Summary
			s.Samples[i].Load.Rate = 3000
			sum.Measured, sum.Total.Operations = quantity.Seconds(seconds), int64(1430*seconds)
			sum.Total.Latency.Mean = quantity.Seconds((3000 - 1430) * seconds / 1430 / 2)
			sum.Total.Latency.P99 = 2 * sum.Total.Latency.Mean
		}
		a := Judge(n, []compare.Side{s}).Setups[0]
		if v := a.Verdicts[0]; v.Outcome != judge.FallsShort || math.Abs(v.Headroom-1430.0/3000) > 0.01 || !strings.Contains(v.Reason, "not sustained") {
			t.Errorf("p99 of %g s: %+v", seconds, v)
		}
		if v := a.Verdicts[1]; v.Outcome != judge.Meets {
			t.Errorf("what was done of %g s: %+v", seconds, v)
		}
		for i := range s.Samples {
			s.Samples[i].Summary.WorkerCPUPerOp = quantity.Seconds(float64(s.Samples[i].Load.Workers) / 1430)
		}
		if v := Judge(n, []compare.Side{s}).Setups[0].Verdicts[0]; v.Outcome != judge.Undecided || !strings.Contains(v.Reason, "engine itself") {
			t.Errorf("the engine: %+v", v)
		}
	}
}

// Whatever is measured and asked, what is said of setups and of all of them is borne by their
// verdicts, and by nothing else.
func TestSentencesHoldForTheirVerdicts(t *testing.T) {
	r := rand.New(rand.NewPCG(13, 1))
	kinds := map[string]int{}
	for range 1500 {
		n := Need{Name: "n", Headroom: []float64{0, 1.2}[r.IntN(2)]}
		for i := range 1 + r.IntN(3) {
			u := Use{Name: fmt.Sprintf("use %d", i), Stage: fmt.Sprintf("stage %d", i), Users: 10}
			u.Bounds = append(u.Bounds, bound(t, "iops", []string{"at least 800", "at least 1000", "at least 90 each"}[r.IntN(3)]))
			if r.IntN(2) == 0 {
				u.Bounds = append(u.Bounds, bound(t, "p99", "at most 10ms"))
			}
			n.Uses = append(n.Uses, u)
		}
		if r.IntN(3) == 0 {
			n.Budget = 5000
		}
		var sides []compare.Side
		level := 600 + 900*r.Float64()
		for i := range 1 + r.IntN(4) {
			var s compare.Side
			for u := range n.Uses {
				if r.IntN(12) == 0 {
					continue
				}
				rates, tails := []float64{}, []float64{}
				mean := level * (0.9 + 0.3*r.Float64())
				for range 1 + r.IntN(4) {
					rates, tails = append(rates, mean*(1+0.01*r.NormFloat64())), append(tails, 0.008+0.004*r.Float64())
				}
				one := side(fmt.Sprintf("setup %d", i), setup.Setup{}, int64(i+1), fmt.Sprintf("stage %d", u), rates, tails)
				s.Samples = append(s.Samples, one.Samples...)
			}
			s.Name, s.Runs = fmt.Sprintf("setup %d", i), []int64{int64(i + 1)}
			if r.IntN(4) > 0 {
				s.Setup = priced(t, fmt.Sprint(3000+r.IntN(4000)))
			}
			sides = append(sides, s)
		}
		j := Judge(n, sides)
		for _, c := range j.Claims {
			kinds[c.Kind]++
			if err := c.Check(); err != nil {
				t.Error(err)
			}
			for _, term := range c.Terms {
				if term.State != "" && !slices.ContainsFunc(j.Setups, func(a Answer) bool { return a.Name == term.Of && string(a.Outcome) == term.State }) {
					t.Errorf("%s is said of what is no setup: %+v", c.Kind, term)
				}
			}
		}
		meet := 0
		for _, a := range j.Setups {
			if a.Outcome == judge.Meets {
				meet++
			}
			for _, c := range a.Claims {
				kinds[c.Kind]++
				if err := c.Check(); err != nil {
					t.Error(err)
				}
				for _, term := range c.Terms {
					if !slices.ContainsFunc(a.Verdicts, func(v Verdict) bool {
						return term.State == "" && v.Headroom == term.Value || string(v.Outcome) == term.State
					}) {
						t.Errorf("%s is said of what is no verdict: %+v of %+v", c.Kind, term, a.Verdicts)
					}
				}
			}
			if len(a.Claims) == 0 || (a.Outcome == judge.Meets) != (a.Claims[0].Kind == "meets-all") {
				t.Errorf("%s: %+v", a.Outcome, a.Claims)
			}
		}
		if takes := slices.ContainsFunc(j.Claims, func(c claim.Claim) bool { return c.Kind == "take" || c.Kind == "meets-with-most" }); takes != (meet > 0) {
			t.Errorf("%d setups meet all: %s", meet, j.Words)
		}
	}
	for _, kind := range []string{"meets-all", "tightest", "falls-short-in", "not-shown-in", "not-shown-to-meet", "take", "meets-with-most", "price-not-known", "some-may", "none-meets", "nor-all-but-one", "without-one"} {
		if kinds[kind] < 10 {
			t.Errorf("%s was said %d times", kind, kinds[kind])
		}
	}
	t.Logf("%v", kinds)
}
