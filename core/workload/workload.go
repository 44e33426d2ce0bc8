// Package workload says what I/O to issue: block sizes, read share, order,
// depth, content and pace, and turns such a description into the stream of
// operations one worker issues.
//
// It issues nothing itself; package load does. The main type is Spec, a plain
// value that is the same in the API, in plan files and on the command line.
// A Generator made from a Spec yields the same operations for the same seed,
// always.
//
//	spec := workload.Default()
//	spec.Reads = 0.7
//	if err := spec.Validate(); err != nil { … }
package workload

import (
	"cmp"
	"errors"
	"fmt"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// ErrInvalid is wrapped by every error Validate returns.
var ErrInvalid = errors.New("impossible workload")

// Order is the order in which a worker visits the span.
type Order string

// The orders. Random is uniform. Skewed is a Zipf law when Skew is set,
// otherwise "HotAccesses of the accesses go to HotSpan of the span".
const (
	Random     Order = "random"
	Skewed     Order = "skewed"
	Sequential Order = "sequential"
	Strided    Order = "strided"
	Descending Order = "descending"
)

// Arrivals is how operations arrive when a rate is set.
type Arrivals string

// The arrival processes of an open loop.
const (
	Constant Arrivals = "constant"
	Poisson  Arrivals = "poisson"
)

// OnError is what a measurement does when an operation fails.
type OnError string

// End stops the measurement at the first failed operation; Continue counts it
// and goes on.
const (
	End      OnError = "end"
	Continue OnError = "continue"
)

// BlockShare is one block size of a mix and its weight in it.
type BlockShare struct {
	Size   quantity.Bytes `json:"sizeBytes" yaml:"size" doc:"Block size in bytes" minimum:"1"`
	Weight float64        `json:"weight" yaml:"weight" doc:"Weight of this size among the operations; the weights need not add up to anything" exclusiveMinimum:"0"`
}

// Spec is one workload: an envelope of what every load has (its kind, pace, ending
// and seed) around the body of its kind. The zero value is not valid; start from
// Default. In JSON the parts stand side by side.
type Spec struct {
	Name string `json:"name,omitempty" yaml:"name,omitempty" doc:"What this workload is called" maxLength:"80"`
	Kind Kind   `json:"kind,omitempty" yaml:"kind,omitempty" doc:"What kind of load it is; absent for block" enum:"block,files,feeds,stores,together"`

	Pattern         // the body of a block load; of other loads what it comes to as blocks
	Files   *Files  `json:"files,omitempty" doc:"The body of a load of files; what stands beside it of blocks is then worked out of it"`
	Feeds   *Feeds  `json:"feeds,omitempty" doc:"The body of a load of feeds; blocks, order, streams and rates beside it are then worked out of it"`
	Stores  *Stores `json:"stores,omitempty" doc:"The body of a load of stores that log; blocks and order beside it are then worked out of it"`

	Together []Spec `json:"together,omitempty" maxItems:"16" doc:"Of several loads at once: each with its name, workers and region; the time is that of all, and what stands beside them of blocks, depth and workers is then worked out of them"`

	Pace
	Ending

	Seed uint64 `json:"seed,omitempty" yaml:"seed,omitempty" doc:"The same seed issues the same operations; repeats have others, which are unrelated" maximum:"9007199254740991"`
}

// Kind is a kind of load.
type Kind string

// BlockKind is the kind that issues blocks of bytes at places of a span.
const BlockKind Kind = "block"

// Body is what a kind of load is about. What of a volume is prepared for it and
// destroyed by it comes from here.
type Body interface {
	// Classes are the classes of operation that it issues.
	Classes() []measure.Class
	// LargestBlock is the size of its largest operation, for which buffers are made.
	LargestBlock() quantity.Bytes
	// Reach is how far into the volume it goes, 0 for all of it, and whether it
	// writes there.
	Reach() (size quantity.Bytes, writes bool)
	// Groups name what it sorts whole files into; none of a load without files.
	Groups() []string
	// Source prepares the work of one worker of a load that has this body.
	Source(s Spec, worker int) (Source, error)
}

// Body is the body of the load's kind.
func (s Spec) Body() Body {
	if s.Kind == FilesKind && s.Files != nil {
		return filesBody{s.Files, s.Pattern, s.Passes}
	}
	if s.Kind == FeedsKind && s.Feeds != nil {
		return feedsBody{s.Pattern, s}
	}
	if s.Kind == StoresKind && s.Stores != nil {
		return storesBody{s.Pattern, s.Stores}
	}
	if s.Kind == TogetherKind {
		return togetherBody{s.Pattern, s.Together}
	}
	return s.Pattern
}

// Classes are the classes of operation that the load issues.
func (s Spec) Classes() []measure.Class { return s.Body().Classes() }

// Groups name what the load sorts whole files into.
func (s Spec) Groups() []string { return s.Body().Groups() }

// Pattern is the body of a block load: which blocks, where, in which order, with
// which content.
type Pattern struct {
	Blocks []BlockShare   `json:"blocks" yaml:"blocks" doc:"Block sizes and their weights; one entry for a single size" minItems:"1" maxItems:"32"`
	Reads  quantity.Share `json:"readShare" yaml:"reads" doc:"Share of operations that read, 0 to 1" minimum:"0" maximum:"1"`

	Trims quantity.Share `json:"trimShare,omitempty" yaml:"trims,omitempty" doc:"Share of operations that give their range back to the storage; of the others the share of reads reads" minimum:"0" maximum:"0.9"`

	Zeroes quantity.Share `json:"zeroShare,omitempty" yaml:"zeroes,omitempty" doc:"Share of operations that let the storage write zeros over their range by itself" minimum:"0" maximum:"1"`
	Copies quantity.Share `json:"copyShare,omitempty" yaml:"copies,omitempty" doc:"Share of operations that let the storage copy another range of the span to theirs by itself" minimum:"0" maximum:"1"`

	Swaps quantity.Share `json:"swapShare,omitempty" yaml:"swaps,omitempty" doc:"Share of operations that read their range and let the storage write it anew where it still is as it was read, as hosts do that lock on shared storage" minimum:"0" maximum:"1"`

	Order       Order          `json:"order" yaml:"order" doc:"Order in which the span is visited" enum:"random,skewed,sequential,strided,descending"`
	Skew        float64        `json:"skew,omitempty" yaml:"skew,omitempty" doc:"Exponent of the Zipf law for a skewed order" minimum:"0" maximum:"5"`
	HotAccesses quantity.Share `json:"hotAccesses,omitempty" yaml:"hotAccesses,omitempty" doc:"For a skewed order without a Zipf exponent: this share of the accesses…" minimum:"0" maximum:"1"`
	HotSpan     quantity.Share `json:"hotSpan,omitempty" yaml:"hotSpan,omitempty" doc:"…goes to this share of the span" minimum:"0" maximum:"1"`
	Streams     int            `json:"streams,omitempty" yaml:"streams,omitempty" doc:"Streams of each worker for a sequential or descending order, each in a region of its own; 0 means 1" minimum:"0" maximum:"4096"`
	Stride      quantity.Bytes `json:"strideBytes,omitempty" yaml:"stride,omitempty" doc:"Distance between the starts of two operations for a strided order" minimum:"0"`

	Span   quantity.Bytes `json:"spanBytes" yaml:"span" doc:"Size of the region that is worked on; 0 means all of a volume of fixed size" minimum:"0"`
	Offset quantity.Bytes `json:"offsetBytes,omitempty" yaml:"offset,omitempty" doc:"Where that region starts" minimum:"0"`
	Align  quantity.Bytes `json:"alignBytes,omitempty" yaml:"align,omitempty" doc:"Offsets are multiples of this; 0 means of the operation's own block size" minimum:"0"`

	Compressible quantity.Share `json:"compressible,omitempty" yaml:"compressible,omitempty" doc:"Share of what is written that a compressor can remove, within 3 %, whatever the block size; all bytes are made anew for every write" minimum:"0" maximum:"1"`
	Duplicate    quantity.Share `json:"duplicate,omitempty" yaml:"duplicate,omitempty" doc:"Share of written 4 KiB pages that repeat one of sixteen common pages" minimum:"0" maximum:"1"`

	SyncEvery int  `json:"syncEvery,omitempty" yaml:"syncEvery,omitempty" doc:"Issue a flush to stable storage after this many writes of a worker; 0 means never" minimum:"0"`
	Cached    bool `json:"cached,omitempty" yaml:"cached,omitempty" doc:"Go through the host's page cache instead of around it"`
}

// Pace is how many operations are in flight, and when they are issued. Depth is per
// worker: Workers × Depth operations are in flight.
type Pace struct {
	Depth   int `json:"depth" yaml:"depth" doc:"Operations each worker keeps in flight" minimum:"1" maximum:"4096"`
	Workers int `json:"workers" yaml:"workers" doc:"Workers, each with a thread and a queue of its own" minimum:"1" maximum:"1024"`

	Think    quantity.Seconds  `json:"thinkSeconds,omitempty" yaml:"think,omitempty" doc:"Pause of a slot between a completion and its next operation (closed loop)" minimum:"0"`
	Rate     quantity.OpRate   `json:"rate,omitempty" yaml:"rate,omitempty" doc:"Operations per second of all workers together (open loop); 0 means as fast as they complete" minimum:"0"`
	ByteRate quantity.ByteRate `json:"rateBytesPerSecond,omitempty" yaml:"byteRate,omitempty" doc:"The same as throughput, turned into a rate by the mean block size" minimum:"0"`
	Arrivals Arrivals          `json:"arrivals,omitempty" yaml:"arrivals,omitempty" doc:"Spacing of operations at a set rate" enum:"constant,poisson"`
}

// Ending is how long a load lasts, and what is made of its time.
type Ending struct {
	For    quantity.Seconds `json:"forSeconds" yaml:"for,omitempty" doc:"How long to measure after the lead-in; with an amount as well, whichever ends first" minimum:"0" maximum:"2592000"`
	Passes int              `json:"passes,omitempty" doc:"Of a load of files: how often all files are gone through; 0 means by time alone" minimum:"0" maximum:"1000000"`
	Amount quantity.Bytes   `json:"amountBytes,omitempty" yaml:"amount,omitempty" doc:"Bytes to move after the lead-in; 0 means by time alone" minimum:"0"`
	LeadIn quantity.Seconds `json:"leadInSeconds,omitempty" yaml:"leadIn,omitempty" doc:"Time at the start that is issued and shown, but kept out of the summary" minimum:"0" maximum:"86400"`

	Settled bool           `json:"settled,omitempty" yaml:"settled,omitempty" doc:"Measure until the rate stands still and cut off what came before; the time is then the longest to wait"`
	Within  quantity.Share `json:"within,omitempty" yaml:"within,omitempty" doc:"Measure until the mean rate is known within this share (half of its 95 % interval); the time is then the longest to wait; 0 means not to ask" minimum:"0" maximum:"1"`

	Interval quantity.Seconds `json:"intervalSeconds,omitempty" yaml:"interval,omitempty" doc:"Length of one point of the series, 0.1 to 10 s; 0 means a fiftieth of the time, from 0.1 to 1 s" minimum:"0" maximum:"10"`
	OnError  OnError          `json:"onError,omitempty" yaml:"onError,omitempty" doc:"What to do when an operation fails" enum:"end,continue"`
}

// Default is a modest mixed random load that is valid on any volume.
func Default() Spec {
	return Spec{
		Pattern: Pattern{Blocks: Block(4 * quantity.KiB), Reads: 1, Order: Random, Span: quantity.GiB},
		Pace:    Pace{Depth: 8, Workers: 1},
		Ending:  Ending{For: 10, OnError: End},
		Seed:    1,
	}
}

// Block is a mix of one size.
func Block(size quantity.Bytes) []BlockShare { return []BlockShare{{Size: size, Weight: 1}} }

// Completed returns s with zero values that mean a default replaced by it.
func (s Spec) Completed() Spec {
	if s.Kind == FilesKind && s.Files != nil {
		s.Pattern = s.Files.pattern(s.Cached)
	}
	if s.Kind == FeedsKind && s.Feeds != nil && s.Feeds.Count > 0 {
		s.completeFeeds()
	}
	if s.Kind == StoresKind && s.Stores != nil && s.Stores.Count > 0 {
		s.completeStores()
	}
	if s.Seed == 0 {
		s.Seed = 1
	}
	if s.Kind == TogetherKind {
		s.completeTogether()
	}
	if s.Interval == 0 {
		s.Interval = intervalOf(s.For)
	}
	if s.OnError == "" {
		s.OnError = End
	}
	if s.Streams == 0 {
		s.Streams = 1
	}
	if s.Open() && s.Arrivals == "" {
		s.Arrivals = Constant
	}
	return s
}

// intervalOf is the length of interval that suits a time: so long that it has at
// least fifty of them, where a tenth of a second allows, and no longer than a second.
func intervalOf(time quantity.Seconds) quantity.Seconds {
	for _, length := range []quantity.Seconds{1, 0.5, 0.2} {
		if time == 0 || time >= 50*length {
			return length
		}
	}
	return 0.1
}

// Open reports whether operations arrive at a set rate rather than when
// earlier ones complete.
func (s Pace) Open() bool { return s.Rate > 0 || s.ByteRate > 0 }

// Arriving is the rate at which operations of all workers arrive in an open
// loop, in operations per second; zero in a closed loop.
func (s Spec) Arriving() quantity.OpRate {
	if s.Rate > 0 {
		return s.Rate
	}
	if s.ByteRate > 0 {
		return quantity.OpRate(float64(s.ByteRate) / s.MeanBlock())
	}
	return 0
}

// MeanBlock is the mean size of an operation in bytes.
func (s Pattern) MeanBlock() float64 {
	total, weights := 0.0, 0.0
	for _, b := range s.Blocks {
		total += float64(b.Size) * b.Weight
		weights += b.Weight
	}
	return total / weights
}

// LargestBlock is the size of the largest operation.
func (s Pattern) LargestBlock() quantity.Bytes {
	var largest quantity.Bytes
	for _, b := range s.Blocks {
		largest = max(largest, b.Size)
	}
	return largest
}

// Reach is how far into the volume the pattern goes, 0 for all of it, and whether it
// writes there.
func (s Pattern) Reach() (size quantity.Bytes, writes bool) {
	if s.Span == 0 {
		return 0, s.Writes()
	}
	return s.Offset + s.Span, s.Writes()
}

// Groups are none: blocks belong to no file.
func (s Pattern) Groups() []string { return nil }

// Patient reports whether the measurement lasts until enough is known rather
// than for a time.
func (s Ending) Patient() bool { return s.Settled || s.Within > 0 }

// Writes reports whether any operation changes what is there.
func (s Pattern) Writes() bool { return s.Reads < 1 || s.Trims > 0 || s.ByStorage() > 0 }

// ByStorage is the share of operations that the storage has a part in of its own: it zeroes,
// copies, or compares before it writes.
func (s Pattern) ByStorage() quantity.Share { return s.Zeroes + s.Copies + s.Swaps }

// byHost is the share of operations that read or write.
func (s Pattern) byHost() quantity.Share { return 1 - s.Trims - s.ByStorage() }

// Written is the share of operations that write, whoever carries them out.
func (s Pattern) Written() quantity.Share { return s.byHost()*(1-s.Reads) + s.ByStorage() }

// Classes are the classes of operation that the workload issues.
func (s Pattern) Classes() (issued []measure.Class) {
	for _, c := range []struct {
		class measure.Class
		is    bool
	}{
		{measure.Read, s.Reads > 0 && s.byHost() > 0}, {measure.Write, s.Reads < 1 && s.byHost() > 0}, {measure.Flush, s.SyncEvery > 0 && s.Reads < 1 && s.byHost() > 0},
		{measure.Trim, s.Trims > 0}, {measure.Zero, s.Zeroes > 0}, {measure.Copy, s.Copies > 0}, {measure.Swap, s.Swaps > 0},
	} {
		if c.is {
			issued = append(issued, c.class)
		}
	}
	return issued
}

// FieldError says which field of a workload cannot be and why.
type FieldError struct {
	Field  string // as in plan files and on the command line
	Reason string // what is wrong and what to do
}

func (e *FieldError) Error() string { return fmt.Sprintf("%v: %s: %s", ErrInvalid, e.Field, e.Reason) }

// Unwrap makes errors.Is(err, ErrInvalid) true.
func (e *FieldError) Unwrap() error { return ErrInvalid }

func invalid(field, format string, args ...any) error {
	return &FieldError{Field: field, Reason: fmt.Sprintf(format, args...)}
}

// Validate reports the first thing about s that cannot be, as a *FieldError.
// It does not know the volume: alignment and free space are checked there.
func (s Spec) Validate() error {
	if len(s.Together) > 0 && s.Kind != TogetherKind || s.Feeds != nil && s.Kind != FeedsKind || s.Stores != nil && s.Kind != StoresKind || s.Files != nil && (s.Kind == FeedsKind || s.Kind == StoresKind) {
		return invalid("kind", "the load is of %s, and another kind is described beside it; keep one", cmp.Or(s.Kind, BlockKind))
	}
	switch s.Kind {
	case "", BlockKind:
		if s.Files != nil {
			return invalid("kind", "files are given, and the load is of blocks; the kind of a load of files is files")
		}
		if s.Passes != 0 {
			return invalid("passes", "a load of blocks has no files to go through; use amount")
		}
	case FilesKind:
		if err := s.validateFiles(); err != nil {
			return err
		}
		s = s.Completed()
	case StoresKind:
		if err := s.validateStores(); err != nil {
			return err
		}
		s = s.Completed()
	case TogetherKind:
		if err := s.validateTogether(); err != nil {
			return err
		}
		s = s.Completed()
	case FeedsKind:
		if err := s.validateFeeds(); err != nil {
			return err
		}
		if s.Passes != 0 {
			return invalid("passes", "a load of feeds has no files to go through; leave it out")
		}
		s = s.Completed()
	default:
		return invalid("kind", "%q; there are block, files, feeds, stores and together", s.Kind)
	}
	for _, check := range []func() error{s.validateBlocks, s.validateOrder, s.validateLimits, s.validatePace} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

// mostTrims is the largest share of operations that trim.
const mostTrims = 0.9

func (s Spec) validateBlocks() error {
	if len(s.Blocks) == 0 {
		return invalid("block", "no block size is given; try 4KiB")
	}
	if len(s.Blocks) > 32 {
		return invalid("block", "%d sizes in one mix; at most 32", len(s.Blocks))
	}
	for _, b := range s.Blocks {
		if b.Size < 1 || b.Size > 64*quantity.MiB {
			return invalid("block", "%s; a block is from 1 byte to 64 MiB", b.Size)
		}
		if !(b.Weight > 0) || b.Weight > 1e9 {
			return invalid("block", "weight %g of %s; a weight is above 0 and at most 1e9", b.Weight, b.Size)
		}
	}
	if !(s.Reads >= 0 && s.Reads <= 1) {
		return invalid("reads", "%g; a share is from 0%% to 100%%", float64(s.Reads))
	}
	if !(s.Trims >= 0 && s.Trims <= mostTrims) {
		return invalid("trims", "%g; a share from 0%% to 90%%, since trims alone move nothing that could be measured", float64(s.Trims))
	}
	for field, share := range map[string]quantity.Share{"zeroes": s.Zeroes, "copies": s.Copies, "swaps": s.Swaps} {
		if !(share >= 0 && share <= 1) {
			return invalid(field, "%g; a share is from 0%% to 100%%", float64(share))
		}
	}
	if all := s.Trims + s.ByStorage(); all > 1 {
		return invalid("copies", "trims, zeroes, copies and swaps are %s of the operations together; at most 100%%", all)
	}
	if least := 4 * max(s.LargestBlock(), s.Align); s.Copies > 0 && s.Span > 0 && s.Span < least {
		return invalid("copies", "a span of %s has not always room beside a block for what is copied to it; use at least %s", s.Span, least)
	}
	for field, share := range map[string]quantity.Share{"compressible": s.Compressible, "duplicate": s.Duplicate} {
		if !(share >= 0 && share <= 1) {
			return invalid(field, "%g; a share is from 0%% to 100%%", float64(share))
		}
	}
	return nil
}

func (s Spec) validateOrder() error {
	switch s.Order {
	case Random, Sequential, Descending:
	case Strided:
		if s.Stride < s.LargestBlock() {
			return invalid("stride", "%s is shorter than the block of %s; use a longer stride, or order sequential", s.Stride, s.LargestBlock())
		}
	case Skewed:
		hot := s.HotAccesses > 0 || s.HotSpan > 0
		switch {
		case s.Skew > 0 && hot:
			return invalid("skew", "both a Zipf exponent and a hot region are given; keep one")
		case s.Skew > 0 && s.Skew > 5:
			return invalid("skew", "%g; the exponent is above 0 and at most 5", s.Skew)
		case s.Skew > 0:
		case !hot:
			return invalid("skew", "a skewed order needs a Zipf exponent (skew 0.99) or a hot region (hot 80%%/20%%)")
		case !(s.HotAccesses > 0 && s.HotAccesses < 1 && s.HotSpan > 0 && s.HotSpan < 1):
			return invalid("hot", "%s of accesses to %s of the span; both are above 0%% and below 100%%", s.HotAccesses, s.HotSpan)
		}
	default:
		return invalid("order", "%q; one of random, skewed, sequential, strided, descending", s.Order)
	}
	if s.Order != Skewed && (s.Skew != 0 || s.HotAccesses != 0 || s.HotSpan != 0) {
		return invalid("skew", "is set but the order is %s; use order skewed", s.Order)
	}
	if s.Order != Strided && s.Stride != 0 {
		return invalid("stride", "is set but the order is %s; use order strided", s.Order)
	}
	if s.Streams < 0 || s.Streams > 4096 {
		return invalid("streams", "%d; from 1 to 4096", s.Streams)
	}
	if s.Streams > 1 && s.Order != Sequential && s.Order != Descending {
		return invalid("streams", "%d streams need order sequential or descending, not %s", s.Streams, s.Order)
	}
	return nil
}

func (s Spec) validateLimits() error {
	if s.Depth < 1 || s.Depth > 4096 {
		return invalid("depth", "%d; each worker keeps from 1 to 4096 operations in flight", s.Depth)
	}
	if s.Workers < 1 || s.Workers > 1024 {
		return invalid("workers", "%d; from 1 to 1024", s.Workers)
	}
	if buffers := int64(s.Workers) * int64(s.Depth) * int64(s.LargestBlock()); buffers > 16<<30 && s.Kind != TogetherKind { // each of which has its own
		return invalid("depth", "%d workers × depth %d × %s would need %s of buffers; keep it within 16 GiB",
			s.Workers, s.Depth, s.LargestBlock(), quantity.Bytes(buffers))
	}
	if s.Span < 0 || s.Offset < 0 || s.Align < 0 || s.Amount < 0 || s.Stride < 0 {
		return invalid("span", "sizes cannot be negative")
	}
	if s.Offset+s.Span < 0 {
		return invalid("span", "offset and span together exceed 8 EiB")
	}
	if s.Span > 0 && s.Span < s.LargestBlock() {
		return invalid("span", "%s is smaller than one block of %s; use a larger span", s.Span, s.LargestBlock())
	}
	if s.Align > 0 && s.Span > 0 && s.Align > s.Span {
		return invalid("align", "%s is more than the span of %s", s.Align, s.Span)
	}
	if !(s.For >= 0 && s.For <= 30*86400) {
		return invalid("for", "%g s; at most 30 days", float64(s.For))
	}
	if s.Passes < 0 || s.Passes > 1e6 {
		return invalid("passes", "%d; up to a million", s.Passes)
	}
	if s.Passes > 0 && s.LeadIn > 0 {
		return invalid("leadIn", "a load that goes through its files so many times begins with the first; leave the lead-in out")
	}
	if s.For == 0 && s.Amount == 0 && s.Passes == 0 {
		return invalid("for", "neither a time nor an amount ends this measurement; try --for 60s")
	}
	if s.Patient() && s.For == 0 {
		return invalid("for", "waiting until enough is known needs a time after which to give up; try --for 10min")
	}
	if !(s.Within >= 0 && s.Within < 1) || s.Within > 0 && s.Within < 0.0001 {
		return invalid("within", "%g; from 0.01%% to below 100%%", float64(s.Within))
	}
	if !(s.LeadIn >= 0 && s.LeadIn <= 86400) {
		return invalid("leadIn", "%g s; at most one day", float64(s.LeadIn))
	}
	if s.Interval != 0 && !(s.Interval >= 0.1 && s.Interval <= 10) {
		return invalid("interval", "%g s; from 100ms to 10s", float64(s.Interval))
	}
	if s.OnError != "" && s.OnError != End && s.OnError != Continue {
		return invalid("onError", "%q; end or continue", s.OnError)
	}
	if s.SyncEvery < 0 {
		return invalid("syncEvery", "%d; a number of writes, or 0 for never", s.SyncEvery)
	}
	if s.Seed > 1<<53-1 {
		return invalid("seed", "%d; at most 9007199254740991, so that every JSON reader keeps it exact", s.Seed)
	}
	return nil
}

func (s Spec) validatePace() error {
	if !(s.Think >= 0 && s.Think <= 86400) || !(s.Rate >= 0 && s.Rate <= 1e9) || !(s.ByteRate >= 0 && s.ByteRate <= 1e15) {
		return invalid("rate", "think time, rate and throughput are zero or positive; at most a day, 1e9/s and 1 PB/s")
	}
	if s.Rate > 0 && s.ByteRate > 0 {
		return invalid("rate", "both operations and bytes per second are set; keep one")
	}
	if s.Open() && s.Think > 0 {
		return invalid("think", "think time belongs to a closed loop; leave it out when a rate is set")
	}
	switch s.Arrivals {
	case "", Constant, Poisson:
	default:
		return invalid("arrivals", "%q; constant or poisson", s.Arrivals)
	}
	if s.Arrivals != "" && !s.Open() {
		return invalid("arrivals", "is set without a rate")
	}
	return nil
}

// Describe says in a few words what the workload does, such as
// "4 KiB, 70 % reads, random, 4 workers × depth 32, span 10 GiB".
func (s Spec) Describe() string {
	if s.Kind == FilesKind && s.Files != nil {
		return s.describeFiles()
	}
	if s.Kind == StoresKind && s.Stores != nil {
		return s.describeStores()
	}
	if s.Kind == FeedsKind && s.Feeds != nil {
		return s.describeFeeds()
	}
	if s.Kind == TogetherKind {
		return s.describeTogether()
	}
	block := s.Blocks[0].Size.String()
	if len(s.Blocks) > 1 {
		block = fmt.Sprintf("%d block sizes to %s", len(s.Blocks), s.LargestBlock())
	}
	direction := s.Reads.String() + " reads"
	switch s.Reads {
	case 1:
		direction = "reads"
	case 0:
		direction = "writes"
	}
	if s.byHost() <= 0 {
		direction = ""
	}
	for _, of := range []struct {
		share quantity.Share
		what  string
	}{{s.Trims, "trims"}, {s.Zeroes, "zeroes"}, {s.Copies, "copies"}, {s.Swaps, "swaps"}} {
		switch {
		case of.share <= 0:
		case direction == "" && of.share >= 1:
			direction = of.what
		case direction == "":
			direction = of.share.String() + " " + of.what
		default:
			direction += ", " + of.share.String() + " " + of.what
		}
	}
	order := string(s.Order)
	if s.Streams > 1 {
		order += fmt.Sprintf(" in %d streams", s.Streams)
	}
	workers := "1 worker"
	if s.Workers > 1 {
		workers = fmt.Sprintf("%d workers", s.Workers)
	}
	text := fmt.Sprintf("%s, %s, %s, %s × depth %d", block, direction, order, workers, s.Depth)
	if s.Span > 0 {
		text += ", span " + s.Span.String()
	}
	if s.Open() {
		text += ", at " + s.Arriving().String()
	}
	if s.Cached {
		text += ", cached"
	}
	return text
}
