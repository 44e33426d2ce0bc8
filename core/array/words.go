package array

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"patientheron/core/filesystem"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// Words says in sentences what the array is and what it survives.
func (d Description) Words() []string {
	d = d.completed()
	var words []string
	for _, g := range d.Members {
		words = append(words, g.words())
	}
	words = append(words, fmt.Sprintf("They form %s with chunks of %s and leave %s for data.", d.Layout.Level, d.Layout.Chunk, asSold(d.Usable())))
	if d.Layout.Stripe > 0 {
		words = append(words, d.Layout.spreadWords(len(d.expandedMembers())))
	}
	if groups := d.Layout.Groups; groups > 1 {
		words = append(words, fmt.Sprintf("They form %d groups of %d members, each with its own parity (%s).", groups, len(d.expandedMembers())/groups, map[Level]string{Parity: "RAID 50", DoubleParity: "RAID 60"}[d.Layout.Level]))
	}
	if l := d.Layout; l.HotSpares > 0 || l.RebuildRate > 0 {
		words = append(words, l.takeOverWords())
	}
	if s := d.Shelves; s.Count > 0 {
		words = append(words, s.words())
	}
	if l := d.Limits; l.any() {
		words = append(words, l.words())
	}
	if c := d.Controller; c.Count > 1 {
		words = append(words, fmt.Sprintf("There are %d controllers; number %d owns the volume. If it fails, another one takes over; I/O stops for %s.", c.Count, c.Owner, c.Takeover))
	}
	if rate := d.Controller.CopyRate; rate > 0 {
		words = append(words, fmt.Sprintf("The array copies data internally at %s (offloaded copies).", rate))
	}
	for _, c := range d.Caches {
		words = append(words, c.words())
	}
	if d.Thin != nil {
		words = append(words, d.thinWords()...)
	}
	words = append(words, d.tierWords()...)
	if l := d.Link; l.Rate > 0 {
		text := fmt.Sprintf("The link is %d × %s, with an MTU of %d here and %d there and a round trip of %s", l.Count, l.Rate, l.MTU[0], l.MTU[1], l.RoundTrip)
		if l.Count > 1 {
			text += fmt.Sprintf(", as a %s", l.Combined)
		}
		if l.Hosts > 1 {
			text += fmt.Sprintf(", from each of %d hosts", l.Hosts)
		}
		if l.Connections > 1 {
			text += fmt.Sprintf(", with %d TCP connections on each", l.Connections)
		}
		if l.Window > 0 {
			text += fmt.Sprintf(", with a TCP window of %s", l.Window)
		}
		if l.Loss > 0 {
			text += fmt.Sprintf(", losing %s of the segments", l.Loss)
		}
		if l.Slot > 0 {
			text += fmt.Sprintf(", through a slot of %s in each direction", l.Slot)
		}
		if l.OwnDisk > 0 {
			text += fmt.Sprintf(", from and to a disk of %s", l.OwnDisk)
		}
		words = append(words, text+".")
		if l.MTU[0] != l.MTU[1] {
			words = append(words, "The two ends of the link disagree about the MTU: both use the smaller one.")
		}
	}
	if r := d.Replica; r != nil {
		words = append(words, r.words())
	}
	for _, n := range d.Neighbours {
		words = append(words, n.words())
	}
	if m := d.PageCache.Completed(); d.PageCache != (pagecache.Settings{}) {
		words = append(words, fmt.Sprintf("Cached loads use %s of host memory as page cache, of which %s may be dirty.", m.Size, m.Dirty))
	}
	for _, f := range d.Faults {
		words = append(words, f.words(d))
	}
	if d.Controller.Count > 1 {
		if after := d.Setup().After(setup.AController); after.Survives == setup.Yes {
			words = append(words, "It survives the loss of a controller.")
		} else {
			words = append(words, "It does not survive the loss of a controller: "+after.Words+".")
		}
	}
	return append(words, d.survives())
}

// Assumed lists what the description does not say and what is taken for it, one
// sentence for each part.
func (d Description) Assumed() (words []string) {
	var said []string
	add := func(part string) {
		if len(said) > 0 {
			words = append(words, fmt.Sprintf("Assumed for %s: %s.", part, strings.Join(said, ", ")))
		}
		said = nil
	}
	note := func(isSaid bool, name string, value any) {
		if !isSaid {
			said = append(said, fmt.Sprintf("%s %v", name, value))
		}
	}
	groups := d.groups()
	for i, g := range groups {
		full := g.completed()
		switch g.Medium {
		case HardDisk:
			note(g.RPM > 0, "rpm", full.RPM)
			note(g.SeekTrack > 0, "seekTrack", full.SeekTrack)
			note(g.SeekAverage > 0, "seekAverage", full.SeekAverage)
			note(g.SeekFull > 0, "seekFull", full.SeekFull)
			note(g.OuterRate > 0, "outerRate", full.OuterRate)
			note(g.InnerRate > 0, "innerRate", full.InnerRate)
			note(g.Overhead > 0, "overhead", full.Overhead)
			note(g.Queue > 0, "queue", full.Queue)
			note(g.ReadAhead > 0, "readAhead", full.ReadAhead)
			note(g.WriteBuffer > 0 || !g.WriteCaching, "writeBuffer", full.WriteBuffer)
		case Flash:
			note(g.Dies > 0, "dies", full.Dies)
			note(g.ReadTime > 0, "readTime", full.ReadTime)
			note(g.ProgramTime > 0, "programTime", full.ProgramTime)
			note(g.EraseTime > 0, "eraseTime", full.EraseTime)
			note(g.FastProgram > 0 || g.FastRegion == 0, "fastProgram", full.FastProgram)
			note(g.OverProvision > 0, "overProvision", full.OverProvision)
			note(g.BlockPages > 0, "blockPages", full.BlockPages)
			note(g.Interface > 0, "interface", full.Interface)
			note(g.ChannelRate > 0 || g.Channels == 0, "channelRate", full.ChannelRate)
		case LowLatency:
			note(g.Units > 0, "units", full.Units)
			note(g.ReadTime > 0, "readTime", full.ReadTime)
			note(g.ProgramTime > 0, "programTime", full.ProgramTime)
			note(g.Interface > 0, "interface", full.Interface)
		}
		part := fmt.Sprintf("the %ss", g.Medium)
		if tier := i - len(d.Members); tier >= 0 {
			part += " of the " + setup.TierName(tier)
		}
		add(part)
	}
	full := d.completed()
	for i, c := range d.Caches {
		f := full.Caches[i]
		note(c.Block > 0, "block", f.Block)
		note(c.HitTime > 0, "hitTime", f.HitTime)
		note(c.Throughput > 0, "throughput", f.Throughput)
		note(c.DirtyLimit > 0 || c.Mode != WriteBack, "dirtyLimit", f.DirtyLimit)
		add(c.Name)
	}
	if m, f := d.PageCache, d.PageCache.Completed(); m != (pagecache.Settings{}) {
		note(m.Size > 0, "size", f.Size)
		note(m.Throughput > 0, "throughput", f.Throughput)
		note(m.Dirty > 0, "dirty", f.Dirty)
		note(m.Background > 0, "background", f.Background)
		note(m.Age > 0, "age", f.Age)
		note(m.Ahead > 0, "ahead", f.Ahead)
		add("the page cache")
	}
	if s, f := d.FileSystem, d.FileSystem.Completed(d.Size()); s != (filesystem.Settings{}) {
		note(s.Group > 0, "group", f.Group)
		note(s.Journal > 0, "journal", f.Journal)
		note(s.Commit > 0, "commit", f.Commit)
		note(s.Memory > 0, "memory", f.Memory)
		note(s.Call > 0, "call", f.Call)
		add("the file system")
	}
	return words
}

// groups are the groups of members, those of tiers included.
func (d Description) groups() []Group {
	groups := slices.Clone(d.Members)
	for _, t := range d.tiers() {
		groups = append(groups, t.Members)
	}
	return groups
}

// Costs says what simulating the array takes.
func (d Description) Costs() string {
	rate := 0.0
	for _, u := range d.Setup().Explained() {
		for _, h := range u.Hops {
			if h.Name == u.Limit {
				rate = max(rate, float64(h.Rate))
			}
		}
	}
	const each = 0.6e-6 // of a core, for an operation with its members' part
	return fmt.Sprintf("Simulating it needs up to %s of memory, and about %s of one core for a simulated second under its heaviest load.",
		d.Memory(), quantity.Seconds(max(rate*each, 1e-3)))
}

// Memory is about what the maps of SSDs, caches, a thin volume and the tier take when everything was
// used.
func (d Description) Memory() quantity.Bytes {
	full := d.completed()
	pages := 0.0
	groups := d.expandedMembers()
	for _, t := range d.tiers() {
		groups = append(groups, t.expandedMembers()...)
	}
	for _, g := range groups {
		if g.Medium == Flash {
			pages += float64(g.Capacity/pageSize) * (1 + float64(g.OverProvision))
		}
	}
	sum := 8 * pages / float64(d.flashScale())
	for _, c := range full.Caches {
		sum += float64(c.Size/c.Block) * (nodeSize + 3*8)
	}
	if d.Thin != nil {
		held := 4.0 // what was given back
		if d.Snapshots.Every > 0 || slices.ContainsFunc(d.Faults, func(f Fault) bool { return f.Kind == Snapshot }) {
			held += 24
		}
		sum += 12.5*float64(d.Size()/full.Thin.Unit) + held*float64(d.Usable()/full.Thin.Unit)
	}
	if t := d.Tier; t != nil {
		sum += float64(d.Usable()/cmp.Or(t.Extent, tierExtent)) * 13
	}
	return max(quantity.Bytes(sum), quantity.MiB)
}

func (g Group) words() string {
	full := g.completed()
	text := fmt.Sprintf("%d × %s of %s", g.Count, g.Medium, g.Capacity)
	switch g.Medium {
	case HardDisk:
		text += fmt.Sprintf(", %g rpm, %s average seek, %s on the outer and %s on the inner tracks", full.RPM, full.SeekAverage, full.OuterRate, full.InnerRate)
		if g.Shingled {
			text += fmt.Sprintf(", shingled in bands of %s, with a media cache of %s for writes that are not sequential", full.Band, full.Region)
		}
		if g.WriteCaching {
			text += fmt.Sprintf(", with a volatile write cache of %s", full.WriteBuffer)
		}
	case Flash:
		text += fmt.Sprintf(", %d dies, %s to read and %s to program a page, %s over-provisioned, interface %s", full.Dies, full.ReadTime, full.ProgramTime, full.OverProvision, full.Interface)
		if g.Channels > 0 {
			text += fmt.Sprintf(", behind %d channels of %s", full.Channels, full.ChannelRate)
		}
		if g.Cycles > 0 {
			text += fmt.Sprintf(", endurance %d program cycles", g.Cycles)
		}
		if g.Compresses {
			text += ", compressing written data"
		}
		if g.WriteCaching {
			text += ", with a volatile write cache"
		}
	case LowLatency:
		text += fmt.Sprintf(", %d operations at a time of %s each, interface %s", full.Units, full.ReadTime, full.Interface)
	}
	if g.Zone > 0 {
		text += fmt.Sprintf(", zoned in zones of %s", g.Zone)
		if g.OpenZones > 0 {
			text += fmt.Sprintf(", %d at a time", g.OpenZones)
		}
	}
	if full.Slow > 1 {
		text += fmt.Sprintf(", %g times slower than they should be", full.Slow)
	}
	return text + "."
}

func (l Layout) spreadWords(members int) string {
	text := fmt.Sprintf("Each stripe uses another %d of the %d members (declustered)", l.Stripe, members)
	if l.Spares > 0 {
		text += fmt.Sprintf("; the capacity of %d is distributed spare space, to rebuild failed members", l.Spares)
	}
	return text + "."
}

// takeOverWords say what happens by itself when a member fails.
func (l Layout) takeOverWords() string {
	rate := cmp.Or(l.RebuildRate, rebuildRate)
	if l.HotSpares == 0 {
		return fmt.Sprintf("A failed member is rebuilt automatically to spare space, at %s.", rate)
	}
	lies := "1 hot spare"
	if l.HotSpares > 1 {
		lies = fmt.Sprintf("%d hot spares", l.HotSpares)
	}
	return fmt.Sprintf("%s: a failed member is rebuilt to a spare automatically, at %s.", lies, rate)
}

func (s Shelves) words() string {
	text := fmt.Sprintf("They are in %d shelves, distributed %s", s.Count, cmp.Or(s.Dealt, InOrder))
	if s.Count == 1 {
		text = "They are in one shelf"
	}
	if s.Rate > 0 {
		text += fmt.Sprintf(", each with a link of %s in each direction", s.Rate)
		if s.Count == 1 {
			text = fmt.Sprintf("They are in one shelf, with a link of %s in each direction", s.Rate)
		}
	}
	return text + "."
}

func (l Limits) words() string {
	var most []string
	if l.Operations > 0 {
		most = append(most, l.Operations.String())
	}
	if l.Throughput > 0 {
		most = append(most, l.Throughput.String())
	}
	for _, one := range []struct {
		is   bool
		text string
	}{{l.Reads > 0, l.Reads.String() + " of reads"}, {l.ReadRate > 0, l.ReadRate.String() + " of reads"}, {l.Writes > 0, l.Writes.String() + " of writes"}, {l.WrittenRate > 0, l.WrittenRate.String() + " of writes"}} {
		if one.is {
			most = append(most, one.text)
		}
	}
	text := "The volume is limited (QoS) to " + strings.Join(most, " and ")
	if l.Burst > 0 {
		text += fmt.Sprintf(", with a burst of %s", l.Burst)
	}
	return text + "."
}

func (r Replica) words() string {
	if r.Mode != Asynchronous {
		return fmt.Sprintf("Every write is mirrored synchronously to a copy %g km away, which adds %s of signal time and %s of service.", r.Kilometres, quantity.Seconds(2*r.Kilometres*lightPerKilometre/1e9), r.Service)
	}
	text := fmt.Sprintf("Writes are replicated asynchronously to another array %g km away", r.Kilometres)
	if r.Rate > 0 {
		text += fmt.Sprintf(", over a line of %s", r.Rate)
	}
	if r.Journal > 0 {
		text += fmt.Sprintf("; writes stall when the journal of %s is full", r.Journal)
	}
	return text + ". Data that are not replicated yet are lost with this site."
}

func (d Description) thinWords() []string {
	text := fmt.Sprintf("Hosts see a thin volume of %s, allocated in units of %s at the first write", asSold(d.Size()), d.Thin.unit())
	if over := float64(d.Size()) / float64(d.Usable()); over > 1 {
		text += fmt.Sprintf("; that is %.1f × the capacity (over-committed), and writes fail when it is full", over)
	}
	words := append([]string{text + "."}, d.Thin.reductionWords()...)
	if d.Thin.Unzeroed {
		words = append(words, "Newly allocated units are not zeroed: hosts can read old data of the pool there.")
	}
	if s := d.Snapshots; s.Every > 0 {
		text := fmt.Sprintf("A snapshot is taken every %s", s.Every)
		if s.Keep > 0 {
			text += fmt.Sprintf(", and the last %d are kept", s.Keep)
		}
		words = append(words, text+"; a block of a snapshot is copied before it is overwritten (copy on write).")
	}
	return words
}

func (t Thin) reductionWords() []string {
	var what []string
	if t.Compresses {
		what = append(what, "compressed into pages of 4 KiB")
	}
	if t.Deduplicates {
		what = append(what, "deduplicated")
	}
	if len(what) == 0 {
		return nil
	}
	text := fmt.Sprintf("A unit is %s, and always written as a whole to a new place (log-structured)", strings.Join(what, " and "))
	if t.Throughput > 0 {
		text += fmt.Sprintf("; the processors reduce %s", t.Throughput)
	}
	if t.Index > 0 {
		text += fmt.Sprintf("; %s of the index are in memory, enough for %s of data; the rest is on the members", t.Index, t.Index/indexEntry*t.unit())
	}
	return []string{text + "."}
}

func (c Cache) words() string {
	text := fmt.Sprintf("Cache in front of them: %s, %s, %s", c.Name, c.Size, c.Mode)
	if c.ReadAhead > 0 {
		text += fmt.Sprintf(", reading %s ahead of sequential streams", c.ReadAhead)
	}
	if c.Fetch == FetchBlocks {
		text += fmt.Sprintf(", in blocks of %s", cmp.Or(c.Block, 64*quantity.KiB))
	}
	if c.Pinned > 0 {
		text += fmt.Sprintf(", with the first %s of the volume pinned", c.Pinned)
	}
	if c.Devices > 0 {
		text += fmt.Sprintf(", with an index of %s in the array's memory", c.Size/cmp.Or(c.Block, 64*quantity.KiB)*cmp.Or(c.Index, 64))
	}
	switch {
	case c.Mode != WriteBack:
	case c.Devices > 0 && c.Protected:
		text += fmt.Sprintf(", on %d devices, protected: dirty data survive a power cut and the loss of one device", c.Devices)
	case c.Devices > 0:
		text += fmt.Sprintf(", on %d devices, not protected: dirty data survive a power cut, but not the loss of a device", c.Devices)
	case c.Protected:
		text += ", protected: dirty data survive a power cut"
	case c.Log != nil:
		text += ", with a log of flushed data: a power cut loses dirty data that were not flushed"
	default:
		text += ", not protected: a power cut loses dirty data that were not flushed"
	}
	if c.Mirrored {
		text += ", mirrored to another controller"
	}
	text += "."
	if block := cmp.Or(c.Block, 64*quantity.KiB); c.Mode == WriteBack && block > smallWrite {
		text += fmt.Sprintf(" Up to %s of it may be dirty, in blocks of %s: random writes of %s reach that limit with 1/%d of the data.", cmp.Or(c.DirtyLimit, 0.5), block, smallWrite, int(block/smallWrite))
	}
	return text
}

// smallWrite is the size of a small write, as explanations have it.
const smallWrite = 4 * quantity.KiB

func (d Description) survives() string {
	var unsafe []string
	for _, c := range d.Caches {
		if c.Mode == WriteBack && !c.Protected && c.Devices == 0 {
			unsafe = append(unsafe, c.Name)
		}
	}
	if slices.ContainsFunc(d.groups(), func(g Group) bool { return g.WriteCaching }) {
		unsafe = append(unsafe, "the drives' write caches")
	}
	lost := "the loss of " + mayBeLost(d.Layout.Level, len(d.expandedMembers()))
	if groups := d.Layout.Groups; groups > 1 {
		lost += fmt.Sprintf(" of each of its %d groups", groups)
	}
	if spares := d.Layout.Spares + d.Layout.HotSpares; spares > 0 {
		lost += fmt.Sprintf(", and of %d more, one after each rebuild,", spares)
	}
	for i, t := range d.tiers() {
		lost += fmt.Sprintf(", of %s of the %s", mayBeLost(t.form().Level, t.Members.Count), setup.TierName(i))
	}
	if len(unsafe) == 0 {
		return fmt.Sprintf("It survives %s and a power cut.", lost)
	}
	return fmt.Sprintf("It survives %s, but not a power cut: %s would lose dirty data that were not flushed.", lost, strings.Join(unsafe, " and "))
}

// mayBeLost are the members of which a layout survives the loss.
func mayBeLost(level Level, total int) string {
	switch {
	case level == Parity, level == Mirror && total == 2:
		return "any one member"
	case level == DoubleParity:
		return "any two members"
	case level == MirrorStripe:
		return "one member of each pair"
	case level == Mirror:
		return fmt.Sprintf("any %d members", total-1)
	}
	return "no member"
}
