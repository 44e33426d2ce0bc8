package logstore

import "slices"

// Kind is what an operation does.
type Kind int

// The operations on the storage below.
const (
	Read Kind = iota
	Write
	Sync  // forces all that was written to stable storage
	Reset // makes whole zones empty, to be written anew
)

// Op is an operation on the storage. Offsets are from the beginning of the store's room.
type Op struct {
	Kind   Kind
	Offset int64
	Length int
	Tag    int32 // names it to Completed; small, and used again
}

// Ended is a request that was answered.
type Ended struct {
	Request Request
	Bytes   int64
	Began   int64
}

// Written is what a store wrote and read, in bytes, by why.
type Written struct {
	Put, Log, Flushed, Merged, MergeRead, Got int64
}

// Store is one store. It may be used by one at a time.
type Store struct {
	Shape
	Written Written

	varies bool // entries differ in size
	seed   uint64

	levels [][]*table // the first has the newest in front
	sizes  []int64
	next   []uint32 // of each level, the key after which the next table is merged down
	free   []int64
	tables uint32

	memory, old *memory // what puts go into, and what is made a table of
	clients     []client
	stalled     []int32
	ended       []Ended

	logAt      int64 // where the next record begins, of all that was ever logged
	gathered   int64 // up to where it was handed over to be written
	logging    int   // pieces of it that are under way
	clean      int64 // zones of the log, of all that were ever begun, that can be written
	cleaning   bool  // the next one is being reset
	commits    []int32
	committing []int32 // those of the commit under way
	from, to   int64   // of the log, what is left to write for it
	left       int     // writes of it that are under way

	flushing, merging *job

	front, behind queue // operations for requests, and for tables
	flights       []flight
	tags          []int32
}

// memory is what was put and is in no table yet.
type memory struct {
	entries map[uint32]struct{}
	bytes   int64
	logged  int64
}

func newMemory() *memory { return &memory{entries: map[uint32]struct{}{}} }

// client has one request under way at a time.
type client struct {
	request Request
	key     uint32
	bytes   int64
	began   int64
	stalled int64
	reads   []blocks // that are still to be made, in order
	at      int
}

type blocks struct{ offset, length int64 }

// flight is an operation under way.
type flight struct {
	part   part
	client int32
	stream int32
	job    *job
	at     int64
	length int64
}

// part is what an operation belongs to.
type part uint8

const (
	ofClient part = iota
	ofLog
	ofCommit
	commitSync
	ofMerge
	ofTable
	tableSync
	slotReset
	logReset
)

// queue is operations that wait to be issued.
type queue struct {
	ops  []Op
	from int
}

func (q *queue) push(o Op) { q.ops = append(q.ops, o) }

func (q *queue) empty() bool { return q.from == len(q.ops) }

func (q *queue) pop() Op {
	o := q.ops[q.from]
	if q.from++; q.from == len(q.ops) {
		q.ops, q.from = q.ops[:0], 0
	}
	return o
}

// New makes a store with all of its entries in it. The same shape and seed give the same
// store. Errors wrap ErrRoom where the room is too small.
func New(shape Shape, varies bool, seed uint64) (*Store, error) {
	if err := shape.validate(); err != nil {
		return nil, err
	}
	s := &Store{Shape: shape, varies: varies, seed: seed, memory: newMemory(), clients: make([]client, shape.Clients)}
	levels := shape.Levels()
	s.levels, s.sizes, s.next = make([][]*table, levels), make([]int64, levels), make([]uint32, levels)
	for at := shape.log(); at+shape.slot() <= shape.Room; at += shape.slot() {
		s.free = append(s.free, at)
	}
	slices.Reverse(s.free) // the lowest is taken first
	s.fill()
	if s.Zone > 0 { // nobody knows how its zones were left
		for _, at := range s.free {
			s.issue(&s.behind, Reset, at, s.slot(), flight{part: slotReset, at: at})
		}
		s.free = nil
		s.cleanLog(0)
	}
	for i := range s.clients {
		s.begin(int32(i), 0)
	}
	return s, nil
}

// Ready reports whether an operation can be issued.
func (s *Store) Ready() bool { return !s.front.empty() || !s.behind.empty() }

// Next gives the next operation: those of requests before those of tables.
func (s *Store) Next() Op {
	if !s.front.empty() {
		return s.front.pop()
	}
	return s.behind.pop()
}

// Tags is how many operations are under way at most.
func (s *Store) Tags() int { return len(s.flights) }

func (s *Store) issue(q *queue, kind Kind, offset, length int64, f flight) {
	if len(s.tags) == 0 {
		s.tags = append(s.tags, int32(len(s.flights)))
		s.flights = append(s.flights, flight{})
	}
	tag := s.tags[len(s.tags)-1]
	s.tags = s.tags[:len(s.tags)-1]
	f.length = length
	s.flights[tag] = f
	q.push(Op{kind, offset, int(length), tag})
}

// Completed tells that an operation was answered, and gives the requests that ended with
// it; the list is valid until the next call.
func (s *Store) Completed(tag int32, now int64) []Ended {
	f := s.flights[tag]
	s.flights[tag] = flight{}
	s.tags = append(s.tags, tag)
	s.ended = s.ended[:0]
	switch f.part {
	case ofClient:
		s.read(f.client, now)
	case ofLog:
		s.logging--
		s.gather()
		s.goOn(now)
	case ofCommit:
		s.left--
		if s.writeCommit(); s.left == 0 {
			s.issue(&s.front, Sync, 0, 0, flight{part: commitSync})
		}
	case slotReset:
		s.free = append(s.free, f.at)
		for _, j := range []*job{s.flushing, s.merging} {
			if j != nil {
				s.advance(j, now)
			}
		}
	case logReset:
		s.clean, s.cleaning = s.clean+1, false
		s.cleanLog(0)
		s.commit()
		s.gather()
		s.goOn(now)
	case commitSync:
		s.committed(now)
	case ofMerge:
		s.Written.MergeRead += f.length
		f.job.streams[f.stream].came(f.length)
		s.advance(f.job, now)
	case ofTable:
		f.job.writing--
		s.advance(f.job, now)
	case tableSync:
		s.install(f.job, now)
	}
	return s.ended
}

// begin gives a client requests until one of them has to wait.
func (s *Store) begin(number int32, now int64) {
	for {
		c := &s.clients[number]
		c.request, c.key, c.began, c.reads, c.at = s.Ask(), s.Key(), now, c.reads[:0], 0
		c.bytes = s.Size(c.key)
		if c.request == Put {
			if !s.mayPut() {
				c.stalled = now
				s.stalled = append(s.stalled, number)
				return
			}
			if !s.put(number, now) {
				return
			}
			continue
		}
		s.plan(c)
		if len(c.reads) > 0 {
			s.readNext(number)
			return
		}
		s.end(number, now)
	}
}

func (s *Store) end(number int32, now int64) {
	c := &s.clients[number]
	s.ended = append(s.ended, Ended{c.request, c.bytes, c.began})
	if c.request == Put {
		s.Written.Put += c.bytes
	} else {
		s.Written.Got += c.bytes
	}
}

// plan finds what a get or a scan reads: the newest first, and of a get as far as to where
// its key is. What is in memory takes no reading.
func (s *Store) plan(c *client) {
	if c.request == Get {
		for _, m := range []*memory{s.memory, s.old} {
			if m == nil {
				continue
			}
			if _, there := m.entries[c.key]; there {
				return
			}
		}
		for level := range s.levels {
			for _, t := range s.candidates(level, c.key, c.key) {
				place, there, maybe := s.maybe(t, c.key)
				if !maybe {
					continue
				}
				offset, length := t.span(place, place+1)
				c.reads = append(c.reads, blocks{offset, length})
				if there {
					return
				}
			}
		}
		return
	}
	to := uint32(min(int64(c.key)+s.ScanKeys, s.Keys) - 1)
	c.bytes = int64(float64(to-c.key+1) * s.Mean)
	for level := range s.levels {
		for _, t := range s.candidates(level, c.key, to) {
			from, _ := t.find(c.key)
			after, there := t.find(to)
			if there {
				after++
			}
			for offset, length := t.span(from, max(after, from+1)); length > 0; {
				piece := min(length, Piece)
				c.reads = append(c.reads, blocks{offset, piece})
				offset, length = offset+piece, length-piece
			}
		}
	}
}

// candidates are the tables of a level that may hold a key of a range: of the first level
// all, of others those that lie there.
func (s *Store) candidates(level int, from, to uint32) []*table {
	if level == 0 {
		return s.levels[0]
	}
	first, after := overlapping(s.levels[level], from, to)
	return s.levels[level][first:after]
}

func (s *Store) readNext(number int32) {
	c := &s.clients[number]
	r := c.reads[c.at]
	s.issue(&s.front, Read, r.offset, r.length, flight{part: ofClient, client: number})
}

// read goes on with a request that read something.
func (s *Store) read(number int32, now int64) {
	c := &s.clients[number]
	if c.at++; c.at < len(c.reads) {
		s.readNext(number)
		return
	}
	s.end(number, now)
	s.begin(number, now)
}

// mostLogging is how many pieces of a gathered log are under way before puts wait for one.
const mostLogging = 4

// mayPut reports whether there is room for what is put; a table is made of memory that is
// full, when that before was made.
func (s *Store) mayPut() bool {
	full := s.memory.bytes >= s.Memtable || s.memory.logged >= 2*s.Memtable
	if full && s.old == nil {
		s.old, s.memory = s.memory, newMemory()
		s.flushing = s.flush(s.old)
		s.advance(s.flushing, 0)
		full = false
	}
	return !full && len(s.levels[0]) < s.StallAt() && s.logging < mostLogging && s.logAt-s.gathered < mostLogging*Piece
}

// put logs a put, and reports whether it was answered at once.
func (s *Store) put(number int32, now int64) bool {
	c := &s.clients[number]
	switch s.Log {
	case FlushEach, FlushGroup:
		s.commits = append(s.commits, number)
		s.commit()
		return false
	case Asynchronous:
		s.logAt += c.bytes
		s.gather()
	default:
		s.gathered = s.logAt
	}
	s.insert(c)
	s.end(number, now)
	return true
}

func (s *Store) insert(c *client) {
	if _, there := s.memory.entries[c.key]; !there {
		s.memory.entries[c.key] = struct{}{}
		s.memory.bytes += c.bytes
	}
	s.memory.logged += c.bytes
}

// gather writes pieces of the log that are full.
func (s *Store) gather() {
	if s.Log != Asynchronous {
		return
	}
	for s.logAt-s.gathered >= Piece && (s.Zone == 0 || s.logging == 0 && s.isClean(s.gathered+Piece)) {
		s.gathered += s.writeLog(s.gathered, s.gathered+Piece, ofLog)
		s.logging++
	}
}

// commit writes what waits for it to the log, in whole blocks: the last one is written
// again with what comes next, where the storage takes that.
func (s *Store) commit() {
	if len(s.committing) > 0 || len(s.commits) == 0 || !s.isClean(s.logAt+int64(s.Clients)*s.Largest+2*Block) {
		return
	}
	many := len(s.commits)
	if s.Log == FlushEach {
		many = 1
	}
	s.committing = append(s.committing, s.commits[:many]...)
	s.commits = append(s.commits[:0], s.commits[many:]...)
	from := s.logAt
	for _, number := range s.committing {
		s.logAt += s.clients[number].bytes
	}
	s.from, s.to = down(from), up(s.logAt)
	if s.Zone > 0 { // a block that was written stays as it is
		s.memory.logged += s.to - s.logAt
		s.logAt = s.to
	}
	s.gathered = s.logAt
	s.writeCommit()
}

// writeCommit writes what is left of a commit: in zones one piece after the other.
func (s *Store) writeCommit() {
	for s.from < s.to && (s.Zone == 0 || s.left == 0) {
		s.from += s.writeLog(s.from, s.to, ofCommit)
		s.left++
	}
}

// writeLog writes the first piece of a stretch of the log, whose room it goes through again
// and again, and tells how long it is.
func (s *Store) writeLog(from, to int64, as part) int64 {
	room := down(s.log())
	at := from % room
	length := min(to-from, Piece, room-at)
	if s.Zone > 0 {
		length = min(length, s.Zone-at%s.Zone)
	}
	s.issue(&s.front, Write, at, length, flight{part: as})
	s.Written.Log += length
	return length
}

// isClean reports whether the log can be written up to a place: in zones those have to be
// reset before.
func (s *Store) isClean(to int64) bool {
	if s.Zone == 0 {
		return true
	}
	s.cleanLog(to)
	return to <= s.clean*s.Zone
}

// cleanLog resets zones of the log up to a place, and one ahead of where it is written, one
// after the other.
func (s *Store) cleanLog(to int64) {
	wanted := max(s.logAt/s.Zone+2, (to+s.Zone-1)/s.Zone)
	if s.cleaning || s.Log == NoLog || s.clean >= wanted {
		return
	}
	s.cleaning = true
	s.issue(&s.behind, Reset, s.clean%(s.log()/s.Zone)*s.Zone, s.Zone, flight{part: logReset})
}

// committed answers those whose records are safe now, and lets the next commit.
func (s *Store) committed(now int64) {
	for _, number := range s.committing {
		s.insert(&s.clients[number])
		s.end(number, now)
	}
	for _, number := range s.committing { // what they put next waits for all of them
		s.begin(number, now)
	}
	s.committing = s.committing[:0]
	s.commit()
}

// goOn lets puts go on that waited, in the order in which they came.
func (s *Store) goOn(now int64) {
	for len(s.stalled) > 0 && s.mayPut() {
		number := s.stalled[0]
		s.stalled = append(s.stalled[:0], s.stalled[1:]...)
		c := &s.clients[number]
		s.ended = append(s.ended, Ended{Stall, 0, c.stalled})
		if s.put(number, now) {
			s.begin(number, now)
		}
	}
}
