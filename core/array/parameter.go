package array

import (
	"fmt"
	"slices"

	"patientheron/core/setup"
)

// Parameter is a number of a description that a device has and hardly anybody knows: a rate, a
// time, how much of it works at a time. Capacities, counts and settings are none.
type Parameter struct {
	Key   string  // as an array file names it, such as members[0].seekAverage
	Label string  // for people
	Unit  string  // "seconds", "bytes per second", "per second", or "" for a whole number
	Value float64 // the default where the description says nothing
	Along []Along // other keys that change in proportion
}

// Along is a key that changes in proportion to another.
type Along struct {
	Key   string
	Times float64 // as much as the other
}

// The units of parameters.
const (
	InSeconds        = "seconds"
	InBytesPerSecond = "bytes per second"
	PerSecond        = "per second"
)

// Parameters are the parameters of all parts that a description has. What has no limit has no
// parameter: a description has to give it one first.
func (d Description) Parameters() (all []Parameter) {
	d = d.completed()
	add := func(key, label, unit string, value float64, along ...Along) {
		if value > 0 {
			all = append(all, Parameter{key, label, unit, value, along})
		}
	}
	if l := d.Link; l.Rate > 0 {
		add("link.rate", "rate of the link", InBytesPerSecond, float64(l.Rate))
		add("link.roundTrip", "round trip of the link", InSeconds, float64(l.RoundTrip))
		add("link.perOp", "CPU time of an operation on the link", InSeconds, float64(l.PerOp))
		add("link.perByte", "CPU time of a byte on the link", InSeconds, float64(l.PerByte))
	}
	add("controller.operations", "operations of the controller", PerSecond, float64(d.Controller.Operations))
	add("controller.throughput", "throughput of the controller", InBytesPerSecond, float64(d.Controller.Throughput))
	add("limits.operations", "operations allowed", PerSecond, float64(d.Limits.Operations))
	add("limits.throughput", "throughput allowed", InBytesPerSecond, float64(d.Limits.Throughput))
	add("limits.reads", "reads allowed", PerSecond, float64(d.Limits.Reads))
	add("limits.writes", "writes allowed", PerSecond, float64(d.Limits.Writes))
	add("limits.readRate", "throughput of reads allowed", InBytesPerSecond, float64(d.Limits.ReadRate))
	add("limits.writtenRate", "throughput of writes allowed", InBytesPerSecond, float64(d.Limits.WrittenRate))
	for i, c := range d.Caches {
		at, of := fmt.Sprintf("caches[%d].", i), " of the cache"
		if len(d.Caches) > 1 {
			of = fmt.Sprintf(" of cache %d", i+1)
		}
		add(at+"hitTime", "time of a hit"+of, InSeconds, float64(c.HitTime))
		add(at+"throughput", "throughput"+of, InBytesPerSecond, float64(c.Throughput))
	}
	for i, g := range d.Members {
		of := ""
		if len(d.Members) > 1 {
			of = fmt.Sprintf(" of group %d", i+1)
		}
		g.completed().parameters(fmt.Sprintf("members[%d].", i), of, add)
	}
	for i, t := range d.tiers() {
		t.Members.completed().parameters(tierAt(i)+".members.", " of the "+setup.TierName(i), add)
	}
	return all
}

// parameters are those of each member of a group. The seek times of a disk change together, as
// do the rates of its tracks.
func (g Group) parameters(at, of string, add func(key, label, unit string, value float64, along ...Along)) {
	switch g.Medium {
	case HardDisk:
		add(at+"seekAverage", "average seek"+of, InSeconds, float64(g.SeekAverage),
			Along{at + "seekTrack", float64(g.SeekTrack / g.SeekAverage)}, Along{at + "seekFull", float64(g.SeekFull / g.SeekAverage)})
		add(at+"outerRate", "rate of the outer tracks"+of, InBytesPerSecond, float64(g.OuterRate), Along{at + "innerRate", float64(g.InnerRate / g.OuterRate)})
		add(at+"overhead", "time of a command"+of, InSeconds, float64(g.Overhead))
		return
	case Flash:
		add(at+"dies", "dies"+of, "", float64(g.Dies))
	case LowLatency:
		add(at+"units", "operations at a time"+of, "", float64(g.Units))
	}
	add(at+"readTime", "time to read a page"+of, InSeconds, float64(g.ReadTime))
	if g.FastRegion > 0 && g.Medium == Flash {
		add(at+"fastProgram", "time to program a page of the fast region"+of, InSeconds, float64(g.FastProgram))
	}
	add(at+"programTime", "time to program a page"+of, InSeconds, float64(g.ProgramTime))
	add(at+"interface", "rate of the interface"+of, InBytesPerSecond, float64(g.Interface))
}

// Fills reports whether what an array does hangs on what it was asked for long before: whether
// it has caches, a tier, or members that collect what is written.
func (d Description) Fills() bool {
	collects := func(g Group) bool { return g.WriteCaching || g.Shingled || g.FastRegion > 0 }
	return len(d.Caches) > 0 || d.Tier != nil || d.Thin != nil || slices.ContainsFunc(d.Members, collects)
}
