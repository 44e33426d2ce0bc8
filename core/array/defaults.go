package array

import (
	"cmp"
	"slices"

	"patientheron/core/mechanics"
	"patientheron/core/quantity"
)

// Usable is the capacity the layout leaves for data.
func (d Description) Usable() quantity.Bytes {
	d = d.completed()
	members := d.expandedMembers()
	smallest, sum := members[0].Capacity, quantity.Bytes(0)
	for _, m := range members {
		smallest = min(smallest, m.Capacity)
		sum += m.Capacity / d.Layout.Chunk * d.Layout.Chunk
	}
	smallest -= smallest % d.Layout.Chunk
	n := quantity.Bytes(len(members))
	switch d.Layout.Level {
	case Stripe:
		return smallest * n
	case Mirror:
		return smallest
	case MirrorStripe:
		return smallest * n / 2
	case Parity, DoubleParity:
		parity := quantity.Bytes(1)
		if d.Layout.Level == DoubleParity {
			parity = 2
		}
		if groups := quantity.Bytes(d.Layout.Groups); groups > 1 {
			return smallest * (n - groups*parity)
		}
		if columns := quantity.Bytes(d.Layout.Stripe); columns > 0 {
			return smallest * ((n - quantity.Bytes(d.Layout.Spares)) / columns) * (columns - parity)
		}
		return smallest * (n - parity)
	}
	return sum
}

// Size is what hosts see of the volume.
func (d Description) Size() quantity.Bytes {
	if d.Thin != nil && d.Thin.Size > 0 {
		return d.Thin.Size
	}
	if d.Thin != nil && d.Thin.reduces() {
		return d.Usable() / 16 * 15 / quantity.MiB * quantity.MiB
	}
	size := d.Usable()
	for _, n := range d.Neighbours {
		size -= n.Size
	}
	return size
}

// whole is the size of the volume and of those beside it.
func (d Description) whole() quantity.Bytes {
	size := d.Size()
	for _, n := range d.Neighbours {
		size += n.Size
	}
	return size
}

// filled is how much of the volume, from its beginning, holds data at first.
func (d Description) filled() int64 {
	if len(d.Neighbours) > 0 {
		return int64(d.Usable())
	}
	return int64(float64(d.Size()) * float64(1-d.Empty))
}

// smallest is the capacity of the smallest member.
func (d Description) smallest() quantity.Bytes {
	return slices.MinFunc(d.expandedMembers(), func(x, y Group) int { return cmp.Compare(x.Capacity, y.Capacity) }).Capacity
}

// completed replaces zero values by their defaults.
func (d Description) completed() Description {
	d.Layout.Chunk = cmp.Or(d.Layout.Chunk, 64*quantity.KiB)
	if c := &d.Controller; c.Count > 1 {
		c.Takeover = cmp.Or(c.Takeover, takeover)
		c.MirrorRate, c.MirrorTime = cmp.Or(c.MirrorRate, 4e9), cmp.Or(c.MirrorTime, 20e-6)
	}
	if d.Link.Rate > 0 {
		d.Link.Count = cmp.Or(d.Link.Count, 1)
		d.Link.Hosts = cmp.Or(d.Link.Hosts, 1)
		d.Link.Connections = cmp.Or(d.Link.Connections, 1)
		d.Link.FailOver = cmp.Or(d.Link.FailOver, 1)
		for i := range d.Link.MTU {
			d.Link.MTU[i] = cmp.Or(d.Link.MTU[i], 1500)
		}
		d.Link.Combined = cmp.Or(d.Link.Combined, Bundle)
	}
	if d.Thin != nil {
		full := *d.Thin
		full.Unit = full.unit()
		d.Thin = &full
	}
	d.Neighbours = slices.Clone(d.Neighbours)
	for i := range d.Neighbours {
		d.Neighbours[i] = d.Neighbours[i].completed()
	}
	d.Caches = slices.Clone(d.Caches)
	for i := range d.Caches {
		c := &d.Caches[i]
		c.Block = cmp.Or(c.Block, 64*quantity.KiB)
		hit, rate := quantity.Seconds(20e-6), quantity.ByteRate(5e9)
		if c.Devices > 0 {
			hit, rate = 90e-6, quantity.ByteRate(c.Devices)*500e6
		}
		c.HitTime = cmp.Or(c.HitTime, hit)
		c.Throughput = cmp.Or(c.Throughput, rate)
		c.DirtyLimit = cmp.Or(c.DirtyLimit, 0.5)
		c.Index = cmp.Or(c.Index, 64)
		if c.Log != nil {
			c.Log = &Log{cmp.Or(c.Log.Throughput, 500e6), cmp.Or(c.Log.Time, 90e-6)}
		}
	}
	return d
}

func (g Group) completed() Group {
	sheet := g.disk()
	g.RPM, g.SeekTrack, g.SeekAverage, g.SeekFull = sheet.RPM, sheet.SeekTrack, sheet.SeekAverage, sheet.SeekFull
	g.OuterRate, g.InnerRate, g.Overhead = sheet.OuterRate, sheet.InnerRate, sheet.Overhead
	g.Queue = cmp.Or(g.Queue, 32)
	g.ReadAhead = cmp.Or(g.ReadAhead, 4*quantity.MiB)
	g.WriteBuffer = cmp.Or(g.WriteBuffer, 64*quantity.MiB)
	g.Band = cmp.Or(g.Band, shingledBand)
	g.Region = cmp.Or(g.Region, max(g.Capacity/shingledShare, quantity.MiB))
	g.Dies = cmp.Or(g.Dies, 32)
	read, program, line := quantity.Seconds(70e-6), quantity.Seconds(600e-6), quantity.ByteRate(550e6)
	if g.Medium == LowLatency {
		read, program, line = 10e-6, 10e-6, 3.9e9
	}
	g.ReadTime = cmp.Or(g.ReadTime, read)
	g.ProgramTime = cmp.Or(g.ProgramTime, program)
	g.EraseTime = cmp.Or(g.EraseTime, 0.003)
	g.FastProgram = cmp.Or(g.FastProgram, 200e-6)
	g.OverProvision = cmp.Or(g.OverProvision, 0.07)
	g.BlockPages = cmp.Or(g.BlockPages, 256)
	if g.Channels > 0 {
		g.ChannelRate = cmp.Or(g.ChannelRate, 1.2e9)
	}
	g.Interface = cmp.Or(g.Interface, line)
	g.Units = cmp.Or(g.Units, 8)
	g.Slow = cmp.Or(g.Slow, 1)
	return g
}

// disk is the data sheet of a group of hard disks.
func (g Group) disk() mechanics.Disk {
	return mechanics.Disk{
		Capacity: g.Capacity, RPM: g.RPM, SeekTrack: g.SeekTrack, SeekAverage: g.SeekAverage, SeekFull: g.SeekFull,
		OuterRate: g.OuterRate, InnerRate: g.InnerRate, Overhead: g.Overhead,
	}.Completed()
}

// Kinds are members of which no two are alike, by their numbers: the first of each group, and of
// each tier, whose members come after the others.
func (d Description) Kinds() (numbers []int) {
	next := 0
	for i, g := range d.Members {
		like := func(o Group) bool { o.Count = g.Count; return o == g }
		if !slices.ContainsFunc(d.Members[:i], like) {
			numbers = append(numbers, next)
		}
		next += g.Count
	}
	for _, t := range d.tiers() {
		numbers = append(numbers, next)
		next += t.Members.Count
	}
	return numbers
}

func (d Description) expandedMembers() (all []Group) {
	for _, g := range d.Members {
		for range g.Count {
			all = append(all, g.completed())
		}
	}
	return all
}
