package array

import "patientheron/core/setup"

// path is one link, full duplex, with a connection on it.
type path struct {
	half     int64  // of the round trip, nanoseconds
	core     server // the core that does the connection's work
	out, in  server
	overhead int // bytes of a command or answer beside its data
}

func newPath(l Link) *path {
	// Both ends agree on the smaller segment.
	payload := float64(l.Rate) * float64(setup.PayloadShare(min(l.MTU[0], l.MTU[1])))
	return &path{
		half: int64(l.RoundTrip.Duration()) / 2,
		// Command and answer each take half of an operation's time.
		core:     server{perOperation: float64(l.PerOp) * 1e9 / 2, perByte: float64(l.PerByte) * 1e9},
		out:      server{perByte: perSecond(payload)},
		in:       server{perByte: perSecond(payload)},
		overhead: 48,
	}
}

// send is when a command with its data reaches the controller.
func (p *path) send(now int64, bytes int) int64 {
	return p.out.pass(p.core.pass(now, bytes), bytes+p.overhead) + p.half
}

// receive is when an answer with its data reaches the initiator.
func (p *path) receive(now int64, bytes int) int64 {
	return p.core.pass(p.in.pass(now, bytes+p.overhead), bytes) + p.half
}

// lightPerKilometre is the time light takes in one kilometre of fibre.
const lightPerKilometre = 4900 // nanoseconds

// replica is the far array and the way to it.
type replica struct {
	there, service int64
	line           server
}

func newReplica(r *Replica) *replica {
	if r == nil {
		return nil
	}
	return &replica{
		there: int64(r.Kilometres * lightPerKilometre), service: int64(r.Service.Duration()),
		line: server{perByte: perSecond(float64(r.Rate))},
	}
}

// acknowledge is when a write that was done here at local also counts as done
// there: there and back again, and the service in between.
func (r *replica) acknowledge(now, local int64, bytes int) int64 {
	sent := r.line.pass(now, bytes) - now
	return local + sent + 2*r.there + r.service
}
