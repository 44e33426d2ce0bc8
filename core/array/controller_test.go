package array

import (
	"math"
	"slices"
	"strings"
	"testing"

	"patientheron/core/quantity"
	"patientheron/core/setup"
)

// pair is an array of two controllers whose write-back memory is mirrored, or is not.
func pair(mirrored bool, change func(*Description)) Description {
	d := ssds(4, MirrorStripe)
	d.Controller = Controller{Count: 2, Takeover: 3, MirrorRate: 500e6, MirrorTime: 50e-6}
	d.Caches = []Cache{{Name: "memory", Size: quantity.GiB, Block: 4096, Mode: WriteBack, Protected: true, Mirrored: mirrored, HitTime: 20e-6, Throughput: 5e9, DirtyLimit: 1}}
	if change != nil {
		change(&d)
	}
	return d
}

// A write counts when both controllers hold it: the way between them takes its time, and all writes
// together go at its rate; reads do not pass it.
func TestMirroredWritesPassBetweenControllers(t *testing.T) {
	a := build(t, pair(true, nil))
	within(t, "one write at a time", closed(a, 1, 2000, random(a, 1, 65536, 64*quantity.MiB, true)).latency, 50e-6+65536/500e6, 0.01)
	a = build(t, pair(true, func(d *Description) { d.Members[0].Interface = 100e9 }))
	got := closed(a, 64, 4000, random(a, 1, 65536, 64*quantity.MiB, true)).rate * 65536
	within(t, "many at a time", got, 500e6, 0.02)
	hops := pair(true, nil).Setup().Ceilings(setup.Use{Block: 65536})
	if !slices.ContainsFunc(hops, func(h setup.Hop) bool { return h.Name == "mirror" && math.Abs(float64(h.Rate)*65536/500e6-1) < 0.001 }) {
		t.Errorf("explained as %+v", hops)
	}
	a = build(t, pair(false, nil))
	within(t, "a write that is not mirrored", closed(a, 1, 2000, random(a, 1, 65536, 64*quantity.MiB, true)).latency, 20e-6+65536/5e9, 0.01)
}

// When the owner fails nothing is answered until another one takes over. What is dirty is lost with
// it unless it is mirrored, and then nothing more is kept dirty until it is back.
func TestAControllerFails(t *testing.T) {
	for _, mirrored := range []bool{true, false} {
		d := pair(mirrored, func(d *Description) { d.Members[0] = Group{Count: 4, Medium: HardDisk, Capacity: 100 * gb} })
		d.Faults = []Fault{{Kind: ControllerFails, At: 1, For: 20}}
		a := build(t, d)
		next := random(a, 1, 4096, 64*quantity.MiB, true)
		var dirty int64
		for i := 0; a.Now() < 1e9; i++ { // at most as fast as it is not destaged
			dirty = a.caches[0].soiled + a.caches[0].passing
			for at := int64(i) * 100_000; a.Step(at); {
			}
			a.Submit(next(i))
			a.Forget()
		}
		a.Submit(next(0))
		a.Forget()
		for len(a.Done()) == 0 || a.Now() < 1.001e9 {
			a.Forget()
			a.Step(math.MaxInt64)
		}
		within(t, "the first answer", float64(a.Now())/1e9, 4, 0.01)
		lost := a.caches[0].lost
		if mirrored && lost != 0 || !mirrored && (lost == 0 || lost > dirty+16*4096) {
			t.Errorf("mirrored %t: lost %d of %d dirty bytes", mirrored, lost, dirty)
		}
		closed(a, 4, 200, next)
		if kept := a.caches[0].soiled > 0; kept == mirrored {
			t.Errorf("mirrored %t: with one controller dirty data are kept: %t", mirrored, kept)
		}
		for at := int64(22e9); a.Step(at); {
		}
		closed(a, 4, 50, next)
		if a.caches[0].soiled == 0 {
			t.Errorf("mirrored %t: nothing is kept when it is back", mirrored)
		}
		want := map[bool]setup.Answer{true: setup.Yes, false: setup.No}[mirrored]
		if got := d.Setup().After(setup.AController); got.Survives != want {
			t.Errorf("mirrored %t: said to survive: %s, %s", mirrored, got.Survives, got.Words)
		}
	}
}

// Of two controllers that fail one after the other none answers until one is back; the other one's
// failure holds nobody up.
func TestAllControllersFail(t *testing.T) {
	first := func(faults ...Fault) float64 {
		d := pair(true, nil)
		d.Faults = faults
		a := build(t, d)
		for at := int64(2e9); a.Step(at); {
		}
		a.Submit(Request{Length: 4096})
		for len(a.Done()) == 0 {
			a.Step(math.MaxInt64)
		}
		return float64(a.Now()) / 1e9
	}
	within(t, "the other one fails", first(Fault{Kind: ControllerFails, Controller: 1, At: 1}), 2, 0.001)
	within(t, "the owner fails", first(Fault{Kind: ControllerFails, At: 1}), 4, 0.001)
	within(t, "both fail", first(Fault{Kind: ControllerFails, At: 1}, Fault{Kind: ControllerFails, Controller: 1, At: 1.5, For: 10}), 11.5, 0.001)
	within(t, "it returned before", first(Fault{Kind: ControllerFails, At: 0.5, For: 0.1}, Fault{Kind: ControllerReturns, Controller: 1, At: 1}), 3.5, 0.001)
}

// Only the owner's limits hold: a volume has one controller at a time.
func TestAVolumeHasOneController(t *testing.T) {
	d := pair(false, func(d *Description) { d.Caches, d.Controller.Operations = nil, 10_000 })
	a := build(t, d)
	within(t, "reads", closed(a, 32, 5000, random(a, 1, 4096, 0, false)).rate, 10_000, 0.01)
	words := strings.Join(d.Words(), " ")
	if !strings.Contains(words, "There are 2 controllers; number 0 owns the volume. If it fails, another one takes over; I/O stops for 3 s.") {
		t.Error(words)
	}
}
