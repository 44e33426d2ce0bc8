package array

import (
	"cmp"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"

	"patientheron/core/filesystem"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Setup is d as facts of a setup, with what each member can do alone by the
// same rules as the simulation.
func (d Description) Setup() setup.Setup {
	d = d.completed()
	var s setup.Setup
	know := func(key string, value any) { s.Know(key, value, setup.Simulated, time.Time{}) }
	some := someOf(know)
	for i, g := range d.Members {
		at := fmt.Sprintf("media[%d].", i)
		full := g.completed()
		know(at+"kind", g.Medium)
		know(at+"count", g.Count)
		know(at+"size", g.Capacity)
		full.know(at, know)
	}
	know("layout.level", d.Layout.Level)
	know("layout.chunk", d.Layout.Chunk)
	if d.Layout.Stripe > 0 {
		know("layout.stripe", d.Layout.Stripe)
		know("layout.spares", d.Layout.Spares)
	}
	if groups := d.Layout.Groups; groups > 1 {
		know("layout.groups", groups)
		know("layout.stripe", len(d.expandedMembers())/groups)
	}
	some("layout.hotSpares", d.Layout.HotSpares)
	if d.Layout.HotSpares > 0 || d.Layout.RebuildRate > 0 {
		know("layout.rebuildRate", cmp.Or(d.Layout.RebuildRate, rebuildRate))
	}
	if s := d.Shelves; s.Count > 0 {
		know("layout.shelves", s.Count)
		know("layout.shelved", cmp.Or(s.Dealt, InOrder))
		some("layout.shelfRate", s.Rate)
	}
	if failed := d.failedFromStart(); failed > 0 {
		know("layout.missing", failed)
	}
	if timetable := d.timetable(); timetable != "" {
		know("layout.faults", timetable)
	}
	some("volume.empty", float64(d.Empty))
	some("volume.operations", d.Limits.Operations)
	some("volume.throughput", d.Limits.Throughput)
	some("volume.reads", d.Limits.Reads)
	some("volume.writes", d.Limits.Writes)
	some("volume.readRate", d.Limits.ReadRate)
	some("volume.writtenRate", d.Limits.WrittenRate)
	some("volume.burst", d.Limits.Burst)
	if d.Controller.Operations > 0 {
		know("controller.operations", d.Controller.Operations)
	}
	if d.Controller.Throughput > 0 {
		know("controller.throughput", d.Controller.Throughput)
	}
	some("controller.copyRate", d.Controller.CopyRate)
	if c := d.Controller; c.Count > 0 {
		know("controller.count", c.Count)
		know("controller.owner", c.Owner)
		some("controller.takeover", c.Takeover)
		if slices.ContainsFunc(d.Caches, func(c Cache) bool { return c.Mirrored }) {
			know("controller.mirrorRate", c.MirrorRate)
			know("controller.mirrorTime", c.MirrorTime)
		}
	}
	for i, c := range d.Caches {
		at := fmt.Sprintf("cache[%d].", i)
		know(at+"name", c.Name)
		know(at+"mode", c.Mode)
		know(at+"size", c.Size)
		know(at+"throughput", c.Throughput)
		know(at+"hitTime", c.HitTime)
		if c.Bypass > 0 {
			know(at+"bypass", c.Bypass)
		}
		medium := "memory"
		if c.Devices > 0 {
			medium = "ssd"
			know(at+"devices", c.Devices)
		}
		know(at+"medium", medium)
		know(at+"block", c.Block)
		know(at+"fetch", cmp.Or(c.Fetch, FetchParts))
		some(at+"readAhead", c.ReadAhead)
		know(at+"dirtyLimit", float64(c.DirtyLimit))
		some(at+"pinned", c.Pinned)
		if c.Devices > 0 {
			know(at+"index", c.Index)
		}
		if c.Log != nil {
			know(at+"logThroughput", c.Log.Throughput)
			know(at+"logTime", c.Log.Time)
		}
		if c.Mode == WriteBack {
			know(at+"protected", yesNo(c.Protected))
			if d.Controller.Count > 0 && c.Devices == 0 {
				know(at+"mirrored", yesNo(c.Mirrored))
			}
		}
	}
	if t := d.Thin; t != nil {
		know("pool.unit", t.Unit)
		know("pool.size", asSold(d.Usable()))
		some("pool.offered", t.Size)
		if t.Unzeroed {
			know("pool.zeroing", "no")
		}
		if t.Compresses {
			know("pool.compresses", "yes")
		}
		if t.Deduplicates {
			know("pool.deduplicates", "yes")
		}
		if t.Throughput > 0 {
			know("pool.throughput", t.Throughput)
		}
		if t.Index > 0 {
			know("pool.index", t.Index)
		}
	}
	some("pool.snapshotEvery", d.Snapshots.Every)
	some("pool.snapshotsKept", d.Snapshots.Keep)
	d.tierFacts(know, some)
	if l := d.Link; l.Rate > 0 {
		know("link[0].rate", l.Rate)
		know("link[0].count", l.Count)
		if l.Hosts > 1 {
			know("link[0].hosts", l.Hosts)
		}
		if l.Count > 1 {
			know("link[0].combined", l.Combined)
			know("link[0].failover", l.FailOver)
		}
		know("link[0].mtuHere", l.MTU[0])
		know("link[0].mtuThere", l.MTU[1])
		know("link[0].roundTrip", l.RoundTrip)
		if l.Connections > 1 {
			know("transport.connections", l.Connections*l.Hosts*l.used())
		}
		some("link[0].window", l.Window)
		some("link[0].loss", float64(l.Loss))
		if l.Slot > 0 {
			know("link[0].slot", l.Slot)
		}
		if l.OwnDisk > 0 {
			know("link[0].ownDisk", l.OwnDisk)
		}
		if l.PerOp > 0 {
			know("transport.operationTime", l.PerOp)
		}
		if l.PerByte > 0 {
			know("transport.byteTime", l.PerByte)
		}
	}
	if r := d.Replica; r != nil {
		know("replication.mode", cmp.Or(r.Mode, Synchronous))
		know("replication.kilometres", r.Kilometres)
		if r.Rate > 0 {
			know("replication.rate", r.Rate)
		}
		some("replication.service", r.Service)
		some("replication.journal", r.Journal)
	}
	for i, n := range d.Neighbours {
		at := fmt.Sprintf("neighbour[%d].", i)
		know(at+"name", n.Name)
		know(at+"size", n.Size)
		some(at+"owner", n.Owner)
		know(at+"writes", float64(n.Writes))
		know(at+"block", n.Block)
		know(at+"order", n.Order)
		some(at+"depth", n.Depth)
		some(at+"rate", n.Rate)
		some(at+"at", n.At)
		some(at+"for", n.For)
	}
	// Of what every array has a usual value of, only another one is worth telling.
	usualFS, fs := filesystem.Settings{}.Completed(d.Size()), d.FileSystem.Completed(d.Size())
	usualCache, cache := pagecache.Settings{}.Completed(), d.PageCache.Completed()
	for _, f := range []struct {
		key         string
		usual, here any
	}{
		{"fileSystem.group", usualFS.Group, fs.Group}, {"fileSystem.journal", usualFS.Journal, fs.Journal}, {"fileSystem.commit", usualFS.Commit, fs.Commit},
		{"fileSystem.memory", usualFS.Memory, fs.Memory}, {"fileSystem.call", usualFS.Call, fs.Call},
		{"pageCache.size", usualCache.Size, cache.Size}, {"pageCache.throughput", usualCache.Throughput, cache.Throughput}, {"pageCache.dirty", float64(usualCache.Dirty), float64(cache.Dirty)},
		{"pageCache.background", float64(usualCache.Background), float64(cache.Background)}, {"pageCache.age", usualCache.Age, cache.Age}, {"pageCache.ahead", usualCache.Ahead, cache.Ahead},
	} {
		if f.usual != f.here {
			know(f.key, f.here)
		}
	}
	if price := d.TotalPrice(); price > 0 {
		know("cost.price", price)
	}
	return s
}

// Layers describes the way from the initiator down to the members.
func (d Description) Layers() setup.Layer {
	d = d.completed()
	var layers []setup.Layer
	if l := d.Link; l.Rate > 0 {
		layers = append(layers, setup.Layer{Kind: "link", Name: "link", Words: fmt.Sprintf("%d × %s, round trip %s", l.Count, l.Rate, l.RoundTrip)})
	}
	layers = append(layers, setup.Layer{Kind: "controller", Name: "controller", Words: "simulated"})
	for _, c := range d.Caches {
		layers = append(layers, setup.Layer{Kind: "cache", Name: c.Name, Words: fmt.Sprintf("%s, %s", c.Size, c.Mode)})
	}
	if t := d.Thin; t != nil {
		layers = append(layers, setup.Layer{Kind: "thin", Name: "thin volume", Words: fmt.Sprintf("%s in units of %s", asSold(d.Size()), t.Unit) + t.how()})
	}
	for i, t := range d.tiers() {
		layers = append(layers, setup.Layer{Kind: "tier", Name: setup.TierName(i), Words: fmt.Sprintf("%s as %s of %d members", t.usable(), t.form().Level, t.Members.Count)})
	}
	form := fmt.Sprintf("in chunks of %s", d.Layout.Chunk)
	if l := d.Layout; l.Stripe > 0 {
		form += fmt.Sprintf(", %d members a stripe, the room of %d kept free", l.Stripe, l.Spares)
	}
	bottom := setup.Layer{Kind: "raid", Name: string(d.Layout.Level), Words: form, Below: []setup.Layer{}}
	for _, g := range d.Members {
		bottom.Below = append(bottom.Below, setup.Layer{Kind: string(g.Medium), Name: fmt.Sprintf("%d members", g.Count), Words: fmt.Sprintf("%s each", g.Capacity), Below: []setup.Layer{}})
	}
	for i := len(layers) - 1; i >= 0; i-- {
		layers[i].Below = []setup.Layer{bottom}
		bottom = layers[i]
	}
	return bottom
}

// how says how a thin volume stores what is written.
func (t Thin) how() string {
	switch {
	case t.Compresses && t.Deduplicates:
		return ", compressed, and stored once"
	case t.Compresses:
		return ", compressed"
	case t.Deduplicates:
		return ", stored once"
	}
	return ""
}

// failedFromStart is the number of members that are gone before anything is
// measured.
func (d Description) failedFromStart() (n int) {
	for _, f := range d.Faults {
		if f.Kind == MemberFails && f.At == 0 {
			n++
		}
	}
	return n
}

// wholeMegabytes is a rate as a data sheet would give it.
func wholeMegabytes(rate float64) quantity.ByteRate {
	return quantity.ByteRate(math.Ceil(rate/1e6) * 1e6)
}

// asSold is a size as it was typed: what chunks and extents leave over at its end is
// not worth naming.
func asSold(size quantity.Bytes) quantity.Bytes {
	for _, unit := range []quantity.Bytes{1e12, 1e11, 1e10, 1e9, quantity.GiB, 1e8, quantity.MiB, 1e6} {
		if round := (size + unit/2) / unit * unit; round > 0 && max(round-size, size-round) < round/1000 {
			return round
		}
	}
	return size
}

// someOf keeps what is not zero: the rest is none of it.
func someOf(know func(string, any)) func(string, any) {
	return func(key string, value any) {
		if !reflect.ValueOf(value).IsZero() {
			know(key, value)
		}
	}
}

// timetable is what goes wrong and when, in a line; "" when nothing does. What is missing from
// the beginning is a fact of its own.
func (d Description) timetable() string {
	var all []string
	for _, f := range d.Faults {
		if f.Kind != MemberFails || f.At != 0 {
			all = append(all, f.fact())
		}
	}
	return strings.Join(all, "; ")
}

// fact is a fault in a line, by the keys that mean something for its kind: as it stands in an array
// file, so that keys of other kinds that come later change nothing.
func (f Fault) fact() string {
	text := fmt.Sprintf("%s at %s", f.Kind, f.At)
	for _, key := range keysOfFaults[f.Kind] {
		value := reflect.ValueOf(f).FieldByName(strings.ToUpper(key[:1]) + key[1:])
		if !value.IsZero() || key == "member" || key == "cache" || key == "path" || key == "shelf" || key == "controller" {
			text += fmt.Sprintf(", %s %v", key, value.Interface())
		}
	}
	return text
}

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// know tells what one member can do alone. Of a drive that is slower than it should be a
// disk does everything more slowly, and any other only what its media do.
func (g Group) know(at string, know func(string, any)) {
	some := someOf(know)
	some(at+"zone", g.Zone)
	if g.Zone > 0 {
		some(at+"openZones", g.OpenZones)
	}
	if g.Slow > 1 && g.Medium != HardDisk {
		g.ReadTime *= quantity.Seconds(g.Slow)
		g.ProgramTime *= quantity.Seconds(g.Slow)
		g.FastProgram *= quantity.Seconds(g.Slow)
	}
	if g.Medium == HardDisk {
		if g.Slow > 1 {
			know(at+"slow", g.Slow)
		}
		know(at+"rpm", g.RPM)
		know(at+"seekTrack", g.SeekTrack)
		know(at+"seekAverage", g.SeekAverage)
		know(at+"seekFull", g.SeekFull)
		know(at+"readRate", g.OuterRate)
		know(at+"innerRate", g.InnerRate)
		know(at+"overhead", g.Overhead)
		know(at+"queue", g.Queue)
		know(at+"buffer", segments*g.ReadAhead)
		if g.Shingled {
			know(at+"shingled", "yes")
			know(at+"band", g.Band)
			know(at+"region", g.Region)
		}
		if g.WriteCaching {
			know(at+"writeCache", "yes")
			know(at+"writeBuffer", g.WriteBuffer)
		}
		return
	}
	know(at+"readTime", g.ReadTime)
	know(at+"programTime", g.ProgramTime)
	reads, writes := float64(g.Units)/float64(g.ReadTime), float64(g.Units)/float64(g.ProgramTime)
	readRate, writeRate := g.Interface, g.Interface
	if g.Medium == Flash {
		program := g.ProgramTime
		if g.FastRegion > 0 {
			program = min(program, g.FastProgram)
		}
		reads, writes = float64(g.Dies)/float64(g.ReadTime), float64(g.Dies)/float64(program)
		if g.Channels > 0 {
			carried := float64(g.Channels) * float64(g.ChannelRate) / pageSize
			reads, writes = min(reads, carried), min(writes, carried)
			know(at+"channels", g.Channels)
			know(at+"channelRate", g.ChannelRate)
		}
		know(at+"dies", g.Dies)
		know(at+"eraseTime", g.EraseTime)
		know(at+"overProvision", float64(g.OverProvision))
		know(at+"blockPages", g.BlockPages)
		some(at+"cycles", g.Cycles)
		if g.FastRegion > 0 {
			know(at+"fastRegion", g.FastRegion)
			know(at+"fastProgram", g.FastProgram)
		}
		if g.Compresses {
			know(at+"compresses", "yes")
		}
		if g.WriteCaching {
			know(at+"writeCache", "yes")
		}
		if g.Compresses { // how much of it depends on the content
			writes = max(writes, float64(g.Interface)/pageSize)
		}
		readRate, writeRate = wholeMegabytes(reads*pageSize), wholeMegabytes(writes*pageSize)
	}
	if g.Medium == LowLatency {
		know(at+"units", g.Units)
	}
	know(at+"randomReadRate", quantity.OpRate(math.Ceil(reads)))
	know(at+"randomWriteRate", quantity.OpRate(math.Ceil(writes)))
	know(at+"readRate", readRate)
	know(at+"writeRate", writeRate)
	know(at+"interface", g.Interface)
}
