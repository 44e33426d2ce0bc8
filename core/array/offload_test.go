package array

import (
	"math/rand/v2"
	"testing"

	"patientheron/core/quantity"
)

// copyAnywhere copies ranges of the first half of an array to places of the second.
func copyAnywhere(a *Array, length int) func(int) Request {
	source := rand.New(rand.NewPCG(4, 4))
	half := int64(a.Size()) / 2 / int64(length)
	return func(int) Request {
		return Request{Copy: true, Source: source.Int64N(half) * int64(length), Offset: (half + source.Int64N(half)) * int64(length), Length: length}
	}
}

// A copy inside the array goes at the rate of what is there for it, or at what its members leave:
// as much is read as is written. Nothing but commands comes by the link.
func TestCopiesInsideTheArray(t *testing.T) {
	const block = 1 << 20
	d := Description{
		Members: []Group{{Count: 4, Medium: LowLatency, Capacity: 4 * gb, Units: 64, ReadTime: 1e-6, ProgramTime: 1e-6, Interface: 200e6}}, Layout: Layout{Level: Stripe},
		Link: Link{Rate: 125e6, RoundTrip: 100e-6},
	}
	for _, c := range []struct {
		rate quantity.ByteRate
		want float64
	}{{100e6, 100e6}, {0, 4 * 200e6 / 2}} { // interfaces carry what is read and what is written
		d.Controller.CopyRate = c.rate
		a := build(t, d)
		next := copyAnywhere(a, block)
		closed(a, 16, 50, next)
		before := a.Totals()
		r := closed(a, 16, 600, next)
		within(t, "copies", r.rate*block, c.want, 0.03)
		for _, counter := range a.Inside(before) {
			if counter.Name == "link 0 busy" && counter.Value > 0.01 {
				t.Errorf("the link is busy for %.3f of the time", counter.Value)
			}
		}
	}
	// What waits in front is not passed by: a copy is of what was written last, wherever it lies.
	d.Caches = []Cache{{Name: "memory", Size: 64 * quantity.MiB, Mode: WriteBack, Block: 4096}}
	a := build(t, d)
	closed(a, 1, 16, sequential(0, 65536, true))
	hits := a.caches[0].hits
	a.Submit(Request{Copy: true, Offset: 1 << 30, Length: 65536})
	for len(a.Done()) == 0 {
		a.Step(1 << 62)
	}
	if a.caches[0].hits == hits {
		t.Error("what was written just now was read from the members")
	}
}
