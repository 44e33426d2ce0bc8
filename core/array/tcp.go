package array

import (
	"math"
	"patientheron/core/quantity"
	"slices"

	"patientheron/core/setup"
)

// direction is one way of a TCP connection: how much of it may be under way, and what becomes of
// segments that are lost.
type direction struct {
	perByte float64 // nanoseconds, of a window for each round trip; 0 for no limit
	saved   float64 // nanoseconds that a window lasts: a round trip
	freeAt  float64
	busy    float64

	segment   int     // bytes of data of one at most
	loss      float64 // share of the segments
	roundTrip int64
	drawn     uint64 // how often chance was asked
	last      int64  // when what came before was delivered: nothing passes that
}

func newDirection(l Link) direction {
	d := direction{roundTrip: int64(l.RoundTrip.Duration()), saved: float64(l.RoundTrip.Duration()), freeAt: math.Inf(-1), segment: min(l.MTU[0], l.MTU[1]) - setup.SegmentHeaders}
	d.loses(float64(l.Loss), float64(l.Window))
	return d
}

// loses sets the share of segments that are lost, beside a window.
func (d *direction) loses(share, window float64) {
	d.loss, d.perByte = share, 0
	if window = setup.Window(window, d.segment, share); !math.IsInf(window, 1) {
		d.perByte = float64(d.roundTrip) / window
	}
}

// allowed is when the last of so many bytes may go: those of a window at once, and each more when
// one of those before was acknowledged. A long operation fills the line while it waits.
func (d *direction) allowed(arrival int64, bytes int, perByte float64) int64 {
	if d.perByte == 0 {
		return arrival
	}
	service := d.perByte * float64(bytes)
	d.freeAt = max(d.freeAt, float64(arrival)-d.saved) + service
	d.busy += service
	sent := perByte * max(float64(bytes)-d.saved/d.perByte, 0) // that went while it waited
	return max(arrival, int64(math.Ceil(d.freeAt-sent)))
}

// delivered is when what would come at a time does come: a segment that is lost is sent once more
// after a round trip (fast retransmit: RFC 5681), and what is behind it waits (RFC 9293).
func (d *direction) delivered(a *Array, at int64, bytes int) int64 {
	if d.loss == 0 {
		return at
	}
	segments := (bytes + d.segment - 1) / d.segment
	if d.drawn++; even(d.drawn) < 1-math.Pow(1-d.loss, float64(segments)) {
		at += d.roundTrip
		a.counters.segmentsLost++
	}
	d.last = max(d.last, at)
	return d.last
}

// busyUntil is the time up to now that the window held the connection back, or was being used.
func (d *direction) busyUntil(now int64) float64 { return max(d.busy-max(d.freeAt-float64(now), 0), 0) }

// even is the n-th of numbers from 0 to 1 that lie evenly: the fraction of multiples of the golden
// ratio.
func even(n uint64) float64 {
	_, place := math.Modf(float64(n) * 0.6180339887498949)
	return place
}

// mostLoss is the share of segments up to which connections recover by themselves.
const mostLoss = 0.1

func (l Link) validate() error {
	if !(l.Slot >= 0) || !(l.OwnDisk >= 0) {
		return wrong("link.slot", "%s, and a disk of %s; neither is negative", l.Slot, l.OwnDisk)
	}
	if !(l.Rate >= 0) || !(l.RoundTrip >= 0) || l.RoundTrip > 10 || !(l.FailOver >= 0) || l.FailOver > 3600 || l.Count < 0 || l.Count > 16 || l.Hosts < 0 || l.Hosts > 256 || !(l.PerByte >= 0) || l.PerByte > 1e-3 || !(l.PerOp >= 0) || l.PerOp > 1 {
		return wrong("link", "a rate, a round trip up to 10 s, up to 16 links of up to 256 hosts, none negative")
	}
	if l.Rate == 0 && (l.Slot > 0 || l.OwnDisk > 0 || l.Count > 0 || l.Hosts > 0 || l.RoundTrip > 0 || l.MTU != [2]int{}) {
		return wrong("link.rate", "is missing; say what the line carries, such as 125MB/s for one gigabit")
	}
	for _, mtu := range l.MTU {
		if mtu != 0 && (mtu < 576 || mtu > 65535) {
			return wrong("link.mtu", "%d; from 576 to 65535", mtu)
		}
	}
	if l.Connections < 0 || l.Connections > 64 {
		return wrong("link.connections", "%d on each link; from 1 to 64", l.Connections)
	}
	if l.Window < 0 || l.Window > 16*quantity.GiB || l.Window > 0 && l.Window < 4096 {
		return wrong("link.window", "%s; of one connection, from 4 KiB to 16 GiB", l.Window)
	}
	if !(l.Loss >= 0 && l.Loss <= mostLoss) {
		return wrong("link.loss", "%s of the segments; up to %s", l.Loss, quantity.Share(mostLoss))
	}
	if !slices.Contains([]Combined{"", Bundle, Multipath}, l.Combined) {
		return wrong("link.combined", "%q; hashed bundle or multipath", l.Combined)
	}
	return nil
}
