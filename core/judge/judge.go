// Package judge says what to believe of a measurement: pure functions from
// what was recorded to findings, each with its evidence and a next step.
//
// It reads no storage and knows no clock. So far it holds the rules that tell
// whether the figures are about the volume at all; each names its source.
package judge

import (
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
	"patientheron/core/workload"
)

// Weight is how much a finding matters.
type Weight string

// The weights. Unreliable marks the figure wherever it appears.
const (
	Info       Weight = "info"
	Caution    Weight = "caution"
	Unreliable Weight = "unreliable"
)

// Evidence is one number a finding rests on.
type Evidence struct {
	Name  string  `json:"name" doc:"What the number is, with its unit"`
	Value float64 `json:"value"`
}

// Finding is one observation about a measurement.
type Finding struct {
	Kind     string     `json:"kind" doc:"Stable name of the rule that found it"`
	Weight   Weight     `json:"weight" enum:"info,caution,unreliable"`
	Figure   string     `json:"figure" doc:"What it is about: reads, writes or all"`
	Sentence string     `json:"sentence" doc:"What was observed"`
	Next     string     `json:"next" doc:"What to do about it"`
	Evidence []Evidence `json:"evidence"`
}

// Observed is everything the rules may look at.
type Observed struct {
	Load    workload.Spec
	Summary measure.Summary
	Series  []measure.Interval
	Facts   *setup.Facts // of the volume; nil when it could not be looked at
}

// Findings applies all rules. The order is that of the rules, so that the same
// measurement always gives the same list.
func Findings(o Observed) []Finding {
	findings := []Finding{}
	for _, rule := range []func(Observed) []Finding{memoryFileSystem, silentlyBuffered, cachedOnPurpose, portableInterface, lateGenerator} {
		findings = append(findings, rule(o)...)
	}
	return findings
}

// honest is the share of the bytes that a device must have moved for the rule
// to believe that they came from it. Read-ahead and metadata only add to it.
const honest = 0.9

// silentlyBuffered compares what was moved with what the kernel's counters say
// the device moved (Documentation/block/stat of the kernel). Fewer bytes on the
// device than in the load mean that something between answered, although
// uncached access was asked for.
func silentlyBuffered(o Observed) (findings []Finding) {
	if o.Load.Cached {
		return nil
	}
	var reads, writes, deviceRead, deviceWritten float64
	counted := false
	for _, i := range o.Series {
		if i.LeadIn || i.Beside == nil || len(i.Beside.Devices) == 0 {
			continue
		}
		counted = true
		reads += float64(i.Reads.Bytes)
		writes += float64(i.Writes.Bytes)
		for _, d := range i.Beside.Devices {
			deviceRead += float64(d.Read) * float64(i.Length)
			deviceWritten += float64(d.Written) * float64(i.Length)
		}
	}
	if !counted {
		return nil
	}
	for _, side := range []struct {
		name, verb, cause string
		moved, device     float64
	}{
		{"reads", "read", "Memory on this host answered them.", reads, deviceRead},
		{"writes", "wrote", "They went into memory on this host, or were compressed before they reached it.", writes, deviceWritten},
	} {
		// Below a few blocks the edges of the intervals decide.
		if side.moved < 16*float64(o.Load.LargestBlock()) || side.device >= honest*side.moved {
			continue
		}
		findings = append(findings, Finding{
			Kind: "silently-buffered", Weight: Unreliable, Figure: side.name,
			Sentence: fmt.Sprintf("The load %s %s uncached, but the device moved only %s. %s",
				side.verb, quantity.Bytes(side.moved), quantity.Bytes(side.device), side.cause),
			Next:     nextForBuffered(o.Facts),
			Evidence: []Evidence{{"bytes of the load", side.moved}, {"bytes of the device", side.device}},
		})
	}
	return findings
}

func nextForBuffered(facts *setup.Facts) string {
	if facts != nil && facts.FileSystem == "btrfs" {
		return "This file system buffers files that it checksums or compresses. Measure in a folder made with 'chattr +C', or use a span far larger than this host's memory."
	}
	return "Use a span far larger than this host's memory, or measure the device itself."
}

// memoryFileSystem knows file systems that keep everything in memory
// (tmpfs(5)).
func memoryFileSystem(o Observed) []Finding {
	if o.Facts == nil || (o.Facts.FileSystem != "tmpfs" && o.Facts.FileSystem != "ramfs") {
		return nil
	}
	return []Finding{{
		Kind: "memory-file-system", Weight: Unreliable, Figure: "all",
		Sentence: fmt.Sprintf("The folder is on %s, which keeps files in memory. These figures are about memory, not storage.", o.Facts.FileSystem),
		Next:     "Name a folder on a file system that stands on a disk.",
		Evidence: []Evidence{},
	}}
}

// cachedOnPurpose reminds that a cached load measures the host's memory as long
// as the span fits into it.
func cachedOnPurpose(o Observed) []Finding {
	if !o.Load.Cached {
		return nil
	}
	var available quantity.Bytes
	for _, i := range o.Series {
		if i.Beside != nil {
			available = max(available, i.Beside.Available+i.Beside.PageCache)
		}
	}
	if available == 0 || o.Load.Span >= available {
		return nil
	}
	return []Finding{{
		Kind: "span-fits-memory", Weight: Unreliable, Figure: "all",
		Sentence: fmt.Sprintf("The load goes through the page cache, and its span of %s fits into the %s of memory this host can use for that.", o.Load.Span, available),
		Next:     fmt.Sprintf("Use a span over %s, or leave out --cached.", available),
		Evidence: []Evidence{{"span, bytes", float64(o.Load.Span)}, {"memory for caching, bytes", float64(available)}},
	}}
}

// portableInterface says that operations went through threads: each then costs
// more of the host.
func portableInterface(o Observed) []Finding {
	if o.Summary.Interface != "threads" {
		return nil
	}
	return []Finding{{
		Kind: "portable-interface", Weight: Caution, Figure: "all",
		Sentence: "This kernel refuses io_uring, so operations went through threads, which costs more CPU time for each.",
		Next:     "On fast devices allow io_uring for the service (sysctl kernel.io_uring_disabled), then measure again.",
		Evidence: []Evidence{},
	}}
}

// lateGenerator compares how late the generator itself was with the latency:
// above a tenth of it, the generator is in the way.
func lateGenerator(o Observed) []Finding {
	lag := o.Summary.IssueLag
	if lag == nil || o.Summary.Total.Latency.Mean <= 0 || *lag <= o.Summary.Total.Latency.Mean/10 || *lag < 100e-6 {
		return nil
	}
	return []Finding{{
		Kind: "late-generator", Weight: Caution, Figure: "all",
		Sentence: fmt.Sprintf("Operations were sent %s late on average although the volume was ready, against a mean latency of %s.", *lag, o.Summary.Total.Latency.Mean),
		Next:     "Use more workers or a lower rate; this host cannot keep the pace.",
		Evidence: []Evidence{{"issue lag, seconds", float64(*lag)}, {"mean latency, seconds", float64(o.Summary.Total.Latency.Mean)}},
	}}
}
