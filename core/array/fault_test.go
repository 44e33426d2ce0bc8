package array

import (
	"errors"
	"math"
	"testing"

	"patientheron/core/mistake"
	"patientheron/core/quantity"
)

// steady asks for reads or writes at even distances and gives what was answered in each
// of so many equal spans of time: how many, and the longest wait.
func steady(a *Array, seconds float64, spans int, rate float64, write bool) (counts []int, longest []int64) {
	counts, longest = make([]int, spans), make([]int64, spans)
	start, began := map[int]int64{}, a.Now()
	next := random(a, 5, 4096, 0, write)
	total := int(seconds * rate)
	answered := 0
	reap := func() {
		for _, done := range a.Done() {
			answered++
			span := min(int(float64(a.Now()-began)/1e9/seconds*float64(spans)), spans-1)
			if !done.Failed {
				counts[span]++
			}
			longest[span] = max(longest[span], a.Now()-start[done.Tag])
		}
		a.Forget()
	}
	for i := range total {
		for at := began + int64(float64(i)/rate*1e9); a.Step(at); {
			reap()
		}
		reap()
		r := next(i)
		r.Tag = i
		start[i] = a.Now()
		a.Submit(r)
	}
	for answered < total && a.Step(began+int64((seconds+30)*1e9)) {
		reap()
	}
	return counts, longest
}

func linked(count int) Description {
	d := ssds(4, MirrorStripe)
	d.Link = Link{Rate: 125e6, Count: count, Combined: Multipath, RoundTrip: 100e-6, FailOver: 0.2}
	return d
}

// One of two paths drops for a second: what was on it is sent again after the time that
// the initiator waits, everything else goes by the other one, and nothing is lost.
func TestAPathDropsAndReturns(t *testing.T) {
	d := linked(2)
	d.Faults = []Fault{{Kind: PathDrops, At: 1, Path: 1, For: 1}}
	a := build(t, d)
	counts, longest := steady(a, 3, 3, 5000, false)
	if sum := counts[0] + counts[1] + counts[2]; sum != 15_000 {
		t.Errorf("%d of 15000 operations were answered", sum)
	}
	if longest[0] > 2e6 || longest[1] < 200e6 || longest[1] > 210e6 || longest[2] > 2e6 {
		t.Errorf("the longest waits were %d, %d and %d µs; the initiator waits 200 ms", longest[0]/1000, longest[1]/1000, longest[2]/1000)
	}
	if a.counters.resent == 0 || a.counters.resent > 10 {
		t.Errorf("%d operations were sent again", a.counters.resent)
	}
	// The only path: nothing is answered until it is back. Dropping three times.
	d = linked(1)
	d.Faults = []Fault{{Kind: PathDrops, At: 1, For: 0.5, Count: 3, Every: 1}}
	a = build(t, d)
	counts, _ = steady(a, 5, 10, 2000, false)
	for i, count := range counts {
		isDown := i == 2 || i == 4 || i == 6
		if isDown && count > 5 || !isDown && count < 900 {
			t.Errorf("in the half second from %.1f s on %d of 1000 were answered", float64(i)/2, count)
		}
	}
}

// A controller that fails over stands still for as long as that takes; a spike adds to
// every operation while it lasts.
func TestFailOverAndSpike(t *testing.T) {
	d := linked(1)
	d.Faults = []Fault{{Kind: FailOver, At: 1, For: 0.7}, {Kind: Spike, At: 2, For: 0.5, Extra: 0.02}}
	a := build(t, d)
	_, longest := steady(a, 3, 3, 2000, false)
	if longest[0] > 2e6 || math.Abs(float64(longest[1])-0.7e9) > 20e6 || math.Abs(float64(longest[2])-20e6) > 2e6 {
		t.Errorf("the longest waits were %d, %d and %d µs", longest[0]/1000, longest[1]/1000, longest[2]/1000)
	}
}

// Without its battery a write-back cache keeps nothing dirty: what is dirty is written
// out, and writes wait for the disks until it is back.
func TestABatteryFails(t *testing.T) {
	d := wide(4, Stripe)
	d.Caches = []Cache{{Name: "memory", Size: quantity.GiB, Block: 4096, Mode: WriteBack, Protected: true}}
	d.Faults = []Fault{{Kind: BatteryFails, At: 2, For: 4}}
	a := build(t, d)
	_, longest := steady(a, 8, 8, 100, true)
	if longest[1] > 1e6 || longest[3] < 5e6 || longest[7] > 1e6 {
		t.Errorf("the longest waits were %v ns", longest)
	}
	for a.Step(5.99e9) {
	}
	a = build(t, d)
	steady(a, 1.9, 1, 100, true)
	for a.Step(5.9e9) {
	}
	if a.caches[0].unclean > 0 {
		t.Errorf("%d blocks are dirty without a battery", a.caches[0].unclean)
	}
	a.inject(Fault{Kind: PowerCut})
	if a.caches[0].lost > 0 {
		t.Errorf("%d bytes lost", a.caches[0].lost)
	}
}

// A read cache may fail without harm, a mirrored write-back one as well; an unmirrored
// one loses what is dirty, all of it and no more.
func TestACacheFails(t *testing.T) {
	for name, c := range map[string]struct {
		mode      CacheMode
		protected bool
		loses     bool
	}{"read-only": {ReadOnly, false, false}, "mirrored": {WriteBack, true, false}, "one copy": {WriteBack, false, true}} {
		d := wide(4, Stripe)
		d.Caches = []Cache{{Name: "cache", Size: quantity.GiB, Block: 4096, Mode: c.mode, Protected: c.protected, Devices: 2}}
		a := build(t, d)
		for i := range 2000 {
			a.Submit(Request{Tag: i, Write: true, Offset: int64(i) * 1 << 20, Length: 4096})
		}
		for a.Step(20e6) {
		}
		dirty := int64(a.caches[0].dirty.count) * 4096
		if err := a.Inject(Fault{Kind: CacheFails}); err != nil {
			t.Fatal(err)
		}
		if got := a.caches[0].lost; c.loses && (got != dirty || got == 0) || !c.loses && got != 0 {
			t.Errorf("%s: %d bytes lost of %d dirty", name, got, dirty)
		}
		for len(a.Done()) < 2000 {
			a.Step(math.MaxInt64)
		}
		a.Forget()
		r := closed(a, 8, 500, random(a, 3, 4096, 0, true)) // it goes on without
		if r.failed > 0 || r.latency < 1e-3 {
			t.Errorf("%s: %d writes failed, and each took %.6f s", name, r.failed, r.latency)
		}
	}
}

// A member whose reads fail costs the time until it gives up, and the others' reads; a
// stripe without redundancy fails.
func TestAMemberThrowsErrors(t *testing.T) {
	d := ssds(5, Parity)
	d.Faults = []Fault{{Kind: MemberErrors, Member: 2, Share: 0.1, Extra: 0.05}}
	a := build(t, d)
	r := closed(a, 1, 10_000, random(a, 3, 4096, 0, false))
	// A fifth of the reads go to it, a tenth of those take 50 ms longer, and all
	// 10,000 and the one that is left in flight may.
	if got := float64(a.counters.recovered); r.failed > 0 || math.Abs(got-200) > 60 {
		t.Errorf("%d failed, %.0f were recovered, expected 200", r.failed, got)
	}
	within(t, "mean latency", r.latency, 70e-6+4096/550e6+0.2*0.1*(0.05+80e-6), 0.25)
	d.Layout.Level = Stripe
	a = build(t, d)
	if r := closed(a, 1, 10_000, random(a, 3, 4096, 0, false)); math.Abs(float64(r.failed)-200) > 60 {
		t.Errorf("%d of 10000 reads failed, expected 200", r.failed)
	}
}

// What rotted is served until a scrub finds it and makes it anew from the others.
func TestAScrubFindsWhatRotted(t *testing.T) {
	d := wide(4, Parity)
	d.Members[0].Capacity = gb
	d.Faults = []Fault{{Kind: BitsRot, Member: 1, Count: 50}, {Kind: BitsRot, Member: 3, Count: 20, At: 0.1}, {Kind: Scrub, At: 0.2, Rate: 100e6}}
	a := build(t, d)
	for a.Step(9e9) {
	}
	if a.counters.rotRepaired == 0 || a.counters.rotRepaired >= 70 {
		t.Errorf("%d places repaired after 9 s of 10", a.counters.rotRepaired)
	}
	for a.Step(20e9) {
	}
	if a.counters.rotRepaired != 70 || len(a.members[1].rotten)+len(a.members[3].rotten) != 0 {
		t.Errorf("%d of 70 places repaired", a.counters.rotRepaired)
	}
	// Nobody else notices.
	a = build(t, Description{Members: d.Members, Layout: d.Layout, Faults: d.Faults[:1]})
	r := closed(a, 8, 2000, sequential(0, 1<<20, false))
	if r.failed > 0 || a.counters.rotServed == 0 {
		t.Errorf("%d reads failed, %d rotten places were served", r.failed, a.counters.rotServed)
	}
}

// A transport that copies costs a core what each byte takes; switched in the middle to
// one that does not, the line is the limit.
func TestATransportChangesUnderWay(t *testing.T) {
	d := ssds(8, Stripe)
	d.Link = Link{Rate: 1250e6, MTU: [2]int{9000, 9000}, PerByte: 2e-9}
	d.Faults = []Fault{{Kind: Transport, At: 1}}
	a := build(t, d)
	before := closed(a, 32, 300, sequential(0, 1<<20, false))
	for a.Step(1.1e9) {
	}
	after := closed(a, 32, 1000, sequential(0, 1<<20, false))
	within(t, "copying", before.rate*(1<<20), 500e6, 0.03)
	within(t, "not copying", after.rate*(1<<20), 1250e6*0.991, 0.03)
}

// A fault by call is refused like one in a file.
func TestInjectedFaultsAreChecked(t *testing.T) {
	a := build(t, wide(4, Parity))
	for _, f := range []Fault{{Kind: "gremlins"}, {Kind: MemberFails, Member: 4}, {Kind: CacheFails}, {Kind: PathDrops}, {Kind: RebuildBegin, Member: 1, Rate: 1e6}} {
		var wrong *mistake.Error
		if err := a.Inject(f); !errors.As(err, &wrong) {
			t.Errorf("%+v: %v", f, err)
		}
	}
	if err := a.Inject(Fault{Kind: MemberFails, Member: 1}); err != nil || !a.members[1].failed {
		t.Error(err)
	}
	if err := a.Inject(Fault{Kind: RebuildBegin, Member: 1, Rate: 1e6}); err != nil || a.members[1].rebuild == nil {
		t.Error(err)
	}
}
