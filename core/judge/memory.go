package judge

import (
	"fmt"
	"math"
	"slices"
	"strconv"

	"patientheron/core/claim"
	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// honest is the share of the bytes that a device must have moved for the rule
// to believe that they came from it. Read-ahead and metadata only add to it.
const honest = 0.9

var (
	readBuffered = says("silently-buffered: reads", Unreliable, movedLess,
		"The load read %s uncached, but the device transferred only %s. The rest came from memory of this host.")
	wroteBuffered = says("silently-buffered: writes", Unreliable, movedLess,
		"The load wrote %s uncached, but the device transferred only %s. The rest stayed in memory of this host, or was compressed on the way.")
	inMemory = says("memory-file-system", Unreliable, always,
		"The folder is on %s, which keeps files in memory. The figures are those of memory, not of storage.")
	unwrittenRead = says("never-written: reads", Unreliable, atLeast(leastUnwritten),
		"%s of the span was never written before: reads there are answered without the media.")
	unwrittenOnly = says("never-written: writes", Caution, atLeast(leastUnwritten),
		"%s of the span was never written before: the first write to each place also allocates it, later ones do not.")
	fitsMemory = says("span-fits-memory", Unreliable, fits,
		"The load goes through the page cache, and its span of %s fits into the %s of memory that this host can use for it.")
	hostAnswered = says("host-memory-answered", Unreliable, atLeast(mostlyHits),
		"The page cache of the host answered %s of the reads: the figures are those of memory, not of storage.")
	hostFilling = says("host-memory-filling", Unreliable, keeps(0),
		"%s of the %s written were still in the page cache of the host: the figures are those of memory, not of storage.")
	aboveIt = saysBy("above-ceiling", Unreliable, above, func(t []claim.Term) string {
		return aboveWords(t) + ". " + t[4].Shown
	})
	aboveBefore = saysBy("above-ceiling: of before", Caution, above, func(t []claim.Term) string {
		return aboveWords(t) + " before a change, " + t[4].Shown + " after the start."
	})
	cacheDid = says("cache-answered", Caution, func(t []claim.Term) bool { return t[1].Value >= mostlyHits },
		"%s answered %s of the reads: the figures are mostly those of the cache.")
	fitsCache = says("span-fits-cache", Caution, fits,
		"The span of %s fits into the %s of %s: once it is warm, the figures are those of the cache.")
	cacheFilling = says("still-filling", Caution, keeps(1),
		"%s still held %s of the %s written: it was filling, and the media took less than was measured.")
)

func movedLess(t []claim.Term) bool { return t[1].Value < honest*t[0].Value }

func fits(t []claim.Term) bool { return t[0].Value > 0 && t[0].Value <= t[1].Value }

// keeps needs what a cache kept at a place, and all that was written after it.
func keeps(at int) func([]claim.Term) bool {
	return func(t []claim.Term) bool {
		kept, written := t[at].Value, t[at+1].Value
		return written > 0 && kept >= mostlyKept*written && kept <= written
	}
}

// above needs what ran, its rate, the ceiling, whose it is, and what is said after that.
func above(t []claim.Term) bool {
	return len(t) == 5 && t[2].Value > 0 && t[1].Value > t[2].Value*(1+tolerance)
}

func aboveWords(t []claim.Term) string {
	return fmt.Sprintf("%s ran at %s, above the limit of %s of the hop %s", t[0].Shown, t[1].Shown, t[2].Shown, t[3].Shown)
}

// silentlyBuffered compares what was moved with what the kernel's counters say
// the device moved (Documentation/block/stat of the kernel). Fewer bytes on the
// device than in the load mean that something between answered, although
// uncached access was asked for.
func silentlyBuffered(o Observed) (findings []Finding) {
	if o.Load.Cached {
		return nil
	}
	var deviceRead, deviceWritten float64
	moved := map[measure.Class]float64{}
	counted := false
	for _, i := range o.Series {
		// With the warm-up: what was begun in it may be counted after it.
		devices := i.Devices()
		if len(devices) == 0 {
			continue
		}
		counted = true
		for class, flow := range i.Classes {
			moved[class] += float64(flow.Bytes)
		}
		for _, d := range devices {
			deviceRead += float64(d.ReadBytes)
			deviceWritten += float64(d.WrittenBytes)
		}
	}
	if !counted {
		return nil
	}
	for _, side := range []struct {
		class  measure.Class
		said   saying
		device float64
	}{{measure.Read, readBuffered, deviceRead}, {measure.Write, wroteBuffered, deviceWritten}} {
		moved := moved[side.class]
		reaches := moved // the device
		if side.class == measure.Read {
			reaches *= float64(1 - o.Summary.Unwritten)
		}
		// Below a few blocks the edges of the intervals decide.
		if moved < 16*float64(o.Load.LargestBlock()) || side.device >= honest*reaches {
			continue
		}
		findings = append(findings, side.said.of(side.class.String(), nextForBuffered(o.Facts),
			number("bytes of the load", quantity.Bytes(moved)), number("bytes of the device", quantity.Bytes(side.device)))...)
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
	return inMemory.of(everything, "Measure a folder on a file system that is on a disk.", named("file system", o.Facts.FileSystem))
}

// leastUnwritten is the share of a span from which on what was never written counts.
const leastUnwritten = 0.01

// neverWritten says that a part of the span was never written: reads of it find nothing, and are
// answered without the storage (lseek(2), SEEK_HOLE); writes there have to find room first.
func neverWritten(o Observed) []Finding {
	said, class := unwrittenRead, measure.Read
	if !slices.Contains(o.Load.Classes(), measure.Read) {
		said, class = unwrittenOnly, measure.Write
	}
	return said.of(class.String(), "Precondition the span (a stage with precondition), or measure a part that is written (--offset, --span).",
		number("share of the span that was never written", o.Summary.Unwritten))
}

// cachedOnPurpose reminds that a cached load measures the host's memory as long
// as the span fits into it.
func cachedOnPurpose(o Observed) []Finding {
	if !o.Load.Cached {
		return nil
	}
	if o.Summary.Interface == "simulated" {
		return simulatedMemory(o)
	}
	span := o.Load.Footprint()
	var available quantity.Bytes
	for _, i := range o.Series {
		for _, b := range i.Beside {
			available = max(available, b.Available) // which counts the page cache in
		}
	}
	if available == 0 || span >= available {
		return nil
	}
	return fitsMemory.of(everything, fmt.Sprintf("Use a span larger than %s, or leave out --cached.", available),
		number("span, bytes", span), number("memory for caching, bytes", available))
}

// simulatedMemory says by the counters of a simulated host that its memory answered, or took
// what was written.
func simulatedMemory(o Observed) (findings []Finding) {
	hits, grew, _ := answered(o.Series, "page cache")
	findings = append(findings, hostAnswered.of(everything, "Use a span much larger than that memory (pageCache.size in the array file), or leave out --cached.",
		number("hit rate", quantity.Share(hits)))...)
	written := o.Summary.Classes[measure.Write].Bytes
	return append(findings, hostFilling.of(everything, "Write longer (--steady), flush, or leave out --cached.",
		number("bytes that it kept", min(grew, written)), number("bytes written", written))...)
}

// tolerance is how far above a ceiling a rate may lie before it is impossible:
// formulas round, and rated figures are modest.
const tolerance = 0.10

// aboveCeiling finds rates that the path cannot carry: something nearer than
// the hop answered. What a cache, a tier or a thin volume answers, which reads nothing
// of what was never written, says nothing about the hops before it, so that then only
// those count. A load through this host's memory needs none of them. What the memory of a
// simulated host does to a load is in no formula, and it tells of itself.
func aboveCeiling(o Observed) []Finding {
	switch {
	case o.Load.Several(): // each of them by itself
		return nil
	case o.Load.Cached && o.Summary.Interface == "simulated":
		return nil
	}
	use := o.use()
	hops := o.Setup.Ceilings(use)
	inFront := o.Setup.Count("cache") > 0 || o.Setup.Text("tier.size") != "" || o.Setup.Text("pool.unit") != "" || o.Setup.Bytes("controller.memory") > 0
	rate := o.Summary.Total.Rate
	var lowest *setup.Hop
	for i, h := range hops {
		if h.Rate == 0 || inFront && h.Behind() || float64(rate) <= float64(h.Rate)*(1+tolerance) {
			continue
		}
		if lowest == nil || h.Rate < lowest.Rate {
			lowest = &hops[i]
		}
	}
	if lowest == nil {
		return nil
	}
	figure, verb := "all", "Operations"
	switch o.Load.Reads {
	case 1:
		figure, verb = measure.Read.String(), "Reads"
	case 0:
		figure, verb = measure.Write.String(), "Writes"
	}
	cause, next := "A nearer cache answered them, or the facts of this hop are wrong.", "Look at the volume again, and measure with a span larger than every cache on the path."
	if o.Load.Cached {
		cause, next = "Memory of this host answered them.", "Leave out --cached, or use a span far larger than this host's memory."
	}
	said, after := aboveIt, named("why that can be", cause)
	if len(o.Changed) > 0 { // the ceilings are those of what was looked at before
		said, after, next = aboveBefore, number("seconds until it was changed", o.Changed[0]), "Look at the volume as it is now, and measure again."
	}
	return said.of(figure, next, named("what ran", verb), Evidence{"operations a second", float64(rate), use.Show(rate)},
		Evidence{"ceiling, operations a second", float64(lowest.Rate), use.Show(lowest.Rate)}, named("hop", strconv.Quote(lowest.Name)), after)
}

// answered is how much of what was read each cache that tells of itself answered, and
// whether it took writes that it had not passed on at the end: bytes more than at the
// start.
func answered(series []measure.Interval, cache string) (hits float64, grew quantity.Bytes, known bool) {
	sum, weights := 0.0, 0.0
	first, last := math.NaN(), 0.0
	for _, i := range measured(series) {
		for _, c := range i.Inside {
			switch c.Name {
			case cache + " hit rate":
				w := max(c.Of, 1e-9) // told without what it is of by series of before
				sum, weights, known = sum+w*c.Value, weights+w, true
			case cache + " dirty":
				if last = c.Value; math.IsNaN(first) {
					first = c.Value
				}
			}
		}
	}
	if weights > 0 {
		hits = sum / weights
	}
	return hits, quantity.Bytes(max(last-first, 0)), known
}

// Shares from which on a cache counts as what was measured.
const (
	mostlyHits = 0.5
	mostlyKept = 0.25
)

// cacheAnswered says that a cache answered, and not the media: by its own counters
// where it has any, otherwise because the span fits into it, so that it ends up there
// however the load is issued.
func cacheAnswered(o Observed) (findings []Finding) {
	for i := range o.Setup.Count("cache") {
		at := fmt.Sprintf("cache[%d].", i)
		size, name := o.Setup.Bytes(at+"size"), o.Setup.Text(at+"name")
		hits, grew, known := answered(o.Series, name)
		if name == "" {
			name = setup.Part(at)
		}
		written := o.Summary.Classes[measure.Write].Bytes
		quoted := named("which", strconv.Quote(name))
		switch {
		case known && o.Load.Reads > 0:
			findings = append(findings, cacheDid.of(measure.Read.String(), fmt.Sprintf("To measure the media, use a span much larger than %s. To measure the cache, compare warm passes.", size),
				quoted, number("hit rate", quantity.Share(hits)))...)
		case !known:
			findings = append(findings, fitsCache.of(everything, fmt.Sprintf("To measure the media, use a span larger than %s. To measure the cache, use the later repeats.", size),
				number("span, bytes", o.Load.Span), number("cache, bytes", size), quoted)...)
		}
		if known {
			findings = append(findings, cacheFilling.of(measure.Write.String(), "If the use writes more than the cache holds, measure until it is full (--steady).",
				quoted, number("bytes that it kept", min(grew, written)), number("bytes written", written))...)
		}
	}
	return findings
}
