package array

import (
	"fmt"
	"math"
	"time"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Setup is d as facts of a setup, with what each member can do alone by the
// same rules as the simulation.
func (d Description) Setup() setup.Setup {
	d = d.completed()
	var s setup.Setup
	know := func(key string, value any) { s.Know(key, value, setup.Simulated, time.Time{}) }
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
	if failed := d.failedFromStart(); failed > 0 {
		know("layout.missing", failed)
	}
	if l := d.Limits; l.Operations > 0 || l.Throughput > 0 {
		if l.Operations > 0 {
			know("volume.operations", l.Operations)
		}
		if l.Throughput > 0 {
			know("volume.throughput", l.Throughput)
		}
		if l.Burst > 0 {
			know("volume.burst", l.Burst)
		}
	}
	if d.Controller.Operations > 0 {
		know("controller.operations", d.Controller.Operations)
	}
	if d.Controller.Throughput > 0 {
		know("controller.throughput", d.Controller.Throughput)
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
		if c.Mode == WriteBack {
			know(at+"protected", yesNo(c.Protected))
		}
	}
	if t := d.Thin; t != nil {
		know("pool.unit", t.Unit)
		know("pool.size", asSold(d.Usable()))
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
	if t := d.Tier; t != nil {
		know("tier.size", asSold(t.usable()))
		know("tier.count", t.Members.Count)
		know("tier.level", t.form().Level)
	}
	if l := d.Link; l.Rate > 0 {
		know("link[0].rate", l.Rate)
		know("link[0].count", l.Count)
		if l.Hosts > 1 {
			know("link[0].hosts", l.Hosts)
		}
		if l.Count > 1 {
			know("link[0].combined", l.Combined)
		}
		know("link[0].mtuHere", l.MTU[0])
		know("link[0].mtuThere", l.MTU[1])
		know("link[0].roundTrip", l.RoundTrip)
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
		know("replication.mode", "synchronous")
		know("replication.kilometres", r.Kilometres)
		if r.Rate > 0 {
			know("replication.rate", r.Rate)
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
	if t := d.Tier; t != nil {
		layers = append(layers, setup.Layer{Kind: "tier", Name: "tier", Words: fmt.Sprintf("%s as %s of %d members", t.usable(), t.form().Level, t.Members.Count)})
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

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// know tells what one member can do alone. Of a drive that is slower than it should be a
// disk does everything more slowly, and any other only what its media do.
func (g Group) know(at string, know func(string, any)) {
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
		know(at+"buffer", segments*2*g.ReadAhead)
		if g.Shingled {
			know(at+"shingled", "yes")
		}
		if g.WriteCaching {
			know(at+"writeCache", "yes")
		}
		return
	}
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
		if g.Compresses { // how much of it depends on the content
			writes = max(writes, float64(g.Interface)/pageSize)
		}
		readRate, writeRate = wholeMegabytes(reads*pageSize), wholeMegabytes(writes*pageSize)
	}
	know(at+"randomReadRate", quantity.OpRate(math.Ceil(reads)))
	know(at+"randomWriteRate", quantity.OpRate(math.Ceil(writes)))
	know(at+"readRate", readRate)
	know(at+"writeRate", writeRate)
	know(at+"interface", g.Interface)
}
