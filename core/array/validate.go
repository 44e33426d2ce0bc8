package array

import (
	"cmp"
	"errors"
	"fmt"
	"math"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by every error about an impossible array.
var ErrInvalid = errors.New("impossible array")

func wrong(field, format string, arguments ...any) error {
	return mistake.In(ErrInvalid, field, format, arguments...)
}

// fewest members of each layout.
var fewest = map[Level]int{Concatenation: 1, Stripe: 1, Mirror: 2, MirrorStripe: 4, Parity: 3, DoubleParity: 4}

// Validate reports the first thing about d that cannot be, as a *mistake.Error.
func (d Description) Validate() error {
	total := 0
	for i, g := range d.Members {
		if err := g.validate(fmt.Sprintf("members[%d]", i)); err != nil {
			return err
		}
		total += g.Count
	}
	if total > 256 {
		return wrong("members", "%d members; at most 256", total)
	}
	if !(d.Price >= 0) || math.IsInf(d.Price, 0) {
		return wrong("price", "%g; a number from 0", d.Price)
	}
	if !(d.Empty >= 0 && d.Empty <= 1) {
		return wrong("empty", "%g; a share from 0%% to 100%%", float64(d.Empty))
	}
	least, known := fewest[d.Layout.Level]
	switch {
	case !known:
		return wrong("layout.level", "%q; one of concatenation, raid0, raid1, raid10, raid5, raid6", d.Layout.Level)
	case total < least:
		return wrong("layout.level", "%s of %d members; it needs at least %d", d.Layout.Level, total, least)
	case d.Layout.Level == MirrorStripe && total%2 != 0:
		return wrong("layout.level", "raid10 of %d members; it needs an even number", total)
	case d.Layout.Chunk != 0 && (d.Layout.Chunk < 4096 || d.Layout.Chunk > 64*quantity.MiB || d.Layout.Chunk%4096 != 0):
		return wrong("layout.chunk", "%s; a multiple of 4 KiB up to 64 MiB", d.Layout.Chunk)
	}
	if err := d.Layout.validateSpread(total, least); err != nil {
		return err
	}
	if err := d.Layout.validateGroups(total, least); err != nil {
		return err
	}
	if err := d.Layout.validateHotSpares(); err != nil {
		return err
	}
	if err := d.Shelves.validate(total); err != nil {
		return err
	}
	if d.Usable() <= 0 {
		return wrong("layout.chunk", "no member of %s holds a chunk of %s: nothing is left for data; use smaller chunks", d.smallest(), cmp.Or(d.Layout.Chunk, 64*quantity.KiB))
	}
	if err := d.Controller.validate(); err != nil {
		return err
	}
	if l := d.Limits; !(l.Operations >= 0) || !(l.Throughput >= 0) || !(l.Burst >= 0) || l.Burst > 86400 {
		return wrong("limits", "%s, %s and a burst of %s; none negative, and a burst of at most a day", l.Operations, l.Throughput, l.Burst)
	}
	if l := d.Limits; !(l.Reads >= 0) || !(l.Writes >= 0) || !(l.ReadRate >= 0) || !(l.WrittenRate >= 0) {
		return wrong("limits", "%s of reads, %s of writes, %s read and %s written; none negative", l.Reads, l.Writes, l.ReadRate, l.WrittenRate)
	}
	if l := d.Limits; l.Burst > 0 && !l.any() {
		return wrong("limits.burst", "%s, but nothing is limited; add operations or throughput", l.Burst)
	}
	if len(d.Caches) > mostCaches {
		return wrong("caches", "%d of them, one behind the other; at most %d", len(d.Caches), mostCaches)
	}
	for i, c := range d.Caches {
		if err := c.validate(fmt.Sprintf("caches[%d]", i)); err != nil {
			return err
		}
		if c.Mirrored && (c.Devices > 0 || c.Mode != WriteBack || d.Controller.Count < 2) {
			return wrong(fmt.Sprintf("caches[%d].mirrored", i), "it is of write-back memory of one of several controllers, which another one holds as well; say mode: write-back, no devices, and controller: {count: 2}")
		}
	}
	if err := d.validateNeighbours(); err != nil {
		return err
	}
	if err := d.validateZones(); err != nil {
		return err
	}
	if err := d.validateThin(); err != nil {
		return err
	}
	if d.Tier != nil {
		if err := d.validateTier(); err != nil {
			return err
		}
	}
	if err := d.Link.validate(); err != nil {
		return err
	}
	if err := d.PageCache.Validate(); err != nil {
		return wrong("pageCache", "%v", err)
	}
	if err := d.FileSystem.Validate(); err != nil {
		return wrong("fileSystem", "%v", err)
	}
	if err := d.Replica.validate(); err != nil {
		return err
	}
	return d.validateFaults()
}

// mostChannels is how many channels an SSD may have.
const mostChannels = 1<<lineBits - 1

func (g Group) validate(at string) error {
	if g.Count < 1 || g.Count > 256 {
		return wrong(at+".count", "%d; from 1 to 256", g.Count)
	}
	if g.Medium != HardDisk && g.Medium != Flash && g.Medium != LowLatency {
		return wrong(at+".medium", "%q; one of hard disk, ssd, low-latency nvme", g.Medium)
	}
	if !(g.Price >= 0) || g.Price > 1e12 {
		return wrong(at+".price", "%g; of one member, from 0", g.Price)
	}
	if g.Capacity < quantity.MiB || g.Capacity > 1<<50 {
		return wrong(at+".capacity", "%s; from 1 MiB to 1 PiB", g.Capacity)
	}
	for _, v := range []struct {
		field string
		value float64
	}{
		{"rpm", g.RPM}, {"seekTrack", float64(g.SeekTrack)}, {"seekAverage", float64(g.SeekAverage)}, {"seekFull", float64(g.SeekFull)},
		{"outerRate", float64(g.OuterRate)}, {"innerRate", float64(g.InnerRate)}, {"overhead", float64(g.Overhead)}, {"readTime", float64(g.ReadTime)},
		{"programTime", float64(g.ProgramTime)}, {"eraseTime", float64(g.EraseTime)}, {"fastProgram", float64(g.FastProgram)}, {"channelRate", float64(g.ChannelRate)},
		{"interface", float64(g.Interface)}, {"slow", g.Slow},
	} {
		if !(v.value >= 0) || v.value > 1e15 {
			return wrong(at+"."+v.field, "%g; it is not negative and not absurd", v.value)
		}
	}
	if g.ReadAhead < 0 || g.ReadAhead > quantity.GiB || g.WriteBuffer < 0 || g.WriteBuffer > 64*quantity.GiB {
		return wrong(at+".readAhead", "%s, with a write buffer of %s; up to 1 GiB and 64 GiB, none negative", g.ReadAhead, g.WriteBuffer)
	}
	if g.Queue < 0 || g.Queue > 256 || g.Dies < 0 || g.Dies > 4096 || g.Units < 0 || g.Units > 256 || g.BlockPages < 0 || g.BlockPages > 1<<16 || g.FastRegion < 0 {
		return wrong(at, "queue up to 256, dies up to 4096, units up to 256, block pages up to 65536, none negative")
	}
	if !(g.OverProvision >= 0 && g.OverProvision <= 4) {
		return wrong(at+".overProvision", "%g; from 0%% to 400%%", float64(g.OverProvision))
	}
	switch full := g.completed(); {
	case g.Shingled && g.Medium != HardDisk:
		return wrong(at+".shingled", "only a hard disk is")
	case g.Shingled && g.WriteCaching:
		return wrong(at+".writeCaching", "a shingled disk has a region for what it cannot write in place, and no volatile cache here")
	case g.Shingled && (full.Band < quantity.MiB || full.Band > quantity.GiB):
		return wrong(at+".band", "%s; from 1 MiB to 1 GiB", full.Band)
	case g.Shingled && (full.Region < quantity.MiB || full.Region > g.Capacity/2):
		return wrong(at+".region", "%s; from 1 MiB to half of the disk", full.Region)
	case !g.Shingled && (g.Band != 0 || g.Region != 0):
		return wrong(at+".band", "only a shingled disk has bands and a region; add shingled: true")
	}
	switch full := g.completed(); {
	case (g.Channels != 0 || g.ChannelRate != 0) && g.Medium != Flash:
		return wrong(at+".channels", "only an ssd has channels here")
	case g.Channels < 0 || g.Channels > mostChannels || g.Channels > full.Dies:
		return wrong(at+".channels", "%d for %d dies; up to %d, and not more than dies", g.Channels, full.Dies, mostChannels)
	case g.Cycles < 0 || g.Cycles > 10_000_000 || g.Cycles > 0 && g.Medium != Flash:
		return wrong(at+".cycles", "%d; of an ssd, up to 10 000 000", g.Cycles)
	}
	if g.Compresses && g.Medium != Flash {
		return wrong(at+".compresses", "only an ssd does that")
	}
	full := g.completed()
	if g.Medium == HardDisk && !(full.SeekTrack <= full.SeekAverage && full.SeekAverage <= full.SeekFull) {
		return wrong(at+".seekAverage", "track, average and full seek of %s, %s and %s do not rise", full.SeekTrack, full.SeekAverage, full.SeekFull)
	}
	if g.Medium == HardDisk && full.InnerRate > full.OuterRate {
		return wrong(at+".innerRate", "%s is more than the outer tracks give (%s)", full.InnerRate, full.OuterRate)
	}
	return nil
}

// validateSpread makes sure that rows of all members are whole stripes and room that is
// kept free.
func (l Layout) validateSpread(members, least int) error {
	isParity := l.Level == Parity || l.Level == DoubleParity
	switch {
	case l.Stripe == 0 && l.Spares == 0:
	case l.Stripe < 0 || l.Spares < 0 || !isParity:
		return wrong("layout.stripe", "%d, and room of %d kept free; only raid5 and raid6 can be declustered", l.Stripe, l.Spares)
	case l.Stripe == 0:
		return wrong("layout.spares", "%d; room is kept free on all members where stripes have fewer: add stripe: how many each has", l.Spares)
	case l.Stripe < least:
		return wrong("layout.stripe", "%d members; a stripe of %s needs at least %d", l.Stripe, l.Level, least)
	case l.Spares >= members || (members-l.Spares)%l.Stripe != 0:
		return wrong("layout.stripe", "%d members less the room of %d are not a number of stripes of %d; choose stripe and spares so that they are", members, l.Spares, l.Stripe)
	case l.Stripe == members:
		return wrong("layout.stripe", "%d, which are all members; leave it out", l.Stripe)
	}
	return nil
}

// validateGroups makes sure that groups side by side are alike.
func (l Layout) validateGroups(members, least int) error {
	switch {
	case l.Groups == 0:
		return nil
	case l.Groups < 2 || l.Level != Parity && l.Level != DoubleParity:
		return wrong("layout.groups", "%d; from 2, of raid5 (which makes it RAID 50) and raid6 (RAID 60)", l.Groups)
	case l.Stripe > 0 || l.Spares > 0:
		return wrong("layout.groups", "of declustered parity each stripe lies on other members; leave out groups, or stripe and spares")
	case members%l.Groups != 0:
		return wrong("layout.groups", "%d members are not %d groups of as many", members, l.Groups)
	case members/l.Groups < least:
		return wrong("layout.groups", "%d members in %d groups; each group of %s needs at least %d", members, l.Groups, l.Level, least)
	}
	return nil
}

// validateHotSpares makes sure that what lies ready has something to be made anew from.
func (l Layout) validateHotSpares() error {
	switch {
	case l.HotSpares < 0 || l.HotSpares > 64:
		return wrong("layout.hotSpares", "%d; up to 64", l.HotSpares)
	case l.HotSpares > 0 && (l.Level == Stripe || l.Level == Concatenation):
		return wrong("layout.hotSpares", "%s keeps nothing that a member could be made anew from", l.Level)
	case l.HotSpares > 0 && l.Stripe > 0:
		return wrong("layout.hotSpares", "of declustered parity the room that is kept free takes over (spares); say rebuildRate for that to begin by itself")
	case !(l.RebuildRate >= 0):
		return wrong("layout.rebuildRate", "%s; how fast a member is made anew, such as 100MB/s", l.RebuildRate)
	case l.RebuildRate > 0 && l.HotSpares == 0 && l.Spares == 0:
		return wrong("layout.rebuildRate", "nothing lies ready to be made anew; add hotSpares: how many")
	}
	return nil
}

// validateZones makes sure that writes reach zones in the order in which they come.
func (d Description) validateZones() error {
	for i, g := range d.Members {
		at := fmt.Sprintf("members[%d].", i)
		switch chunk := cmp.Or(d.Layout.Chunk, 64*quantity.KiB); {
		case g.OpenZones < 0 || g.OpenZones > 0 && g.Zone == 0:
			return wrong(at+"openZones", "%d; a number of zones of a drive that has any", g.OpenZones)
		case g.Zone == 0:
			continue
		case g.Medium == LowLatency || g.Shingled || g.WriteCaching:
			return wrong(at+"zone", "zones that hosts manage are those of hard disks and ssds which manage nothing themselves")
		case g.Zone < quantity.MiB || g.Capacity%g.Zone != 0 || g.Zone%chunk != 0:
			return wrong(at+"zone", "%s; a part of the capacity of %s, and whole chunks of %s", g.Zone, g.Capacity, chunk)
		case d.Layout.Level != Concatenation:
			return wrong("layout.level", "%s writes at places that zones do not take; use concatenation", d.Layout.Level)
		case len(d.Caches) > 0 || d.Tier != nil || d.Thin != nil:
			return wrong("caches", "caches, tiers and thin volumes write in an order of their own, which zones do not take")
		}
	}
	return nil
}

// mostUnits is how many units a thin volume may have.
const mostUnits = 1 << 30

func (d Description) validateThin() error {
	s := d.Snapshots
	if !(s.Every >= 0) || s.Every > 86400 || s.Keep < 0 || s.Keep > 10_000 {
		return wrong("snapshots", "every %s, and %d kept; up to a day, and up to 10 000", s.Every, s.Keep)
	}
	if d.Thin == nil {
		if s != (Snapshots{}) {
			return wrong("snapshots", "only a thin volume has them; add thin: {unit: 1MiB}")
		}
		return nil
	}
	unit, size := d.Thin.unit(), d.Size()
	switch {
	case unit < 4096 || unit > quantity.GiB || unit%4096 != 0:
		return wrong("thin.unit", "%s; a multiple of 4 KiB up to 1 GiB", unit)
	case d.Thin.Size < 0 || size > 1<<50:
		return wrong("thin.size", "%s; up to 1 PiB, so say how large the volume is where there is more", size)
	case size/unit > mostUnits || d.Usable()/unit > mostUnits:
		return wrong("thin.unit", "%s in units of %s are %d units; at most %d are kept track of: use larger units", asSold(max(size, d.Usable())), unit, max(size, d.Usable())/unit, mostUnits)
	case d.Usable() < unit:
		return wrong("thin.unit", "%s; no unit fits into the %s that there are for data", unit, asSold(d.Usable()))
	case d.Thin.Unzeroed && d.Thin.reduces():
		return wrong("thin.zeroing", "a unit that is compressed or looked for is written whole in any case; leave it out")
	case d.Thin.Index > 0 && !d.Thin.Deduplicates:
		return wrong("thin.index", "tells what is there already, which only a volume asks that deduplicates; add deduplicates: true")
	case d.Thin.Throughput > 0 && !d.Thin.reduces():
		return wrong("thin.throughput", "is that of processors that reduce what is written; add compresses: true or deduplicates: true")
	case d.Thin.Compresses && unit < 2*pageSize:
		return wrong("thin.unit", "%s, which cannot become fewer pages of 4 KiB; compress units of 8 KiB or more", unit)
	case d.Thin.reduces() && unit > quantity.MiB:
		return wrong("thin.unit", "%s; what is compressed or looked for as one is at most 1 MiB", unit)
	case d.Thin.reduces() && d.Usable()/pageSize > math.MaxInt32:
		return wrong("thin", "there are %s for data; of a volume that reduces at most 8 TiB are kept track of", asSold(d.Usable()))
	case d.Thin.reduces() && quantity.Bytes(d.filled()) > d.Usable()/16*15:
		return wrong("empty", "%s hold data at first, which leaves too little of the %s that there are to write units elsewhere; say how much is empty", asSold(quantity.Bytes(d.filled())), asSold(d.Usable()))
	case (quantity.Bytes(d.filled())+unit-1)/unit > d.Usable()/unit:
		return wrong("empty", "%s of %s hold data at first, more than the %s that there are; say how much is empty", asSold(quantity.Bytes(d.filled())), asSold(size), asSold(d.Usable()))
	}
	return nil
}

func (c Cache) validate(at string) error {
	if c.Size < quantity.MiB || c.Size > 1<<46 {
		return wrong(at+".size", "%s; from 1 MiB to 64 TiB", c.Size)
	}
	if c.Block != 0 && (c.Block < 4096 || c.Block > c.Size || c.Block&(c.Block-1) != 0) {
		return wrong(at+".block", "%s; a power of two from 4 KiB up to the size of the cache", c.Block)
	}
	if blocks := c.Size / cmp.Or(c.Block, 64*quantity.KiB); blocks > 1<<26 {
		return wrong(at+".block", "%s in blocks of %s are %d blocks; at most 67 108 864 are kept track of: use larger blocks", c.Size, cmp.Or(c.Block, 64*quantity.KiB), blocks)
	}
	if c.Mode != ReadOnly && c.Mode != WriteBack && c.Mode != WriteThrough {
		return wrong(at+".mode", "%q; one of read-only, write-back, write-through", c.Mode)
	}
	if c.ReadAhead < 0 || c.ReadAhead > c.Size/8 || c.ReadAhead > 0 && c.ReadAhead < cmp.Or(c.Block, 64*quantity.KiB) {
		return wrong(at+".readAhead", "%s; from a block to an eighth of the cache", c.ReadAhead)
	}
	if c.Fetch != "" && c.Fetch != FetchParts && c.Fetch != FetchBlocks {
		return wrong(at+".fetch", "%q; parts or blocks", c.Fetch)
	}
	if room := quantity.Bytes(float64(c.Size) * float64(1-cmp.Or(c.DirtyLimit, 0.5))); c.Pinned < 0 || c.Pinned > c.Size/2 || c.Mode == WriteBack && c.Pinned > room {
		return wrong(at+".pinned", "%s; up to half of the cache, and to what may not be dirty of it", c.Pinned)
	}
	if l := c.Log; l != nil && (c.Mode != WriteBack || c.Protected || c.Devices > 0) {
		return wrong(at+".log", "what is dirty in %s needs none; a log is for write-back memory that is not protected", c.Name)
	} else if l != nil && (!(l.Throughput >= 0) || !(l.Time >= 0) || l.Time > 1) {
		return wrong(at+".log", "%s and %s for a flush; none negative, and at most a second", l.Throughput, l.Time)
	}
	if c.Index < 0 || c.Index > 64*quantity.KiB {
		return wrong(at+".index", "%s; up to 64 KiB for the entry of a block", c.Index)
	}
	if c.Mode == WriteBack && c.Protected && c.Devices == 1 {
		return wrong(at+".protected", "one device cannot protect what is dirty: when it fails, that is lost; use two, or mark it as not protected")
	}
	if !(c.HitTime >= 0) || c.HitTime > 1 || !(c.Throughput >= 0) || !(c.DirtyLimit >= 0 && c.DirtyLimit <= 1) || c.Bypass < 0 || c.Devices < 0 || c.Devices > 64 {
		return wrong(at, "hit time up to a second, dirty limit up to 100%%, up to 64 devices, none negative")
	}
	return nil
}
