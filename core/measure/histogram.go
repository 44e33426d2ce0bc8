package measure

import (
	"fmt"
	"maps"
	"math"
	"slices"

	"github.com/HdrHistogram/hdrhistogram-go"

	"patientheron/core/quantity"
)

// longest is the longest latency that can be told apart, in nanoseconds; what
// took longer is counted as this long. The exact maximum is kept beside.
const longest = int64(3600e9)

// Histogram counts latencies. Recording allocates nothing. It keeps the exact
// sum and extremes beside the buckets. The zero value is not ready; use
// NewHistogram. It is not safe for concurrent use.
type Histogram struct {
	buckets  *hdrhistogram.Histogram
	count    int64
	sum      float64 // nanoseconds
	squares  float64
	min, max int64
}

// NewHistogram makes an empty histogram that keeps the given number of
// significant decimal digits, 1 to 5: three for a summary, two for one
// interval of a series.
func NewHistogram(digits int) *Histogram {
	return &Histogram{buckets: hdrhistogram.New(1, longest, digits), min: math.MaxInt64}
}

// Record counts one latency in nanoseconds.
func (h *Histogram) Record(nanoseconds int64) {
	if nanoseconds < 0 {
		nanoseconds = 0
	}
	h.count++
	value := float64(nanoseconds)
	h.sum += value
	h.squares += value * value
	h.min = min(h.min, nanoseconds)
	h.max = max(h.max, nanoseconds)
	_ = h.buckets.RecordValue(min(nanoseconds, longest)) // cannot fail within the range
}

// Count is the number of recorded latencies.
func (h *Histogram) Count() int64 { return h.count }

// Merge adds all that other counted.
func (h *Histogram) Merge(other *Histogram) {
	if other.count == 0 {
		return
	}
	h.buckets.Merge(other.buckets)
	h.count += other.count
	h.sum += other.sum
	h.squares += other.squares
	h.min = min(h.min, other.min)
	h.max = max(h.max, other.max)
}

// Reset forgets all that was counted and keeps the memory.
func (h *Histogram) Reset() {
	if h.count == 0 {
		return
	}
	h.buckets.Reset()
	h.count, h.sum, h.squares, h.min, h.max = 0, 0, 0, math.MaxInt64, 0
}

// Sparse is what a histogram counted, in little memory.
type Sparse struct {
	values, counts []int64
	histogram      Histogram // its exact figures, without buckets
}

// Sparse copies what h counted.
func (h *Histogram) Sparse() Sparse {
	s := Sparse{histogram: *h}
	s.histogram.buckets = nil
	if h.count == 0 {
		return s
	}
	for _, bucket := range h.buckets.Distribution() {
		if bucket.Count > 0 {
			s.values, s.counts = append(s.values, bucket.From), append(s.counts, bucket.Count)
		}
	}
	return s
}

// MergeSparse adds all that s counted.
func (h *Histogram) MergeSparse(s Sparse) {
	for i, value := range s.values {
		_ = h.buckets.RecordValues(min(value, longest), s.counts[i]) // cannot fail within the range
	}
	h.count += s.histogram.count
	h.sum += s.histogram.sum
	h.squares += s.histogram.squares
	h.min = min(h.min, s.histogram.min)
	h.max = max(h.max, s.histogram.max)
}

// Quantile is the smallest value that the share q of what was recorded does
// not exceed (the nearest-rank definition); zero when nothing was recorded.
func (h *Histogram) Quantile(q float64) quantity.Seconds {
	if h.count == 0 {
		return 0
	}
	value := h.buckets.ValueAtPercentile(q * 100)
	return seconds(min(max(value, h.min), h.max))
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
	for _, bucket := range h.buckets.Distribution() {
		if bucket.Count == 0 {
			continue
		}
		from, to := seconds(bucket.From), seconds(bucket.To+1)
		if perDecade > 0 {
			cell := int(math.Floor(math.Log10(float64(max(bucket.From, 1))) * float64(perDecade)))
			if cell == last {
				bars[len(bars)-1].Count += bucket.Count
				continue
			}
			last = cell
			from = quantity.Seconds(math.Pow(10, float64(cell)/float64(perDecade)) / 1e9)
			to = quantity.Seconds(math.Pow(10, float64(cell+1)/float64(perDecade)) / 1e9)
		}
		bars = append(bars, Bar{From: from, To: to, Count: bucket.Count})
	}
	return bars
}

// Cells counts what histograms hold by tenths of a decade, from short to long.
func Cells(histograms ...*Histogram) []Cell {
	counts := map[int]int64{}
	for _, h := range histograms {
		if h.count == 0 {
			continue
		}
		for _, bucket := range h.buckets.Distribution() {
			if bucket.Count > 0 {
				middle := float64(max(bucket.From+bucket.To, 2)) / 2
				counts[int(math.Floor(10*math.Log10(middle)))] += bucket.Count
			}
		}
	}
	cells := make([]Cell, 0, len(counts))
	for _, tenth := range slices.Sorted(maps.Keys(counts)) {
		cells = append(cells, Cell{tenth, counts[tenth]})
	}
	return cells
}

// Encode writes h in the open, compressed V2 format of HdrHistogram
// (base64 text), which readers exist for in many languages.
func (h *Histogram) Encode() ([]byte, error) {
	encoded, err := h.buckets.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	if err != nil {
		return nil, fmt.Errorf("encode a latency histogram: %w", err)
	}
	return encoded, nil
}

// DecodeHistogram reads what Encode wrote. Sums and extremes are then as
// exact as the buckets.
func DecodeHistogram(encoded []byte) (*Histogram, error) {
	buckets, err := hdrhistogram.Decode(encoded)
	if err != nil {
		return nil, fmt.Errorf("decode a latency histogram: %w", err)
	}
	h := &Histogram{buckets: buckets, count: buckets.TotalCount(), min: math.MaxInt64}
	if h.count > 0 {
		mean, deviation := buckets.Mean(), buckets.StdDev()
		h.min, h.max = buckets.Min(), buckets.Max()
		h.sum = mean * float64(h.count)
		h.squares = (deviation*deviation + mean*mean) * float64(h.count)
	}
	return h, nil
}

func seconds(nanoseconds int64) quantity.Seconds { return quantity.Seconds(nanoseconds) / 1e9 }
