package load

import (
	"math"
	"testing"

	"patientheron/core/measure"
	"patientheron/core/quantity"
)

// A day of intervals is kept in few parts, and whatever the cut, what counts after
// it is what the intervals after it counted, but for at most a part of them.
func TestADayIsKeptInFewParts(t *testing.T) {
	const day = 86_400
	for _, intervals := range []int{1, 5, 255, 256, 257, 1000, day} {
		kept := keptParts{}
		tally := measure.NewTally(false, measure.Read)
		for i := range intervals {
			for range i%3 + 1 {
				tally.Record(measure.Read, 10, int64(i))
			}
			kept.add(measure.Pace{Operations: int64(i%3 + 1), Length: 1}, tally.Take(0, i))
		}
		if len(kept.parts) > mostParts || len(kept.paces) != intervals {
			t.Fatalf("%d intervals: %d parts, %d paces", intervals, len(kept.parts), len(kept.paces))
		}
		for _, cut := range []int{0, min(1, intervals/2), intervals / 3, intervals / 2} {
			sum := &measure.Tally{}
			length, before := kept.after(cut, sum)
			from := int(math.Round(float64(before)))
			if from < cut || from > cut+max(intervals/128, 0) || length+before != quantity.Seconds(intervals) {
				t.Fatalf("%d intervals, cut at %d: %v before and %v after", intervals, cut, before, length)
			}
			operations := int64(0)
			for i := from; i < intervals; i++ {
				operations += int64(i%3 + 1)
			}
			if count := sum.Counts[measure.Read]; count.Operations != operations || count.Bytes != 10*operations || count.Latency.Count() != operations || count.Latency.Latency().Min != quantity.Seconds(from)/1e9 {
				t.Fatalf("%d intervals, cut at %d, from %d: %d operations, want %d", intervals, cut, from, count.Operations, operations)
			}
		}
	}
}
