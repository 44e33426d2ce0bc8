package workload

import (
	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

func Invalid(field, format string, args ...any) error {
	return mistake.In(ErrInvalid, field, format, args...)
}

// Validate reports the first thing about s that cannot be, as a *mistake.Error.
// It does not know the volume: alignment and free space are checked there.
func (s Spec) Validate() error {
	if err := s.checkKind(); err != nil {
		return err
	}
	if err := s.body().Validate(s); err != nil {
		return err
	}
	s = s.Completed()
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
		return Invalid("block", "no block size is given; try 4KiB")
	}
	if len(s.Blocks) > 32 {
		return Invalid("block", "%d sizes in one mix; at most 32", len(s.Blocks))
	}
	for _, b := range s.Blocks {
		if b.Size < 1 || b.Size > 64*quantity.MiB {
			return Invalid("block", "%s; a block is from 1 byte to 64 MiB", b.Size)
		}
		if !(b.Weight > 0) || b.Weight > 1e9 {
			return Invalid("block", "weight %g of %s; a weight is above 0 and at most 1e9", b.Weight, b.Size)
		}
	}
	if !(s.Reads >= 0 && s.Reads <= 1) {
		return Invalid("reads", "%g; a share is from 0%% to 100%%", float64(s.Reads))
	}
	if !(s.Trims >= 0 && s.Trims <= mostTrims) {
		return Invalid("trims", "%g; a share from 0%% to 90%%, since trims alone move nothing that could be measured", float64(s.Trims))
	}
	if err := validShares([]namedShare{{"zeroes", s.Zeroes}, {"copies", s.Copies}, {"swaps", s.Swaps}}); err != nil {
		return err
	}
	if all := s.Trims + s.ByStorage(); all > 1 {
		return Invalid("copies", "trims, zeroes, copies and swaps are %s of the operations together; at most 100%%", all)
	}
	if least := 4 * max(s.LargestBlock(), s.Align); s.Copies > 0 && s.Span > 0 && s.Span < least {
		return Invalid("copies", "a span of %s has not always room beside a block for what is copied to it; use at least %s", s.Span, least)
	}
	return validShares([]namedShare{{"compressible", s.Compressible}, {"duplicate", s.Duplicate}})
}

type namedShare struct {
	field string
	share quantity.Share
}

// validShares reports the first share that is none.
func validShares(all []namedShare) error {
	for _, s := range all {
		if !(s.share >= 0 && s.share <= 1) {
			return Invalid(s.field, "%g; a share is from 0%% to 100%%", float64(s.share))
		}
	}
	return nil
}

func (s Spec) validateOrder() error {
	switch s.Order {
	case Random, Sequential, Descending:
	case Strided:
		if s.Stride < s.LargestBlock() {
			return Invalid("stride", "%s is shorter than the block of %s; use a longer stride, or order sequential", s.Stride, s.LargestBlock())
		}
	case Skewed:
		hot := s.HotAccesses > 0 || s.HotSpan > 0
		switch {
		case s.Skew > 0 && hot:
			return Invalid("skew", "both a Zipf exponent and a hot region are given; keep one")
		case s.Skew > 0 && s.Skew > 5:
			return Invalid("skew", "%g; the exponent is above 0 and at most 5", s.Skew)
		case s.Skew > 0:
		case !hot:
			return Invalid("skew", "a skewed order needs a Zipf exponent (skew 0.99) or a hot region (hot 80%%/20%%)")
		case !(s.HotAccesses > 0 && s.HotAccesses < 1 && s.HotSpan > 0 && s.HotSpan < 1):
			return Invalid("hot", "%s of accesses to %s of the span; both are above 0%% and below 100%%", s.HotAccesses, s.HotSpan)
		}
	default:
		return Invalid("order", "%q; one of random, skewed, sequential, strided, descending", s.Order)
	}
	if s.Order != Skewed && (s.Skew != 0 || s.HotAccesses != 0 || s.HotSpan != 0) {
		return Invalid("skew", "is set but the order is %s; use order skewed", s.Order)
	}
	if s.Order != Strided && s.Stride != 0 {
		return Invalid("stride", "is set but the order is %s; use order strided", s.Order)
	}
	if s.Streams < 0 || s.Streams > 4096 {
		return Invalid("streams", "%d; from 1 to 4096", s.Streams)
	}
	if s.Streams > 1 && s.Order != Sequential && s.Order != Descending {
		return Invalid("streams", "%d streams need order sequential or descending, not %s", s.Streams, s.Order)
	}
	return nil
}

func (s Spec) validateLimits() error {
	if s.Depth < 1 || s.Depth > 4096 {
		return Invalid("depth", "%d; each worker keeps from 1 to 4096 operations in flight", s.Depth)
	}
	if s.Workers < 1 || s.Workers > 1024 {
		return Invalid("workers", "%d; from 1 to 1024", s.Workers)
	}
	if buffers := int64(s.Workers) * int64(s.Depth) * int64(s.LargestBlock()); buffers > 16<<30 && s.Kind != TogetherKind { // each of which has its own
		return Invalid("depth", "%d workers × depth %d × %s would need %s of buffers; keep it within 16 GiB",
			s.Workers, s.Depth, s.LargestBlock(), quantity.Bytes(buffers))
	}
	if s.Span < 0 || s.Offset < 0 || s.Align < 0 || s.Amount < 0 || s.Stride < 0 {
		return Invalid("span", "sizes cannot be negative")
	}
	if s.Offset+s.Span < 0 {
		return Invalid("span", "offset and span together exceed 8 EiB")
	}
	if s.Span > 0 && s.Span < s.LargestBlock() {
		return Invalid("span", "%s is smaller than one block of %s; use a larger span", s.Span, s.LargestBlock())
	}
	if s.Align > 0 && s.Span > 0 && s.Align > s.Span {
		return Invalid("align", "%s is more than the span of %s", s.Align, s.Span)
	}
	if !(s.For >= 0 && s.For <= 30*86400) {
		return Invalid("for", "%g s; at most 30 days", float64(s.For))
	}
	if s.Passes < 0 || s.Passes > 1e6 {
		return Invalid("passes", "%d; up to a million", s.Passes)
	}
	if s.Passes > 0 && s.WarmUp > 0 {
		return Invalid("warmUp", "a load that goes through its files so many times begins with the first; leave the warm-up out")
	}
	if s.For == 0 && s.Amount == 0 && s.Passes == 0 {
		return Invalid("for", "neither a time nor an amount ends this measurement; try --for 60s")
	}
	if s.Patient() && s.For == 0 {
		return Invalid("for", "waiting until enough is known needs a time after which to give up; try --for 10min")
	}
	if !(s.Margin >= 0 && s.Margin < 1) || s.Margin > 0 && s.Margin < 0.0001 {
		return Invalid("margin", "%g; from 0.01%% to below 100%%", float64(s.Margin))
	}
	if !(s.WarmUp >= 0 && s.WarmUp <= 86400) {
		return Invalid("warmUp", "%g s; at most one day", float64(s.WarmUp))
	}
	if s.Interval != 0 && !(s.Interval >= 0.1 && s.Interval <= 10) {
		return Invalid("interval", "%g s; from 100ms to 10s", float64(s.Interval))
	}
	if s.OnError != "" && s.OnError != End && s.OnError != Continue {
		return Invalid("onError", "%q; end or continue", s.OnError)
	}
	if s.SyncEvery < 0 {
		return Invalid("syncEvery", "%d; a number of writes, or 0 for never", s.SyncEvery)
	}
	if s.Seed > 1<<53-1 {
		return Invalid("seed", "%d; at most 9007199254740991, so that every JSON reader keeps it exact", s.Seed)
	}
	return nil
}

func (s Spec) validatePace() error {
	if !(s.Think >= 0 && s.Think <= 86400) || !(s.Rate >= 0 && s.Rate <= 1e9) || !(s.ByteRate >= 0 && s.ByteRate <= 1e15) {
		return Invalid("rate", "think time, rate and throughput are zero or positive; at most a day, 1e9/s and 1 PB/s")
	}
	if s.Rate > 0 && s.ByteRate > 0 {
		return Invalid("rate", "both operations and bytes per second are set; keep one")
	}
	if s.Open() && s.Think > 0 {
		return Invalid("think", "think time belongs to a closed loop; leave it out when a rate is set")
	}
	switch s.Arrivals {
	case "", Constant, Poisson:
	default:
		return Invalid("arrivals", "%q; constant or poisson", s.Arrivals)
	}
	if s.Arrivals != "" && !s.Open() {
		return Invalid("arrivals", "is set without a rate")
	}
	return nil
}
