package block

import (
	"cmp"
	"math/bits"
	"math/rand/v2"
	"slices"

	"patientheron/core/measure"
	"patientheron/core/quantity"
	"patientheron/core/workload"
)

// Generator yields the accesses of one worker. It allocates nothing after
// NewGenerator and is not safe for concurrent use.
type Generator struct {
	random    *rand.PCG
	trimBelow uint64      // a draw below this trims; zero never does
	storage   []byStorage // what the storage has a part in of its own
	readBelow uint64      // a draw below this reads; all ones reads always
	always    bool
	sizes     []size
	next      func(g *Generator, s *size) int64
	streams   []stream
	current   int
	zipf      *workload.Zipf
	hot       hotRegion
	stride    int64
	strideAt  int64
	base      int64 // start of the region
	span      int64
}

// size is one block size of the mix, with what depends on it precomputed.
type size struct {
	below  uint64 // a draw below this (and not below the one before) chooses it
	length int
	align  int64
	places uint64 // number of aligned offsets at which it fits
}

// stream is one sequential stream: its region and where it stands.
type stream struct{ start, end, at int64 }

// NewGenerator prepares the accesses of worker (0 to spec.Workers-1). Span
// must be set: a volume of fixed size fills it in before.
func NewGenerator(spec workload.Spec, worker int) (*Generator, error) {
	spec = spec.Completed()
	if err := spec.Validate(); err != nil {
		return nil, err
	}
	if spec.Span == 0 {
		return nil, workload.Invalid("span", "is not known")
	}
	g := &Generator{
		// The two words of the seed are far apart for neighbouring workers.
		random: rand.NewPCG(spec.Seed, 0x9e3779b97f4a7c15*uint64(worker+1)),
		base:   int64(spec.Offset),
		span:   int64(spec.Span),
		always: spec.Reads == 1,
	}
	g.readBelow, g.trimBelow = workload.Threshold(float64(spec.Reads)), workload.Threshold(float64(spec.Trims))
	running := quantity.Share(0)
	for class, share := range map[measure.Class]quantity.Share{measure.Zero: spec.Zeroes, measure.Copy: spec.Copies, measure.Swap: spec.Swaps} {
		if share > 0 {
			g.storage = append(g.storage, byStorage{class: class, share: share})
		}
	}
	slices.SortFunc(g.storage, func(a, b byStorage) int { return cmp.Compare(a.class, b.class) })
	for i := range g.storage { // of what does not trim
		running += g.storage[i].share
		g.storage[i].below = workload.Threshold(float64(running) / float64(1-spec.Trims))
	}
	g.prepareSizes(spec)
	switch spec.Order {
	case workload.Random:
		g.next = (*Generator).uniform
	case workload.Skewed:
		g.prepareSkew(spec)
	case workload.Strided:
		g.stride, g.next = int64(spec.Stride), (*Generator).strided
		// Workers start evenly apart on the ring of strides.
		steps := (g.span-int64(spec.LargestBlock()))/g.stride + 1
		g.strideAt = steps * int64(worker) / int64(spec.Workers) * g.stride
	case workload.Sequential, workload.Descending:
		if err := g.prepareStreams(spec, worker); err != nil {
			return nil, err
		}
	}
	return g, nil
}

func (g *Generator) prepareSizes(spec workload.Spec) {
	weights := 0.0
	for _, b := range spec.Blocks {
		weights += b.Weight
	}
	running := 0.0
	for _, b := range spec.Blocks {
		running += b.Weight / weights
		align := int64(spec.Align)
		if align == 0 {
			align = int64(b.Size)
		}
		g.sizes = append(g.sizes, size{
			below: workload.Threshold(running), length: int(b.Size), align: align,
			places: uint64((g.span-int64(b.Size))/align + 1),
		})
	}
	g.sizes[len(g.sizes)-1].below = ^uint64(0)
}

func (g *Generator) prepareSkew(spec workload.Spec) {
	if spec.Skew > 0 {
		// Ranks are drawn over the places of the smallest block, so that the
		// same bytes are hot whatever the size of the operation.
		smallest := g.sizes[0]
		for _, s := range g.sizes {
			if s.places > smallest.places {
				smallest = s
			}
		}
		g.zipf = workload.NewZipf(spec.Skew, smallest.places)
		g.next = (*Generator).zipfian
		return
	}
	g.hot = hotRegion{accesses: workload.Threshold(float64(spec.HotAccesses)), share: float64(spec.HotSpan)}
	g.next = (*Generator).hotAndCold
}

func (g *Generator) prepareStreams(spec workload.Spec, worker int) error {
	count := int64(spec.Workers) * int64(spec.Streams)
	unit := int64(spec.LargestBlock())
	if spec.Align > 0 { // then regions begin where operations may
		unit = workload.AlignUp(unit, int64(spec.Align))
	}
	region := g.span / count / unit * unit
	for i := range int64(spec.Streams) {
		start := (int64(worker)*int64(spec.Streams) + i) * region
		s := stream{start: start, end: start + region, at: start}
		for _, size := range g.sizes {
			if workload.AlignUp(s.start, size.align)+int64(size.length) > s.end || workload.AlignDown(s.end-int64(size.length), size.align) < s.start {
				return workload.Invalid("streams", "%d workers × %d streams leave each %s of the span of %s, in which a block of %s does not always fit; use a larger span",
					spec.Workers, spec.Streams, quantity.Bytes(g.span/count), spec.Span, quantity.Bytes(size.length))
			}
		}
		if spec.Order == workload.Descending {
			s.at = s.end
		}
		g.streams = append(g.streams, s)
	}
	g.next = (*Generator).sequential
	if spec.Order == workload.Descending {
		g.next = (*Generator).descending
	}
	return nil
}

// Next yields the next access.
func (g *Generator) Next(a *workload.Access) {
	s := &g.sizes[0]
	if len(g.sizes) > 1 {
		draw := g.random.Uint64()
		for i := range g.sizes {
			if s = &g.sizes[i]; draw < s.below {
				break
			}
		}
	}
	class := measure.Write
	if g.trimBelow > 0 && g.random.Uint64() < g.trimBelow {
		class = measure.Trim
	} else if by := g.ofStorage(); by != measure.Write {
		class = by
	} else if g.always || (g.readBelow > 0 && g.random.Uint64() < g.readBelow) {
		class = measure.Read
	}
	*a = workload.Access{Class: class, Offset: g.base + g.next(g, s), Length: s.length}
	if class == measure.Copy {
		a.Source = g.base + g.elsewhere(s, a.Offset-g.base)
	}
}

// byStorage is a class of operations that the storage has a part in of its own.
type byStorage struct {
	class measure.Class
	share quantity.Share
	below uint64 // a draw below this, and not below the one before, chooses it
}

// ofStorage draws whether the next operation is one of those; what is none is called a
// write.
func (g *Generator) ofStorage() measure.Class {
	if len(g.storage) == 0 {
		return measure.Write
	}
	draw := g.random.Uint64()
	for _, s := range g.storage {
		if draw < s.below || s.below == ^uint64(0) {
			return s.class
		}
	}
	return measure.Write
}

// elsewhere draws a place that has nothing in common with the one at an offset. In a span of
// four blocks there always is one on one of its sides.
func (g *Generator) elsewhere(s *size, at int64) int64 {
	for range 16 {
		if from := g.uniform(s); from+int64(s.length) <= at || from >= at+int64(s.length) {
			return from
		}
	}
	if at >= int64(s.length) {
		return workload.AlignDown(at-int64(s.length), s.align)
	}
	return workload.AlignUp(at+int64(s.length), s.align)
}

// below draws uniformly from 0 to n-1 by multiplication; the bias is at most
// n/2^64 (Lemire, Fast Random Integer Generation in an Interval, 2019).
func (g *Generator) below(n uint64) uint64 {
	high, _ := bits.Mul64(g.random.Uint64(), n)
	return high
}

func (g *Generator) uniform(s *size) int64 { return int64(g.below(s.places)) * s.align }

func (g *Generator) zipfian(s *size) int64 {
	place := g.zipf.Scatter(g.zipf.Rank(g.random))
	if s.places == g.zipf.Count {
		return int64(place) * s.align
	}
	high, low := bits.Mul64(place, s.places)
	scaled, _ := bits.Div64(high, low, g.zipf.Count)
	return int64(scaled) * s.align
}

// hotRegion sends a share of the accesses to the first part of the span.
type hotRegion struct {
	accesses uint64
	share    float64
}

func (g *Generator) hotAndCold(s *size) int64 {
	hot := min(max(uint64(float64(s.places)*g.hot.share), 1), s.places)
	if g.random.Uint64() < g.hot.accesses || hot == s.places {
		return int64(g.below(hot)) * s.align
	}
	return int64(hot+g.below(s.places-hot)) * s.align
}

func (g *Generator) strided(s *size) int64 {
	if g.strideAt+int64(s.length) > g.span {
		g.strideAt = 0
	}
	at := g.strideAt
	g.strideAt += g.stride
	return at
}

func (g *Generator) turn() *stream {
	s := &g.streams[g.current]
	if g.current++; g.current == len(g.streams) {
		g.current = 0
	}
	return s
}

func (g *Generator) sequential(s *size) int64 {
	stream := g.turn()
	at := workload.AlignUp(stream.at, s.align)
	if at+int64(s.length) > stream.end {
		at = workload.AlignUp(stream.start, s.align)
	}
	stream.at = at + int64(s.length)
	return at
}

func (g *Generator) descending(s *size) int64 {
	stream := g.turn()
	at := workload.AlignDown(stream.at-int64(s.length), s.align)
	if at < stream.start {
		at = workload.AlignDown(stream.end-int64(s.length), s.align)
	}
	stream.at = at
	return at
}
