package array

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by every error about an impossible array.
var ErrInvalid = errors.New("impossible array")

// Medium is a kind of storage device.
type Medium string

// The media.
const (
	HardDisk   Medium = "hard disk"
	Flash      Medium = "ssd"
	LowLatency Medium = "low-latency nvme"
)

// Level is how members are laid out.
type Level string

// The layouts.
const (
	Concatenation Level = "concatenation"
	Stripe        Level = "raid0"
	Mirror        Level = "raid1"
	MirrorStripe  Level = "raid10"
	Parity        Level = "raid5"
	DoubleParity  Level = "raid6"
)

// Description says what is simulated. Zero values take defaults.
type Description struct {
	Name       string
	Members    []Group
	Layout     Layout
	Controller Controller
	Caches     []Cache // in the order in which an operation meets them
	Tier       *Tier   // faster members for what is used most
	Link       Link    // none when its rate is zero
	Replica    *Replica
	Faults     []Fault
	Price      float64 // invented currency
}

// Group is a number of like members.
type Group struct {
	Count    int
	Medium   Medium
	Capacity quantity.Bytes

	// Of a hard disk.
	RPM          float64          // turns a minute; default 7200
	SeekTrack    quantity.Seconds // to the neighbouring track; default 0.8 ms
	SeekAverage  quantity.Seconds // over random places; default 8.5 ms
	SeekFull     quantity.Seconds // across the disk; default 18 ms
	OuterRate    quantity.ByteRate
	InnerRate    quantity.ByteRate
	Overhead     quantity.Seconds // of each command; default 0.1 ms
	Queue        int              // commands it orders by position; default 32
	WriteCaching bool             // volatile: a flush has to wait for it

	// Of an SSD.
	Dies          int              // working in parallel; default 32
	ReadTime      quantity.Seconds // of one 4 KiB page; default 70 µs (low-latency: 10 µs)
	ProgramTime   quantity.Seconds // default 600 µs
	EraseTime     quantity.Seconds // of one block; default 3 ms
	FastRegion    quantity.Bytes   // written at FastProgram until it is full
	FastProgram   quantity.Seconds // default 200 µs
	OverProvision quantity.Share   // physical beyond logical capacity, as a share of the latter; default 7 %
	BlockPages    int              // pages of one block; default 256
	Interface     quantity.ByteRate
	Units         int // operations a low-latency drive serves at a time; default 8

	Slow float64 // this many times slower than it should be; 0 means 1
}

// Layout is how members form one volume.
type Layout struct {
	Level Level
	Chunk quantity.Bytes // default 64 KiB
}

// Controller is what every operation passes.
type Controller struct {
	Operations quantity.OpRate   // at most; 0 for no limit
	Throughput quantity.ByteRate // at most; 0 for no limit
}

// CacheMode is what a cache does with writes.
type CacheMode string

// The cache modes.
const (
	ReadOnly     CacheMode = "read-only"
	WriteBack    CacheMode = "write-back"
	WriteThrough CacheMode = "write-through"
)

// Cache is memory or SSDs in front of the members.
type Cache struct {
	Name       string
	Size       quantity.Bytes
	Block      quantity.Bytes // default 64 KiB
	Mode       CacheMode
	Protected  bool              // by a battery or a mirror: loses nothing without power
	HitTime    quantity.Seconds  // default 20 µs
	Throughput quantity.ByteRate // default 5 GB/s
	DirtyLimit quantity.Share    // of its size that may be dirty; default 50 %
	Bypass     quantity.Bytes    // operations of at least this size go past it; 0 for none
	Devices    int               // SSDs it is made of; 0 for memory
}

// Tier is faster members that hold what is used most, moved there and back by
// extents. New data lands there while it has room.
type Tier struct {
	Members Group
	Level   Level             // default raid1 of two members, raid10 of more
	Extent  quantity.Bytes    // default 64 MiB
	Every   quantity.Seconds  // how often what is hot is looked for; default 10 s
	Rate    quantity.ByteRate // of moving; default 100 MB/s
}

// form is how the tier's members are laid out.
func (t Tier) form() Layout {
	level := t.Level
	if level == "" {
		level = MirrorStripe
		if t.Members.Count < 4 {
			level = Mirror
		}
	}
	return Layout{Level: level, Chunk: 64 * quantity.KiB}
}

func (t Tier) expandedMembers() []Group {
	return Description{Members: []Group{t.Members}}.expandedMembers()
}

// usable is the capacity of the tier for data.
func (t Tier) usable() quantity.Bytes {
	return Description{Members: []Group{t.Members}, Layout: t.form()}.Usable()
}

// Combined is how several links work together.
type Combined string

// Ways to combine links.
const (
	Bundle    Combined = "hashed bundle" // one flow stays on one link
	Multipath Combined = "multipath"     // operations go round all links
)

// Link is the way from the initiator to the array.
type Link struct {
	Rate      quantity.ByteRate // of the line, after its coding
	MTU       [2]int            // at the two ends; default 1500
	RoundTrip quantity.Seconds
	Count     int // default 1
	Combined  Combined
	PerByte   quantity.Seconds // CPU time of the transport for each byte, one core for each connection
	PerOp     quantity.Seconds // and for each operation
}

// Replica is a far array that must have every write before it counts.
type Replica struct {
	Kilometres float64
	Service    quantity.Seconds  // of a write over there
	Rate       quantity.ByteRate // of the line between; 0 for no limit
}

// FaultKind is what goes wrong.
type FaultKind string

// The faults.
const (
	MemberFails  FaultKind = "member fails"
	MemberSlows  FaultKind = "member slows"
	RebuildBegin FaultKind = "rebuild"
	PowerCut     FaultKind = "power cut" // and back at once
)

// Fault strikes at a time.
type Fault struct {
	Kind   FaultKind
	At     quantity.Seconds
	Member int               // from 0
	Factor float64           // of a member that slows
	Rate   quantity.ByteRate // of a rebuild
}

// FieldError says which part of a description cannot be and why.
type FieldError struct {
	Field  string // as in an array file: "layout.level", "members[0].count"
	Reason string
}

func (e *FieldError) Error() string { return fmt.Sprintf("%v: %s: %s", ErrInvalid, e.Field, e.Reason) }

// Unwrap makes errors.Is(err, ErrInvalid) true.
func (e *FieldError) Unwrap() error { return ErrInvalid }

func wrong(field, format string, arguments ...any) error {
	return &FieldError{Field: field, Reason: fmt.Sprintf(format, arguments...)}
}

// fewest members of each layout.
var fewest = map[Level]int{Concatenation: 1, Stripe: 1, Mirror: 2, MirrorStripe: 4, Parity: 3, DoubleParity: 4}

// Validate reports the first thing about d that cannot be, as a *FieldError.
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
	if !(d.Controller.Operations >= 0) || !(d.Controller.Throughput >= 0) {
		return wrong("controller", "its limits cannot be negative; leave them out for none")
	}
	for i, c := range d.Caches {
		if err := c.validate(fmt.Sprintf("caches[%d]", i)); err != nil {
			return err
		}
	}
	if d.Tier != nil {
		if err := d.validateTier(); err != nil {
			return err
		}
		total += d.Tier.Members.Count
	}
	if err := d.Link.validate(); err != nil {
		return err
	}
	if r := d.Replica; r != nil && (!(r.Kilometres >= 0) || r.Kilometres > 40_000 || !(r.Service >= 0) || !(r.Rate >= 0)) {
		return wrong("replica", "%g km with a service time of %s; distance and times are not negative, and the earth is 40 000 km around", r.Kilometres, r.Service)
	}
	return d.validateFaults(total)
}

func (g Group) validate(at string) error {
	if g.Count < 1 || g.Count > 256 {
		return wrong(at+".count", "%d; from 1 to 256", g.Count)
	}
	if g.Medium != HardDisk && g.Medium != Flash && g.Medium != LowLatency {
		return wrong(at+".medium", "%q; one of hard disk, ssd, low-latency nvme", g.Medium)
	}
	if g.Capacity < quantity.MiB || g.Capacity > 1<<50 {
		return wrong(at+".capacity", "%s; from 1 MiB to 1 PiB", g.Capacity)
	}
	for field, value := range map[string]float64{
		"rpm": g.RPM, "seekTrack": float64(g.SeekTrack), "seekAverage": float64(g.SeekAverage), "seekFull": float64(g.SeekFull),
		"outerRate": float64(g.OuterRate), "innerRate": float64(g.InnerRate), "overhead": float64(g.Overhead),
		"readTime": float64(g.ReadTime), "programTime": float64(g.ProgramTime), "eraseTime": float64(g.EraseTime),
		"fastProgram": float64(g.FastProgram), "interface": float64(g.Interface), "slow": g.Slow,
	} {
		if !(value >= 0) || value > 1e15 {
			return wrong(at+"."+field, "%g; it is not negative and not absurd", value)
		}
	}
	if g.Queue < 0 || g.Queue > 256 || g.Dies < 0 || g.Dies > 4096 || g.Units < 0 || g.Units > 256 || g.BlockPages < 0 || g.BlockPages > 1<<16 || g.FastRegion < 0 {
		return wrong(at, "queue up to 256, dies up to 4096, units up to 256, block pages up to 65536, none negative")
	}
	if !(g.OverProvision >= 0 && g.OverProvision <= 4) {
		return wrong(at+".overProvision", "%g; from 0%% to 400%%", float64(g.OverProvision))
	}
	full := g.completed()
	if pages := float64(g.Capacity/pageSize) * (1 + float64(full.OverProvision)); g.Medium == Flash && pages+float64(3*full.BlockPages) > 1<<31 {
		return wrong(at+".capacity", "%s with %s of over-provision; the page map of an SSD reaches to 8 TiB of physical pages: use more members", g.Capacity, full.OverProvision)
	}
	if g.Medium == HardDisk && !(full.SeekTrack <= full.SeekAverage && full.SeekAverage <= full.SeekFull) {
		return wrong(at+".seekAverage", "track, average and full seek of %s, %s and %s do not rise", full.SeekTrack, full.SeekAverage, full.SeekFull)
	}
	if g.Medium == HardDisk && full.InnerRate > full.OuterRate {
		return wrong(at+".innerRate", "%s is more than the outer tracks give (%s)", full.InnerRate, full.OuterRate)
	}
	return nil
}

// validateTier also makes sure that the tier can be taken away again: the slow
// members must have room for all that it holds.
func (d Description) validateTier() error {
	t := d.Tier
	if err := t.Members.validate("tier.members"); err != nil {
		return err
	}
	form := t.form()
	switch least, known := fewest[form.Level]; {
	case !known:
		return wrong("tier.level", "%q; one of concatenation, raid0, raid1, raid10, raid5, raid6", t.Level)
	case form.Level == Stripe || form.Level == Concatenation || t.Members.Count < 2:
		return wrong("tier.level", "%s of %d members has no redundancy, and a tier holds the only copy of its data; use raid1 of two", form.Level, t.Members.Count)
	case t.Members.Count < least || form.Level == MirrorStripe && t.Members.Count%2 != 0:
		return wrong("tier.level", "%s of %d members; it needs at least %d, and raid10 an even number", form.Level, t.Members.Count, least)
	case t.Extent != 0 && (t.Extent < quantity.MiB || t.Extent > quantity.GiB || t.Extent%quantity.MiB != 0):
		return wrong("tier.extent", "%s; whole MiB, from 1 MiB to 1 GiB", t.Extent)
	case !(t.Every >= 0) || t.Every > 86400 || !(t.Rate >= 0):
		return wrong("tier", "it looks at most once a day, and moves at a rate that is not negative")
	}
	if extents := d.Usable() / cmp.Or(t.Extent, tierExtent); extents > 1<<24 {
		return wrong("tier.extent", "%s in extents of %s are %d extents; at most 16 777 216 are kept track of: use larger extents", d.Usable(), cmp.Or(t.Extent, tierExtent), extents)
	}
	if fast, slow := t.usable(), d.Usable(); fast > slow {
		return wrong("tier", "it holds %s, more than the %s of the members below: it could never be drained to be taken away; use a smaller tier", fast, slow)
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
	if c.Mode == WriteBack && c.Protected && c.Devices == 1 {
		return wrong(at+".protected", "one device cannot protect what is dirty: when it fails, that is lost; use two, or mark it as not protected")
	}
	if !(c.HitTime >= 0) || c.HitTime > 1 || !(c.Throughput >= 0) || !(c.DirtyLimit >= 0 && c.DirtyLimit <= 1) || c.Bypass < 0 || c.Devices < 0 || c.Devices > 64 {
		return wrong(at, "hit time up to a second, dirty limit up to 100%%, up to 64 devices, none negative")
	}
	return nil
}

func (l Link) validate() error {
	if !(l.Rate >= 0) || !(l.RoundTrip >= 0) || l.RoundTrip > 10 || l.Count < 0 || l.Count > 16 || !(l.PerByte >= 0) || l.PerByte > 1e-3 || !(l.PerOp >= 0) || l.PerOp > 1 {
		return wrong("link", "a rate, a round trip up to 10 s, up to 16 links, none negative")
	}
	if l.Rate == 0 && (l.Count > 0 || l.RoundTrip > 0 || l.MTU != [2]int{}) {
		return wrong("link.rate", "is missing; say what the line carries, such as 125MB/s for one gigabit")
	}
	for _, mtu := range l.MTU {
		if mtu != 0 && (mtu < 576 || mtu > 65535) {
			return wrong("link.mtu", "%d; from 576 to 65535", mtu)
		}
	}
	if !slices.Contains([]Combined{"", Bundle, Multipath}, l.Combined) {
		return wrong("link.combined", "%q; hashed bundle or multipath", l.Combined)
	}
	return nil
}

func (d Description) validateFaults(members int) error {
	for i, f := range d.Faults {
		at := fmt.Sprintf("faults[%d]", i)
		if !(f.At >= 0) || f.At > 86400 {
			return wrong(at+".at", "%g s; within a day", float64(f.At))
		}
		if f.Member < 0 || f.Member >= members {
			return wrong(at+".member", "%d; the array has members 0 to %d", f.Member, members-1)
		}
		switch f.Kind {
		case MemberFails, PowerCut:
		case MemberSlows:
			if !(f.Factor >= 1 && f.Factor <= 1e6) {
				return wrong(at+".factor", "%g; how many times slower, from 1", f.Factor)
			}
		case RebuildBegin:
			if !(f.Rate > 0) {
				return wrong(at+".rate", "is missing; say how fast the rebuild goes, such as 50MB/s")
			}
		default:
			return wrong(at+".kind", "%q; one of member fails, member slows, rebuild, power cut", f.Kind)
		}
	}
	return nil
}

// Usable is the capacity the layout leaves for data.
func (d Description) Usable() quantity.Bytes {
	d = d.completed()
	members := d.expandedMembers()
	smallest, sum := members[0].Capacity, quantity.Bytes(0)
	for _, m := range members {
		smallest = min(smallest, m.Capacity)
		sum += m.Capacity
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
	case Parity:
		return smallest * (n - 1)
	case DoubleParity:
		return smallest * (n - 2)
	}
	return sum
}

// completed replaces zero values by their defaults.
func (d Description) completed() Description {
	d.Layout.Chunk = cmp.Or(d.Layout.Chunk, 64*quantity.KiB)
	if d.Link.Rate > 0 {
		d.Link.Count = cmp.Or(d.Link.Count, 1)
		for i := range d.Link.MTU {
			d.Link.MTU[i] = cmp.Or(d.Link.MTU[i], 1500)
		}
		d.Link.Combined = cmp.Or(d.Link.Combined, Bundle)
	}
	d.Caches = slices.Clone(d.Caches)
	for i := range d.Caches {
		c := &d.Caches[i]
		c.Block = cmp.Or(c.Block, 64*quantity.KiB)
		c.HitTime = cmp.Or(c.HitTime, 20e-6)
		c.Throughput = cmp.Or(c.Throughput, 5e9)
		c.DirtyLimit = cmp.Or(c.DirtyLimit, 0.5)
	}
	return d
}

func (g Group) completed() Group {
	g.RPM = cmp.Or(g.RPM, 7200)
	g.SeekTrack = cmp.Or(g.SeekTrack, 0.0008)
	g.SeekAverage = cmp.Or(g.SeekAverage, 0.0085)
	g.SeekFull = cmp.Or(g.SeekFull, 0.018)
	g.OuterRate = cmp.Or(g.OuterRate, 220e6)
	g.InnerRate = cmp.Or(g.InnerRate, g.OuterRate/2)
	g.Overhead = cmp.Or(g.Overhead, 0.0001)
	g.Queue = cmp.Or(g.Queue, 32)
	g.Dies = cmp.Or(g.Dies, 32)
	read, program := quantity.Seconds(70e-6), quantity.Seconds(600e-6)
	if g.Medium == LowLatency {
		read, program = 10e-6, 10e-6
	}
	g.ReadTime = cmp.Or(g.ReadTime, read)
	g.ProgramTime = cmp.Or(g.ProgramTime, program)
	g.EraseTime = cmp.Or(g.EraseTime, 0.003)
	g.FastProgram = cmp.Or(g.FastProgram, 200e-6)
	g.OverProvision = cmp.Or(g.OverProvision, 0.07)
	g.BlockPages = cmp.Or(g.BlockPages, 256)
	g.Interface = cmp.Or(g.Interface, 550e6)
	g.Units = cmp.Or(g.Units, 8)
	g.Slow = cmp.Or(g.Slow, 1)
	return g
}

func (d Description) expandedMembers() (all []Group) {
	for _, g := range d.Members {
		for range g.Count {
			all = append(all, g.completed())
		}
	}
	return all
}
