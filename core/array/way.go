package array

import (
	"slices"

	"patientheron/core/setup"
)

// host is one initiator with its paths.
type host struct {
	paths   []*path
	turn    int     // next one of a multipath
	retry   int64   // after which an operation without an answer is sent once more
	waiting []int32 // for a path to come back

	slotOut, slotIn server // which all paths share
	disk            server // of its own, for what is written and what is read
	isNarrow        bool   // there is a slot or a disk that counts
}

// path is one connection on one link.
type path struct {
	*cable             // shared with the other connections of the link
	half     int64     // of the round trip, nanoseconds
	core     server    // the core that does the connection's work
	there    direction // to the array
	back     direction
	overhead int // bytes of a command or answer beside its data
	down     bool
	dropped  int64 // when it went down last
}

// cable is one link, full duplex.
type cable struct {
	out, in server
	shared  bool // by several connections
}

func newHosts(l Link) (hosts []*host) {
	if l.Rate == 0 {
		return nil
	}
	for range l.Hosts {
		h := &host{retry: int64(l.FailOver.Duration()), isNarrow: l.Slot > 0 || l.OwnDisk > 0}
		h.slotOut.perByte = perSecond(float64(l.Slot))
		h.slotIn, h.disk.perByte = h.slotOut, perSecond(float64(l.OwnDisk))
		for range l.used() {
			c := newCable(l)
			for range l.Connections {
				h.paths = append(h.paths, newPath(l, c))
			}
		}
		hosts = append(hosts, h)
	}
	return hosts
}

// used is the number of links that a host uses: all flows of a bundle from one address to another
// stay on one link.
func (l Link) used() int {
	if l.Combined == Bundle {
		return 1
	}
	return l.Count
}

func newCable(l Link) *cable {
	// Both ends agree on the smaller segment.
	payload := float64(l.Rate) * float64(setup.PayloadShare(min(l.MTU[0], l.MTU[1])))
	return &cable{out: server{perByte: perSecond(payload)}, in: server{perByte: perSecond(payload)}, shared: l.Connections > 1}
}

func newPath(l Link, c *cable) *path {
	return &path{
		cable: c, there: newDirection(l), back: newDirection(l),
		half: int64(l.RoundTrip.Duration()) / 2,
		// Command and answer each take half of an operation's time.
		core:     server{perOperation: float64(l.PerOp) * 1e9 / 2, perByte: float64(l.PerByte) * 1e9},
		overhead: 48, dropped: -1,
	}
}

// switched takes a path down, or up again.
func (p *path) switched(a *Array, up bool) {
	if p.down = !up; p.down {
		p.dropped = a.now
	}
}

// on are the connections of a host on one of its links.
func (h *host) on(link int, l Link) []*path {
	if each := l.Connections; (link+1)*each <= len(h.paths) {
		return h.paths[link*each : (link+1)*each]
	}
	return nil
}

// links is how long each link was busy up to now: out, in, and of the cores of its connections the
// one that was busiest.
func (h *host) links(now int64, connections int) (links [][3]float64) {
	for i, p := range h.paths {
		if i%connections == 0 {
			links = append(links, [3]float64{p.out.busyUntil(now), p.in.busyUntil(now)})
		}
		core := &links[len(links)-1][2]
		*core = max(*core, p.core.busyUntil(now))
	}
	return links
}

// resume sends what has waited for a path.
func (a *Array) resume(h *host) {
	if !slices.ContainsFunc(h.paths, func(p *path) bool { return !p.down }) {
		return
	}
	waiting := h.waiting
	h.waiting = nil
	for _, n := range waiting {
		a.send(n)
	}
}

// lost reports whether an operation or its answer was on a path that went down, and
// lets the initiator send it once more when it has waited for long enough.
func (a *Array) lost(n int32) bool {
	j := a.jobs.at(n)
	if j.purpose != forHost || len(a.hosts) == 0 {
		return false
	}
	h := a.hosts[j.host]
	if p := h.paths[j.path]; !p.down && p.dropped < int64(j.stamp) {
		return false
	}
	a.counters.resent++
	a.after(max(a.now, int64(j.stamp)+h.retry), n, stepSend)
	return true
}

// send puts an operation on a path of its host.
func (a *Array) send(n int32) {
	j := a.jobs.at(n)
	h := a.hosts[j.host]
	for tries := 0; ; tries++ {
		if tries == len(h.paths) {
			h.waiting = append(h.waiting, n)
			return
		}
		j.path = int16(h.turn)
		if h.turn++; h.turn == len(h.paths) {
			h.turn = 0
		}
		if !h.paths[j.path].down {
			break
		}
	}
	j.stamp = uint64(a.now)
	if h.isNarrow {
		bytes := j.sent()
		a.after(h.slotOut.pass(h.disk.pass(a.now, bytes), bytes), n, stepOut)
		return
	}
	a.goOut(n)
}

// goOut lets an operation pass the core of its path and its window.
func (a *Array) goOut(n int32) {
	j := a.jobs.at(n)
	p, bytes := a.hosts[j.host].paths[j.path], j.sent()
	at := p.there.allowed(p.core.pass(a.now, bytes), bytes+p.overhead, p.out.perByte)
	if p.shared {
		a.after(at, n, stepOnLine)
		return
	}
	a.overLine(n, at) // all that comes keeps its order
}

// overLine lets an operation pass the line of its path, then half the round trip.
func (a *Array) overLine(n int32, at int64) {
	j := a.jobs.at(n)
	p := a.hosts[j.host].paths[j.path]
	bytes := j.sent() + p.overhead
	a.after(p.there.delivered(a, p.out.pass(at, bytes)+p.half, bytes), n, stepArrive)
}

// reply sends the answer of an operation on its way back.
func (a *Array) reply(n int32) {
	j := a.jobs.at(n)
	a.spend(j, placeWay)
	if len(a.hosts) > 0 {
		p := a.hosts[j.host].paths[j.path]
		j.stamp = uint64(a.now)
		at := p.back.allowed(a.now, j.received()+p.overhead, p.in.perByte)
		if p.shared && at > a.now {
			a.after(at, n, stepLineBack)
			return
		}
		a.backOverLine(n, at)
		return
	}
	if a.submitting {
		a.after(a.now, n, stepReply)
		return
	}
	a.answer(n)
}

// backOverLine lets an answer pass the line of its path, then half the round trip.
func (a *Array) backOverLine(n int32, at int64) {
	j := a.jobs.at(n)
	p := a.hosts[j.host].paths[j.path]
	bytes := j.received() + p.overhead
	a.after(p.back.delivered(a, p.in.pass(at, bytes)+p.half, bytes), n, stepReturn)
}

// returned lets the initiator's core take an answer in.
func (a *Array) returned(n int32) {
	if a.lost(n) {
		return
	}
	j := a.jobs.at(n)
	h := a.hosts[j.host]
	at := h.paths[j.path].core.pass(a.now, j.received())
	switch {
	case h.isNarrow:
		a.after(at, n, stepHome)
	case at > a.now:
		a.after(at, n, stepReply)
	default:
		a.answer(n)
	}
}

// home lets what was read pass the slot of its host, and go to where it is wanted.
func (a *Array) home(n int32) {
	j := a.jobs.at(n)
	h, bytes := a.hosts[j.host], j.received()
	a.after(h.disk.pass(h.slotIn.pass(a.now, bytes), bytes), n, stepReply)
}

// carried is the data that passes the controller with an operation: of a copy nothing but the
// command.
func (j *job) carried() int {
	if j.kind == copies {
		return 0
	}
	return j.length
}

// sent is the data that goes out with an operation.
func (j *job) sent() int {
	if j.kind == writes {
		return j.length
	}
	return 0
}

// received is the data that comes back with an answer.
func (j *job) received() int {
	if j.kind == reads {
		return j.length
	}
	return 0
}
