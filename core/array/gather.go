package array

import "slices"

// gathering puts writes of a stream together into whole stripes of parity, which costs
// no reads: the piece of a stripe that a write ends in waits for the one that goes on
// from there. It waits as long as others of the stream are under way, whose answers
// bring the next ones about, and then as long as the initiator took the last times.
type gathering struct {
	streams [16]writeStream
	next    int // of streams: the one to be replaced
	serial  int32
	open    []*gathered
	written map[int32]*gathered // by the jobs that write them
}

// writeStream is writes that go on from each other.
type writeStream struct {
	layout *layout
	number int32
	end    int64
	flying int     // writes that are not done; one of several streams counts for the first
	long   bool    // there were two at least
	done   int64   // when the last one was
	turn   float64 // nanoseconds from there to the next one
}

// gathered is a piece of a stripe that waits to be written.
type gathered struct {
	layout   *layout
	stream   int32
	from, to int64
	ahead    int64 // of where it lies: its place in the volume
	carrier  int32 // the job that writes it
	waiting  []int32
	deadline int64
	latest   int64
}

const (
	// mostGathered is the number of pieces that wait at a time.
	mostGathered = 64
	mostTurn     = 2e6  // nanoseconds that an initiator is waited for at most
	longestHold  = 50e6 // and that a piece waits
)

func newGathering() *gathering {
	g := &gathering{written: map[int32]*gathered{}}
	for i := range g.streams {
		g.streams[i].end = -1
	}
	return g
}

// follow notes that a write goes on from where another one ended, and gives its stream;
// nil when nothing else of it is under way.
func (g *gathering) follow(now int64, l *layout, j *job, from, to int64) *writeStream {
	for i := range g.streams {
		s := &g.streams[i]
		if s.end != from || s.layout != l {
			continue
		}
		isDeep := s.flying > 0
		s.end, s.long = to, true
		s.count(j)
		if gap := float64(now - s.done); s.done > 0 && gap < 4*mostTurn {
			s.turn += (min(gap, mostTurn) - s.turn) / 4
		}
		if !isDeep {
			return nil
		}
		return s
	}
	for range g.streams {
		s := &g.streams[g.next]
		g.next = (g.next + 1) % len(g.streams)
		if s.long && s.flying > 0 {
			continue
		}
		g.serial++
		*s = writeStream{layout: l, number: g.serial, end: to}
		s.count(j)
		break
	}
	return nil
}

// count counts a write that is under way.
func (s *writeStream) count(j *job) {
	if j.stream == 0 {
		j.stream = s.number
		s.flying++
	}
}

// done notes that a write of a stream is.
func (g *gathering) done(a *Array, j *job) {
	for i := range g.streams {
		s := &g.streams[i]
		if s.number != j.stream {
			continue
		}
		s.flying--
		s.done = a.now
		for _, p := range g.open {
			if p.stream == s.number {
				g.await(a, p, s)
			}
		}
		return
	}
}

// await lets a piece wait for others that are under way, or for what their answers may
// bring about.
func (g *gathering) await(a *Array, p *gathered, s *writeStream) {
	p.deadline = p.latest
	if len(p.waiting) >= s.flying {
		p.deadline = min(p.latest, a.now+1+int64(2*s.turn))
	}
	a.events.add(p.deadline, gatheringEnds, p.carrier)
}

// write issues a write to parity: whole stripes at once, and pieces of stripes at once
// or together with others.
func (g *gathering) write(a *Array, l *layout, n int32, volume, offset int64, length int) {
	from, to := offset, offset+int64(length)
	stream := g.follow(a.now, l, a.jobs.at(n), from, to)
	before := g.joins(l, from, volume-offset)
	g.closeWithin(a, l, from, to)
	width := l.width()
	if before != nil {
		end := min(to, (from/width+1)*width)
		g.join(a, before, n, end, stream)
		from = end
	}
	rest := to
	if stream != nil && len(g.open) < mostGathered {
		rest = min(max(to/width*width, from), to)
	}
	if from < rest {
		l.planNow(a, n, writes, from+volume-offset, from, int(rest-from))
	}
	if rest < to {
		g.begin(a, l, n, volume-offset, rest, to, stream)
	}
}

// joins is the piece that a write goes on from.
func (g *gathering) joins(l *layout, from, ahead int64) *gathered {
	for _, p := range g.open {
		if p.layout == l && p.to == from && p.ahead == ahead && from%l.width() != 0 {
			return p
		}
	}
	return nil
}

// begin lets a piece of a stripe wait.
func (g *gathering) begin(a *Array, l *layout, n int32, ahead, from, to int64, stream *writeStream) {
	c := a.newJob(writes, forGather, from+ahead, 0)
	j := a.jobs.at(c)
	j.step = stepMembers
	p := &gathered{layout: l, stream: stream.number, from: from, to: from, ahead: ahead, carrier: c, latest: a.now + longestHold}
	g.open = append(g.open, p)
	g.join(a, p, n, to, stream)
}

// join adds a range to a piece that waits. A stripe that is whole waits no longer.
func (g *gathering) join(a *Array, p *gathered, n int32, to int64, stream *writeStream) {
	j := a.jobs.at(n)
	j.pending++
	p.waiting = append(p.waiting, n)
	if a.watch != nil {
		a.watch.gathered(p.carrier, n, p.to+p.ahead, int(to-p.to))
	}
	p.to = to
	carrier := a.jobs.at(p.carrier)
	carrier.length = int(p.to - p.from)
	carrier.lasting = carrier.lasting || j.lasting
	if p.to%p.layout.width() == 0 || stream == nil {
		g.close(a, p)
		return
	}
	g.await(a, p, stream)
}

// ends writes a piece that has waited for long enough.
func (g *gathering) ends(a *Array, carrier int32) {
	for _, p := range g.open {
		if p.carrier == carrier && p.deadline <= a.now {
			g.close(a, p)
			return
		}
	}
}

// closeWithin writes what waits within a range before anything else is done there.
func (g *gathering) closeWithin(a *Array, l *layout, from, to int64) {
	for i := 0; i < len(g.open); i++ {
		if p := g.open[i]; p.layout == l && p.from < to && from < p.to {
			g.close(a, p)
			i--
		}
	}
}

// close writes a piece.
func (g *gathering) close(a *Array, p *gathered) {
	g.open = slices.DeleteFunc(g.open, func(o *gathered) bool { return o == p })
	g.written[p.carrier] = p
	a.jobs.at(p.carrier).pending = 1
	p.layout.planNow(a, p.carrier, writes, p.from+p.ahead, p.from, int(p.to-p.from))
	a.partDone(p.carrier, false)
}

// wrote tells those whose ranges a piece holds that it is written.
func (g *gathering) wrote(a *Array, carrier int32, failed bool) {
	waiting := g.written[carrier].waiting
	delete(g.written, carrier)
	for _, n := range waiting {
		a.partDone(n, failed)
	}
}
