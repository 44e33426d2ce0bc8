package measure

import (
	"fmt"
	"math"
	"math/bits"

	"github.com/HdrHistogram/hdrhistogram-go"

	"patientheron/core/quantity"
)

// longest is the longest latency that can be told apart, in nanoseconds; what
// took longer is counted as this long. The exact maximum is kept beside.
const longest = int64(3600e9)

// The buckets are those of a high dynamic range histogram of three significant
// digits: the first 2048 are a nanosecond wide, and from there on every power of
// two is cut into 1024 of equal width (Tene, HdrHistogram). Package hdrhistogram
// does the encoding; counting is done here, because the hot path wants no more
// than an index and an addition, and intervals want only what was touched.
const (
	digits    = 3
	halfBits  = 10
	wholeMask = 1<<(halfBits+1) - 1
	// buckets is one more than the bucket of the longest latency.
	buckets = 33421
)

// bucketOf is the number of the bucket that holds a latency of 0 to longest.
func bucketOf(nanoseconds int64) int {
	shift := bits.Len64(uint64(nanoseconds)|wholeMask) - (halfBits + 1)
	return shift<<halfBits + int(nanoseconds>>shift)
}

// edges are the smallest and the largest latency of a bucket.
func edges(bucket int) (from, to int64) {
	shift := max(bucket>>halfBits-1, 0)
	from = int64(bucket-shift<<halfBits) << shift
	return from, from + 1<<shift - 1
}

// exact is what is known of latencies beside their buckets.
type exact struct {
	count    int64
	sum      float64 // nanoseconds
	squares  float64
	min, max int64
}

func (e *exact) merge(other exact) {
	e.count += other.count
	e.sum += other.sum
	e.squares += other.squares
	e.min = min(e.min, other.min)
	e.max = max(e.max, other.max)
}

// Histogram counts latencies. Recording allocates nothing. It keeps the exact
// sum and extremes beside the buckets. The zero value is not ready; use
// NewHistogram. It is not safe for concurrent use.
type Histogram struct {
	exact
	counts    []int64
	low, high int // buckets that hold something lie within; low > high when none does
}

// NewHistogram makes an empty histogram with a relative error of at most 0.1 %.
func NewHistogram() *Histogram {
	return &Histogram{exact: exact{min: math.MaxInt64}, counts: make([]int64, buckets), low: buckets, high: -1}
}

// Record counts one latency in nanoseconds.
func (h *Histogram) Record(nanoseconds int64) { h.RecordAlike(1, nanoseconds) }

// RecordAlike counts a latency so many times.
func (h *Histogram) RecordAlike(count, nanoseconds int64) {
	nanoseconds = max(nanoseconds, 0)
	h.count += count
	value := float64(nanoseconds)
	h.sum += float64(count) * value
	h.squares += float64(count) * (value * value)
	h.min = min(h.min, nanoseconds)
	h.max = max(h.max, nanoseconds)
	h.put(bucketOf(min(nanoseconds, longest)), count)
}

func (h *Histogram) put(bucket int, count int64) {
	h.counts[bucket] += count
	h.low = min(h.low, bucket)
	h.high = max(h.high, bucket)
}

// Count is the number of recorded latencies.
func (h *Histogram) Count() int64 { return h.count }

// Merge adds all that other counted.
func (h *Histogram) Merge(other *Histogram) {
	h.exact.merge(other.exact)
	for bucket := other.low; bucket <= other.high; bucket++ {
		if n := other.counts[bucket]; n > 0 {
			h.put(bucket, n)
		}
	}
}

// Reset removes all that was counted and keeps the memory.
func (h *Histogram) Reset() {
	if h.high >= h.low {
		clear(h.counts[h.low : h.high+1])
	}
	h.exact, h.low, h.high = exact{min: math.MaxInt64}, buckets, -1
}

// Quantile is the smallest value that the share q of what was recorded does
// not exceed (the nearest-rank definition); zero when nothing was recorded.
func (h *Histogram) Quantile(q float64) quantity.Seconds {
	if h.count == 0 {
		return 0
	}
	// A share such as 0.99 is not exact in binary: what lies above a whole rank
	// by less than that does not ask for the next.
	rank := int64(math.Ceil(q * float64(h.count) * (1 - 1e-12)))
	rank = min(max(rank, 1), h.count)
	seen := int64(0)
	for bucket := h.low; bucket <= h.high; bucket++ {
		if seen += h.counts[bucket]; seen >= rank {
			_, to := edges(bucket)
			return seconds(min(max(to, h.min), h.max))
		}
	}
	return seconds(h.max)
}

// Mean is the exact arithmetic mean; zero when nothing was recorded.
func (h *Histogram) Mean() quantity.Seconds {
	if h.count == 0 {
		return 0
	}
	return quantity.Seconds(h.sum / float64(h.count) / 1e9)
}

// Max is the exact maximum; zero when nothing was recorded.
func (h *Histogram) Max() quantity.Seconds { return seconds(h.max) }

// Latency summarises h in figures; all zero when nothing was recorded.
func (h *Histogram) Latency() Latency {
	if h.count == 0 {
		return Latency{}
	}
	mean := h.sum / float64(h.count)
	variance := max(h.squares/float64(h.count)-mean*mean, 0)
	return Latency{
		Mean: h.Mean(), Deviation: quantity.Seconds(math.Sqrt(variance) / 1e9), Min: seconds(h.min),
		P50: h.Quantile(0.5), P90: h.Quantile(0.9), P95: h.Quantile(0.95), P99: h.Quantile(0.99),
		P999: h.Quantile(0.999), P9999: h.Quantile(0.9999), Max: h.Max(),
	}
}

// Bar is one bucket of a histogram that holds something: latencies above From
// and up to To.
type Bar struct {
	From  quantity.Seconds `json:"fromSeconds"`
	To    quantity.Seconds `json:"toSeconds"`
	Count int64            `json:"count"`
}

// Bars lists the buckets that hold something, from short to long, joined so
// that each decade has at most perDecade of them. At 0 all buckets are given
// as they were recorded.
func (h *Histogram) Bars(perDecade int) []Bar {
	var bars []Bar
	last := math.MinInt
	for bucket := h.low; bucket <= h.high; bucket++ {
		count := h.counts[bucket]
		if count == 0 {
			continue
		}
		low, high := edges(bucket)
		from, to := seconds(low), seconds(high+1)
		if perDecade > 0 {
			cell := int(math.Floor(math.Log10(float64(max(low, 1))) * float64(perDecade)))
			if cell == last {
				bars[len(bars)-1].Count += count
				continue
			}
			last = cell
			from = quantity.Seconds(math.Pow(10, float64(cell)/float64(perDecade)) / 1e9)
			to = quantity.Seconds(math.Pow(10, float64(cell+1)/float64(perDecade)) / 1e9)
		}
		bars = append(bars, Bar{From: from, To: to, Count: count})
	}
	return bars
}

// tenths counts what h holds by tenths of a decade.
func (h *Histogram) tenths(into map[int]int64) {
	for bucket := h.low; bucket <= h.high; bucket++ {
		if count := h.counts[bucket]; count > 0 {
			low, high := edges(bucket)
			middle := float64(max(low+high, 2)) / 2
			into[int(math.Floor(10*math.Log10(middle)))] += count
		}
	}
}

// Encode writes h in the open, compressed V2 format of HdrHistogram
// (base64 text), which readers exist for in many languages.
func (h *Histogram) Encode() ([]byte, error) {
	whole := hdrhistogram.New(1, longest, digits)
	for bucket := h.low; bucket <= h.high; bucket++ {
		if count := h.counts[bucket]; count > 0 {
			low, _ := edges(bucket)
			_ = whole.RecordValues(low, count) // cannot fail within the range
		}
	}
	encoded, err := whole.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		return nil, fmt.Errorf("encode a latency histogram: %w", err)
	}
	return encoded, nil
}

// DecodeHistogram reads what Encode wrote. Sums and extremes are then as
// exact as the buckets.
func DecodeHistogram(encoded []byte) (*Histogram, error) {
	whole, err := hdrhistogram.Decode(encoded)
	if err != nil {
		return nil, fmt.Errorf("decode a latency histogram: %w", err)
	}
	h := NewHistogram()
	h.count = whole.TotalCount()
	if h.count == 0 {
		return h, nil
	}
	for _, bar := range whole.Distribution() {
		if bar.Count > 0 {
			h.put(bucketOf(min(bar.From, longest)), bar.Count)
		}
	}
	mean, deviation := whole.Mean(), whole.StdDev()
	h.min, h.max = whole.Min(), whole.Max()
	h.sum = mean * float64(h.count)
	h.squares = (deviation*deviation + mean*mean) * float64(h.count)
	return h, nil
}

func seconds(nanoseconds int64) quantity.Seconds { return quantity.Seconds(nanoseconds) / 1e9 }
