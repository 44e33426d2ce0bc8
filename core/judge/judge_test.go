package judge

import (
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// series is one second in which the load and the device moved so many bytes.
func series(reads, writes, deviceRead, deviceWritten quantity.Bytes) []measure.Interval {
	return []measure.Interval{
		{Length: 1, LeadIn: true, Reads: measure.Flow{Bytes: 1 << 40}, Beside: &measure.Beside{Devices: []measure.Device{{}}}},
		{
			Length: 1, Reads: measure.Flow{Bytes: reads}, Writes: measure.Flow{Bytes: writes},
			Beside: &measure.Beside{Available: 8 * quantity.GiB, Devices: []measure.Device{
				{Read: quantity.ByteRate(deviceRead) / 2, Written: quantity.ByteRate(deviceWritten)},
				{Read: quantity.ByteRate(deviceRead) / 2},
			}},
		},
	}
}

// Each rule speaks when it should and is silent when it should be.
func TestRulesSpeakAndAreSilent(t *testing.T) {
	const big = 100 * quantity.MiB
	lag, short := quantity.Seconds(0.002), quantity.Seconds(0.00001)
	for name, c := range map[string]struct {
		observed Observed
		want     string // kind and figure, or ""
	}{
		"the device moved all":      {Observed{Series: series(big, big, big, big)}, ""},
		"read-ahead moved more":     {Observed{Series: series(big, 0, 2*big, 0)}, ""},
		"memory answered":           {Observed{Series: series(big, 0, big/10, 0)}, "silently-buffered reads unreliable"},
		"memory took the writes":    {Observed{Series: series(0, big, 0, big/2)}, "silently-buffered writes unreliable"},
		"only a few blocks":         {Observed{Series: series(8*quantity.KiB, 0, 0, 0)}, ""},
		"no counters":               {Observed{Series: []measure.Interval{{Length: 1, Reads: measure.Flow{Bytes: big}}}}, ""},
		"cached, fits":              {Observed{Load: workload.Spec{Cached: true, Span: quantity.GiB}, Series: series(big, 0, 0, 0)}, "span-fits-memory all unreliable"},
		"cached, far larger":        {Observed{Load: workload.Spec{Cached: true, Span: quantity.TiB}, Series: series(big, 0, 0, 0)}, ""},
		"in memory":                 {Observed{Facts: &setup.Facts{FileSystem: "tmpfs"}}, "memory-file-system all unreliable"},
		"on a disk":                 {Observed{Facts: &setup.Facts{FileSystem: "ext4"}}, ""},
		"threads":                   {Observed{Summary: measure.Summary{Interface: "threads"}}, "portable-interface all caution"},
		"the generator is late":     {Observed{Summary: measure.Summary{IssueLag: &lag, Total: measure.Figures{Latency: measure.Latency{Mean: 0.004}}}}, "late-generator all caution"},
		"late against nothing":      {Observed{Summary: measure.Summary{IssueLag: &short, Total: measure.Figures{Latency: measure.Latency{Mean: 0.00002}}}}, ""},
		"late, but storage is slow": {Observed{Summary: measure.Summary{IssueLag: &lag, Total: measure.Figures{Latency: measure.Latency{Mean: 0.1}}}}, ""},
	} {
		c.observed.Load.Blocks = workload.Block(4 * quantity.KiB)
		got := ""
		for _, f := range Findings(c.observed) {
			got += f.Kind + " " + f.Figure + " " + string(f.Weight)
			if f.Sentence == "" || f.Next == "" || f.Evidence == nil {
				t.Errorf("%s: the finding lacks its sentence, next step or evidence: %+v", name, f)
			}
		}
		if got != c.want {
			t.Errorf("%s: found %q, want %q", name, got, c.want)
		}
	}
}
