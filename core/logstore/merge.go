package logstore

// mostWriting is how many pieces of new tables a job has under way.
const mostWriting = 4

// job makes tables: of memory, or of tables that are merged.
type job struct {
	level   int      // which the new tables belong to
	heap    []uint32 // keys of memory, the smallest in front
	streams []*stream
	above   []*table // that are merged, of the level above
	below   [2]int   // the first, and the one after the last, of those in the level itself

	out     *table
	handed  int64 // bytes of it
	built   []*table
	writing int
	sealing bool // the rest of out is being handed over
	over    bool // all was taken
	syncing bool
}

// stream is tables that are read one after the other.
type stream struct {
	tables []*table
	table  int
	entry  int
	read   int64 // bytes of the table that came
	asked  int64
	flying bool
}

func (s *stream) current() *table {
	if s.table == len(s.tables) {
		return nil
	}
	return s.tables[s.table]
}

// came notes that a piece was read.
func (s *stream) came(length int64) { s.read, s.flying = s.read+length, false }

// has reports whether the next entry was read.
func (s *stream) has() bool { return s.current().start(s.entry+1) <= s.read }

func (s *stream) key() uint32 { return s.current().keys[s.entry] }

func (s *stream) take() {
	if s.entry++; s.entry == len(s.current().keys) {
		s.table, s.entry, s.read, s.asked = s.table+1, 0, 0, 0
	}
}

// flush is the job that makes a table of memory.
func (s *Store) flush(m *memory) *job {
	j := &job{heap: make([]uint32, 0, len(m.entries))}
	for key := range m.entries {
		j.heap = append(j.heap, key)
	}
	for i := len(j.heap)/2 - 1; i >= 0; i-- {
		sink(j.heap, i)
	}
	return j
}

func sink(heap []uint32, i int) {
	for {
		child := 2*i + 1
		if child+1 < len(heap) && heap[child+1] < heap[child] {
			child++
		}
		if child >= len(heap) || heap[i] <= heap[child] {
			return
		}
		heap[i], heap[child] = heap[child], heap[i]
		i = child
	}
}

// pop takes the smallest key of memory.
func (j *job) pop() (key uint32) {
	key = j.heap[0]
	last := len(j.heap) - 1
	j.heap[0] = j.heap[last]
	j.heap = j.heap[:last]
	sink(j.heap, 0)
	return key
}

// advance takes a job as far as it goes without waiting.
func (s *Store) advance(j *job, now int64) {
	most := mostWriting
	if s.Zone > 0 { // in which the order is everything
		most = 1
	}
	for j.writing < most {
		if j.sealing {
			s.seal(j)
			continue
		}
		if j.over || j.out == nil && len(s.free) == 0 {
			break
		}
		key, more, waits := s.smallest(j)
		if waits {
			break
		}
		if !more {
			j.sealing, j.over = j.out != nil, true
			continue
		}
		if j.out == nil {
			j.out, j.handed = s.newTable(), 0
		}
		j.out.add(key, s.Size(key), s.varies)
		if j.out.bytes-j.handed >= Piece {
			s.write(j, Piece)
		}
		j.sealing = j.level > 0 && j.out.bytes >= s.Memtable
	}
	for number, st := range j.streams {
		if t := st.current(); t != nil && !st.flying && st.asked < up(t.bytes) && st.asked-t.start(st.entry) < 2*Piece {
			length := min(Piece, up(t.bytes)-st.asked)
			s.issue(&s.behind, Read, t.at+st.asked, length, flight{part: ofMerge, job: j, stream: int32(number)})
			st.asked, st.flying = st.asked+length, true
		}
	}
	if j.over && !j.sealing && j.writing == 0 && !j.syncing {
		j.syncing = true
		s.issue(&s.behind, Sync, 0, 0, flight{part: tableSync, job: j})
	}
}

// smallest takes the smallest key that is left, from all streams that have it: only one
// of such entries lives on.
func (s *Store) smallest(j *job) (key uint32, more, waits bool) {
	if j.streams == nil {
		if len(j.heap) == 0 {
			return 0, false, false
		}
		return j.pop(), true, false
	}
	for _, st := range j.streams {
		if st.current() == nil {
			continue
		}
		if !st.has() {
			return 0, false, true
		}
		if k := st.key(); !more || k < key {
			key, more = k, true
		}
	}
	if !more {
		return 0, false, false
	}
	for _, st := range j.streams {
		if st.current() != nil && st.key() == key {
			st.take()
		}
	}
	return key, true, false
}

// write hands a piece of the table that is being made over.
func (s *Store) write(j *job, length int64) {
	s.issue(&s.behind, Write, j.out.at+j.handed, length, flight{part: ofTable, job: j})
	j.handed += length
	j.writing++
	if j.level == 0 {
		s.Written.Flushed += length
	} else {
		s.Written.Merged += length
	}
}

// seal hands the next piece of a table over that is whole, and ends it with the last.
func (s *Store) seal(j *job) {
	if left := s.zoned(j.out.bytes) - j.handed; left > 0 { // a zone is written to its end, so that it is not open any more
		s.write(j, min(left, Piece))
		return
	}
	j.built, j.out, j.sealing = append(j.built, j.out), nil, false
}

// install puts the tables of a job in their place, and begins what can begin then.
func (s *Store) install(j *job, now int64) {
	if j.level == 0 {
		s.levels[0] = append(j.built, s.levels[0]...)
		s.old, s.flushing = nil, nil
	} else {
		above := s.levels[j.level-1][:0:0]
		for _, t := range s.levels[j.level-1] {
			merged := false
			for _, a := range j.above {
				merged = merged || a == t
			}
			if !merged {
				above = append(above, t)
			}
		}
		level := s.levels[j.level]
		s.drop(j.above)
		s.drop(level[j.below[0]:j.below[1]])
		s.levels[j.level-1] = above
		s.levels[j.level] = replace(level, j.below[0], j.below[1], j.built)
		s.sizes[j.level-1], s.sizes[j.level] = bytesOf(above), bytesOf(s.levels[j.level])
		s.merging = nil
	}
	if s.merging == nil {
		if s.merging = s.pick(); s.merging != nil {
			s.advance(s.merging, now)
		}
	}
	s.goOn(now)
}

// pick finds what is to be merged: the level that holds most beyond what it shall, and when
// none does the first, if it has enough tables. A table under which nothing lies moves
// down as it is.
func (s *Store) pick() *job {
	for {
		fullest, level := 1.0, -1
		if len(s.levels[0]) >= s.CompactAt {
			level = 0
		}
		for l := 1; l < len(s.levels)-1; l++ {
			if share := float64(s.sizes[l]) / float64(s.capacity(l)); share > fullest {
				fullest, level = share, l
			}
		}
		if level < 0 {
			return nil
		}
		j := s.mergeDown(level)
		if level == 0 || j.below[0] < j.below[1] {
			return j
		}
		s.moveDown(level, j)
	}
}

// mergeDown is the job that merges a level into the next: of the first level its oldest
// tables, as many as are merged together, and of another the table whose turn it is.
func (s *Store) mergeDown(level int) *job {
	j := &job{level: level + 1}
	if level == 0 {
		j.above = append(j.above, s.levels[0][len(s.levels[0])-s.CompactAt:]...)
	} else {
		at := 0
		for at < len(s.levels[level]) && s.levels[level][at].first() <= s.next[level] {
			at++
		}
		if at == len(s.levels[level]) {
			at = 0
		}
		j.above = append(j.above, s.levels[level][at])
		s.next[level] = j.above[0].last()
	}
	from, to := j.above[0].first(), j.above[0].last()
	for _, t := range j.above {
		from, to = min(from, t.first()), max(to, t.last())
		j.streams = append(j.streams, &stream{tables: []*table{t}})
	}
	j.below[0], j.below[1] = overlapping(s.levels[level+1], from, to)
	if j.below[0] < j.below[1] {
		j.streams = append(j.streams, &stream{tables: s.levels[level+1][j.below[0]:j.below[1]:j.below[1]]})
	}
	return j
}

// moveDown takes a table to the next level as it is.
func (s *Store) moveDown(level int, j *job) {
	t := j.above[0]
	for i, other := range s.levels[level] {
		if other == t {
			s.levels[level] = replace(s.levels[level], i, i+1, nil)
			break
		}
	}
	s.levels[level+1] = replace(s.levels[level+1], j.below[0], j.below[0], []*table{t})
	s.sizes[level] -= t.bytes
	s.sizes[level+1] += t.bytes
}
