package array

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"patientheron/core/quantity"
)

// channelled is one SSD with channels.
func channelled(channels int, rate, line quantity.ByteRate) Description {
	return Description{Layout: Layout{Level: Concatenation}, Members: []Group{{Count: 1, Medium: Flash, Capacity: quantity.GiB, Channels: channels, ChannelRate: rate, Interface: line}}}
}

// The channels carry what they can: of deep random reads, of streams of writes, and of
// one read after the other, which crosses one of them and then the interface.
func TestChannelsCarryWhatTheyCan(t *testing.T) {
	a := build(t, channelled(4, 300e6, 10e9))
	before := a.Totals()
	within(t, "random reads over the channels", closed(a, 512, 60_000, random(a, 1, 4096, 0, false)).rate*4096, 4*300e6, 0.03)
	if name, share := busiest(a, before); name != "member 0 channels" || share < 0.95 {
		t.Errorf("%s was busy for %.3f", name, share)
	}
	a = build(t, channelled(2, 50e6, 10e9))
	within(t, "streams over the channels", closed(a, 64, 10_000, sequential(0, 65536, true)).rate*65536, 2*50e6, 0.03)
	a = build(t, channelled(8, 400e6, 550e6))
	g := a.described.Members[0].completed()
	alone := closed(a, 1, 1000, random(a, 2, 4096, 0, false))
	within(t, "a read alone", alone.latency, float64(g.ReadTime)+4096/400e6+4096/550e6, 1e-4)
	// The pages of a large read go by all channels at a time, and then one by one over
	// the interface: behind the first one all that the interface takes.
	large := closed(a, 1, 200, random(a, 3, 128<<10, 0, false))
	within(t, "a large read alone", large.latency, float64(g.ReadTime)+4096/400e6+float64(128<<10)/550e6, 0.02)
}

// Reads of single pages at any time, against three rows of queues that are worked out
// one after the other: dies in the order in which they are asked, channels and the
// interface in the order of arrival.
func TestChannelsAgainstPlainQueues(t *testing.T) {
	source := rand.New(rand.NewPCG(12, 3))
	for range 20 {
		channels := 1 + source.IntN(8)
		rate, line := quantity.ByteRate(100e6+900e6*source.Float64()), quantity.ByteRate(200e6+2e9*source.Float64())
		a := build(t, channelled(channels, rate, line))
		g := a.described.Members[0].completed()
		type read struct{ arrival, at float64 }
		const count = 3000
		reads := make([]read, count)
		dies, pages := make([]float64, g.Dies), make([]int64, count)
		now := 0.0
		for i := range reads {
			now += math.Floor(source.ExpFloat64() * 3000)
			pages[i] = source.Int64N(int64(a.Size()) / pageSize)
			die := pages[i] % int64(g.Dies)
			dies[die] = max(dies[die], now) + float64(g.ReadTime)*1e9
			reads[i] = read{now, dies[die]}
		}
		// in order lets those that number gives pass a line in the order in which they come.
		inOrder := func(numbers []int, perPage float64) {
			slices.SortStableFunc(numbers, func(x, y int) int { return int(math.Copysign(1, reads[x].at-reads[y].at)) })
			free := 0.0
			for _, n := range numbers {
				free = max(free, reads[n].at) + perPage
				reads[n].at = free
			}
		}
		by := make([][]int, channels)
		all := make([]int, count)
		for i := range reads {
			c := pages[i] % int64(g.Dies) % int64(channels)
			by[c], all[i] = append(by[c], i), i
		}
		for _, numbers := range by {
			inOrder(numbers, 4096/float64(rate)*1e9)
		}
		inOrder(all, 4096/float64(line)*1e9)
		got := make([]float64, count)
		take := func() {
			for _, done := range a.Done() {
				got[done.Tag] = float64(a.Now())
			}
			a.Forget()
		}
		for i, r := range reads {
			for a.Step(int64(r.arrival)) {
				take()
			}
			a.Submit(Request{Tag: i, Offset: pages[i] * pageSize, Length: pageSize})
		}
		for a.Step(math.MaxInt64) {
			take()
		}
		differ := 0
		for i := range reads {
			// Events are at whole nanoseconds: whoever comes within one of another may
			// come behind it.
			if math.Abs(got[i]-reads[i].at) > 4 {
				differ++
			}
		}
		if differ > count/200 {
			t.Errorf("%d channels of %s, a line of %s: %d of %d reads are answered at another time", channels, rate, line, differ, count)
		}
	}
}

// What cleaning moves crosses the channels twice for each page: A pages programmed for
// one that is written are 1 + 2(A-1) over the channels.
func TestCleaningCrossesTheChannels(t *testing.T) {
	d := channelled(4, 20e6, 10e9)
	d.Members[0].Capacity, d.Members[0].OverProvision, d.Members[0].BlockPages = 64*quantity.MiB, 0.15, 64
	a := build(t, d)
	pages := int(a.Size() / pageSize)
	closed(a, 64, pages, sequential(0, pageSize, true))
	closed(a, 64, 5*pages, random(a, 1, pageSize, 0, true))
	f := a.members[0].flash
	f.hostPages, f.programmed = 0, 0
	r := closed(a, 64, 3*pages, random(a, 2, pageSize, 0, true))
	within(t, fmt.Sprintf("writes while %.2f pages are programmed for each", a.WriteAmplification(0)), r.rate*pageSize*(1+2*(a.WriteAmplification(0)-1)), 4*20e6, 0.05)
}
