package array

import (
	"fmt"
	"testing"

	"patientheron/core/quantity"
)

// Writes of a stream that are under way together are written as whole stripes: none is
// read, the disks run at the rate of their media, and each stripe costs one write of
// each member. One at a time pays the small write.
func TestStreamsOfWritesFillStripes(t *testing.T) {
	for _, c := range []struct {
		level Level
		count int
		data  float64
	}{{Parity, 6, 5}, {DoubleParity, 6, 4}} {
		for _, block := range []int{64 << 10, 256 << 10, 1 << 20} {
			d := disks(c.count)
			d.Layout = Layout{Level: c.level, Chunk: 64 * quantity.KiB}
			a := build(t, d)
			const depth, count = 64, 3000
			r := closed(a, depth, count, sequential(0, block, true))
			what := fmt.Sprintf("%s, %d KiB", c.level, block>>10)
			within(t, what+": MB/s", r.rate*float64(block)/1e6, c.data*220, 0.05)
			stripes := float64(a.counters.operations) * float64(block) / (c.data * 64 * 1024)
			most := stripes * float64(c.count) * 1.02
			if got := float64(a.counters.memberOperations); got > most {
				t.Errorf("%s: %.0f member operations for %.0f whole stripes", what, got, stripes)
			}
		}
		d := disks(c.count)
		d.Layout = Layout{Level: c.level, Chunk: 64 * quantity.KiB}
		a := build(t, d)
		closed(a, 1, 500, sequential(0, 4096, true))
		if each := float64(a.counters.memberOperations) / float64(a.counters.operations); each != float64(2+2*(c.count-int(c.data))) {
			t.Errorf("%s, one at a time: %g member operations for each", c.level, each)
		}
	}
}

// A stream that ends leaves nothing waiting for long: the last piece is written when
// those before it are.
func TestTheLastPieceOfAStreamIsWritten(t *testing.T) {
	d := ssds(5, Parity)
	a := build(t, d)
	for i := range int64(7) {
		a.Submit(Request{Tag: int(i), Write: true, Offset: i * 4096, Length: 4096})
	}
	for answered := 0; answered < 7; answered += len(a.Done()) {
		a.Forget()
		if !a.Step(20e6) {
			t.Fatalf("%d of 7 writes were answered within 20 ms", answered)
		}
	}
}
