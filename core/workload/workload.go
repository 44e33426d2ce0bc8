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
	"errors"

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
	Kind Kind   `json:"kind,omitempty" yaml:"kind,omitempty" doc:"What kind of load it is; absent for block"`

	Pattern      // the body of a block load; of other loads what it comes to as blocks
	Body    Body `json:"-"` // of the kind; nil for block. In JSON it stands under the name of its kind

	Together []Spec `json:"together,omitempty" maxItems:"16" doc:"Of several loads at once: each with its name, workers and region; the time is that of all, and what stands beside them of blocks, depth and workers is then worked out of them"`

	Pace
	Ending

	others []Kind // whose bodies were given besides; a load can have one alone

	Seed uint64 `json:"seed,omitempty" yaml:"seed,omitempty" doc:"The same seed issues the same operations; repeats have others, which are unrelated" maximum:"9007199254740991"`
}

// Classes are the classes of operation that the load issues.
func (s Spec) Classes() []measure.Class { return s.body().Classes(s) }

// Groups name what the load counts by itself.
func (s Spec) Groups() []string { return s.body().Groups(s) }

// Pattern is the body of a block load: which blocks, where, in which order, with
// which content.
type Pattern struct {
	Blocks []BlockShare   `json:"blocks" yaml:"blocks" doc:"Block sizes and their weights; one entry for a single size" minItems:"1" maxItems:"32"`
	Reads  quantity.Share `json:"readShare" yaml:"reads" doc:"Share of operations that read, 0 to 1" minimum:"0" maximum:"1"`

	Trims quantity.Share `json:"trimShare,omitempty" yaml:"trims,omitempty" doc:"Share of operations that give their range back to the storage; of the others the share of reads reads" minimum:"0" maximum:"0.9"`

	Zeroes quantity.Share `json:"zeroShare,omitempty" yaml:"zeroes,omitempty" doc:"Share of operations that let the storage write zeros over their range" minimum:"0" maximum:"1"`
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
	For    quantity.Seconds `json:"forSeconds" yaml:"for,omitempty" doc:"How long to measure after the warm-up; with an amount as well, whichever ends first" minimum:"0" maximum:"2592000"`
	Passes int              `json:"passes,omitempty" doc:"Of a load of files: how often all files are gone through; 0 means by time alone" minimum:"0" maximum:"1000000"`
	Amount quantity.Bytes   `json:"amountBytes,omitempty" yaml:"amount,omitempty" doc:"Bytes to move after the warm-up; 0 means by time alone" minimum:"0"`
	WarmUp quantity.Seconds `json:"warmUpSeconds,omitempty" yaml:"warmUp,omitempty" doc:"Time at the start that is issued and shown, but kept out of the summary" minimum:"0" maximum:"86400"`

	Steady bool           `json:"steady,omitempty" yaml:"steady,omitempty" doc:"Measure until steady state; what came before is left out of the summary. The time is then the maximum"`
	Margin quantity.Share `json:"margin,omitempty" yaml:"margin,omitempty" doc:"Measure until the mean rate has this margin of error: half of its 95 % interval, as a share. The time is then the maximum. 0 for no such goal" minimum:"0" maximum:"1"`

	Interval quantity.Seconds `json:"intervalSeconds,omitempty" yaml:"interval,omitempty" doc:"Length of one point of the series, 0.1 to 10 s; 0 means a fiftieth of the time, from 0.1 to 1 s" minimum:"0" maximum:"10"`
	OnError  OnError          `json:"onError,omitempty" yaml:"onError,omitempty" doc:"What to do when an operation fails" enum:"end,continue"`
}

// Default is a modest Mixed random load that is valid on any volume.
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
	if !s.Several() {
		s.body().Complete(&s)
	}
	if s.Seed == 0 {
		s.Seed = 1
	}
	if s.Several() {
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

// Patient reports whether the measurement lasts until enough is known rather
// than for a time.
func (s Ending) Patient() bool { return s.Steady || s.Margin > 0 }

// Writes reports whether any operation changes what is there.
func (s Pattern) Writes() bool { return s.Reads < 1 || s.Trims > 0 || s.ByStorage() > 0 }

// ByStorage is the share of operations that the storage has a part in of its own: it zeroes,
// copies, or compares before it writes.
func (s Pattern) ByStorage() quantity.Share { return s.Zeroes + s.Copies + s.Swaps }

// ByHost is the share of operations that read or write.
func (s Pattern) ByHost() quantity.Share { return 1 - s.Trims - s.ByStorage() }

// Written is the share of operations that write, whoever carries them out.
func (s Pattern) Written() quantity.Share { return s.ByHost()*(1-s.Reads) + s.ByStorage() }

// Classes are the classes of operation that the workload issues.
func (s Pattern) Classes() (issued []measure.Class) {
	for _, c := range []struct {
		class measure.Class
		is    bool
	}{
		{measure.Read, s.Reads > 0 && s.ByHost() > 0}, {measure.Write, s.Reads < 1 && s.ByHost() > 0}, {measure.Flush, s.SyncEvery > 0 && s.Reads < 1 && s.ByHost() > 0},
		{measure.Trim, s.Trims > 0}, {measure.Zero, s.Zeroes > 0}, {measure.Copy, s.Copies > 0}, {measure.Swap, s.Swaps > 0},
	} {
		if c.is {
			issued = append(issued, c.class)
		}
	}
	return issued
}

// Describe says in a few words what the workload does, such as
// "4 KiB, 70 % reads, random, 4 workers × depth 32, span 10 GiB".
func (s Spec) Describe() string { return s.body().Describe(s) }
