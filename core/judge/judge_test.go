package judge

import (
	"maps"
	"math"
	"slices"
	"testing"
	"time"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// series is one second in which the load and the device moved so many bytes.
func series(reads, writes, deviceRead, deviceWritten quantity.Bytes) []measure.Interval {
	return []measure.Interval{
		{Length: 1, WarmUp: true, Beside: []measure.Beside{{Devices: []measure.Device{{}}}}},
		{
			Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Bytes: reads}, measure.Write: {Bytes: writes}},
			Beside: []measure.Beside{{Available: 8 * quantity.GiB, Devices: []measure.Device{
				{ReadBytes: deviceRead / 2, WrittenBytes: deviceWritten},
				{ReadBytes: deviceRead / 2},
			}}},
		},
	}
}

// rate is a summary of that many operations a second for ten seconds.
func rate(operations int64, latency quantity.Seconds) measure.Summary {
	return measure.Summary{Total: measure.Figures{Operations: operations * 10, Rate: quantity.OpRate(operations), Latency: measure.Latency{Mean: latency}}}
}

// went is a summary of a measurement with these phases.
func went(p measure.Phases) measure.Summary {
	p.List, p.Words = []measure.Phase{{}}, "Somehow."
	return measure.Summary{Phases: &p}
}

// working is a summary of an engine whose workers used this share of their time.
func working(share float64) measure.Summary {
	s := rate(50_000, 8.0/50_000)
	s.WorkerCPUPerOp = quantity.Seconds(share / 50_000)
	return s
}

// beside is a second in which one core and one device were busy.
func beside(core, device quantity.Share, inFlight int64) []measure.Interval {
	return []measure.Interval{{Length: 1, Beside: []measure.Beside{{CPU: []quantity.Share{0.1, core}, Devices: []measure.Device{{Name: "sda", Busy: device, InFlight: inFlight}}}}}}
}

// told is a second of an array that tells of its inside.
func told(counters ...measure.Counter) []measure.Interval {
	return []measure.Interval{{Length: 1, Inside: counters}, {Start: 1, Length: 1, Inside: counters}}
}

// filling is a cache that keeps a gigabyte of what is written to it.
func filling(name string) []measure.Interval {
	s := told(measure.Counter{Name: name + " hit rate", Unit: "share"})
	for i := range s {
		s[i].Inside = append(slices.Clone(s[i].Inside), measure.Counter{Name: name + " dirty", Unit: "bytes", Value: float64(i) * 1e9})
	}
	return s
}

// through is a load through the host's memory, and wrote what a simulated one wrote.
var through = workload.Spec{Pattern: workload.Pattern{Cached: true, Span: quantity.GiB}}

func wrote(bytes quantity.Bytes) measure.Summary {
	return measure.Summary{Interface: "simulated", Classes: map[measure.Class]measure.Figures{measure.Write: {Bytes: bytes}}}
}

// behind did 600 a second, with most of the latency in front of the volume.
var behind = func() measure.Summary {
	s := rate(600, 2)
	s.Measured = 10
	s.Service = &measure.Latency{Mean: 0.01}
	return s
}()

// gigabit is a setup behind one gigabit, cached one of disks behind a cache.
var gigabit, cached = facts("link[0].rate", "125MB/s"), facts(
	"media[0].kind", "hard disk", "media[0].count", "4", "media[0].randomReadRate", "200", "layout.level", "raid5", "cache[0].size", "400GB", "cache[0].name", "SSD cache")

// thick and thin are four disks, and a thin volume on them.
var thick, thin = facts("media[0].kind", "hard disk", "media[0].count", "4", "media[0].randomReadRate", "200", "layout.level", "raid0"), facts(
	"media[0].kind", "hard disk", "media[0].count", "4", "media[0].randomReadRate", "200", "layout.level", "raid0", "pool.unit", "1MiB")

func facts(pairs ...string) (s setup.Setup) {
	for i := 0; i < len(pairs); i += 2 {
		if err := s.Set(pairs[i], pairs[i+1], setup.Told, time.Time{}); err != nil {
			panic(err)
		}
	}
	return s
}

// Each rule speaks when it should and is silent when it should be.
// cores is an interval beside a host of so many.
func cores(n int) []measure.Interval {
	return []measure.Interval{{Length: 1, Beside: []measure.Beside{{CPU: make([]quantity.Share, n)}}}}
}

func TestRulesSpeakAndAreSilent(t *testing.T) {
	const big = 100 * quantity.MiB
	lag, short := quantity.Seconds(0.002), quantity.Seconds(0.00001)
	for name, c := range map[string]struct {
		observed Observed
		want     string // kind and figure, or ""
	}{
		"the device moved all":              {Observed{Series: series(big, big, big, big)}, ""},
		"read-ahead moved more":             {Observed{Series: series(big, 0, 2*big, 0)}, ""},
		"memory answered":                   {Observed{Series: series(big, 0, big/10, 0)}, "silently-buffered reads unreliable"},
		"memory took the writes":            {Observed{Series: series(0, big, 0, big/2)}, "silently-buffered writes unreliable"},
		"only a few blocks":                 {Observed{Series: series(8*quantity.KiB, 0, 0, 0)}, ""},
		"workers without a core":            {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 16}}, Series: cores(2), Summary: measure.Summary{CoreWait: 0.23, WorkerCPUPerOp: 1e-6}}, "waited-for-cores all caution"},
		"others on the cores":               {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 2}}, Series: cores(2), Summary: measure.Summary{CoreWait: 0.06, WorkerCPUPerOp: 1e-6}}, "waited-for-cores all caution"},
		"workers that sleep":                {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 16}}, Series: cores(2), Summary: measure.Summary{CoreWait: 0.02, WorkerCPUPerOp: 1e-6}}, ""},
		"waiting is not counted":            {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 16}}, Series: cores(2)}, "waited-for-cores all caution"},
		"a few more than cores":             {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 3}}, Series: cores(2)}, ""},
		"virtual time":                      {Observed{Load: workload.Spec{Pace: workload.Pace{Workers: 64}}}, ""},
		"no counters":                       {Observed{Series: []measure.Interval{{Length: 1, Classes: map[measure.Class]measure.Flow{measure.Read: {Bytes: big}}}}}, ""},
		"cached, fits":                      {Observed{Load: workload.Spec{Pattern: workload.Pattern{Cached: true, Span: quantity.GiB}}, Series: series(big, 0, 0, 0)}, "span-fits-memory all unreliable"},
		"cached, simulated, misses":         {Observed{Load: through, Summary: measure.Summary{Interface: "simulated"}, Series: told(measure.Counter{Name: "page cache hit rate", Unit: "share", Value: 0.4})}, ""},
		"cached, simulated, hits":           {Observed{Load: through, Summary: measure.Summary{Interface: "simulated"}, Series: told(measure.Counter{Name: "page cache hit rate", Unit: "share", Value: 0.6})}, "host-memory-answered all unreliable"},
		"cached, simulated, fills":          {Observed{Load: through, Summary: wrote(3e9), Series: filling("page cache")}, "host-memory-filling all unreliable"},
		"cached, simulated, fills a little": {Observed{Load: through, Summary: wrote(5e9), Series: filling("page cache")}, ""},
		"cached, far larger":                {Observed{Load: workload.Spec{Pattern: workload.Pattern{Cached: true, Span: quantity.TiB}}, Series: series(big, 0, 0, 0)}, ""},
		"in memory":                         {Observed{Facts: &setup.Facts{FileSystem: "tmpfs"}}, "memory-file-system all unreliable"},
		"on a disk":                         {Observed{Facts: &setup.Facts{FileSystem: "ext4"}}, ""},
		"threads":                           {Observed{Summary: measure.Summary{Interface: "threads"}}, "portable-interface all caution"},
		"the generator is late":             {Observed{Summary: measure.Summary{IssueLag: &lag, Total: measure.Figures{Latency: measure.Latency{Mean: 0.004}}}}, "late-generator all caution"},
		"late against nothing":              {Observed{Summary: measure.Summary{IssueLag: &short, Total: measure.Figures{Latency: measure.Latency{Mean: 0.00002}}}}, ""},
		"a thin volume reads nothing":       {Observed{Setup: thin, Summary: rate(40_000, 0.0002), Load: workload.Spec{Pattern: workload.Pattern{Blocks: workload.Block(4 * quantity.KiB), Reads: 1, Order: workload.Random}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limit-not-found all info"},
		"the same, not thin":                {Observed{Setup: thick, Summary: rate(40_000, 0.0002), Load: workload.Spec{Pattern: workload.Pattern{Blocks: workload.Block(4 * quantity.KiB), Reads: 1, Order: workload.Random}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "above-ceiling reads unreliable limit-not-found all info"},
		"above the link":                    {Observed{Setup: gigabit, Summary: rate(40_000, 0.0002), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Order: workload.Random}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "above-ceiling reads unreliable limit-not-found all info"},
		"at the link":                       {Observed{Setup: gigabit, Summary: rate(28_700, 8.0/28_700), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Order: workload.Random}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"below the link":                    {Observed{Setup: gigabit, Summary: rate(10_000, 0.0008), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Order: workload.Random}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limit-not-found all info"},
		"the cache may be faster":           {Observed{Setup: cached, Summary: rate(9_000, 8.0/9_000), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Order: workload.Random, Span: quantity.TiB}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limit-not-found all info"},
		"the span fits the cache":           {Observed{Setup: cached, Load: workload.Spec{Pattern: workload.Pattern{Span: quantity.GiB}}}, "span-fits-cache all caution"},
		"the rest were trims":               {Observed{Summary: withTrims(rate(20_000, 0.001), 12_000, 0.001), Load: workload.Spec{Pace: workload.Pace{Depth: 32, Workers: 1}}}, "limit-not-found all info"},
		"too few in flight":                 {Observed{Summary: rate(100_000, 0.00001), Load: workload.Spec{Pace: workload.Pace{Depth: 32, Workers: 1}}}, "few-in-flight all caution limit-not-found all info"},
		"too few, but it thinks":            {Observed{Summary: rate(100_000, 0.00001), Load: workload.Spec{Pace: workload.Pace{Depth: 32, Workers: 1, Think: 1}}}, ""},
		"it never settles":                  {Observed{Summary: went(measure.Phases{State: measure.NotSteady})}, "never-settled all caution"},
		"it settles":                        {Observed{Summary: went(measure.Phases{State: measure.Steady})}, ""},
		"who knows":                         {Observed{Summary: went(measure.Phases{State: measure.NotKnown})}, "settling-not-known all info"},
		"it falls and settles":              {Observed{Summary: went(measure.Phases{State: measure.Steady, Fall: &measure.Fall{From: 2, To: 1}})}, "fell all info"},
		"it falls at the end":               {Observed{Summary: went(measure.Phases{State: measure.NotSteady, Fall: &measure.Fall{From: 2, To: 1}})}, "fell all info never-settled all caution"},
		"an amount that falls":              {Observed{Load: workload.Spec{Ending: workload.Ending{Amount: 1}}, Summary: went(measure.Phases{State: measure.NotSteady, Fall: &measure.Fall{From: 2, To: 1}})}, "fell all info"},
		"seconds of nothing":                {Observed{Summary: measure.Summary{Steadiness: &measure.Steadiness{Intervals: 60, Interval: 1, Worst: 100, WorstShare: 0.1, Slow: 3}}}, "unsteady all caution"},
		"seconds of few":                    {Observed{Summary: measure.Summary{Steadiness: &measure.Steadiness{Intervals: 60, Interval: 1, Worst: 1, WorstShare: 0.2, Slow: 3}}}, ""},
		"even seconds":                      {Observed{Summary: measure.Summary{Steadiness: &measure.Steadiness{Intervals: 60, WorstShare: 0.9}}}, ""},
		"it falls behind":                   {Observed{Summary: behind, Load: workload.Spec{Pace: workload.Pace{Rate: 1000}}}, "fell-behind all caution"},
		"it keeps the rate":                 {Observed{Summary: behind, Load: workload.Spec{Pace: workload.Pace{Rate: 500}}}, ""},
		"the engine is busy":                {Observed{Summary: working(0.97), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"others use a core":                 {Observed{Series: beside(0.99, 0.95, 8), Summary: working(0.3), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limit-not-found all info"},
		"a busy parallel drive":             {Observed{Series: beside(0, 1, 2), Setup: facts("media[0].kind", "ssd"), Summary: working(0.3), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limit-not-found all info"},
		"a busy hard disk":                  {Observed{Series: beside(0, 1, 8), Setup: facts("media[0].kind", "hard disk"), Summary: working(0.3), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"nothing is busy":                   {Observed{Series: told(measure.Counter{Name: "member 0 busy", Unit: "share", Value: 0.2}), Summary: working(0.1), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"a member is busy":                  {Observed{Series: told(measure.Counter{Name: "member 0 busy", Unit: "share", Value: 0.95}), Summary: working(0.1), Load: workload.Spec{Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"an I/O limit":                      {Observed{Setup: facts("queue.readsMost", "50k"), Summary: working(0.3), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1}, Pace: workload.Pace{Depth: 8, Workers: 1}}}, "limited-by all info"},
		"nothing stands behind it":          {Observed{Summary: measure.Summary{Interface: "none", Measured: 10, Total: rate(5_000_000, 1e-6).Total}, Load: workload.Spec{Pace: workload.Pace{Rate: 30_000_000}}}, "fell-behind all caution"},
		"the cache answers":                 {Observed{Setup: cached, Series: told(measure.Counter{Name: "SSD cache hit rate", Unit: "share", Value: 0.93}), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Span: quantity.TiB}}}, "cache-answered reads caution"},
		"it fits, but is cold":              {Observed{Setup: cached, Series: told(measure.Counter{Name: "SSD cache hit rate", Unit: "share", Value: 0.02}), Load: workload.Spec{Pattern: workload.Pattern{Reads: 1, Span: quantity.GiB}}}, ""},
		"the cache is filling":              {Observed{Setup: cached, Series: filling("SSD cache"), Summary: measure.Summary{Classes: map[measure.Class]measure.Figures{measure.Write: {Bytes: 2e9}}}}, "still-filling writes caution"},
		"others took the CPU":               {Observed{Summary: measure.Summary{Stolen: 0.2}}, "stolen-time all caution"},
		"others hardly took it":             {Observed{Summary: measure.Summary{Stolen: 0.01}}, ""},
		"late, but storage is slow":         {Observed{Summary: measure.Summary{IssueLag: &lag, Total: measure.Figures{Latency: measure.Latency{Mean: 0.1}}}}, ""},
	} {
		c.observed.Load.Blocks = workload.Block(4 * quantity.KiB)
		got := ""
		for _, f := range Findings(c.observed) {
			if got != "" {
				got += " "
			}
			got += f.Kind + " " + f.Figure + " " + string(f.Weight)
			if f.Sentence == "" || f.Next == "" || f.Evidence == nil {
				t.Errorf("%s: the finding lacks its sentence, next step or evidence: %+v", name, f)
			}
			if err := f.Check(); err != nil {
				t.Errorf("%s: %v", name, err)
			}
		}
		if got != c.want {
			t.Errorf("%s: found %q, want %q", name, got, c.want)
		}
	}
}

// withTrims is a summary in which trims were in flight as well.
func withTrims(s measure.Summary, rate quantity.OpRate, latency quantity.Seconds) measure.Summary {
	s.Classes = maps.Clone(s.Classes)
	if s.Classes == nil {
		s.Classes = map[measure.Class]measure.Figures{}
	}
	s.Classes[measure.Trim] = measure.Figures{Rate: rate, Latency: measure.Latency{Mean: latency}}
	return s
}

// Sums are sums, and a share is one of all that it is of: of 100 and 300 reads, a fifth and
// three fifths of which were hits, half were; a part is busy for so much of the time, and a
// level counts for as long as it was there.
func TestInsideAddsUp(t *testing.T) {
	interval := func(length, reads, hits, busy, moved, level float64) measure.Interval {
		return measure.Interval{Length: quantity.Seconds(length), Inside: []measure.Counter{
			{Name: "cache hit rate", Unit: "share", Value: hits, Over: measure.Means, Of: reads}, {Name: "controller busy", Unit: "share", Value: busy, Over: measure.Means, Of: length},
			{Name: "tier moved", Unit: "bytes", Value: moved, Over: measure.Sums}, {Name: "cache dirty", Unit: "bytes", Value: level},
		}}
	}
	got := map[string]float64{}
	for _, c := range Inside([]measure.Interval{interval(1, 100, 0.2, 1, 10, 5), interval(3, 300, 0.6, 0, 30, 1)}) {
		got[c.Name] = c.Value
	}
	want := map[string]float64{"cache hit rate": 0.5, "controller busy": 0.25, "tier moved": 40, "cache dirty": 2}
	for name, value := range want {
		if math.Abs(got[name]-value) > 1e-9 {
			t.Errorf("%s is %g, not %g", name, got[name], value)
		}
	}
}
