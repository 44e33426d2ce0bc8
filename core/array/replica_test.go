package array

import (
	"math"
	"testing"

	"patientheron/core/quantity"
)

// copied is a quick array with a far one.
func copied(r Replica) Description {
	return Description{
		Members: []Group{{Count: 1, Medium: LowLatency, Capacity: 100 * gb, Units: 64, Interface: 1e15}}, Layout: Layout{Level: Stripe}, Replica: &r,
	}
}

// offered writes blocks at a steady rate for a time, from now on.
func offered(a *Array, block int, rate, length float64) {
	begin := a.Now()
	next := random(a, 1, block, 0, true)
	for i := 0; float64(i) < rate*length; i++ {
		at := begin + int64(float64(i)/rate*1e9)
		for a.Step(at) {
		}
		a.Submit(next(i))
		a.Forget()
	}
	until := begin + int64(length*1e9)
	for a.Step(until) {
	}
}

func inside(a *Array, name string) float64 {
	before := a.Totals()
	before.At--
	for _, c := range a.Inside(before) {
		if c.Name == name {
			return c.Value
		}
	}
	return math.NaN()
}

// What is written faster than the line carries waits: so much more than was carried, and the oldest
// of it for as long as the rest took to come; afterwards it is copied at the rate of the line.
func TestAFarCopyLagsBehind(t *testing.T) {
	const block, rate, line, length = 65536, 2000.0, 50e6, 4.0
	a := build(t, copied(Replica{Mode: Asynchronous, Kilometres: 300, Service: 1e-3, Rate: line}))
	offered(a, block, rate, length)
	ahead := (rate*block - line) * length
	within(t, "behind", inside(a, "far copy behind"), ahead, 0.01)
	within(t, "lag", inside(a, "far copy lag"), ahead/(rate*block), 0.01)
	half := a.Now() + int64(ahead/line/2*1e9)
	for a.Step(half) {
	}
	within(t, "behind after a while", inside(a, "far copy behind"), ahead/2, 0.02)
	end := a.Now() + int64((ahead/line/2+0.01)*1e9)
	for a.Step(end) {
	}
	if behind, lag := inside(a, "far copy behind"), inside(a, "far copy lag"); behind != 0 || lag != 0 {
		t.Errorf("%.0f bytes and %.3f s behind when all was carried", behind, lag)
	}
}

// Writes that are copied later take what they take without it; the copy is as late as light and its
// service make it.
func TestWritesDoNotWaitForALateCopy(t *testing.T) {
	a := build(t, copied(Replica{Mode: Asynchronous, Kilometres: 1000, Service: 2e-3}))
	within(t, "writes", closed(a, 1, 2000, random(a, 1, 4096, 0, true)).latency, 10e-6, 0.001)
	offered(a, 4096, 100, 1.0001)
	if lag, most := inside(a, "far copy lag"), 2*1000*4.9e-6+2e-3; lag <= 0 || lag > most {
		t.Errorf("the far copy lags %.4f s behind; light and service take %.4f", lag, most)
	}
}

// A journal takes writes as they come for as long as its room lasts, and then at the rate of the
// line.
func TestAFullJournalHoldsWritesBack(t *testing.T) {
	const block, line, journal = 65536, 50e6, 512 * quantity.MiB
	d := copied(Replica{Mode: Asynchronous, Kilometres: 50, Rate: line, Journal: journal})
	d.Limits = Limits{Throughput: 200e6}
	a := build(t, d)
	var last float64
	var full float64
	next := random(a, 1, block, 0, true)
	for i := range 16 {
		a.Submit(next(i))
	}
	for answered := 0; a.Now() < 10e9; {
		a.Step(math.MaxInt64)
		for range a.Done() {
			answered++
			a.Submit(next(answered))
			if now := float64(a.Now()) / 1e9; full == 0 && now-last > 2*block/200e6 {
				full = last
			} else {
				last = now
			}
		}
		a.Forget()
	}
	within(t, "the journal is full after", full, float64(journal)/(200e6-line), 0.02)
	within(t, "then", closed(a, 16, 2000, next).rate*block, line, 0.01)
	if behind := inside(a, "far copy behind"); behind > float64(journal) {
		t.Errorf("%.0f bytes wait in a journal of %s", behind, journal)
	}
}

// While nothing gets there, writes that have to be at both places wait, and others wait to be
// copied.
func TestAReplicaThatStops(t *testing.T) {
	for _, mode := range []ReplicaMode{Synchronous, Asynchronous} {
		d := copied(Replica{Mode: mode, Kilometres: 50, Rate: 100e6})
		d.Faults = []Fault{{Kind: ReplicaStops, At: 2, For: 5}}
		a := build(t, d)
		next := random(a, 1, 65536, 0, true)
		offered(a, 65536, 100, 4)
		if mode == Asynchronous {
			within(t, "behind after two seconds", inside(a, "far copy behind"), 2*100*65536, 0.02)
			continue
		}
		a.Forget()
		a.Submit(next(0))
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		within(t, "the first answer", float64(a.Now())/1e9, 7, 0.01)
	}
}
