package measure

import (
	"encoding/json"
	"math/rand/v2"
	"patientheron/test/trials"
	"reflect"
	"testing"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// The oracle of the buckets is the library that others read our histograms with.
func TestBucketsAreThoseOfTheOpenFormat(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 1+trials.Seed()))
	for range trials.Number(100_000) {
		value := random.Int64N(1 << random.IntN(42))
		value = min(value, longest)
		whole := hdrhistogram.New(1, longest, digits)
		if value%1000 > 0 { // making one is slow: most values are looked at alone
			from, to := edges(bucketOf(value))
			if from > value || to < value || value >= 2048 && float64(to-from) > float64(value)*0.001 || value < 2048 && from != to {
				t.Fatalf("%d lies in the bucket from %d to %d", value, from, to)
			}
			continue
		}
		if err := whole.RecordValue(value); err != nil {
			t.Fatal(err)
		}
		for _, bar := range whole.Distribution() {
			if from, to := edges(bucketOf(value)); bar.Count == 1 && (bar.From != from || bar.To != to) {
				t.Fatalf("%d lies from %d to %d, the library says from %d to %d", value, from, to, bar.From, bar.To)
			}
		}
	}
	if bucketOf(longest) != buckets-1 {
		t.Errorf("the longest latency lies in bucket %d of %d", bucketOf(longest), buckets)
	}
	for bucket := 1; bucket < buckets; bucket++ {
		from, _ := edges(bucket)
		if _, before := edges(bucket - 1); from != before+1 || bucketOf(from) != bucket {
			t.Fatalf("bucket %d begins at %d, the one before ends at %d", bucket, from, before)
		}
	}
}

// The share that a percentile is of is rounded up to a whole rank, never to the
// nearest.
func TestPercentilesByNearestRank(t *testing.T) {
	h := NewHistogram()
	for range 149 {
		h.Record(1e6)
	}
	h.Record(500e6)
	h.Record(500e6)
	if p99 := h.Quantile(0.99); p99 != 0.5 {
		t.Errorf("of 149 × 1 ms and 2 × 500 ms the 150th, p99, is %s", p99)
	}
	for n := 1; n <= 1000; n++ {
		h := NewHistogram()
		for v := 1; v <= n; v++ {
			h.Record(int64(v))
		}
		for _, per := range []int{500, 900, 950, 990, 999} {
			rank := (per*n + 999) / 1000 // in whole numbers
			if got := h.Quantile(float64(per) / 1000); got != seconds(int64(rank)) {
				t.Fatalf("of 1 to %d ns, %d/1000 is %s, want %d ns", n, per, got, rank)
			}
		}
	}
}

// Parts that travelled as JSON add up to what one tally of all would have counted.
func TestPartsAddUp(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 5))
	together, sum := NewTally(true, Read, Write), &Tally{}
	for worker := range 3 {
		mine := NewTally(true, Read, Write)
		for index := range 4 {
			for range 500 {
				class, latency := Class(random.IntN(Classes)), random.Int64N(1<<random.IntN(40))
				for _, t := range []*Tally{mine, together} {
					t.Record(class, 512, latency)
					t.Service.Record(latency / 2)
					t.Late++
					t.LastDone = max(t.LastDone, latency)
				}
			}
			for _, t := range []*Tally{mine, together} {
				t.AddFault(Fault{Kind: "no space", Count: 2, First: "the first"})
				t.CPU += 7
				t.Waited += 5
			}
			text, err := json.Marshal(mine.Take(worker, index))
			if err != nil {
				t.Fatal(err)
			}
			var back Part
			if err := json.Unmarshal(text, &back); err != nil || back.Worker != worker || back.Index != index {
				t.Fatalf("%d %d: %v", back.Worker, back.Index, err)
			}
			sum.Add(back)
		}
		if left := mine.Take(worker, 9); len(left.Counts) != 0 || left.Service != nil || !reflect.DeepEqual(left.Notes, Notes{}) {
			t.Errorf("something was left behind: %+v", left)
		}
	}
	// In a part the sums are of fewer numbers, so that their last digit may differ.
	a, b := together.Take(0, 0), sum.Take(0, 0)
	for _, p := range []*Part{&a, &b} {
		for i := range p.Counts {
			p.Counts[i].Latency.Sum, p.Counts[i].Latency.Squares = 0, 0
		}
		p.Service.Sum, p.Service.Squares = 0, 0
	}
	if !reflect.DeepEqual(a, b) {
		t.Errorf("together %+v\nin parts %+v", a.Notes, b.Notes)
	}
}

func TestClassesByName(t *testing.T) {
	for c := range EachClass() {
		text, _ := c.MarshalText()
		var back Class
		if err := back.UnmarshalText(text); err != nil || back != c || c.Verb() == "" {
			t.Errorf("%s came back as %s (%v)", c, back, err)
		}
	}
	var c Class
	if err := c.UnmarshalText([]byte("dreams")); err == nil {
		t.Error("a class of dreams was read")
	}
	flow := Interval{Length: 2, Classes: map[Class]Flow{Read: {Operations: 3, Rate: 1.5, Max: 1}, Write: {Operations: 4, Rate: 2, Max: 2}, Flush: {Operations: 9, Max: 9}}}
	if moved := flow.Moved(); moved.Operations != 7 || moved.Rate != 3.5 || moved.Max != 2 || flow.Pace().Rate() != 3.5 {
		t.Errorf("moved %+v, pace %v", moved, flow.Pace())
	}
}
