package array

import (
	"math"
	"strings"
	"testing"

	"patientheron/core/quantity"
)

// A spare that lies ready takes over at the moment of a failure, and the array is whole again after
// the member's capacity over the rate, whatever the level. Without one left it stays degraded.
func TestSparesTakeOverByThemselves(t *testing.T) {
	const capacity, rate = 64 * quantity.MiB, 32 * quantity.MiB // which takes two seconds
	for _, c := range []struct {
		level  Level
		count  int
		spares int
	}{{Mirror, 2, 1}, {MirrorStripe, 4, 2}, {Parity, 4, 1}, {DoubleParity, 5, 2}, {Parity, 4, 0}} {
		d := Description{
			Members: []Group{{Count: c.count, Medium: Flash, Capacity: capacity, Price: 100}},
			Layout:  Layout{Level: c.level, Chunk: 64 * quantity.KiB, HotSpares: c.spares},
			Faults:  []Fault{{Kind: MemberFails, At: 1, Member: 0}, {Kind: MemberFails, At: 10, Member: 1}},
		}
		if c.spares > 0 {
			d.Layout.RebuildRate = quantity.ByteRate(rate)
		}
		if want := 100 * float64(c.count+c.spares); d.TotalPrice() != want {
			t.Errorf("%s: it costs %g, want %g", c.level, d.TotalPrice(), want)
		}
		a := build(t, d)
		var whole [2]float64 // when each is there again
		for until := int64(0); until < 20e9; until += 1e7 {
			for a.Step(until) {
			}
			for m := range whole {
				if failed := []float64{1, 10}[m]; whole[m] == 0 && float64(until) > failed*1e9 && !a.members[m].failed {
					whole[m] = float64(until)/1e9 - failed
				}
			}
		}
		for m, took := range whole {
			switch {
			case m >= c.spares && took > 0:
				t.Errorf("%s: member %d is whole although no spare was left", c.level, m)
			case m < c.spares && math.Abs(took-2) > 0.1:
				t.Errorf("%s: member %d was whole after %.2f s, want 2", c.level, m, took)
			}
		}
		begun, ended := 0, 0
		for _, h := range a.Happened() {
			if strings.Contains(h.Words, "starts automatically") {
				begun++
			}
			if strings.Contains(h.Words, "whole again") {
				ended++
			}
		}
		if most := min(c.spares, 2); begun != most || ended != most {
			t.Errorf("%s: %d rebuilds are told to have begun and %d to have ended, want %d", c.level, begun, ended, most)
		}
	}
	for what, l := range map[string]Layout{
		"stripes keep nothing":        {Level: Stripe, HotSpares: 1},
		"a rate of nothing":           {Level: Parity, RebuildRate: 1e6},
		"whole members, declustered":  {Level: Parity, Stripe: 3, Spares: 1, HotSpares: 1},
		"fewer than none":             {Level: Parity, HotSpares: -1},
		"more than anybody has ready": {Level: Parity, HotSpares: 65},
	} {
		d := Description{Members: []Group{{Count: 4, Medium: Flash, Capacity: capacity}}, Layout: l}
		if d.Validate() == nil {
			t.Errorf("%s: %+v is possible", what, l)
		}
	}
}

// Declustered parity with a stated rate makes what failed anew in its free room by itself.
func TestFreeRoomTakesOverByItself(t *testing.T) {
	d := Description{
		Members: []Group{{Count: 7, Medium: Flash, Capacity: 16 * quantity.MiB}},
		Layout:  Layout{Level: Parity, Chunk: 64 * quantity.KiB, Stripe: 3, Spares: 1, RebuildRate: 16 * 1024 * 1024},
		Faults:  []Fault{{Kind: MemberFails, At: 1, Member: 2}},
	}
	a := build(t, d)
	for a.Step(5e9) {
	}
	if len(a.layout.spread.moved) != 1 || !a.layout.spread.moved[0].whole {
		t.Errorf("%+v", a.layout.spread.moved)
	}
}
