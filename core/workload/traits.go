package workload

import (
	"math"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// Traits is what the rest of the product has to know of a load. It is asked for these rather
// than for its kind, so that a further kind is told nowhere but in its own room.
type Traits struct {
	// Plain says that each operation is one of those the load describes: none belongs to
	// something larger (a file, a stream, a request) that is counted by itself.
	Plain bool
	// Operations says that operations are its measure: it has IOPS and their latencies.
	Operations bool
	// OwnSizes says that what it issues is of many sizes, which follow from its own work, and
	// that its depth is the most that can be in flight.
	OwnSizes bool
	// OwnDepth says that how much is in flight follows from its requests.
	OwnDepth bool
	// OnFiles says that it works in a tree of files rather than in a region of the volume.
	OnFiles bool
	// Still says that it moves no data.
	Still bool
	// Uneven says that what it does changes along the way by itself.
	Uneven bool
	// Ends says that it can have done all there is to do.
	Ends bool

	// Main is the key of the figure that matters most at no set rate, and Done the key of the
	// one that says how much was done of a set rate.
	Main, Done string

	// Content is what it writes, where that is not what its pattern says.
	Content *Mix
	// Handles is how many files each worker has open at a time.
	Handles int

	// Streams is what it keeps to; nil for a load without deadlines.
	Streams *Streaming
}

// Mix is how far data can be reduced.
type Mix struct{ Compressible, Duplicate float64 }

// Streaming is what a load with deadlines keeps to.
type Streaming struct {
	Count  int              // streams, of all workers together
	Buffer quantity.Seconds // how long after it was asked for a piece is late
}

// Traits are those of the load.
func (s Spec) Traits() Traits { return s.Body().Traits() }

// Several reports whether it is several loads at once, each of a kind of its own.
func (s Spec) Several() bool { return s.Kind == TogetherKind }

// Deadlines reports whether its operations come at a rate of their own and have to be there
// by a time.
func (s Spec) Deadlines() bool { return s.Traits().Streams != nil }

// Footprint is the size of all that it works on: its region, and of several loads at once the
// files of those that work on files.
func (s Spec) Footprint() quantity.Bytes {
	sum := s.Span
	if s.Several() {
		files, _ := s.OfFiles()
		for _, p := range files {
			sum += p.Completed().Span
		}
	}
	return sum
}

// cutter is a body whose pieces are of other sizes than its block sizes.
type cutter interface{ MeanPiece() quantity.Bytes }

// MeanPiece is about the mean size of what it moves at a time, in bytes; 0 of a load that moves
// no data.
func (s Spec) MeanPiece() quantity.Bytes {
	if s.Traits().Still {
		return 0
	}
	if b, does := s.Body().(cutter); does {
		return b.MeanPiece()
	}
	return quantity.Bytes(math.Round(s.MeanBlock()))
}

// keeper is a body that keeps something in memory beside its buffers.
type keeper interface{ Keeps(Spec) quantity.Bytes }

// Keeps is the memory in bytes that a load takes beside its buffers.
func (s Spec) Keeps() quantity.Bytes {
	if b, does := s.Body().(keeper); does {
		return b.Keeps(s)
	}
	return 0
}

// ender is a body that has done all there is to do at some time.
type ender interface{ WholeFiles() int64 }

// WholeFiles is how many whole files the load does until it ends; 0 where that is not known, or
// it has no end of its own.
func (s Spec) WholeFiles() int64 {
	if b, does := s.Body().(ender); does {
		return b.WholeFiles()
	}
	return 0
}

// PassGroup is a group that is one pass of several over the same things.
type PassGroup struct {
	Of   string // what those are
	Pass int    // from 1
}

// passer is a body that tells passes apart: for each of its groups, in their order.
type passer interface{ PassGroups() []PassGroup }

// PassGroups are the groups of a load that tells its passes apart; none of any other.
func (s Spec) PassGroups() []PassGroup {
	if b, does := s.Body().(passer); does {
		return b.PassGroups()
	}
	return nil
}

// summarizer is a body that adds what it alone knows to the figures of its groups.
type summarizer interface{ Summarize(*measure.Summary) }

// Summarize adds to a summary, whose groups and times are there, what only this kind of load
// can tell.
func (s Spec) Summarize(sum *measure.Summary) {
	if b, does := s.Body().(summarizer); does {
		b.Summarize(sum)
	}
}

// speaker is a body that says more of an interval than which operations were done.
type speaker interface {
	InWords(measure.Interval) []string
}

// InWords says of an interval what this kind of load alone can tell, in a few words each.
func (s Spec) InWords(i measure.Interval) []string {
	if b, does := s.Body().(speaker); does {
		return b.InWords(i)
	}
	return nil
}
