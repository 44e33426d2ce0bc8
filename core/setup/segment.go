package setup

import (
	"fmt"
	"math"

	"patientheron/core/quantity"
)

// What a TCP connection carries, by its segments and by its window.

// SegmentHeaders is what a TCP/IPv4 segment carries beside its data within the MTU (RFC 791, RFC
// 9293), and framing what Ethernet adds around it: preamble, header, check sequence and gap (IEEE
// 802.3).
const (
	SegmentHeaders = 40
	framing        = 38
)

// PayloadShare is the part of a line's rate that is left for payload at an MTU: (MTU-40)/(MTU+38),
// 94.9 % at 1500 and 99.1 % at 9000.
func PayloadShare(mtu int) quantity.Share {
	return quantity.Share(float64(mtu-SegmentHeaders) / float64(mtu+framing))
}

// Window is how many bytes of a connection are under way at a time, on average: what it announces
// (0 for any number), and what the loss of a share of its segments leaves of it, which is the
// segment × √(3/2p) (Mathis, Semke, Mahdavi, Ott, The macroscopic behavior of the TCP congestion
// avoidance algorithm, 1997). It is +Inf where neither limits it.
func Window(announced float64, segment int, loss float64) float64 {
	window := math.Inf(1)
	if announced > 0 {
		window = announced
	}
	if loss > 0 {
		window = min(window, float64(segment)*math.Sqrt(1.5/loss))
	}
	return window
}

// windowCeiling is what the windows of all connections pass for each round trip; nil where none is
// known.
func (s Setup) windowCeiling(u Use, at string, connections float64) *Hop {
	trip := float64(s.Seconds(at + "roundTrip"))
	mtu := int(s.mtu(at))
	window := Window(float64(s.Bytes(at+"window")), mtu-SegmentHeaders, s.Number(at+"loss"))
	if trip == 0 || math.IsInf(window, 1) {
		return nil
	}
	size := quantity.Bytes(window).String()
	if loss := s.Number(at + "loss"); loss > 0 && window < float64(s.Bytes(at+"window")) || s.Bytes(at+"window") == 0 {
		size = fmt.Sprintf("%s (%d B × √(1.5 ÷ %s lost))", size, mtu-SegmentHeaders, quantity.Share(loss))
	}
	formula := fmt.Sprintf("%s ÷ %s for each of %g connections ÷ %s", size, quantity.Seconds(trip), connections, u.Block)
	if connections == 1 {
		formula = fmt.Sprintf("%s ÷ %s ÷ %s", size, quantity.Seconds(trip), u.Block)
	}
	busier := float64(max(u.Reads, 1-u.Reads))
	if busier < 1 {
		formula += fmt.Sprintf(" ÷ %s in the busier direction", quantity.Share(busier))
	}
	return new(hop("window", "window", quantity.OpRate(connections*window/trip/float64(u.Block)/busier), formula))
}

// mtu is the smaller one of what is known of the two ends of a link.
func (s Setup) mtu(at string) float64 {
	mtu := 1500.0
	for _, end := range []string{"mtuHere", "mtuThere"} {
		if known := s.Number(at + end); known >= 576 && (end == "mtuHere" || known < mtu) {
			mtu = known
		}
	}
	return mtu
}
