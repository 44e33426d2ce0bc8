package measure

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// The oracle for every percentile is the raw values, sorted.
func TestPercentilesAgreeWithASort(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for name, draw := range map[string]func() float64{
		"exponential": func() float64 { return random.ExpFloat64() * 2e6 },
		"log-normal":  func() float64 { return math.Exp(random.NormFloat64()*1.5 + 12) },
		"two modes":   func() float64 { return 80e3 + random.Float64()*1e4 + float64(random.IntN(50)/49)*9e6 },
		"constant":    func() float64 { return 12345 },
	} {
		h := NewHistogram()
		values := make([]int64, 100_003)
		sum := 0.0
		for i := range values {
			values[i] = int64(draw())
			sum += float64(values[i])
			h.Record(values[i])
		}
		slices.Sort(values)
		for _, q := range []float64{0, 0.5, 0.9, 0.95, 0.99, 0.999, 0.9999, 1} {
			rank := max(int(math.Ceil(q*float64(len(values)))), 1)
			want := float64(values[rank-1])
			if got := float64(h.Quantile(q)) * 1e9; math.Abs(got-want) > want*0.001+1 {
				t.Errorf("%s: quantile %g is %.0f ns, the sorted values say %.0f", name, q, got, want)
			}
		}
		if got := float64(h.Mean()) * 1e9; math.Abs(got-sum/float64(len(values))) > 1 {
			t.Errorf("%s: mean %.1f, want %.1f", name, got, sum/float64(len(values)))
		}
		if l := h.Latency(); float64(l.Max)*1e9 != float64(values[len(values)-1]) || math.Round(float64(l.Min)*1e9) != float64(values[0]) {
			t.Errorf("%s: extremes %v and %v are not exact", name, l.Min, l.Max)
		}
	}
}

func TestMergingEqualsRecordingTogether(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	together, a, b := NewHistogram(), NewHistogram(), NewHistogram()
	for i := range 20_000 {
		v := int64(random.ExpFloat64() * 1e6)
		together.Record(v)
		[]*Histogram{a, b}[i%2].Record(v)
	}
	a.Merge(b)
	a.Merge(NewHistogram())
	got, want := a.Latency(), together.Latency()
	if math.Abs(float64(got.Mean-want.Mean)) > 1e-15 || math.Abs(float64(got.Deviation-want.Deviation)) > 1e-12 {
		t.Errorf("merged %+v, together %+v", got, want)
	}
	got.Mean, got.Deviation = want.Mean, want.Deviation // sums of floats may differ in the last digit
	if got != want {
		t.Errorf("merged %+v, together %+v", got, want)
	}
}

// So many at once are counted as they are one by one; and nothing of a negative or a very
// long one is different.
func TestAlikeAreCountedAsOneByOne(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	single, alike := NewTally(false, Read, Write), NewTally(false, Read, Write)
	for range 2000 {
		class, count, latency := Class(random.IntN(2)), 1+random.Int64N(64), int64(random.ExpFloat64()*1e6)
		switch random.IntN(50) {
		case 0:
			latency = -latency
		case 1:
			latency += longest
		}
		for range count {
			single.Record(class, 4096, latency)
		}
		alike.RecordAlike(class, count, count*4096, latency)
	}
	for _, class := range []Class{Read, Write} {
		a, b := single.Counts[class], alike.Counts[class]
		got, want := b.Latency.Latency(), a.Latency.Latency()
		if math.Abs(float64(got.Mean/want.Mean-1)) > 1e-9 || math.Abs(float64(got.Deviation/want.Deviation-1)) > 1e-6 {
			t.Errorf("%s: %+v, one by one %+v", class, got, want)
		}
		got.Mean, got.Deviation = want.Mean, want.Deviation
		if got != want || a.Operations != b.Operations || a.Bytes != b.Bytes || a.Latency.Count() != b.Latency.Count() {
			t.Errorf("%s: %+v, one by one %+v", class, b, a)
		}
	}
}

func TestEncodingKeepsTheDistribution(t *testing.T) {
	h := NewHistogram()
	for v := int64(1); v < 1e9; v = v*3/2 + 7 {
		h.Record(v)
	}
	encoded, err := h.Encode()
	if err != nil {
		t.Fatal(err)
	}
	back, err := DecodeHistogram(encoded)
	if err != nil || back.Count() != h.Count() || back.Quantile(0.5) != h.Quantile(0.5) {
		t.Errorf("%v: %d latencies, median %v; had %d, %v", err, back.Count(), back.Quantile(0.5), h.Count(), h.Quantile(0.5))
	}
	if _, err := DecodeHistogram([]byte("not a histogram")); err == nil {
		t.Error("nonsense was decoded")
	}
	if empty, err := NewHistogram().Encode(); err != nil {
		t.Error(err)
	} else if back, err := DecodeHistogram(empty); err != nil || back.Latency() != (Latency{}) {
		t.Errorf("an empty histogram came back as %+v, %v", back, err)
	}
}

func TestBarsLoseNothing(t *testing.T) {
	h := NewHistogram()
	random := rand.New(rand.NewPCG(5, 6))
	for range 10_000 {
		h.Record(int64(random.ExpFloat64() * 1e7))
	}
	for _, perDecade := range []int{0, 10, 40} {
		var sum int64
		last := quantity.Seconds(-1)
		for _, bar := range h.Bars(perDecade) {
			sum += bar.Count
			if bar.From < last-1e-12 || bar.To <= bar.From {
				t.Errorf("%d per decade: bar from %v to %v after %v", perDecade, bar.From, bar.To, last)
			}
			last = bar.To
		}
		if sum != h.Count() {
			t.Errorf("%d per decade: bars hold %d of %d", perDecade, sum, h.Count())
		}
	}
}

func TestBeyondTheRange(t *testing.T) {
	h := NewHistogram()
	h.Record(-5)
	h.Record(2 * longest)
	if h.Count() != 2 || h.Max() != 7200 || h.Quantile(0) != 0 {
		t.Errorf("%d latencies from %v to %v", h.Count(), h.Quantile(0), h.Max())
	}
	h.Reset()
	if h.Latency() != (Latency{}) || h.Bars(10) != nil {
		t.Error("reset left something behind")
	}
}

// What was kept in little memory comes back as it was.
func TestSparseKeepsEverything(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 9))
	whole, parts := NewHistogram(), NewHistogram()
	for range 20 {
		part := NewHistogram()
		for range 500 {
			ns := int64(1e5 * random.ExpFloat64())
			whole.Record(ns)
			part.Record(ns)
		}
		parts.MergeSparse(part.Sparse())
	}
	parts.MergeSparse(NewHistogram().Sparse())
	if whole.Latency() != parts.Latency() || whole.Count() != parts.Count() {
		t.Errorf("whole %+v\nparts %+v", whole.Latency(), parts.Latency())
	}
}

func TestCellsCountEveryOperation(t *testing.T) {
	reads, writes := NewHistogram(), NewHistogram()
	for range 10 {
		reads.Record(1_050_000) // 10 × log10 of it is 60.2
	}
	writes.Record(1_050_000)
	writes.Record(0)
	writes.Record(15_000) // 41.8
	tally := NewTally(false, Read, Write)
	tally.Counts[Read].Latency, tally.Counts[Write].Latency = reads, writes
	tally.Record(Flush, 0, 15_000) // moves nothing of the load
	cells := tally.Spread()
	if len(cells) != 3 || cells[0].Count != 1 || cells[1] != (Cell{41, 1}) || cells[2] != (Cell{60, 11}) {
		t.Errorf("cells %+v", cells)
	}
}
