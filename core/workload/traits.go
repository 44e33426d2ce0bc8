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

	// Source is the folder whose files it reads while it puts them; "" for a load that makes what
	// it writes.
	Source string

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
func (s Spec) Traits() Traits { return s.body().Traits(s) }

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
type cutter interface{ MeanPiece(Spec) quantity.Bytes }

// MeanPiece is about the mean size of what it moves at a time, in bytes; 0 of a load that moves
// no data.
func (s Spec) MeanPiece() quantity.Bytes {
	if s.Traits().Still {
		return 0
	}
	if b, does := s.body().(cutter); does {
		return b.MeanPiece(s)
	}
	return quantity.Bytes(math.Round(s.MeanBlock()))
}

// keeper is a body that keeps something in memory beside its buffers.
type keeper interface{ Keeps(Spec) quantity.Bytes }

// Keeps is the memory in bytes that a load takes beside its buffers.
func (s Spec) Keeps() quantity.Bytes {
	if b, does := s.body().(keeper); does {
		return b.Keeps(s)
	}
	return 0
}

// ender is a body that has done all there is to do at some time.
type ender interface{ WholeFiles(Spec) int64 }

// WholeFiles is how many whole files the load does until it ends; 0 where that is not known, or
// it has no end of its own.
func (s Spec) WholeFiles() int64 {
	if b, does := s.body().(ender); does {
		return b.WholeFiles(s)
	}
	return 0
}

// loner is a body that may have to be alone on its volume.
type loner interface{ Alone(Spec) string }

// Alone says why the load cannot be one of several at once, after its name; "" where it can.
func (s Spec) Alone() string {
	if b, does := s.body().(loner); does {
		return b.Alone(s)
	}
	return ""
}

// sourced is a body that may put the files of a folder.
type sourced interface{ OfSource(Spec) Spec }

// OfSource is the load that reads alone, once, what s reads to put it; s itself where that
// reads nothing.
func (s Spec) OfSource() Spec {
	if b, does := s.body().(sourced); does && s.Traits().Source != "" {
		return b.OfSource(s)
	}
	return s
}

// PassGroup is a group that is one pass of several over the same things.
type PassGroup struct {
	Of   string // what those are
	Pass int    // from 1
}

// passer is a body that tells passes apart: for each of its groups, in their order.
type passer interface{ PassGroups(Spec) []PassGroup }

// PassGroups are the groups of a load that tells its passes apart; none of any other.
func (s Spec) PassGroups() []PassGroup {
	if b, does := s.body().(passer); does {
		return b.PassGroups(s)
	}
	return nil
}

// summarizer is a body that adds what it alone knows to the figures of its groups.
type summarizer interface{ Summarize(Spec, *measure.Summary) }

// Summarize adds to a summary, whose groups and times are there, what only this kind of load
// can tell.
func (s Spec) Summarize(sum *measure.Summary) {
	if b, does := s.body().(summarizer); does {
		b.Summarize(s, sum)
	}
}

// speaker is a body that says more of an interval than which operations were done.
type speaker interface {
	InWords(Spec, measure.Interval) []string
}

// InWords says of an interval what this kind of load alone can tell, in a few words each.
func (s Spec) InWords(i measure.Interval) []string {
	if b, does := s.body().(speaker); does {
		return b.InWords(s, i)
	}
	return nil
}
