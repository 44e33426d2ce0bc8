package array

import (
	"patientheron/core/filesystem"
	"patientheron/core/pagecache"
	"patientheron/core/quantity"
)

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
	Shelves    Shelves // that the members stand in, but those of a tier
	Limits     Limits  // set for the volume
	Controller Controller
	Caches     []Cache // in the order in which an operation meets them
	Thin       *Thin   // nil for a volume that has all of its room from the beginning
	Snapshots  Snapshots
	Tier       *Tier // faster members for what is used most, and tiers between
	Link       Link  // none when its rate is zero
	Replica    *Replica
	Neighbours []Neighbour
	Faults     []Fault
	Price      float64             // in an invented currency: of all but the members that have one
	FileSystem filesystem.Settings // that loads of files find on it
	PageCache  pagecache.Settings  // of the host, for loads that go through its memory

	// Empty is the share of the volume, at its end, that holds nothing when the
	// simulation begins. Elsewhere data lies on the members, in order.
	Empty quantity.Share
}

// Group is a number of like members.
type Group struct {
	Count    int
	Medium   Medium
	Capacity quantity.Bytes
	Price    float64 // of one; 0 where that of the array is all

	// Of a hard disk.
	RPM          float64          // turns a minute; default 7200
	SeekTrack    quantity.Seconds // to the neighbouring track; default 0.8 ms
	SeekAverage  quantity.Seconds // over random places; default 8.5 ms
	SeekFull     quantity.Seconds // across the disk; default 18 ms
	OuterRate    quantity.ByteRate
	InnerRate    quantity.ByteRate
	Overhead     quantity.Seconds // of each command; default 0.1 ms
	Queue        int              // commands it orders by position; default 32
	ReadAhead    quantity.Bytes   // read on behind a read; default 4 MiB
	WriteCaching bool             // volatile memory that takes writes: a flush has to wait for it
	WriteBuffer  quantity.Bytes   // size of that memory; default 64 MiB

	Shingled bool           // by bands, which it manages itself
	Band     quantity.Bytes // default 256 MiB
	Region   quantity.Bytes // that takes what cannot be written in place; default a 200th of the disk

	// Of an SSD.
	Dies          int               // working in parallel; default 32
	ReadTime      quantity.Seconds  // of one 4 KiB page; default 70 µs (low-latency: 10 µs)
	ProgramTime   quantity.Seconds  // default 600 µs
	EraseTime     quantity.Seconds  // of one block; default 3 ms
	FastRegion    quantity.Bytes    // written at FastProgram until it is full
	FastProgram   quantity.Seconds  // default 200 µs
	OverProvision quantity.Share    // physical beyond logical capacity, as a share of the latter; default 7 %
	BlockPages    int               // pages of one block; default 256
	Cycles        int               // programs of every page until it is worn out; 0 where nobody asks
	Channels      int               // that carry pages between the dies and the rest of the drive; 0 for any number
	ChannelRate   quantity.ByteRate // of each; default 1.2 GB/s
	Compresses    bool              // it programs less of what can be compressed
	Interface     quantity.ByteRate // line to the drive; default 550 MB/s (low-latency: 3.9 GB/s)
	Units         int               // operations a low-latency drive serves at a time; default 8

	// Of a hard disk or an SSD whose zones the host manages.
	Zone      quantity.Bytes // size of each; 0 for none
	OpenZones int            // that may be written in part at a time; 0 for any number

	Slow float64 // this many times slower than it should be; 0 means 1
}

// TotalPrice is what the array costs, with the members that have a price of their own.
func (d Description) TotalPrice() float64 {
	price := d.Price
	for _, g := range d.Members {
		price += float64(g.Count) * g.Price
	}
	if len(d.Members) > 0 {
		price += float64(d.Layout.HotSpares) * d.Members[0].Price
	}
	for _, t := range d.tiers() {
		price += float64(t.Members.Count) * t.Members.Price
	}
	return price
}

// Layout is how members form one volume.
type Layout struct {
	Level Level
	Chunk quantity.Bytes // default 64 KiB

	// Groups of parity that a stripe is laid over, each with parity of its own: RAID 50 and 60.
	Groups int // 0 for one

	// Of parity that is declustered: stripes lie on fewer members than there are, each
	// on others, and the room of some members is kept free for those that fail.
	Stripe int // members of a stripe, parity included; 0 for all
	Spares int // members whose room is kept free, a part on each

	// Whole members that lie ready, and take the place of those that fail by themselves; of
	// declustered parity the room that is kept free does, where a rate is stated.
	HotSpares   int
	RebuildRate quantity.ByteRate // of making one anew; default 100 MB/s
}

// Dealt is how members stand in shelves.
type Dealt string

// The ways to deal members out.
const (
	InOrder Dealt = "in order" // the first ones in the first shelf
	InTurn  Dealt = "in turn"  // the first one in the first shelf, the next one in the next
)

// Shelves are enclosures of members, each behind an expander with a width of its own.
type Shelves struct {
	Count int               // 0 where nothing is said of them
	Rate  quantity.ByteRate // that each carries in each direction; 0 for no limit
	Dealt Dealt             // default in order
}

// of is the shelf that a member of so many stands in.
func (s Shelves) of(member, members int) int {
	if s.Dealt == InTurn {
		return member % s.Count
	}
	return member * s.Count / members
}

// Controller is what every operation passes: one of them, which owns the volume.
type Controller struct {
	Operations quantity.OpRate   // at most, of each; 0 for no limit
	Throughput quantity.ByteRate // at most, of each; 0 for no limit

	Count      int               // of which any carries on alone; 0 where nothing is said of them
	Owner      int               // of the volume, from 0
	Takeover   quantity.Seconds  // for how long nothing is answered when another one takes over; default 5 s
	MirrorRate quantity.ByteRate // of the way between them, by which mirrored caches are; default 4 GB/s
	MirrorTime quantity.Seconds  // and what it takes; default 20 µs
	CopyRate   quantity.ByteRate // of copies that the array makes by itself; 0 for no limit of their own
}

// Limits are what a volume is allowed, whatever the array could do. What is not used is
// saved up, as far as a burst goes.
//
// Limits of reads and of writes apart hold beside those of both.
type Limits struct {
	Operations quantity.OpRate   // a second; 0 for no limit
	Throughput quantity.ByteRate // 0 for no limit
	Burst      quantity.Seconds  // how long it may go on without a limit after a pause; default none

	Reads, Writes         quantity.OpRate
	ReadRate, WrittenRate quantity.ByteRate
}

// any reports whether anything is limited.
func (l Limits) any() bool {
	l.Burst = 0
	return l != Limits{}
}

// CacheMode is what a cache does with writes.
type CacheMode string

// The cache modes.
const (
	ReadOnly     CacheMode = "read-only"
	WriteBack    CacheMode = "write-back"
	WriteThrough CacheMode = "write-through"
)

// CacheFetch is what a cache fetches when a read lacks something.
type CacheFetch string

// What is fetched.
const (
	FetchParts  CacheFetch = "parts"  // what was asked for
	FetchBlocks CacheFetch = "blocks" // all of the blocks that were
)

// Cache is memory or SSDs in front of the members.
type Cache struct {
	Name       string
	Size       quantity.Bytes
	Block      quantity.Bytes // default 64 KiB
	Mode       CacheMode
	Fetch      CacheFetch        // default parts
	ReadAhead  quantity.Bytes    // how far it fetches ahead of streams of reads; 0 for not at all
	Protected  bool              // memory by a battery or a mirror: loses nothing without power; devices by a mirror
	HitTime    quantity.Seconds  // default 20 µs (devices: 90 µs)
	Throughput quantity.ByteRate // default 5 GB/s (devices: 500 MB/s each)
	Mirrored   bool              // memory that another controller holds as well: what is dirty survives the loss of one
	DirtyLimit quantity.Share    // of its size that may be dirty; default 50 %
	Bypass     quantity.Bytes    // operations of at least this size go past it; 0 for none
	Devices    int               // SSDs it is made of; 0 for memory
	Pinned     quantity.Bytes    // of the beginning of the volume, such as metadata, that stays once it is there
	Log        *Log              // of memory that a power cut empties: a device that keeps what was flushed
	Index      quantity.Bytes    // memory for the entry of a block, of a cache of devices; default 64 B
}

// Thin says that a volume takes its room from what the layout has for data, a unit at a
// time, when it is first written.
type Thin struct {
	Unit quantity.Bytes // default 1 MiB; of one that reduces what is written 32 KiB, or 4 KiB to find what repeats, 8 KiB for both
	Size quantity.Bytes // that hosts see; default as much as there is, but for a sixteenth when it reduces

	Unzeroed bool // what a first write leaves of a unit is not written with zeros: what lay there before is read

	Compresses   bool              // a unit takes as few pages as it can
	Deduplicates bool              // a unit that is there already is not stored once more
	Throughput   quantity.ByteRate // of the processors that do it; 0 for no limit
	Index        quantity.Bytes    // memory for what tells what is there, 64 bytes for each unit; 0 for enough
}

// Snapshots are taken of a thin volume. What a snapshot holds is copied before it is
// written over.
type Snapshots struct {
	Every quantity.Seconds // 0 for only when a fault on the timetable says so
	Keep  int              // the oldest go when there are more; 0 for all
}

// Log is a device that keeps what was flushed until it is where it belongs.
type Log struct {
	Throughput quantity.ByteRate // default 500 MB/s
	Time       quantity.Seconds  // of each flush; default 90 µs
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
	Hosts     int // that have such a way of their own each; default 1
	Combined  Combined
	FailOver  quantity.Seconds  // without an answer after this an operation is sent by another path; default 1 s
	Slot      quantity.ByteRate // what the slot carries in each direction that all links of a host share; 0 for no limit
	OwnDisk   quantity.ByteRate // of a host: what is written comes from it, and what is read goes there; 0 for memory
	PerByte   quantity.Seconds  // CPU time of the transport for each byte, one core for each connection
	PerOp     quantity.Seconds  // and for each operation

	Connections int            // on each link, which operations go round; default 1
	Window      quantity.Bytes // of each connection: that may be under way without an acknowledgement; 0 for any number
	Loss        quantity.Share // of the segments of a connection, in each direction
}

// Replica is a far array that has every write as well.
type Replica struct {
	Mode       ReplicaMode // default synchronous
	Kilometres float64
	Service    quantity.Seconds  // of a write over there
	Rate       quantity.ByteRate // of the line between; 0 for no limit
	Journal    quantity.Bytes    // of an asynchronous one: what may wait to be copied before writes wait; 0 for any number
}
