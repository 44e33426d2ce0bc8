package array

import (
	"math"

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
func (d *direction) busyUntil(now int64) float64 { return d.busy - max(d.freeAt-float64(now), 0) }

// even is the n-th of numbers from 0 to 1 that lie evenly: the fraction of multiples of the golden
// ratio.
func even(n uint64) float64 {
	_, place := math.Modf(float64(n) * 0.6180339887498949)
	return place
}
