package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
	"patientheron/core/workload/files"
	"patientheron/core/workload/streams"
)

// anything is a measurement of which anything may be true.
func anything(random *rand.Rand) Observed {
	chance := func(p float64) bool { return random.Float64() < p }
	between := func(low, high float64) float64 { // evenly by their logarithm
		return low * math.Exp(random.Float64()*math.Log(high/low))
	}
	seconds := func(low, high float64) quantity.Seconds { return quantity.Seconds(between(low, high)) }
	bytes := func(low, high float64) quantity.Bytes { return quantity.Bytes(between(low, high)) }
	share := func() quantity.Share {
		return quantity.Share([]float64{0, random.Float64(), random.Float64() / 20, 1 - random.Float64()/20, 1}[random.IntN(5)])
	}
	load := workload.Spec{
		Pattern: workload.Pattern{Blocks: workload.Block(4 * quantity.KiB), Reads: share(), Order: workload.Random, Cached: chance(0.2), Span: bytes(1e6, 1e13)},
		Pace:    workload.Pace{Workers: 1 + random.IntN(8), Depth: 1 + random.IntN(32)},
	}
	sum := measure.Summary{
		Measured: seconds(0.5, 1e4), WarmUp: seconds(1e-3, 10), Ending: measure.ByTime, Unwritten: share(), CoreWait: share(), Stolen: share() / 10,
		Interface: []string{"io_uring", "threads", "iSCSI", "none", "simulated", "io_uring without fixed buffers"}[random.IntN(6)],
	}
	sum.Total.Rate = quantity.OpRate(between(1, 1e7))
	sum.Total.Operations = int64(float64(sum.Total.Rate) * float64(sum.Measured))
	sum.Total.Throughput = quantity.ByteRate(sum.Total.Rate) * 4096
	sum.Total.Latency.Mean = seconds(1e-6, 1)
	if chance(0.5) { // which fit the load
		sum.Total.Latency.Mean = quantity.Seconds(float64(load.Workers*load.Depth) / float64(sum.Total.Rate) * (0.9 + 0.2*random.Float64()))
	}
	sum.WorkerCPUPerOp = quantity.Seconds(random.Float64() * float64(load.Workers) / float64(sum.Total.Rate))
	sum.Classes = map[measure.Class]measure.Figures{measure.Write: {Bytes: bytes(1, 1e12)}}
	if chance(0.1) {
		sum.Ending = measure.ByFailure
	}
	if chance(0.3) {
		sum.StoodStill = &measure.StoodStill{At: seconds(1e-3, 10), Worst: seconds(1e-3, 1)}
		sum.StoodStill.Total = sum.StoodStill.Worst * quantity.Seconds(1+random.Float64())
	}
	if chance(0.3) {
		load.Rate = quantity.OpRate(between(float64(sum.Total.Rate)/2, float64(sum.Total.Rate)*2))
		sum.Service = &measure.Latency{Mean: seconds(1e-6, 1)}
		lag := seconds(1e-6, 1e-2)
		sum.IssueLag = &lag
	}
	if chance(0.7) {
		list := []measure.Phase{}
		for range 1 + random.IntN(3) {
			list = append(list, measure.Phase{Throughput: quantity.ByteRate(between(1e6, 1e9)), Mean: seconds(1e-4, 1e-1), Kind: measure.Burst})
		}
		p := &measure.Phases{List: list, Words: "It went somehow.", State: []measure.State{measure.Steady, measure.NotSteady, measure.NotKnown}[random.IntN(3)], Cut: seconds(1e-3, 1)}
		if len(list) > 1 && chance(0.5) {
			p.Fall = &measure.Fall{After: 1, Bytes: 1e6, From: list[0].Throughput, To: list[len(list)-1].Throughput}
		}
		sum.Phases = p
		s := share()
		sum.Steadiness = &measure.Steadiness{Intervals: 5 + random.IntN(100), Interval: 1, WorstShare: s, Worst: sum.Total.Rate * quantity.OpRate(s), Variation: share()}
		sum.Steadiness.Slow = random.IntN(sum.Steadiness.Intervals)
	}
	if chance(0.2) {
		buffer := seconds(0.1, 10)
		load.SetBody(&streams.Feeds{Buffer: buffer})
		sum.Feeds = &measure.FeedFigures{Pieces: 1 + random.Int64N(1000), Usual: 2, Tightest: quantity.Seconds(random.Float64()), Behind: seconds(1e-3, 10), WorstLate: 1, LongestStall: 1}
		sum.Feeds.Late = max(0, random.Int64N(2*sum.Feeds.Pieces)-sum.Feeds.Pieces)
		sum.Feeds.LateShare = quantity.Share(float64(sum.Feeds.Late) / float64(sum.Feeds.Pieces))
	}
	for range random.IntN(3) {
		agreed := measure.Agreed{Key: "MaxBurstLength", Offered: "1 MiB", InEffect: []string{"256 KiB", "1 MiB"}[random.IntN(2)]}
		if agreed.InEffect != agreed.Offered {
			agreed.Cut = "target"
		}
		sum.Sessions = append(sum.Sessions, measure.Session{Keys: []measure.Agreed{agreed}})
	}
	o := Observed{Load: load, Summary: sum, Setup: facts("cache[0].size", fmt.Sprintf("%dMB", 1+random.IntN(1e6)), "cache[0].name", "SSD cache")}
	if chance(0.5) {
		o.Setup = facts("link[0].rate", fmt.Sprintf("%dMB/s", 1+random.IntN(10_000)), "link[0].roundTrip", fmt.Sprintf("%dus", 10+random.IntN(10_000)))
	}
	if chance(0.3) {
		o.Setup = facts("media[0].kind", "hard disk", "media[0].count", "4", "media[0].randomReadRate", "200", "layout.level", "raid0")
	}
	if chance(0.2) {
		o.Changed = []quantity.Seconds{seconds(0.1, 10)}
	}
	if chance(0.1) {
		o.Facts = &setup.Facts{FileSystem: []string{"tmpfs", "ext4"}[random.IntN(2)]}
	}
	if chance(0.2) {
		o.Load.SetBody(&files.Files{From: "/srv/takes"})
		o.Source = &measure.Summary{Total: measure.Figures{Throughput: sum.Total.Throughput * quantity.ByteRate(0.5+2*random.Float64())}}
	}
	level, slope, hits := between(1e3, 1e10), between(1, 1e9), random.Float64()
	for i := range 40 {
		at := measure.Interval{Start: quantity.Seconds(i), Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Bytes: bytes(1, 1e9), Operations: 10}}}
		at.Inside = []measure.Counter{
			{Name: "SSD cache hit rate", Unit: "share", Value: hits, Over: measure.Means, Of: 1000}, {Name: "page cache hit rate", Unit: "share", Value: hits, Over: measure.Means, Of: 10},
			{Name: "SSD cache dirty", Unit: "bytes", Value: level + slope*float64(i)}, {Name: "page cache dirty", Unit: "bytes", Value: slope * float64(i)},
			{Name: "member 0 busy", Unit: "share", Value: float64(sum.CoreWait)}, {Name: "member 1 busy", Unit: "share", Value: float64(sum.Unwritten)},
			{Name: "reads seeking", Unit: "seconds", Value: 1e-3, Over: measure.Means, Of: 10}, {Name: "reads waiting", Unit: "seconds", Value: 1e-3 * hits, Over: measure.Means, Of: 10},
		}
		if chance(0.5) || i == 0 {
			at.Beside = []measure.Beside{{Available: bytes(1e6, 1e12), CPU: []quantity.Share{share(), share()}, EngineCores: 2 * random.Float64(), WorkerCores: random.Float64(), Devices: []measure.Device{
				{Name: "sda", ReadBytes: bytes(1, 1e9), WrittenBytes: bytes(1, 1e9), Busy: quantity.Share(0.9 + 0.1*random.Float64()), InFlight: 4},
			}}}
		}
		o.Series = append(o.Series, at)
	}
	return o
}

// fromToWords finds two quantities of a sentence that it says to differ.
var fromToWords = regexp.MustCompile(`from ([0-9.]+ ?[^ ]*) to ([0-9.]+ ?[^ ,]*)`)

// Of ten thousand measurements of which anything may be true, no finding says what its record
// does not hold. What a sentence says is worked out again here, from the record.
func TestFindingsHoldForWhatWasDrawn(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 1))
	seen := map[string]int{}
	holds := map[string]func(o Observed, f Finding) bool{
		"fell": func(o Observed, f Finding) bool {
			list := o.Summary.Phases.List
			if o.Load.Open() {
				return float64(list[len(list)-1].Mean) > f.valueOf("mean latency before, seconds")
			}
			return o.Summary.Phases.Fall.To < o.Summary.Phases.Fall.From
		},
		"never-settled":      func(o Observed, _ Finding) bool { return o.Summary.Phases.State == measure.NotSteady },
		"settling-not-known": func(o Observed, _ Finding) bool { return o.Summary.Phases.State == measure.NotKnown },
		"memory-file-system": func(o Observed, _ Finding) bool { return o.Facts.FileSystem == "tmpfs" },
		"fell-behind": func(o Observed, _ Finding) bool {
			return o.Summary.Total.Rate < o.Load.Rate
		},
		"stood-still": func(o Observed, f Finding) bool {
			long := o.Summary.StoodStill.Total > 0.05*(o.Summary.Measured+o.Summary.WarmUp)
			return long == (f.Weight == Unreliable)
		},
		"late-generator": func(o Observed, _ Finding) bool { return *o.Summary.IssueLag*10 > o.Summary.Total.Latency.Mean },
		"late-pieces":    func(o Observed, _ Finding) bool { return o.Summary.Feeds.Late > 0 },
		"feeds-kept":     func(o Observed, _ Finding) bool { return o.Summary.Feeds.Late == 0 },
		"feeds-behind":   func(o Observed, _ Finding) bool { return o.Summary.Feeds.Late == 0 },
		"few-in-flight": func(o Observed, f Finding) bool {
			flew := float64(o.Summary.Total.Rate) * float64(o.Summary.Total.Latency.Mean)
			return strings.Contains(f.Sentence, "more than the") == (flew > float64(o.Load.Workers*o.Load.Depth))
		},
		"limited-by-source": func(o Observed, _ Finding) bool { return o.Summary.Total.Throughput >= 0.9*o.Source.Total.Throughput },
		"source-is-faster":  func(o Observed, _ Finding) bool { return o.Summary.Total.Throughput < 0.9*o.Source.Total.Throughput },
		"cache-answered":    func(o Observed, _ Finding) bool { return o.Series[0].Inside[0].Value >= 0.5 },
		"offer-cut-down":    func(_ Observed, f Finding) bool { return strings.Contains(f.Sentence, "MaxBurstLength is 256 KiB") },
		"above-ceiling": func(o Observed, f Finding) bool {
			return float64(o.Summary.Total.Rate) > f.valueOf("ceiling, operations a second") && (len(o.Changed) > 0) == (f.Weight == Caution)
		},
		"still-filling": func(o Observed, _ Finding) bool {
			grew := o.Series[39].Inside[2].Value - o.Series[0].Inside[2].Value
			return grew >= 0.25*float64(o.Summary.Classes[measure.Write].Bytes)
		},
		"limited-by": func(o Observed, f Finding) bool {
			if _, words, part := strings.Cut(f.Sentence, "member "); part && strings.Contains(words, "busy for") {
				return max(o.Summary.CoreWait, o.Summary.Unwritten) > 0.9
			}
			return true
		},
	}
	for range 10_000 {
		o := anything(random)
		for _, f := range Findings(o) {
			seen[f.Kind]++
			if err := f.Check(); err != nil {
				t.Fatal(err)
			}
			if check := holds[f.Kind]; check != nil && !check(o, f) {
				t.Fatalf("%s does not hold: %s\n%+v\nevidence %+v", f.Kind, f.Sentence, o.Summary, f.Evidence)
			}
			for _, pair := range fromToWords.FindAllStringSubmatch(f.Sentence, -1) {
				if pair[1] == pair[2] {
					t.Fatalf("%s: nothing went: %s", f.Kind, f.Sentence)
				}
			}
		}
	}
	for kind := range holds {
		if seen[kind] < 20 {
			t.Errorf("%s was found only %d times of 10,000", kind, seen[kind])
		}
	}
	t.Log(fmt.Sprint(seen))
}

// valueOf is the evidence of a name; NaN where there is none.
func (f Finding) valueOf(name string) float64 {
	i := slices.IndexFunc(f.Evidence, func(e Evidence) bool { return e.Name == name })
	if i < 0 {
		return math.NaN()
	}
	return f.Evidence[i].Value
}
