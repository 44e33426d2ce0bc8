// Package block is the kind of load that issues blocks of bytes at places of a region: of which
// sizes, in which order, reads and writes in which shares. What it issues is made by a Generator.
//
// Its type is Load, which holds nothing: what a load of blocks is, its pattern says.
package block

import (
	"fmt"
	"strconv"
	"strings"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

func init() {
	workload.Register(workload.BlockKind, workload.Registration{
		New: func() workload.Body { return Load{} }, Heading: "Block pattern", Fields: fields,
		Takes: []string{"span", "offset", "compressible", "duplicate", "think", "rate", "byteRate", "arrivals"},
	})
}

// Load is the body of a load of blocks, whose pattern says everything.
type Load struct{}

// Kind is that of blocks.
func (Load) Kind() workload.Kind { return workload.BlockKind }

// Complete has nothing to work out.
func (Load) Complete(*workload.Spec) {}

// Validate refuses what only files have.
func (Load) Validate(s workload.Spec) error {
	if s.Passes != 0 {
		return workload.Invalid("passes", "a load of blocks has no files to go through; use amount")
	}
	return nil
}

// Classes are those that the pattern asks for.
func (Load) Classes(s workload.Spec) []measure.Class { return s.Pattern.Classes() }

// Groups are none: blocks belong to no file.
func (Load) Groups(workload.Spec) []string { return nil }

// Traits are those of operations that stand for themselves.
func (Load) Traits(workload.Spec) workload.Traits {
	return workload.Traits{Plain: true, Operations: true, Main: "throughput", Done: "iops"}
}

// Describe says in a few words what the load does.
func (Load) Describe(s workload.Spec) string {
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
	if s.ByHost() <= 0 {
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

var fields = []workload.Field{
	workload.NewField("block", "block", "block size, or a mix such as 4KiB:3,64KiB:1 (size:weight)", setBlocks, func(s *workload.Spec) string { return workload.FormatBlocks(s.Blocks) }),
	workload.SpecField("reads", "reads", "share of operations that read, such as 70%", quantity.ParseShare, func(s *workload.Spec) *quantity.Share { return &s.Reads }),
	workload.SpecField("trims", "trims", "share of operations that deallocate their range (UNMAP, TRIM, punching a hole), such as 5%", quantity.ParseShare, func(s *workload.Spec) *quantity.Share { return &s.Trims }),
	workload.SpecField("zeroes", "zeroes", "share of operations that let the storage write zeros (WRITE SAME, zeroing a range), such as 5%", quantity.ParseShare, func(s *workload.Spec) *quantity.Share { return &s.Zeroes }),
	workload.SpecField("copies", "copies", "share of operations that let the storage copy a range within the span (EXTENDED COPY)", quantity.ParseShare, func(s *workload.Spec) *quantity.Share { return &s.Copies }),
	workload.SpecField("swaps", "swaps", "share of operations that compare and write in one step (COMPARE AND WRITE), as hosts do that lock on shared storage", quantity.ParseShare, func(s *workload.Spec) *quantity.Share { return &s.Swaps }),
	workload.SpecField("order", "order", "random, skewed, sequential, strided or descending", workload.Word[workload.Order], func(s *workload.Spec) *workload.Order { return &s.Order }),
	workload.SpecField("skew", "skew", "Zipf exponent of a skewed order, such as 0.99", quantity.ParseNumber, func(s *workload.Spec) *float64 { return &s.Skew }),
	workload.NewField("hot", "hot", "hot region of a skewed order: 80%/20% sends 80% of accesses to 20% of the span", setHot, getHot),
	workload.SpecField("streams", "streams", "sequential streams of each worker", strconv.Atoi, func(s *workload.Spec) *int { return &s.Streams }),
	workload.SpecField("stride", "stride", "distance between operation starts of a strided order", quantity.ParseBytes, func(s *workload.Spec) *quantity.Bytes { return &s.Stride }),
	workload.SpecField("align", "align", "offsets are multiples of this (default: of the block size)", quantity.ParseBytes, func(s *workload.Spec) *quantity.Bytes { return &s.Align }),
	workload.SpecField("syncEvery", "sync-every", "flush to stable storage after this many writes of a worker", strconv.Atoi, func(s *workload.Spec) *int { return &s.SyncEvery }),
}

// setBlocks reads "4KiB" or "4KiB:3,64KiB:1".
func setBlocks(s *workload.Spec, text string) error {
	blocks, err := workload.ParseBlocks(text)
	if err != nil {
		return err
	}
	s.Blocks = blocks
	return nil
}

func getHot(s *workload.Spec) string {
	if s.HotAccesses == 0 && s.HotSpan == 0 {
		return ""
	}
	accesses, _ := s.HotAccesses.MarshalYAML()
	span, _ := s.HotSpan.MarshalYAML()
	return string(accesses) + "/" + string(span)
}

func setHot(s *workload.Spec, text string) error {
	accesses, span, found := strings.Cut(text, "/")
	if !found {
		return fmt.Errorf("%q; write it like 80%%/20%%", text)
	}
	var err error
	if s.HotAccesses, err = quantity.ParseShare(accesses); err != nil {
		return err
	}
	s.HotSpan, err = quantity.ParseShare(span)
	return err
}
