package array

// readAhead is how a cache follows streams of reads and fetches what they will ask for.
type readAhead struct {
	size    int64 // how far ahead; 0 for not at all
	streams [followedStreams]stream
	clock   uint64
	flying  []prefetch
}

// followedStreams is the number of streams that a cache follows at a time.
const followedStreams = 32

// stream is one that is followed.
type stream struct {
	next  int64  // where it goes on
	upTo  int64  // what was fetched for it
	reads int    // that have continued it
	used  uint64 // when it last did
}

// prefetch is a fetch under way, with the reads that wait for it rather than fetch the
// same.
type prefetch struct {
	job      int32
	from, to int64
	waiting  []int32
}

// follow notes a read, and fetches ahead of the stream that it continues.
func (c *cache) follow(a *Array, from, to int64) {
	r := &c.ahead
	r.clock++
	oldest := 0
	for i := range r.streams {
		s := &r.streams[i]
		// What is in flight together need not come in order.
		if gap := from - s.next; s.reads > 0 && to > s.next && gap > -r.size/2 && gap < r.size/2 {
			s.next, s.used = to, r.clock
			if s.reads++; s.reads > 2 && s.upTo < min(to+r.size/2, a.size) {
				begin := max(s.upTo, to)
				s.upTo = min(to+r.size, a.size)
				c.prefetch(a, begin, s.upTo)
			}
			return
		}
		if s.used < r.streams[oldest].used {
			oldest = i
		}
	}
	r.streams[oldest] = stream{next: to, upTo: to, reads: 1, used: r.clock}
}

// prefetch fetches what is lacking of a range; nobody asked for it yet.
func (c *cache) prefetch(a *Array, from, to int64) {
	c.lacking(from, to, func(from, to int64) {
		n := a.newJob(reads, forFetch, from, int(to-from))
		j := a.jobs.at(n)
		j.level, j.tag, j.stamp = int8(c.level+1), c.level, c.stampOf(from, to)
		c.ahead.flying = append(c.ahead.flying, prefetch{job: n, from: from, to: to})
		a.enter(n)
	})
}

// awaits lets a read wait when all that it lacks is being fetched ahead of it.
func (c *cache) awaits(n int32, from, to int64) bool {
	for i := range c.ahead.flying {
		p := &c.ahead.flying[i]
		if from >= p.to || to <= p.from {
			continue
		}
		within := true
		c.lacking(from, to, func(low, high int64) { within = within && low >= p.from && high <= p.to })
		if within {
			p.waiting = append(p.waiting, n)
		}
		return within
	}
	return false
}

// prefetched ends a fetch ahead; those who waited for it look again.
func (c *cache) prefetched(a *Array, n int32) {
	for i := range c.ahead.flying {
		p := c.ahead.flying[i]
		if p.job != n {
			continue
		}
		c.ahead.flying = append(c.ahead.flying[:i], c.ahead.flying[i+1:]...)
		for _, reader := range p.waiting {
			j := a.jobs.at(reader)
			c.lookAgain(a, reader, j)
		}
		return
	}
}

// lookAgain answers a read that has waited, or lets it fetch what is still lacking.
func (c *cache) lookAgain(a *Array, n int32, j *job) {
	if c.down {
		c.pass(a, n)
		return
	}
	c.serve(a, n, j)
}
